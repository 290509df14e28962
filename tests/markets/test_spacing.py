"""How far the dates of prices lie apart decides words, units and yearly figures."""

import math

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.tables.spacing import spacing_of
from tests.common import Case


def prices(dates, volatility=0.2, per_year=12.0, seed=1, names=("share", "index")):
    """Return a table of prices that move with a yearly volatility, dated as given."""
    draws = np.random.default_rng(seed).standard_normal((len(dates), len(names)))
    logs = np.cumsum(draws * volatility / math.sqrt(per_year), axis=0)
    table = pd.DataFrame(100 * np.exp(logs), columns=list(names))
    table.insert(0, "date", pd.DatetimeIndex(dates).strftime("%Y-%m-%d"))
    return table


MONTHS = pd.date_range("2018-01-01", periods=120, freq="MS")


class TheSpacing(Case):
    def test_it_is_found(self):
        for freq, count, name, per_year in (
            ("B", 500, "working day", 252),
            ("D", 500, "day", 365),
            ("W-WED", 100, "week", 52),
            ("MS", 60, "month", 12),
            ("BME", 60, "month", 12),
            ("QE", 40, "quarter", 4),
            ("YS", 12, "year", 1),
        ):
            with self.subTest(freq=freq):
                found = spacing_of(pd.date_range("2018-01-01", periods=count, freq=freq))
                self.assertEqual((found.name, found.per_year), (name, per_year))

    def test_holidays_and_left_out_dates_do_not_change_it(self):
        days = pd.bdate_range("2020-01-01", periods=700)
        kept = days[~((days.month == 12) & (days.day > 22)) & (np.arange(700) % 17 > 0)]
        self.assertEqual(spacing_of(kept).name, "working day")
        self.assertEqual(spacing_of(MONTHS.delete([5, 6, 40])).name, "month")

    def test_irregular_dates_have_as_many_a_year_as_they_had(self):
        gaps = np.tile([3, 9, 40, 8], 30)
        found = spacing_of(pd.Timestamp("2018-01-01") + pd.to_timedelta(np.cumsum(gaps), "D"))
        self.assertEqual((found.name, found.unit), ("irregular", "period"))
        self.assertAlmostEqual(found.per_year, 365.25 / np.mean(gaps[1:]))

    def test_a_year_that_is_stated_counts(self):
        own = kd.read_prices(prices(MONTHS), per_year=11)
        self.assertEqual(kd.markets.returns(own).per_year, 11)
        self.assertEqual(own.subset(["share"]).spacing.per_year, 11)
        with self.fails("per_year", "above 0"):
            kd.read_prices(prices(MONTHS), per_year=0)


class WhatFollows(Case):
    def test_monthly_prices_have_monthly_figures(self):
        table = prices(MONTHS)
        read = kd.read_prices(table)
        found = kd.markets.returns(read)
        self.assertEqual((found.every, found.per_year), ("month", 12))
        own = np.diff(table["share"]) / table["share"].to_numpy()[:-1]
        self.assertAlmostEqual(
            found.summary().loc["share", "annual sd"], own.std(ddof=1) * math.sqrt(12)
        )
        held = kd.Portfolio(read, shares={"share": 10})
        figure = held.value_at_risk(0.99)
        self.assertEqual(figure.unit, "month")
        self.assertIn("about 1 month in 100", figure.description)
        self.assertIn("stretch of 3 months", held.value_at_risk(0.99, horizon=3).description)
        beside = held.against("index")
        gap = own - np.diff(table["index"]) / table["index"].to_numpy()[:-1]
        self.assertAlmostEqual(
            float(beside["tracking error a year"]), gap.std(ddof=1) * math.sqrt(12)
        )
        self.assertIn("months", repr(held.backtest(window=60)))
        self.assertAlmostEqual(float(kd.allocate(read, minimize="sd").request.source.per_year), 12)

    def test_longer_periods_by_every(self):
        days = pd.bdate_range("2020-01-01", "2023-12-29")
        read = kd.read_prices(prices(days, per_year=252))
        by_month = read.frame.groupby(read.dates.to_period("M")).last()["share"].to_numpy()
        own = by_month[1:] / by_month[:-1] - 1
        held = kd.Portfolio(read, shares={"share": 10})
        figure = held.value_at_risk(0.9, every="month")
        worst = -np.sort(own * held.value)
        self.assertTrue(worst[5] <= float(figure) <= worst[3], (figure, worst[:6]))
        self.assertEqual((figure.unit, figure.returns), ("month", 47))
        table = held.risk_table([0.95], ["normal"], every="week")
        self.assertEqual(table["returns"].iloc[0], 208)
        self.assertEqual(len(held.backtest(window=24, every="month").losses), 47 - 24)
        self.assertEqual(held.exposure(every="month").values.tolist(), [held.value])
        ahead = held.paths(12, 2000, 1, every="month")
        self.assertEqual(ahead[0, 0], held.value)
        self.assertAlmostEqual(np.log(ahead[-1] / held.value).std(), 0.2, delta=0.03)
        source = kd.allocate(read, minimize="sd", every="quarter").request.source
        self.assertEqual((source.period, source.per_year), ("quarter", 4))

    def test_a_last_period_that_is_over_is_kept(self):
        firsts = kd.read_prices(prices(MONTHS))
        for every, count in (("month", 120), ("quarter", 40), ("year", 10)):
            with self.subTest(every=every):
                self.assertEqual(len(firsts.every(every).frame), count)
        self.assertEqual(firsts.every("month").dates[-1], MONTHS[-1])
        begun = firsts.every("quarter").description
        self.assertNotIn("left out", begun)
        self.assertIn("not over", kd.read_prices(prices(MONTHS[:-1])).every("quarter").description)
        never_closed = prices(pd.date_range("2023-01-02", "2023-03-04"))  # to a Saturday
        weeks = kd.read_prices(never_closed).every("week")
        self.assertEqual((len(weeks.frame), weeks.dates[-1].day_name()), (8, "Sunday"))

    def test_a_period_shorter_than_the_prices_lie_apart_is_refused(self):
        held = kd.Portfolio(kd.read_prices(prices(MONTHS)), shares={"share": 1})
        for call in (
            lambda: kd.markets.returns(prices(MONTHS), every="day"),
            lambda: held.value_at_risk(0.99, every="week"),
            lambda: kd.allocate(prices(MONTHS), minimize="sd", every="week"),
        ):
            with self.fails("one month apart", "no returns for every"):
                call()

    def test_gaps_are_told_in_the_spacing_of_the_file(self):
        read = kd.read_prices(prices(MONTHS.delete([5, 6, 40])))
        self.assertIn("2 stretches of more than a month without prices", read.description)
        self.assertNotIn("stretch", kd.read_prices(prices(MONTHS)).description)
