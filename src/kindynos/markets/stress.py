"""What a stated shock, or a stretch of history come again, would do to today's holdings."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.intervals import Z
from kindynos.markets.adjustments import checked_date
from kindynos.markets.changes import Mask, moves_of
from kindynos.markets.exchange import column_of, move_of
from kindynos.markets.exposure import Exposure
from kindynos.markets.history_error import resampled_places
from kindynos.markets.prices import Prices
from kindynos.markets.return_series import covariance
from kindynos.validate import finite, mapping

OTHERS = ("follow", "still")


def shocked(
    exposure: Exposure,
    shocks: Mapping[str, float],
    own: Exposure | None = None,
    rates: Mapping[str, str] | None = None,
    others: str = "follow",
) -> pd.DataFrame:
    """Return each instrument's move and each holding's profit under shocks; those not shocked
    follow by regression on those that are, or stay ``still``.

    A shock is a move in the instrument's own market. ``rates`` names by instrument the exchange
    rate of its currency, and ``own`` has the moves of all of them in their own markets: there the
    move in the portfolio's currency is (1 + move) (1 + that of the rate) - 1. Errors are those of
    regressions on histories drawn again in blocks.
    """
    local = exposure if own is None else own
    stated = _checked_shocks(local, shocks)
    hit = np.array([name in stated for name in local.names])
    given = np.array([stated[name] for name in local.names if name in stated])
    histories = [local.returns]
    if others == "follow" and not hit.all():
        histories += [local.returns[places] for places in resampled_places(len(local.returns))]
    drawn = np.stack(
        [_moves(history, hit, given, local.differences, others) for history in histories], axis=1
    )
    moves = pd.DataFrame(drawn, local.names)

    currency = rates or {}
    of_rates = pd.DataFrame(
        [
            move_of(currency[name], moves.loc[column_of(currency[name])].to_numpy())
            if name in currency
            else np.zeros(len(histories))
            for name in exposure.names
        ],
        exposure.names,
    )
    at_home = moves.loc[exposure.names] + of_rates * (1 + moves.loc[exposure.names])
    how = pd.Series(np.where(hit, "given", HOW[others]), local.names)[exposure.names].to_numpy()
    table = _stress_table(exposure, at_home[0].to_numpy(), how, 0.0)
    profits = exposure.book.profits(at_home.to_numpy()[:, 1:])
    table["error"] = Z * profits.std(axis=1, ddof=1) if profits.shape[1] else 0.0
    together = profits.sum(axis=0)
    table.attrs["error"] = Z * float(together.std(ddof=1)) if len(together) else 0.0
    if currency:  # of instruments; positions have the moves of rates among their columns
        table.insert(1, "own market", moves[0].reindex(table.index))
        table.insert(2, "exchange rate", of_rates[0].reindex(table.index))
    return table


HOW = {"follow": "by regression", "still": "held still"}


def _checked_shocks(exposure: Exposure, shocks: Mapping[str, float]) -> dict[str, float]:
    shocks = mapping("shocks", shocks, "shares by instrument, such as {'oil': -0.2}")
    if not shocks:
        raise ParameterError("no shock; say stress({'oil': -0.2})")
    differences = dict(zip(exposure.names, exposure.differences.tolist(), strict=True))
    for name, shock in shocks.items():
        if name not in exposure.names:
            raise ParameterError(f"{name!r} is not held", unknown=str(name), known=exposure.names)
        if finite(f"the shock of {name}", shock) < -1 and not differences[name]:
            raise ParameterError(
                f"the shock of {name} is {shock:g}; a price cannot fall by more than all of it"
            )
    return shocks


def _moves(returns: Floats, hit: Mask, given: Floats, differences: Mask, others: str) -> Floats:
    """Return the move of each instrument: those that are hit as given, the others by regression on
    them in a history, or none.
    """
    moves = np.zeros(len(hit))
    moves[hit] = given
    if others == "follow" and not hit.all():
        matrix = covariance(returns)
        slopes = matrix[np.ix_(~hit, hit)] @ np.linalg.pinv(matrix[np.ix_(hit, hit)])
        moves[~hit] = slopes @ given
    return np.where(differences, moves, np.maximum(moves, -1.0))


def replayed(prices: Prices, exposure: Exposure, first: Any, last: Any) -> pd.DataFrame:
    """Return each instrument's move and each holding's profit if it moved as from one date to
    another; on a day without a price of its own, an instrument's last one before counts.
    """
    begin = checked_date("first", first)
    end = checked_date("last", last)
    complete = prices.raw.ffill().dropna()
    if len(complete) == 0 or not complete.index[0] <= begin < end <= complete.index[-1]:
        span = (
            f"{complete.index[0]:%Y-%m-%d} to {complete.index[-1]:%Y-%m-%d}"
            if len(complete)
            else "none"
        )
        raise ParameterError(
            f"{begin:%Y-%m-%d} to {end:%Y-%m-%d} is not a stretch of the history, {span}"
        )
    ends = np.stack([complete.loc[:day].iloc[-1].to_numpy() for day in (begin, end)])
    moves = moves_of(ends, exposure.differences)[0]
    return _stress_table(exposure, moves, np.full(len(moves), "history"), float((end - begin).days))


def _stress_table(exposure: Exposure, moves: Floats, how: np.ndarray, days: float) -> pd.DataFrame:
    """Return a row for each thing held, with its profit after moves of the columns and days of the
    calendar; ``attrs["moves"]`` has the moves, by column.
    """
    columns = pd.DataFrame(
        {"return": moves, "moved": how}, pd.Index(exposure.names, name="instrument")
    )
    frame = pd.DataFrame(
        {"value": exposure.values, "profit": exposure.book.profits(moves[:, None], days)[:, 0]},
        pd.Index(exposure.book.names, name="instrument"),
    )
    if exposure.book.in_proportion:  # what is held are the columns themselves
        frame.insert(1, "return", moves)
        frame["moved"] = how
    frame.attrs |= {"profit": float(frame["profit"].sum()), "moves": columns}
    return frame
