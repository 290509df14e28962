"""What must hold for every law in the catalogue, whatever its family."""

import math
import tempfile
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

import kindynos as kd
from kindynos.distributions import CATALOGUE
from kindynos.distributions.registry import example, parameters_of
from tests.common import Case

LAWS = {name: example(law) for name, law in CATALOGUE.items()}
SMOOTH = {name: law for name, law in LAWS.items() if not law.has_atoms}
U = np.concatenate([np.logspace(-9, -2, 30), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -9, 30)])


class EveryLaw(Case):
    def test_quantiles_rise_and_stay_in_the_support(self):
        for name, law in LAWS.items():
            with self.subTest(name=name):
                x = law.quantile(U)
                low, high = law.support
                self.assertTrue((np.diff(x) >= 0).all())
                self.assertTrue((x >= low).all() and (x <= high).all())

    def test_cdf_and_quantile_undo_each_other(self):
        for name, law in LAWS.items():
            with self.subTest(name=name):
                x = law.quantile(U)
                if law.has_atoms:
                    self.assertTrue((law.cdf(x) >= U - 1e-6).all())
                else:
                    np.testing.assert_allclose(law.cdf(x), U, rtol=0, atol=1e-10)

    def test_both_tails_meet(self):
        for name, law in SMOOTH.items():
            with self.subTest(name=name):
                middle = U[(U > 0.01) & (U < 0.99)]
                scale = law.quantile(0.9) - law.quantile(0.1)
                np.testing.assert_allclose(law._upper_quantile(1 - middle), law.quantile(middle), atol=1e-9 * scale)
                x = law.quantile(middle)
                above = np.array([law.chance(above=value) for value in x])
                np.testing.assert_allclose(law.cdf(x) + above, 1, atol=1e-12)

    def test_density_is_the_slope_of_the_cdf(self):
        for name, law in SMOOTH.items():
            if name in ("histogram", "empirical", "uniform", "triangular"):
                continue  # corners
            with self.subTest(name=name):
                x = law.quantile(np.linspace(0.03, 0.97, 41))
                step = 1e-5 * (law.quantile(0.9) - law.quantile(0.1))
                slope = (law.cdf(x + step) - law.cdf(x - step)) / (2 * step)
                density = law.pdf(x)
                np.testing.assert_allclose(density, slope, rtol=5e-3, atol=1e-6 * density.max())

    def test_masses_add_up(self):
        for name, law in LAWS.items():
            if not law.discrete:
                continue
            with self.subTest(name=name):
                values, masses = law._atoms
                self.assertAlmostEqual(masses.sum(), 1, places=12)
                np.testing.assert_allclose(law.pmf(values), masses, atol=1e-12)
                self.assertAlmostEqual(law.mean, values @ masses, places=9)
                self.assertAlmostEqual(law.variance, (values - law.mean) ** 2 @ masses, places=8)

    def test_moments_agree_with_many_draws(self):
        for name, law in LAWS.items():
            if not math.isfinite(law.skewness):
                continue
            with self.subTest(name=name):
                u = (np.arange(400_000) + 0.5) / 400_000
                x = law.quantile(u)
                heavy = (
                    0.05
                    if name in ("pareto", "generalized pareto", "generalized extreme value", "log logistic", "student t")
                    else 0.01
                )
                self.assertAlmostEqual(x.mean(), law.mean, delta=heavy * law.sd)
                self.assertAlmostEqual(x.std(), law.sd, delta=2 * heavy * law.sd)

    def test_samples_pass_a_test_of_fit(self):
        for name, law in SMOOTH.items():
            for seed in (3, 4):
                with self.subTest(name=name, seed=seed):
                    self.assertGreater(stats.kstest(law.sample(2000, seed=seed), law.cdf).pvalue, 1e-4)

    def test_drivers_of_every_law_under_every_plan(self):
        model = kd.Model("all")
        for place, law in enumerate(LAWS.values()):
            model.driver(f"x{place}", law, base=float(law.percentile(50)))
        for sampling in ("latin", "random", "antithetic", "sobol"):
            run = model.simulate(2048, seed=6, sampling=sampling)
            for place, (name, law) in enumerate(LAWS.items()):
                with self.subTest(name=name, sampling=sampling):
                    values = run[f"x{place}"].values
                    quartiles = np.array([np.mean(values <= law.quantile(q)) for q in (0.25, 0.5, 0.75)])
                    expected = law.cdf(law.quantile([0.25, 0.5, 0.75]))
                    np.testing.assert_allclose(quartiles, expected, atol=0.06)

    def test_round_trip_through_repr_and_file(self):
        model = kd.Model("all")
        for place, law in enumerate(LAWS.values()):
            self.assertEqual(eval(repr(law), {name: getattr(kd, name) for name in kd.__all__}), law)
            model.driver(f"x{place}", law, base=1.0)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "all.toml")
            path.write_text(model.to_toml(), encoding="utf-8")
            self.assertEqual(dict(kd.load_model(path).quantities), dict(model.quantities))

    def test_nothing_that_is_no_number_goes_in(self):
        for law in LAWS.values():
            for name, value in parameters_of(law).items():
                if isinstance(value, float):
                    for bad in (math.nan, math.inf, "3", None, [1.0]):
                        if bad is None and name in ("low", "high", "bandwidth"):
                            continue
                        with self.subTest(law=law, name=name, bad=bad), self.fails(name):
                            type(law)(**{**parameters_of(law), name: bad})

    def test_nan_in_nan_out(self):
        for name, law in LAWS.items():
            with self.subTest(name=name):
                self.assertTrue(math.isnan(law.cdf(math.nan)))
                self.assertTrue(math.isnan(law.quantile(math.nan)))


