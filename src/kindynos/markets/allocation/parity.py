"""Equal contributions to risk."""

from __future__ import annotations

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError, RunError
from kindynos.markets.allocation.region import Region

ROUNDS = 500
SETTLED = 1e-13  # relative change of a weight
HALVINGS, ARMIJO = 40, 1e-4  # of a step, and the share of what its slope promises that it must keep
ROUNDING = 1e-14  # of the sizes that a value is the sum of
LEAST_LEFT = 0.1  # of a weight after a step, since its logarithm must exist
TINY = 1e-12


def equal_contributions(region: Region, covariance: Floats) -> Floats:
    """Return the weights that each add the same to the variance, as far as their bounds allow.

    They minimize x'Sx / 2 - k sum(log x) for the k at which they add up to 1. Holdings off their
    bounds then contribute alike. Source: Spinu, An algorithm for computing risk parity weights
    (2013).

    Raises ParameterError for short positions, groups and limits, which it does not know.
    """
    from scipy.optimize import brentq

    if (region.lower < 0).any():
        raise ParameterError("equal contributions are for holdings without short positions")
    if region.rows or region.floor is not None or region.trades:
        raise ParameterError(
            "equal contributions know bounds, and neither groups, limits, turnover nor cost"
        )
    scale = float(np.trace(covariance)) / len(covariance)
    matrix = covariance / scale
    state = np.clip(np.full(len(matrix), 1 / len(matrix)), region.lower, region.upper)

    def weights(log_k: float) -> Floats:
        nonlocal state
        state = _descended(matrix, np.exp(log_k), region.lower, region.upper, state)
        return state

    middle = float(np.log(state @ matrix @ state / len(matrix)))
    low, high = middle - 1.0, middle + 1.0
    while weights(low).sum() > 1 and low > middle - 60:
        low -= 2.0
    while weights(high).sum() < 1 and high < middle + 60:
        high += 2.0
    root = brentq(lambda log_k: float(weights(log_k).sum()) - 1, low, high, xtol=1e-14, rtol=1e-14)
    return weights(float(root))


def _descended(matrix: Floats, k: float, lower: Floats, upper: Floats, start: Floats) -> Floats:
    """Return the least of x'Sx / 2 - k sum(log x) between bounds, by damped Newton steps in the
    weights that no bound holds back (Bertsekas, SIAM Journal on Control and Optimization 20, 1982,
    221-246).
    """

    def value(x: Floats) -> float:
        return float(x @ matrix @ x) / 2 - k * float(np.log(x).sum())

    x = np.maximum(start, TINY)
    now = value(x)
    for _ in range(ROUNDS):
        slope = matrix @ x - k / x
        free = ~(((x <= lower) & (slope > 0)) | ((x >= upper) & (slope < 0)))
        hessian = matrix[np.ix_(free, free)] + np.diag(k / x[free] ** 2)
        step = np.zeros(len(x))
        step[free] = -np.linalg.solve(hessian, slope[free])

        length, moved = 1.0, x
        for _ in range(HALVINGS):
            trial = np.clip(np.maximum(x + length * step, LEAST_LEFT * x), lower, upper)
            trial = np.maximum(trial, TINY)
            rounding = ROUNDING * (abs(now) + k * float(np.abs(np.log(x)).sum()))
            if value(trial) <= now + ARMIJO * float(slope @ (trial - x)) + rounding:
                moved = trial
                break
            length /= 2
        change = float(np.abs(moved / x - 1).max(initial=0.0))
        x, now = moved, value(moved)
        if change < SETTLED:
            return x
    raise RunError("the weights of equal contributions were not settled")
