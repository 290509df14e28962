"""Tests of fits whose parameters run to an end, and of data that are known in part."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case, proof, repeats


class Uncertain(Case):
    def test_at_every_edge_mean_and_quartiles_are_those_of_the_data(self):
        rng = np.random.default_rng(1)
        for kind, edge, values in (
            (kd.NegativeBinomial, "successes", rng.poisson(3.7, 60).astype(float)),
            (kd.NegativeBinomial, "successes", rng.binomial(8, 0.5, 80).astype(float)),
            (kd.JohnsonSU, "b", rng.uniform(0, 1, 60)),
            (kd.SkewNormal, "shape", np.abs(rng.normal(0, 1, 40))),
            (kd.SkewNormal, "shape", -rng.exponential(1, 60)),
            (kd.StudentT, "df", rng.uniform(-1, 1, 60)),
            (kd.StudentTByScale, "df", rng.uniform(-1, 1, 60)),
        ):
            with self.subTest(kind=kind):
                found = kind.fit(values)
                if kind in (kd.NegativeBinomial, kd.StudentT, kd.StudentTByScale):
                    self.assertIn(edge, found.fitted.at_bound)
                drawn = found.uncertain(40)
                error = values.std() / np.sqrt(len(values))
                self.assertLess(abs(drawn.mean - values.mean()), 1.5 * error)
                spread = np.subtract(*np.quantile(values, [0.75, 0.25]))
                levels = [0.25, 0.5, 0.75]
                gaps = np.abs(drawn.quantile(levels) - np.quantile(values, levels))
                self.assertLess(gaps.max(), max(0.35 * spread, 1.01 if drawn.discrete else 0.0))

    def test_a_likelihood_that_is_nearly_flat_gives_no_nonsense(self):
        rng = np.random.default_rng(1)
        rng.poisson(3.7, 180)
        for _ in range(3):
            values = rng.normal(10, 2, 60)
            drawn = kd.JohnsonSU.fit(values).uncertain(40)
            self.assertLess(abs(drawn.mean - values.mean()), 0.6)
            self.assertLess(abs(drawn.quantile(0.5) - np.median(values)), 0.7)

    def test_the_interval_of_a_mode_ends_with_its_range(self):
        rng = np.random.default_rng(3)
        values = np.clip(10 - np.abs(rng.normal(0, 1, 40)), 0, 9.999)
        interval = kd.Pert.fit(values, low=0, high=10).fitted.intervals["mode"]
        self.assertEqual(interval[1], 10.0)
        self.assertLess(interval[0], 10.0)

    @proof
    def test_the_interval_of_a_skew_normals_shape_holds_it(self):
        held = []
        for seed in range(repeats(120)):
            values = kd.SkewNormal(0, 1, 5).sample(60, seed=seed)
            low, high = kd.SkewNormal.fit(values).fitted.intervals["shape"]
            held.append(low <= 5 <= high)
        self.assertGreater(np.mean(held), 0.9)

    @proof
    def test_the_others_intervals_hold_where_one_parameter_is_hardly_told(self):
        cases = (
            (kd.SkewNormal(1, 2, 0), ("location", "scale"), {}),
            (kd.NegativeBinomial(60, 0.94), ("probability",), {}),
            (kd.Triangular(0, 0.02, 1), ("mode",), {"low": 0, "high": 1}),
            (kd.Triangular(0, 0.3, 1), ("mode",), {"low": 0, "high": 1}),
        )
        for truth, names, fixed in cases:
            count, held = repeats(75), dict.fromkeys(names, 0)
            for values in truth.sample((count, 40), seed=5):
                found = type(truth).fit(values, **fixed)
                for name in names:
                    low, high = found.fitted.intervals[name]
                    self.assertTrue(low <= getattr(found, name) <= high, (truth, name))
                    held[name] += low <= getattr(truth, name) <= high
            for name, inside in held.items():
                with self.subTest(repr(truth), name=name):
                    self.assertGreaterEqual(inside, stats.binom.ppf(1e-3, count, 0.92))

    def test_the_interval_of_a_triangles_mode_is_what_its_likelihood_allows(self):
        values = kd.Triangular(0, 0.3, 1).sample(40, seed=2)
        modes = np.linspace(1e-4, 1 - 1e-4, 20_001)
        logs = stats.triang(modes[:, None]).logpdf(values).sum(axis=1)
        allowed = modes[logs > logs.max() - stats.chi2(1).ppf(0.95) / 2]
        found = kd.Triangular.fit(values * 10 + 5, low=5, high=15).fitted.intervals["mode"]
        np.testing.assert_allclose(found, 5 + 10 * allowed[[0, -1]], atol=0.02)

    def test_with_many_values_a_profile_is_as_wide_as_the_curvature_says(self):
        truth = kd.SkewNormal(1, 2, 4)
        found = kd.SkewNormal.fit(truth.sample(20_000, seed=1)).fitted
        for name, error in found.standard_errors.items():
            self.assertAlmostEqual(
                np.ptp(found.intervals[name]) / (2 * 1.96 * error), 1, delta=0.05
            )


class KnownInPart(Case):
    def test_ends_come_from_known_values_that_count(self):
        values = np.array([2.0, 3, 4, 5, 6, 7, 8, 9, 1.0, 12.0])
        weights = np.ones(10)
        weights[-1] = 0
        found = kd.Uniform.fit(values, weights)
        self.assertEqual((found.low, found.high), (1.0, 9.0))
        self.assertAlmostEqual(found.fitted.log_likelihood, -9 * np.log(8.0))
        early = np.zeros(10, dtype=bool)
        early[3] = True  # at least 5, below the largest
        found = kd.Uniform.fit(values[:9], at_least=early[:9])
        self.assertEqual((found.low, found.high), (1.0, 9.0))
        self.assertTrue(np.isfinite(found.fitted.log_likelihood))
        late = np.zeros(10, dtype=bool)
        late[-1] = True
        with self.fails("value 9 is known only to be at least 12", "give that end"):
            kd.Uniform.fit(values, at_least=late)
        self.assertEqual(kd.Uniform.fit(values, at_least=late, high=20).high, 20)

    def test_a_pareto_with_losses_cut_at_a_limit(self):
        # the shape is the number of known losses over the sum of all logs above the lower end
        drawn = kd.Pareto(shape=2.6, low=1.0).sample(400, seed=3)
        cut = drawn > 2.0
        values = np.minimum(drawn, 2.0)
        found = kd.Pareto.fit(values, at_least=cut)
        low = values[~cut].min()
        self.assertEqual(found.low, low)
        exact = np.count_nonzero(~cut) / np.log(values / low).sum()
        self.assertAlmostEqual(found.shape / exact, 1, 5)

    def test_a_ranking_of_censored_values_takes_them_as_such(self):
        drawn = np.random.default_rng(5).standard_t(0.7, 300) * 2 + 10
        cut = drawn > 14
        values = np.minimum(drawn, 14.0)
        ranking = kd.fit_distributions(values, ["student t", "normal"], at_least=cut, samples=19)
        by_scale = kd.StudentTByScale.fit(values, at_least=cut)
        heavy = next(one for one in ranking if one.label == "student t by scale")
        self.assertAlmostEqual(heavy.scale, by_scale.scale, 6)
        distances = ranking.distances["normal"]
        self.assertTrue(np.isnan(distances.anderson_darling))
        self.assertTrue(np.isnan(distances.kolmogorov_smirnov_p))

    def test_errors_of_censored_laplace_values(self):
        gaps, errors = [], []
        for seed in range(60):
            drawn = kd.Laplace(10, 2).sample(120, seed=seed)
            cut = drawn > 11.0
            fit = kd.Laplace.fit(np.minimum(drawn, 11.0), at_least=cut).fitted
            gaps.append(fit.estimates["sd"] - 2)
            errors.append(1.96 * fit.standard_errors["sd"])
        self.assertCalibrated(gaps, errors)

    def test_survey_weights_count_as_their_effective_number(self):
        rng = np.random.default_rng(2)
        values, weights = rng.normal(10, 2, 200), rng.uniform(50, 950, 200)
        found = kd.Normal.fit(values, weights, weights_kind="survey").fitted
        effective = weights.sum() ** 2 / (weights**2).sum()
        self.assertAlmostEqual(found.observations, effective, 6)
        mean = weights @ values / weights.sum()
        sd = np.sqrt(weights @ (values - mean) ** 2 / weights.sum())
        self.assertAlmostEqual(found.estimates["mean"], mean, 9)
        self.assertAlmostEqual(found.standard_errors["mean"], sd / np.sqrt(effective), 6)
        with self.fails("weights_kind", "'survey'"):
            kd.Normal.fit(values, weights, weights_kind="sample")
