"""What a stated shock, or a stretch of history come again, would do to today's holdings."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pandas as pd

from kindynos.errors import ParameterError
from kindynos.markets.exposure import Exposure
from kindynos.markets.prices import Prices, checked_date
from kindynos.markets.return_series import covariance
from kindynos.validate import finite, mapping


def shocked(exposure: Exposure, shocks: Mapping[str, float]) -> pd.DataFrame:
    """Return each holding's return and profit under shocks; those not shocked follow by regression
    on those that are.
    """
    shocks = mapping("stress", "shocks", shocks, "shares by instrument, such as {'oil': -0.2}")
    if not shocks:
        raise ParameterError("no shock; say stress({'oil': -0.2})", owner="stress")
    for name, shock in shocks.items():
        if name not in exposure.names:
            raise ParameterError(
                f"{name!r} is not held", owner="stress", unknown=str(name), known=exposure.names
            )
        if finite("stress", f"the shock of {name}", shock) < -1:
            raise ParameterError(
                f"the shock of {name} is {shock:g}; a price cannot fall by more than all of it",
                owner="stress",
            )
    hit = np.array([name in shocks for name in exposure.names])
    matrix = covariance(exposure.returns)
    given = np.array([shocks[name] for name in exposure.names if name in shocks])
    moves = np.empty(len(exposure.names))
    moves[hit] = given
    if (~hit).any():
        moves[~hit] = matrix[np.ix_(~hit, hit)] @ np.linalg.pinv(matrix[np.ix_(hit, hit)]) @ given
    return _stress_table(
        exposure.names,
        exposure.values,
        np.maximum(moves, -1.0),
        np.where(hit, "given", "by regression"),
    )


def replayed(prices: Prices, values: pd.Series, first: Any, last: Any) -> pd.DataFrame:
    """Return each holding's return and profit if it moved as from one date to another; of a day
    without a price the last one before counts.
    """
    begin = checked_date("replay", "first", first)
    end = checked_date("replay", "last", last)
    dates = prices.dates
    if not dates[0] <= begin < end <= dates[-1]:
        span = f"{dates[0]:%Y-%m-%d} to {dates[-1]:%Y-%m-%d}"
        raise ParameterError(
            f"{begin:%Y-%m-%d} to {end:%Y-%m-%d} is not a stretch of the history, {span}",
            owner="replay",
        )
    before, after = (prices.frame.loc[:day].iloc[-1] for day in (begin, end))
    moves = (after / before - 1).to_numpy()
    return _stress_table(
        prices.instruments, values.to_numpy(), moves, np.full(len(moves), "history")
    )


def _stress_table(
    names: list[str], values: np.ndarray, moves: np.ndarray, how: np.ndarray
) -> pd.DataFrame:
    frame = pd.DataFrame(
        {"value": values, "return": moves, "profit": values * moves, "moved": how},
        index=pd.Index(names, name="instrument"),
    )
    frame.attrs["profit"] = float(frame["profit"].sum())
    return frame
