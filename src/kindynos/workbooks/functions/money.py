"""Annuities, cash flows and depreciation, with the signs of the standard: what is paid is negative.

The value today ``pv``, equal payments ``payment`` at the end of each period (or its beginning) and
a last amount ``fv`` balance: pv (1 + rate)^n + payment (1 + rate begin) ((1 + rate)^n - 1) / rate +
fv = 0. Source: OpenFormula, section 6.12.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from kindynos.finance.internal_rate import irr
from kindynos.finance.rates import sign_changes
from kindynos.workbooks.cell_errors import DIV0, ResultError
from kindynos.workbooks.functions.registry import (
    FUNCTIONS,
    alone,
    bounded,
    function,
    numbers_in,
    required,
)
from kindynos.workbooks.values import Grid, Value, joined, picked

CLOSE = 1e-12


def _growth(rate: float, periods: float) -> tuple[float, float]:
    """Return (1 + rate)^n, and what payments of 1 at the end of each period grow to."""
    if rate == 0:
        return 1.0, periods
    required(rate > -1)
    exponent = periods * math.log1p(rate)
    return math.exp(exponent), math.expm1(exponent) / rate


def payment(rate: float, periods: float, pv: float, fv: float = 0.0, begin: float = 0.0) -> float:
    """Return the equal payment of each period."""
    required(periods != 0)
    growth, total = _growth(rate, periods)
    return -(pv * growth + fv) / (total * (1 + rate * (begin != 0)))


def future(rate: float, periods: float, pmt: float, pv: float = 0.0, begin: float = 0.0) -> float:
    """Return the amount at the end."""
    growth, total = _growth(rate, periods)
    return -(pv * growth + pmt * (1 + rate * (begin != 0)) * total)


def _payment_quick(rate: Any, n: Any, pv: Any, fv: Any = 0.0, begin: Any = 0.0) -> Any:
    rate, begin = np.asarray(rate), np.asarray(begin) != 0
    exponent = n * np.log1p(rate)
    total = np.where(rate == 0, n, np.expm1(exponent) / rate)
    payment = -(pv * np.exp(exponent) + fv) / (total * (1 + rate * begin))
    return np.where(rate > -1, payment, np.nan)


@function("PMT", "nnn[nn]", _payment_quick)
def _pmt(rate: float, n: float, pv: float, fv: float = 0.0, begin: float = 0.0) -> Value:
    """Return the equal payment of each period that pays a loan back."""
    return payment(rate, n, pv, fv, begin)


@function("FV", "nnn[nn]")
def _fv(rate: float, n: float, pmt: float, pv: float = 0.0, begin: float = 0.0) -> Value:
    """Return what equal payments, and an amount today, grow to."""
    return future(rate, n, pmt, pv, begin)


@function("PV", "nnn[nn]")
def _pv(rate: float, n: float, pmt: float, fv: float = 0.0, begin: float = 0.0) -> Value:
    """Return the value today of equal payments, and an amount at the end."""
    growth, total = _growth(rate, n)
    return -(fv + pmt * (1 + rate * (begin != 0)) * total) / growth


@function("NPER", "nnn[nn]")
def _nper(rate: float, pmt: float, pv: float, fv: float = 0.0, begin: float = 0.0) -> Value:
    """Return the number of periods that payments need."""
    if rate == 0:
        required(pmt != 0, DIV0)
        return -(pv + fv) / pmt
    paid = pmt * (1 + rate * (begin != 0))
    ratio = (paid - fv * rate) / (paid + pv * rate)
    required(ratio > 0 and rate > -1)
    return math.log(ratio) / math.log1p(rate)


def _interest(rate: float, period: float, n: float, pv: float, fv: float, begin: float) -> float:
    required(1 <= period < n + 1)
    if begin and period == 1:
        return 0.0
    pmt = payment(rate, n, pv, fv, begin)
    if begin:
        return (future(rate, period - 2, pmt, pv, 1.0) - pmt) * rate
    return future(rate, period - 1, pmt, pv, 0.0) * rate


@function("IPMT", "nnnn[nn]")
def _ipmt(
    rate: float, period: float, n: float, pv: float, fv: float = 0.0, begin: float = 0.0
) -> Value:
    """Return the interest in the payment of a period."""
    return _interest(rate, period, n, pv, fv, begin)


@function("PPMT", "nnnn[nn]")
def _ppmt(
    rate: float, period: float, n: float, pv: float, fv: float = 0.0, begin: float = 0.0
) -> Value:
    """Return what the payment of a period pays back."""
    return payment(rate, n, pv, fv, begin) - _interest(rate, period, n, pv, fv, begin)


def _over_periods(
    part: Callable[[float], float],
    rate: float,
    n: float,
    pv: float,
    first: float,
    last: float,
    begin: float,
) -> float:
    required(rate > 0 and pv > 0 and 1 <= first <= last <= n and begin in (0, 1))
    return math.fsum(part(float(k)) for k in range(math.ceil(first), math.floor(last) + 1))


@function("CUMIPMT", "nnnnnn")
def _cumipmt(rate: float, n: float, pv: float, first: float, last: float, begin: float) -> Value:
    """Return the interest in the payments from one period to another."""
    return _over_periods(
        lambda k: _interest(rate, k, n, pv, 0.0, begin), rate, n, pv, first, last, begin
    )


@function("CUMPRINC", "nnnnnn")
def _cumprinc(rate: float, n: float, pv: float, first: float, last: float, begin: float) -> Value:
    """Return what the payments from one period to another pay back."""
    whole = payment(rate, n, pv, 0.0, begin)
    return _over_periods(
        lambda k: whole - _interest(rate, k, n, pv, 0.0, begin), rate, n, pv, first, last, begin
    )


@function("ISPMT", "nnnn")
def _ispmt(rate: float, period: float, n: float, pv: float) -> Value:
    """Return the interest of a period of a loan that is paid back in equal parts."""
    required(n != 0, DIV0)
    return pv * rate * (period / n - 1)


@function("RATE", "nnn[nnn]")
def _rate(
    n: float, pmt: float, pv: float, fv: float = 0.0, begin: float = 0.0, guess: float = 0.1
) -> Value:
    """Return the rate per period at which an annuity balances, sought from a guess."""
    required(n > 0)

    def balance(rate: float) -> float:
        growth, total = _growth(rate, n)
        return pv * growth + pmt * (1 + rate * (begin != 0)) * total + fv

    return _root(balance, guess, max(abs(pv), abs(pmt) * n, abs(fv)))


def _root(balance: Callable[[float], float], guess: float, size: float) -> float:
    """Return a rate at which a balance is 0, by Newton's steps from a guess, or else between two
    rates whose signs differ.
    """
    rate = guess if guess > -1 else 0.1
    for _ in range(60):
        try:
            value = balance(rate)
            step = 1e-6 * max(abs(rate), 1e-3)
            slope = (balance(rate + step) - balance(rate - step)) / (2 * step)
        except (OverflowError, ZeroDivisionError, ResultError):
            break
        if slope == 0 or not math.isfinite(slope):
            break
        change = value / slope
        rate -= change
        if not -1 < rate < 1e6:
            break
        if abs(change) <= CLOSE * max(abs(rate), 1e-3):
            return rate
    return _between(balance, guess, size)


def _between(balance: Callable[[float], float], guess: float, size: float) -> float:
    from scipy.optimize import brentq

    grid = np.concatenate([-1 + np.geomspace(1e-4, 1, 60), np.geomspace(1e-6, 100, 100)])
    grid = np.unique(np.append(grid, guess))
    values = []
    for rate in grid.tolist():
        try:
            values.append(balance(rate))
        except (OverflowError, ZeroDivisionError, ResultError):
            values.append(math.nan)
    signs = np.sign(values)
    places = np.flatnonzero(signs[:-1] * signs[1:] < 0)
    required(len(places) > 0)
    best = min(places.tolist(), key=lambda i: abs(grid[i] - guess))
    return float(brentq(balance, grid[best], grid[best + 1], xtol=1e-14, rtol=1e-14))


def _discounted(rate: float, flows: Sequence[float]) -> float:
    required(rate != -1, DIV0)
    discounted, factor = 0.0, 1.0
    for flow in flows:
        factor /= 1 + rate
        discounted += flow * factor
    return discounted


def _npv_quick(rate: Any, *flows: Any) -> Any:
    npv_quick: Any = 0.0
    # Horner's rule from the last flow on
    for flow in reversed(flows):
        npv_quick = (npv_quick + flow) / (1 + rate)
    return npv_quick


@function("NPV", "n+x", _npv_quick)
def _npv(rate: float, *flows: Value) -> Value:
    """Return the value of flows one period before the first; empty cells and texts are left out."""
    return _discounted(rate, numbers_in(flows))


def _irr_together(arguments: list[Value], trials: int) -> Value | None:
    """Return the rates of all trials at once: of flows that change their sign once there is only
    one, which no guess bears on. Other trials are sought one by one.
    """
    items = [] if type(arguments[0]) is not Grid else arguments[0].flat()
    cells = [cell for cell in items if cell is not None and type(cell) is not str]
    if not cells or any(type(cell) not in (float, np.ndarray) for cell in cells):
        return None
    if any(type(cell) is np.ndarray and cell.dtype != np.float64 for cell in cells):
        return None
    flows = np.stack([np.broadcast_to(cell, (trials,)) for cell in cells])
    single = sign_changes(flows) == 1
    rates = np.full(trials, np.nan)
    if single.any():
        rates[single] = irr(flows[:, single])
    if np.isfinite(rates).all():
        return rates
    valid = FUNCTIONS["IRR"]
    kinds = valid.kinds_of(len(arguments))
    return joined(
        [
            float(rate)
            if math.isfinite(rate)
            else alone(valid, kinds, [picked(value, trial) for value in arguments])
            for trial, rate in enumerate(rates)
        ]
    )


@function("IRR", "r[n]", together=_irr_together)
def _irr(flows: Grid, guess: float = 0.1) -> Value:
    """Return the rate at which flows have no value, sought from a guess."""
    numbers = numbers_in([flows])
    required(any(x > 0 for x in numbers) and any(x < 0 for x in numbers))

    def balance(rate: float) -> float:
        required(rate > -1)
        value = 0.0
        for flow in reversed(numbers):
            value = value / (1 + rate) + flow
        return value

    return _root(balance, guess, max(map(abs, numbers)))


@function("MIRR", "rnn")
def _mirr(flows: Grid, finance: float, reinvest: float) -> Value:
    """Return the rate of flows where those paid cost one rate and those received earn
    another.
    """
    numbers = numbers_in([flows])
    count = len(numbers)
    out = _discounted(finance, [min(x, 0.0) for x in numbers]) * (1 + finance)
    back = _discounted(reinvest, [max(x, 0.0) for x in numbers]) * (1 + reinvest)
    required(out != 0 and back != 0 and count > 1, DIV0)
    return (-back * (1 + reinvest) ** (count - 1) / out) ** (1 / (count - 1)) - 1


def _dated_flows(flows: Grid, dates: Grid) -> tuple[list[float], list[float]]:
    amounts, days = numbers_in([flows]), [math.floor(x) for x in numbers_in([dates])]
    required(len(amounts) == len(days) and bool(amounts))
    required(all(day >= days[0] for day in days))
    return amounts, [(day - days[0]) / 365 for day in days]


@function("XNPV", "nrr")
def _xnpv(rate: float, flows: Grid, dates: Grid) -> Value:
    """Return the value of dated flows on the first date, by years of 365 days."""
    required(rate > -1)
    amounts, years = _dated_flows(flows, dates)
    return math.fsum(a / (1 + rate) ** y for a, y in zip(amounts, years, strict=True))


@function("XIRR", "rr[n]")
def _xirr(flows: Grid, dates: Grid, guess: float = 0.1) -> Value:
    """Return the yearly rate at which dated flows have no value."""
    amounts, years = _dated_flows(flows, dates)
    required(any(x > 0 for x in amounts) and any(x < 0 for x in amounts))

    def balance(rate: float) -> float:
        required(rate > -1)
        return math.fsum(a / (1 + rate) ** y for a, y in zip(amounts, years, strict=True))

    return _root(balance, guess, max(map(abs, amounts)))


@function("FVSCHEDULE", "nr")
def _fvschedule(pv: float, rates: Grid) -> Value:
    """Return what an amount grows to by a row of rates."""
    return pv * math.prod(1 + rate for rate in numbers_in([rates]))


@function("EFFECT", "nn")
def _effect(nominal: float, periods: float) -> Value:
    """Return the effective yearly rate of a nominal one."""
    count = math.trunc(periods)
    required(nominal > 0 and count >= 1)
    return (1 + nominal / count) ** count - 1


@function("NOMINAL", "nn")
def _nominal(effective: float, periods: float) -> Value:
    """Return the nominal yearly rate of an effective one."""
    count = math.trunc(periods)
    required(effective > 0 and count >= 1)
    return ((1 + effective) ** (1 / count) - 1) * count


@function("RRI", "nnn")
def _rri(periods: float, pv: float, fv: float) -> Value:
    """Return the rate by which an amount grows to another."""
    required(periods > 0 and pv != 0)
    return (fv / pv) ** (1 / periods) - 1


@function("PDURATION", "nnn")
def _pduration(rate: float, pv: float, fv: float) -> Value:
    """Return the periods in which an amount grows to another."""
    required(rate > 0 and pv > 0 and fv > 0)
    return math.log(fv / pv) / math.log1p(rate)


@function("SLN", "nnn", lambda cost, salvage, life: (cost - salvage) / life)
def _sln(cost: float, salvage: float, life: float) -> Value:
    """Return the depreciation of a period in equal parts."""
    required(life != 0, DIV0)
    return (cost - salvage) / life


@function("SYD", "nnnn")
def _syd(cost: float, salvage: float, life: float, period: float) -> Value:
    """Return the depreciation of a period by the sum of the years' digits."""
    required(life > 0 and 1 <= period <= life)
    return (cost - salvage) * (life - period + 1) * 2 / (life * (life + 1))


