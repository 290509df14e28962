"""Quantiles and means of tails: of losses row by row, ``(rows, losses)`` or ``(losses,)``, alike or
with weights, and of values with weights.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.inference.intervals import Z, wilson


def even_tail(rows: Floats, level: float) -> tuple[Floats, Floats]:
    """Return the quantile of each row, interpolated between neighbours in order, and the mean of
    its worst 1 - level.

    The worst losses count fully and the next one by the part that is left, so that the mean never
    exceeds the worst loss (Acerbi and Tasche, Journal of Banking & Finance 26, 2002, 1487-1503).

    >>> [round(float(part[0]), 6) for part in even_tail(np.arange(101.0)[None], 0.9)]
    [90.0, 95.445545]
    """
    count = rows.shape[-1]
    position = level * (count - 1)
    below = min(math.floor(position), count - 2)
    parted = np.partition(rows, below, axis=-1)
    # the few that are larger: all that the quantile and the tail need
    beyond = parted[..., below + 1 :]
    q = parted[..., below] + (position - below) * (beyond.min(axis=-1) - parted[..., below])
    whole = min(math.floor(count * (1 - level) + 1e-9), beyond.shape[-1] + 1)
    tail = np.sort(np.concatenate([parted[..., below, None], beyond], axis=-1), axis=-1)[..., ::-1]
    piece = count * (1 - level) - whole
    total = tail[..., :whole].sum(axis=-1) + (piece * tail[..., whole] if piece > 1e-9 else 0.0)
    return q, total / (count * (1 - level))


def weighted_tail(rows: Floats, weights: Floats, level: float) -> tuple[Floats, Floats]:
    """Return the same of weighted losses; weights are ``(losses,)``, alike in each row, and add up
    to 1.

    Each loss is put at the middle of its weight, and between two of them the quantile is a straight
    line; the tail mean is the mean of that line beyond the level. It lies between the quantile and
    the worst loss.
    """
    order = np.argsort(rows, axis=-1, kind="stable")
    ordered, by_order = np.take_along_axis(rows, order, axis=-1), weights[order]
    places = np.cumsum(by_order, axis=-1) - by_order / 2
    above = np.minimum((places < level).sum(axis=-1, keepdims=True), rows.shape[-1] - 1)
    below = np.maximum(above - 1, 0)

    def pick(values: Floats, position: np.ndarray) -> Floats:
        return np.take_along_axis(values, position, axis=-1)[..., 0]

    gap = pick(places, above) - pick(places, below)
    clipped = np.clip(
        np.where(gap > 0, (level - pick(places, below)) / np.where(gap > 0, gap, 1), 0), 0, 1
    )
    q = pick(ordered, below) + clipped * (pick(ordered, above) - pick(ordered, below))
    floor = np.maximum(ordered, q[..., None])
    reached = np.maximum(places, level)
    area = ((floor[..., 1:] + floor[..., :-1]) / 2 * np.diff(reached, axis=-1)).sum(axis=-1)
    return q, (area + floor[..., -1] * (1 - reached[..., -1])) / (1 - level)


def weighted_quantile(values: Floats, weights: Floats, level: float) -> float:
    """Return the smallest value that so much of the weight does not exceed."""
    order = np.argsort(values, kind="stable")
    reached = np.cumsum(weights[order])
    position = int(np.searchsorted(reached, level * reached[-1] * (1 - 1e-12)))
    return float(values[order][min(position, len(values) - 1)])


def weighted_figure(values: Floats, weights: Floats, by: str, level: float) -> float:
    """Return a percentile, or the mean of the worst part, of values with weights."""
    if by == "percentile":
        return weighted_quantile(values, weights, level)
    order = np.argsort(values, kind="stable")
    x, w = values[order], weights[order]
    figure = level * float(w.sum())
    before = np.cumsum(w) - w
    inside = np.clip(figure - before, 0.0, w)
    return float(x @ inside) / figure


def weighted_ends(values: Floats, weights: Floats, by: str, level: float) -> tuple[float, float]:
    """Return the 95 % interval of such a figure of values that were drawn, from as many equal
    trials as the weights are worth.
    """
    worth = float(weights.sum()) ** 2 / float((weights**2).sum())
    if by == "percentile":
        low, high = wilson(level, worth)
        return weighted_quantile(values, weights, low), weighted_quantile(values, weights, high)
    q = weighted_quantile(values, weights, level)
    terms = q - np.maximum(q - values, 0.0) / level
    mean = float(np.average(terms, weights=weights))
    spread = math.sqrt(float(np.average((terms - mean) ** 2, weights=weights)) / worth)
    return mean - Z * spread, mean + Z * spread
