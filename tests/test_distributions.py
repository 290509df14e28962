"""The laws against SciPy, numerical integration and the definitions."""

import math

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, stats

import kindynos as kd
from kindynos.distributions import CATALOGUE, table
from tests.common import Case

SIGMA = math.sqrt(math.log1p(0.25))
LAWS = [
    (kd.Normal(3, 2), stats.norm(3, 2)),
    (kd.LogNormal(20, 10), stats.lognorm(SIGMA, scale=20 / math.exp(SIGMA**2 / 2))),
    (kd.Uniform(-1, 4), stats.uniform(-1, 5)),
    (kd.Triangular(1, 2, 6), stats.triang(0.2, 1, 5)),
    (kd.Triangular(1, 1, 6), stats.triang(0, 1, 5)),
    (kd.Triangular(1, 6, 6), stats.triang(1, 1, 5)),
    (kd.Pert(17.5, 19, 26), stats.beta(1 + 4 * 1.5 / 8.5, 1 + 4 * 7 / 8.5, 17.5, 8.5)),
    (kd.Pert(0, 0, 1, weight=2), stats.beta(1, 3)),
    (kd.Beta(30, 19), stats.beta(30, 19)),
    (kd.Beta(0.6, 2, -1, 3), stats.beta(0.6, 2, -1, 4)),
]
LEVELS = np.concatenate([np.logspace(-10, -2, 60), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -10, 60)])


class Continuous(Case):
    def test_agrees_with_scipy(self):
        for law, reference in LAWS:
            with self.subTest(law=law):
                x = reference.ppf(LEVELS)
                scale = 1e-10 * (np.abs(x) + law.sd)
                self.assertTrue((np.abs(law.quantile(LEVELS) - x) <= scale).all())
                np.testing.assert_allclose(law.cdf(x), reference.cdf(x), rtol=1e-9, atol=1e-13)
                np.testing.assert_allclose(law.pdf(x), reference.pdf(x), rtol=1e-8, atol=1e-12)
                for ours, theirs in zip((law.mean, law.variance, law.skewness), reference.stats("mvs"), strict=True):
                    self.assertAlmostEqual(ours, float(theirs), delta=1e-9 * (abs(theirs) + 1))
                self.assertAlmostEqual(law.sd, math.sqrt(law.variance))
                self.assertEqual(law.support, reference.support())

    def test_cdf_of_quantile_is_the_level(self):
        for law, _ in LAWS:
            with self.subTest(law=law):
                np.testing.assert_allclose(law.cdf(law.quantile(LEVELS)), LEVELS, rtol=0, atol=1e-10)

    def test_moments_by_integration(self):
        for law, _ in LAWS:
            with self.subTest(law=law):
                mean = integrate.quad(lambda u, law=law: law.quantile(u), 0, 1, epsabs=1e-10, limit=400)[0]
                self.assertAlmostEqual(mean, law.mean, delta=1e-6 * law.sd)

    def test_samples_follow_the_law(self):
        for law, reference in LAWS:
            for seed in (1, 2, 3):
                with self.subTest(law=law, seed=seed):
                    self.assertGreater(stats.kstest(law.sample(5000, seed=seed), reference.cdf).pvalue, 1e-4)

    def test_table_is_as_exact_as_the_inverse(self):
        for law in (kd.Beta(30, 19), kd.Pert(17.5, 19, 26), kd.Beta(0.3, 0.5), kd.Beta(2, 300)):
            with self.subTest(law=law):
                extreme = np.array([2.0**-54, 1e-13, 2.0**-41, 0.25, 0.5, np.nextafter(0.5, 1), 1 - 2.0**-53])
                u = np.concatenate([np.random.default_rng(4).random(4000), extreme, np.logspace(-13, -1, 500)])
                gap = np.abs(table.quantile(law, u) - table.exact(law, u))
                self.assertLessEqual(float((gap / (np.abs(table.exact(law, u)) + law.sd)).max()), 1e-12)

    def test_lognormal_from_its_logarithm(self):
        law = kd.LogNormal.from_log(1.5, 0.4)
        self.assertAlmostEqual(law.mu, 1.5)
        self.assertAlmostEqual(law.sigma, 0.4)
        np.testing.assert_allclose(law.quantile(LEVELS), stats.lognorm(0.4, scale=math.exp(1.5)).ppf(LEVELS), rtol=1e-9)

    def test_tails_keep_their_digits(self):
        self.assertAlmostEqual(kd.Normal(0, 1).chance(above=10) / stats.norm.sf(10), 1, places=10)
        self.assertAlmostEqual(kd.Triangular(0, 1, 2).chance(above=2 - 1e-9) / 5e-19, 1, places=6)

    def test_outside_the_support(self):
        for law, _ in LAWS:
            low, high = law.support
            if math.isfinite(low):
                self.assertEqual((law.pdf(low - 1), law.cdf(low - 1)), (0, 0))
            if math.isfinite(high):
                self.assertEqual((law.pdf(high + 1), law.cdf(high + 1)), (0, 1))


