"""Tests of backtest."""

import itertools
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.markets.backtesting import Backtest, rolling_backtest
from kindynos.markets.methods import method_of
from kindynos.markets.verdicts import chance_of_rejection, independence_ratio
from tests.common import HELD, PRICES, Case

DATES = pd.bdate_range("2024-01-01", periods=800)


def tail_of(level, df):
    """The value at risk and the expected shortfall of Student's t."""
    q = stats.t.ppf(level, df)
    return q, stats.t.expect(lambda x: x, (df,), lb=q, conditional=True)


class Backtests(Case):
    def test_forecasts_without_dates_have_a_report_too(self):
        tested = kd.backtest([0.01, -0.03, 0.02, -0.01], 0.02, level=0.95)
        shown = tested._repr_html_()
        self.assertIn('<td style="text-align:left">1</td>', shown)  # the day of the exception
        with tempfile.TemporaryDirectory() as folder:
            page = Path(folder, "page.html")
            tested.report(page)
            self.assertEqual(page.read_text(encoding="utf-8").count('class="beyond"'), 1)

    def of(self, exceptions, days=250, level=0.99):
        losses = np.zeros(days)
        losses[np.linspace(0, days - 1, exceptions).astype(int)] = 2.0
        return Backtest(level, losses, np.ones(days))

    def test_zones_as_published(self):
        # Basel Committee (1996): of 250 days at 99 %, 0 to 4 green, 5 to 9 yellow, 10 and more red.
        zones = [self.of(count).zone for count in range(12)]
        self.assertEqual(zones, ["green"] * 5 + ["yellow"] * 5 + ["red"] * 2)

    def test_kupiec_as_published(self):
        # Kupiec (1995): non-rejection regions at 95 % for 255, 510 and 1,000 days, by chi-square.
        most_likely = stats.chi2.ppf(0.95, 1)
        for days, level, least, most in (
            (255, 0.99, 0, 7),
            (510, 0.99, 1, 11),
            (1000, 0.99, 4, 17),
            (255, 0.95, 6, 21),
        ):
            inside = [
                count
                for count in range(60)
                if self.of(count, days, level).kupiec.statistic < most_likely
            ]
            published = range(least + (least > 0) * 1 if least else 0, most)
            self.assertLessEqual(set(published) - {0}, set(inside))
            self.assertNotIn(most, inside)

    def test_p_values_are_exact(self):
        # Chance of a number of exceptions no likelier than the one seen.
        for exceptions, days in ((0, 250), (3, 780), (7, 250)):
            chances = stats.binom(days, 0.01).pmf(np.arange(days + 1))
            wanted = chances[chances <= chances[exceptions] * (1 + 1e-9)].sum()
            self.assertAlmostEqual(self.of(exceptions, days).kupiec.p_value, wanted, 9)
        self.assertAlmostEqual(self.of(0).kupiec.p_value, 0.189, 3)
        # All orders of 3 exceptions among 9 days, one by one.
        records = np.array(
            [np.isin(np.arange(9), days) for days in itertools.combinations(range(9), 3)]
        )
        tests = [Backtest(0.9, 2.0 * hits, np.ones(9)).independence for hits in records]
        values = np.array([item.statistic for item in tests])
        for item in tests[::7]:
            larger = (values > item.statistic + 1e-9).mean()
            equal = (np.abs(values - item.statistic) <= 1e-9).mean()
            self.assertAlmostEqual(item.p_value, larger + equal / 2, 9)

    def test_their_sizes(self):
        # Right forecasts are rejected at 5 % no more often than that, and hardly more rarely.
        generator = np.random.default_rng(5)
        records = generator.random((400, 500)) < 0.02
        tests = [Backtest(0.98, 2.0 * hits, np.ones(500)) for hits in records]
        for name in ("kupiec", "independence", "conditional"):
            share = np.mean([getattr(item, name).p_value < 0.05 for item in tests])
            with self.subTest(name):
                self.assertTrue(0.015 < share < 0.075, share)

    def test_the_size_and_the_power_of_the_test_of_losses_beyond(self):
        def rejected(level, days, true_df, forecast_df):
            value, _ = tail_of(level, true_df)
            ratio = np.divide(*tail_of(level, forecast_df)[::-1])
            shortfall = np.full(days, value * ratio)
            losses = stats.t(true_df).rvs((300, days), random_state=days)
            tests = [Backtest(level, row, np.full(days, value), shortfall) for row in losses]
            made = [test.shortfall for test in tests if test.shortfall]
            return np.mean([verdict.p_value < 0.05 for verdict in made])

        for level, days, power in ((0.975, 250, 0.4), (0.975, 1_000, 0.85), (0.99, 250, 0.25)):
            for df in (5, 1_000):
                share = rejected(level, days, df, df)
                with self.subTest(level=level, days=days, df=df):
                    self.assertTrue(0.015 < share < 0.09, share)
            self.assertGreater(rejected(level, days, 5, 1_000), power)

    def test_forecasts_from_a_window_are_seldom_rejected_for_their_errors(self):
        rejected = []
        for seed in range(40):
            returns = 0.01 * stats.t(5).rvs(800, random_state=seed)
            levels = 100 * np.exp(np.cumsum(returns))
            prices = kd.read_prices(pd.DataFrame({"date": DATES, "A": levels}))
            held = kd.Portfolio(prices, shares={"A": 1.0})
            tested = held.backtest("historical", level=0.99, window=250)
            rejected.append(tested.shortfall is not None and tested.shortfall.p_value < 0.05)
        self.assertLessEqual(np.mean(rejected), 0.15)

    def test_power_beside_the_test_of_losses_beyond(self):
        value, shortfall = tail_of(0.975, 5)
        losses = np.zeros(400)
        losses[:10] = shortfall  # ten exceptions, as large as forecast on average
        tested = kd.backtest(-losses, value, 0.975, shortfalls=shortfall)
        self.assertAlmostEqual(tested.shortfall.statistic, 1.0)
        self.assertAlmostEqual(tested.shortfall_power(1.0), 0.05, delta=0.001)
        tail = stats.t(5).isf(0.025 * np.random.default_rng(1).random((20_000, 10)))
        drawn = np.sort(tail.mean(axis=1))
        larger = value + 1.5 * (drawn - value) > np.quantile(drawn, 0.95)
        self.assertAlmostEqual(tested.shortfall_power(1.5), larger.mean(), delta=0.02)
        self.assertTrue(0.3 < tested.shortfall.p_value < 0.6)

    def test_the_ratio_of_clustering_is_that_of_a_table_of_four(self):
        for table in ([[230, 9], [8, 3]], [[50, 20], [21, 30]], [[9, 1], [2, 5]]):
            ratio = independence_ratio(*map(np.array, np.ravel(table)))
            wanted = stats.chi2_contingency(table, correction=False, lambda_="log-likelihood")
            self.assertAlmostEqual(float(ratio), wanted.statistic)

    def test_independence(self):
        losses = np.zeros(1000)
        losses[500:520] = 2
        clustered = kd.backtest(-losses, 1.0, 0.98)
        self.assertLess(clustered.independence.p_value, 1e-6)
        even = np.zeros(1000)
        even[::50] = 2
        self.assertGreater(kd.backtest(-even, 1.0, 0.98).independence.p_value, 0.3)
        n01, n11, n00 = 1, 19, 979
        hit, calm, both = 19 / 20, 1 / 980, 20 / 1000
        logs = 19 * np.log(hit) + np.log(1 - hit) + n01 * np.log(calm) + n00 * np.log(1 - calm)
        alike = 20 * np.log(20 / 999) + 979 * np.log(1 - 20 / 999)
        self.assertAlmostEqual(clustered.independence.statistic, 2 * (logs - alike), delta=0.3)
        self.assertEqual(n11 + n01, round(1000 * both))

    def test_rolling_forecasts_against_a_loop(self):
        losses = -(PRICES.frame.pct_change().iloc[1:] @ HELD.values).to_numpy()
        for method in ("historical", "weighted", "filtered", "normal", "cornish fisher"):
            tested = HELD.backtest(method, window=100, level=0.95)
            self.assertEqual(tested.days, len(losses) - 100)
            for day in (0, 77, 498):
                past = kd.read_prices(PRICES.frame.iloc[: 100 + day + 1].reset_index())
                # today's holdings in money, at the prices of that day
                shares = HELD.values / past.frame.iloc[-1]
                held = kd.Portfolio(past, shares=dict(shares))
                with self.subTest(method=method, day=day):
                    self.assertAlmostEqual(
                        tested.forecasts[day] / held.value_at_risk(0.95, method, window=100), 1, 9
                    )
                    self.assertAlmostEqual(
                        tested.shortfalls[day] / held.expected_shortfall(0.95, method, window=100),
                        1,
                        8,
                    )
        self.assertEqual(HELD.backtest("student", 100, 0.95).days, len(losses) - 100)

    def test_a_growing_window_holds_the_returns_before_each_day(self):
        losses = HELD.losses()["loss"].to_numpy()
        tested = rolling_backtest(
            HELD.exposure(), method_of("historical", {}), 250, 0.95, None, True
        )
        self.assertEqual(tested.days, len(losses) - 250)
        for day in (0, 1, 19, 20, 57, tested.days - 1):
            before = losses[: 250 + day]
            expected = [np.quantile(before[lost:], 0.95, method="weibull") for lost in range(20)]
            self.assertLess(np.abs(tested.forecasts[day] - expected).min(), 1e-6)

    def test_a_horizon_is_tested_over_stretches_that_do_not_overlap(self):
        values = (HELD.prices.frame * HELD.shares).dropna()
        today = values.iloc[-1]
        moves = values.to_numpy()[1:] / values.to_numpy()[:-1] - 1
        tested = HELD.backtest("normal", 250, 0.95, horizon=10)
        starts = range(250, len(moves) - 9, 10)
        self.assertEqual((tested.days, tested.unit), (len(starts), "10-day period"))
        for number, start in enumerate(starts):
            grown = (1 + moves[start : start + 10]).prod(axis=0) - 1
            self.assertAlmostEqual(tested.losses[number] / -(today @ grown), 1, 6)
            before = -(moves[start - 250 : start] @ today.to_numpy())
            forecast = 10 * before.mean() + stats.norm.ppf(0.95) * before.std(ddof=1) * 10**0.5
            self.assertAlmostEqual(tested.forecasts[number] / forecast, 1, 2)
        supported = HELD.supported_method(0.95, horizon=10)
        self.assertEqual(supported.horizon, 10 if len(starts) >= 50 else 1)
        with self.fails("leaves no 400-day period to test"):
            HELD.backtest("normal", 250, 0.95, horizon=400)

    def test_what_the_number_of_exceptions_can_see(self):
        # size and power by SciPy's binomial distribution: rejected are counts as unlikely as those
        # whose chances add up to less than 5 %
        days = 657
        chances = stats.binom(days, 0.01).pmf(np.arange(days + 1))
        rejected = [chances[chances <= own * (1 + 1e-9)].sum() < 0.05 for own in chances]
        for times in (1, 2, 3):
            wanted = stats.binom(days, times * 0.01).pmf(np.arange(days + 1))[rejected].sum()
            found = chance_of_rejection(days, 0.01, times * 0.01, 0.05)
            self.assertAlmostEqual(found, wanted, 9)

    def test_shortfall_forecasts_are_tested(self):
        losses = stats.t(4).rvs(4000, random_state=3)
        q, tail = tail_of(0.975, 4)
        right = kd.backtest(-losses, q, 0.975, shortfalls=tail)
        self.assertGreater(right.shortfall.p_value, 0.05)
        self.assertLess(
            kd.backtest(-losses, q, 0.975, shortfalls=0.8 * tail).shortfall.p_value, 0.01
        )
        self.assertIsNone(kd.backtest(-losses, q, 0.975).shortfall)
        self.assertEqual(right.table()["exception"].sum(), right.exceptions)
        self.assertIn("zone", right.summary())

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.backtest([1.0], 1.0, 0.95), ("at least two",)),
            (lambda: kd.backtest([1.0, 2.0], [1.0], 0.95), ("one per day",)),
            (lambda: kd.backtest([1.0, 2.0], 1.0, 95), ("level",)),
            (lambda: kd.backtest([1.0, np.nan], 1.0, 0.95), ("day 1",)),
            (lambda: HELD.backtest("simulated"), ("not offered",)),
            (lambda: HELD.backtest(window=599), ("no day to test",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class Listing(Case):
    def test_what_a_late_listing_costs_is_said_where_it_is_much(self):
        dates = pd.bdate_range("2027-01-01", periods=100)
        rows = np.cumsum(np.random.default_rng(1).normal(0, 1, (100, 2)), axis=0) + 100
        frame = pd.DataFrame(rows, dates, ["old", "new"])
        for missing, words in ((3, ""), (30, "30 of 100 dates are left out, since new has no")):
            late = frame.copy()
            late.iloc[:missing, 1] = np.nan
            self.assertIn(words, kd.read_prices(late, missing="drop").late)
            self.assertEqual(kd.read_prices(late, missing="drop").late == "", not words)
