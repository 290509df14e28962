"""Tests of fits against the equations that a maximum solves, and against what changes of units and
weights must do.
"""

import numpy as np
from scipy import optimize, special, stats

import kindynos as kd
from tests.common import Case

RNG = np.random.default_rng(11)
LIVES = stats.weibull_min(1.7, scale=40).rvs(300, random_state=RNG)
COUNTS = RNG.integers(1, 4, 300).astype(float)


def logs(kind, values, **options):
    return kind.fit(values, **options).fitted.log_likelihood


class Equations(Case):
    def test_values_just_above_the_lower_end_are_taken(self):
        values = np.linspace(0.01, 0.09, 30)
        for kind in (kd.InverseGaussian, kd.Gamma, kd.LogNormal, kd.Weibull, kd.LogLogistic):
            small, large = kind.fit(values), kind.fit(1000 * values)
            self.assertAlmostEqual(1000 * small.percentile(30) / large.percentile(30), 1, 6)
        found = kd.Beta.from_percentiles({10: 0.02, 90: 0.08})
        self.assertAlmostEqual(found.percentile(10), 0.02, 9)

    def test_extremes_by_l_moments_have_the_l_moments_of_the_values(self):
        """Source: Hosking, Wallis and Wood, Technometrics 27 (1985), 251-261."""
        for shape in (0.2, -0.2):
            x = np.sort(stats.genextreme(-shape, 5, 2).rvs(200, random_state=3))
            ranks = np.arange(200) / 199
            first, second = x.mean(), 2 * (ranks @ x) / 200 - x.mean()
            found = kd.GeneralizedExtremeValue.fit(x, method="l-moments")
            k, gamma = found.shape, special.gamma(1 - found.shape)
            self.assertAlmostEqual(found.location + found.scale * (gamma - 1) / k, first, 8)
            self.assertAlmostEqual(found.scale * (2**k - 1) * gamma / k, second, 8)

    def test_weibull_solves_its_one_equation(self):
        found = kd.Weibull.fit(LIVES)

        def score(k):
            powers = LIVES**k
            return powers @ np.log(LIVES) / powers.sum() - 1 / k - np.log(LIVES).mean()

        shape = optimize.brentq(score, 0.1, 20, xtol=1e-14)
        self.assertAlmostEqual(found.shape, shape, places=9)
        self.assertAlmostEqual(found.scale, (LIVES**shape).mean() ** (1 / shape), places=8)

    def test_a_weibull_of_tiny_and_huge_values_does_not_overflow(self):
        for unit in (1e-40, 1e40):
            found = kd.Weibull.fit(LIVES * unit)
            self.assertAlmostEqual(found.shape, kd.Weibull.fit(LIVES).shape, places=8)
            self.assertAlmostEqual(found.scale / unit, kd.Weibull.fit(LIVES).scale, places=6)

    def test_a_weibull_of_known_shape_is_an_exponential_of_powers(self):
        found = kd.Weibull.fit(LIVES, shape=2.0)
        self.assertAlmostEqual(found.scale, kd.Exponential.fit(LIVES**2).mean ** 0.5)
        held = kd.Weibull.fit(LIVES, scale=40.0)
        best = optimize.minimize_scalar(
            lambda k: -stats.weibull_min(k, scale=40).logpdf(LIVES).sum(), bounds=(0.2, 9)
        )
        self.assertAlmostEqual(held.shape, best.x, places=4)

    def test_log_logistic_is_logistic_in_logs(self):
        found = kd.LogLogistic.fit(LIVES)
        logistic = kd.Logistic.fit(np.log(LIVES))
        self.assertAlmostEqual(np.log(found.scale), logistic.mean, places=5)
        self.assertAlmostEqual(np.pi / (np.sqrt(3) * found.shape), logistic.sd, places=5)
        tanh = np.tanh((np.log(LIVES) - np.log(found.scale)) * found.shape / 2)
        self.assertAlmostEqual(tanh.sum(), 0, places=7)
        self.assertAlmostEqual(
            (tanh * np.log(LIVES / found.scale)).sum() * found.shape, len(LIVES), places=6
        )

    def test_lognormal_is_normal_in_logs(self):
        found, normal = kd.LogNormal.fit(LIVES), kd.Normal.fit(np.log(LIVES))
        self.assertAlmostEqual(np.log(found.quantile(0.5)), normal.mean)
        self.assertAlmostEqual(
            logs(kd.LogNormal, LIVES), normal.fitted.log_likelihood - np.log(LIVES).sum()
        )

    def test_gamma_matches_mean_and_mean_log(self):
        found = kd.Gamma.fit(LIVES)
        self.assertAlmostEqual(found.mean, LIVES.mean())
        self.assertAlmostEqual(
            special.digamma(found.shape) + np.log(found.scale), np.log(LIVES).mean()
        )

    def test_beta_matches_mean_logs(self):
        shares = stats.beta(2, 5).rvs(300, random_state=3)
        found = kd.Beta.fit(shares, low=0, high=1)
        total = special.digamma(found.a + found.b)
        self.assertAlmostEqual(special.digamma(found.a) - total, np.log(shares).mean(), places=6)
        self.assertAlmostEqual(special.digamma(found.b) - total, np.log1p(-shares).mean(), places=6)

    def test_gumbel_solves_its_one_equation(self):
        values = stats.gumbel_r(3, 2).rvs(300, random_state=4)
        found = kd.Gumbel.fit(values)
        weights = np.exp(-(values - values.min()) / found.scale)
        self.assertAlmostEqual(
            values.mean() - values @ weights / weights.sum(), found.scale, places=5
        )

    def test_excesses_lie_at_the_top_of_their_profile(self):
        for shape in (-0.3, 0.0, 0.4, 1.2):
            excesses = stats.genpareto(shape, scale=3).rvs(400, random_state=5)
            found = kd.GeneralizedPareto.fit(excesses, location=0)

            def height(bend, excesses=excesses):
                own = np.log1p(bend * excesses).mean()
                return -np.log(own / bend) - own

            best = height(found.shape / found.scale)
            others = np.r_[
                -0.999 / excesses.max(), -1e-3 / excesses.max(), np.geomspace(1e-3, 3, 200)
            ]
            kept = [height(bend) for bend in others if np.log1p(bend * excesses).mean() > -0.99]
            self.assertGreaterEqual(best, max(kept) - 1e-9)
            self.assertAlmostEqual(
                np.log1p(found.shape / found.scale * excesses).mean(), found.shape, places=5
            )

    def test_a_free_end_has_no_usual_errors(self):
        """Below a shape of -1/2 the largest value tells the end faster than any curvature would."""
        short = stats.genpareto(-0.8, scale=3).rvs(400, random_state=6)
        found = kd.GeneralizedPareto.fit(short, location=0)
        self.assertLess(found.shape, -0.5)
        self.assertEqual(
            (found.fitted.standard_errors["shape"], found.fitted.standard_errors["scale"]),
            (np.inf, np.inf),
        )
        with self.fails("GeneralizedPareto.uncertain", "cannot be drawn"):
            found.uncertain()

    def test_a_shape_of_zero_is_the_exponential_and_the_gumbel(self):
        excesses, largest = (
            stats.expon(scale=3).rvs(400, random_state=5),
            stats.gumbel_r(1, 2).rvs(400, random_state=5),
        )
        held = kd.GeneralizedPareto.fit(excesses, location=0, shape=0)
        self.assertAlmostEqual(held.scale, excesses.mean(), places=5)
        self.assertAlmostEqual(held.fitted.log_likelihood, logs(kd.Exponential, excesses), places=9)
        free = kd.GeneralizedPareto.fit(excesses, location=0)
        self.assertGreaterEqual(free.fitted.log_likelihood, held.fitted.log_likelihood - 1e-9)
        self.assertAlmostEqual(
            free.fitted.log_likelihood,
            stats.genpareto(free.shape, scale=free.scale).logpdf(excesses).sum(),
            places=8,
        )
        gumbel = kd.GeneralizedExtremeValue.fit(largest, shape=0)
        self.assertAlmostEqual(gumbel.fitted.log_likelihood, logs(kd.Gumbel, largest), places=7)
        free = kd.GeneralizedExtremeValue.fit(largest)
        scipys = stats.genextreme(-free.shape, free.location, free.scale).logpdf(largest).sum()
        self.assertAlmostEqual(free.fitted.log_likelihood, scipys, places=8)

    def test_every_likelihood_is_that_of_scipys_density(self):
        for found, same in (
            (kd.Weibull.fit(LIVES), lambda f: stats.weibull_min(f.shape, scale=f.scale)),
            (kd.LogLogistic.fit(LIVES), lambda f: stats.fisk(f.shape, scale=f.scale)),
            (kd.Gamma.fit(LIVES), lambda f: stats.gamma(f.shape, scale=f.scale)),
            (kd.Gumbel.fit(LIVES), lambda f: stats.gumbel_r(f.location, f.scale)),
            (kd.Cauchy.fit(LIVES), lambda f: stats.cauchy(f.location, f.scale)),
            (kd.Normal.fit(LIVES), lambda f: stats.norm(f.mean, f.sd)),
            (kd.StudentTByScale.fit(LIVES), lambda f: stats.t(f.df, f.location, f.scale)),
            (kd.JohnsonSU.fit(LIVES), lambda f: stats.johnsonsu(f.a, f.b, f.location, f.scale)),
            (kd.SkewNormal.fit(LIVES), lambda f: stats.skewnorm(f.shape, f.location, f.scale)),
        ):
            with self.subTest(type(found).__name__):
                self.assertAlmostEqual(
                    found.fitted.log_likelihood, same(found).logpdf(LIVES).sum(), places=5
                )


