"""The laws against SciPy, numerical integration and the definitions."""

import math
from itertools import pairwise

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, stats

import kindynos as kd
from kindynos.distributions import CATALOGUE, table
from kindynos.distributions.registry import example, law_from, parameters_of
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
    (kd.StudentT(5, 1, 2), stats.t(5, 1, 2 * math.sqrt(3 / 5))),
    (kd.StudentT(200, 0, 1), stats.t(200, 0, math.sqrt(198 / 200))),
    (kd.StudentT.from_location(1.5, 0, 1), stats.t(1.5)),
    (kd.Logistic(3, 2), stats.logistic(3, 2 * math.sqrt(3) / math.pi)),
    (kd.Laplace(3, 2), stats.laplace(3, 2 / math.sqrt(2))),
    (kd.Cauchy(1, 2), stats.cauchy(1, 2)),
    (kd.JohnsonSU(1, 2, 3, 4), stats.johnsonsu(1, 2, 3, 4)),
    (kd.Gamma(2.5, 3), stats.gamma(2.5, scale=3)),
    (kd.Gamma(0.3, 3), stats.gamma(0.3, scale=3)),
    (kd.Exponential(4), stats.expon(scale=4)),
    (kd.Weibull(1.7, 3), stats.weibull_min(1.7, scale=3)),
    (kd.LogLogistic(3, 4), stats.fisk(4, scale=3)),
    (kd.Pareto(4, 2), stats.pareto(4, scale=2)),
    (kd.Gumbel(1, 2), stats.gumbel_r(1, 2)),
    (kd.GeneralizedExtremeValue(1, 2, 0.2), stats.genextreme(-0.2, 1, 2)),
    (kd.GeneralizedExtremeValue(1, 2, -0.2), stats.genextreme(0.2, 1, 2)),
    (kd.GeneralizedExtremeValue(1, 2, 0), stats.gumbel_r(1, 2)),
    (kd.GeneralizedPareto(1, 2, 0.2), stats.genpareto(0.2, 1, 2)),
    (kd.GeneralizedPareto(1, 2, -0.3), stats.genpareto(-0.3, 1, 2)),
    (kd.Uniform(0, 1) * 4 - 1, stats.uniform(-1, 4)),
    (5 - kd.Gamma(2.5, 3), None),
    (kd.Normal(0, 1).truncate(-0.5, 2), stats.truncnorm(-0.5, 2)),
    (kd.Normal(0, 1).truncate(1, None), None),
    (kd.Normal(0, 1).truncate(6, 8), stats.truncnorm(6, 8)),
    (kd.Exponential(4).truncate(None, 6), stats.truncexpon(1.5, scale=4)),
    (kd.Histogram([0, 1, 3, 4], [2, 5, 3]), None),
    (kd.SkewNormal(1, 2, 1), None),
    (kd.InverseGaussian(2, 8), None),
    (kd.Empirical([1, 5, 2, 9, 4], [1, 2, 1, 1, 3]), None),
    (kd.KernelDensity([1, 2, 4, 7, 7.5]), None),
    (kd.Mixture([kd.Normal(0, 1), kd.Gamma(3, 2)], [1, 3]), None),
]
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
LEVELS = np.concatenate([np.logspace(-10, -2, 60), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -10, 60)])


