"""Counts of a cohort through time."""

from __future__ import annotations

import math
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure

from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    MIDDLE,
    NEW,
    bands,
    bare,
    page,
    scale_of,
    scaled_ticks,
)
from kindynos.validate import one_of

if TYPE_CHECKING:
    from kindynos.cohorts.result import CohortResult

KINDS = ("fans", "stacked")
HATCHES = ("", "//", "..", "\\\\", "xx", "--")
FILLS = (DARK, MIDDLE, LIGHT, ACCENT, "#7a4a9e", "#8a8a8a")


@page
def cohort(result: CohortResult, what: str = "fans", figure: Figure = NEW) -> None:
    """Draw a fan of counts for each state, or the expected counts stacked, with the middle 90 % of
    each border.

    Raises ParameterError for another ``what``.
    """
    one_of("what", what, KINDS)
    draw = _fans if what == "fans" else _stacked
    draw(result, figure)


def _fans(result: CohortResult, figure: Figure) -> None:
    states, periods = result.cohort.states, np.arange(result.periods + 1)
    columns = 1 if len(states) == 1 else 2
    every = figure.subplots(
        math.ceil(len(states) / columns), columns, squeeze=False, sharex=True
    ).ravel()
    for position, (ax, state) in enumerate(zip(every, states, strict=False)):
        counts = result[state]
        factor, label = scale_of(counts)
        bands(ax, periods, partial(np.percentile, counts, axis=1), "trials")
        ax.plot(periods, counts.mean(axis=1), color=DARK, lw=2.2, label="mean")
        ax.plot(periods, counts[:, 0], color=ACCENT, lw=1.2, ls="--", label="trial 0")
        scaled_ticks(ax.yaxis, factor)
        ax.set_title(f"{state}{f' ({label.strip()})' if label else ''}")
        ax.margins(x=0)
        ax.set_ylim(bottom=0)
        bare(ax)
        if position == 0:
            ax.legend(fontsize=10)
    for ax in every[len(states) :]:
        ax.set_visible(False)
    for ax in every[max(len(states) - columns, 0) : len(states)]:
        ax.set_xlabel("period")
    figure.suptitle(f"Things in each state: {result.trials:,} trials")


def _stacked(result: CohortResult, figure: Figure) -> None:
    ax, periods = figure.subplots(), np.arange(result.periods + 1)
    means = result.values.mean(axis=2)
    borders = np.cumsum(result.values, axis=0)
    below = np.zeros(len(periods))
    for position, (state, mean) in enumerate(zip(result.cohort.states, means, strict=True)):
        ax.fill_between(
            periods,
            below,
            below + mean,
            color=FILLS[position % len(FILLS)],
            hatch=HATCHES[position % len(HATCHES)],
            ec="white",
            lw=0.5,
            label=state,
        )
        below = below + mean
        if position < len(means) - 1:
            low, high = np.percentile(borders[position], [5, 95], axis=1)
            every = slice(1, None)
            gaps = [
                np.maximum(below[every] - low[every], 0),
                np.maximum(high[every] - below[every], 0),
            ]
            # so that bars of several borders do not hide each other
            beside = 0.06 * (position - (len(means) - 2) / 2)
            # a bright edge, which shows on dark fills
            for colour, width in (("white", 3.5), (INK, 1.0)):
                ax.errorbar(
                    periods[every] + beside,
                    below[every],
                    gaps,
                    fmt="none",
                    ecolor=colour,
                    elinewidth=width,
                    capsize=3,
                    capthick=width,
                )
    factor, label = scale_of(below)
    scaled_ticks(ax.yaxis, factor)
    ax.set_ylabel(f"things ({label.strip()})" if label else "things")
    ax.set_xlabel("period")
    ax.set_xlim(0, periods[-1] + 0.3)
    ax.set_title(
        f"Expected number in each state; bars hold 90 % of {result.trials:,} trials of each border"
    )
    ax.set_ylim(bottom=0)
    figure.legend(loc="outside lower center", ncols=len(means))
    bare(ax)
