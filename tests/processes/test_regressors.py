"""Regressors that are known ahead: their effects, errors and forecasts, and those of the
calendar.
"""

import calendar
import datetime
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.fitting.calendar import holidays_in
from kindynos.fitting.records import series_and_regressors
from kindynos.tables.layout import TableFormat


def _series(count: int = 150, ahead: int = 12) -> tuple[np.ndarray, np.ndarray]:
    """Return an autoregression around 3 times a regressor, and the regressor."""
    generator = np.random.default_rng(7)
    regressor = generator.normal(10, 2, count + ahead)
    noise = kd.Arima(ar=[0.7], sd=1.5, constant=20.0).paths(count, 1, seed=8)[1:, 0]
    return noise + 3 * regressor[:count], regressor


class EffectsOfRegressors(unittest.TestCase):
    def test_white_noise_gives_ordinary_least_squares(self) -> None:
        values, x = _series()
        found = kd.Arima.fit(values, (0, 0, 0), exog={"fare": x})
        ordinary = stats.linregress(x[:150], values)
        self.assertAlmostEqual(found.effects["fare"], ordinary.slope, delta=1e-9)
        self.assertAlmostEqual(found.constant, ordinary.intercept, delta=1e-8)
        errors = found.fitted.standard_errors
        unbiased = np.sqrt(150 / 148)  # the likelihood divides by all values
        self.assertAlmostEqual(
            errors["effect of fare"] * unbiased, ordinary.stderr, delta=1e-9 * ordinary.stderr
        )
        self.assertAlmostEqual(errors["constant"] * unbiased, ordinary.intercept_stderr, delta=1e-8)
        reach = stats.t.ppf(0.975, 148) * ordinary.stderr
        low, high = found.fitted.intervals["effect of fare"]
        self.assertAlmostEqual(low, ordinary.slope - reach, delta=0.12 * reach)
        self.assertAlmostEqual(high, ordinary.slope + reach, delta=0.12 * reach)

    def test_the_likelihood_is_that_of_a_normal_vector_and_at_its_top(self) -> None:
        values, x = _series(60)
        found = kd.Arima.fit(values, (1, 0, 0), exog={"fare": x})

        def likelihood(effect: float, constant: float, ar: float) -> float:
            lags = np.abs(np.subtract.outer(np.arange(60), np.arange(60)))
            covariance = found.sd**2 * ar**lags / (1 - ar**2)
            mean = constant + effect * x[:60]
            return float(stats.multivariate_normal.logpdf(values, mean, covariance))

        best = found.effects["fare"], found.constant, found.ar[0]
        top = likelihood(*best)
        self.assertAlmostEqual(found.fitted.log_likelihood, top, delta=1e-7)
        for place, step in enumerate((0.002, 0.02, 0.01)):
            for sign in (-1, 1):
                moved = list(best)
                moved[place] += sign * step
                self.assertLess(likelihood(*moved), top, (place, sign))

    def test_forecasts_add_the_regressors_ahead(self) -> None:
        values, x = _series()
        for log in (False, True):
            said = np.exp(values / 50) if log else values
            found = kd.Arima.fit(said, (1, 0, 0), exog={"fare": x}, log=log)
            seen = np.log(said) if log else said
            effect, level, ar = found.effects["fare"], found.constant, found.ar[0]
            left = seen[-1] - effect * x[149] - level
            steps = np.arange(1, 13)
            mean = level + effect * x[150:] + left * ar**steps
            spread = found.sd**2 * (1 - ar ** (2 * steps)) / (1 - ar**2)
            expected = np.exp(mean + spread / 2) if log else mean
            np.testing.assert_allclose(found.expected(steps), expected, rtol=1e-9)
            self.assertEqual(found.known_ahead, 12)
            with self.assertRaisesRegex(kd.ParameterError, "known 12 periods ahead, and 13"):
                found.paths(13, 10)

    def test_paths_with_open_parameters_keep_the_residuals_of_each_trial(self) -> None:
        values, x = _series(40, 2)
        found = kd.Arima.fit(values, (0, 0, 0), exog={"fare": x})
        far = {"fare": [*x[:40], 60.0, 60.0]}  # where an open effect counts most
        from dataclasses import replace

        paths = replace(found, exog=far).paths(1, 20_000, seed=3, uncertain=True)[1]
        known = x[:40]
        ordinary = stats.linregress(known, values)
        left = values - ordinary.intercept - ordinary.slope * known
        sd = np.sqrt((left**2).sum() / 38)
        lever = (60 - known.mean()) ** 2 / ((known - known.mean()) ** 2).sum()
        spread = sd * np.sqrt(1 + 1 / 40 + lever) * np.sqrt(38 / 36)  # of Student's t
        self.assertAlmostEqual(paths.mean(), ordinary.intercept + 60 * ordinary.slope, delta=3.0)
        self.assertAlmostEqual(paths.std(), spread, delta=0.15 * spread)

    def test_missing_values_gaps_and_refits(self) -> None:
        values, x = _series()
        holes = values.copy()
        holes[[30, 31, 149]] = np.nan
        found = kd.Arima.fit(holes, (1, 0, 0), exog={"fare": x})
        self.assertAlmostEqual(found.effects["fare"], 3.0, delta=0.2)
        self.assertEqual((found.gap, found.known_ahead), (1, 12))
        left = values[148] - found.effects["fare"] * x[148] - found.constant
        ahead = found.constant + found.effects["fare"] * x[150] + left * found.ar[0] ** 2
        self.assertAlmostEqual(found.expected(1), ahead, delta=1e-9)
        self.assertAlmostEqual(found.refit().effects["fare"], found.effects["fare"], delta=1e-3)

    def test_differences_of_a_trending_regressor(self) -> None:
        generator = np.random.default_rng(5)
        x = np.cumsum(generator.normal(1, 1, 212)) + 1e6
        values = np.cumsum(generator.normal(0, 0.5, 200)) - 2 * x[:200]
        found = kd.Arima.fit(values, (0, 1, 0), exog=x)
        slope = np.diff(values) @ np.diff(x[:200]) / (np.diff(x[:200]) ** 2).sum()
        self.assertAlmostEqual(found.effects["exog"], slope, delta=1e-9)

    def test_what_cannot_explain_is_refused(self) -> None:
        values, x = _series()
        for exog, words in (
            ({"fare": np.ones(150)}, "'fare' cannot be told"),
            ({"fare": x, "twice": 2 * x}, "'twice' cannot be told"),
            (x[:149], "has 149 values, and the series 150"),
            ({"fare": np.where(np.arange(162) == 4, np.nan, x)}, "no number in row 4"),
            ({}, "needs 1 to 100 regressors"),
        ):
            with self.assertRaisesRegex(kd.ParameterError, words):
                kd.Arima.fit(values, exog=exog)
        with self.assertRaisesRegex(kd.ParameterError, "'fare' has one of the two"):
            kd.Arima(effects={"fare": 2.0})
        dated = pd.Series(values, pd.date_range("2020-01-01", periods=150, freq="MS"))
        early = pd.DataFrame({"fare": x}, pd.date_range("2020-03-01", periods=162, freq="MS"))
        with self.assertRaisesRegex(kd.ParameterError, "no row for 2020-01-01"):
            kd.Arima.fit(dated, exog=early)
        longer = pd.DataFrame(
            {"fare": [0.0, 0.0, *x]}, pd.date_range("2019-11-01", periods=164, freq="MS")
        )
        self.assertEqual(
            kd.Arima.fit(dated, exog=longer).effects, kd.Arima.fit(values, exog={"fare": x}).effects
        )

    def test_a_ranking_knows_regressors_at_each_origin(self) -> None:
        values, x = _series()
        with_fare = kd.fit_series(values, ["arima (1,0,0)"], exog={"fare": x}, season=0)
        without = kd.fit_series(values, ["arima (1,0,0)"], season=0)
        name = "arima (1,0,0)"
        self.assertLess(with_fare.scores[name].mae, 0.4 * without.scores[name].mae)
        ranking = kd.fit_series(
            values, [name, "smoothing: level"], exog={"fare": x}, season=0, rolling=False
        )
        self.assertEqual(ranking.left_out, {"smoothing: level": "takes no regressors"})


