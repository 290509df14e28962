"""How instruments change: prices by shares of themselves, and yields, spreads and rates, which may
be 0 or below, by differences.

``absolute`` says which instruments change by differences; of the others the changes are simple
returns. The changes of all of them together are called moves.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

CHANGES = ("relative", "absolute")
Mask = NDArray[np.bool_]


def moves_of(prices: Floats, absolute: Mask) -> Floats:
    """Return the moves from date to date ``(moves, instruments)`` of prices ``(dates,
    instruments)``; a price of 0 has no returns
    after it: they are 0.
    """
    gaps, before = np.diff(prices, axis=0), prices[:-1]
    returns = np.where(before == 0, 0.0, gaps / np.where(before == 0, 1.0, before))
    return np.asarray(np.where(absolute, gaps, returns))


def of_one_period(moves: Floats, spans: NDArray[np.int64]) -> Floats:
    """Return moves over several periods ``(moves, instruments)`` as large as they would be over
    one: their mean a period, and what is around it over the root of their number.
    """
    mean = moves.sum(axis=0) / spans.sum(axis=0)
    return np.asarray(mean + (moves - mean * spans) / np.sqrt(spans))


def prices_after(today: Floats, moves: Floats, absolute: Mask) -> Floats:
    """Return prices ``(instruments, cases)`` after moves ``(instruments, cases)`` from today's."""
    start = today[:, None]
    return np.asarray(np.where(absolute[:, None], start + moves, start * (1 + moves)))


def combined(moves: Floats, absolute: Mask) -> Floats:
    """Return the moves over whole stretches: of ``(stretches, instruments, periods)`` the last
    axis, compounded where they are returns and added where they are differences.
    """
    return np.asarray(np.where(absolute, moves.sum(axis=-1), (1 + moves).prod(axis=-1) - 1))


def lengthened(moves: Floats, absolute: Mask, horizon: int) -> Floats:
    """Return moves of one period ``(moves, instruments)``, as they would be over a horizon: times
    its root, returns on the scale of their logarithms.
    """
    root = np.sqrt(horizon)
    with np.errstate(divide="ignore", invalid="ignore"):
        grown = np.expm1(root * np.log1p(np.where(absolute, 0.0, moves)))
    return np.asarray(np.where(absolute, root * moves, grown))


def as_prices(values: Floats, absolute: Mask) -> tuple[Floats, Floats]:
    """Return values ``(dates, instruments)`` in which those that change by differences are the
    logarithms of prices, over scales ``(instruments,)``, so that they can be drawn like prices.
    """
    scales = np.where(absolute, np.maximum(np.abs(values).max(axis=0), 1e-300), 1.0)
    return np.where(absolute, np.exp(np.where(absolute, values / scales, 0.0)), values), scales


def from_prices(drawn: Floats, scales: Floats, absolute: Mask) -> Floats:
    """Return what ``as_prices`` was given, from paths ``(instruments, periods, trials)``."""
    logs = np.log(np.where(absolute[:, None, None], drawn, 1.0)) * scales[:, None, None]
    return np.asarray(np.where(absolute[:, None, None], logs, drawn))
