"""Tests of continuous."""

import math
from itertools import pairwise

import numpy as np
from scipy import integrate, stats

import kindynos as kd
from kindynos.distributions import table
from tests.common import Case
from tests.distributions.counterparts import DISTRIBUTIONS

LEVELS = np.concatenate(
    [np.logspace(-10, -2, 60), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -10, 60)]
)


class Continuous(Case):
    def test_agrees_with_scipy(self):
        for distribution, reference in DISTRIBUTIONS:
            if reference is None:
                continue
            with self.subTest(distribution=distribution):
                lower = LEVELS[LEVELS <= 0.5]
                x = np.concatenate([reference.ppf(lower), reference.isf(lower)])
                sd = distribution.sd if math.isfinite(distribution.sd) else 1.0
                ours = np.concatenate(
                    [distribution.quantile(lower), distribution._upper_quantile(lower)]
                )
                # early versions of SciPy lose digits there
                exact = 1e-6 if isinstance(distribution, kd.Cauchy) else 1e-10
                self.assertLessEqual(float((np.abs(ours - x) / (np.abs(x) + sd)).max()), exact)
                np.testing.assert_allclose(
                    distribution.cdf(x), reference.cdf(x), rtol=1e-9, atol=1e-13
                )
                np.testing.assert_allclose(
                    distribution.pdf(x), reference.pdf(x), rtol=1e-8, atol=1e-12
                )
                if distribution == kd.Normal(0, 1).truncate(6, 8) or not math.isfinite(
                    distribution.variance
                ):
                    continue  # SciPy's moments there are rough, or do not exist
                for ours, theirs in zip(
                    (distribution.mean, distribution.variance, distribution.skewness),
                    reference.stats("mvs"),
                    strict=True,
                ):
                    self.assertAlmostEqual(ours, float(theirs), delta=1e-8 * (abs(theirs) + 1))
                self.assertAlmostEqual(distribution.sd, math.sqrt(distribution.variance))
                np.testing.assert_allclose(distribution.support, reference.support())

    def test_cdf_of_quantile_is_the_level(self):
        for distribution, _ in DISTRIBUTIONS:
            with self.subTest(distribution=distribution):
                np.testing.assert_allclose(
                    distribution.cdf(distribution.quantile(LEVELS)), LEVELS, rtol=0, atol=1e-10
                )

    def test_moments_by_integration(self):
        for distribution, _ in DISTRIBUTIONS:
            if (
                not math.isfinite(distribution.skewness)
                or distribution == kd.Gamma(0.3, 3)
                or distribution == kd.Beta(0.6, 2, -1, 3)
            ):
                continue
            with self.subTest(distribution=distribution):
                ends = [
                    *distribution.quantile([1e-14, 0.001, 0.25, 0.75, 0.999]).tolist(),
                    float(distribution._upper_quantile(np.array([1e-14]))[0]),
                ]
                pieces = list(pairwise(ends))

                def moment(power, centre=0.0, distribution=distribution, pieces=pieces):
                    return sum(
                        integrate.quad(
                            lambda x: (x - centre) ** power * distribution.pdf(x), a, b, limit=300
                        )[0]
                        for a, b in pieces
                    )

                scale = max(distribution.sd, abs(distribution.mean))
                self.assertAlmostEqual(moment(0), 1, delta=1e-7)
                self.assertAlmostEqual(moment(1), distribution.mean, delta=1e-6 * scale)
                self.assertAlmostEqual(
                    moment(2, distribution.mean),
                    distribution.variance,
                    delta=1e-5 * distribution.variance,
                )

    def test_samples_follow_the_law(self):
        for distribution, _ in DISTRIBUTIONS:
            for seed in (1, 2):
                with self.subTest(distribution=distribution, seed=seed):
                    self.assertGreater(
                        stats.kstest(distribution.sample(3000, seed=seed), distribution.cdf).pvalue,
                        1e-4,
                    )

    def test_table_is_as_exact_as_the_inverse(self):
        distributions = (
            kd.Beta(30, 19),
            kd.Pert(17.5, 19, 26),
            kd.Beta(0.3, 0.5),
            kd.Gamma(2.5, 3),
            kd.StudentT(4, 0, 1),
        )
        for distribution in (*distributions, kd.Mixture([kd.Normal(0, 1), kd.Normal(2, 3)])):
            with self.subTest(distribution=distribution):
                extreme = np.array(
                    [2.0**-54, 1e-13, 2.0**-41, 0.25, 0.5, np.nextafter(0.5, 1), 1 - 2.0**-53]
                )
                u = np.concatenate(
                    [np.random.default_rng(4).random(4000), extreme, np.logspace(-13, -1, 500)]
                )
                gap = np.abs(table.quantile(distribution, u) - table.exact(distribution, u))
                self.assertLessEqual(
                    float((gap / (np.abs(table.exact(distribution, u)) + distribution.sd)).max()),
                    1e-12,
                )

    def test_lognormal_from_its_logarithm(self):
        distribution = kd.LogNormal.from_log(1.5, 0.4)
        self.assertAlmostEqual(distribution.mu, 1.5)
        self.assertAlmostEqual(distribution.sigma, 0.4)
        np.testing.assert_allclose(
            distribution.quantile(LEVELS),
            stats.lognorm(0.4, scale=math.exp(1.5)).ppf(LEVELS),
            rtol=1e-9,
        )

    def test_tails_keep_their_digits(self):
        self.assertAlmostEqual(kd.Normal(0, 1).chance(above=10) / stats.norm.sf(10), 1, places=10)
        self.assertAlmostEqual(kd.Triangular(0, 1, 2).chance(above=2 - 1e-9) / 5e-19, 1, places=6)

    def test_outside_the_support(self):
        for distribution, _ in DISTRIBUTIONS:
            low, high = distribution.support
            if math.isfinite(low):
                self.assertEqual((distribution.pdf(low - 1), distribution.cdf(low - 1)), (0, 0))
            if math.isfinite(high):
                self.assertEqual((distribution.pdf(high + 1), distribution.cdf(high + 1)), (0, 1))
