"""The periods of a model and their labels."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from kindynos.errors import ModelError
from kindynos.formula.tree import PERIOD_ENDS, PERIODS_A_YEAR
from kindynos.tables.periods import CALENDAR, PER_YEAR
from kindynos.validate import check_integer, invalid_argument, one_of

STEPS = {name: PER_YEAR[name] for name in CALENDAR}  # periods in a year
_EXAMPLES = {"year": "2028", "quarter": "2028-Q1", "month": "2028-01", "week": "2028-W05"}
_PATTERNS = {
    "year": re.compile(r"(\d{4})()"),
    "quarter": re.compile(r"(\d{4})[- ]?Q([1-4])"),
    "month": re.compile(r"(\d{4})-(0[1-9]|1[0-2])"),
    "week": re.compile(r"(\d{4})-?W(0[1-9]|[1-4]\d|5[0-3])"),  # of ISO 8601
}
MOST_PERIODS = 10_000


@dataclass(frozen=True)
class Timeline:
    """How many periods a model has, how long each is, and which is the first; without periods, a
    single time.
    """

    periods: int | None = None
    start: str | None = None
    every: str = "year"

    @classmethod
    def of(cls, periods: Any, start: Any, every: Any) -> Timeline:
        """Return the timeline of checked arguments; raises ParameterError or ModelError."""
        one_of("every", every, tuple(STEPS))
        if periods is None:
            if start is not None:
                raise ModelError(f"start={start!r} needs periods=, the number of periods")
            return cls(every=every)
        check_integer("periods", periods, least=1)
        if periods > MOST_PERIODS:
            raise invalid_argument("periods", f"at most {MOST_PERIODS:,}", periods)
        if start is None:
            return cls(periods, None, every)
        if (
            isinstance(start, bool)
            or not isinstance(start, str | int)
            or not _PATTERNS[every].fullmatch(str(start))
        ):
            raise invalid_argument("start", f"a {every} such as {_EXAMPLES[every]!r}", start)
        timeline = cls(periods, str(start), every)
        if every == "week":
            timeline._thursdays  # noqa: B018  # a year may have no week 53
        return timeline

    @property
    def _thursdays(self) -> list[date]:
        """The Thursday of each week, which says in which year and month the week lies; raises
        ParameterError for a week that its year does not have.
        """
        match = _PATTERNS["week"].fullmatch(self.start or "")
        if match is None:
            return []
        try:
            first = date.fromisocalendar(int(match[1]), int(match[2]), 4)
        except ValueError:
            raise invalid_argument(
                "start", f"a week of {match[1]}, which has 52", self.start
            ) from None
        return [first + timedelta(weeks=period) for period in range(self.periods or 0)]

    @property
    def calendar(self) -> dict[str, tuple[float, ...]]:
        """The year, quarter, month and week of each period, as far as the length of a period tells
        them; nothing without a start. A week lies where its Thursday does.
        """
        match = _PATTERNS[self.every].fullmatch(self.start) if self.start else None
        if match is None:
            return {}
        if self.every == "week":
            days = self._thursdays
            return {
                "year": tuple(float(day.year) for day in days),
                "quarter": tuple(float((day.month + 2) // 3) for day in days),
                "month": tuple(float(day.month) for day in days),
                "week": tuple(float(day.isocalendar().week) for day in days),
            }
        steps = STEPS[self.every]
        first = int(match[1]) * steps + (int(match[2]) - 1 if match[2] else 0)
        made = [divmod(first + period, steps) for period in range(self.periods or 0)]
        by_name = {"year": tuple(float(year) for year, _ in made)}
        if self.every != "year":
            by_name["quarter"] = tuple(float(step // (steps // 4) + 1) for _, step in made)
        if self.every == "month":
            by_name["month"] = tuple(float(step + 1) for _, step in made)
        return by_name

    @property
    def known(self) -> dict[str, float | tuple[float, ...]]:
        """What formulas may use without its being declared: numbers and rows by name. A quantity of
        such a name takes its place.
        """
        last = {"last": float(self.periods)} if self.periods else {}
        ends = {PERIOD_ENDS: self._ends} if self.calendar else {}
        return {PERIODS_A_YEAR: float(STEPS[self.every]), **last, **ends, **self.calendar}

    @property
    def _ends(self) -> tuple[float, ...]:
        """The last day of each period, in days since 1970."""
        if self.every == "week":
            return tuple(float((day - date(1970, 1, 1)).days + 3) for day in self._thursdays)
        steps, calendar = 12 // STEPS[self.every], self.calendar
        parts = calendar.get("month", calendar.get("quarter", (1.0,) * (self.periods or 0)))
        months = [
            (int(year) - 1970) * 12 + int(step) * steps
            for year, step in zip(calendar["year"], parts, strict=True)
        ]
        firsts = np.array(months).astype("datetime64[M]").astype("datetime64[D]")
        return tuple((firsts.astype(np.int64) - 1).astype(float).tolist())

    @property
    def labels(self) -> list[str]:
        """The label of each period: ``2028``, ``2028 Q1``, ``2028-01`` or ``2028-W05``; 1, 2, ...
        without a start.
        """
        count = self.periods or 0
        match = _PATTERNS[self.every].fullmatch(self.start) if self.start else None
        if match is None:
            return [str(period + 1) for period in range(count)]
        if self.every == "week":
            weeks = [day.isocalendar() for day in self._thursdays]
            return [f"{day.year}-W{day.week:02d}" for day in weeks]
        steps = STEPS[self.every]
        first = int(match[1]) * steps + (int(match[2]) - 1 if match[2] else 0)
        made = [divmod(first + period, steps) for period in range(count)]
        if self.every == "year":
            return [str(year) for year, _ in made]
        if self.every == "quarter":
            return [f"{year} Q{step + 1}" for year, step in made]
        return [f"{year}-{step + 1:02d}" for year, step in made]
