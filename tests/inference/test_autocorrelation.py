"""Tests of the variance of sums of values that follow each other."""

import numpy as np

from kindynos.inference.autocorrelation import variance_ratio
from tests.common import Case


class VarianceRatio(Case):
    def test_of_a_first_order_autoregression(self):
        rng = np.random.default_rng(4)
        values, shocks = np.zeros(200_000), rng.normal(size=200_000)
        for t in range(1, len(values)):
            values[t] = 0.5 * values[t - 1] + shocks[t]
        for periods in (2, 5):
            sums = np.arange(1, periods)
            closed = 1 + 2 * float(((1 - sums / periods) * 0.5**sums).sum())
            ratio, p = variance_ratio(values, periods)
            self.assertAlmostEqual(ratio, closed, delta=0.02)
            self.assertLess(p, 1e-6)

    def test_the_size_of_the_test_where_volatility_changes(self):
        rng, rejected = np.random.default_rng(6), 0
        for _ in range(1_000):
            volatility = np.exp(np.repeat(rng.normal(0, 0.7, 20), 25))
            rejected += variance_ratio(volatility * rng.standard_t(4, 500), 10)[1] < 0.05
        self.assertTrue(30 <= rejected <= 70, rejected)
