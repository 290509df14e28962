"""Tests of the solvers: optimality conditions, exact corners, measures of loss, and regions that
cannot be met.
"""

from itertools import pairwise

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import optimize

import kindynos as kd
from kindynos.markets.allocation.critical_line import corners, vertex
from kindynos.markets.allocation.linear import LinearAim, best_linear
from kindynos.markets.allocation.losses import MaxDrawdown, WorstMean
from kindynos.markets.allocation.path import path_of
from kindynos.markets.allocation.region import Region, WeightRow
from tests.common import Case


def region(size, low=0.0, high=1.0, **options):
    return Region(
        [f"a{i}" for i in range(size)], np.full(size, low), np.full(size, high), **options
    )


def problem(seed, size):
    rng = np.random.default_rng(seed)
    loadings = rng.normal(size=(size, size))
    return rng.normal(1e-3, 1e-3, size), loadings @ loadings.T * 1e-5 + np.diag(
        rng.uniform(1e-5, 1e-4, size)
    )


class Lines(Case):
    def test_optimality_along_the_whole_line(self):
        """Between corners, for some trade-off, every gradient has the sign that its bound allows
        (Karush, Kuhn and Tucker).
        """
        for seed in range(6):
            means, matrix = problem(seed, 9)
            found = corners(region(9, 0.02, 0.4).system(), matrix, means)
            for begin, end in pairwise(found):
                weights = (begin + end) / 2
                inside = (weights > 0.02 + 1e-9) & (weights < 0.4 - 1e-9)
                gradient = matrix @ weights
                # S w = t m + u on the inside: two unknowns by least squares, exact where weights
                # are optimal.
                columns = np.stack([means[inside], np.ones(inside.sum())], axis=1)
                (trade_off, base), *_ = np.linalg.lstsq(columns, gradient[inside], rcond=None)
                rest = gradient - trade_off * means - base
                self.assertLess(np.abs(rest[inside]).max(), 1e-12)
                if inside.sum() > 1:
                    self.assertGreaterEqual(trade_off, -1e-9)
                    self.assertGreaterEqual(rest[weights <= 0.02 + 1e-9].min(initial=0.0), -1e-10)
                    self.assertLessEqual(rest[weights >= 0.4 - 1e-9].max(initial=0.0), 1e-10)

    def test_two_holdings_by_hand(self):
        found = corners(region(2).system(), np.diag([1.0, 3.0]), np.array([0.1, 0.2]))
        np.testing.assert_allclose(found, [[0.75, 0.25], [0.0, 1.0]], atol=1e-12)

    def test_equal_means_have_one_corner(self):
        found = corners(region(4).system(), np.diag([1.0, 2.0, 4.0, 8.0]), np.full(4, 0.1))
        self.assertEqual(len(found), 1)
        np.testing.assert_allclose(found[0], np.array([8, 4, 2, 1]) / 15)

    def test_weights_that_may_not_change(self):
        fixed = Region(["a", "b", "c"], np.array([0.3, 0.0, 0.0]), np.array([0.3, 1.0, 1.0]))
        found = corners(fixed.system(), np.eye(3), np.array([0.0, 0.1, 0.2]))
        np.testing.assert_allclose(found, [[0.3, 0.35, 0.35], [0.3, 0.0, 0.7]], atol=1e-12)
        only = Region(["a", "b"], np.array([0.4, 0.6]), np.array([0.4, 0.6]))
        np.testing.assert_allclose(
            corners(only.system(), np.eye(2), np.array([0.1, 0.2])), [[0.4, 0.6]]
        )

    @settings(max_examples=25, deadline=None)
    @given(
        seed=st.integers(0, 10_000),
        size=st.integers(2, 9),
        trading=st.booleans(),
        grouped=st.booleans(),
    )
    def test_any_region(self, seed, size, trading, grouped):
        rng = np.random.default_rng(seed)
        means, matrix = problem(seed, size)
        today = rng.dirichlet(np.ones(size))
        options = {"today": today, "turnover": 0.5, "cost": 1e-4} if trading else {}
        inside = np.zeros(size)
        inside[: size // 2] = 1.0
        rows = (
            (WeightRow("half", inside, float(inside @ today) - 0.05, float(inside @ today) + 0.05),)
            if grouped
            else ()
        )
        one = Region([str(i) for i in range(size)], np.zeros(size), np.ones(size), rows, **options)
        path = path_of(one, means, matrix)
        self.assertLess(np.abs(path.corners.sum(axis=1) - 1).max(), 1e-9)
        self.assertGreater(path.corners.min(), -1e-9)
        self.assertTrue((np.diff(path.means) > -1e-12).all() and (np.diff(path.sds) > -1e-12).all())
        if trading:
            self.assertLess(np.abs(path.corners - today).sum(axis=1).max(), 0.5 + 1e-9)
        if grouped:
            self.assertLess(np.abs(path.corners @ inside - inside @ today).max(), 0.05 + 1e-9)
        system = one.system()
        gain = -system.cost
        gain[:size] += means
        self.assertAlmostEqual(float(gain @ vertex(system, gain)), path.means[-1], places=10)

    def test_points_of_a_path(self):
        means, matrix = problem(3, 6)
        path = path_of(region(6, 0.0, 0.5), means, matrix)
        for share in (0.1, 0.5, 0.9):
            mean = path.means[0] + share * (path.means[-1] - path.means[0])
            weights = path.of_mean(mean)
            self.assertAlmostEqual(weights @ means, mean)
            sd = float(np.sqrt(weights @ matrix @ weights))
            np.testing.assert_allclose(path.of_sd(sd), weights, atol=1e-7)
        least = path.least(1.6)
        for weights in path.corners:
            gap = 1.6 * np.sqrt(weights @ matrix @ weights) - weights @ means
            self.assertGreaterEqual(
                gap, 1.6 * np.sqrt(least @ matrix @ least) - least @ means - 1e-15
            )


class Measures(Case):
    def setUp(self):
        self.returns = np.random.default_rng(4).standard_t(4, (201, 4)) * 0.01
        self.weights = np.array([0.4, 0.3, 0.2, 0.1])

    def test_mean_of_the_worst(self):
        losses = np.sort(-self.returns @ self.weights)[::-1]
        self.assertAlmostEqual(WorstMean(self.returns, 10).value(self.weights), losses[:10].mean())
        part = (losses[:10].sum() + 0.05 * losses[10]) / 10.05
        self.assertAlmostEqual(WorstMean(self.returns, 10.05).value(self.weights), part)
        quantile = optimize.minimize_scalar(
            lambda q: q + np.maximum(losses - q, 0).sum() / 10.05,
            bounds=(0, 0.1),
            method="bounded",
            options={"xatol": 1e-12},
        )
        self.assertAlmostEqual(quantile.fun, part)

    def test_gradients(self):
        for measure in (WorstMean(self.returns, 10.05), MaxDrawdown(self.returns)):
            gradient = measure.gradient(self.weights)
            self.assertAlmostEqual(gradient @ self.weights, measure.value(self.weights))
            for place in range(4):
                step = np.zeros(4)
                step[place] = 1e-7
                by_difference = (
                    measure.value(self.weights + step) - measure.value(self.weights - step)
                ) / 2e-7
                self.assertAlmostEqual(gradient[place], by_difference, places=6)

    def test_models_lie_below(self):
        for measure in (WorstMean(self.returns, 10.05), MaxDrawdown(self.returns)):
            measure.start(self.weights)
            model = measure.model()
            for other in np.random.default_rng(1).dirichlet(np.ones(4), 20):
                count = len(model.lower)
                cost = model.cost[4:]
                found = optimize.linprog(
                    cost,
                    model.rows[:, 4:],
                    -model.rows[:, :4] @ other,
                    bounds=[(low, None) for low in model.lower],
                )
                self.assertEqual(len(found.x), count)
                self.assertLessEqual(
                    found.fun + model.cost[:4] @ other, measure.value(other) + 1e-12
                )

    def test_a_fall_by_hand(self):
        returns = np.array([[0.1], [-0.3], [0.1], [-0.2], [0.5], [-0.1]])
        self.assertAlmostEqual(MaxDrawdown(returns).value(np.ones(1)), 0.4)  # 0.1 to -0.3
        self.assertAlmostEqual(MaxDrawdown(-returns).value(np.ones(1)), 0.5)

    def test_linear_aims(self):
        means = self.returns.mean(axis=0)
        top = best_linear(region(4, 0.0, 0.5), LinearAim(means), self.weights)
        order = np.argsort(-means)
        np.testing.assert_allclose(top[order], [0.5, 0.5, 0, 0], atol=1e-12)
        mixed = LinearAim(means, 0.1, WorstMean(self.returns, 10))
        best = best_linear(region(4), mixed, self.weights)
        for other in np.random.default_rng(1).dirichlet(np.ones(4), 300):
            self.assertLessEqual(
                mixed.worth(region(4), best), mixed.worth(region(4), other) + 1e-12
            )


class Impossible(Case):
    moments = kd.Moments([0.01, 0.02, 0.03], np.diag([1.0, 2.0, 3.0]) * 1e-4, names=list("abc"))

    def test_groups_that_conflict(self):
        # the first has a and b, the second c
        with self.fails("groups a and b and c cannot be met together"):
            kd.allocate(
                self.moments,
                groups={("a", "b"): (0.9, 1.0), ("c",): (0.3, 1.0), ("b",): (0.0, 0.9)},
            )
        kd.allocate(self.moments, groups={("a", "b"): (0.9, 1.0), ("b", "c"): (0.1, 1.0)})

    def test_turnover_that_is_too_small_for_the_groups(self):
        today = {"a": 1.0}
        with self.fails(
            "to meet bounds and groups 0.6 must be bought and sold, above the turnover 0.2"
        ):
            kd.allocate(self.moments, today=today, turnover=0.2, groups={("b", "c"): (0.3, 0.5)})
        found = kd.allocate(
            self.moments, today=today, turnover=0.6, groups={("b", "c"): (0.3, 0.5)}
        )
        self.assertAlmostEqual(found.weights["a"], 0.7)

    def test_groups_with_their_names(self):
        found = kd.allocate(self.moments, minimize="sd", groups={"later": (["b", "c"], 0.7, 0.9)})
        self.assertAlmostEqual(found.weights["a"], 0.3)
        self.assertIn(
            ("group, low end", "later"),
            set(zip(found.binding()["kind"], found.binding()["name"], strict=True)),
        )

    def test_no_mean_above_the_rate(self):
        with self.fails("no weights have a mean above the rate 0.05; the highest is 0.03"):
            kd.allocate(self.moments, maximize="ratio", rate=0.05)
        with self.fails("shares of the value, not per cent"):
            kd.allocate(self.moments, bounds={"a": (0, 50)})
