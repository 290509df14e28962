"""Values in order against the quantiles of a fitted distribution, its density, and the bars of
their histogram.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from scipy.special import betaincinv

from kindynos.arrays import Floats

if TYPE_CHECKING:
    from kindynos.distributions.base import Distribution

MOST_BARS = 40
LEVELS = 1 - np.geomspace(1, 1e-7, 4001)  # at which quantiles of what is recorded are known
BAND = (0.025, 0.975)


class Ordered(NamedTuple):
    """Values in order, the quantiles they stand against, and the ends of the band in which 95 of
    100 values of the distribution lie.
    """

    values: Floats
    expected: Floats
    low: Floats
    high: Floats


def ordered(distribution: Distribution, values: Floats, thresholds: Floats | None) -> Ordered:
    """Return values in order against quantiles of a distribution.

    The band of the i-th of n values is the quantile at those of a beta distribution with i and n +
    1 - i: it is for a distribution that is known, and a little wider than needed for one that was
    fitted.
    """
    count = len(values)
    places = np.arange(1, count + 1)
    quantile: Any = distribution.quantile
    if thresholds is not None:
        quantile = _recorded(distribution, thresholds)
    low, high = (quantile(betaincinv(places, count + 1 - places, level)) for level in BAND)
    return Ordered(np.sort(values), quantile((places - 0.5) / count), low, high)


def density_of(distribution: Distribution, x: Floats, thresholds: Floats | None) -> Floats:
    """Return the density of a distribution, or of what is recorded of it above thresholds."""
    density = np.asarray(distribution.pdf(x))
    if thresholds is None:
        return density
    seen = 1 / np.array([distribution.chance(above=float(at)) for at in thresholds])
    return np.asarray(density * ((x[:, None] > thresholds) * seen).mean(axis=1))


def edges_of(values: Floats) -> Floats:
    """Return the edges of a histogram's bars."""
    edges: Floats = np.histogram_bin_edges(values, "fd")
    if len(edges) <= MOST_BARS + 1:
        return edges
    return np.linspace(values.min(), values.max(), MOST_BARS + 1)


def _recorded(distribution: Distribution, thresholds: Floats) -> Callable[[Floats], Floats]:
    """Return the quantiles of what is recorded above thresholds, one per value."""
    hidden = np.array([1 - distribution.chance(above=float(at)) for at in thresholds])
    levels = hidden.min() + (1 - hidden.min()) * LEVELS
    reached = np.clip((levels[:, None] - hidden) / (1 - hidden), 0, 1).mean(axis=1)
    values = np.asarray(distribution.quantile(levels))
    return lambda at: np.interp(at, reached, values)
