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
from kindynos.formatting import brief, is_per_cent, number, share_decimals, step_of
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z
from kindynos.results.read_trials import ReadTrials
from kindynos.results.result import Result
from kindynos.results.run import Run

MOST_VALUES = 50_000  # trials whose values are sent; of more, counts on steps
STEPS, BARS, LOOKED = 500, 60, 4_000
MOST_DRIVERS = 12
PERCENTILES = tuple(q / 2 for q in range(1, 200))  # whose values and intervals are sent
LEFT, WIDTH, BOTTOM, HEIGHT = 40.0, 720.0, 235.0, 210.0


@dataclass(frozen=True)
class Live:
    """An outcome as a page shows it: the picture, the first chances, and the data of the script."""

    title: str
    label: str
    json: str
    bars: list[dict[str, Any]]
    ticks: list[dict[str, Any]]
    base: float | None
    first: float
    last: float
    step: float
    unit: str
    drivers: list[str]
    group: str  # boxes of one group share their cut-offs
    less: str  # the curve of the chance of so much or less, and of more
    more: str
    percentile: str  # the median, until another is asked for
    below: str
    between: str
    above: str
    at: str


Trials = Run | ReadTrials


def drivers_of(trials: Trials) -> list[str]:
    """Return what is looked at beside an outcome: drivers, or the columns of trials read."""
    names = trials.drivers if isinstance(trials, Run) else trials.outcomes
    return list(names)[:MOST_DRIVERS]


