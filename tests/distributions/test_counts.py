"""Tests of counts."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case

COUNTS = [
    (kd.Bernoulli(0.3), stats.bernoulli(0.3)),
    (kd.Binomial(20, 0.35), stats.binom(20, 0.35)),
    (kd.Poisson(3.7), stats.poisson(3.7)),
    (kd.Poisson(4000), stats.poisson(4000)),
    (kd.Geometric(0.2), stats.geom(0.2)),
    (kd.NegativeBinomial(2.5, 0.3), stats.nbinom(2.5, 0.3)),
    (kd.Hypergeometric(50, 10, 5), stats.hypergeom(50, 10, 5)),
    (kd.IntegerUniform(1, 6), stats.randint(1, 7)),
    (kd.Poisson(3.7) + 2, stats.poisson(3.7, loc=2)),
]


LEVELS = np.concatenate(
    [np.logspace(-10, -2, 60), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -10, 60)]
)


class Counts(Case):
    def test_agrees_with_scipy(self):
        for distribution, reference in COUNTS:
            with self.subTest(distribution=distribution):
                k = np.arange(-1, distribution.quantile(1 - 1e-12) + 3)
                np.testing.assert_allclose(
                    distribution.pmf(k), reference.pmf(k), rtol=1e-8, atol=1e-14
                )
                np.testing.assert_allclose(
                    distribution.cdf(k), reference.cdf(k), rtol=1e-9, atol=1e-14
                )
                np.testing.assert_allclose(
                    distribution.cdf(k + 0.5), reference.cdf(k), rtol=1e-9, atol=1e-14
                )
                np.testing.assert_array_equal(
                    distribution.quantile(LEVELS * 0.99999), reference.ppf(LEVELS * 0.99999)
                )
                for ours, theirs in zip(
                    (distribution.mean, distribution.variance, distribution.skewness),
                    reference.stats("mvs"),
                    strict=True,
                ):
                    self.assertAlmostEqual(ours, float(theirs), delta=1e-9 * (abs(theirs) + 1))

    def test_quantiles_obey_their_definition(self):
        for distribution, _ in COUNTS:
            u = np.random.default_rng(1).random(500)
            x = distribution.quantile(u)
            self.assertTrue(
                (distribution.cdf(x) >= u).all() and (distribution.cdf(x - 1) < u).all(),
                distribution,
            )

    def test_counts_too_many_for_a_table(self):
        distribution = kd.Geometric(1e-7)
        self.assertEqual(distribution.quantile(0.5), stats.geom(1e-7).ppf(0.5))


class DiscreteDistribution(Case):
    distribution = kd.Discrete([30, 10, 20], [0.5, 0.2, 0.3])

    def test_the_ends_of_many_counts(self):
        for counts, most in ((kd.Poisson(2e9), np.inf), (kd.Binomial(10**12, 0.3), 1e12)):
            np.testing.assert_array_equal(counts.quantile([0, 1]), [0, most])
            np.testing.assert_array_equal((-1 * counts).quantile([0, 1]), [-most, 0])

    def test_moments(self):
        values, chances = np.array([10, 20, 30]), np.array([0.2, 0.3, 0.5])
        self.assertAlmostEqual(self.distribution.mean, 23)
        self.assertAlmostEqual(self.distribution.variance, float(chances @ (values - 23) ** 2))
        self.assertAlmostEqual(
            self.distribution.skewness,
            float(chances @ (values - 23) ** 3) / self.distribution.sd**3,
        )

    def test_quantile_is_the_smallest_value_that_reaches_the_level(self):
        np.testing.assert_array_equal(
            self.distribution.quantile([0, 0.1, 0.2, 0.200001, 0.5, 0.51, 1]),
            [10, 10, 10, 20, 20, 30, 30],
        )
        for u in np.linspace(0.001, 1, 50):
            x = self.distribution.quantile(u)
            self.assertGreaterEqual(self.distribution.cdf(x) + 1e-12, u)
            self.assertLess(self.distribution.cdf(x - 1e-9), u)

    def test_mass_and_chances(self):
        self.assertEqual(self.distribution.pmf(20), 0.3)
        self.assertEqual(self.distribution.pmf(25), 0)
        self.assertEqual(self.distribution.chance(at=20), 0.3)
        self.assertAlmostEqual(self.distribution.chance(below=20), 0.2)
        self.assertAlmostEqual(self.distribution.chance(above=20), 0.5)
        self.assertAlmostEqual(self.distribution.chance(above=10, below=30), 0.3)

    def test_impossible_values_are_never_drawn(self):
        distribution = kd.Discrete([1, 2, 3], [0, 1, 0])
        self.assertEqual(distribution.support, (2, 2))
        self.assertEqual(set(distribution.sample(1000, seed=1)), {2})

    def test_pdf_and_pmf_are_told_apart(self):
        with self.fails("discrete", "pmf"):
            self.distribution.pdf(1)
        with self.fails("continuous", "pdf"):
            kd.Normal(0, 1).pmf(1)
