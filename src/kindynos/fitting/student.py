"""Student's t from data, by maximum likelihood."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.distributions import StudentTByScale
from kindynos.distributions.special import gammaln
from kindynos.errors import ParameterError

Floats = NDArray[np.float64]

FEWEST_DF, MOST_DF = 2.1, 200.0
STEPS = 200


def fit_student(values: ArrayLike) -> StudentTByScale:
    """Return the t law that makes data likeliest, by location, scale and degrees of freedom (2.1 to 200).

    The EM steps of Liu and Rubin, Statistica Sinica 5 (1995), 19-39, with the degrees of freedom sought by golden section.
    Raises ParameterError for fewer than 8 values or values that are all equal.

    >>> fit_student([-2.0, -1.0, -0.5, 0.0, 0.2, 0.5, 1.1, 2.2]).df > 2
    True
    """
    x = np.asarray(values, dtype=np.float64).reshape(-1)
    if len(x) < 8 or not np.isfinite(x).all() or np.ptp(x) == 0:
        raise ParameterError("fit_student: needs at least 8 finite values that are not all equal")
    best = max((_at(x, df) for df in _degrees(x)), key=lambda found: found[0])
    return StudentTByScale(best[1], best[2], best[3])


def _degrees(x: Floats) -> list[float]:
    """Return the two last candidates of a golden-section search over 1 / df."""
    ratio = (math.sqrt(5) - 1) / 2
    low, high = 1 / MOST_DF, 1 / FEWEST_DF
    a, b = high - ratio * (high - low), low + ratio * (high - low)
    at_a, at_b = _at(x, 1 / a)[0], _at(x, 1 / b)[0]
    while high - low > 1e-3:
        if at_a > at_b:
            high, b, at_b = b, a, at_a
            a = high - ratio * (high - low)
            at_a = _at(x, 1 / a)[0]
        else:
            low, a, at_a = a, b, at_b
            b = low + ratio * (high - low)
            at_b = _at(x, 1 / b)[0]
    return [1 / a, 1 / b]


def _at(x: Floats, df: float) -> tuple[float, float, float, float]:
    """Return log likelihood, df, location and scale at given degrees of freedom."""
    location, variance = float(np.median(x)), float(x.var()) * (df - 2) / df
    for _ in range(STEPS):
        gaps = x - location
        weights = (df + 1) / (df + gaps**2 / variance)
        moved = float((weights * x).sum() / weights.sum())
        fresh = float((weights * (x - moved) ** 2).sum() / weights.sum())  # the faster variant of the scale's step
        done = abs(fresh - variance) <= 1e-9 * variance
        location, variance = moved, fresh
        if done:
            break
    logs = -(df + 1) / 2 * np.log1p((x - location) ** 2 / (df * variance))
    constant = float(gammaln((df + 1) / 2) - gammaln(df / 2)) - 0.5 * math.log(df * math.pi * variance)
    return float(logs.sum()) + len(x) * constant, df, location, math.sqrt(variance)
