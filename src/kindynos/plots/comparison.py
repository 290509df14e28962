"""Scenarios of one outcome laid over each other."""

from __future__ import annotations

import math

import numpy as np
from matplotlib.axes import Axes
from numpy.typing import NDArray

from kindynos.formatting import heading
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    MIDDLE,
    NEW,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.results.result import Result
from kindynos.studies.comparison import Comparison, ReportedMean
from kindynos.validate import one_of

KINDS = ("cumulative", "survival", "boxes")
COLOURS = (DARK, ACCENT, MIDDLE, INK, "#7a4a9e", "#8a8a8a")
STROKES = (
    "-",
    "--",
    "-.",
    ":",
    (0, (5, 1, 1, 1, 1, 1)),
    (0, (1, 2)),
)  # so that lines differ in grey too
POINTS = 600
WHISKERS = (5, 25, 50, 75, 95)


@picture
def comparison(
    compared: Comparison, outcome: str, kind: str = "cumulative", ax: Axes = NEW
) -> None:
    """Draw one outcome of all scenarios: "cumulative" or "survival" curves, or "boxes" from P25 to
    P75, whiskers P5 to P95.
    """
    one_of("kind", kind, KINDS)
    results = {
        name: compared.result(name, outcome)
        for name, run in compared.runs.items()
        if not isinstance(run, ReportedMean)
    }
    ends = np.concatenate([_finite_ends(result.values) for result in results.values()])
    first = next(iter(results.values()))
    factor, label = scale_of(ends, first.unit)
    if kind == "boxes":
        _boxes(ax, results, float(ends.max()))
    else:
        low, high = float(ends.min()), float(ends.max())
        _curves(ax, results, kind == "survival", (low - (high - low), high + (high - low)))
        # steps at the ends show
        lumps = any(not np.isfinite(result.values).all() for result in results.values())
        room = 0.02 * (high - low) if lumps else 0.0
        ax.set_xlim(low - room, high + room if high > low else low + 1)
        description = "above" if kind == "survival" else "at or below"
        ax.set_ylabel(f"share of trials that end {description} the value")
        ax.yaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
        ax.set_ylim(0, 1)
        ax.legend(loc="best")
    if first.target is not None and ax.get_xlim()[0] < first.target < ax.get_xlim()[1]:
        ax.axvline(first.target, color=INK, lw=1)
        ax.text(
            first.target,
            1.005,
            " target",
            transform=ax.get_xaxis_transform(),
            ha="center",
            va="bottom",
        )
    scaled_ticks(ax.xaxis, factor)
    ax.set_xlabel(quantity_label(outcome, first.unit, label))
    what = (
        "boxes P25 to P75, whiskers P5 to P95, dot the mean"
        if kind == "boxes"
        else f"{kind} curves"
    )
    ax.set_title(f"{heading(outcome)} by scenario, {first.size:,} trials each: {what}", pad=18)


def _finite_ends(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return between which values nearly all that are finite lie: a period that never comes is
    infinite.
    """
    finite = values[np.isfinite(values)]
    return np.percentile(finite, [0.5, 99.5]) if len(finite) else np.array([0.0, 1.0])


def _label(name: str, result: Result) -> str:
    """Return the name of a scenario, with the share of trials that have no finite value."""
    return f"{name} ({result.lacking})" if result.lacking else name


def _curves(
    ax: Axes, results: dict[str, Result], survival: bool, reach: tuple[float, float]
) -> None:
    """Draw the curves, which go on to both ends of the reach at the shares they begin and end
    with.
    """
    for position, (name, result) in enumerate(results.items()):
        sample = result.ranked
        values, below = sample.cumulative(POINTS)  # of all trials
        valid = sample.share_with_a_value
        stroke, colour = STROKES[position % len(STROKES)], COLOURS[position % len(COLOURS)]
        if not len(values):  # its line in the legend says so
            ax.plot([], [], color=colour, ls=stroke, lw=2, label=_label(name, result))
            continue
        begin, end = (valid, 0.0) if survival else (0.0, valid)
        share = begin - below if survival else below
        x = np.concatenate([[reach[0], values[0]], values, [reach[1]]])
        y = np.concatenate([[begin, begin], share, [end]])
        ax.plot(x, y, color=colour, ls=stroke, lw=2, label=_label(name, result))


def _boxes(ax: Axes, results: dict[str, Result], most: float) -> None:
    names = ("whislo", "q1", "med", "q3", "whishi")
    boxes = []
    for name, result in results.items():
        percentiles = np.asarray(result.percentile(list(WHISKERS)))
        percentiles = np.where(np.isinf(percentiles), most, percentiles)
        figures = dict(zip(names, map(float, percentiles), strict=True))
        mean = float(result.mean) if math.isfinite(result.mean) else math.nan
        boxes.append({**figures, "mean": mean, "label": _label(name, result), "fliers": []})
    artists = ax.bxp(
        boxes, orientation="horizontal", showmeans=True, patch_artist=True, widths=0.55
    )
    for box in artists["boxes"]:
        box.set(facecolor="#cfe0ef", edgecolor=DARK)
    for element in ("medians", "whiskers", "caps"):
        for line in artists[element]:
            line.set(color=DARK, lw=1.8 if element == "medians" else 1.2)
    for mean in artists["means"]:
        mean.set(marker="o", markerfacecolor=ACCENT, markeredgecolor=ACCENT)
    ax.invert_yaxis()
