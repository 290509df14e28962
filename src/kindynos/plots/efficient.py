"""Decisions that are efficient for two figures, and those that they dominate."""

from __future__ import annotations

from typing import Any

from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import DARK, LIGHT, MIDDLE, NEW, picture, scale_of, scaled_ticks
from kindynos.studies.frontier import ModelFrontier

APART = 0.06  # of the height of the picture, between labels
ROOM = 0.5  # of the spread of the efficient decisions, around them


@picture
def efficient_decisions(frontier: ModelFrontier, ax: Axes = NEW) -> None:
    """Draw the efficient decisions, with their errors on fresh draws and the decisions beside them,
    and those that they dominate as small marks.
    """
    table, others = frontier.table, frontier.dominated
    across, up = frontier.against, frontier.what
    if len(others):
        ax.plot(others[across], others[up], "x", color=MIDDLE, ms=4, label="dominated")
    ax.errorbar(
        table[across], table[up], table["error"], table[f"error of {across}"],
        fmt="o-", color=DARK, ecolor=LIGHT, elinewidth=1, label="efficient",
    )  # fmt: skip
    limits = [_around(table[across]), _around(table[up])]
    ax.set_xlim(*limits[0])
    ax.set_ylim(*limits[1])
    last = None
    for row in table.to_dict("records"):
        height = (row[up] - limits[1][0]) / (limits[1][1] - limits[1][0])
        if last is None or abs(height - last) >= APART:
            words = [f"{spoken(name)} {row[name]:.4g}" for name in frontier.decisions]
            ax.annotate(
                f"  {', '.join(words)}", (row[across], row[up]), fontsize=9, va="bottom",
                bbox={"fc": "white", "ec": "none", "alpha": 0.7, "pad": 0.5},
            )  # fmt: skip
            last = height
    for axis, name, unit in (
        (ax.xaxis, across, frontier.units[1]),
        (ax.yaxis, up, frontier.units[0]),
    ):
        shown = [*table[name], *others[name]] if len(others) else list(table[name])
        factor, label = (0.01, "") if unit == "%" else scale_of(shown, unit)
        scaled_ticks(axis, factor)
        inside = f"{label}{unit or ''}".strip()
        axis.set_label_text(f"{spoken(name)}{f' ({inside})' if inside else ''}")
    ax.set_title("Efficient decisions: no other is better in one figure and as good in the other")
    ax.legend(loc="best")


def _around(values: Any) -> tuple[float, float]:
    """Return the ends of an axis: the efficient decisions, with the nearest that they dominate."""
    low, high = float(values.min()), float(values.max())
    room = ROOM * (high - low) or abs(high) / 2 or 1.0
    return low - room, high + room
