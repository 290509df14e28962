"""Level payments: what a series of equal amounts is worth, and the amount that pays for something.

``life`` is the number of periods, which may be a fraction and differ by trial; every argument is a
number or one per trial, and all broadcast. Rates are fractions per period, above -1; at a rate of 0
the limits hold. Source: Newnan, Eschenbach and Lavelle, Engineering Economic Analysis, chapters 3
to 6.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.finance.cash_flow import npv
from kindynos.finance.notes import note
from kindynos.finance.shapes import as_row, on_arrays, scalar_if
from kindynos.validate import array_of, invalid_argument, one_of


@on_arrays
def present_value(
    rate: ArrayLike, life: ArrayLike, payment: ArrayLike, timing: str = "end"
) -> Floats | float:
    """Return what ``payment`` each period for ``life`` periods is worth at time 0.

    ``timing`` says whether it is paid at the "end" or the "start" of each period. The answer is
    ``(trials,)``, or a float of numbers; NaN in trials with a rate at or below -1 or a life of 0 or
    less. Raises ParameterError for such a number.

    >>> round(present_value(0.05, 10, 100.0), 4)
    772.1735
    """
    return _answer(_factor(rate, life, timing) * array_of("payment", payment))


@on_arrays
def future_value(
    rate: ArrayLike, life: ArrayLike, payment: ArrayLike, timing: str = "end"
) -> Floats | float:
    """Return what ``payment`` each period has grown to at the end of ``life`` periods; otherwise as
    ``present_value``.

    >>> round(future_value(0.05, 10, 100.0), 4)
    1257.7893
    """
    growth = np.exp(array_of("life", life) * np.log1p(_rate(rate)))
    return _answer(_factor(rate, life, timing) * growth * array_of("payment", payment))


@on_arrays
def payment(
    rate: ArrayLike, life: ArrayLike, amount: ArrayLike, timing: str = "end"
) -> Floats | float:
    """Return the level payment each period that pays back ``amount``, borrowed at time 0; otherwise
    as ``present_value``.

    >>> round(payment(0.05, 10, 1000.0), 4)
    129.5046
    """
    return _answer(array_of("amount", amount) / _factor(rate, life, timing))


@on_arrays
def capital_recovery(rate: ArrayLike, life: ArrayLike) -> Floats | float:
    """Return the share of a capital that a level payment each period must be to pay for it; as
    ``payment`` of 1.

    >>> round(capital_recovery(0.08, 20), 6), capital_recovery(0.0, 4)
    (0.101852, 0.25)
    """
    return _answer(1 / _factor(rate, life))


@on_arrays
def equivalent_annual(
    rate: ArrayLike, flows: ArrayLike, initial: ArrayLike = 0.0
) -> Floats | float:
    """Return the level amount each period that is worth as much as the flows, and ``initial`` at
    time 0.

    ``rate`` is a number or one per trial, ``flows`` ``(periods,)`` or ``(periods, trials)``. Raises
    ParameterError as ``npv`` does, and for a rate that is a row.

    >>> round(equivalent_annual(0.1, [60.0, 60.0], initial=-100.0), 6)
    2.380952
    """
    if array_of("rate", rate).ndim > 1:
        raise ParameterError(
            "rate must be a number or one per trial: a level amount needs a level rate"
        )
    periods = len(as_row("flows", flows))
    return _answer(np.asarray(npv(rate, flows, initial)) / _factor(rate, periods))


@on_arrays
def levelized_cost(
    rate: ArrayLike,
    life: ArrayLike,
    capital: ArrayLike,
    yearly_cost: ArrayLike,
    yearly_quantity: ArrayLike,
) -> Floats | float:
    """Return the price per unit at which the discounted quantity pays for capital and running cost
    over the life.

    ``yearly_cost`` and ``yearly_quantity`` are level, a number or one per trial, or rows
    ``(periods, trials)`` or ``(periods, 1)`` of at least the life; of the last year a fraction
    counts as a fraction. The answer is NaN for trials without quantity or with a life beyond the
    rows. Raises ParameterError for a wrong rate or life given as a number.

    Source: Short, Packey and Holt, A Manual for the Economic Evaluation of Energy Efficiency,
    NREL/TP-462-5173 (1995).

    >>> levelized_cost(0.0, 10, 1000.0, 50.0, 100.0)
    1.5
    """
    cost = array_of("yearly_cost", yearly_cost)
    quantity = array_of("yearly_quantity", yearly_quantity)
    if cost.ndim < 2 and quantity.ndim < 2:
        factor: Floats = _factor(rate, life)
        spent, got = cost * factor, quantity * factor
    else:
        spent, got = (_worth(value, rate, life) for value in (cost, quantity))
    lost = got <= 0
    note("no quantity to spread the cost over", int(np.count_nonzero(lost)))
    with np.errstate(divide="ignore", invalid="ignore"):
        return _answer((array_of("capital", capital) + spent) / np.where(lost, np.nan, got))


def _worth(row: Floats, rate: ArrayLike, life: ArrayLike) -> Floats:
    """Return what a row, or a level amount, is worth over the life; each year counts as far as the
    life reaches into it.
    """
    factor = _factor(rate, life)
    if row.ndim < 2:
        return factor * row
    lives = array_of("life", life)
    short = lives > len(row)
    note("a life beyond the row", int(np.count_nonzero(short)))
    if lives.ndim == 0 and short:
        raise ParameterError(f"the row has {len(row)} periods, and the life is {float(lives):g}")
    rates = _rate(rate)
    total = np.zeros(())
    reached = np.zeros(())
    for t, amount in enumerate(row, start=1):
        now = _annuity(rates, np.minimum(lives, t))
        total, reached = total + (now - reached) * amount, now
    return np.where(short, np.nan, total)


def _factor(rate: ArrayLike, life: ArrayLike, timing: str = "end") -> Floats:
    """Return what 1 each period for a life is worth; NaN where rate or life is none."""
    one_of("timing", timing, ("end", "start"))
    rates = _rate(rate)
    lives = array_of("life", life)
    if lives.ndim == 0 and not lives > 0:
        raise invalid_argument("life", "above 0", float(lives))
    note("a life of 0 or less", int(np.count_nonzero(lives <= 0)))
    factor = _annuity(rates, np.where(lives > 0, lives, np.nan))
    return factor * (1 + rates) if timing == "start" else factor


def _rate(rate: ArrayLike) -> Floats:
    rates = array_of("rate", rate)
    if rates.ndim > 1:
        raise ParameterError(f"rate must be a number or one per trial, not {rates.shape}")
    if rates.ndim == 0 and rates <= -1:
        raise invalid_argument("rate", "above -1 (a loss of everything)", float(rates))
    lost = rates <= -1
    note("a rate at or below -1", int(np.count_nonzero(lost)))
    return np.where(lost, np.nan, rates)


def _annuity(rates: Floats, lives: Floats) -> Floats:
    """Return (1 - (1 + rate)^-life) / rate, without loss near a rate of 0."""
    zero = rates == 0
    safe = np.where(zero, 1.0, rates)
    return np.where(zero, lives, -np.expm1(-lives * np.log1p(safe)) / safe)


def _answer(values: Floats) -> Floats | float:
    array = np.asarray(values)
    return scalar_if(array.ndim == 0, array)
