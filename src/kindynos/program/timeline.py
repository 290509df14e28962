"""The periods of a model and their labels."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.errors import ModelError
from kindynos.formula.tree import PERIOD_ENDS, PERIODS_A_YEAR
from kindynos.tables.periods import CALENDAR, PER_YEAR
from kindynos.validate import check_integer, invalid_argument, one_of

STEPS = {name: PER_YEAR[name] for name in CALENDAR}  # periods in a year
_EXAMPLES = {"year": "2028", "quarter": "2028-Q1", "month": "2028-01"}
_PATTERNS = {
    "year": re.compile(r"(\d{4})()"),
    "quarter": re.compile(r"(\d{4})[- ]?Q([1-4])"),
    "month": re.compile(r"(\d{4})-(0[1-9]|1[0-2])"),
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
        return cls(periods, str(start), every)

    @property
    def calendar(self) -> dict[str, tuple[float, ...]]:
        """The year, quarter and month of each period, as far as the length of a period tells them;
        nothing without a start.
        """
        match = _PATTERNS[self.every].fullmatch(self.start) if self.start else None
        if match is None:
            return {}
        steps = STEPS[self.every]
        first = int(match[1]) * steps + (int(match[2]) - 1 if match[2] else 0)
        made = [divmod(first + period, steps) for period in range(self.periods or 0)]
        by_name = {"year": tuple(float(year) for year, _ in made)}
        if self.every != "year":
            by_name["quarter"] = tuple(float(piece // (steps // 4) + 1) for _, piece in made)
        if self.every == "month":
            by_name["month"] = tuple(float(piece + 1) for _, piece in made)
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
        steps, calendar = 12 // STEPS[self.every], self.calendar
        parts = calendar.get("month", calendar.get("quarter", (1.0,) * (self.periods or 0)))
        months = [
            (int(year) - 1970) * 12 + int(piece) * steps
            for year, piece in zip(calendar["year"], parts, strict=True)
        ]
        firsts = np.array(months).astype("datetime64[M]").astype("datetime64[D]")
        return tuple((firsts.astype(np.int64) - 1).astype(float).tolist())

    @property
    def labels(self) -> list[str]:
        """The label of each period: ``2028``, ``2028 Q1`` or ``2028-01``; 1, 2, ... without a
        start.
        """
        count = self.periods or 0
        match = _PATTERNS[self.every].fullmatch(self.start) if self.start else None
        if match is None:
            return [str(period + 1) for period in range(count)]
        steps = STEPS[self.every]
        first = int(match[1]) * steps + (int(match[2]) - 1 if match[2] else 0)
        made = [divmod(first + period, steps) for period in range(count)]
        if self.every == "year":
            return [str(year) for year, _ in made]
        if self.every == "quarter":
            return [f"{year} Q{piece + 1}" for year, piece in made]
        return [f"{year}-{piece + 1:02d}" for year, piece in made]