class Continuous(Case):
    def test_agrees_with_scipy(self):
        for law, reference in LAWS:
            if reference is None:
                continue
            with self.subTest(law=law):
                lower = LEVELS[LEVELS <= 0.5]
                x = np.concatenate([reference.ppf(lower), reference.isf(lower)])
                sd = law.sd if math.isfinite(law.sd) else 1.0
                ours = np.concatenate([law.quantile(lower), law._upper_quantile(lower)])
                self.assertLessEqual(float((np.abs(ours - x) / (np.abs(x) + sd)).max()), 1e-10)
                np.testing.assert_allclose(law.cdf(x), reference.cdf(x), rtol=1e-9, atol=1e-13)
                np.testing.assert_allclose(law.pdf(x), reference.pdf(x), rtol=1e-8, atol=1e-12)
                if law == kd.Normal(0, 1).truncate(6, 8) or not math.isfinite(law.variance):
                    continue  # SciPy's moments there are rough, or do not exist
                for ours, theirs in zip((law.mean, law.variance, law.skewness), reference.stats("mvs"), strict=True):
                    self.assertAlmostEqual(ours, float(theirs), delta=1e-8 * (abs(theirs) + 1))
                self.assertAlmostEqual(law.sd, math.sqrt(law.variance))
                np.testing.assert_allclose(law.support, reference.support())

    def test_cdf_of_quantile_is_the_level(self):
        for law, _ in LAWS:
            with self.subTest(law=law):
                np.testing.assert_allclose(law.cdf(law.quantile(LEVELS)), LEVELS, rtol=0, atol=1e-10)

    def test_moments_by_integration(self):
        for law, _ in LAWS:
            if not math.isfinite(law.skewness) or law == kd.Gamma(0.3, 3) or law == kd.Beta(0.6, 2, -1, 3):
                continue
            with self.subTest(law=law):
                ends = [
                    *law.quantile([1e-14, 0.001, 0.25, 0.75, 0.999]).tolist(),
                    float(law._upper_quantile(np.array([1e-14]))[0]),
                ]
                pieces = list(pairwise(ends))

                def moment(power, centre=0.0, law=law, pieces=pieces):
                    return sum(
                        integrate.quad(lambda x: (x - centre) ** power * law.pdf(x), a, b, limit=300)[0] for a, b in pieces
                    )

                scale = max(law.sd, abs(law.mean))
                self.assertAlmostEqual(moment(0), 1, delta=1e-7)
                self.assertAlmostEqual(moment(1), law.mean, delta=1e-6 * scale)
                self.assertAlmostEqual(moment(2, law.mean), law.variance, delta=1e-5 * law.variance)

    def test_samples_follow_the_law(self):
        for law, _ in LAWS:
            for seed in (1, 2):
                with self.subTest(law=law, seed=seed):
                    self.assertGreater(stats.kstest(law.sample(3000, seed=seed), law.cdf).pvalue, 1e-4)

    def test_table_is_as_exact_as_the_inverse(self):
        laws = (kd.Beta(30, 19), kd.Pert(17.5, 19, 26), kd.Beta(0.3, 0.5), kd.Gamma(2.5, 3), kd.StudentT(4, 0, 1))
        for law in (*laws, kd.Mixture([kd.Normal(0, 1), kd.Normal(2, 3)])):
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


class Counts(Case):
    def test_agrees_with_scipy(self):
        for law, reference in COUNTS:
            with self.subTest(law=law):
                k = np.arange(-1, law.quantile(1 - 1e-12) + 3)
                np.testing.assert_allclose(law.pmf(k), reference.pmf(k), rtol=1e-8, atol=1e-14)
                np.testing.assert_allclose(law.cdf(k), reference.cdf(k), rtol=1e-9, atol=1e-14)
                np.testing.assert_allclose(law.cdf(k + 0.5), reference.cdf(k), rtol=1e-9, atol=1e-14)
                np.testing.assert_array_equal(law.quantile(LEVELS * 0.99999), reference.ppf(LEVELS * 0.99999))
                for ours, theirs in zip((law.mean, law.variance, law.skewness), reference.stats("mvs"), strict=True):
                    self.assertAlmostEqual(ours, float(theirs), delta=1e-9 * (abs(theirs) + 1))

    def test_quantiles_obey_their_definition(self):
        for law, _ in COUNTS:
            u = np.random.default_rng(1).random(500)
            x = law.quantile(u)
            self.assertTrue((law.cdf(x) >= u).all() and (law.cdf(x - 1) < u).all(), law)

    def test_counts_too_many_for_a_table(self):
        law = kd.Geometric(1e-7)
        self.assertEqual(law.quantile(0.5), stats.geom(1e-7).ppf(0.5))


