"""Values that were smoothed, such as appraisals: the returns that lie behind them.

A smoothed return is a share of its own and the rest of the one before it, r_t = (1 - a) x_t + a
r_{t-1}, so that x_t = (r_t - a r_{t-1}) / (1 - a), with a the autocorrelation. Source: Geltner,
Journal of Real Estate Finance and Economics 4 (1991), 327-345.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.intervals import Z

FEWEST = 24  # returns
MOST = 0.95  # autocorrelation


@dataclass(frozen=True)
class Unsmoothed:
    """Prices without smoothing ``(dates,)``, the autocorrelation with half its 95 % interval, and
    how many times as large the sd of the returns is.
    """

    prices: Floats
    autocorrelation: float
    error: float
    times: float


def unsmoothed(name: str, prices: Floats) -> Unsmoothed:
    """Return prices without smoothing, NaN where there is none; the first return, before which
    none is known, is left out, and the last price stays. Raises ParameterError for fewer than 24
    returns, prices of 0 or less, and returns that are not correlated from one to the next.
    """
    there = np.flatnonzero(np.isfinite(prices))
    if len(there) <= FEWEST:
        raise ParameterError(
            f"{name} has {len(there) - 1} returns; {FEWEST} are needed to unsmooth"
        )
    own = prices[there]
    if not (own > 0).all():
        raise ParameterError(f"{name} has prices of 0 or less, which cannot be unsmoothed")
    returns = np.diff(np.log(own))
    gap = returns - returns.mean()
    a = float(gap[1:] @ gap[:-1] / (gap @ gap)) if gap.any() else 0.0
    a += (1 + 4 * a) / len(returns)  # what the mean that was estimated takes
    error = Z * math.sqrt(max(1 - a * a, 0.0) / len(returns))
    if not error < a < MOST:
        raise ParameterError(
            f"the returns of {name} have an autocorrelation of {a:.2f} (± {error:.2f}): nothing "
            "tells that they are smoothed"
            if a < MOST
            else f"the returns of {name} hardly move on their own (autocorrelation {a:.2f})"
        )
    behind = (returns[1:] - a * returns[:-1]) / (1 - a)
    levels = np.exp(np.cumsum(np.concatenate([[0.0], behind])))
    plain = np.full(len(prices), np.nan)
    plain[there[1:]] = levels * own[-1] / levels[-1]
    return Unsmoothed(plain, a, error, float(behind.std() / returns.std()))
