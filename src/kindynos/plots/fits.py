"""Fitted distributions beside the data they were fitted to."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from matplotlib.axes import Axes

from kindynos.arrays import Floats
from kindynos.fitting.ordered import density_of, edges_of, ordered
from kindynos.formatting import p_value, short
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    NEW,
    bare,
    picture,
    scale_of,
    scaled_ticks,
)
from kindynos.validate import check_integer, one_of

if TYPE_CHECKING:
    from kindynos.distributions.base import Distribution
    from kindynos.fitting.normality import Normality
    from kindynos.fitting.ranking import Ranking

KINDS = ("density", "quantiles")
COLOURS, STROKES = (DARK, ACCENT, "#7a4a9e", INK), ("-", "--", "-.", ":")
POINTS = 500


@picture
def fitted_distributions(
    ranking: Ranking, what: str = "density", ax: Axes = NEW, best: int = 3, name: str | None = None
) -> None:
    """Draw the densities of the best few over a histogram of the values, or ``"quantiles"`` of one
    against the values.

    Raises ParameterError for another ``what`` and an unknown name.
    """
    one_of("what", what, KINDS)
    if what == "quantiles":
        selected = ranking.best if name is None else ranking[name]
        _quantiles(ax, selected, ranking.data.values, ranking.data.thresholds)
        return
    rows = (
        list(ranking)[: check_integer("best", best, least=1)] if name is None else [ranking[name]]
    )
    values = ranking.data.values
    if rows[0].discrete:
        _counts(ax, rows, values)
    else:
        _densities(ax, rows, values, ranking.data.thresholds)
    factor, label = scale_of(values)
    scaled_ticks(ax.xaxis, factor)
    ax.set_xlabel(f"value ({label.strip()})" if label else "value")
    ax.set_title(f"{len(values):,} values and the distributions that fit them best")
    ax.legend(loc="upper right")


def _label(distribution: Distribution) -> str:
    shown = [f"{key} {short(value)}" for key, value in distribution.fitted.estimates.items()]
    return f"{distribution.label}: {', '.join(shown)}"


def _densities(
    ax: Axes, selected: list[Distribution], values: Floats, thresholds: Floats | None
) -> None:
    edges = edges_of(values)
    heights = np.histogram(values, edges, density=True)[0]
    ax.hist(values, edges.tolist(), density=True, color=LIGHT, ec="white", label="values")
    room = 0.08 * float(np.ptp(values))
    x = np.linspace(edges[0] - room, edges[-1] + room, POINTS)
    for distribution, colour, stroke in zip(selected, COLOURS, STROKES, strict=False):
        density = density_of(distribution, x, thresholds)
        ax.plot(x, density, color=colour, ls=stroke, lw=2, label=_label(distribution))
    ax.plot(values, np.full(len(values), -0.03 * heights.max()), "|", color=INK, alpha=0.5, ms=6)
    ax.set_ylim(-0.06 * heights.max(), 1.45 * heights.max())
    ax.set_yticks([])
    ax.set_ylabel("density (area is chance)")


def _counts(ax: Axes, selected: list[Distribution], values: Floats) -> None:
    k = np.arange(values.min(), values.max() + 1)
    seen = np.array([(values == distribution).mean() for distribution in k])
    ax.bar(k, seen, color=LIGHT, width=0.9, label="values")
    for distribution, colour, stroke in zip(selected, COLOURS, STROKES, strict=False):
        ax.plot(
            k,
            distribution.pmf(k),
            color=colour,
            ls=stroke,
            marker="o",
            ms=4,
            lw=1.2,
            label=_label(distribution),
        )
    ax.set_ylim(0, 1.4 * seen.max())
    ax.set_ylabel("share of the values")


def _quantiles(
    ax: Axes, distribution: Distribution, values: Floats, thresholds: Floats | None
) -> Axes:
    """Draw ordered values against quantiles; 95 of 100 points of data of this distribution lie
    inside the band.
    """
    x, expected, low, high = ordered(distribution, values, thresholds)
    count = len(x)
    ax.fill_between(
        expected, low, high, color=LIGHT, lw=0, label="95 % of values of this distribution"
    )
    line = [expected[0], expected[-1]]
    ax.plot(line, line, color=INK, lw=1, ls="--", label="equal")
    ax.plot(expected, x, "o", color=DARK, ms=4, label="values, in order")
    factor, label = scale_of(x)
    scaled_ticks(ax.xaxis, factor)
    scaled_ticks(ax.yaxis, factor)
    room = 0.05 * float(np.ptp(x))
    ax.set_ylim(min(x[0], line[0]) - room, max(x[-1], line[1]) + 4 * room)
    unit = f" ({label.strip()})" if label else ""
    ax.set_xlabel(f"quantile of {distribution.label}{unit}")
    ax.set_ylabel(f"value{unit}")
    ax.set_title(f"{count:,} values against {_label(distribution)}")
    ax.legend(loc="upper left")
    bare(ax)
    return ax


@picture
def normality(
    tests: Normality, ax: Axes = NEW, name: str | None = None, unit: str | None = None
) -> None:
    """Draw a histogram of values with the normal density of their mean and sd, and what the tests
    say of them.
    """
    values = tests.values
    mean, sd = float(values.mean()), float(values.std(ddof=1))
    edges = edges_of(values)
    ax.hist(
        values,
        edges.tolist(),
        density=True,
        color=LIGHT,
        ec="white",
        lw=0.4,
        label=f"{len(values):,} values",
    )
    x = np.linspace(min(values.min(), mean - 3.5 * sd), max(values.max(), mean + 3.5 * sd), POINTS)
    curve = np.exp(-0.5 * ((x - mean) / sd) ** 2) / (sd * np.sqrt(2 * np.pi))
    ax.plot(
        x, curve, color=ACCENT, lw=2.2, ls="--", label=f"normal: mean {short(mean)}, sd {short(sd)}"
    )
    factor, label = scale_of(values)
    scaled_ticks(ax.xaxis, factor)
    inside = f"{label}{unit or ''}".strip()
    ax.set_xlabel(f"{(name or 'value').replace('_', ' ')}{f' ({inside})' if inside else ''}")
    ax.set_ylabel("density (area is chance)")
    ax.set_yticks([])
    said = f"skewness {tests.skewness:.2f}, excess kurtosis {tests.excess_kurtosis:.2f}"
    deciding = tests.tests[0]
    ax.set_title(
        f"{(name or 'Values').replace('_', ' ').capitalize()} against the normal: {said}; "
        f"{deciding.name} {p_value(deciding.p)}"
    )
    ax.margins(y=0.2)
    ax.legend(loc="upper right")