@function("DB", "nnnn[n]")
def _db(cost: float, salvage: float, life: float, period: float, months: float = 12.0) -> Value:
    """Return the depreciation of a year by a fixed rate of what is left, rounded to 3 digits."""
    required(cost >= 0 and salvage >= 0 and life > 0 and period > 0 and 1 <= months <= 12)
    required(period <= life + (months < 12))
    bounded(period)
    if cost == 0:
        return 0.0
    rate = round(1 - (salvage / cost) ** (1 / life), 3)
    first = cost * rate * months / 12
    if period < 2:
        return first
    total, written_off = first, first
    for year in range(2, math.trunc(period) + 1):
        written_off = (cost - total) * rate
        if year > life:
            written_off = written_off * (12 - months) / 12
        total += written_off
    return written_off


def declining(cost: float, salvage: float, life: float, period: float, factor: float) -> float:
    """Return the depreciation of a period by a multiple of the rate in equal parts."""
    rate = min(factor / life, 1.0)
    before = cost * (1 - rate) ** (period - 1) if rate < 1 else (cost if period == 1 else 0.0)
    after = cost * (1 - rate) ** period
    return max(float(before - max(after, salvage)), 0.0)


@function("DDB", "nnnn[n]")
def _ddb(cost: float, salvage: float, life: float, period: float, factor: float = 2.0) -> Value:
    """Return the depreciation of a period by a multiple of the rate in equal parts."""
    required(cost >= 0 and salvage >= 0 and factor > 0 and 1 <= period <= life)
    return declining(cost, salvage, life, period, factor)


