"""Tests of contract."""

import math

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, stats

import kindynos as kd
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import distribution_from, example, parameters_of
from tests.common import Case
from tests.distributions.counterparts import DISTRIBUTIONS

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


NAMES = [
    *kd.__all__,
    "Affine",
    "Truncated",
    "Clipped",
    "SmoothPercentiles",
    "Uncertain",
    "Recalibrated",
]


class Contract(Case):
    def test_the_thin_tail_of_a_skew_normal_distribution(self):
        z = np.array([-3.0, -5.0, -8.0, -20.0])
        below = kd.SkewNormal(0, 1, 1)  # the larger of two normal figures: Phi squared
        np.testing.assert_allclose(below.cdf(z) / stats.norm.cdf(z) ** 2, 1, rtol=1e-8)
        np.testing.assert_allclose(
            kd.SkewNormal(2, 3, 3).cdf(2 + 3 * z[:2]) / stats.skewnorm.cdf(z[:2], 3), 1, rtol=1e-8
        )
        levels = np.array([1e-200, 1e-30, 1e-12])
        np.testing.assert_allclose(
            below.quantile(levels), stats.norm.ppf(np.sqrt(levels)), rtol=1e-8
        )

    def test_the_far_ends_of_a_very_skewed_inverse_gaussian_distribution(self):
        wide = kd.InverseGaussian(1, 0.001)
        levels = np.array([1e-300, 1e-30, 0.05, 0.5])
        np.testing.assert_allclose(wide.cdf(wide.quantile(levels)), levels, rtol=1e-10)
        far = wide.quantile(1 - np.array([0.4, 1e-3, 2.0**-53]))
        np.testing.assert_allclose(
            stats.invgauss(1000, scale=0.001).sf(far), [0.4, 1e-3, 2.0**-53], rtol=1e-6
        )

    def test_sums_of_sizes_that_are_multiples_of_a_broken_number(self):
        sizes = kd.Discrete([1.5, 4.5], [0.5, 0.5])
        found = kd.Compound(kd.Discrete([2], [1.0]), sizes)
        np.testing.assert_allclose(found.quantile([0.2, 0.5, 0.9]), [3.0, 6.0, 9.0])

    def test_a_compound_of_losses_with_an_infinite_variance(self):
        size = stats.pareto(1.5)

        def both_beyond(x):  # P(A + B > x) for two of them
            inner, _ = integrate.quad(lambda a: size.pdf(a) * size.sf(x - a), 1, x - 1)
            return inner + size.sf(x - 1)

        for count, survival in ((1, size.sf), (2, both_beyond)):
            found = kd.Compound(kd.Discrete([count], [1.0]), kd.Pareto(1.5, 1.0))
            self.assertEqual((found.mean, found.variance), (3.0 * count, np.inf))
            for x in (3.0, 10.0, 100.0):
                self.assertAlmostEqual(1 - found.cdf(x), survival(x), delta=2e-5)
            for x in (1e5, 1e7):  # where the largest alone decides
                largest = count * size.sf(x - 3 * (count - 1))
                self.assertAlmostEqual((1 - found.cdf(x)) / largest, 1, delta=1e-2)
            self.assertAlmostEqual(float(1 - found.cdf(found.quantile(0.999))), 0.001, delta=1e-5)

    def test_repr_gives_the_law_again(self):
        compound = kd.Compound(kd.Poisson(3), kd.Exponential(5))
        for distribution in [distribution for distribution, _ in DISTRIBUTIONS + COUNTS] + [
            kd.Discrete([10, 0, 5], [0.2, 0.5, 0.3]),
            kd.Normal(0.1 + 0.2, 1e-9),
            compound,
        ]:
            with self.subTest(distribution=distribution):
                again = eval(repr(distribution), {name: getattr(kd, name) for name in NAMES})
                self.assertEqual(again, distribution)
                self.assertEqual(hash(again), hash(distribution))
        self.assertEqual(
            repr(kd.Pert(17.5e6, 19e6, 26e6)), "Pert(low=17500000, mode=19000000, high=26000000)"
        )
        self.assertNotEqual(kd.Normal(0, 1), kd.Normal(0, 2))

    def test_is_immutable(self):
        with self.assertRaises(AttributeError):
            kd.Normal(0, 1).mean = 3

    def test_shapes_and_scalars(self):
        for distribution in (
            kd.Normal(0, 1),
            kd.Beta(2, 3),
            kd.Discrete([10, 0, 5], [0.2, 0.5, 0.3]),
        ):
            self.assertIsInstance(distribution.quantile(0.3), float)
            self.assertEqual(distribution.quantile(np.full((2, 3), 0.5)).shape, (2, 3))
            self.assertEqual(distribution.sample((4, 2), seed=1).shape, (4, 2))
            self.assertEqual(distribution.percentile(50), distribution.quantile(0.5))
            np.testing.assert_array_equal(
                distribution.sample(5, seed=9), distribution.sample(5, seed=9)
            )

    def test_chances(self):
        distribution = kd.Normal(10, 2)
        self.assertAlmostEqual(distribution.chance(above=12), stats.norm.sf(1))
        self.assertAlmostEqual(distribution.chance(below=12), stats.norm.cdf(1))
        self.assertAlmostEqual(
            distribution.chance(above=8, below=12), stats.norm.cdf(1) - stats.norm.cdf(-1)
        )
        self.assertEqual(distribution.chance(at=10), 0)
        for high in (12, 8):
            with self.fails(f"nothing lies above 12 and below {high}"):
                distribution.chance(above=12, below=high)
        with self.fails("above=", "below=", "at="):
            distribution.chance()
        with self.fails("cannot be combined"):
            distribution.chance(at=1, above=0)

    def test_wrong_parameters_say_name_value_and_rule(self):
        for build, fragments in (
            (lambda: kd.Normal(0, -2), ("Normal: sd", "above 0", "-2.0")),
            (lambda: kd.Normal(float("nan"), 2), ("mean", "finite", "nan")),
            (lambda: kd.Normal("3,5", 2), ("mean", "a number", "'3,5'")),
            (lambda: kd.Normal(True, 2), ("mean", "a number", "True")),
            (lambda: kd.LogNormal(-1, 2), ("LogNormal: mean", "above 0")),
            (lambda: kd.LogNormal.from_log(0, 0), ("sigma", "above 0")),
            (lambda: kd.Uniform(3, 3), ("low", "below high (3.0)", "3.0")),
            (lambda: kd.Triangular(1, 9, 6), ("mode", "from low (1.0) to high (6.0)", "9.0")),
            (lambda: kd.Pert(1, 2, 3, weight=0), ("weight", "above 0")),
            (lambda: kd.Beta(0, 1), ("Beta: a", "above 0")),
            (lambda: kd.Discrete([1, 2], [0.5, 0.6]), ("probabilities must add up to 1", "1.1")),
            (lambda: kd.Discrete([1, 2], [1.5, -0.5]), ("probabilities[1]", "at least 0", "-0.5")),
            (lambda: kd.Discrete([1, 2], [1]), ("equally many", "2 and 1")),
            (lambda: kd.Discrete([1, 1], [0.5, 0.5]), ("given once", "1.0")),
            (lambda: kd.Discrete([], []), ("at least one value",)),
            (lambda: kd.Discrete("ab", [1]), ("values", "a list of numbers")),
            (lambda: kd.StudentT(2, 0, 1), ("StudentT: df", "above 2", "2.0")),
            (lambda: kd.Gamma(-1, 2), ("Gamma: shape", "above 0")),
            (lambda: kd.Binomial(2.5, 0.5), ("Binomial: trials", "whole number", "2.5")),
            (lambda: kd.Binomial(5, 1.5), ("Binomial: probability", "from 0 to 1", "1.5")),
            (lambda: kd.Geometric(0), ("Geometric: probability", "above 0")),
            (lambda: kd.Hypergeometric(10, 20, 5), ("marked", "at most the population (10)", "20")),
            (lambda: kd.IntegerUniform(6, 1), ("low", "at most high (1)", "6")),
            (lambda: kd.Empirical([1]), ("values must hold at least 2",)),
            (lambda: kd.Empirical([1, 2], [1, -1]), ("weights[1]", "at least 0")),
            (lambda: kd.Histogram([0, 1, 1], [1, 2]), ("edges[2]", "above the one before (1.0)")),
            (lambda: kd.Histogram([0, 1, 2], [1]), ("weights must be as many", "2, not 1")),
            (lambda: kd.KernelDensity([3, 3, 3]), ("all values are equal", "bandwidth")),
            (lambda: kd.Mixture([]), ("parts", "list of distributions")),
            (lambda: kd.Mixture([kd.Normal(0, 1), 3]), ("parts[1]", "a distribution", "3")),
            (lambda: kd.Normal(0, 1).truncate(3, 1), ("low", "below high (1.0)", "3.0")),
            (lambda: kd.Uniform(0, 1).truncate(5, 9), ("nothing between",)),
            (
                lambda: kd.Compound(kd.Normal(3, 1), kd.Exponential(1)),
                ("count must be a distribution on whole numbers",),
            ),
            (lambda: kd.Compound(kd.Poisson(3), kd.Normal(1, 1)), ("size must not be negative",)),
            (lambda: 0 * kd.Normal(0, 1), ("factor", "other than 0")),
            (lambda: kd.Normal(0, 1).quantile(1.5), ("a level", "from 0 to 1", "1.5")),
            (
                lambda: kd.Normal(0, 1).percentile([5, 101]),
                ("a percentile", "from 0 to 100", "101"),
            ),
            (lambda: kd.Normal(0, 1).sample(3, seed=-1), ("seed", "-1")),
        ):
            with self.subTest(fragments=fragments), self.fails(*fragments):
                build()

    def test_catalogue_names_are_words(self):
        for name, distribution in CATALOGUE.items():
            self.assertEqual(name, distribution.label)
            self.assertRegex(name, r"^[a-z]+( [a-z]+)*$")
            self.assertTrue(distribution.use)
            shown = example(distribution)
            self.assertIs(type(shown), distribution)
            self.assertTrue(math.isfinite(shown.percentile(50)))
            distribution_from(name, parameters_of(shown))

    @settings(max_examples=60, deadline=None)
    @given(
        st.floats(-1e6, 1e6),
        st.floats(1e-3, 1e6),
        st.floats(0, 1),
        st.floats(0.1, 50),
        st.floats(min_value=1e-9, max_value=1 - 1e-9),
    )
    def test_pert_is_monotone_and_inside(self, low, width, place, weight, u):
        distribution = kd.Pert(low, min(low + place * width, low + width), low + width, weight)
        x = distribution.quantile([u / 2, u])
        self.assertLessEqual(low, x[0])
        self.assertLessEqual(x[0], x[1])
        self.assertLessEqual(x[1], low + width)


class Masked(Case):
    def test_masked_parameters_are_refused(self):
        values = np.ma.masked_greater([1.0, 2.0, 99.0, 3.0], 50)
        for call in (
            lambda: kd.Empirical(values),
            lambda: kd.KernelDensity(values),
            lambda: kd.Histogram([0, 1, 2, 3, 4], values),
            lambda: kd.Histogram(values, [1, 1, 1]),
            lambda: kd.Discrete(values, [0.25] * 4),
            lambda: kd.Mixture([kd.Normal(0, 1)] * 4, values),
            lambda: kd.Normal(np.ma.masked, 1),
            lambda: kd.Normal(0, 1).chance(below=np.ma.masked),
        ):
            with self.fails("masked"):
                call()
        self.assertEqual(kd.Empirical(values.compressed()), kd.Empirical([1, 2, 3]))
