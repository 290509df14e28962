"""The small densities of drivers."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.formatting import short, times_shown
from kindynos.program.quantities import DistributionDriver
from kindynos.results.run import Run

if TYPE_CHECKING:
    from kindynos.distributions.base import Distribution

DENSITY_BINS, MOST_DENSITIES = 32, 60


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
