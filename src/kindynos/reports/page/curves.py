"""The chart of curves that a page draws itself: lines, bands and points over an axis of numbers or
of labels, with their words.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import groupby
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.formatting import heading, spoken, times_shown, with_unit
from kindynos.reports.page.live import tick
from kindynos.results.joint import JointDistribution
from kindynos.results.result import Result

ROOM = 0.04  # of the range, around what is drawn
MOST_POINTS = 600
LABELS = 6  # on an axis of labels
POINTS = 400  # of a curve of trials
STROKES = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth")
Place = tuple[float, float]  # across and down, in thousandths of the room


@dataclass(frozen=True)
class Line:
    """Points joined, by their values across and up; ``kind`` is a stroke, "median", "step" for the
    sides of a histogram or "goal".
    """

    across: ArrayLike
    up: ArrayLike
    name: str = ""
    kind: str = "first"


@dataclass(frozen=True)
class Band:
    """What lies between two lines; ``kind`` is "wide" or "narrow"."""

    across: ArrayLike
    low: ArrayLike
    high: ArrayLike
    name: str = ""
    kind: str = "wide"


@dataclass(frozen=True)
class Points:
    """Points with words each; ``kind`` is "plain", "best" or "faint"."""

    across: ArrayLike
    up: ArrayLike
    name: str = ""
    words: Sequence[str] = ()
    kind: str = "plain"


@dataclass(frozen=True)
class Curves:
    """A chart of curves, in thousandths of the room; the points in per cent of it."""

    title: str
    label: str
    names: tuple[str, str]  # of the axes, across and up
    bands: list[dict[str, str]]
    lines: list[dict[str, str]]
    points: list[dict[str, Any]]
    ticks: list[dict[str, Any]]
    levels: list[dict[str, Any]]
    keys: list[dict[str, str]] = field(default_factory=list)
    remark: str = ""


def curves(
    title: str,
    parts: Iterable[Line | Band | Points],
    names: tuple[str, str],
    *,
    units: tuple[str | None, str | None] = (None, None),
    labels: Sequence[str] = (),
    remark: str = "",
    floor: float | None = None,
) -> Curves:
    """Return a chart of curves: ``units`` are those that the axes show, ``labels`` are those of
    whole numbers across from 0, and the axis up begins at a ``floor`` at the latest.
    """
    drawn = [part for part in parts if len(np.atleast_1d(part.across))]
    x = np.concatenate([_of(part.across) for part in drawn])
    y = np.concatenate([value for part in drawn for value in _heights(part)])
    left, right = _ends(x, room=0.0 if labels else ROOM)
    low, high = _ends(y if floor is None else np.append(y, floor), room=ROOM)
    if floor is not None and low < floor:
        low = floor

    def places(across: ArrayLike, up: ArrayLike) -> list[Place | None]:
        one = 1000 * (_of(across) - left) / (right - left)
        two = 1000 * (high - _of(up)) / (high - low)
        pairs = zip(one.tolist(), two.tolist(), strict=True)
        return [(round(a, 1), round(b, 1)) if math.isfinite(a + b) else None for a, b in pairs]

    bands, lines, points = [], [], []
    for part in drawn:
        if isinstance(part, Band):
            edge = places(part.across, part.low) + places(part.across, part.high)[::-1]
            bands.append({"kind": part.kind, "points": _joined(one for one in edge if one)})
        elif isinstance(part, Line):
            for corners in _unbroken(places(part.across, part.up)):
                lines.append({"kind": part.kind, "points": _joined(corners)})
        else:
            at = places(part.across, part.up)
            words = part.words or [""] * len(at)
            told = [(one, text) for one, text in zip(at, words, strict=True) if one]
            points += [
                {"x": one[0] / 10, "y": one[1] / 10, "words": text, "kind": part.kind}
                for one, text in told[:: -(-len(told) // MOST_POINTS) or 1]
            ]
    keys = [{"kind": part.kind, "of": type(part).__name__, "name": part.name} for part in drawn]
    return Curves(
        title,
        f"{title}: {names[1]} over {names[0]}",
        names,
        bands,
        lines,
        points,
        _labelled(labels) if labels else _ticks(left, right, units[0], 6),
        [{"y": one["x"], "text": one["text"]} for one in _ticks(high, low, units[1], 5)],
        [key for key in keys if key["name"]],
        remark,
    )


def histogram(values: Floats, edges: Floats) -> tuple[Floats, Floats]:
    """Return the corners of a histogram whose bars show shares of the values."""
    shares = np.histogram(values, edges)[0] / len(values)
    return np.repeat(edges, 2), np.concatenate([[0.0], np.repeat(shares, 2), [0.0]])


def cumulative(title: str, shares: Mapping[str, tuple[Floats, Floats]], unit: str | None) -> Curves:
    """Return a curve for each of a few names: values, and the share of cases at or below each."""
    shown = list(shares.items())[: len(STROKES)]
    parts = [
        Line(values, below, name, stroke)
        for (name, (values, below)), stroke in zip(shown, STROKES, strict=False)
    ]
    left = len(shares) - len(shown)
    return curves(
        title,
        parts,
        (unit or "value", "cases at or below, %"),
        units=(unit, "%"),
        floor=0.0,
        remark=f"{left} more are in the tables." if left else "",
    )


def of_results(title: str, results: Mapping[str, Result]) -> Curves:
    """Return the share of trials at or below each value of results; of trials that have none, or
    an infinite one, the name says how many there are.
    """
    shares = {
        f"{name} ({one.lacking})" if one.lacking else name: one.ranked.cumulative(POINTS)
        for name, one in results.items()
    }
    return cumulative(title, shares, next(iter(results.values())).unit)


def of_return_periods(result: Result) -> Curves:
    """Return what an outcome reaches on its bad side once in N trials, with its error."""
    table = result.return_periods()
    across = np.arange(len(table))
    side = "at least" if result.better == "low" else "at most"
    return curves(
        f"How bad, and how often: {spoken(result.name)}",
        [Band(across, table["low"], table["high"], "95 % error"), Line(across, table["value"])],
        ("once in N trials", with_unit(side, result.unit)),
        units=(None, result.unit),
        labels=[f"{times:g}" for times in table.index],
    )


def of_pair(pair: JointDistribution) -> Curves:
    """Return one quantity against another, trial by trial, with the cuts that part them."""
    sides = (pair.x, pair.y)
    (left, right), (low, high) = (_ends(one.values, room=0.0) for one in sides)
    across, up = pair.cuts
    return curves(
        f"{heading(pair.y.name)} against {spoken(pair.x.name)}",
        [
            Points(pair.x.values, pair.y.values, kind="faint"),
            Line([across, across], [low, high], kind="goal"),
            Line([left, right], [up, up], kind="goal"),
        ],
        (with_unit(pair.x.name, pair.x.unit), with_unit(pair.y.name, pair.y.unit)),
        units=(pair.x.unit, pair.y.unit),
    )


def _of(values: ArrayLike) -> Floats:
    return np.atleast_1d(np.asarray(values, dtype=np.float64))


def _heights(part: Line | Band | Points) -> list[Floats]:
    return [_of(part.low), _of(part.high)] if isinstance(part, Band) else [_of(part.up)]


def _ends(values: Floats, room: float) -> tuple[float, float]:
    finite = values[np.isfinite(values)]
    low, high = (float(finite.min()), float(finite.max())) if len(finite) else (0.0, 1.0)
    room *= (high - low) or abs(high) or 1.0
    return low - room, high + (room or (high == low))


def _unbroken(places: Sequence[Place | None]) -> Iterator[list[Place]]:
    """Yield the parts of a line between places that have no value."""
    for there, part in groupby(places, key=bool):
        if there:
            yield [one for one in part if one]


def _joined(places: Iterable[Place]) -> str:
    return " ".join(f"{x},{y}" for x, y in places)


def _ticks(first: float, last: float, unit: str | None, count: int) -> list[dict[str, Any]]:
    """Return round values between two ends with their places from the first end, in per cent."""
    from matplotlib.ticker import MaxNLocator

    scale = times_shown(unit)
    low, high = sorted((first * scale, last * scale))
    return [
        {"x": round(100 * (one / scale - first) / (last - first), 1), "text": tick(one, unit)}
        for one in MaxNLocator(count).tick_values(low, high)
        if low <= one <= high
    ]


def _labelled(labels: Sequence[str]) -> list[dict[str, Any]]:
    last = max(len(labels) - 1, 1)
    every = -(-len(labels) // LABELS)
    return [
        {"x": round(100 * position / last, 1), "text": labels[position]}
        for position in range(0, len(labels), every)
    ]
