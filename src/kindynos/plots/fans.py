"""A row over the periods in several scenarios: fans side by side, on one scale."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from kindynos.formatting import heading
from kindynos.plots.style import (
    ACCENT,
    DARK,
    NEW,
    bands,
    bare,
    page,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.studies.comparison import Comparison

MOST_ACROSS = 3  # fans beside each other
LABELS = 6  # periods named below a fan


@page
def fans(compared: Comparison, outcome: str, figure: Figure = NEW) -> None:
    """Draw a row outcome of all scenarios as fans side by side: median, the middle 50 % and 90 % of
    the trials in each period, and the base case.

    Raises RunError for an outcome that is not a row of all scenarios.
    """
    rows = compared.rows_of(outcome)
    across = min(len(rows), MOST_ACROSS)
    down = -(-len(rows) // across)
    panels = figure.subplots(down, across, sharex=True, sharey=True, squeeze=False).ravel()
    first = next(iter(rows.values()))
    outer = np.concatenate([row.percentile([1, 99]) for row in rows.values()])
    factor, label = scale_of(outer, first.unit)
    for ax, (name, row) in zip(panels, rows.items(), strict=False):
        places = np.arange(len(row.values))
        bands(ax, places, row.percentile, "trials")
        ax.plot(places, np.asarray(row.median), color=DARK, lw=2.4, label="median")
        if row.base is not None:
            ax.plot(places, np.asarray(row.base), color=ACCENT, lw=2, ls="--", label="base case")
        step = max(1, -(-len(places) // LABELS))
        ax.set_xticks(places[::step], row.labels[::step])
        ax.set_title(name)
        scaled_ticks(ax.yaxis, factor)
        bare(ax)
    for ax in panels[max(len(rows) - across, 0) : len(rows)]:
        ax.set_xlabel("period")
    for ax in panels[len(rows) :]:
        ax.axis("off")
    for ax in panels[::across]:
        ax.set_ylabel(quantity_label(first.name, first.unit, label))
    panels[0].legend()
    name = heading(outcome)
    figure.suptitle(f"{name} over the periods, by scenario", x=0.01, ha="left")