class WaysToStateRegressors(unittest.TestCase):
    def test_each_gives_the_same_effect(self) -> None:
        values, x = _series()
        wanted = kd.Arima.fit(values, (0, 0, 0), exog={"fare": x}).effects["fare"]
        dates = pd.date_range("2010-01-31", periods=len(x), freq="ME")
        dated = pd.Series(values, dates[: len(values)])
        table = pd.DataFrame({"fare": x}, dates)
        earlier = pd.concat(
            [pd.DataFrame({"fare": [1.0]}, dates[:1] - pd.offsets.MonthEnd()), table]
        )
        for name, series, exog in (
            ("fare", values, pd.Series(x, name="fare")),
            ("exog", values, x),
            ("exog 1", values, x[:, None]),
            ("fare", dated, table),
            ("fare", dated, earlier),  # rows before the series are left out, by date
            ("fare", dated.to_period("M"), table.to_period("M")),
        ):
            with self.subTest(name=name):
                effects = kd.Arima.fit(series, (0, 0, 0), exog=exog).effects
                self.assertEqual(list(effects), [name])
                self.assertAlmostEqual(effects[name], wanted, places=9)

    def test_what_does_not_belong_to_the_series_is_refused(self) -> None:
        values, x = _series()
        dates = pd.date_range("2010-01-31", periods=len(x), freq="ME")
        dated, table = pd.Series(values, dates[: len(values)]), pd.DataFrame({"fare": x}, dates)
        many = {f"x{k}": x for k in range(101)}
        for series, exog, words in (
            (values, {"fare": x[:100]}, "has 100 values, and the series 150"),
            (values, np.zeros((150, 2, 2)), "one column per regressor"),
            (values, {}, "needs 1 to 100 regressors, and has 0"),
            (values, many, "needs 1 to 100 regressors, and has 101"),
            (values, {"fare": x, "fuel": x[:155]}, "differ in length"),
            (dated, table.iloc[1:], "no row for 2010-01-31"),
            (dated, table.iloc[::-1], "the same dates as the series, in order"),
            (dated, pd.concat([table[:1], table]), "the same dates as the series, in order"),
        ):
            with self.subTest(words), self.assertRaisesRegex(kd.ParameterError, words):
                kd.Arima.fit(series, (0, 0, 0), exog=exog)


