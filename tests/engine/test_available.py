"""Tests of work that is measured before it starts: refused in words where it would not fit."""

from unittest import mock

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.distributions import from_data
from kindynos.engine import available
from tests.common import Case


class Measured(Case):
    def test_what_would_not_fit_is_refused_before_it_starts(self):
        walk = kd.RandomWalk(1.0, 0.0, 1.0)
        cohort = kd.Cohort(["a", "b"], {"a": 1000}, {"a": {"b": 0.1, "a": 0.9}})
        pair = kd.PathSet({"x": walk, "y": walk})
        model = kd.Model("m")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("y", "x")
        history = np.cumsum(np.random.default_rng(1).standard_normal(80)) + 100
        smooth = kd.ExponentialSmoothing.fit(history)
        for call, words in (
            (lambda: walk.paths(10, 10**12), ("1,000,000,000,000 trials of 10 periods", "GB")),
            (lambda: walk.paths(10**10, 1), ("1 trials of 10,000,000,000 periods", "GB")),
            (
                lambda: kd.GeometricBrownianMotion(1.0, 0.0, 0.1).max_drawdowns(5, 10**12),
                ("GB of memory are available",),
            ),
            (lambda: pair.paths(10, 10**11), ("GB",)),
            (lambda: cohort.counts(10, 10**11), ("2 states over 10 periods", "GB")),
            (lambda: cohort.counts(10**9, 10), ("at most 100,000", "1000000000")),
            (lambda: cohort.expected(10**9), ("at most 100,000",)),
            (lambda: kd.Normal(0, 1).sample(4 * 10**9), ("4,000,000,000 draws take", "GB")),
            (lambda: model.simulate(10**12), ("2 figures kept of each of", "GB")),
            (lambda: smooth.distribution_at(10**8), ("at most 100,000 periods ahead",)),
            (lambda: smooth.expected([1, 10**9]), ("at most 100,000 periods ahead",)),
            (lambda: kd.KernelDensity(np.arange(3e5)), ("at most 200,000 values", "Empirical")),
            (lambda: kd.fit_distributions(history, samples=10**6), ("samples", "at most 100,000")),
            (lambda: smooth.estimate(float, 10**6), ("draws", "at most 10,000")),
            (
                lambda: kd.frontier(kd.Moments([0.1, 0.2], np.eye(2)), points=10**4),
                ("points", "at most 1,000"),
            ),
            (lambda: kd.nearest_correlation(np.eye(2001)), ("at most 2,000 rows, not 2,001",)),
        ):
            with self.subTest(words), self.fails(*words):
                call()

    def test_the_least_of_several_limits_counts(self):
        names = ("_free", "_left_by_container", "_left_by_limit")
        for least in names:
            sizes = {name: 1e6 if name == least else 1e12 for name in names}
            with mock.patch.multiple(
                available, **{name: (lambda size=size: size) for name, size in sizes.items()}
            ):
                self.assertEqual(available.available_memory(), 1e6)
                available.check_memory("they", 0.9e6)
                with self.fails("they take 1 MB, and 1 MB of memory are available"):
                    available.check_memory("they", 1e6)
        self.assertGreater(available.available_memory(), 1e6)

    def test_a_container_and_a_process_have_limits(self):
        with mock.patch.object(available, "GROUP", available.Path("/nothing")):
            self.assertEqual(available._left_by_container(), float("inf"))


class ManyKernels(Case):
    def test_polynomials_give_what_the_sum_over_all_values_gives(self):
        rng = np.random.default_rng(3)
        values = np.concatenate([rng.normal(0, 1, 400), rng.normal(60, 2, 300), [500.0]])
        density = kd.KernelDensity(values, bandwidth=0.4)
        x = np.concatenate([np.linspace(-9, 75, 3001), [-50.0, 30.0, 499.0, 500.5, 600.0]])
        with mock.patch.object(from_data, "MANY", 0):
            fast = density.cdf(x), density._survival(x), density.pdf(x)
        gaps = (x[:, None] - values) / 0.4
        np.testing.assert_allclose(fast[0], stats.norm.cdf(gaps).mean(axis=1), atol=1e-10)
        np.testing.assert_allclose(fast[1], stats.norm.sf(gaps).mean(axis=1), atol=1e-10)
        np.testing.assert_allclose(fast[2], stats.norm.pdf(gaps).mean(axis=1) / 0.4, atol=1e-8)
