"""Figures of values with weights: quantiles, the mean of the worst part, and where their intervals
end.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.inference.intervals import Z, wilson


def weighted_quantile(values: Floats, weights: Floats, level: float) -> float:
    """Return the smallest value that so much of the weight does not exceed."""
    order = np.argsort(values, kind="stable")
    reached = np.cumsum(weights[order])
    place = int(np.searchsorted(reached, level * reached[-1] * (1 - 1e-12)))
    return float(values[order][min(place, len(values) - 1)])


def weighted_figure(values: Floats, weights: Floats, by: str, level: float) -> float:
    """Return a percentile, or the mean of the worst part, of values with weights."""
    if by == "percentile":
        return weighted_quantile(values, weights, level)
    order = np.argsort(values, kind="stable")
    x, w = values[order], weights[order]
    part = level * float(w.sum())
    before = np.cumsum(w) - w
    inside = np.clip(part - before, 0.0, w)
    return float(x @ inside) / part


def weighted_ends(values: Floats, weights: Floats, by: str, level: float) -> tuple[float, float]:
    """Return the 95 % interval of such a figure, from as many equal trials as the weights are
    worth; none where few values are.
    """
    worth = float(weights.sum()) ** 2 / float((weights**2).sum())
    if len(np.unique(values)) < 200:
        figure = weighted_figure(values, weights, by, level)
        return figure, figure
    if by == "percentile":
        low, high = wilson(level, worth)
        return weighted_quantile(values, weights, low), weighted_quantile(values, weights, high)
    q = weighted_quantile(values, weights, level)
    terms = q - np.maximum(q - values, 0.0) / level
    mean = float(np.average(terms, weights=weights))
    spread = math.sqrt(float(np.average((terms - mean) ** 2, weights=weights)) / worth)
    return mean - Z * spread, mean + Z * spread
