"""Tests of unit roots and of stationarity against their definitions and published tables."""

import math
import unittest

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.fitting.stationarity import UNIT_ROOT, seasonal_strength, unit_root
from tests.common import Case

# Fuller, Introduction to Statistical Time Series (1976), table 8.5.2, many values, with a constant.
FULLER = {
    0.01: -3.43, 0.025: -3.12, 0.05: -2.86, 0.10: -2.57,
    0.90: -0.44, 0.95: -0.07, 0.975: 0.23, 0.99: 0.60,
}  # fmt: skip


def of(values, name):
    """Return a test of a series by its name."""
    series = pd.Series(values, pd.period_range("2020-01", periods=len(values), freq="M"))
    return next(test for test in kd.diagnose(series).tests if test.name == name)


class Seasons(Case):
    def test_strength_is_the_share_of_what_the_trend_leaves(self):
        """Against moving averages of pandas, centred, of an odd and of an even season."""
        for season in (4, 7):
            t = np.arange(12 * season)
            noise = np.random.default_rng(season).standard_normal(len(t))
            x = 0.02 * t**2 + 3 * np.sin(2 * np.pi * t / season) + 2 * noise
            found = pd.Series(x)
            trend = found.rolling(season, center=season % 2 == 1).mean()
            if season % 2 == 0:
                trend = trend.rolling(2).mean().shift(-season // 2)
            gaps = (found - trend).dropna()
            rest = gaps - gaps.groupby(gaps.index % season).transform("mean")
            wanted = 1 - rest.var(ddof=0) / gaps.var(ddof=0)
            self.assertAlmostEqual(seasonal_strength(x, season), wanted, 10)


class Levels(Case):
    def test_percentiles_of_the_unit_root_statistic_rise_and_come_near_the_published_ones(self):
        for count, row in UNIT_ROOT.items():
            self.assertTrue((np.diff(row) > 0).all(), count)
        # from one number of values to the next they move by little
        moves = np.abs(np.diff(np.array(list(UNIT_ROOT.values())), axis=0))
        self.assertLess(moves.max(), 0.5)
        counts, last = list(UNIT_ROOT), np.array(UNIT_ROOT[math.inf])
        gaps = [np.abs(np.array(UNIT_ROOT[n]) - last).max() for n in counts[-5:]]
        self.assertEqual(gaps, sorted(gaps, reverse=True))

    def test_kpss_is_its_definition(self):
        for seed, count in ((1, 60), (2, 240)):
            x = np.random.default_rng(seed).standard_normal(count).cumsum() + 5
            gaps, lags = x - x.mean(), int(4 * (count / 100) ** 0.25)
            sums = np.correlate(gaps, gaps, "full")[count - 1 :] / count
            long_run = sums[0] + 2 * sum((1 - k / (lags + 1)) * sums[k] for k in range(1, lags + 1))
            self.assertAlmostEqual(
                of(x, "KPSS").statistic, (gaps.cumsum() ** 2).sum() / count**2 / long_run, 10
            )

    def test_the_unit_root_statistic_is_the_t_of_the_best_regression(self):
        x = np.random.default_rng(3).standard_normal(200).cumsum()
        change, most = np.diff(x), int(12 * (200 / 100) ** 0.25)
        tried = []
        for lags in range(most + 1):
            y = change[most:]
            before = [change[most - k : -k] for k in range(1, lags + 1)]
            design = np.column_stack([x[most:-1], np.ones(len(y)), *before])
            line, (rest,), *_ = np.linalg.lstsq(design, y, rcond=None)
            free = len(y) - lags - 2
            error = np.sqrt(rest / free * np.linalg.inv(design.T @ design)[0, 0])
            tried.append((len(y) * np.log(rest / len(y)) + 2 * (lags + 2), line[0] / error))
        self.assertAlmostEqual(of(x, "unit root").statistic, min(tried)[1], 8)

    def test_p_values_of_the_unit_root_are_right_for_few_values_and_published_for_many(self):
        """Random walks are called stationary as often as the level says, whatever their length."""
        for count in (24, 60, 130):
            generator = np.random.default_rng(count)
            walks = generator.standard_normal((800, count)).cumsum(axis=1)
            p = np.array([unit_root(walk).p for walk in walks])
            for level in (0.05, 0.1):
                with self.subTest(count=count, level=level):
                    low, high = stats.binom.interval(0.999, len(p), level)
                    self.assertTrue(low <= (p < level).sum() <= high, (p < level).mean())
        scores, places = stats.norm.ppf(list(FULLER)), list(FULLER.values())
        seen = []
        for seed in range(20):
            found = unit_root(np.random.default_rng(seed).standard_normal(6000).cumsum())
            if places[0] < found.statistic < places[-1]:
                wanted = stats.norm.cdf(np.interp(found.statistic, places, scores))
                self.assertAlmostEqual(found.p, wanted, delta=0.02)
                seen.append(found.statistic)
        self.assertGreater(len(seen), 10)


if __name__ == "__main__":
    unittest.main()
