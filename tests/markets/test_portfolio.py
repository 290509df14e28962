"""Tests of portfolio."""

import numpy as np

import kindynos as kd
from tests.common import PRICES, Case


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
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.Portfolio(PRICES, **options)
