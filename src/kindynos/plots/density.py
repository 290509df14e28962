"""A distribution before anything is drawn from it."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from matplotlib.axes import Axes

from kindynos.distributions.base import Distribution
from kindynos.formatting import brief, shares
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    MIDDLE,
    NEW,
    picture,
    scale_of,
    scaled_ticks,
)
from kindynos.validate import finite, invalid_argument, listed

MARKS = (5, 50, 95)


@picture
def density(
    distribution: Distribution,
    ax: Axes = NEW,
    mark: float | None = None,
    between: tuple[float, float] | None = None,
) -> None:
    """Draw a distribution's density, or its masses, with mean and percentiles.

    With a ``mark`` the chance on either side is printed; with ``between``, that of the shaded
    range.
    """
    if mark is not None:
        mark = finite("mark", mark)
    if between is not None:
        between = _pair(between)
    low, high = (float(x) for x in distribution.quantile([0.001, 0.999]))
    if low == high:
        low, high = low - 0.5, high + 0.5
    factor, term = scale_of([low, high])
    top = (
        _masses(ax, distribution, low, high)
        if distribution.discrete
        else _density(ax, distribution, low, high, mark)
    )
    ax.set_ylim(0, 1.25 * top)
    for q in MARKS:
        value = float(distribution.percentile(q))
        ax.plot([value] * 2, [0, 1.06 * top], color=INK, lw=0.8, ls=":")
        ax.text(
            value,
            1.07 * top,
            f"P{q}\n{brief(value / factor)}",
            ha="center",
            va="bottom",
            fontsize=10,
        )
    if math.isfinite(distribution.mean):
        label = f"mean {brief(distribution.mean / factor)}, sd {brief(distribution.sd / factor)}"
        ax.plot([distribution.mean] * 2, [0, top], color=ACCENT, lw=2, ls="--", label=label)
    if between is not None:
        _range(ax, distribution, between, factor, top)
    if mark is not None:
        below, at, above = (
            distribution.chance(below=mark),
            distribution.chance(at=mark),
            distribution.chance(above=mark),
        )
        texts = shares([below, at, above])
        label = f"{brief(mark / factor)}: {texts[0]} below, {texts[2]} above"
        ax.plot([mark] * 2, [0, 1.22 * top], color=INK, lw=1.6, label=label)
    scaled_ticks(ax.xaxis, factor)
    ax.set_xlabel(f"value ({term.strip()})" if term else "value")
    ax.set_ylabel("chance of each value" if distribution.discrete else "density (area is chance)")
    if not distribution.discrete:
        ax.set_yticks([])
    text = repr(distribution)
    ax.set_title(text if len(text) < 90 else text[:87] + "...", pad=30)
    if ax.get_legend_handles_labels()[0]:
        ax.legend(loc="lower right", bbox_to_anchor=(1, 1), ncols=2, borderaxespad=0.2)


def _pair(between: Any) -> tuple[float, float]:
    """Return the two ends of a range, the lower first; raises ParameterError for anything else."""
    ends = listed(between)
    if len(ends) != 2:
        raise invalid_argument("between", "a low and a high end", between)
    low, high = (finite("between", end) for end in ends)
    if low >= high:
        raise invalid_argument("between", "a low end and a higher one", between)
    return low, high


def _range(
    ax: Axes, distribution: Distribution, between: tuple[float, float], factor: float, top: float
) -> None:
    low, high = between
    chance = distribution.chance(above=low, below=high)
    label = f"{brief(low / factor)} to {brief(high / factor)}: {100 * chance:.1f} %"
    x = np.linspace(low, high, 400)
    if distribution.discrete:
        ax.axvspan(low, high, color=ACCENT, alpha=0.2, lw=0, label=label)
    else:
        ax.fill_between(
            x, np.minimum(distribution.pdf(x), 2 * top), color=ACCENT, alpha=0.45, lw=0, label=label
        )


def _density(
    ax: Axes, distribution: Distribution, low: float, high: float, mark: float | None
) -> float:
    margin = 0.04 * (high - low)
    x = np.linspace(low - margin, high + margin, 801)
    y = distribution.pdf(x)
    finite = y[np.isfinite(y)]
    top = float(min(finite.max(), 4 * np.quantile(finite, 0.97) + 1e-300))
    y = np.minimum(np.nan_to_num(y, posinf=2 * top), 2 * top)
    below = x <= mark if mark is not None else np.zeros(len(x), dtype=bool)
    ax.fill_between(x, y, where=~below, color=LIGHT)
    ax.fill_between(x, y, where=below, color=MIDDLE)
    ax.plot(x, y, color=DARK, lw=1.8)
    ax.set_xlim(x[0], x[-1])
    return top


def _masses(ax: Axes, distribution: Distribution, low: float, high: float) -> float:
    values = np.unique(distribution.quantile(np.linspace(0.0005, 0.9995, 2000)))
    masses = distribution.pmf(values)
    ax.vlines(values, 0, masses, color=DARK, lw=max(1.0, 5.0 - len(values) / 15))
    ax.plot(values, masses, "o", color=DARK, ms=4)
    margin = 0.05 * (high - low)
    ax.set_xlim(low - margin, high + margin)
    return float(masses.max())
