"""Live pictures of results other than runs: grids as maps, frontiers whose weights follow the
pointer, trees that fold, and the small densities of drivers.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.formatting import brief, per_cent, short, times_shown, with_error
from kindynos.program.quantities import DistributionDriver
from kindynos.reports.page.live import tick
from kindynos.results.run import Run
from kindynos.studies.sweep import Sweep

if TYPE_CHECKING:
    from kindynos.decisions.solve import Solution
    from kindynos.distributions.base import Distribution
    from kindynos.markets.allocation.frontier import Frontier

MOST_WRITTEN = 12  # rows and columns of a map whose figures are written into it
MOST_CELLS = 60  # rows and columns of a map
DENSITY_BINS, MOST_DENSITIES = 32, 60
FRONTIER_POINTS = 60
TOP, LEFT, HEIGHT, WIDTH = 36.0, 110.0, 300.0, 640.0


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
    return [item for item in (_map(swept, name) for name in swept.outputs) if item is not None]


def _map(swept: Sweep, name: str) -> Map | None:
    grid = swept.grid(name)
    rows, columns = grid.shape
    values = times_shown(swept.units.get(name)) * grid.to_numpy(dtype=np.float64)
    valid = values[np.isfinite(values)]
    if max(rows, columns) > MOST_CELLS or not len(valid):
        return None
    low, high = float(valid.min()), float(valid.max())
    width, height = WIDTH / columns, max(HEIGHT / rows, 22.0)
    written = max(rows, columns) <= MOST_WRITTEN
    down, across = (f"{item}{_unit(swept, item)}" for item in swept.inputs)
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
                    "text": tick(value) if written else "",
                    "words": f"{at}: {brief(value)}",
                }
            )
    every = -(-columns // MOST_WRITTEN)
    return Map(
        f"{name}{_unit(swept, name)} ({swept.statistic})",
        cells,
        [
            {"x": round(LEFT + (j + 0.5) * width, 1), "text": tick(_shown(swept, 1, x))}
            for j, x in list(enumerate(grid.columns))[::every]
        ],
        [
            {"y": round(TOP + (i + 0.5) * height + 4, 1), "text": tick(_shown(swept, 0, y))}
            for i, y in list(enumerate(grid.index))[:: -(-rows // 20)]
        ],
        (down, across),
        round(TOP + rows * height, 1),
    )


def _unit(swept: Sweep, name: str) -> str:
    unit = swept.units.get(name)
    return f", {unit}" if unit else ""


def _shown(swept: Sweep, position: int, value: Any) -> float:
    return times_shown(swept.units.get(swept.inputs[position])) * float(value)


@dataclass(frozen=True)
class Curve:
    """A frontier whose points have weights."""

    title: str
    json: str
    points: str
    ticks: list[dict[str, Any]]
    levels: list[dict[str, Any]]
    names: list[str]
    best: tuple[float, float] | None
    words: tuple[str, str]


def curve(frontier: Frontier, best: Any = None) -> Curve:
    """Return a frontier, with the best weights marked where they are given."""
    from matplotlib.ticker import MaxNLocator

    table = frontier.table()
    names = [name for name in frontier.request.source.names if name in table.columns]
    risk, mean = frontier.risk, np.asarray(table["mean"], dtype=np.float64)
    order = np.argsort(mean, kind="stable")
    weights = np.asarray(table[names], dtype=np.float64)[order]
    means = np.linspace(mean.min(), mean.max(), FRONTIER_POINTS)
    between = np.column_stack([np.interp(means, mean[order], item) for item in weights.T])
    risks = np.array([frontier.losses.value(risk, item) for item in between])
    room = 0.04 * (float(np.ptp(risks)) or 1.0)
    first, last = float(risks.min() - room), float(risks.max() + room)
    lift = 0.05 * (float(np.ptp(means)) or 1.0)
    low, high = float(means.min() - lift), float(means.max() + lift)

    def across(x: float) -> float:
        return round(LEFT + WIDTH * (x - first) / (last - first), 1)

    def up(y: float) -> float:
        return round(TOP + HEIGHT - HEIGHT * (y - low) / (high - low), 1)

    places = [(across(x), up(y)) for x, y in zip(risks.tolist(), means.tolist(), strict=True)]
    label = risk.replace("_", " ")
    words = [
        f"mean {per_cent(y, 3)}, {label} {per_cent(x, 3)}"
        for x, y in zip(risks.tolist(), means.tolist(), strict=True)
    ]
    data = {
        "across": [x for x, _ in places],
        "up": [y for _, y in places],
        "weights": np.round(between, 4).tolist(),
        "words": words,
    }
    marked = None
    if best is not None:
        own = np.asarray(best, dtype=np.float64)
        x, y = float(frontier.losses.value(risk, own)), float(frontier.losses.mean(own))
        marked = (across(x), up(y)) if first <= x <= last and low <= y <= high else None
    return Curve(
        f"The frontier of mean and {label}",
        json.dumps(data),
        " ".join(f"{x},{y}" for x, y in places),
        [
            {"x": across(x), "text": per_cent(x, 2)}
            for x in MaxNLocator(6).tick_values(first, last)
            if first <= x <= last
        ],
        [
            {"y": up(y), "text": per_cent(y, 3)}
            for y in MaxNLocator(5).tick_values(low, high)
            if low <= y <= high
        ],
        names,
        marked,
        ("mean", label),
    )


@dataclass(frozen=True)
class Branch:
    """A part of a decision tree with the parts that follow."""

    name: str
    what: str
    worth: str
    chance: str
    chosen: bool
    parts: list[Branch]


def tree(solution: Solution) -> Branch:
    """Return the tree of a decision, in which the best policy is marked."""
    unit = f" {solution.decision.unit}" if solution.decision.unit else ""

    def branch(path: tuple[str, ...], selected: bool) -> Branch:
        node = solution.parts[path]
        inside = [p for p in solution.parts if len(p) == len(path) + 1 and p[: len(path)] == path]
        value, error = with_error(node.value)
        best = solution.policy.get(path)
        follows = [branch(p, selected and (best is None or p[-1] == best)) for p in inside]
        what = {
            "choice": f"choose {best}" if best is not None else "",
            "event": f"depends on {node.name}",
        }
        return Branch(
            path[-1] if path else solution.decision.name,
            what.get(node.kind, ""),
            f"{value}{unit} {error}".strip(),
            per_cent(node.chance) if node.chance < 1 else "",
            selected,
            follows,
        )

    return branch((), True)


@dataclass(frozen=True)
class Density:
    """The histogram of a driver's draws, and the ends of its axis."""

    name: str
    points: str
    low: str
    high: str


