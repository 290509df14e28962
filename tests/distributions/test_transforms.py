"""Tests of transforms."""

import math

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

import kindynos as kd
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import example
from tests.common import Case

DISTRIBUTIONS = {name: example(distribution) for name, distribution in CATALOGUE.items()}


SMOOTH = {
    name: distribution for name, distribution in DISTRIBUTIONS.items() if not distribution.has_atoms
}


U = np.concatenate(
    [np.logspace(-9, -2, 30), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -9, 30)]
)


class Transformed(Case):
    def test_moving_and_stretching(self):
        for name, distribution in DISTRIBUTIONS.items():
            if not math.isfinite(distribution.variance):
                continue
            with self.subTest(name=name):
                moved = 3 * distribution + 2
                self.assertAlmostEqual(moved.mean, 3 * distribution.mean + 2, places=9)
                self.assertAlmostEqual(moved.sd, 3 * distribution.sd, places=9)
                np.testing.assert_allclose(
                    moved.quantile(U), 3 * distribution.quantile(U) + 2, rtol=1e-12
                )
                x = distribution.quantile(0.7)
                self.assertAlmostEqual(
                    moved.cdf(3 * x + 2 + 1e-9), distribution.cdf(x + 1e-9), places=6
                )
                self.assertEqual(moved.discrete, distribution.discrete)

    def test_turning_round(self):
        for name, distribution in SMOOTH.items():
            with self.subTest(name=name):
                middle = np.linspace(0.02, 0.98, 49)
                np.testing.assert_allclose(
                    (-distribution).quantile(middle),
                    -distribution._upper_quantile(middle),
                    rtol=1e-12,
                )
                x = distribution.quantile(0.3)
                self.assertAlmostEqual(
                    (-distribution).chance(below=-x), distribution.chance(above=x), places=12
                )

    def test_truncating(self):
        for name, distribution in DISTRIBUTIONS.items():
            low, high = distribution.quantile([0.2, 0.8])
            if not low < high or distribution.label == "truncated":
                continue
            with self.subTest(name=name):
                cut = distribution.truncate(low, high)
                inside = (
                    distribution.chance(below=high)
                    + distribution.chance(at=high)
                    - distribution.chance(below=low)
                )
                x = distribution.quantile(0.6)
                self.assertAlmostEqual(
                    cut.chance(below=x),
                    (distribution.chance(below=x) - distribution.chance(below=low)) / inside,
                    places=7,
                )
                self.assertTrue(low <= cut.mean <= high)
                self.assertTrue((cut.quantile(U) >= low).all() and (cut.quantile(U) <= high).all())

    def test_clipping(self):
        for name, distribution in SMOOTH.items():
            low, high = distribution.quantile([0.2, 0.9])
            with self.subTest(name=name):
                clipped = kd.Clipped(distribution, low, high)
                self.assertAlmostEqual(clipped.chance(at=low), 0.2, places=9)
                self.assertAlmostEqual(clipped.chance(at=high), 0.1, places=9)
                u = (np.arange(200_000) + 0.5) / 200_000
                self.assertAlmostEqual(
                    clipped.mean, clipped.quantile(u).mean(), delta=1e-4 * (high - low)
                )

    @settings(max_examples=40, deadline=None)
    @given(
        st.sampled_from(sorted(SMOOTH)),
        st.sampled_from(sorted(SMOOTH)),
        st.floats(0.05, 0.95),
        st.floats(0.001, 0.999),
    )
    def test_a_mixture_of_any_two(self, one, other, weight, level):
        first, second = SMOOTH[one], SMOOTH[other]
        mixed = kd.Mixture([first, second], [weight, 1 - weight])
        x = mixed.quantile(level)
        self.assertAlmostEqual(
            weight * first.cdf(x) + (1 - weight) * second.cdf(x), level, places=9
        )
        if math.isfinite(first.mean) and math.isfinite(second.mean):
            self.assertAlmostEqual(
                mixed.mean, weight * first.mean + (1 - weight) * second.mean, places=6
            )


