"""The distribution of one outcome over the trials."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from matplotlib.axes import Axes

from kindynos.arrays import Floats
from kindynos.errors import KindynosError
from kindynos.formatting import number, shares, spoken
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    MIDDLE,
    NEW,
    bare,
    checked_colour,
    checked_format,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.results.result import Result, RowResult

MARKS = (5, 50, 95)


@picture
def distribution(
    result: Result | RowResult,
    ax: Axes = NEW,
    bins: int | None = None,
    below_colour: str | None = None,
    number_format: str | None = None,
) -> None:
    """Draw a histogram and the cumulative curve of ``run["name"]``, with target, base case and
    percentiles marked.

    ``bins`` is the number of bars; by default the Freedman-Diaconis rule decides (Zeitschrift für
    Wahrscheinlichkeitstheorie 57, 1981, 453-476). Bars below the target are dark, and the chances
    on either side of it are written in; ``below_colour`` changes the dark one. ``number_format``,
    such as ``"{:,.1f}"``, writes the marked figures in the unit of the axis. Raises KindynosError
    for a row (see ``fan``) or without a finite value.
    """
    if isinstance(result, RowResult):
        raise KindynosError(f"{result.name!r} is a row; draw it with fan()")
    values = result.values[np.isfinite(result.values)]
    if not values.size:
        raise KindynosError(f"{result.name!r} has no finite value to draw")
    bad = DARK if below_colour is None else checked_colour(below_colour)
    if number_format is not None:
        checked_format(number_format)
    factor, label = scale_of(values, result.unit)
    edges = _edges(values, bins, result.target)
    heights = result.sample.histogram(edges)
    _bars(ax, edges, heights, result.target, result.better, bad)
    top = float(heights.max()) * 1.22
    ax.set_ylim(0, top)
    ax.set_xlim(edges[0], edges[-1])
    _cumulative(ax, result)
    _percentiles(ax, result, factor, top, number_format)
    _base(ax, result, factor, top)
    _target(ax, result, factor, top)
    scaled_ticks(ax.xaxis, factor)
    ax.yaxis.set_major_formatter(lambda share, _: f"{100 * share:.3g} %")
    ax.set_xlabel(quantity_label(result.name, result.unit, label))
    ax.set_ylabel("share of trials in each bar")
    left_out = result.size - len(values)
    missing = f"; {left_out:,} without a value left out" if left_out else ""
    ax.set_title(f"How {spoken(result.name)} may turn out: {result.size:,} trials{missing}", pad=30)
    if ax.get_legend_handles_labels()[0]:
        ax.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=2, borderaxespad=0.2)


def _edges(values: Floats, bins: int | None, target: float | None) -> Floats:
    """Return bar edges over the middle 99.8 %; one of them at the target, so that no bar lies on
    both sides.
    """
    low, high = np.quantile(values, [0.001, 0.999])
    if low == high:
        return np.array([low - 0.5, low + 0.5])
    if bins is None:
        spread = np.subtract(*np.quantile(values, [0.75, 0.25])) or (high - low)
        width = 2 * spread / len(values) ** (1 / 3)
        bins = int(np.clip(math.ceil((high - low) / width), 10, 80))
    edges = np.linspace(low, high, bins + 1)
    if target is not None and low < target < high:
        edges = edges + (target - edges[np.abs(edges - target).argmin()])
    step = edges[1] - edges[0]
    return np.concatenate([[edges[0] - step], edges, [edges[-1] + step]])


def _bars(
    ax: Axes, edges: Floats, heights: Floats, target: float | None, better: str, bad_colour: str
) -> None:
    """Draw the bars, those on the bad side of the target dark."""
    middle = (edges[1:] + edges[:-1]) / 2
    bad = np.zeros(len(middle), dtype=bool)
    if target is not None:
        bad = middle < target if better == "high" else middle > target
    for side, colour in ((bad, bad_colour), (~bad, MIDDLE)):
        ax.bar(
            edges[:-1][side],
            heights[side],
            np.diff(edges)[side],
            align="edge",
            color=colour,
            ec="white",
            lw=0.4,
        )
    bare(ax)


def _cumulative(ax: Axes, result: Result) -> None:
    twin = ax.twinx()
    sample = result.sample
    picked = np.linspace(0, sample.count - 1, min(sample.count, 1000)).astype(int)
    values = sample.sorted[picked]
    twin.plot(values, sample.share_below(values, upto=True), color=INK, lw=1.4)
    twin.set_ylim(0, 1.22)
    twin.set_yticks([0, 0.25, 0.5, 0.75, 1], ["0 %", "25 %", "50 %", "75 %", "100 %"])
    twin.set_ylabel("share of trials at or below (curve)")
    twin.spines["top"].set_visible(False)


def _percentiles(
    ax: Axes, result: Result, factor: float, top: float, number_format: str | None
) -> None:
    for q in MARKS:
        value = float(result.percentile(q))
        ax.plot([value, value], [0, 0.86 * top], color=INK, lw=0.8, ls=":")
        usual = number(value) if factor == 1 else f"{value / factor:.1f}"
        text = f"P{q}\n{usual if number_format is None else number_format.format(value / factor)}"
        ax.text(value, 0.865 * top, text, ha="center", va="bottom", fontsize=11, bbox=_box())


def _base(ax: Axes, result: Result, factor: float, top: float) -> None:
    if not isinstance(result.base, float) or not math.isfinite(result.base):
        return
    percentile = float(result.percentile_of(result.base))
    label = f"base case {_short(result.base, factor)}, percentile {percentile:.0f} of the trials"
    ax.plot([result.base] * 2, [0, 0.80 * top], color=ACCENT, lw=2, ls="--", label=label)


def _target(ax: Axes, result: Result, factor: float, top: float) -> None:
    target = result.target
    if target is None:
        return
    ax.plot([target, target], [0, top], color=INK, lw=1.6, label=f"target {_short(target, factor)}")
    chances = [
        float(result.chance(below=target)),
        float(result.chance(at=target)),
        float(result.chance(above=target)),
    ]
    texts = shares([*chances, max(1 - sum(chances), 0.0)])
    low, high = ax.get_xlim()
    if low < target < high:
        for text, side, align in (
            (texts[0] + " below", -1, "right"),
            (texts[2] + " above", 1, "left"),
        ):
            ax.text(
                target + side * 0.008 * (high - low),
                0.985 * top,
                text,
                ha=align,
                va="top",
                weight="bold",
                bbox=_box(),
            )


def _short(value: float, factor: float) -> str:
    return number(value) if factor == 1 or value == 0 else f"{value / factor:.1f}"


def _box() -> dict[str, Any]:
    return {"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1.0}
