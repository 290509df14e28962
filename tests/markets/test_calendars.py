"""Tests of calendars: each instrument has its own, moves over several periods count as such, and
returns are told from prices.
"""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.markets.changes import of_one_period
from tests.common import Case

DATES = pd.bdate_range("2024-01-01", periods=1_000)


def walk(seed, sd=0.01, count=1_000):
    return 100 * np.exp(np.cumsum(np.random.default_rng(seed).normal(0, sd, count)))


def with_gaps(seed, share):
    """Daily prices of two instruments of which dates are missing at random, not on the same."""
    generator = np.random.default_rng(seed)
    table = pd.DataFrame({"date": DATES, "a": walk(seed), "b": walk(seed + 500)})
    for name in ("a", "b"):
        table.loc[generator.random(1_000) < share / 2, name] = np.nan
    return kd.read_prices(table)


class Gaps(Case):
    def test_moves_over_several_periods_are_made_as_large_as_one(self):
        generator = np.random.default_rng(2)
        spans = generator.integers(1, 6, (4000, 1))
        moves = 0.001 * spans + generator.normal(0, 0.01, spans.shape) * np.sqrt(spans)
        one = of_one_period(moves, spans)
        self.assertAlmostEqual(one.std() / 0.01, 1, delta=0.03)
        self.assertAlmostEqual(one.mean(), 0.001, delta=0.0005)
        self.assertAlmostEqual(one[spans == 5].std() / one[spans == 1].std(), 1, delta=0.1)

    def test_a_day_stays_a_day_where_dates_are_missing(self):
        wanted = stats.norm.ppf(0.99) * 0.01 * np.sqrt(2)  # of 1 in each
        for share in (0.02, 0.25, 0.4):
            figures = [
                kd.Portfolio(with_gaps(seed, share), amounts={"a": 1.0, "b": 1.0}).value_at_risk(
                    0.99, "normal"
                )
                for seed in range(8)
            ]
            with self.subTest(share=share):
                self.assertAlmostEqual(np.mean(figures) / wanted, 1, delta=0.03)

    def test_what_was_done_is_said(self):
        few = with_gaps(1, 0.02).moves_of_one_period
        self.assertRegex(few[2], r"of \d+ returns are over more than one day and left out")
        many = with_gaps(1, 0.3).moves_of_one_period
        self.assertIn("divided by the root", many[2])

    def test_month_ends_beside_daily_prices_are_joined_and_dropped_dates_told(self):
        table = pd.DataFrame({"date": DATES, "a": walk(3), "b": walk(4)})
        last = ~pd.Series(DATES.to_period("M")).duplicated(keep="last")
        mixed = kd.read_prices(table.assign(b=table["b"].where(last.to_numpy())))
        self.assertEqual(mixed.spacing.name, "month")
        self.assertIn("dates are left out, since b has 46 prices", mixed.late)
        monthly = kd.read_prices(table).every("month").moves
        np.testing.assert_allclose(mixed.every("month").moves[:45], monthly[:45])
        np.testing.assert_allclose(mixed.moves_of_one_period[0][:44], monthly[:44])

    def test_month_ends_that_are_dated_differently_join_by_month(self):
        business = pd.date_range("2024-01-31", periods=24, freq="BME")
        calendar = pd.date_range("2024-01-31", periods=24, freq="ME")
        a, b = walk(1, count=24), walk(2, count=24)
        rows = [(date, "a", x) for date, x in zip(business, a, strict=True)]
        rows += [(date, "b", x) for date, x in zip(calendar, b, strict=True)]
        table = pd.DataFrame(rows, columns=["date", "instrument", "price"])
        joined = kd.read_prices(table).every("month")
        np.testing.assert_allclose(
            joined.moves, np.column_stack([a[1:] / a[:-1], b[1:] / b[:-1]]) - 1
        )

    def test_four_days_a_week_are_fewer_a_year(self):
        four = DATES[DATES.day_of_week < 4]
        table = pd.DataFrame({"date": four, "a": walk(1, count=len(four))})
        self.assertEqual(kd.read_prices(table).spacing.per_year, 202)


class Returns(Case):
    def test_returns_are_told_from_levels(self):
        for seed in range(20):
            returns = np.random.default_rng(seed).standard_t(4, 300) * 0.01
            table = pd.DataFrame({"date": DATES[:300], "a": returns})
            with self.subTest(seed=seed), self.fails("looks like returns, not prices"):
                kd.read_prices(table)
            with self.fails("looks like returns in per cent"):
                kd.read_prices(table.assign(a=100 * returns))
            rate = 0.002 * np.cumsum(np.random.default_rng(seed).standard_normal(300))
            kd.read_prices(table.assign(a=rate), changes={"a": "absolute"})

    def test_prices_of_returns_have_these_returns(self):
        returns = np.random.default_rng(1).normal(0.0004, 0.01, 300)
        table = pd.DataFrame({"date": DATES[:300], "a": returns})
        for scale in (1, 100):
            read = kd.read_prices(table.assign(a=scale * returns), kind="returns")
            np.testing.assert_allclose(read.moves[:, 0], returns)
            self.assertEqual(read.spacing.name, "working day")
        self.assertIn("The returns are read as per cent", read.read.choices)

    def test_a_file_with_two_columns_of_prices_says_which_it_took(self):
        table = pd.DataFrame({"date": DATES, "ticker": "a", "close": walk(1), "Adj_Close": walk(2)})
        read = kd.read_prices(table)
        np.testing.assert_allclose(read.frame["a"], walk(1))
        wanted = "Prices are those of the column 'close', not 'Adj_Close'"
        self.assertIn(wanted, read.read.choices)
