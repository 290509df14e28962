"""The data of an outcome that a page lets its reader explore: its histogram and curves, its
percentiles, and what the script needs to work out chances on either side of cut-offs as ``chance``
does.
"""

from __future__ import annotations

import base64
import json
import math
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.formatting import (
    brief,
    in_one_cell,
    in_unit,
    is_per_cent,
    number,
    step_of,
    times_shown,
)
from kindynos.inference.intervals import Z, t_point
from kindynos.results.read_trials import ReadTrials
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.statistics import FEW_BEYOND
from kindynos.units.reading import read_unit

MOST_VALUES = 50_000  # trials whose values are sent; of more, counts on steps
STEPS, BARS, LOOKED = 700, 60, 4_000
PERCENTILES = tuple(q / 2 for q in range(1, 200))  # whose values and intervals are sent
FINEST = 1e-5  # of the power of ten below an axis: steps on which cut-offs stay exact
MOST_EXACT = 2_000  # values that are sent in full beside those in half the room
TOP, HEIGHT, LOW = 34, 216, 84  # pixels of a picture, alone and in a group; across: per cent


@dataclass(frozen=True)
class Live:
    """An outcome as a page shows it: the picture, the first chances, and the data of the script."""

    name: str
    title: str
    label: str
    json: str
    bars: list[dict[str, Any]]
    ticks: list[dict[str, Any]]
    base: float | None
    cut: float  # the place of the cut-off
    cut_words: str
    hurts: str  # the side of the target that hurts: "low", "high" or neither
    unit: str
    tall: int  # pixels of the highest bar
    drivers: list[str]
    group: str  # boxes of one group share their cut-offs
    less: str  # the curve of the chance of at most a value, and of more
    more: str
    percentile: str  # the median, until another is asked for
    below: str
    above: str
    at: str


Trials = Run | ReadTrials


