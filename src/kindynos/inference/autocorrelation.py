"""Autocorrelations, and the test that they are all 0."""

from __future__ import annotations

import numpy as np
from scipy.special import ndtr

from kindynos.arrays import Floats


def autocorrelations(values: Floats, lags: int) -> Floats:
    """Return the autocorrelations at lags 1 to ``lags``; pairs with a missing value are left
    out.
    """
    gaps = values - np.nanmean(values)
    has_value = ~np.isnan(gaps)
    gaps = np.where(has_value, gaps, 0.0)
    total = float(gaps @ gaps)
    count = int(has_value.sum())
    correlations = []
    for lag in range(1, lags + 1):
        pairs = max(int((has_value[lag:] & has_value[:-lag]).sum()), 1)
        complete = max(count - lag, 1)
        correlations.append(float(gaps[lag:] @ gaps[:-lag]) / total * complete / pairs)
    return np.array(correlations)


def portmanteau(
    correlations: Floats, count: int, lags: int, estimated: int = 0
) -> tuple[float, float]:
    """Return statistic and p-value of the test that the first autocorrelations are all 0, with that
    many parameters fitted.

    Source: Ljung and Box, Biometrika 65 (1978), 297-303.
    """
    from scipy.special import gammaincc

    numbers = correlations[:lags] ** 2 / (count - np.arange(1, lags + 1))
    statistic = count * (count + 2) * float(numbers.sum())
    return statistic, float(gammaincc(max(lags - estimated, 1) / 2, statistic / 2))


def variance_ratio(values: Floats, periods: int) -> tuple[float, float]:
    """Return the variance of sums over that many periods, over what independent values would give
    them, and the p-value of the test that it is 1.

    The test allows for a variance that changes: VR = 1 + 2 sum (1 - k/q) r_k, with the variance
    sum (2 (1 - k/q))² delta_k, delta_k = sum g_t² g_{t-k}² / (sum g_t²)². Source: Lo and MacKinlay,
    Review of Financial Studies 1 (1988), 41-66.

    >>> import numpy as np
    >>> ratio, p = variance_ratio(np.tile([1.0, -1.0], 100), 2)  # each undoes the one before
    >>> round(ratio, 1), p < 1e-6
    (0.0, True)
    """
    gaps = values - values.mean()
    squares = gaps * gaps
    total = float(squares.sum())
    lags = np.arange(1, periods)
    weights = 2 * (1 - lags / periods)
    products = np.array([float(gaps[k:] @ gaps[:-k]) for k in lags]) / total
    spreads = np.array([float(squares[k:] @ squares[:-k]) for k in lags]) / total**2
    ratio = 1 + float(weights @ products)
    deviation = float(np.sqrt(weights**2 @ spreads))
    if not deviation > 0:
        return ratio, 1.0
    return ratio, float(2 * ndtr(-abs(ratio - 1) / deviation))
