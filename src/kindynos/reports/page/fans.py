"""The data of a row that a page lets its reader step through: its fan, and single trials from the
worst to the best by an outcome.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.formatting import brief, heading, times_shown
from kindynos.reports.page.live import tick
from kindynos.reports.report import PeriodTrials
from kindynos.results.run import Run

PATHS = 201  # trials to step through
MOST_LABELS = 12
BANDS = ((5, 95), (25, 75))


@dataclass(frozen=True)
class Fan:
    """A row as a page shows it; ``sheet`` names the figures told of a single trial."""

    title: str
    label: str
    json: str
    bands: list[str]
    median: str
    zero: float | None
    ticks: list[dict[str, Any]]
    levels: list[dict[str, Any]]
    by: str
    sheet: list[str]


def rows_of(run: Run) -> Iterator[PeriodTrials]:
    """Yield the kept rows of a run, with trials from the worst to the best."""
    order, words, by = _chosen(run)
    for name in run.kept:
        if run[name].is_row and name not in run.program.checks:
            row = run.row(name)
            values = np.asarray(row.values, dtype=np.float64)
            yield PeriodTrials(name, values, list(map(str, row.labels)), row.unit, order, words, by)


def sheet_of(run: Run) -> dict[str, list[str]]:
    """Return the figures of the trials that are stepped through: drivers and outcomes that are one
    number, by name.
    """
    order = list(_chosen(run)[0])
    sheet = {}
    for name in [*run.drivers, *run.outcomes]:
        result = run[name]
        if name in run.kept and not result.is_row:
            unit = f" {result.unit}" if result.unit else ""
            times = times_shown(result.unit)
            values = np.asarray(result.values)[order].tolist()
            sheet[name] = [f"{brief(times * value)}{unit}" for value in values]
    return sheet


def fan(row: PeriodTrials, sheet: dict[str, list[str]] | None = None) -> Fan | None:
    """Return a row as a page shows it; None where it has no value, or a single period."""
    values = times_shown(row.unit) * row.values
    periods, size = values.shape
    if periods < 2 or not np.isfinite(values).any():
        return None
    percentiles = np.nanpercentile(values, [5, 25, 50, 75, 95], axis=1)
    selected = list(row.order) or list(range(min(PATHS, size)))
    paths = values[:, selected].T
    low, high = _axis(percentiles, paths)

    def points(piece: Floats) -> list[str]:
        return [f"{_across(k, periods)},{_up(y, low, high)}" for k, y in enumerate(piece.tolist())]

    bands = [
        " ".join(points(percentiles[first]) + points(percentiles[4 - first])[::-1])
        for first in range(len(BANDS))
    ]
    unit = f", {row.unit}" if row.unit else ""
    told = sheet or {}
    data = {
        "across": [_across(k, periods) for k in range(periods)],
        "paths": [
            [round(_up(y, low, high)) for y in path.tolist()] if np.isfinite(path).all() else []
            for path in paths
        ],
        "words": list(row.words) or [f"trial {position:,}" for position in selected],
        "sheet": list(told.values()),
    }
    every = -(-periods // MOST_LABELS)
    return Fan(
        f"{heading(row.name)}{unit}",
        f"Fan of {row.name}{unit}: the middle half and nine tenths of the trials",
        json.dumps(data).replace("<", "\\u003c"),
        bands,
        " ".join(points(percentiles[2])),
        _up(0.0, low, high) if low < 0 < high else None,
        [{"x": _across(k, periods) / 10, "text": row.labels[k]} for k in range(0, periods, every)],
        [{"y": _up(y, low, high) / 10, "text": tick(y, row.unit)} for y in _levels(low, high)],
        row.by,
        list(told),
    )


def _chosen(run: Run) -> tuple[list[int], list[str], str]:
    """Return trials from the worst to the best by the first outcome that is one number, what is
    said of each, and the name of that outcome; in their own order where there is none.
    """
    outcome = next((name for name in run.outcomes if not run[name].is_row), None)
    count = min(PATHS, run.size)
    places = list(range(count))
    if outcome is None:
        return places, [f"trial {position:,}" for position in places], ""
    result = run[outcome]
    order = np.argsort(np.asarray(result.values), kind="stable")
    order = order[: int(np.isfinite(result.values).sum())]
    if not len(order):
        return places, [f"trial {position:,}" for position in places], ""
    order = order if result.better == "high" else order[::-1]
    values = np.linspace(0, len(order) - 1, min(count, len(order))).astype(np.int64)
    places = order[values].tolist()
    times, unit = times_shown(result.unit), f" {result.unit}" if result.unit else ""
    words = [
        f"trial {position:,}: {outcome} {brief(times * float(result.values[position]))}{unit}"
        for position in places
    ]
    return places, words, outcome


def _axis(percentiles: Floats, paths: Floats) -> tuple[float, float]:
    path = paths[np.isfinite(paths)]
    low = min(float(np.nanmin(percentiles)), float(path.min(initial=np.inf)))
    high = max(float(np.nanmax(percentiles)), float(path.max(initial=-np.inf)))
    room = 0.05 * (high - low) or 1.0
    return low - room, high + room


def _across(period: int, periods: int) -> float:
    return round(1000 * period / (periods - 1), 1)


def _up(y: float, low: float, high: float) -> float:
    return round(1000 - 1000 * (y - low) / (high - low), 1)


def _levels(low: float, high: float) -> list[float]:
    from matplotlib.ticker import MaxNLocator

    return [y for y in MaxNLocator(5).tick_values(low, high) if low <= y <= high]
