"""Series that end in periods without a value: forecasts begin after the last of them."""

import math

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Case

NAN = float("nan")
TRIALS = 40_000


class Processes(Case):
    """Against the normal distribution of an autoregression: x(k) has mean 10 + 0.8**k (x - 10) and
    variance 4 (1 - 0.64**k) / (1 - 0.64).
    """

    stated = kd.Arima(ar=[0.8], constant=10, sd=2, history=[9.0, 12.0, 15.0, NAN, NAN])

    def test_means_spreads_and_distributions(self):
        steps = np.arange(3, 6)  # since the last value, of the first three periods
        mean = 10 + 0.8**steps * 5
        sd = np.sqrt(4 * (1 - 0.64**steps) / (1 - 0.64))
        np.testing.assert_allclose(self.stated.expected([1, 2, 3]), mean)
        self.assertEqual(self.stated.expected(0), 15)
        closed = self.stated.distribution_at(2)
        self.assertAlmostEqual(closed.sd, sd[1])
        paths = self.stated.paths(3, TRIALS, seed=1)[1:]
        np.testing.assert_allclose(paths.mean(axis=1), mean, atol=0.05)
        np.testing.assert_allclose(paths.std(axis=1), sd, rtol=0.02)
        chance = self.stated.chance(2, above=13)
        self.assertAlmostEqual(float(chance), stats.norm.sf(13, mean[1], sd[1]))

    def test_smoothing_takes_its_last_state_across(self):
        made = kd.ExponentialSmoothing(
            level=100, level_weight=0.5, sd=2, trend=1.0, trend_weight=0.1, history=[99, 100, NAN]
        )
        self.assertEqual(made.expected([1, 2]).tolist(), [102, 103])
        weights = 0.5 + 0.1 * np.arange(1, 3)  # of the shock one and two periods ago
        sd = 2 * math.sqrt(1 + float((weights[:1] ** 2).sum()))
        self.assertAlmostEqual(made.distribution_at(1).sd, sd)
        self.assertAlmostEqual(made.paths(1, TRIALS, seed=1)[1].std() / sd, 1, delta=0.02)

    def test_sets_drawdowns_hits_and_models(self):
        sd = math.sqrt(4 * (1 - 0.64**3) / (1 - 0.64))
        other = kd.Arima(ar=[0.8], constant=10, sd=2, history=[15.0])
        both = kd.PathSet({"late": self.stated, "now": other}, correlation=[[1, 0.9], [0.9, 1]])
        late, now = both.paths(4, TRIALS, seed=2)[:, 1:]
        self.assertAlmostEqual(late[0].std() / sd, 1, delta=0.02)
        self.assertAlmostEqual(now[0].std() / 2, 1, delta=0.02)
        # only the shock of the first period is shared
        shared = 0.9 * 2 * 2 / (sd * 2)
        self.assertAlmostEqual(np.corrcoef(late[0], now[0])[0, 1], shared, delta=0.02)
        logs = kd.Arima(ar=[0.5], sd=0.1, log=True, history=[1.0, NAN])
        deep = logs.max_drawdowns(1, TRIALS, seed=3)
        # after two periods without a drift, from 1.0: a half of the trials lies below it
        self.assertAlmostEqual((deep > 0).mean(), 0.5, delta=0.01)
        fall = math.exp(-0.1 * math.sqrt(1.25) * stats.norm.ppf(0.95))
        self.assertAlmostEqual(np.quantile(deep, 0.95), 1 - fall, delta=0.005)
        hit = logs.hit_probability(1 / fall, within=1)
        self.assertAlmostEqual(float(hit), 0.05, delta=0.005)
        model = kd.Model("gap", periods=2)
        model.driver("price", self.stated)
        model.outcome("end", "last(price)")
        run = model.simulate(TRIALS, seed=4)
        self.assertAlmostEqual(float(run["end"].mean), 10 + 0.8**4 * 5, delta=0.06)
        self.assertAlmostEqual(
            float(run["end"].sd), math.sqrt(4 * (1 - 0.64**4) / (1 - 0.64)), delta=0.05
        )

    def test_fits_of_a_series_that_ends_so(self):
        series = 100 + 2.0 * np.arange(120) + np.random.default_rng(1).normal(0, 3, 120)
        series[-4:] = NAN
        for fitted in (
            kd.ExponentialSmoothing.fit(series, trend=True),
            kd.Arima.fit(series, order=(0, 1, 1), constant=True),
        ):
            with self.subTest(process=fitted.label):
                fan = fitted.paths(1, 4000, seed=1, uncertain=True)[1]
                self.assertAlmostEqual(np.median(fan), 100 + 2 * 120, delta=3)
                self.assertAlmostEqual(float(fitted.expected(1)), 100 + 2 * 120, delta=3)
                self.assertEqual(fitted.start_value, series[115])
                self.assertEqual(fitted.refit().gap, 4)


class Missing(Case):
    def test_months_that_are_said_to_be_days_are_refused(self):
        values = np.full(900, NAN)
        values[::30] = 10 + np.random.default_rng(1).normal(size=30)
        for fit in (kd.ExponentialSmoothing.fit, kd.Arima.fit):
            with self.fails("841 of 871 values of series are missing", "further apart"):
                fit(values)
        third = np.random.default_rng(2).normal(size=60)
        third[np.arange(60) % 3 != 0] = NAN  # two in three may be
        self.assertEqual(kd.Arima.fit(third).fitted.observations, 20)


class Rankings(Case):
    def test_missing_values_before_an_origin_do_not_shift_the_periods(self):
        rng = np.random.default_rng(8)
        whole = 100 + 3.0 * np.arange(80) + rng.normal(0, 1, 80)
        missing = whole.copy()
        for origin in (40, 51, 63, 74):
            missing[origin - 5 : origin] = NAN
        asked = ["smoothing: trend"]
        one = kd.fit_series(whole, asked, season=0, horizon=6).scores[asked[0]]
        two = kd.fit_series(missing, asked, season=0, horizon=6).scores[asked[0]]
        self.assertGreater(one.inside_90, 0.8)
        self.assertGreater(two.inside_90, 0.8)
        self.assertLess(two.mae, 3)  # a shift of five periods is one of 15

    def test_forecasts_begin_after_the_last_date(self):
        dates = pd.date_range("2020-01-31", periods=48, freq="ME")
        values = pd.Series(50 + np.random.default_rng(2).normal(0, 1, 48), dates)
        values.iloc[-2:] = NAN
        found = kd.fit_series(values, ["arima (1,0,0)"], season=0, rolling=False)
        self.assertEqual(found.series.after(1)[0], pd.Timestamp("2024-01-31"))
        self.assertIn("ends in 2 periods without a value; forecasts begin after", found.verdict)
        self.assertEqual(found.best.fitted.observations, 46)
