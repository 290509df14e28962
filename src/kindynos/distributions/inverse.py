"""Inverting a cdf that has no closed inverse, and moments from quantiles."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Curve = Callable[[Floats], Floats]

STEPS = 200


def invert(cdf: Curve, density: Curve, u: Floats, bracket: tuple[float, float]) -> Floats:
    """Return x in the bracket with cdf(x) = u: Newton's steps on log cdf, or a halving where they leave."""
    flat = np.atleast_1d(u).reshape(-1)
    low, high = np.full(flat.shape, bracket[0]), np.full(flat.shape, bracket[1])
    x = 0.5 * (low + high)
    for _ in range(STEPS):
        value = cdf(x)
        reached = value >= flat
        high, low = np.where(reached, x, high), np.where(reached, low, x)
        middle = 0.5 * low + 0.5 * high
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            newton = x - np.log(value / flat) * value / density(x)
        moved = np.where((newton > low) & (newton < high), newton, middle)
        if (np.abs(moved - x) <= 2e-16 * np.abs(x)).all() or not ((middle > low) & (middle < high)).any():
            break
        x = moved
    return np.where(flat <= 0, bracket[0], np.where(np.isnan(flat), flat, x)).reshape(np.shape(u))


def invert_steps(cdf: Curve, u: Floats, bracket: tuple[float, float]) -> Floats:
    """Return the smallest float in the bracket with cdf(x) >= u, which is exact where single values have mass.

    Floats in order are whole numbers in order (their bits), so halving takes 64 steps at most.
    """
    flat = np.atleast_1d(u).reshape(-1)
    low, high = (np.full(flat.shape, _rank(np.array(end)), dtype=np.int64) for end in bracket)
    while (gap := (high > low + 1)).any():
        middle = np.where(gap, (low >> 1) + (high >> 1) + (low & high & 1), high)
        reached = cdf(_float(middle)) >= flat
        high, low = np.where(reached, middle, high), np.where(reached, low, middle)
    return np.where(np.isnan(flat), flat, _float(high)).reshape(np.shape(u))


def _rank(x: Floats) -> NDArray[np.int64]:
    bits = np.asarray(x, dtype=np.float64).view(np.int64)
    return np.where(bits < 0, np.int64(-(2**63)) - bits, bits)


def _float(rank: NDArray[np.int64]) -> Floats:
    return np.where(rank < 0, np.int64(-(2**63)) - rank, rank).view(np.float64)


def moments(lower: Curve, upper: Curve, begin: float = 0.0, end: float = 1.0) -> tuple[float, float, float]:
    """Return the integrals of Q, Q**2 and Q**3 over levels from ``begin`` to ``end`` by the tanh-sinh rule.

    ``lower(u)`` is the quantile at u and ``upper(v)`` that at 1 - v. The nodes crowd at both ends, so infinite ends are no
    trouble. Source: Takahasi and Mori, Publications of RIMS 9 (1974), 721-741.
    """
    step = 1 / 64
    t = np.arange(-6 * 64, 6 * 64 + 1) * step
    wing = math.pi / 2 * np.sinh(np.abs(t))
    near = np.exp(-wing) / (2 * np.cosh(wing))  # the distance to the nearer end, as a share
    weights = step * math.pi / 4 * np.cosh(t) / np.cosh(wing) ** 2 * (end - begin)
    first = t <= 0
    gap = near * (end - begin)
    below, above = begin + gap, (1 - end) + gap
    keep = np.where(first, below, above) > 0
    first, below, above, weights = first[keep], below[keep], above[keep], weights[keep]
    x = np.empty(len(weights))
    x[first], x[~first] = lower(below[first]), upper(above[~first])
    return float(weights @ x), float(weights @ x**2), float(weights @ x**3)


def central(first: float, second: float, third: float) -> tuple[float, float, float]:
    """Return mean, variance and skewness from the first three raw moments."""
    variance = second - first**2
    skewness = (third - 3 * first * second + 2 * first**3) / math.pow(variance, 1.5) if variance > 0 else math.nan
    return first, variance, skewness
