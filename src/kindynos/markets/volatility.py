"""Volatility that clusters: exponentially weighted, or by a GARCH(1,1) model, with its forecast
over several days.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.processes.clustering import LEAST
from kindynos.processes.fading import fading_sum
from kindynos.processes.garch import conditional_variances

# of the weight of a day in an exponentially weighted variance, as is common for daily returns
DECAY = 0.94
SLOW = 2.0  # the factor on autocorrelations that are cut off; found by benchmarks/risk_coverage


def weighted_volatility(rows: Floats, decay: float = DECAY) -> Floats:
    """Return the exponentially weighted volatility at each day's start ``(rows, days + 1)``; the
    first is the row's own.

    The last is the forecast for the day after the row, and for every day beyond it.
    """
    squares = (rows**2).mean(axis=1, keepdims=True)
    variances = fading_sum(np.concatenate([squares, (1 - decay) * rows**2], axis=1), decay)
    return np.asarray(np.maximum(np.sqrt(variances), LEAST * np.sqrt(squares)))


def garch_volatility(rows: Floats, reaction: float, persistence: float) -> Floats:
    """Return the volatility at each day's start ``(rows, days + 1)`` by a GARCH(1,1) model around
    each row's mean square.
    """
    squares = rows**2
    variance = squares.mean(axis=1)
    path = conditional_variances(squares, variance, reaction, persistence)
    return np.asarray(np.sqrt(np.maximum(path, LEAST**2 * variance[:, None])))


def clustering(losses: Floats) -> float:
    """Return by how much clustered volatility cuts what losses say about their tail: 1 for
    independent ones.

    It is 1 + 2 x the sum of the autocorrelations of large losses (beyond the 90 % quantile), known
    from those of large moves in either direction, which are more: over 3 x the root of the
    number of days, with weights that fall to 0 (Newey and West, Econometrica 55, 1987, 703-708).
    The sum is doubled, since about half of what fades slowly lies beyond them.
    """
    sizes = np.abs(losses - np.median(losses))
    large = (sizes > np.quantile(sizes, 0.8)).astype(np.float64)
    large -= large.mean()
    count, most = len(losses), min(int(3 * math.sqrt(len(losses))), len(losses) - 1)
    spectrum = np.fft.rfft(large, 2 * count)
    products = np.fft.irfft(spectrum * spectrum.conj(), 2 * count)[: most + 1]
    if products[0] <= 0:
        return 1.0
    weights = 1 - np.arange(1, most + 1) / (most + 1)
    # A loss beyond 90 % is one side of a large move: their covariance is a quarter of that of the
    # large moves.
    share = (0.2 * 0.8 / 4) / (0.1 * 0.9)
    return max(1.0, 1 + 2 * SLOW * share * float(weights @ (products[1:] / products[0])))
