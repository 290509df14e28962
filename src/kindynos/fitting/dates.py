"""The dates of a series: evenly spaced, none twice, by days, weeks, months, quarters or years."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import array_of

EVERY = {"day": 1, "working day": 1, "week": 7, "month": 30, "quarter": 91, "year": 365}
MOST_DATES = 100_000  # that a file may leave out
SEASONS = {"month": 12, "quarter": 4}  # that are looked for when none is named


@dataclass(frozen=True)
class DatedSeries:
    """Values ``(values,)``, NaN where one is missing, with their dates and spacing if there are
    any.
    """

    values: Floats
    dates: Any = None
    every: str | None = None
    name: str | None = None

    @property
    def season(self) -> int:
        """The usual season of such a spacing, 0 where there is none."""
        season = SEASONS.get(self.every or "", 0)
        return season if 2 * season <= len(self.values) else 0

    def after(self, periods: int) -> Any:
        """Return the dates of the next periods, or their numbers."""
        import pandas as pd

        if self.dates is None:
            return np.arange(len(self.values) + 1, len(self.values) + periods + 1)
        last = self.dates[-1]
        if self.every == "working day":
            return pd.bdate_range(last, periods=periods + 1)[1:]
        if self.every in ("day", "week"):
            return pd.DatetimeIndex(
                [last + pd.Timedelta(days=EVERY[self.every] * k) for k in range(1, periods + 1)]
            )
        months = {"month": 1, "quarter": 3, "year": 12}[self.every or "month"]
        ends = last.is_month_end
        steps = [pd.DateOffset(months=months * k) for k in range(1, periods + 1)]
        datetime_index = pd.DatetimeIndex([last + step for step in steps])
        return datetime_index + pd.offsets.MonthEnd(0) if ends else datetime_index


def dated_series(series: Any, every: str | None = None) -> DatedSeries:
    """Return a series with its dates checked, from a pandas Series with dates as its index, or
    plain values.

    Raises ParameterError for dates that are doubled, not in order or not evenly spaced, naming the
    first.
    """
    index = getattr(series, "index", None)
    if index is None or callable(index):
        return DatedSeries(array_of("series", series))
    import pandas as pd

    name = None if getattr(series, "name", None) is None else str(series.name)
    values = array_of("series", series.to_numpy())
    if isinstance(index, pd.PeriodIndex):
        index = index.to_timestamp()
    if not isinstance(index, pd.DatetimeIndex):
        return DatedSeries(values, name=name)
    spacing = check_dates(index, every)
    return DatedSeries(values, index, spacing, name)


def check_dates(dates: Any, every: str | None = None) -> str:
    """Return the spacing of dates; raises ParameterError as ``dated_series`` does."""
    if every is not None and every not in EVERY:
        raise ParameterError(f"no spacing {every!r}", unknown=every, known=list(EVERY))
    if dates.isna().any():
        raise ParameterError(f"date {int(np.argmax(dates.isna()))} is missing")
    doubled = dates.duplicated()
    if doubled.any():
        raise ParameterError(f"the date {_day(dates[int(np.argmax(doubled))])} is there twice")
    gaps = np.diff(dates.to_numpy().astype("datetime64[D]").astype(np.int64))
    if (gaps < 0).any():
        position = int(np.argmax(gaps < 0))
        raise ParameterError(
            f"{_day(dates[position + 1])} comes after {_day(dates[position])}; sort the dates"
        )
    if len(dates) < 3:
        return every or "day"
    spacing = every or _spacing(dates, gaps)
    steps = _steps(dates, spacing)
    uneven = np.flatnonzero(np.diff(steps) != 1)
    if len(uneven):
        first, second = dates[int(uneven[0])], dates[int(uneven[0]) + 1]
        raise ParameterError(
            f"the dates are not evenly spaced, one a {spacing}: {_day(second)} follows "
            f"{_day(first)}; write missing values as "
            "empty cells"
        )
    return spacing


def with_missing_dates(dates: Any, every: str | None = None) -> Any:
    """Return ascending dates with those between them that are missing, as their spacing tells; as
    they are where no spacing does.
    """
    gaps = np.diff(dates.to_numpy().astype("datetime64[D]").astype(np.int64))
    if len(dates) < 3 or (gaps <= 0).any():
        return dates
    spacing = every or _spacing(dates, gaps)
    steps = np.diff(_steps(dates, spacing))
    if (steps == 1).all() or (steps != np.round(steps)).any() or steps.sum() > MOST_DATES:
        return dates
    rows = [dates[0]]
    for position, step in enumerate(steps.astype(int).tolist()):
        before = DatedSeries(np.empty(1), dates[position : position + 1], spacing)
        rows += (
            [*before.after(step - 1), dates[position + 1]] if step > 1 else [dates[position + 1]]
        )
    return type(dates)(rows)


def _day(date: Any) -> str:
    return str(date)[:10]


def _spacing(dates: Any, gaps: Any) -> str:
    middle = float(np.median(gaps))
    if middle <= 1:
        weekend = bool((dates.day_of_week >= 5).any())
        return "day" if weekend or gaps.max() <= 1 else "working day"
    return min(("week", "month", "quarter", "year"), key=lambda name: abs(EVERY[name] - middle))


def _steps(dates: Any, spacing: str) -> Any:
    """Return the number of each date's period, which is one more than the last where they are
    evenly spaced.
    """
    days = dates.to_numpy().astype("datetime64[D]")
    if spacing == "day":
        return days.astype(np.int64)
    if spacing == "week":
        return np.round((days - days[0]).astype(np.int64) / 7, 6)
    if spacing == "working day":
        return np.array([np.busday_count(days[0], day) for day in days])
    months = dates.year.to_numpy() * 12 + dates.month.to_numpy()
    size = {"month": 1, "quarter": 3, "year": 12}[spacing]
    return (months - months[0]) / size
