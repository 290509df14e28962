"""Autocorrelations, and the test that they are all 0."""

from __future__ import annotations

import numpy as np

from kindynos.arrays import Floats


def autocorrelations(values: Floats, lags: int) -> Floats:
    """Return the autocorrelations at lags 1 to ``lags``; pairs with a missing value are left
    out.
    """
    gaps = values - np.nanmean(values)
    valid = ~np.isnan(gaps)
    gaps = np.where(valid, gaps, 0.0)
    total = float(gaps @ gaps)
    count = int(valid.sum())
    answer = []
    for lag in range(1, lags + 1):
        pairs = max(int((valid[lag:] & valid[:-lag]).sum()), 1)
        complete = max(count - lag, 1)
        answer.append(float(gaps[lag:] @ gaps[:-lag]) / total * complete / pairs)
    return np.array(answer)


def portmanteau(answer: Floats, count: int, lags: int, estimated: int = 0) -> tuple[float, float]:
    """Return statistic and p-value of the test that the first autocorrelations are all 0, with that
    many parameters fitted.

    Source: Ljung and Box, Biometrika 65 (1978), 297-303.
    """
    from scipy.special import gammaincc

    numbers = answer[:lags] ** 2 / (count - np.arange(1, lags + 1))
    statistic = count * (count + 2) * float(numbers.sum())
    return statistic, float(gammaincc(max(lags - estimated, 1) / 2, statistic / 2))