@function("VDB", "nnnnn[nb]")
def _vdb(
    cost: float,
    salvage: float,
    life: float,
    begin: float,
    end: float,
    factor: float = 2.0,
    stay: bool = False,
) -> Value:
    """Return the depreciation between two times by a multiple of the rate in equal parts; it goes
    over to equal parts where they are more, unless it is to stay.
    """
    required(cost >= 0 and salvage >= 0 and 0 <= begin <= end <= life and factor > 0)
    bounded(end)
    if stay:
        return math.fsum(
            declining(cost, salvage, life, k, factor)
            * max(min(end, float(k)) - max(begin, float(k - 1)), 0.0)
            for k in range(math.floor(begin) + 1, math.ceil(end) + 1)
        )
    left, total = cost - salvage, 0.0
    straight: float | None = None
    for k in range(1, math.ceil(end) + 1):
        if straight is None:
            written_off = declining(cost, salvage, life, float(k), factor)
            equal = left / (life - k + 1)
            if equal > written_off:
                straight = written_off = equal
        else:
            written_off = straight
        left -= written_off
        total += written_off * max(min(end, float(k)) - max(begin, float(k - 1)), 0.0)
    return total


@function("DOLLARDE", "nn")
def _dollarde(x: float, fraction: float) -> Value:
    """Return a price in fractions, such as 32nds, as a decimal one."""
    parts = math.trunc(fraction)
    required(parts >= 0)
    required(parts >= 1, DIV0)
    whole = math.trunc(x)
    return whole + (x - whole) * 10 ** math.ceil(math.log10(parts)) / parts


@function("DOLLARFR", "nn")
def _dollarfr(x: float, fraction: float) -> Value:
    """Return a decimal price in fractions."""
    parts = math.trunc(fraction)
    required(parts >= 0)
    required(parts >= 1, DIV0)
    whole = math.trunc(x)
    return whole + (x - whole) * parts / 10 ** math.ceil(math.log10(parts))