class Built(Case):
    def test_empirical_is_numpys_percentile(self):
        values = np.random.default_rng(2).gamma(2, 3, 40)
        np.testing.assert_allclose(kd.Empirical(values).percentile([3, 50, 97]), np.percentile(values, [3, 50, 97]))
        steps = kd.Empirical([2, 2, 5], steps=True)
        self.assertEqual((steps.pmf(2), steps.mean, steps.quantile(0.5), steps.quantile(0.9)), (2 / 3, 3, 2, 5))
        tied = kd.Empirical([1, 2, 2, 3])
        self.assertAlmostEqual(tied.chance(at=2), 1 / 3)

    def test_clipped(self):
        law = kd.Clipped(kd.Normal(0, 1), low=-1, high=2)
        z = np.random.default_rng(1).normal(size=2_000_000).clip(-1, 2)
        self.assertAlmostEqual(law.mean, z.mean(), delta=0.003)
        self.assertAlmostEqual(law.sd, z.std(), delta=0.003)
        self.assertAlmostEqual(law.chance(at=-1), stats.norm.cdf(-1))
        self.assertAlmostEqual(law.chance(below=2), stats.norm.cdf(2))
        self.assertEqual(law.quantile(0.01), -1)
        self.assertAlmostEqual(
            kd.Clipped(kd.Poisson(2), high=3).mean, np.minimum(np.arange(60), 3) @ stats.poisson(2).pmf(np.arange(60))
        )

    def test_mixture(self):
        law = kd.Mixture([kd.Normal(10, 1), kd.Normal(20, 3)], [1, 3])
        self.assertAlmostEqual(law.mean, 17.5)
        self.assertAlmostEqual(law.variance, 0.25 * 1 + 0.75 * 9 + 0.25 * 0.75 * 100)
        self.assertAlmostEqual(law.cdf(15), 0.25 * stats.norm.cdf(5) + 0.75 * stats.norm.cdf(-5 / 3))
        some = kd.Mixture([kd.Discrete([0], [1]), kd.Exponential(5)], [0.4, 0.6])
        self.assertEqual((some.quantile(0.4), some.chance(at=0)), (0, 0.4))
        self.assertAlmostEqual(some.quantile(0.7), -5 * math.log(0.5))
        dice = kd.Mixture([kd.IntegerUniform(1, 6), kd.Discrete([6], [1])])
        self.assertAlmostEqual(dice.pmf(6), 0.5 + 0.5 / 6)
        self.assertAlmostEqual(dice.skewness, stats.skew([1, 2, 3, 4, 5, 6] + [6] * 6))

    def test_compound_against_closed_forms(self):
        law = kd.Compound(kd.Poisson(3), kd.Exponential(5))
        k = np.arange(1, 80)
        for x in (0, 1, 10, 30, 80):
            exact = stats.poisson.pmf(0, 3) + stats.poisson.pmf(k, 3) @ stats.gamma.cdf(x, k, scale=5)
            self.assertAlmostEqual(law.cdf(x), exact, delta=2e-6)
        self.assertAlmostEqual(law.mean, 15)
        self.assertAlmostEqual(law.variance, 3 * 50)
        self.assertAlmostEqual(law.skewness, 3 * 6 * 125 / (3 * 50) ** 1.5)
        self.assertAlmostEqual(law.chance(at=0), math.exp(-3))
        u = np.linspace(0.06, 0.999999, 500)
        np.testing.assert_allclose(law.cdf(law.quantile(u)), u, atol=1e-6)
        certain = kd.Compound(kd.Binomial(10, 0.3), kd.Discrete([1], [1]))
        self.assertAlmostEqual(certain.cdf(3.5), stats.binom.cdf(3, 10, 0.3), delta=1e-6)

    def test_truncated_far_out_keeps_its_digits(self):
        law, v = kd.Normal(0, 1).truncate(1, None), np.array([1e-10, 1e-4, 0.3])
        np.testing.assert_allclose(law.quantile(1 - v[1:]), stats.norm.isf(v[1:] * stats.norm.sf(1)), rtol=1e-12)
        self.assertAlmostEqual(kd.Poisson(2).truncate(1, None).mean, 2 / (1 - math.exp(-2)))

    def test_arithmetic(self):
        law = 2 * kd.Exponential(5) + 3
        self.assertEqual((law.mean, law.sd, law.support), (13, 10, (3, math.inf)))
        self.assertEqual(3 - (2 * kd.Normal(1, 1) - 4) / 2, kd.Affine(kd.Normal(1, 1), -1, 5))
        self.assertEqual((-kd.Poisson(2)).chance(below=0), 1 - math.exp(-2))
        with self.fails("two laws cannot be added", "drivers"):
            _ = kd.Normal(0, 1) + kd.Normal(0, 1)

    def test_moments_that_do_not_exist(self):
        self.assertTrue(all(math.isnan(x) for x in (kd.Cauchy(0, 1).mean, kd.Cauchy(0, 1).sd)))
        self.assertEqual((kd.Pareto(1.5, 1).mean, kd.Pareto(1.5, 1).variance), (3, math.inf))
        self.assertEqual((kd.Pareto(0.5, 1).mean, kd.GeneralizedPareto(0, 1, 1.2).mean), (math.inf, math.inf))
        self.assertEqual(kd.StudentT.from_location(1.5, 0, 1).variance, math.inf)


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
        compound = kd.Compound(kd.Poisson(3), kd.Exponential(5))
        for law in [law for law, _ in LAWS + COUNTS] + [DiscreteLaw.law, kd.Normal(0.1 + 0.2, 1e-9), compound]:
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
            (lambda: kd.Compound(kd.Normal(3, 1), kd.Exponential(1)), ("count must be a law on whole numbers",)),
            (lambda: kd.Compound(kd.Poisson(3), kd.Normal(1, 1)), ("size must not be negative",)),
            (lambda: 0 * kd.Normal(0, 1), ("factor", "other than 0")),
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
            shown = example(law)
            self.assertIs(type(shown), law)
            self.assertTrue(math.isfinite(shown.percentile(50)))
            law_from(name, parameters_of(shown))

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