def drivers_looked_at(run: Trials, names: list[str]) -> str:
    """Return, for the script, where each driver lay in the first trials, from 0 to 255."""
    rows = []
    for name in names:
        drawn = np.asarray(run[name].values)
        drawn = (drawn.mean(axis=0) if drawn.ndim == 2 else drawn)[:LOOKED]
        order = np.argsort(np.argsort(drawn, kind="stable"), kind="stable")
        rows.append(_packed((256 * order // max(len(drawn), 1)).astype(np.uint8)))
    return json.dumps(rows)


def live(
    result: Any,
    title: str,
    drivers: list[str],
    *,
    axis: tuple[float, float] | None = None,
    cut: float | None = None,
    group: str = "",
    most_values: int = MOST_VALUES,
) -> Live | None:
    """Return an outcome as a page shows it; None for a row, and for one without any value or
    spread. Boxes of one ``group`` have an ``axis`` in common, and the first ``cut``.
    """
    if result.is_row:
        return None
    values = np.asarray(result.values)
    value = values[np.isfinite(values)]
    if not len(value) or np.ptp(value) == 0:
        return None
    first, last = axis or axis_of(value)
    cut = cut_of(result) if cut is None else cut
    scale = 100.0 if is_per_cent(result.unit) else 1.0
    step = float(10.0 ** (math.floor(math.log10((last - first) / 1000))))
    read = _percentiles(result)
    ranked = np.asarray(result.ranked.values)
    data = {
        **_counted(result, ranked, first, last, most_values),
        "axis": [first, last],
        "step": step,
        "scale": scale,
        "start": cut,
        "unit": result.unit or "",
        "target": result.target is not None,
        "percentiles": read,
    }
    if drivers and "counts" in data:  # the trials whose drivers are looked at
        data["first"] = _sent(ranked[:LOOKED], _finest(first, last))
    at = result.chance(at=cut)
    shown = [
        in_one_cell(result.chance(below=cut), "share"),
        in_one_cell(result.chance(above=cut), "share"),
        in_one_cell(at, "share") if at > 0 else "",
    ]
    unit = f", {result.unit}" if result.unit else ""
    base = None
    if result.base is not None and first <= result.base <= last:
        base = _place(float(result.base), first, last)
    less, more = _curves(result, first, last)
    return Live(
        title,
        title if group else f"{title}{unit}",
        f"Histogram of {title}{unit}, {result.size:,} trials",
        json.dumps(data).replace("<", "\\u003c"),
        _bars(result, first, last, LOW if group else HEIGHT),
        _ticks(first, last, result.unit, bool((value == np.floor(value)).all())),
        base,
        min(max(_place(cut, first, last), 0.0), 100.0),
        brief(cut * scale).replace("-", "−"),
        "" if result.target is None else "low" if result.better == "high" else "high",
        unit,
        LOW if group else HEIGHT,
        drivers,
        group,
        less,
        more,
        _in_words(read[len(read) // 2]),
        *shown,
    )


def _percentiles(result: Result) -> list[str]:
    """Return each percentile with the ends of its 95 % interval, as tables round them."""
    words = []
    for figure in result.percentile(PERCENTILES):
        percentile = in_unit(figure, result.unit)
        step = step_of(percentile.error)
        ends = () if step is None else (percentile.low, percentile.high)
        figures = (float(percentile), *ends)
        words.append(";".join(number(x, step) if step else brief(x) for x in figures))
    return words


def _in_words(percentile: str) -> str:
    """Return a percentile and its interval as the script says them too."""
    value, *ends = percentile.split(";")
    return f"{value} (95 % interval {ends[0]} to {ends[1]})" if ends else value


def _curves(result: Result, first: float, last: float) -> tuple[str, str]:
    """Return the points of the curve of at most a value, and of more."""
    values = np.asarray(result.percentile(PERCENTILES))
    shares = np.array(PERCENTILES) / 100
    finite = np.isfinite(values) & (values >= first) & (values <= last)
    across = [_place(x, first, last) for x in values[finite].tolist()]

    def points(heights: Floats) -> str:
        up = [round(100 - 100 * share, 1) for share in heights[finite].tolist()]
        return " ".join(f"{x},{y}" for x, y in zip(across, up, strict=True))

    return points(shares), points(1 - shares)


def axis_of(values: Floats) -> tuple[float, float]:
    """Return the ends of the axis: where nearly all trials lie, with some room."""
    low, high = np.quantile(values, [0.001, 0.999])
    if low == high:
        low, high = float(values.min()), float(values.max())
    room = 0.05 * (high - low)
    return float(low - room), float(high + room)


def cut_of(result: Result) -> float:
    """Return the cut-off to begin with: the target, or else the base case or the median."""
    for value in (result.target, result.base, result.median):
        if value is not None and math.isfinite(float(value)):
            return float(value)
    sample = result.sample
    return float(sample.only(np.isfinite(sample.values)).quantile(0.5))


def _counted(
    result: Result, values: Floats, first: float, last: float, most_values: int
) -> dict[str, Any]:
    """Return the blocks, and the values or their counts on steps."""
    everyone = result.sample.with_values(np.zeros(len(values)))  # those without a value too
    bounds = np.asarray(everyone.bounds)
    about = {
        "lengths": np.diff(bounds).tolist(),
        "sizes": np.diff(bounds).tolist(),
        "count": len(values),
        "hasError": everyone.has_error,
        "independent": everyone.independent,
        "draws": everyone.effective_count / max(everyone.together, 1),
        "fewest": FEW_BEYOND,
        "z": Z,
        "t": t_point(everyone.blocks - 1),
    }
    if everyone.valid_weights is not None:
        weights = everyone.valid_weights
        about |= {
            "sizes": everyone.by_block(weights).tolist(),
            "weights": _packed(np.asarray(weights, dtype="<f8")),
            "squares": float((weights**2).sum()),
        }
    if len(values) <= most_values or everyone.valid_weights is not None:
        return {**about, **_sent(values, _finest(first, last))}
    steps = _round_steps(first, last, 100.0 if is_per_cent(result.unit) else 1.0)
    if result.target is not None:
        steps = np.unique(np.append(steps, result.target))
    counts, with_value = [], []
    for begin, end in pairwise(bounds.tolist()):
        block = np.sort(values[begin:end])
        block = block[~np.isnan(block)]
        with_value.append(len(block))
        counts.append(np.searchsorted(block, steps, side="left"))
        counts.append(np.searchsorted(block, steps, side="right"))
    packed = _packed(np.array(counts, dtype="<u2").ravel())
    return {**about, "counts": packed, "steps": steps.tolist(), "known": with_value}


def _finest(first: float, last: float) -> float:
    """Return the step between the cut-offs on an axis that stay exact."""
    return float(10 ** math.floor(math.log10(last - first)) * FINEST)


def _sent(values: Floats, step: float) -> dict[str, Any]:
    """Return values for the script, in half the room where that leaves each cut-off that is a
    multiple of ``step`` on the same side of each value.

    Values that would change their side, or lie on a multiple, are sent in full under ``exact``,
    and stand for all that round alike.
    """
    full = {"values": _packed(np.asarray(values, dtype="<f8"))}
    value = values[np.isfinite(values)]
    with np.errstate(over="ignore"):
        rounded = value.astype("<f4").astype(np.float64)
    if not (np.abs(rounded - value) < step).all():  # not so of infinite ones either
        return full
    beside = np.round(value / step) * step
    on_step = np.abs(value - beside) <= 4 * np.spacing(np.abs(value))
    exact = np.unique(value[on_step | (np.sign(value - beside) != np.sign(rounded - beside))])
    alike = np.isin(rounded, exact.astype("<f4").astype(np.float64))
    if len(exact) > MOST_EXACT or len(np.unique(value[alike])) > len(exact):
        return full
    return {"values": _packed(values.astype("<f4")), "exact": exact.tolist()}


def _round_steps(first: float, last: float, scale: float) -> Floats:
    """Return round figures between the ends, at most ``STEPS``: those that people type."""
    least = (last - first) * scale / STEPS
    power = 10.0 ** math.floor(math.log10(least))
    width = next(step * power for step in (1, 2, 5, 10) if step * power >= least)
    low, high = math.ceil(first * scale / width), math.floor(last * scale / width)
    steps: Floats = np.arange(low, high + 1, dtype=np.float64) * (width / scale)
    return steps


def _packed(array: Any) -> str:
    return base64.b64encode(array.tobytes()).decode()


def _place(x: float, first: float, last: float) -> float:
    """Return how far across the picture a value is, in per cent."""
    return round(100 * (x - first) / (last - first), 2)


def _bars(result: Result, first: float, last: float, tall: int) -> list[dict[str, Any]]:
    finite = result.sample.only(np.isfinite(result.values))
    inside = finite.with_values(np.clip(finite.values, first, last))
    shares = inside.histogram(np.linspace(first, last, BARS + 1))
    most = max(float(shares.max()), 1e-300)
    tops = [round(tall * share / most, 1) for share in shares.tolist()]
    return [
        {"x": round(100 * position / BARS, 2), "y": round(TOP + tall - up, 1), "height": up}
        for position, up in enumerate(tops)
        if up
    ]


def _ticks(first: float, last: float, unit: str | None, whole: bool) -> list[dict[str, Any]]:
    from matplotlib.ticker import MaxNLocator

    scale = times_shown(unit)
    locator = MaxNLocator(7, steps=[1, 2, 2.5, 5, 10], integer=whole)
    places = locator.tick_values(first * scale, last * scale)
    return [
        {"x": _place(x / scale, first, last), "text": tick(x, unit)}
        for x in places
        if first <= x / scale <= last
    ]


def tick(x: float, unit: str | None) -> str:
    """Return a figure on an axis, large ones in millions of a unit."""
    text = f"{brief(x / 1e6)} {millions(unit)}" if abs(x) >= 1e6 else brief(x)
    return text.replace("-", "−")


def millions(unit: str | None) -> str:
    """Return how pages write millions: m of money, which nobody takes for metres.

    >>> millions("EUR"), millions("passengers")
    ('m', 'million')
    """
    stated = read_unit(unit)
    return "m" if stated is not None and stated.is_money else "million"
