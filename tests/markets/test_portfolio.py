"""Tests of portfolio."""

import copy
import pickle

import numpy as np

import kindynos as kd
from tests.common import PRICES, Case, made


class Holding(Case):
    def test_weights_drift_or_are_set_back(self):
        weights = {"alpha": 0.5, "gamma": 0.5}
        left = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02")
        growth = (PRICES.frame.iloc[-1] / PRICES.frame.loc["2026-03-02"])[["alpha", "gamma"]]
        self.assertAlmostEqual(left.value, 5e5 * growth.sum())
        np.testing.assert_allclose(left.weights, growth / growth.sum())
        daily = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="daily")
        np.testing.assert_allclose(daily.weights, 0.5)
        mean = PRICES.frame[["alpha", "gamma"]].pct_change().loc["2026-03-03":].mean(axis=1)
        self.assertAlmostEqual(daily.value, 1e6 * (1 + mean).prod(), 2)
        monthly = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="monthly").history()
        month = monthly.index.to_period("M")
        np.testing.assert_allclose(monthly["alpha"][1:][month[1:] != month[:-1]], 0.5)
        self.assertGreater(np.ptp(monthly["alpha"]), 0.01)
        self.assertEqual(kd.Portfolio(PRICES, weights=weights, value=5.0).value, 5.0)

    def test_mistakes(self):
        for options, words in (
            ({}, ("shares= or weights=",)),
            ({"shares": {"alpha": 1}, "weights": {"alpha": 1}}, ("one of them",)),
            ({"shares": {"alhpa": 1}}, ("did you mean 'alpha'",)),
            ({"weights": {"alpha": 0.5, "beta": 0.4}, "value": 1}, ("add up to 0.9",)),
            ({"weights": {"alpha": 1.5, "beta": -0.5}, "value": 1}, ("short=True",)),
            ({"shares": {"alpha": 1}, "value": 3}, ("value=",)),
            ({"shares": {"alpha": 1}, "as_of": "2020-01-01"}, ("no date with prices",)),
            ({"weights": {"alpha": 1.0}, "rebalance": "yearly"}, ("rebalance",)),
            ({"shares": {}}, ("nothing",)),
            ({"shares": {"alpha": 0, "beta": 0}}, ("nothing",)),
            ({"shares": {"alpha": 1}, "as_of": "soon"}, ("as_of", "2027-12-31", "'soon'")),
            ({"weights": {"alpha": 60, "beta": 40}, "value": 1}, ("add up to 100", "0.6 for 60 %")),
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.Portfolio(PRICES, **options)

    def test_a_table_of_prices_will_do(self):
        frame = made(60)
        self.assertEqual(kd.Portfolio(frame, shares={"alpha": 1}).value, frame["alpha"].iloc[-1])
        np.testing.assert_allclose(kd.returns(frame).frame, kd.returns(kd.read_prices(frame)).frame)
        with self.fails("prices", "DataFrame"):
            kd.Portfolio([1, 2], shares={"alpha": 1})

    def test_positions_that_are_worth_nothing_together(self):
        last = PRICES.frame.iloc[-1]
        held = kd.Portfolio(PRICES, shares={"alpha": last["beta"], "beta": -last["alpha"]}, short=True)
        figure = held.value_at_risk(0.95)
        self.assertGreater(figure, 0)
        self.assertTrue(np.isnan(figure.fraction) or abs(figure.fraction) > 1e6)
        with self.fails("add up to nothing"):
            _ = held.weights

    def test_too_few_prices_for_any_figure(self):
        with self.fails("3 returns are too few"):
            kd.Portfolio(made(40).iloc[:4], shares={"alpha": 1}).value_at_risk(0.99)
        figure = kd.Portfolio(made(40).iloc[:20], shares={"alpha": 1}).value_at_risk(0.99)
        self.assertEqual(figure.high, np.inf)

    def test_facts_of_a_figure_survive_copying(self):
        figure = kd.Portfolio(PRICES, shares={"alpha": 1}).value_at_risk(0.95, "normal")
        for again in (pickle.loads(pickle.dumps(figure)), copy.copy(figure), copy.deepcopy(figure)):
            self.assertEqual((float(again), vars(again)), (float(figure), vars(figure)))
