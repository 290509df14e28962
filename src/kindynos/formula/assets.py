"""Functions of formulas on what is written off and on what is borrowed: each gives a row."""

from __future__ import annotations

import numpy as np

from kindynos.arrays import Floats
from kindynos.formula.function import Function, Parameter

_COST = (Parameter("cost", "value"), Parameter("salvage", "value"), Parameter("life", "value"))
_LOAN = (Parameter("rate", "value"), Parameter("life", "value"), Parameter("amount", "value"))


def _numbers(periods: int) -> Floats:
    return np.arange(1.0, periods + 1)[:, None]


def _straight_line(cost: Floats, salvage: Floats, life: Floats, *, periods: int) -> Floats:
    period = _numbers(periods)
    return np.where(period <= life, (cost - salvage) / life, 0.0)


def _sum_of_digits(cost: Floats, salvage: Floats, life: Floats, *, periods: int) -> Floats:
    left = life - _numbers(periods) + 1
    return np.where(left > 0, (cost - salvage) * left * 2 / (life * (life + 1)), 0.0)


def _declining_balance(
    cost: Floats, salvage: Floats, life: Floats, factor: Floats | float = 2.0, *, periods: int
) -> Floats:
    """A share of what is left each period, down to the salvage value."""
    share = np.minimum(np.asarray(factor) / life, 1.0)
    book = np.broadcast_to(cost, np.broadcast_shapes(*map(np.shape, (cost, salvage, share))))
    rows = []
    for period in range(1, periods + 1):
        written_off = np.maximum(np.minimum(book * share, book - salvage), 0.0)
        rows.append(np.where(period <= life, written_off, 0.0))
        book = book - rows[-1]
    return np.stack([np.atleast_1d(row) for row in rows])


def _loan(rate: Floats, life: Floats, amount: Floats, periods: int) -> tuple[Floats, Floats]:
    """Return interest and repayment of a loan that level payments at the ends pay back."""
    period = _numbers(periods)
    with np.errstate(divide="ignore", invalid="ignore"):
        level = np.where(
            rate == 0, amount / life, amount * rate / -np.expm1(-life * np.log1p(rate))
        )
        grown = (1 + rate) ** (period - 1)
        paid = np.where(rate == 0, (period - 1) * level, level * (grown - 1) / rate)
    owed = amount * grown - paid
    interest = np.where(period <= life, owed * rate, 0.0)
    return interest, np.where(period <= life, level - interest, 0.0)


def _interest_part(rate: Floats, life: Floats, amount: Floats, *, periods: int) -> Floats:
    return _loan(rate, life, amount, periods)[0]


def _principal_part(rate: Floats, life: Floats, amount: Floats, *, periods: int) -> Floats:
    return _loan(rate, life, amount, periods)[1]


ASSETS = (
    Function(
        "straight_line",
        _COST,
        "row",
        _straight_line,
        "depreciation in equal parts over a life, from the first period on",
    ),
    Function(
        "declining_balance",
        (*_COST, Parameter("factor", "value", optional=True)),
        "row",
        _declining_balance,
        "depreciation by factor / life of what is left (factor: 2), down to the salvage value",
    ),
    Function(
        "sum_of_digits",
        _COST,
        "row",
        _sum_of_digits,
        "depreciation in parts that fall evenly to nothing after the life",
    ),
    Function(
        "interest_part",
        _LOAN,
        "row",
        _interest_part,
        "interest of each period of a loan that level payments over a life pay back",
    ),
    Function(
        "principal_part",
        _LOAN,
        "row",
        _principal_part,
        "repayment of each period of a loan that level payments over a life pay back",
    ),
)