class Transforms(Case):
    def test_empirical_is_numpys_percentile(self):
        values = np.random.default_rng(2).gamma(2, 3, 40)
        np.testing.assert_allclose(
            kd.Empirical(values).percentile([3, 50, 97]), np.percentile(values, [3, 50, 97])
        )
        steps = kd.Empirical([2, 2, 5], steps=True)
        self.assertEqual(
            (steps.pmf(2), steps.mean, steps.quantile(0.5), steps.quantile(0.9)), (2 / 3, 3, 2, 5)
        )
        tied = kd.Empirical([1, 2, 2, 3])
        self.assertAlmostEqual(tied.chance(at=2), 1 / 3)

    def test_a_risk_event_is_nothing_or_its_impact(self):
        cost, p = kd.Gamma(3, 4), 0.2
        event = kd.EventImpact(p, cost)
        x, exact = np.array([1.0, 8.0, 30.0]), stats.gamma(3, scale=4)
        np.testing.assert_allclose(event.cdf(x), 1 - p + p * exact.cdf(x), rtol=1e-12)
        self.assertAlmostEqual(event.chance(at=0), 0.8, 12)
        self.assertEqual(event.quantile(0.8), 0.0)
        self.assertAlmostEqual(event.quantile(0.9), exact.ppf(0.5), 9)
        self.assertAlmostEqual(event._upper_quantile(np.array([0.01]))[0], exact.isf(0.05), 8)
        moments = [p * exact.moment(k) for k in (1, 2, 3)]
        self.assertAlmostEqual(event.mean, moments[0], 9)
        variance = moments[1] - moments[0] ** 2
        self.assertAlmostEqual(event.variance, variance, 6)
        third = moments[2] - 3 * moments[0] * moments[1] + 2 * moments[0] ** 3
        self.assertAlmostEqual(event.skewness, third / variance**1.5, 6)
        # an event that may save as well
        either = kd.EventImpact(0.5, kd.Normal(0, 1))
        np.testing.assert_allclose(
            either.quantile([0.1, 0.25, 0.5, 0.75, 0.9]),
            [stats.norm.ppf(0.2), 0, 0, 0, stats.norm.ppf(0.8)],
            atol=1e-12,
        )
        np.testing.assert_allclose(
            either._upper_quantile(np.array([0.1, 0.5, 0.9])),
            [stats.norm.isf(0.2), 0, stats.norm.isf(0.8)],
        )
        self.assertEqual(kd.EventImpact(0, cost).quantile(0.99), 0.0)
        self.assertAlmostEqual(kd.EventImpact(1, cost).quantile(0.3), exact.ppf(0.3), 9)
        counted = kd.EventImpact(0.5, kd.Poisson(2))
        self.assertAlmostEqual(counted.pmf(0), 0.5 + 0.5 * math.exp(-2), 12)
        self.assertAlmostEqual(counted.pmf(1), math.exp(-2), 12)
        with self.fails("probability"):
            kd.EventImpact(1.2, cost)

    def test_clipped(self):
        distribution = kd.Clipped(kd.Normal(0, 1), low=-1, high=2)
        z = np.random.default_rng(1).normal(size=2_000_000).clip(-1, 2)
        self.assertAlmostEqual(distribution.mean, z.mean(), delta=0.003)
        self.assertAlmostEqual(distribution.sd, z.std(), delta=0.003)
        self.assertAlmostEqual(distribution.chance(at=-1), stats.norm.cdf(-1))
        self.assertAlmostEqual(distribution.chance(below=2), stats.norm.cdf(2))
        self.assertEqual(distribution.quantile(0.01), -1)
        self.assertAlmostEqual(
            kd.Clipped(kd.Poisson(2), high=3).mean,
            np.minimum(np.arange(60), 3) @ stats.poisson(2).pmf(np.arange(60)),
        )

    def test_mixture(self):
        distribution = kd.Mixture([kd.Normal(10, 1), kd.Normal(20, 3)], [1, 3])
        self.assertAlmostEqual(distribution.mean, 17.5)
        self.assertAlmostEqual(distribution.variance, 0.25 * 1 + 0.75 * 9 + 0.25 * 0.75 * 100)
        self.assertAlmostEqual(
            distribution.cdf(15), 0.25 * stats.norm.cdf(5) + 0.75 * stats.norm.cdf(-5 / 3)
        )
        some = kd.Mixture([kd.Discrete([0], [1]), kd.Exponential(5)], [0.4, 0.6])
        self.assertEqual((some.quantile(0.4), some.chance(at=0)), (0, 0.4))
        self.assertAlmostEqual(some.quantile(0.7), -5 * math.log(0.5))
        dice = kd.Mixture([kd.IntegerUniform(1, 6), kd.Discrete([6], [1])])
        self.assertAlmostEqual(dice.pmf(6), 0.5 + 0.5 / 6)
        self.assertAlmostEqual(dice.skewness, stats.skew([1, 2, 3, 4, 5, 6] + [6] * 6))

    def test_compound_against_closed_forms(self):
        distribution = kd.Compound(kd.Poisson(3), kd.Exponential(5))
        k = np.arange(1, 80)
        for x in (0, 1, 10, 30, 80):
            exact = stats.poisson.pmf(0, 3) + stats.poisson.pmf(k, 3) @ stats.gamma.cdf(
                x, k, scale=5
            )
            self.assertAlmostEqual(distribution.cdf(x), exact, delta=2e-6)
        self.assertAlmostEqual(distribution.mean, 15)
        self.assertAlmostEqual(distribution.variance, 3 * 50)
        self.assertAlmostEqual(distribution.skewness, 3 * 6 * 125 / (3 * 50) ** 1.5)
        self.assertAlmostEqual(distribution.chance(at=0), math.exp(-3))
        u = np.linspace(0.06, 0.999999, 500)
        np.testing.assert_allclose(distribution.cdf(distribution.quantile(u)), u, atol=1e-6)
        certain = kd.Compound(kd.Binomial(10, 0.3), kd.Discrete([1], [1]))
        self.assertAlmostEqual(certain.cdf(3.5), stats.binom.cdf(3, 10, 0.3), delta=1e-12)

    def test_compound_on_multiples_and_with_heavy_tails(self):
        fares = kd.Compound(kd.Poisson(1), kd.Discrete([0.3, 7], [0.5, 0.5]))
        pairs = np.array([(a, b) for a in range(40) for b in range(40)])
        chances = stats.poisson.pmf(pairs[:, 0], 0.5) * stats.poisson.pmf(pairs[:, 1], 0.5)
        values = pairs @ [0.3, 7]
        for x in (0, 0.3, 0.6, 7, 7.3, 14.3):
            self.assertAlmostEqual(
                fares.chance(at=x), chances[np.abs(values - x) < 1e-9].sum(), delta=1e-12
            )
        self.assertEqual(fares.chance(at=0.45), 0)
        drawn = np.unique(fares.sample(20_000, seed=1))
        self.assertLessEqual(np.abs(drawn[:, None] - values).min(axis=1).max(), 1e-12)
        self.assertAlmostEqual(
            kd.Compound(kd.Binomial(10, 0.3), kd.Discrete([1], [1])).chance(at=3),
            stats.binom.pmf(3, 10, 0.3),
        )
        many = kd.Compound(kd.Poisson(10_000), kd.Gamma(2, 5))
        self.assertAlmostEqual(many.quantile(0.5) / many.mean, 1, delta=1e-3)
        # no common divisor: a fine grid
        roots = kd.Compound(kd.Poisson(0.5), kd.Discrete([1, math.sqrt(2)], [0.5, 0.5]))
        self.assertAlmostEqual(roots.quantile(0.7), 1, delta=0.001)
        size = kd.LogNormal(1000, 3000)
        rare = kd.Compound(kd.Poisson(0.001), size)
        for x in (1e4, 1e6, 3e7):
            self.assertAlmostEqual(
                rare.chance(above=x) / (0.001 * size.chance(above=x)), 1, delta=0.01
            )

    def test_truncated_far_out_keeps_its_digits(self):
        distribution, v = kd.Normal(0, 1).truncate(1, None), np.array([1e-10, 1e-4, 0.3])
        np.testing.assert_allclose(
            distribution.quantile(1 - v[1:]), stats.norm.isf(v[1:] * stats.norm.sf(1)), rtol=1e-12
        )
        self.assertAlmostEqual(kd.Poisson(2).truncate(1, None).mean, 2 / (1 - math.exp(-2)))

    def test_arithmetic(self):
        distribution = 2 * kd.Exponential(5) + 3
        self.assertEqual(
            (distribution.mean, distribution.sd, distribution.support), (13, 10, (3, math.inf))
        )
        self.assertEqual(3 - (2 * kd.Normal(1, 1) - 4) / 2, kd.Affine(kd.Normal(1, 1), -1, 5))
        self.assertEqual((-kd.Poisson(2)).chance(below=0), 1 - math.exp(-2))
        with self.fails("two distributions cannot be added", "drivers"):
            _ = kd.Normal(0, 1) + kd.Normal(0, 1)

    def test_moments_that_do_not_exist(self):
        self.assertTrue(all(math.isnan(x) for x in (kd.Cauchy(0, 1).mean, kd.Cauchy(0, 1).sd)))
        self.assertEqual((kd.Pareto(1.5, 1).mean, kd.Pareto(1.5, 1).variance), (3, math.inf))
        self.assertEqual(
            (kd.Pareto(0.5, 1).mean, kd.GeneralizedPareto(0, 1, 1.2).mean), (math.inf, math.inf)
        )
        self.assertEqual(kd.StudentT.from_location(1.5, 0, 1).variance, math.inf)