class CalendarRegressors(unittest.TestCase):
    def test_days_are_counted_as_a_calendar_does(self) -> None:
        months = pd.Series(1.0, pd.date_range("2026-01-31", periods=24, freq="ME"))
        each = kd.calendar_regressors(months, ahead=12, days="each")
        one = kd.calendar_regressors(months, ahead=12)
        self.assertEqual(len(each), 36)
        for date in each.index:
            days = calendar.monthrange(date.year, date.month)[1]
            counts = np.bincount(
                [datetime.date(date.year, date.month, d + 1).weekday() for d in range(days)],
                minlength=7,
            )
            np.testing.assert_array_equal(each.loc[date], counts[:6] - counts[6])
            self.assertEqual(
                one.loc[date, "working days"], counts[:5].sum() - 2.5 * counts[5:].sum()
            )

    def test_holidays_are_counted_in_their_period(self) -> None:
        easter = {"Easter": ["2026-04-05", "2027-03-28", "2028-04-16"]}
        months = pd.Series(1.0, pd.period_range("2026-01", periods=15, freq="M"))
        found = kd.calendar_regressors(months, ahead=15, days="none", holidays=easter)
        self.assertEqual(list(found.columns), ["Easter"])
        self.assertEqual(
            [f"{date:%Y-%m}" for date in found.index[found["Easter"] == 1]],
            ["2026-04", "2027-03", "2028-04"],
        )
        days = pd.Series(1.0, pd.date_range("2027-03-20", periods=10))
        counted = kd.calendar_regressors(days, ahead=1, holidays=easter)["Easter"]
        self.assertEqual(counted[counted == 1].index.tolist(), [pd.Timestamp("2027-03-28")])

    def test_weeks_quarters_and_holidays_of_a_table(self) -> None:
        rows = ["holiday,date", "Easter,2026-04-05", "Easter,2027-03-28", "May Day,2026-05-01"]
        with tempfile.TemporaryDirectory() as folder:
            table = Path(folder, "holidays.csv")
            table.write_text("\n".join(rows), encoding="utf-8")
            found = holidays_in(table)
        self.assertEqual(
            {name: len(dates) for name, dates in found.items()}, {"Easter": 2, "May Day": 1}
        )
        quarters = pd.Series(1.0, pd.date_range("2026-03-31", periods=4, freq="QE"))
        counted = kd.calendar_regressors(quarters, ahead=2, holidays=found)
        for date in counted.index:
            first = datetime.date(date.year, date.month - 2, 1)
            days = (date.date() - first).days + 1
            kinds = [(first + datetime.timedelta(days=k)).weekday() for k in range(days)]
            weekend = sum(kind >= 5 for kind in kinds)
            self.assertEqual(counted.loc[date, "working days"], days - weekend - 2.5 * weekend)
        self.assertEqual(counted["Easter"].tolist(), [0, 1, 0, 0, 1, 0])  # of 2027 in the first
        self.assertEqual(counted["May Day"].tolist(), [0, 1, 0, 0, 0, 0])
        weeks = pd.Series(1.0, pd.date_range("2026-03-30", periods=5, freq="W-MON"))
        of_weeks = kd.calendar_regressors(weeks, ahead=1, days="none", holidays=found)
        # a Sunday is the last day of the week that begins on Monday
        self.assertEqual(of_weeks["Easter"].tolist(), [1, 0, 0, 0, 0, 0])
        self.assertEqual(of_weeks["May Day"].tolist(), [0, 0, 0, 0, 1, 0])

    def test_years_without_a_date_of_a_holiday_are_named(self) -> None:
        months = pd.Series(1.0, pd.period_range("2024-01", periods=36, freq="M"))
        easter = {"Easter": ["2025-04-20", "2026-04-05"]}
        with self.assertWarnsRegex(kd.DataWarning, "'Easter' has no date in 2024, 2027 to 2028,"):
            kd.calendar_regressors(months, ahead=24, holidays=easter)

    def test_what_has_no_calendar_is_refused(self) -> None:
        days = pd.Series(1.0, pd.date_range("2027-03-20", periods=10))
        for series, options, words in (
            ([1.0, 2.0], {}, "dates as its index"),
            (days, {}, "one value per day has no regressors of days"),
            (days, {"holidays": {"May": ["2030-05-01"]}}, "none of the holidays 'May' lies"),
            (days, {"holidays": {"May": ["first"]}}, "must be dates"),
            (days, {"days": "sundays"}, "working"),
        ):
            with self.assertRaisesRegex(kd.ParameterError, words):
                kd.calendar_regressors(series, **options)


if __name__ == "__main__":
    unittest.main()


class RegressorsOfAFile(unittest.TestCase):
    def test_what_is_not_known_is_named_as_the_file_has_it(self) -> None:
        rows = [f"2024-{month:02},{10 + month % 3},{month % 2}" for month in range(1, 13)]
        rows += ["2025-01,,1", "2025-02,,0"]
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder, "sales.csv")
            for spoiled, words in (
                ({2: "2024-03,13,"}, r"row 4: the regressor 'promo' has no number"),
                ({4: None}, "the period 2024-05-01 has no row, and a regressor"),
            ):
                kept = [spoiled.get(place, row) for place, row in enumerate(rows)]
                text = "\n".join(["month,sales,promo", *(row for row in kept if row)])
                file.write_text(text, encoding="utf-8")
                with self.assertRaisesRegex(kd.FileError, words):
                    series_and_regressors(
                        file, "sales", "month", None, TableFormat.checked(), ["promo"]
                    )
