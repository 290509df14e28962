"""Averages of normal cdfs around many values, fast enough to be inverted.

The line is cut into cells as wide as the kernel's sd, where a value is near. In each cell the
polynomial of degree 16 through the exact averages at Chebyshev nodes is right to about 1e-11 of the
cdf, far out in the tail too.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.special import ndtr

from kindynos.arrays import Floats, product
from kindynos.distributions.inverse import invert
from kindynos.validate import checked

DEGREE = 16
ROOT = math.sqrt(2 * math.pi)
NEAR = 9  # kernel sds beyond which a value no longer counts: its part is below 1e-18
_NODES = 0.5 + 0.5 * np.cos(np.pi * (np.arange(DEGREE + 1) + 0.5) / (DEGREE + 1))
_TO_POWERS = np.linalg.inv(np.vander(2 * _NODES - 1, increasing=True))


@dataclass(frozen=True)
class KernelSums:
    """The cdf of sorted ``values`` smoothed by a normal kernel: cells ``begins`` with its
    polynomials and ends.
    """

    start: float
    width: float
    count: int
    lowest: Floats
    """The lowest values, in widths above the start."""
    begins: Floats
    coefficients: Floats
    slopes: Floats
    level: Floats
    """The cdf at the end of each cell."""

    @classmethod
    @checked
    def of(cls, values: Floats, width: float) -> KernelSums:
        """Return the cells for sorted values ``(n,)``."""
        scaled = (values - values[0]) / width
        whole = np.unique(np.floor(scaled))
        cells = np.unique((whole[:, None] + np.arange(-NEAR, NEAR + 1.0)).reshape(-1))
        points = cells + _NODES[:, None]
        level = _average(points, scaled)
        coefficients = product(_TO_POWERS, level)
        slopes = 2 * coefficients[1:] * np.arange(1, DEGREE + 1)[:, None]
        begins, level = values[0] + width * cells, _average(cells + 1, scaled)
        lowest = scaled[scaled < 5]  # what a value adds falls by e**-9 a width there
        return cls(values[0], width, len(values), lowest, begins, coefficients, slopes, level)

    def cdf(self, x: Floats) -> Floats:
        """Return the cdf at ``x`` ``(n,)``."""
        cell, position = self._cell_of(x)
        inside = _polynomial(self.coefficients[:, cell], 2 * np.clip(position, 0, 1) - 1)
        return np.where(x < self.begins[0], self._below(x)[0], inside)

    def density(self, x: Floats) -> Floats:
        """Return the density at ``x`` ``(n,)``."""
        cell, position = self._cell_of(x)
        slope = _polynomial(self.slopes[:, cell], 2 * np.clip(position, 0, 1) - 1)
        between = np.where((position < 0) | (position > 1), 0.0, np.maximum(slope, 0.0))
        return np.where(x < self.begins[0], self._below(x)[1], between) / self.width

    def _cell_of(self, x: Floats) -> tuple[Any, Floats]:
        """Return the cell at or before each point, and how far behind its begin, in cells."""
        cell = np.clip(np.searchsorted(self.begins, x, side="right") - 1, 0, None)
        return cell, (x - self.begins[cell]) / self.width

    def _below(self, x: Floats) -> tuple[Floats, Floats]:
        """Return cdf and density, per width, below the first cell."""
        sums = np.zeros((2, len(x)))
        far = np.flatnonzero(x < self.begins[0])
        if len(far):
            gaps = ((x[far] - self.start) / self.width)[:, None] - self.lowest
            sums[0, far] = ndtr(gaps).sum(axis=1) / self.count
            sums[1, far] = np.exp(-(gaps**2) / 2).sum(axis=1) / self.count / ROOT
        return sums[0], sums[1]

    def quantile(self, u: Floats) -> Floats:
        """Return where the cdf is ``u`` ``(n,)``."""
        quantiles = np.empty(u.shape)
        far = u <= self.level[0]
        quantiles[far] = self._far(u[far])
        quantiles[~far] = self._within(u[~far])
        return quantiles

    def _far(self, u: Floats) -> Floats:
        """Below the first cell only the lowest values count, and these exactly."""
        first = self.lowest

        def cdf(z: Floats) -> Floats:
            return np.asarray(ndtr(z[:, None] - first).sum(axis=1) / self.count)

        def density(z: Floats) -> Floats:
            return np.asarray(
                np.exp(-((z[:, None] - first) ** 2) / 2).sum(axis=1) / self.count / ROOT
            )

        start = self.start + self.width * invert(cdf, density, u, (-40.0, 0.0))
        return np.where(u <= 0, -np.inf, start)

    def _within(self, u: Floats) -> Floats:
        cell = np.minimum(np.searchsorted(self.level, u), len(self.begins) - 1)

        def cdf(position: Floats, curve: Floats, slope: Floats) -> Floats:
            return _polynomial(curve, 2 * position - 1)

        def density(position: Floats, curve: Floats, slope: Floats) -> Floats:
            return _polynomial(slope, 2 * position - 1)

        own = self.coefficients[:, cell], self.slopes[:, cell]
        inside = invert(cdf, density, u, (0.0, 1.0), own, close=1e-12)
        return self.begins[cell] + self.width * inside


def _polynomial(coefficients: Floats, x: Floats) -> Floats:
    total: Floats = coefficients[-1]
    for row in coefficients[-2::-1]:
        total = total * x + row
    return total


def _average(points: Floats, values: Floats) -> Floats:
    """Return the average of ndtr(point - value) over sorted values; only those near a
    point need working out.
    """
    flat = points.reshape(-1)
    below = np.searchsorted(values, flat - NEAR)
    above = np.searchsorted(values, flat + NEAR)
    order = np.argsort(above - below)
    averages = np.empty(flat.shape)
    begin = 0
    while begin < len(flat):
        # Points with about as many near values are worked on together.
        count = int(above[order[begin]] - below[order[begin]])
        widest = max(2 * count, 16)
        end = int(np.searchsorted((above - below)[order], widest, side="right"))
        end = min(end, begin + max(1, 1_000_000 // widest))
        places = order[begin:end]
        index = below[places, None] + np.arange(int((above - below)[places].max(initial=0)))
        near = values[np.minimum(index, len(values) - 1)]
        sums = np.where(index < above[places, None], ndtr(flat[places, None] - near), 0.0).sum(
            axis=1
        )
        averages[places] = (below[places] + sums) / len(values)
        begin = end
    return averages.reshape(points.shape)
