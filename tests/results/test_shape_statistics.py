"""Skewness and kurtosis against the jackknife worked out block by block."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case


class Jackknife(Case):
    def test_errors_leave_out_one_block_at_a_time(self):
        model = kd.Model("x")
        model.driver("y", kd.Gamma(3, 2))
        run = model.simulate(3000, seed=2, sampling="random")
        values, bounds = run["y"].values, run["y"]._bounds
        blocks = len(bounds) - 1
        for figure, compute in (
            (run["y"].skewness, stats.skew),
            (run["y"].statistic("kurtosis"), stats.kurtosis),
        ):
            left_out = np.array(
                [
                    compute(np.delete(values, np.arange(bounds[i], bounds[i + 1])))
                    for i in range(blocks)
                ]
            )
            variance = (blocks - 1) / blocks * np.sum((left_out - left_out.mean()) ** 2)
            error = stats.t.ppf(0.975, blocks - 1) * variance**0.5
            self.assertAlmostEqual(figure, compute(values))
            self.assertAlmostEqual(figure.error, error)
            self.assertAlmostEqual(figure.low, figure - error)

    def test_every_interval_holds_its_figure(self):
        model = kd.Model("x")
        model.driver("y", kd.Exponential(3))
        y = model.simulate(2000, seed=3)["y"]
        figures = [y.mean, y.median, y.sd, y.mode, y.skewness, y.percentile(5), y.percentile(99)]
        figures += [y.chance(above=2), y.percentile_of(2), y.value_at_risk(0.95)]
        figures += [y.expected_shortfall(0.95), y.statistic("kurtosis"), y.statistic("survival", 4)]
        for figure in (*figures, y.statistic("conditional_mean", below=3)):
            self.assertLess(figure.low, figure)
            self.assertLess(figure, figure.high)