class Transformed(Case):
    def test_moving_and_stretching(self):
        for name, law in LAWS.items():
            if not math.isfinite(law.variance):
                continue
            with self.subTest(name=name):
                moved = 3 * law + 2
                self.assertAlmostEqual(moved.mean, 3 * law.mean + 2, places=9)
                self.assertAlmostEqual(moved.sd, 3 * law.sd, places=9)
                np.testing.assert_allclose(moved.quantile(U), 3 * law.quantile(U) + 2, rtol=1e-12)
                x = law.quantile(0.7)
                self.assertAlmostEqual(moved.cdf(3 * x + 2 + 1e-9), law.cdf(x + 1e-9), places=6)
                self.assertEqual(moved.discrete, law.discrete)

    def test_turning_round(self):
        for name, law in SMOOTH.items():
            with self.subTest(name=name):
                middle = np.linspace(0.02, 0.98, 49)
                np.testing.assert_allclose((-law).quantile(middle), -law._upper_quantile(middle), rtol=1e-12)
                x = law.quantile(0.3)
                self.assertAlmostEqual((-law).chance(below=-x), law.chance(above=x), places=12)

    def test_truncating(self):
        for name, law in LAWS.items():
            low, high = law.quantile([0.2, 0.8])
            if not low < high or law.label == "truncated":
                continue
            with self.subTest(name=name):
                cut = law.truncate(low, high)
                inside = law.chance(below=high) + law.chance(at=high) - law.chance(below=low)
                x = law.quantile(0.6)
                self.assertAlmostEqual(cut.chance(below=x), (law.chance(below=x) - law.chance(below=low)) / inside, places=7)
                self.assertTrue(low <= cut.mean <= high)
                self.assertTrue((cut.quantile(U) >= low).all() and (cut.quantile(U) <= high).all())

    def test_clipping(self):
        for name, law in SMOOTH.items():
            low, high = law.quantile([0.2, 0.9])
            with self.subTest(name=name):
                clipped = kd.Clipped(law, low, high)
                self.assertAlmostEqual(clipped.chance(at=low), 0.2, places=9)
                self.assertAlmostEqual(clipped.chance(at=high), 0.1, places=9)
                u = (np.arange(200_000) + 0.5) / 200_000
                self.assertAlmostEqual(clipped.mean, clipped.quantile(u).mean(), delta=1e-4 * (high - low))

    @settings(max_examples=40, deadline=None)
    @given(st.sampled_from(sorted(SMOOTH)), st.sampled_from(sorted(SMOOTH)), st.floats(0.05, 0.95), st.floats(0.001, 0.999))
    def test_a_mixture_of_any_two(self, one, other, weight, level):
        first, second = SMOOTH[one], SMOOTH[other]
        mixed = kd.Mixture([first, second], [weight, 1 - weight])
        x = mixed.quantile(level)
        self.assertAlmostEqual(weight * first.cdf(x) + (1 - weight) * second.cdf(x), level, places=9)
        if math.isfinite(first.mean) and math.isfinite(second.mean):
            self.assertAlmostEqual(mixed.mean, weight * first.mean + (1 - weight) * second.mean, places=6)


class Shortfalls(Case):
    """Value at risk and expected shortfall of runs against closed forms of the laws."""

    def test_closed_forms(self):
        level, tail = 0.95, 0.05
        z = stats.norm.ppf(level)
        cases = {
            kd.Normal(0, 2): 2 * stats.norm.pdf(z) / tail,
            -1 * kd.Exponential(3): 3 * (1 - math.log(tail)),
            -1 * kd.LogNormal.from_log(0, 0.5): math.exp(0.125) * stats.norm.cdf(0.5 - z) / tail,
            -1 * kd.Pareto(3, 1): 3 / 2 * tail ** (-1 / 3),
            -1 * kd.Uniform(0, 1): 1 - tail / 2,
            -1 * kd.GeneralizedPareto(0, 1, 0.2): ((tail**-0.2 - 1) / 0.2 + 1) / 0.8,
            kd.Logistic(0, math.pi / math.sqrt(3)): (-tail * math.log(tail) - (1 - tail) * math.log(1 - tail)) / tail,
            kd.Laplace(0, math.sqrt(2)): 1 - math.log(2 * tail),
        }
        for law, shortfall in cases.items():
            model = kd.Model("m")
            model.driver("x", law)
            model.driver("noise", kd.Normal(0, 1))
            model.outcome("y", "x + 0 * noise")
            for sampling in ("random", "latin", "sobol"):
                y = model.simulate(40_000, seed=5, sampling=sampling)["y"]
                with self.subTest(law=law, sampling=sampling):
                    found = y.expected_shortfall(level)
                    self.assertAlmostEqual(found, shortfall, delta=3 * max(found.error, 1e-3))
                    risk = y.value_at_risk(level)
                    self.assertAlmostEqual(risk, -law.quantile(tail), delta=3 * max(risk.error, 1e-3))
                    self.assertGreater(found, risk)
