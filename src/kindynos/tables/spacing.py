"""How far dates lie apart, and the words and the yearly figures that follow from it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.tables.periods import DAYS_A_YEAR, PER_YEAR

# the days between dates that follow each other, at least and at most
GAPS = {"week": (4, 10), "month": (25, 36), "quarter": (80, 101), "year": (350, 380)}
CODES = {"month": "M", "quarter": "Q", "year": "Y"}  # pandas' calendar periods
LONGEST_WEEKEND = 7  # days between daily dates, with the holidays around a weekend
WEEK = 7
MOSTLY = 0.8  # the share of gaps that decide a spacing
FINER = 1.1  # times the periods of a year, from which a spacing is the finer one


@dataclass(frozen=True)
class DateSpacing:
    """How far dates lie apart: ``name`` is "working day" (of a week of five), "day" (of seven),
    "week", "month", "quarter", "year", or "irregular"; ``per_year`` the number of dates in a year.
    """

    name: str
    per_year: float

    @property
    def unit(self) -> str:
        """The word for one period: "day", "week", "month", "quarter", "year" or "period"."""
        return {"working day": "day", "irregular": "period"}.get(self.name, self.name)

    @property
    def longest_gap(self) -> float:
        """The most days between dates that follow each other with none left out."""
        if self.unit == "day":
            return LONGEST_WEEKEND
        return GAPS[self.name][1] if self.name in GAPS else 3 * DAYS_A_YEAR / self.per_year

    def span(self, periods: int) -> str:
        """Return a length of time in words.

        >>> DateSpacing("month", 12).span(1), DateSpacing("working day", 252).span(10)
        ('1 month', '10 days')
        """
        return f"{periods} {self.unit}{'' if periods == 1 else 's'}"

    def stretch(self, periods: int) -> str:
        """Return the word for what a figure over a number of periods is one of.

        >>> DateSpacing("week", 52).stretch(1), DateSpacing("week", 52).stretch(4)
        ('week', 'stretch of 4 weeks')
        """
        return self.unit if periods == 1 else f"stretch of {self.span(periods)}"

    def after(self, date: pd.Timestamp) -> pd.Timestamp:
        """Return the date that follows, as far as the spacing tells."""
        step: Any = {
            "working day": pd.offsets.BDay(1),
            "month": pd.DateOffset(months=1),
            "quarter": pd.DateOffset(months=3),
            "year": pd.DateOffset(years=1),
        }.get(self.name, pd.Timedelta(days=round(DAYS_A_YEAR / self.per_year)))
        shifted: pd.Timestamp = date + step
        return shifted

    def finer_than(self, other: DateSpacing) -> bool:
        """Return whether these dates follow each other faster than those of another spacing."""
        return self.unit != other.unit and self.per_year > FINER * other.per_year

    def periods(self, dates: pd.DatetimeIndex, longer: str) -> pd.PeriodIndex:
        """Return the longer period that each date is in; a week ends on the last day of trading."""
        week = "W-SUN" if self.name == "day" else "W-FRI"
        return dates.to_period(CODES.get(longer, week))


SPACINGS = {
    name: DateSpacing("working day" if name == "day" else name, per_year)
    for name, per_year in PER_YEAR.items()
}


def spacing_of(dates: pd.DatetimeIndex) -> DateSpacing:
    """Return how far ascending dates lie apart: what four fifths of the gaps between them say.

    Of daily dates those with a seventh of them on each day of the week are of a market that never
    closes. Dates with no such spacing are "irregular", with as many a year as they had.

    >>> spacing_of(pd.date_range("2027-01-01", periods=24, freq="MS"))
    DateSpacing(name='month', per_year=12)
    """
    gaps = np.diff(dates.to_numpy()) / np.timedelta64(1, "D")
    if np.median(gaps) == 1 and _mostly(gaps <= LONGEST_WEEKEND):
        by_weekday = np.bincount(dates.day_of_week, minlength=7)
        open_days = int((by_weekday > by_weekday.max() / 2).sum())
        if len(dates) < 14:
            open_days = 7 if by_weekday[5:].all() else 5
        if open_days == WEEK:
            return DateSpacing("day", 365)
        return replace(SPACINGS["day"], per_year=round(SPACINGS["day"].per_year * open_days / 5))
    for name, (least, most) in GAPS.items():
        if _mostly((gaps >= least) & (gaps <= most)):
            return SPACINGS[name]
    return DateSpacing("irregular", float(DAYS_A_YEAR / gaps.mean()))


def _mostly(holds: NDArray[np.bool_]) -> bool:
    return bool(np.mean(holds) >= MOSTLY)
