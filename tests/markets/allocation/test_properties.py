"""Tests of what must hold whatever the numbers: scale, order of the holdings, looser limits, and
agreement of the aims.
"""

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import HELD, PRICES, Case


def moments(seed=2, size=7):
    rng = np.random.default_rng(seed)
    loadings = rng.normal(size=(size, size))
    covariance = loadings @ loadings.T / size * 4e-4 + np.diag(rng.uniform(1e-5, 4e-4, size))
    return rng.normal(8e-4, 1e-3, size), covariance


def scenarios(seed=5, count=400, size=5):
    rng = np.random.default_rng(seed)
    return pd.DataFrame(0.01 * rng.standard_t(5, (count, size)) + 2e-4, columns=list("vwxyz"))


class Scale(Case):
    def test_moments_in_other_units(self):
        means, covariance = moments()
        plain = kd.Moments(means, covariance)
        limit = 1.3 * kd.allocate(plain, minimize="sd").sd
        for factor in (1e-3, 100.0, 1e5):
            other = kd.Moments(factor * means, factor**2 * covariance)
            for aim, scaled in (
                ({"minimize": "sd"}, {"minimize": "sd"}),
                ({"maximize": "ratio"}, {"maximize": "ratio"}),
                ({"limits": {"sd": limit}}, {"limits": {"sd": factor * limit}}),
                ({"minimize": "expected_shortfall"}, {"minimize": "expected_shortfall"}),
                ({"minimize": "parity"}, {"minimize": "parity"}),
            ):
                with self.subTest(factor=factor, aim=aim):
                    first, second = (
                        kd.allocate(plain, **aim).weights,
                        kd.allocate(other, **scaled).weights,
                    )
                    np.testing.assert_allclose(second, first, atol=1e-6)

    def test_scenarios_in_other_units(self):
        frame = scenarios()
        for factor in (0.01, 1_000.0):
            one, other = kd.SimulatedReturns(frame), kd.SimulatedReturns(factor * frame)
            first = kd.allocate(one, minimize="expected_shortfall")
            second = kd.allocate(other, minimize="expected_shortfall")
            np.testing.assert_allclose(second.weights, first.weights, atol=1e-7)
            self.assertAlmostEqual(second.expected_shortfall() / factor, first.expected_shortfall())


class Order(Case):
    def test_of_the_holdings_does_not_matter(self):
        means, covariance = moments()
        names = [f"a{i}" for i in range(7)]
        order = [3, 0, 6, 1, 5, 2, 4]
        plain = kd.Moments(means, covariance, names)
        turned = kd.Moments(
            means[order], covariance[np.ix_(order, order)], [names[i] for i in order]
        )
        for aim in (
            {"minimize": "sd"},
            {"maximize": "ratio"},
            {"limits": {"sd": 0.02}},
            {"minimize": "parity"},
        ):
            first = kd.allocate(plain, bounds=(0.02, 0.5), **aim)
            second = kd.allocate(turned, bounds=(0.02, 0.5), **aim)
            np.testing.assert_allclose(second.weights[names], first.weights, atol=1e-8)
        one, two = kd.frontier(plain).table(), kd.frontier(turned).table()
        np.testing.assert_allclose(two[names], one[names], atol=1e-8)

    def test_of_the_scenarios_does_not_matter(self):
        frame = scenarios()
        turned = frame.sample(frac=1, random_state=1)
        first = kd.allocate(kd.SimulatedReturns(frame), minimize="expected_shortfall").weights
        second = kd.allocate(kd.SimulatedReturns(turned), minimize="expected_shortfall").weights
        np.testing.assert_allclose(second, first, atol=1e-7)


class Loosening(Case):
    def test_more_room_is_never_worse(self):
        means, covariance = moments()
        plain = kd.Moments(means, covariance)
        ends = ((0.1, 0.2), (0.05, 0.3), (0, 0.5), (0, 1))
        tight = [kd.allocate(plain, bounds=pair, minimize="sd").sd for pair in ends]
        self.assertEqual(tight, sorted(tight, reverse=True))
        least = kd.allocate(plain, minimize="sd").sd
        means_reached = [
            kd.allocate(plain, limits={"sd": factor * least}).mean
            for factor in (1.01, 1.2, 1.5, 3.0)
        ]
        self.assertEqual(means_reached, sorted(means_reached))
        short = kd.allocate(plain, minimize="sd", short=True)
        self.assertLessEqual(short.sd, least)
        self.assertAlmostEqual(short.weights.sum(), 1)
        self.assertTrue((short.weights >= -1 - 1e-9).all())

    def test_gains_are_never_below_zero(self):
        found = kd.allocate(
            HELD, limits={"sd": 0.02, "expected_shortfall": 0.05}, bounds=(0.1, 0.6)
        )
        self.assertTrue((found.binding()["gain"] >= -1e-12).all())
        self.assertTrue(set(found.binding()["kind"]) <= {"lower bound", "upper bound", "limit"})


class Agreement(Case):
    def test_aims_and_limits_are_two_sides_of_one_frontier(self):
        source = kd.SimulatedReturns(scenarios())
        best = kd.allocate(source, limits={"expected_shortfall": 0.012})
        back = kd.allocate(source, minimize="expected_shortfall", limits={"mean": best.mean})
        self.assertAlmostEqual(back.expected_shortfall(), best.expected_shortfall(), places=8)
        means, covariance = moments()
        plain = kd.Moments(means, covariance)
        best = kd.allocate(plain, limits={"sd": 0.02})
        np.testing.assert_allclose(
            kd.allocate(plain, minimize="sd", limits={"mean": best.mean}).weights,
            best.weights,
            atol=1e-6,
        )

    def test_whatever_the_source(self):
        frame = kd.markets.returns(PRICES).frame
        by_prices = kd.allocate(PRICES, minimize="sd").weights
        np.testing.assert_allclose(
            kd.allocate(kd.markets.returns(PRICES), minimize="sd").weights, by_prices
        )
        np.testing.assert_allclose(
            kd.allocate(kd.Moments(frame.mean(), frame.cov()), minimize="sd").weights, by_prices
        )
        np.testing.assert_allclose(
            kd.allocate(kd.SimulatedReturns(frame), minimize="sd").weights, by_prices
        )
        np.testing.assert_allclose(kd.allocate(HELD, minimize="sd").weights, by_prices)

    def test_figures_of_the_table(self):
        found = kd.allocate(HELD, minimize="sd", level=0.9)
        table = found.table()
        self.assertEqual(list(table.columns), ["today", "best"])
        losses = -(kd.markets.returns(PRICES).frame @ HELD.weights)
        self.assertAlmostEqual(
            table.loc["value at risk 90 %", "today"], float(np.quantile(losses, 0.9))
        )
        self.assertAlmostEqual(table.loc["sd", "today"], float(losses.std()))
        self.assertAlmostEqual(table.loc["ratio", "best"], found.mean / found.sd)
        shares = found.contributions()
        self.assertAlmostEqual(shares["share of risk, best"].sum(), 1)
        self.assertAlmostEqual(shares["share of risk, today"].sum(), 1)
        inside = found.weights > 1e-9  # of the least variance without bounds each adds its weight
        np.testing.assert_allclose(
            shares["share of risk, best"][inside], found.weights[inside], atol=1e-9
        )
