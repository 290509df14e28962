"""A sweep: a line over one input, a heat map over two, every pair of three or more; and the way to
a goal.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any, Literal

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.patches import Rectangle
from numpy.typing import NDArray

from kindynos.formatting import heading, number, per_cent, spoken, times_shown, with_error
from kindynos.inference.estimates import Estimate
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    MIDDLE,
    NEW,
    bare,
    checked_colour,
    checked_format,
    framed_picture,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.studies.goal import Goal
from kindynos.studies.sweep import Sweep
from kindynos.validate import check_integer, finite

MOST_CELLS = 30  # distinct values on a side beyond which points are put into bins
BINS = 20
MOST_WRITTEN = 120  # cells beyond which no figures are written into them
SHADES = LinearSegmentedColormap.from_list(
    "shades", ["#f4efe6", "#9fc0dc", DARK]
)  # lightness alone tells the order


@dataclass(frozen=True)
class Wording:
    """How names, units and figures are shown, and which end is the good one."""

    labels: Mapping[str, str] = field(default_factory=dict)
    units: Mapping[str, str | None] = field(default_factory=dict)
    digits: int | None = None
    more_is_better: bool | None = True
    bins: int = BINS
    break_even: float | None = None
    below_colour: str = ACCENT
    number_format: str | None = None

    def label(self, name: str, term: str = "") -> str:
        """The name with its unit, scaled by a word such as million."""
        unit = self.units.get(name) or self.units.get(name.partition(".")[0])
        return quantity_label(self.labels.get(name, name.replace(".", " ")), unit, term)


@framed_picture
def sweep(
    swept: Sweep,
    output: str | None = None,
    *,
    labels: Mapping[str, str] | None = None,
    units: Mapping[str, str | None] | None = None,
    digits: int | None = None,
    more_is_better: bool | Literal["as stated"] | None = "as stated",
    bins: int | None = None,
    break_even: float | None = None,
    below_colour: str | None = None,
    number_format: str | None = None,
    ax: Axes = NEW,
) -> None:
    """Draw one output of a sweep; see Sweep.plot."""
    name = swept.output(output)
    description = (
        {} if swept.errors is None else {name: f"{name}: {swept.statistic.partition(',')[0]}"}
    )
    if more_is_better == "as stated":
        more_is_better = swept.more_is_better(swept.output(output))
    wording = Wording(
        {**description, **(labels or {})}, {**swept.units, **(units or {})}, digits, more_is_better
    )
    if number_format is not None:
        checked_format(number_format)
    wording = replace(
        wording,
        bins=BINS if bins is None else check_integer("bins", bins, least=2),
        number_format=number_format,
        break_even=None if break_even is None else finite("break_even", break_even),
        below_colour=ACCENT if below_colour is None else checked_colour(below_colour),
    )
    if len(swept.inputs) == 1:
        _line(ax, swept, name, wording)
    elif len(swept.inputs) == 2:
        _map(ax, swept, name, wording, *swept.inputs)
    else:
        _pairs(ax, swept, name, wording)
        return
    framed = len(swept.inputs) == 2 and more_is_better is not None
    ax.set_title(_title(swept, name, wording) + ("; frame: the best" if framed else ""))


def _title(swept: Sweep, name: str, wording: Wording) -> str:
    over = " and ".join(spoken(wording.labels.get(n, n)) for n in swept.inputs)
    return f"{heading(name)} ({swept.statistic}) over {over}"


def _line(ax: Axes, swept: Sweep, name: str, wording: Wording) -> None:
    order = np.argsort(swept.points.iloc[:, 0].to_numpy())
    x, y = swept.points.iloc[:, 0].to_numpy()[order], swept.values[name].to_numpy()[order]
    factor, label = scale_of(y, swept.units.get(name))
    if swept.errors is not None:
        error = swept.errors[name].to_numpy()[order]
        ax.fill_between(x, y - error, y + error, color=LIGHT, label="95 % error")
        ax.plot(x, y, color=DARK, marker="o", lw=2, label=swept.statistic)
        ax.legend()
    else:
        ax.plot(x, y, color=DARK, marker="o" if len(x) <= MOST_CELLS else None, lw=2)
    scaled_ticks(ax.yaxis, factor)
    side, side_word = scale_of(x, swept.units.get(swept.inputs[0]))
    scaled_ticks(ax.xaxis, side)
    ax.set_xlabel(wording.label(swept.inputs[0], side_word))
    ax.set_ylabel(wording.label(name, label))
    bare(ax)


def _map(ax: Axes, swept: Sweep, name: str, wording: Wording, down: str, across: str) -> None:
    """Draw a heat map of one output with two inputs along its sides; the best cell has a frame."""
    table, binned = _cells(swept, name, down, across, wording.bins)
    values = table.to_numpy(dtype=np.float64)
    factor, label = scale_of(values, swept.units.get(name))
    rows, columns = values.shape
    image = ax.imshow(
        values / factor, aspect="auto", origin="lower", **_shading(values / factor, wording, factor)
    )
    places, texts, scale = _ticks(table.index.to_numpy(dtype=np.float64), swept.units.get(down))
    ax.set_yticks(places, texts)
    ax.set_ylabel(wording.label(down, scale) + (", in bins" if binned else ""))
    places, texts, scale = _ticks(table.columns.to_numpy(dtype=np.float64), swept.units.get(across))
    ax.set_xticks(places, texts)
    ax.set_xlabel(wording.label(across, scale) + (", in bins" if binned else ""))
    figure: Any = ax.figure
    bar = figure.colorbar(image, ax=ax, pad=0.02)
    bar.set_label(wording.label(name, label))
    if rows * columns <= MOST_WRITTEN:
        _write(ax, values / factor, wording)
    if wording.more_is_better is not None and np.isfinite(values).any():
        best = np.nanargmax(values) if wording.more_is_better else np.nanargmin(values)
        row, column = np.unravel_index(int(best), values.shape)
        ax.add_patch(
            Rectangle((float(column) - 0.5, float(row) - 0.5), 1, 1, fill=False, ec=ACCENT, lw=3)
        )


def _shading(values: NDArray[np.float64], wording: Wording, factor: float) -> dict[str, Any]:
    """Return the colours of a map; with a break-even figure two, which are pale about it, so that
    figures stay readable.
    """
    if wording.break_even is None:
        return {"cmap": SHADES}
    middle, reach = wording.break_even / factor, 0.0
    if np.isfinite(values).any():
        reach = float(np.nanmax(np.abs(values[np.isfinite(values)] - middle)))
    sides = LinearSegmentedColormap.from_list(
        "sides", [wording.below_colour, "#fdf1e4", "#ffffff", "#dbe8f3", MIDDLE]
    )
    return {"cmap": sides, "vmin": middle - (reach or 1.0), "vmax": middle + (reach or 1.0)}


def _cells(swept: Sweep, name: str, down: str, across: str, bins: int) -> tuple[pd.DataFrame, bool]:
    """Return the table behind a map: cells as they are, or the mean in bins where points are many
    or scattered.
    """
    counts = swept.points[[down, across]].nunique()
    cells, widest = int(np.prod(counts.to_numpy())), int(np.max(counts.to_numpy()))
    grid = cells <= len(swept.points) and widest <= MOST_CELLS
    if grid:
        return swept.grid(name, down, across), False
    placed = {}
    for side in (down, across):
        values = swept.points[side].to_numpy(dtype=np.float64)
        edges = np.linspace(values.min(), values.max(), bins + 1)
        bin_ = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, bins - 1)
        placed[side] = ((edges[1:] + edges[:-1]) / 2)[bin_]
    frame = pd.DataFrame({**placed, "#": swept.values[name]})
    return frame.pivot_table(index=down, columns=across, values="#", aggfunc="mean"), True


def _ticks(
    values: NDArray[np.float64], unit: str | None
) -> tuple[NDArray[np.int64], list[str], str]:
    """Return which places are labelled, with what, and the word of their scale."""
    places = np.arange(0, len(values), max(1, -(-len(values) // 12)))
    factor, label = scale_of(values, unit)
    return places, [number(float(f"{value / factor:.4g}")) for value in values[places]], label


def _write(ax: Axes, values: NDArray[np.float64], wording: Wording) -> None:
    spread = np.nanmax(values) - np.nanmin(values)
    digits = (
        wording.digits
        if wording.digits is not None
        else max(0, 2 - int(np.floor(np.log10(spread or 1.0))))
    )
    even = wording.break_even is not None
    dark = np.nanmin(values) + 0.6 * spread if not even else np.inf
    for (row, column), value in np.ndenumerate(values):
        text = (
            "-" if np.isnan(value) else (wording.number_format or f"{{:,.{digits}f}}").format(value)
        )
        ax.text(
            column,
            row,
            text,
            ha="center",
            va="center",
            color="white" if value > dark else INK,
            fontsize=10,
        )


def _pairs(ax: Axes, swept: Sweep, name: str, wording: Wording) -> None:
    """Draw a map for every pair of inputs, in the place of the axes given; over the others it is
    the mean.
    """
    pairs = list(combinations(swept.inputs, 2))
    across = int(np.ceil(np.sqrt(len(pairs))))
    figure: Any = ax.figure
    spec = ax.get_subplotspec()
    assert spec is not None
    ax.set_axis_off()
    description = f"{_title(swept, name, wording)}: each pair, the mean over the rest"
    figure.suptitle(
        description + ("; frames: the best" if wording.more_is_better is not None else ""),
        x=0.01,
        ha="left",
    )
    inner = spec.subgridspec(-(-len(pairs) // across), across)
    for position, (down, beside) in enumerate(pairs):
        _map(
            figure.add_subplot(inner[position // across, position % across]),
            swept,
            name,
            wording,
            down,
            beside,
        )


@picture
def goal(solved: Goal, ax: Axes = NEW) -> None:
    """Draw the statistic against the value tried, with the goal and the value that reaches it."""
    frame, chance = solved.evaluations, solved.what.startswith("chance")
    y = frame["statistic"].to_numpy()
    times = 1.0 if chance else times_shown(solved.outcome_unit)
    description = per_cent(solved.goal) if chance else number(solved.goal * times)
    errors = frame["error"].fillna(0).to_numpy()
    ax.errorbar(
        frame["value"],
        y,
        errors,
        color=DARK,
        marker="o",
        lw=1.6,
        capsize=3,
        label="tried, with 95 % error",
    )
    ax.axhline(solved.goal, color=INK, lw=1, ls=":", label=f"goal {description}")
    own = times_shown(solved.unit)
    reached = Estimate(float(solved.value) * own, solved.value.low * own, solved.value.high * own)
    value = " ".join(with_error(reached))
    ax.axvline(float(solved.value), color=ACCENT, lw=2, ls="--", label=f"reached at {value}")
    if solved.value.error > 0:
        ax.axvspan(solved.value.low, solved.value.high, color=ACCENT, alpha=0.15, lw=0)
    side, label = scale_of(frame["value"].to_numpy(), solved.unit)
    scaled_ticks(ax.xaxis, side)
    ax.set_xlabel(quantity_label(solved.name.replace(".", " "), solved.unit, label))
    what = spoken(solved.what)
    if chance:
        ax.yaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
        ax.set_ylabel(what)
    else:
        factor, label = scale_of(np.append(y, solved.goal), solved.outcome_unit)
        scaled_ticks(ax.yaxis, factor)
        ax.set_ylabel(quantity_label(what, solved.outcome_unit, label))
    ax.set_title(f"Which {spoken(solved.name).replace('.', ' ')} makes the {what} {description}")
    ax.legend()
