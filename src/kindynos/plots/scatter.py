"""One quantity against another, trial by trial."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.gridspec import GridSpec

from kindynos.formatting import per_cent, shares, spoken
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    MIDDLE,
    NEW,
    bare,
    page,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.results.joint import SIDES, JointDistribution, joint_distribution
from kindynos.results.result import Result
from kindynos.validate import checked, invalid_argument

if TYPE_CHECKING:
    from kindynos.results.read_trials import ReadTrials

MOST_POINTS = 4_000


@checked
def scatter(
    trials: ReadTrials,
    x: str,
    y: str,
    cuts: tuple[float | None, float | None] = (None, None),
    figure: Figure = NEW,
) -> Figure:
    """Draw two columns of trials against each other; see ``scatter_of``."""
    if not hasattr(trials, "outcomes"):
        raise invalid_argument("trials", "trials that were read", trials)
    return scatter_of(joint_distribution(trials[x], trials[y], cuts), figure)


@page
def scatter_of(joint_distribution: JointDistribution, figure: Figure = NEW) -> None:
    """Draw two quantities against each other, with marginal histograms and the share of trials in
    each quadrant.

    Of many trials the first 4,000 are drawn as points; shares and histograms are of all.
    """
    grid = GridSpec(2, 2, figure=figure, width_ratios=(5, 1), height_ratios=(1, 4))
    ax = figure.add_subplot(grid[1, 0])
    above, beside = (
        figure.add_subplot(grid[0, 0], sharex=ax),
        figure.add_subplot(grid[1, 1], sharey=ax),
    )
    a, b = joint_distribution.x.values, joint_distribution.y.values
    finite = np.isfinite(a) & np.isfinite(b)
    a, b = a[finite], b[finite]
    many = len(a) > 1_000
    ax.plot(
        a[:MOST_POINTS],
        b[:MOST_POINTS],
        ".",
        color=DARK,
        ms=3 if many else 5,
        alpha=0.35 if many else 0.6,
    )
    ax.axvline(joint_distribution.cuts[0], color=ACCENT, lw=1.6, ls="--")
    ax.axhline(joint_distribution.cuts[1], color=ACCENT, lw=1.6, ls="--")
    _quadrants(ax, joint_distribution)
    bars: Any = {"color": MIDDLE, "ec": "white", "lw": 0.4}
    if joint_distribution.x.weights is not None:
        bars["weights"] = joint_distribution.x.weights[finite]
    above.hist(a, 50, **bars)
    beside.hist(b, 50, **bars, orientation="horizontal")
    for side in (above, beside):
        side.tick_params(labelbottom=False, labelleft=False, bottom=False, left=False)
        side.spines[["left", "bottom"]].set_visible(False)
        bare(side)
    _named(ax, joint_distribution.x, joint_distribution.y)
    correlation = f"rank correlation {float(joint_distribution.correlation):.2f}"
    first, second = _plain(joint_distribution.x.name), _plain(joint_distribution.y.name)
    share = per_cent(max(float(joint_distribution.scatter), 0.0), 0)
    left = f"{first} leaves {share} of the variance of {second} open"
    title = f"{second.capitalize()} against {first}, {len(a):,} trials"
    above.set_title(f"{title}: {correlation};\n{left}")
    bare(ax)


def _plain(name: str) -> str:
    return spoken(name)


def _named(ax: Axes, x: Result, y: Result) -> None:
    for axis, result, label in ((ax.xaxis, x, ax.set_xlabel), (ax.yaxis, y, ax.set_ylabel)):
        factor, term = scale_of(result.values, result.unit)
        scaled_ticks(axis, factor)
        label(quantity_label(result.name, result.unit, term))


def _quadrants(ax: Axes, joint_distribution: JointDistribution) -> None:
    """Write the share of trials into the outer corner of each quadrant."""
    keys = [(one, two) for one in SIDES for two in SIDES]
    lacking = (
        []
        if joint_distribution.without_value is None
        else [float(joint_distribution.without_value)]
    )
    texts = shares([*(float(joint_distribution.quadrants[key]) for key in keys), *lacking])[
        : len(keys)
    ]
    for (one, two), text in zip(keys, texts, strict=True):
        right, top = one == "above", two == "above"
        ax.text(
            0.99 if right else 0.01,
            0.98 if top else 0.02,
            text,
            transform=ax.transAxes,
            ha="right" if right else "left",
            va="top" if top else "bottom",
            fontsize=13,
            fontweight="bold",
            color=INK,
            bbox={"fc": "white", "ec": "none", "alpha": 0.8},
        )
