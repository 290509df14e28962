"""Equal contributions to risk."""

from __future__ import annotations

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError, RunError
from kindynos.markets.allocation.region import Region

ROUNDS = 10_000
SETTLED = 1e-14


def equal_contributions(region: Region, covariance: Floats) -> Floats:
    """Return the weights that each add the same to the variance, as far as their bounds allow.

    They minimise x'Sx / 2 - k sum(log x) for the k at which they add up to 1, one weight after the
    other: each is the positive root of S_ii x^2 + (the others' covariance) x - k, cut at its
    bounds. Holdings off their bounds then contribute alike. Source: Spinu, An algorithm for
    computing risk parity weights (2013); Griveau-Billion, Richard and Roncalli, A fast algorithm
    for computing high-dimensional risk parity portfolios (2013).

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
    """Return the least of x'Sx / 2 - k sum(log x) between bounds, by going down along one weight
    after the other.
    """
    x = start.copy()
    product = matrix @ x
    variances = np.diag(matrix)
    for _ in range(ROUNDS):
        largest = 0.0
        for i, variance in enumerate(variances):
            others = product[i] - variance * x[i]
            root = (-others + np.sqrt(others * others + 4 * variance * k)) / (2 * variance)
            least = min(max(float(root), lower[i]), upper[i])
            change = least - x[i]
            if change:
                product += matrix[:, i] * change
                x[i] = least
                largest = max(largest, abs(change))
        if largest < SETTLED:
            return x
    raise RunError("the weights of equal contributions were not settled")
