"""What a page shows of a sweep over two inputs: a map of each output."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.formatting import brief, times_shown
from kindynos.reports.page.live import tick
from kindynos.reports.page.of_searches import of_sweep
from kindynos.reports.page.scale import HEIGHT, LEFT, TOP, WIDTH
from kindynos.reports.page.view import PageView, charts_view, plain_view
from kindynos.reports.report import Report
from kindynos.studies.sweep import Sweep

MOST_WRITTEN = 12  # rows and columns of a map whose figures are written into it
MOST_CELLS = 60  # rows and columns of a map


def sweep_view(report: Report, swept: Sweep) -> PageView:
    """Return what a page shows of a sweep."""
    curves = list(of_sweep(swept))
    return charts_view(report, *curves) if curves else plain_view(report, maps=maps(swept))


@dataclass(frozen=True)
class Map:
    """One output of a sweep over two inputs."""

    title: str
    cells: list[dict[str, Any]]
    across: list[dict[str, Any]]
    down: list[dict[str, Any]]
    names: tuple[str, str]
    height: float


def maps(swept: Sweep) -> list[Map]:
    """Return a map of each output of a sweep over two inputs; none of others."""
    if len(swept.inputs) != 2:
        return []
    return [drawn for drawn in (_map(swept, name) for name in swept.outputs) if drawn is not None]


def _map(swept: Sweep, name: str) -> Map | None:
    grid = swept.grid(name)
    rows, columns = grid.shape
    values = times_shown(swept.units.get(name)) * grid.to_numpy(dtype=np.float64)
    finite = values[np.isfinite(values)]
    if max(rows, columns) > MOST_CELLS or not len(finite):
        return None
    low, high = float(finite.min()), float(finite.max())
    width, height = WIDTH / columns, max(HEIGHT / rows, 22.0)
    written = max(rows, columns) <= MOST_WRITTEN
    down, across = (
        f"{name_of_input}{_unit(swept, name_of_input)}" for name_of_input in swept.inputs
    )
    cells = []
    for i in range(rows):
        for j in range(columns):
            value = float(values[i, j])
            share = (value - low) / (high - low) if high > low else 0.5
            at = f"{down} {brief(_shown(swept, 0, grid.index[i]))}, "
            at += f"{across} {brief(_shown(swept, 1, grid.columns[j]))}"
            cells.append(
                {
                    "x": round(LEFT + j * width, 1),
                    "y": round(TOP + i * height, 1),
                    "width": round(width - 1, 1),
                    "height": round(height - 1, 1),
                    "opacity": round(0.05 + 0.5 * share, 3) if value == value else 0,
                    "text": tick(value, swept.units.get(name)) if written else "",
                    "words": f"{at}: {brief(value)}",
                }
            )
    every = -(-columns // MOST_WRITTEN)
    return Map(
        f"{name}{_unit(swept, name)} ({swept.statistic})",
        cells,
        [
            {"x": round(LEFT + (j + 0.5) * width, 1), "text": _tick(swept, 1, x)}
            for j, x in list(enumerate(grid.columns))[::every]
        ],
        [
            {"y": round(TOP + (i + 0.5) * height + 4, 1), "text": _tick(swept, 0, y)}
            for i, y in list(enumerate(grid.index))[:: -(-rows // 20)]
        ],
        (down, across),
        round(TOP + rows * height, 1),
    )


def _unit(swept: Sweep, name: str) -> str:
    unit = swept.units.get(name)
    return f", {unit}" if unit else ""


def _tick(swept: Sweep, position: int, value: Any) -> str:
    return tick(_shown(swept, position, value), swept.units.get(swept.inputs[position]))


def _shown(swept: Sweep, position: int, value: Any) -> float:
    return times_shown(swept.units.get(swept.inputs[position])) * float(value)