def density_of(distribution: Distribution, unit: str | None = None) -> Density:
    """Return the small density of a distribution before anything is drawn from it."""
    first, last = (float(x) for x in distribution.quantile([0.002, 0.998]))
    if first == last:
        first, last = first - 0.5, last + 0.5
    edges = np.linspace(first, last, DENSITY_BINS + 1)
    below = np.array([float(distribution.chance(below=x)) for x in edges.tolist()])
    return _density(repr(distribution), np.diff(below), first, last, unit)


def _density(name: str, heights: Any, first: float, last: float, unit: str | None) -> Density:
    step, most = 160 / DENSITY_BINS, float(max(np.max(heights), 1e-300))
    tops = [round(60 - 56 * float(height) / most, 1) for height in heights]
    points = [f"{step * k:g},{y} {step * (k + 1):g},{y}" for k, y in enumerate(tops)]
    after, times = f" {unit}" if unit else "", times_shown(unit)
    ends = (f"{short(times * x)}{after}" for x in (first, last))
    return Density(name, f"0,60 {' '.join(points)} 160,60", *ends)


def densities(run: Run) -> list[Density]:
    """Return a small density of each driver: of its draws where they are held, of a row those of
    all its periods, and else of its distribution.
    """
    rows = []
    for name in list(run.drivers)[:MOST_DENSITIES]:
        driver = run.program.shown_driver(name)
        if driver is None:
            continue
        if name not in run.kept or driver != run.program.drivers[name]:
            if isinstance(driver, DistributionDriver):
                rows.append(replace(density_of(driver.distribution, driver.unit), name=name))
            continue
        values = np.asarray(run[name].values).reshape(-1)
        value = values[np.isfinite(values)]
        if not len(value) or np.ptp(value) == 0:
            continue
        first, last = np.quantile(value, [0.002, 0.998])
        if first == last:
            first, last = float(value.min()), float(value.max())
        counts, _ = np.histogram(value, bins=DENSITY_BINS, range=(first, last))
        rows.append(_density(name, counts, float(first), float(last), run[name].unit))
    return rows
