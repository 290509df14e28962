"""What a path of values did: its falls, and its growth beside its risk.

``paths`` is a series ``(n,)`` or simulated paths ``(n, trials)``, the start in the first row, all
values above 0. Answers are floats of a series and ``(trials,)`` of paths. ``per_year`` is the
number of periods in a year.
"""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.finance.shapes import on_arrays, scalar_if
from kindynos.validate import array_of, finite, positive


@on_arrays
def drawdown(paths: ArrayLike) -> Floats:
    """Return how far each value lies below the highest before it, as a share of that, in the shape
    of the paths.

    Raises ParameterError for values that are not above 0, and for fewer than two periods.

    >>> drawdown([100.0, 80.0, 120.0, 90.0])
    array([0.  , 0.2 , 0.  , 0.25])
    """
    rows = _rows(paths)
    depths = 1 - rows / np.maximum.accumulate(rows, axis=0)
    return depths[:, 0] if np.ndim(paths) == 1 else depths


@on_arrays
def max_drawdown(paths: ArrayLike) -> Floats | float:
    """Return the largest drawdown: the deepest drop from a high, as a share of it. Errors as for
    ``drawdown``.

    >>> max_drawdown([100.0, 80.0, 120.0, 90.0])
    0.25
    """
    rows = _rows(paths)
    return scalar_if(np.ndim(paths) == 1, 1 - deepest_drop(rows[1:], rows[0].copy(), np.divide))


@on_arrays
def deepest_drop(rows: Iterable[Floats], highest: Floats, gap: np.ufunc) -> Floats:
    """Return the lowest ``gap`` (a difference, or a ratio) of a row and the highest before it, for
    each trial.

    ``highest`` is the start, ``(trials,)``, and is overwritten. Row by row: two rows of memory
    instead of two arrays of paths.
    """
    deepest: Floats = np.full(highest.shape, 1.0 if gap is np.divide else 0.0)
    below = np.empty(highest.shape)
    for row in rows:
        np.maximum(highest, row, out=highest)
        gap(row, highest, out=below)
        np.minimum(deepest, below, out=deepest)
    return deepest


@on_arrays
def time_under_water(paths: ArrayLike) -> Floats | float:
    """Return the share of periods after the start at whose end the value is below an earlier high.
    Errors as for ``drawdown``.

    >>> time_under_water([100.0, 80.0, 120.0, 90.0, 120.0])
    0.5
    """
    depths = np.atleast_2d(drawdown(paths).T).T
    return scalar_if(np.ndim(paths) == 1, np.asarray((depths[1:] > 0).mean(axis=0)))


@on_arrays
def drawdown_duration(paths: ArrayLike) -> Floats | float:
    """Return the longest stretch of periods spent below an earlier high, still open ones included.
    Errors as for ``drawdown``.

    >>> drawdown_duration([100.0, 80.0, 90.0, 120.0, 110.0])
    2.0
    """
    depths = np.atleast_2d(drawdown(paths).T).T
    longest = run = np.zeros(depths.shape[1])
    for row in depths:
        run = np.where(row > 0, run + 1, 0.0)
        longest = np.maximum(longest, run)
    return scalar_if(np.ndim(paths) == 1, longest)


@on_arrays
def compound_growth(paths: ArrayLike, per_year: float = 1.0) -> Floats | float:
    """Return the compound growth a year: (last / first)^(1 / years) - 1. Errors as for
    ``drawdown``.

    >>> round(compound_growth([100.0, 110.0, 121.0]), 9)
    0.1
    """
    rows = _rows(paths)
    years = (len(rows) - 1) / positive("per_year", per_year)
    return scalar_if(np.ndim(paths) == 1, np.asarray((rows[-1] / rows[0]) ** (1 / years) - 1))


@on_arrays
def volatility(paths: ArrayLike, per_year: float = 1.0) -> Floats | float:
    """Return the volatility a year: the sd of log returns times the root of the periods in a year.
    Errors as for ``drawdown``.

    >>> round(volatility([100.0, 110.0, 99.0, 108.9], per_year=12), 4)
    0.4013
    """
    rows = _rows(paths, least=3)
    yearly = math.sqrt(positive("per_year", per_year))
    return scalar_if(
        np.ndim(paths) == 1, np.asarray(np.diff(np.log(rows), axis=0).std(axis=0, ddof=1) * yearly)
    )


@on_arrays
def sharpe_ratio(paths: ArrayLike, risk_free: float = 0.0, per_year: float = 1.0) -> Floats | float:
    """Return mean simple return above the risk-free rate over its sd, both a year; NaN without
    variation.

    ``risk_free`` is a rate per period. Errors as for ``drawdown``. Source: Sharpe, Journal of
    Portfolio Management 21 (1994), 49-58.

    >>> round(sharpe_ratio([100.0, 110.0, 99.0, 108.9]), 4)
    0.2887
    """
    gains = _gains(paths, risk_free)
    return _ratio(paths, gains.mean(axis=0), gains.std(axis=0, ddof=1), per_year)


@on_arrays
def sortino_ratio(paths: ArrayLike, target: float = 0.0, per_year: float = 1.0) -> Floats | float:
    """Return mean simple return above a target over the root mean square of what fell short, both a
    year; NaN if nothing did.

    ``target`` is a rate per period. Errors as for ``drawdown``. Source: Sortino and van der Meer,
    Journal of Portfolio Management 17 (1991), 27-31.

    >>> round(sortino_ratio([100.0, 110.0, 99.0, 108.9]), 4)
    0.5774
    """
    gains = _gains(paths, target)
    short = np.sqrt((np.minimum(gains, 0) ** 2).mean(axis=0))
    return _ratio(paths, gains.mean(axis=0), short, per_year)


def _gains(paths: ArrayLike, less: float) -> Floats:
    rows = _rows(paths, least=3)
    return np.asarray(rows[1:] / rows[:-1] - 1 - finite("the rate", less))


def _ratio(paths: ArrayLike, mean: Floats, spread: Floats, per_year: float) -> Floats | float:
    yearly = math.sqrt(positive("per_year", per_year))
    with np.errstate(divide="ignore", invalid="ignore"):
        ratios = np.where(spread > 0, mean / spread * yearly, np.nan)
    return scalar_if(np.ndim(paths) == 1, ratios)


def _rows(paths: ArrayLike, least: int = 2) -> Floats:
    values = array_of("paths", paths)
    rows = values[:, None] if values.ndim == 1 else values
    if rows.ndim != 2 or len(rows) < least or not rows.size:
        raise ParameterError(
            f"paths must be (n,) or (n, trials) with at least {least} rows, not {values.shape}"
        )
    if not rows.min() > 0:
        raise ParameterError(f"every value must be above 0; the lowest is {rows.min():g}")
    return rows
