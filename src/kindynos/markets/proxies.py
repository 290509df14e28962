"""A history for what was listed late, from those of other instruments: its moves follow theirs by
regression, and what the regression leaves is drawn from the days that all have, so that they are as
large as its own. Source: Stambaugh, Journal of Financial Economics 45 (1997), 285-331.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import stream

FEWEST = 30  # moves of both


@dataclass(frozen=True)
class Proxied:
    """Prices of an instrument with those before its first one ``(dates,)``, the slopes of the
    regression with half their 95 % intervals ``(proxies,)``, and the share of the variance that it
    explains.
    """

    prices: Floats
    slopes: Floats
    errors: Floats
    explained: float
    filled: int


def proxied(
    name: str, prices: Floats, proxies: Floats, differences: bool, of_proxies: Sequence[bool]
) -> Proxied:
    """Return an instrument's prices ``(dates,)``, NaN before the first, with those that the moves
    of ``proxies`` ``(dates, proxies)`` suggest. Of more than a tenth as many as there are moves
    those are taken that it moves with most. Raises ParameterError for too few moves that all have.
    """
    own = _moves(prices, differences)
    others = np.column_stack(list(map(_moves, proxies.T, of_proxies)))
    all_there = np.isfinite(own) & np.isfinite(others).all(axis=1)
    count = int(all_there.sum())
    if count < FEWEST:
        raise ParameterError(
            f"{name} and what its earlier moves follow have {count} moves on the same dates; at "
            f"least {FEWEST} are needed"
        )
    centre, own_centre = others[all_there].mean(axis=0), own[all_there].mean()
    x, y = others[all_there] - centre, own[all_there] - own_centre
    spread = np.sqrt((x * x).sum(axis=0))
    if not spread.any():
        raise ParameterError(f"the proxy of {name} does not move")
    near = np.abs(x.T @ y) / np.where(spread > 0, spread, np.inf)
    taken = np.sort(np.argsort(-near)[: count // 10][: int((spread > 0).sum())])
    slopes = np.zeros(len(spread))
    slopes[taken] = np.linalg.lstsq(x[:, taken], y, rcond=None)[0]
    left = y - x @ slopes
    variance = float(left @ left) / (count - 1 - len(taken))
    errors = np.zeros(len(spread))
    errors[taken] = Z * np.sqrt(variance * np.diag(np.linalg.pinv(x[:, taken].T @ x[:, taken])))
    explained = 1 - float(left @ left) / float(y @ y) if y.any() else 1.0

    extended = prices.copy()
    first = int(np.argmax(np.isfinite(prices)))
    drawn = stream(0, "proxy", name).choice(left, max(first, 1))
    moves = own_centre + (others - centre) @ slopes
    filled = 0
    for t in range(first, 0, -1):
        move = moves[t - 1] + drawn[t - 1]
        if not np.isfinite(move):
            break
        extended[t - 1] = extended[t] - move if differences else extended[t] / max(1 + move, 1e-3)
        filled += 1
    return Proxied(extended, slopes, errors, explained, filled)


def _moves(values: Floats, differences: bool) -> Floats:
    """Return the moves from date to date, NaN where one of the two has no price."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.diff(values) if differences else np.diff(values) / values[:-1]