class DiscreteLaw(Case):
    law = kd.Discrete([30, 10, 20], [0.5, 0.2, 0.3])

    def test_moments(self):
        values, chances = np.array([10, 20, 30]), np.array([0.2, 0.3, 0.5])
        self.assertAlmostEqual(self.law.mean, 23)
        self.assertAlmostEqual(self.law.variance, float(chances @ (values - 23) ** 2))
        self.assertAlmostEqual(self.law.skewness, float(chances @ (values - 23) ** 3) / self.law.sd**3)

    def test_quantile_is_the_smallest_value_that_reaches_the_level(self):
        np.testing.assert_array_equal(self.law.quantile([0, 0.1, 0.2, 0.200001, 0.5, 0.51, 1]), [10, 10, 10, 20, 20, 30, 30])
        for u in np.linspace(0.001, 1, 50):
            x = self.law.quantile(u)
            self.assertGreaterEqual(self.law.cdf(x) + 1e-12, u)
            self.assertLess(self.law.cdf(x - 1e-9), u)

    def test_mass_and_chances(self):
        self.assertEqual(self.law.pmf(20), 0.3)
        self.assertEqual(self.law.pmf(25), 0)
        self.assertEqual(self.law.chance(at=20), 0.3)
        self.assertAlmostEqual(self.law.chance(below=20), 0.2)
        self.assertAlmostEqual(self.law.chance(above=20), 0.5)
        self.assertAlmostEqual(self.law.chance(above=10, below=30), 0.3)

    def test_impossible_values_are_never_drawn(self):
        law = kd.Discrete([1, 2, 3], [0, 1, 0])
        self.assertEqual(law.support, (2, 2))
        self.assertEqual(set(law.sample(1000, seed=1)), {2})

    def test_pdf_and_pmf_are_told_apart(self):
        with self.fails("discrete", "pmf"):
            self.law.pdf(1)
        with self.fails("continuous", "pdf"):
            kd.Normal(0, 1).pmf(1)


class Contract(Case):
    def test_repr_gives_the_law_again(self):
        for law in [law for law, _ in LAWS] + [DiscreteLaw.law, kd.Normal(0.1 + 0.2, 1e-9)]:
            with self.subTest(law=law):
                again = eval(repr(law), {name: getattr(kd, name) for name in kd.__all__})
                self.assertEqual(again, law)
                self.assertEqual(hash(again), hash(law))
        self.assertEqual(repr(kd.Pert(17.5e6, 19e6, 26e6)), "Pert(low=17500000, mode=19000000, high=26000000)")
        self.assertNotEqual(kd.Normal(0, 1), kd.Normal(0, 2))

    def test_is_immutable(self):
        with self.assertRaises(AttributeError):
            kd.Normal(0, 1).mean = 3

    def test_shapes_and_scalars(self):
        for law in (kd.Normal(0, 1), kd.Beta(2, 3), DiscreteLaw.law):
            self.assertIsInstance(law.quantile(0.3), float)
            self.assertEqual(law.quantile(np.full((2, 3), 0.5)).shape, (2, 3))
            self.assertEqual(law.sample((4, 2), seed=1).shape, (4, 2))
            self.assertEqual(law.percentile(50), law.quantile(0.5))
            np.testing.assert_array_equal(law.sample(5, seed=9), law.sample(5, seed=9))

    def test_chances(self):
        law = kd.Normal(10, 2)
        self.assertAlmostEqual(law.chance(above=12), stats.norm.sf(1))
        self.assertAlmostEqual(law.chance(below=12), stats.norm.cdf(1))
        self.assertAlmostEqual(law.chance(above=8, below=12), stats.norm.cdf(1) - stats.norm.cdf(-1))
        self.assertEqual(law.chance(at=10), 0)
        self.assertEqual(law.chance(above=12, below=8), 0)
        with self.fails("above=", "below=", "at="):
            law.chance()
        with self.fails("cannot be combined"):
            law.chance(at=1, above=0)

    def test_wrong_parameters_say_name_value_and_rule(self):
        for build, fragments in (
            (lambda: kd.Normal(0, -2), ("Normal: sd", "above 0", "-2.0")),
            (lambda: kd.Normal(float("nan"), 2), ("mean", "finite", "nan")),
            (lambda: kd.Normal("a", 2), ("mean", "a number", "'a'")),
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
            (lambda: kd.Normal(0, 1).quantile(1.5), ("a level", "from 0 to 1", "1.5")),
            (lambda: kd.Normal(0, 1).percentile([5, 101]), ("a percentile", "from 0 to 100", "101")),
            (lambda: kd.Normal(0, 1).sample(3, seed=-1), ("seed", "-1")),
        ):
            with self.subTest(fragments=fragments), self.fails(*fragments):
                build()

    def test_catalogue_names_are_words(self):
        for name, law in CATALOGUE.items():
            self.assertEqual(name, law.label)
            self.assertRegex(name, r"^[a-z]+( [a-z]+)*$")
            self.assertTrue(law.use)

    @settings(max_examples=60, deadline=None)
    @given(
        st.floats(-1e6, 1e6),
        st.floats(1e-3, 1e6),
        st.floats(0, 1),
        st.floats(0.1, 50),
        st.floats(min_value=1e-9, max_value=1 - 1e-9),
    )
    def test_pert_is_monotone_and_inside(self, low, width, place, weight, u):
        law = kd.Pert(low, min(low + place * width, low + width), low + width, weight)
        x = law.quantile([u / 2, u])
        self.assertLessEqual(low, x[0])
        self.assertLessEqual(x[0], x[1])
        self.assertLessEqual(x[1], low + width)
