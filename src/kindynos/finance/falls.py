"""What a path of values did: its falls, and its growth beside its risk.

``paths`` is a series ``(n,)`` or simulated paths ``(n, trials)``, the start in the first row, all values above 0. Answers are
floats of a series and ``(trials,)`` of paths. ``per_year`` is the number of periods in a year.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.errors import ParameterError
from kindynos.finance.shapes import scalar_if
from kindynos.validate import finite, positive

Floats = NDArray[np.float64]


def drawdown(paths: ArrayLike) -> Floats:
    """Return how far each value lies below the highest before it, as a share of that, in the shape of the paths.

    Raises ParameterError for values that are not above 0, and for fewer than two periods.

    >>> drawdown([100.0, 80.0, 120.0, 90.0])
    array([0.  , 0.2 , 0.  , 0.25])
    """
    rows = _rows("drawdown", paths)
    falls = 1 - rows / np.maximum.accumulate(rows, axis=0)
    return falls[:, 0] if np.ndim(paths) == 1 else falls


def max_drawdown(paths: ArrayLike) -> Floats | float:
    """Return the worst fall: the largest drop from a high, as a share of it. Errors as for ``drawdown``.

    >>> max_drawdown([100.0, 80.0, 120.0, 90.0])
    0.25
    """
    rows = _rows("max_drawdown", paths)
    highest, kept = rows[0].copy(), np.ones(rows.shape[1])
    share = np.empty(rows.shape[1])
    for row in rows[1:]:  # row by row: two rows of memory instead of two more arrays of all paths
        np.maximum(highest, row, out=highest)
        np.divide(row, highest, out=share)
        np.minimum(kept, share, out=kept)
    return scalar_if(np.ndim(paths) == 1, 1 - kept)


def time_under_water(paths: ArrayLike) -> Floats | float:
    """Return the share of periods after the start at whose end the value is below an earlier high. Errors as for ``drawdown``.

    >>> time_under_water([100.0, 80.0, 120.0, 90.0, 120.0])
    0.5
    """
    falls = np.atleast_2d(drawdown(paths).T).T
    return scalar_if(np.ndim(paths) == 1, np.asarray((falls[1:] > 0).mean(axis=0)))


def drawdown_duration(paths: ArrayLike) -> Floats | float:
    """Return the longest stretch of periods spent below an earlier high, still open ones included. Errors as for ``drawdown``.

    >>> drawdown_duration([100.0, 80.0, 90.0, 120.0, 110.0])
    2.0
    """
    falls = np.atleast_2d(drawdown(paths).T).T
    longest = run = np.zeros(falls.shape[1])
    for row in falls:
        run = np.where(row > 0, run + 1, 0.0)
        longest = np.maximum(longest, run)
    return scalar_if(np.ndim(paths) == 1, longest)


def compound_growth(paths: ArrayLike, per_year: float = 1.0) -> Floats | float:
    """Return the compound growth a year: (last / first)^(1 / years) - 1. Errors as for ``drawdown``.

    >>> round(compound_growth([100.0, 110.0, 121.0]), 9)
    0.1
    """
    rows = _rows("compound_growth", paths)
    years = (len(rows) - 1) / positive("compound_growth", "per_year", per_year)
    return scalar_if(np.ndim(paths) == 1, np.asarray((rows[-1] / rows[0]) ** (1 / years) - 1))


def volatility(paths: ArrayLike, per_year: float = 1.0) -> Floats | float:
    """Return the volatility a year: the sd of log returns times the root of the periods in a year. Errors as for ``drawdown``.

    >>> round(volatility([100.0, 110.0, 99.0, 108.9], per_year=12), 4)
    0.4013
    """
    rows = _rows("volatility", paths, least=3)
    yearly = math.sqrt(positive("volatility", "per_year", per_year))
    return scalar_if(np.ndim(paths) == 1, np.asarray(np.diff(np.log(rows), axis=0).std(axis=0, ddof=1) * yearly))


def sharpe_ratio(paths: ArrayLike, risk_free: float = 0.0, per_year: float = 1.0) -> Floats | float:
    """Return mean simple return above the risk-free rate over its sd, both a year; NaN without variation.

    ``risk_free`` is a rate per period. Errors as for ``drawdown``. Source: Sharpe, Journal of Portfolio Management 21 (1994),
    49-58.

    >>> round(sharpe_ratio([100.0, 110.0, 99.0, 108.9]), 4)
    0.2887
    """
    gains = _gains("sharpe_ratio", paths, risk_free)
    return _ratio(paths, gains.mean(axis=0), gains.std(axis=0, ddof=1), per_year)


def sortino_ratio(paths: ArrayLike, target: float = 0.0, per_year: float = 1.0) -> Floats | float:
    """Return mean simple return above a target over the root mean square of what fell short, both a year; NaN if nothing did.

    ``target`` is a rate per period. Errors as for ``drawdown``. Source: Sortino and van der Meer, Journal of Portfolio
    Management 17 (1991), 27-31.

    >>> round(sortino_ratio([100.0, 110.0, 99.0, 108.9]), 4)
    0.5774
    """
    gains = _gains("sortino_ratio", paths, target)
    short = np.sqrt((np.minimum(gains, 0) ** 2).mean(axis=0))
    return _ratio(paths, gains.mean(axis=0), short, per_year)


def _gains(owner: str, paths: ArrayLike, less: float) -> Floats:
    rows = _rows(owner, paths, least=3)
    return np.asarray(rows[1:] / rows[:-1] - 1 - finite(owner, "the rate", less))


def _ratio(paths: ArrayLike, mean: Floats, spread: Floats, per_year: float) -> Floats | float:
    yearly = math.sqrt(positive("ratio", "per_year", per_year))
    with np.errstate(divide="ignore", invalid="ignore"):
        answer = np.where(spread > 0, mean / spread * yearly, np.nan)
    return scalar_if(np.ndim(paths) == 1, answer)


def _rows(owner: str, paths: ArrayLike, least: int = 2) -> Floats:
    values = np.asarray(paths, dtype=np.float64)
    rows = values[:, None] if values.ndim == 1 else values
    if rows.ndim != 2 or len(rows) < least:
        raise ParameterError(f"{owner}: paths must be (n,) or (n, trials) with at least {least} rows, not {values.shape}")
    if not rows.min() > 0:
        raise ParameterError(f"{owner}: every value must be above 0; the lowest is {rows.min():g}")
    return rows
