"""Tests of weighted trials: their errors by formula."""

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case


class Weighted(Case):
    def test_the_interval_of_a_weighted_figure_by_its_formula(self):
        rng = np.random.default_rng(2)
        x, w = rng.gamma(2.0, 1.0, 900), rng.uniform(0.5, 1.5, 900)
        found = kd.read_trials(pd.DataFrame({"x": x}), weights=w)["x"]
        share = w / w.sum()
        mean = float(share @ x)
        self.assertAlmostEqual(
            found.mean.error, 1.96 * np.sqrt((share**2 * (x - mean) ** 2).sum()), delta=1e-5
        )
        sd = float(np.sqrt(share @ (x - mean) ** 2))
        influence = ((x - mean) ** 2 - sd**2) / (2 * sd)
        self.assertAlmostEqual(
            found.sd.error, 1.96 * np.sqrt((share**2 * influence**2).sum()), delta=1e-5
        )
        worth = 1 / (share**2).sum()
        reach = 1.96 * np.sqrt(0.2 * 0.8 / worth)
        order = np.argsort(x)
        middle = np.cumsum(share[order]) - share[order] / 2
        ends = np.interp([0.2 - reach, 0.2 + reach], middle, x[order])
        percentile = found.percentile(20)
        np.testing.assert_allclose([percentile.low, percentile.high], ends, rtol=1e-4)
        risk = found.value_at_risk(0.8)
        np.testing.assert_allclose([-risk.high, -risk.low], ends, rtol=1e-4)
        cost = kd.read_trials(pd.DataFrame({"x": -x}), weights=w, better={"x": "low"})["x"]
        self.assertAlmostEqual(float(cost.value_at_risk(0.8)), float(risk))
        self.assertAlmostEqual(
            float(cost.expected_shortfall(0.8)), float(found.expected_shortfall(0.8))
        )
