import contextlib
import math
import warnings

import numpy as np
from scipy import special, stats

import kindynos as kd
from tests.common import Case

LEVELS = (np.arange(20_000) + 0.5) / 20_000


class Gaps(Case):
    def test_a_steep_weibull_has_the_moments_of_its_gamma_functions(self):
        for shape in (60.0, 500.0):
            first, second = (math.gamma(1 + k / shape) for k in (1, 2))
            made = kd.Weibull(shape, 3.0)
            self.assertAlmostEqual(made.mean, 3 * first, places=9)
            self.assertAlmostEqual(made.variance / (9 * (second - first**2)), 1, places=5)

    """Quantiles of many values come from tables; those of few are searched one by one."""

    def test_mixtures_with_gaps_and_single_values(self):
        for parts, weights in (
            ([kd.Pert(10, 12, 14), kd.Pert(20, 24, 30)], [0.6, 0.4]),
            ([kd.LogNormal(10, 2), kd.LogNormal(1000, 100)], [0.95, 0.05]),
            ([kd.Normal(0, 1), kd.Discrete([0.0, 5.0], [0.5, 0.5])], None),
            ([kd.Poisson(3), kd.Poisson(300)], [0.5, 0.5]),
            ([kd.Uniform(0, 1), kd.Poisson(30)], [0.9, 0.1]),
        ):
            mixture = kd.Mixture(parts, weights)
            with self.subTest(mixture=repr(mixture)):
                values = mixture.quantile(LEVELS)
                self.assertTrue((np.diff(values) >= -1e-9 * np.abs(values[1:])).all())
                # The value is the smallest whose cdf reaches the level, up to rounding.
                room = 1e-8 * (1 + np.abs(values))
                self.assertTrue((mixture.cdf(values + room) >= LEVELS - 1e-12).all())
                self.assertTrue((mixture.cdf(values - room) <= LEVELS + 1e-12).all())
        counts = kd.Mixture([kd.Normal(0, 1), kd.Discrete([0.0, 5.0], [0.5, 0.5])]).quantile(LEVELS)
        self.assertAlmostEqual(float((counts == 5).mean()), 0.25, delta=2e-4)

    def test_kernel_density(self):
        rng = np.random.default_rng(1)
        for data in (rng.normal(size=1000), np.concatenate([rng.normal(size=200), [-1e4, 1e4]])):
            smooth = kd.KernelDensity(data)
            values = smooth.quantile(LEVELS)
            sums = special.ndtr((values[::50, None] - data) / smooth.bandwidth).mean(axis=1)
            np.testing.assert_allclose(sums, LEVELS[::50], atol=1e-10)
            low = smooth.quantile(np.array([1e-12, 1e-30, 1e-300]))
            np.testing.assert_allclose(smooth.cdf(low), [1e-12, 1e-30, 1e-300], rtol=1e-8)
            self.assertEqual(smooth.quantile(0.0), -np.inf)


class Extremes(Case):
    def test_moments_far_out_and_far_from_zero(self):
        far = kd.Normal(0, 1).truncate(low=15)
        self.assertAlmostEqual(
            far.mean, float(np.exp(-112.5) / np.sqrt(2 * np.pi) / special.ndtr(-15)), 9
        )
        half = kd.Normal(1e5, 1).truncate(low=1e5)
        self.assertAlmostEqual(half.skewness, stats.halfnorm.stats(moments="s").item(), 6)
        clipped = kd.Clipped(kd.Normal(1e5, 1), 1e5, None)
        self.assertAlmostEqual(clipped.skewness, kd.Clipped(kd.Normal(0, 1), 0, None).skewness, 5)
        steep = kd.Weibull(1e8, 1)
        self.assertAlmostEqual(steep.skewness, -stats.gumbel_r.stats(moments="s").item(), 6)
        self.assertAlmostEqual(steep.sd * 1e8, np.pi / 6**0.5, 6)
        for heavy, wanted in (
            (kd.Cauchy(0, 1).truncate(low=0), np.inf),
            (kd.Cauchy(0, 1).truncate(high=0), -np.inf),
        ):
            self.assertEqual(heavy.mean, wanted)
        self.assertTrue(np.isfinite(kd.Cauchy(0, 1).truncate(low=-5, high=5).skewness))

    def test_counts_of_any_size(self):
        self.assertEqual(kd.Poisson(3).truncate(low=22).quantile(0.0), 22)
        tail = stats.poisson(3)
        drawn = kd.Poisson(3).truncate(low=22).quantile(LEVELS)
        self.assertAlmostEqual((drawn == 22).mean(), tail.pmf(22) / tail.sf(21), delta=1e-4)
        for wide, mean, sd in (
            (kd.Binomial(10**12, 0.3), 3e11, np.sqrt(2.1e11)),
            (kd.Poisson(1e9), 1e9, np.sqrt(1e9)),
            (kd.NegativeBinomial(3, 1e-6), 2999997.0, np.sqrt(3e12)),
            (kd.Hypergeometric(10**9, 3 * 10**8, 10**8), 3e7, np.sqrt(3e7 * 0.7 * 0.9)),
        ):
            with self.subTest(wide=repr(wide)):
                values = wide.quantile(LEVELS)
                self.assertAlmostEqual((values.mean() - mean) / sd, 0, delta=1e-3)
                self.assertAlmostEqual(values.std() / sd, 1, delta=2e-3)
                np.testing.assert_array_equal(values, np.floor(values))
        z = special.ndtri(1 - 1e-8)
        self.assertAlmostEqual(
            kd.Poisson(1e8).quantile(1 - 1e-8), 1e8 + 1e4 * z + (z**2 - 1) / 6, delta=1.5
        )
        with self.fails("trials", "2**53"):
            kd.Binomial(10**18, 0.5)

    def test_parameters_at_the_edge_of_floats(self):
        for extreme in (
            lambda: kd.Pareto(1e300, 1),
            lambda: kd.LogLogistic(1, 1e9),
            lambda: kd.LogNormal(1e-300, 1e300),
            lambda: kd.Geometric(1e-300),
            lambda: kd.Normal(1e308, 1e308),
            lambda: kd.JohnsonSU(1, 0.03, 0, 1),
            lambda: kd.Weibull(1e-3, 1),
            lambda: kd.Poisson(1e300),
        ):
            with self.subTest(extreme=repr(extreme())), warnings.catch_warnings(action="error"):
                made = extreme()
                self.assertFalse(made.variance < 0)
                self.assertIsInstance(made.mean + made.skewness, float)
                with contextlib.suppress(kd.KindynosError):
                    made.quantile(0.5)