class Changes(Case):
    def test_units_change_locations_and_scales_alone(self):
        values = stats.t(4).rvs(250, random_state=7)
        location = {"mean", "location"}
        scale = {"sd", "scale"}
        for kind in (
            kd.Normal,
            kd.StudentTByScale,
            kd.Logistic,
            kd.Laplace,
            kd.Cauchy,
            kd.Gumbel,
            kd.JohnsonSU,
            kd.GeneralizedExtremeValue,
        ):
            one, other = kd_fit(kind, values), kd_fit(kind, 100 - 30 + 12 * values)
            for name, value in one.items():
                expected = (
                    70 + 12 * value if name in location else 12 * value if name in scale else value
                )
                with self.subTest(kind.__name__, name=name):
                    self.assertAlmostEqual(other[name] / expected, 1, places=3)
            self.assertAlmostEqual(
                logs(kind, 70 + 12 * values), logs(kind, values) - 250 * np.log(12), places=5
            )

    def test_whole_weights_repeat_values(self):
        for kind in (
            kd.Weibull,
            kd.LogLogistic,
            kd.LogNormal,
            kd.Gamma,
            kd.Exponential,
            kd.InverseGaussian,
            kd.Normal,
            kd.Logistic,
        ):
            weighted = kind.fit(LIVES, weights=COUNTS)
            repeated = kind.fit(np.repeat(LIVES, COUNTS.astype(int)))
            with self.subTest(kind.__name__):
                self.assertAlmostEqual(
                    weighted.fitted.log_likelihood, repeated.fitted.log_likelihood, places=6
                )
                for name, error in repeated.fitted.standard_errors.items():
                    self.assertAlmostEqual(
                        weighted.fitted.standard_errors[name] / error, 1, places=4
                    )

    def test_order_does_not_matter(self):
        mixed = np.random.default_rng(8).permutation(LIVES)
        for kind in (kd.Weibull, kd.LogLogistic, kd.Gamma, kd.InverseGaussian):
            self.assertAlmostEqual(logs(kind, mixed), logs(kind, LIVES), places=8)

    def test_errors_shrink_with_the_root_of_the_number(self):
        for kind in (kd.Weibull, kd.LogLogistic, kd.Gamma, kd.LogNormal, kd.Logistic, kd.Gumbel):
            once, four = (
                kind.fit(LIVES).fitted.standard_errors,
                kind.fit(np.tile(LIVES, 4)).fitted.standard_errors,
            )
            for name, error in once.items():
                self.assertAlmostEqual(four[name] / error, 0.5, places=3)

    def test_the_mean_of_a_quantile_grid_is_found(self):
        levels = (np.arange(2000) + 0.5) / 2000
        for truth in (
            kd.Weibull(1.5, 3),
            kd.LogLogistic(3, 3),
            kd.Gamma(2, 3),
            kd.InverseGaussian(2, 5),
            kd.LogNormal(3, 2),
            kd.Gumbel(1, 2),
            kd.Logistic(1, 2),
            kd.GeneralizedExtremeValue(1, 2, 0.1),
        ):
            found = type(truth).fit(truth.quantile(levels))
            for name in found.fitted.names:
                with self.subTest(type(truth).__name__, name=name):
                    self.assertLess(
                        abs(getattr(found, name) - getattr(truth, name)),
                        0.5 * found.fitted.standard_errors[name],
                    )


def kd_fit(kind, values):
    fitted = kind.fit(values)
    return {name: getattr(fitted, name) for name in fitted.fitted.names}