def drivers_looked_at(run: Trials) -> str:
    """Return, for the script, where each driver lay in the first trials, from 0 to 255; empty where
    the values of the trials are not sent.
    """
    names = drivers_of(run)
    if run.size > MOST_VALUES or len(names) < 1:
        return "[]"
    found = []
    for name in names:
        drawn = np.asarray(run[name].values)
        drawn = (drawn.mean(axis=0) if drawn.ndim == 2 else drawn)[:LOOKED]
        order = np.argsort(np.argsort(drawn, kind="stable"), kind="stable")
        found.append(_packed((256 * order // max(len(drawn), 1)).astype(np.uint8)))
    return json.dumps(found)


def live(
    result: Any,
    title: str,
    drivers: list[str],
    *,
    axis: tuple[float, float] | None = None,
    group: str = "",
    most_values: int = MOST_VALUES,
) -> Live | None:
    """Return an outcome as a page shows it; None for a row, and for one without any value or
    spread. Boxes of one ``group`` have an ``axis`` in common.
    """
    if result.is_row:
        return None
    values = np.asarray(result.values)
    known = values[np.isfinite(values)]
    if not len(known) or np.ptp(known) == 0:
        return None
    first, last = axis or axis_of(known)
    cuts = _cuts(result, known)
    scale = 100.0 if is_per_cent(result.unit) else 1.0
    step = float(10.0 ** (math.floor(math.log10((last - first) / 1000))))
    read = _percentiles(result)
    data = {
        **_counted(result, values, first, last, most_values),
        "axis": [first, last],
        "step": step,
        "scale": scale,
        "cuts": cuts,
        "percentiles": read,
    }
    low, high = cuts
    shown = [
        _shown(result.chance(below=low)),
        _shown(result.chance(above=low, below=high)) if low < high else "0.0 %",
        _shown(result.chance(above=high)),
        _shown(result.chance(at=low)),
    ]
    unit = f", {result.unit}" if result.unit else ""
    base = None
    if result.base is not None and first <= result.base <= last:
        base = round(_place(float(result.base), first, last), 1)
    less, more = _curves(result, first, last)
    return Live(
        title if group else f"{title}{unit}",
        f"Histogram of {title}{unit}, {result.size:,} trials",
        json.dumps(data).replace("<", "\\u003c"),
        _bars(known, first, last),
        _ticks(first, last, scale),
        base,
        first,
        last,
        step,
        unit,
        drivers if len(values) <= most_values else [],
        group,
        less,
        more,
        _in_words(read[len(read) // 2]),
        *shown,
    )


def _percentiles(result: Result) -> list[str]:
    """Return each percentile with the ends of its 95 % interval, as tables round them."""
    shown = result.in_per_cent() if is_per_cent(result.unit) else result
    found = shown.percentile(PERCENTILES)
    words = []
    for place in range(len(PERCENTILES)):
        value, low, high = (float(one[place]) for one in (np.asarray(found), found.low, found.high))
        step = step_of((high - low) / 2)
        figures = (value, low, high) if step is not None else (value,)
        words.append(";".join(number(one, step) if step else brief(one) for one in figures))
    return words


def _in_words(percentile: str) -> str:
    """Return a percentile and its interval as the script says them too."""
    value, *ends = percentile.split(";")
    return f"{value} (95 % interval {ends[0]} to {ends[1]})" if ends else value


def _curves(result: Result, first: float, last: float) -> tuple[str, str]:
    """Return the points of the curve of so much or less, and of more."""
    values = np.asarray(result.percentile(PERCENTILES))
    shares = np.array(PERCENTILES) / 100
    held = np.isfinite(values) & (values >= first) & (values <= last)
    across = [round(_place(x, first, last), 1) for x in values[held].tolist()]

    def points(heights: Floats) -> str:
        up = [round(BOTTOM - HEIGHT * share, 1) for share in heights[held].tolist()]
        return " ".join(f"{x},{y}" for x, y in zip(across, up, strict=True))

    return points(shares), points(1 - shares)


def axis_of(known: Floats) -> tuple[float, float]:
    """Return the ends of the axis: where nearly all trials lie, with some room."""
    low, high = np.quantile(known, [0.001, 0.999])
    if low == high:
        low, high = float(known.min()), float(known.max())
    room = 0.05 * (high - low)
    return float(low - room), float(high + room)


def _cuts(result: Result, known: Floats) -> list[float]:
    """Return the cut-offs to begin with: the target, or else the tenth and ninetieth percentile."""
    if result.target is not None:
        return [float(result.target)] * 2
    low, high = np.quantile(known, [0.1, 0.9])
    return [float(low), float(high)]


def _counted(
    result: Result, values: Floats, first: float, last: float, most_values: int
) -> dict[str, Any]:
    """Return the blocks, and the values or their counts on steps."""
    sample = result._sample
    bounds = np.asarray(sample.bounds)
    sizes = np.diff(bounds).tolist()
    everyone = len(values) >= 200 and len(sizes) >= 5
    about = {
        "sizes": sizes,
        "count": len(values),
        "hasError": bool(everyone),
        "independent": bool(sample.independent),
        "z": Z,
        "t": sample.student,
    }
    if len(values) <= most_values:
        return {**about, "values": _packed(np.asarray(values, dtype="<f8"))}
    steps = np.linspace(first, last, STEPS)
    if result.target is not None:
        steps = np.unique(np.append(steps, result.target))
    counts, known = [], []
    for begin, end in pairwise(bounds.tolist()):
        block = np.sort(values[begin:end])
        block = block[~np.isnan(block)]
        known.append(len(block))
        counts.append(np.searchsorted(block, steps, side="left"))
        counts.append(np.searchsorted(block, steps, side="right"))
    packed = _packed(np.array(counts, dtype="<u2").ravel())
    return {**about, "counts": packed, "steps": steps.tolist(), "known": known}


def _packed(array: Any) -> str:
    return base64.b64encode(array.tobytes()).decode()


def _shown(chance: Estimate) -> str:
    decimals = share_decimals([chance.error])
    error = f" ± {100 * chance.error:.{decimals}f} %" if chance.error == chance.error else ""
    return f"{100 * chance:.{decimals}f} %{error}"


def _place(x: float, first: float, last: float) -> float:
    return LEFT + WIDTH * (x - first) / (last - first)


def _bars(known: Floats, first: float, last: float) -> list[dict[str, Any]]:
    counts, edges = np.histogram(np.clip(known, first, last), bins=BARS, range=(first, last))
    most = max(int(counts.max()), 1)
    width = WIDTH / BARS
    return [
        {
            "x": round(LEFT + place * width, 2),
            "y": round(BOTTOM - HEIGHT * count / most, 2),
            "width": round(width - 1, 2),
            "height": round(HEIGHT * count / most, 2),
            "middle": float((low + high) / 2),
        }
        for place, (count, low, high) in enumerate(
            zip(counts.tolist(), edges[:-1], edges[1:], strict=True)
        )
    ]


def _ticks(first: float, last: float, scale: float) -> list[dict[str, Any]]:
    from matplotlib.ticker import MaxNLocator

    places = MaxNLocator(7, steps=[1, 2, 2.5, 5, 10]).tick_values(first * scale, last * scale)
    return [
        {"x": round(_place(x / scale, first, last), 1), "text": tick(x)}
        for x in places
        if first <= x / scale <= last
    ]


def tick(x: float) -> str:
    """Return a figure on an axis, large ones in millions."""
    return f"{brief(x / 1e6)} m" if abs(x) >= 1e6 else brief(x)
