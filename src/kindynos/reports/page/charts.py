"""The charts that a page draws itself: bars beside their names and figures, and values through
time with what was forecast.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.formatting import per_cent
from kindynos.reports.page.live import tick

MOST_BARS = 8  # of shares; the tables have all
DATES = 6  # on the axis of time
MONTH, DAY = 7, 10  # characters of a date
ROOM = 0.04  # of the range, beside bars that do not begin at 0


@dataclass(frozen=True)
class Bar:
    """A row of a chart: its bar and the ends of its error, in per cent of the room. ``kind`` is
    "less" for a bar that goes to the left, "hurts" for what nobody wants, "mark" for a line alone.
    """

    name: str
    begin: float
    width: float
    low: float
    high: float
    text: str
    way: str = ""  # "+" or "−" where the sign can be told
    kind: str = ""


@dataclass(frozen=True)
class Bars:
    """A chart of bars: its title, where the line that they begin at or that all are measured by
    lies, in per cent of the room, what is left out, and what is said of it.
    """

    title: str
    bars: Sequence[Bar]
    line: float = 0.0
    rest: str = ""
    remark: str = ""


@dataclass(frozen=True)
class Row:
    """What is drawn as a bar: from where to where, with the ends of its interval."""

    name: str
    begin: float
    end: float
    text: str
    low: float = math.nan
    high: float = math.nan
    way: str = ""
    kind: str = ""


def bars(
    title: str, rows: Iterable[Row], line: float = 0.0, rest: str = "", remark: str = ""
) -> Bars:
    """Return a chart of rows, with a line at a value."""
    rows = list(rows)
    ends = [line] + [x for row in rows for x in (row.begin, row.end, row.low, row.high)]
    finite = [x for x in ends if math.isfinite(x)]
    low, high = min(finite), max(finite)
    room = 0.0 if line in (low, high) else ROOM * (high - low)
    low, high = low - room * (low != 0), high + room
    span = (high - low) or 1.0

    def place(x: float) -> float:
        return round(100 * (min(max(x, low), high) - low) / span, 1)

    drawn = []
    for row in rows:
        first, last = sorted((place(row.begin), place(row.end)))
        error = (place(row.low), place(row.high)) if row.low == row.low else (first, first)
        kind = row.kind or ("less" if row.end < row.begin else "")
        text = row.text.replace("-", "−")
        drawn.append(Bar(row.name, first, round(last - first, 1), *error, text, row.way, kind))
    return Bars(title, drawn, place(line), rest, remark)


def shares(title: str, parts: Mapping[str, float]) -> Bars:
    """Return the bars of shares without errors, the first ones of many."""
    first = list(parts.items())[:MOST_BARS]
    left = len(parts) - len(first)
    rows = [Row(name, 0.0, float(share), per_cent(float(share))) for name, share in first]
    return bars(title, rows, rest=f"{left} more" if left else "")


@dataclass(frozen=True)
class ThroughTime:
    """Values through time with what was forecast of them, in thousandths of the room; ``marked``
    are those beyond it, in per cent of the room, with words.
    """

    title: str
    label: str
    values: str
    forecast: str
    zero: float
    marked: list[dict[str, Any]]
    ticks: list[dict[str, Any]]
    levels: list[dict[str, Any]]
    remark: str


def through_time(
    title: str,
    dates: pd.Index,
    values: Floats,
    forecast: Floats,
    marked: NDArray[np.bool_],
    remark: str,
) -> ThroughTime:
    """Return values by date, or by number, as lines from 0, the forecast as a line, and those
    beyond it marked.
    """
    from matplotlib.ticker import MaxNLocator

    count = len(values)
    low, high = min(0.0, float(values.min())), max(float(values.max()), float(forecast.max()))
    room = ROOM * ((high - low) or 1.0)
    low, high = low - room, high + room

    def across(position: int) -> float:
        return round(1000 * position / max(count - 1, 1), 1)

    def up(y: float) -> float:
        return round(1000 * (high - y) / (high - low), 1)

    levels = [y for y in MaxNLocator(5).tick_values(low, high) if low <= y <= high]
    steps = np.unique(np.linspace(0, count - 1, min(DATES, count)).astype(int)).tolist()
    return ThroughTime(
        title,
        f"{title}: {int(marked.sum())} of {count:,} are beyond the line",
        "".join(f"M{across(i)},{up(0.0)}V{up(y)}" for i, y in enumerate(values.tolist())),
        " ".join(f"{across(i)},{up(y)}" for i, y in enumerate(forecast.tolist())),
        up(0.0),
        [
            {
                "x": across(i) / 10,
                "y": up(float(values[i])) / 10,
                "words": f"{str(dates[i])[:DAY]}: {tick(float(values[i]), None)}",
            }
            for i in np.flatnonzero(marked).tolist()
        ],
        [{"x": across(i) / 10, "text": str(dates[i])[:MONTH]} for i in steps],
        [{"y": up(y) / 10, "text": tick(y, None)} for y in levels],
        remark,
    )
