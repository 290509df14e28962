"""A row over the periods."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from kindynos.errors import KindynosError
from kindynos.formatting import heading
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    NEW,
    bands,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.results.result import Result, RowResult

SINGLE = 3  # trials drawn through the fan


@picture
def fan(result: Result | RowResult, ax: Axes = NEW) -> None:
    """Draw a row as a fan: median, the middle 50 % and 90 % of trials each period, the base case,
    and a few trials.

    Raises KindynosError for a quantity that is not a row.
    """
    if not result.is_row:
        raise KindynosError(
            f"{result.name!r} has one number per trial; draw it with distribution()"
        )
    places = np.arange(len(result.values))
    factor, label = scale_of(result.percentile([1, 99]), result.unit)
    bands(ax, places, result.percentile, "trials")
    for trial in range(min(SINGLE, result.size)):
        mark = f"trials 0 to {SINGLE - 1}" if trial == 0 else "_"
        ax.plot(
            places,
            result.values[:, trial],
            color=INK,
            lw=0.8,
            ls=(0, (1 + 2 * trial, 1)),
            label=mark,
        )
    ax.plot(places, np.asarray(result.median), color=DARK, lw=2.4, label="median")
    if result.base is not None:
        ax.plot(places, np.asarray(result.base), color=ACCENT, lw=2, ls="--", label="base case")
    step = max(1, -(-len(places) // 15))
    ax.set_xticks(places[::step], result.labels[::step])
    ax.set_xlim(places[0], places[-1] if len(places) > 1 else 0.5)
    scaled_ticks(ax.yaxis, factor)
    ax.set_ylabel(quantity_label(result.name, result.unit, label))
    ax.set_xlabel("period")
    lacking = f", {result.n_failed:,} of them without a value" if result.n_failed else ""
    name = heading(result.name)
    ax.set_title(f"{name} over the periods: {result.size:,} trials{lacking}")
    ax.legend(ncols=3, loc="upper left")
    ax.margins(y=0.18)
