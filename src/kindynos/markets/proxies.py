"""A history for what was listed late, from that of another instrument: its moves follow the
proxy's by regression, and what the regression leaves is drawn from the days that both have, so that
they are as large as its own.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import stream

FEWEST = 30  # moves of both


@dataclass(frozen=True)
class Proxied:
    """Prices of an instrument with those before its first one ``(dates,)``, the slope of the
    regression with half its 95 % interval, and the share of the variance that it explains.
    """

    prices: Floats
    slope: float
    error: float
    explained: float
    filled: int


def proxied(
    name: str, prices: Floats, proxy: Floats, by_differences: tuple[bool, bool] = (False, False)
) -> Proxied:
    """Return an instrument's prices ``(dates,)``, NaN before the first, with those that a proxy's
    moves suggest; raises ParameterError for too few moves that both have.
    """
    own, other = (
        _moves(values, differences)
        for values, differences in zip((prices, proxy), by_differences, strict=True)
    )
    both = np.isfinite(own) & np.isfinite(other)
    count = int(both.sum())
    if count < FEWEST:
        raise ParameterError(
            f"{name} and its proxy have {count} moves on the same dates; at least {FEWEST} are "
            "needed"
        )
    x, y = other[both] - other[both].mean(), own[both] - own[both].mean()
    if not x.any():
        raise ParameterError(f"the proxy of {name} does not move")
    slope = float(x @ y / (x @ x))
    left = y - slope * x
    error = Z * math.sqrt(float(left @ left) / (count - 2) / float(x @ x))
    explained = 1 - float(left @ left) / float(y @ y) if y.any() else 1.0

    extended = prices.copy()
    first = int(np.argmax(np.isfinite(prices)))
    drawn = stream(0, "proxy", name).choice(left, max(first, 1))
    intercept = float(own[both].mean() - slope * other[both].mean())
    filled = 0
    for t in range(first, 0, -1):
        if not np.isfinite(other[t - 1]):
            break
        move = intercept + slope * other[t - 1] + drawn[t - 1]
        extended[t - 1] = (
            extended[t] - move if by_differences[0] else extended[t] / max(1 + move, 1e-3)
        )
        filled += 1
    return Proxied(extended, slope, error, explained, filled)


def _moves(values: Floats, differences: bool) -> Floats:
    """Return the moves from date to date, NaN where one of the two has no price."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.diff(values) if differences else np.diff(values) / values[:-1]
