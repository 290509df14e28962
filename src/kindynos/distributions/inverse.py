"""Inverting a cdf that has no closed inverse, and moments from quantiles."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

Curve = Callable[[Floats], Floats]
Ends = float | Floats
Moments = tuple[float, float, float]  # mean, variance, skewness

STEPS = 200
ROUNDING = 1e-15  # of a cdf that is worked out


def invert(
    cdf: Callable[..., Floats],
    density: Callable[..., Floats],
    u: Floats,
    bracket: tuple[Ends, Ends],
    own: tuple[Floats, ...] = (),
    close: float = 0.0,
    near: Floats | None = None,
) -> Floats:
    """Return x in the bracket with cdf(x) = u: Newton's steps on log cdf, or a halving where they
    leave, from values ``near`` it (of the levels' shape) or from the middle.

    The ends are numbers or one a level. ``own``, arrays ``(..., levels)``, belong to the levels:
    ``cdf(x, *own)``. A step of at most ``close`` ends a search, as one within the float's digits
    does.
    """
    levels = np.atleast_1d(u).reshape(-1)
    low, high = (np.array(np.broadcast_to(end, levels.shape), dtype=np.float64) for end in bracket)
    quantiles = np.where(np.isnan(levels), levels, low)
    active = np.flatnonzero(levels > 0)
    flat, low, high, own = (
        levels[active],
        low[active],
        high[active],
        tuple(array[..., active] for array in own),
    )
    x = 0.5 * low + 0.5 * high
    if near is not None:
        x = np.clip(near.reshape(-1)[active], low, high)
    for _ in range(STEPS if active.size else 0):
        value = cdf(x, *own)
        reached = value >= flat
        high, low = np.where(reached, x, high), np.where(reached, low, x)
        middle = 0.5 * low + 0.5 * high
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            newton = x - np.log(value / flat) * value / density(x, *own)
        values = np.where((newton > low) & (newton < high), newton, middle)
        values = np.where(np.abs(value - flat) <= ROUNDING * flat, x, values)
        going = (np.abs(values - x) > close + 4e-16 * np.abs(x)) & (middle > low) & (middle < high)
        x = values
        if np.count_nonzero(going) < 0.7 * going.size:
            quantiles[active[~going]] = x[~going]
            active, flat, x, low, high = (
                active[going],
                flat[going],
                x[going],
                low[going],
                high[going],
            )
            own = tuple(array[..., going] for array in own)
            if not active.size:
                break
    quantiles[active] = x
    return quantiles.reshape(np.shape(u))


def invert_steps(cdf: Curve, u: Floats, bracket: tuple[Ends, Ends]) -> Floats:
    """Return the smallest float in the bracket with cdf(x) >= u, which is exact where single values
    have mass.

    Floats in order are whole numbers in order (their bits), so halving takes 64 steps at most.
    """
    flat = np.atleast_1d(u).reshape(-1)
    low, high = (np.full(flat.shape, _rank(np.asarray(end)), dtype=np.int64) for end in bracket)
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


def moments(
    lower: Curve, upper: Curve, begin: float = 0.0, end: float = 1.0
) -> tuple[float, float, float]:
    """Return the integrals of Q, Q**2 and Q**3 over levels from ``begin`` to ``end`` by the
    tanh-sinh rule.

    ``lower(u)`` is the quantile at u and ``upper(v)`` that at 1 - v. The nodes crowd at both ends,
    so infinite ends are no trouble. Source: Takahasi and Mori, Publications of RIMS 9 (1974),
    721-741.
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
    with np.errstate(all="ignore"):
        x[first], x[~first] = lower(below[first]), upper(above[~first])
        # levels below the smallest float, whose weights are far smaller still
        x = np.where(np.isfinite(x), x, 0.0)
        return float(weights @ x), float(weights @ x**2), float(weights @ x**3)


def central_moments(lower: Curve, upper: Curve, centre: float) -> tuple[float, float, float]:
    """Return mean, variance and skewness by quadrature about a centre, so that a mean far from 0
    costs no digits.
    """
    first, variance, skewness = central(
        *moments(lambda u: lower(u) - centre, lambda v: upper(v) - centre)
    )
    return centre + first, variance, skewness


def without_heavy_tail(inner: Moments, moments: Moments, tail: int) -> Moments:
    """Return found moments, infinite or NaN where a kept endless tail makes those of the whole
    distribution so.

    ``tail`` is 1 where the upper tail is kept, -1 the lower, 0 where both or neither is.
    """
    if not math.isfinite(inner[0]):
        return (math.inf * tail if tail else inner[0]), math.nan, math.nan
    if not math.isfinite(inner[1]):
        return moments[0], math.inf, math.nan
    return moments if math.isfinite(inner[2]) else (moments[0], moments[1], math.nan)


def central(first: float, second: float, third: float) -> tuple[float, float, float]:
    """Return mean, variance and skewness from the first three raw moments; NaN or infinite where
    they overflow.
    """
    if not (math.isfinite(second) and math.isfinite(third)):
        return first, second, math.nan
    variance = second - first**2
    skewness = (
        (third - 3 * first * second + 2 * first**3) / math.pow(variance, 1.5)
        if variance > 0
        else math.nan
    )
    return first, variance, skewness


def atom_moments(values: Floats, masses: Floats) -> tuple[float, float, float]:
    """Return mean, variance and skewness of a distribution on single values."""
    mean = float(masses @ values)
    gaps = values - mean
    _, variance, skewness = central(0.0, float(masses @ gaps**2), float(masses @ gaps**3))
    return mean, variance, skewness
