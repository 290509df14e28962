"""Quantiles and tail means of rows of losses, ``(rows, losses)``: of histories, windows and
scenarios.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.inference.sample import ROUNDING


def loss_tail(rows: Floats, level: float, weights: Floats | None = None) -> tuple[Floats, Floats]:
    """Return for each row the loss that the next one exceeds with a chance of 1 - level, and the
    mean of the worst 1 - level of the losses.

    Of n losses, the k-th in order has the level k / (n + 1), since a further one is as likely to
    fall into each of the gaps; between two of them the loss is interpolated, and beyond the worst
    it is the worst (Hyndman and Fan, American Statistician 50, 1996, 361-365, definition 6). Losses
    with weights, ``(losses,)``, have the level of the middle of their weight, and the further one
    weighs as much as one of as many losses of equal weight as say the same: with weights that fade
    by 0.98 or 0.995 a day it exceeds the figure as often as it says to within a twentieth.

    The mean counts the worst losses fully and the next one by what is left of the part, as
    ``AnySample.shortfalls`` does; of losses with weights it is at least the other figure.

    >>> [round(float(figure[0]), 6) for figure in loss_tail(np.arange(1.0, 100.0)[None], 0.9)]
    [90.0, 94.545455]
    """
    count = rows.shape[-1]
    if weights is not None:
        return _weighted_tail(rows, level, weights)
    position = min(max(level * (count + 1) - 1, 0.0), count - 1.0)
    below = min(math.floor(position), max(count - 2, 0))
    parted = np.partition(rows, below, axis=-1)
    worse = parted[..., below + 1 :]  # the few that are larger: all that both figures need
    following = worse.min(axis=-1) if worse.shape[-1] else parted[..., below]
    quantile = parted[..., below] + (position - below) * (following - parted[..., below])
    is_below = math.ceil(level * count * (1 - ROUNDING)) - 1 <= below
    reached = parted[..., below] if is_below else following
    excess = np.maximum(worse - reached[..., None], 0.0).sum(axis=-1) / count
    return quantile, reached + excess / (1 - level)


def _weighted_tail(rows: Floats, level: float, weights: Floats) -> tuple[Floats, Floats]:
    order = np.argsort(rows, axis=-1, kind="stable")
    ordered, weight = np.take_along_axis(rows, order, axis=-1), weights[order]
    up_to, total = np.cumsum(weight, axis=-1), float(weights.sum())
    further = float((weights**2).sum()) / total
    levels = (up_to - weight / 2 + further / 2) / (total + further)
    quantile = np.array([np.interp(level, *row) for row in zip(levels, ordered, strict=True)])
    positions = (up_to < level * total * (1 - ROUNDING)).sum(axis=-1)[..., None]
    reached = np.take_along_axis(ordered, np.minimum(positions, rows.shape[-1] - 1), axis=-1)
    excess = (np.maximum(ordered - reached, 0.0) * weight).sum(axis=-1) / total
    mean = reached[..., 0] + excess / (1 - level)
    return quantile, np.maximum(mean, quantile)
