"""The functions of the formula language about balances and cash flows."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from kindynos.arrays import Floats, without_residue
from kindynos.finance import annuities, measures
from kindynos.finance.annual_rates import HOW, per_period, per_year
from kindynos.finance.cash_flow import npv
from kindynos.finance.dated import irr_dated, npv_dated
from kindynos.finance.internal_rate import irr
from kindynos.finance.ledger import at, first_period, grow, roll_forward
from kindynos.formula.function import Function, Parameter

WEEKS = np.timedelta64(28, "D")  # shorter periods are no months

_RATE, _VALUE_RATE, _FLOWS, _LIFE = (
    Parameter("rate"),
    Parameter("rate", "value"),
    Parameter("flows", "row"),
    Parameter("life", "value"),
)
_START = Parameter("start", "value", optional=True)
_INITIAL = Parameter("initial", "value", optional=True)
_TIMING = Parameter("timing", "word", optional=True, words=("end", "start"))


def _grow(rate: Floats, start: Floats | float = 1.0, lag: int = 0, *, periods: int) -> Floats:
    row = np.broadcast_to(rate, (periods, np.shape(rate)[-1] if np.ndim(rate) else 1))
    return np.asarray(grow(row, np.atleast_1d(start), lag))


def _roll_forward(
    opening: Floats, rate: Floats, flow: Floats, *, periods: int, **options: Any
) -> Floats:
    """One value a trial counts in every period."""
    rate, flow = (value[None] if value.ndim == 1 else value for value in (rate, flow))
    return roll_forward(opening, rate, flow, periods=periods, **options).reshape(periods, -1)


def dates_of(on: str | None, ends: Floats) -> list[np.datetime64]:
    """Return the dates of an initial flow and of flows at the ends of the periods, in days since
    1970; the initial one is on the first day of the first period unless a date is given.
    """
    last = ends.reshape(-1).astype(np.int64).astype("datetime64[D]")
    if on is not None:
        return [np.datetime64(on, "D"), *last]
    if len(last) > 1 and last[1] - last[0] < WEEKS:
        return [last[0] - (last[1] - last[0]) + np.timedelta64(1, "D"), *last]
    months = last.astype("datetime64[M]")  # the first day is a period before the end of the first
    length = months[1] - months[0] if len(months) > 1 else np.timedelta64(12, "M")
    start = (months[0] - length + np.timedelta64(1, "M")).astype("datetime64[D]")
    return [start, *last]


def _dated(
    flows: Floats, initial: Floats | float, on: str | None, ends: Floats
) -> tuple[Floats, list[np.datetime64]]:
    """Return the initial flow and those at the ends of the periods, with their dates."""
    width = np.broadcast_shapes(flows.shape[1:], np.shape(initial) or (1,))
    head = np.broadcast_to(initial, width)[None]
    both = np.concatenate([head, np.broadcast_to(flows, (len(flows), *width))])
    return both, dates_of(on, ends)


def _npv(rate: Floats, flows: Floats, initial: Any = 0.0, **options: Any) -> Floats:
    size = np.maximum(np.abs(flows).max(axis=0), np.abs(initial))
    return without_residue(np.asarray(npv(rate, flows, initial, **options)), size)


def _npv_dated(
    rate: Floats, flows: Floats, *, initial: Any = 0.0, on: str | None = None, ends: Floats
) -> Floats:
    return np.asarray(npv_dated(np.atleast_1d(rate), *_dated(flows, initial, on, ends)))


def _irr_dated(flows: Floats, *, initial: Any = 0.0, on: str | None = None, ends: Floats) -> Floats:
    return np.asarray(irr_dated(*_dated(flows, initial, on, ends)))


def _per_period(rate: Floats, how: str = "effective", *, periods_a_year: Floats) -> Floats:
    return np.asarray(per_period(rate, periods_a_year, how))


def _column(
    name: str, parameters: tuple[Parameter, ...], compute: Callable[..., Any], help: str
) -> Function:
    return Function(name, parameters, "column", compute, help)


def _values(*names: str) -> tuple[Parameter, ...]:
    return tuple(Parameter(name, "value") for name in names)


def _per_year(rate: Floats, how: str = "effective", *, periods_a_year: Floats) -> Floats:
    return np.asarray(per_year(rate, periods_a_year, how))


MONEY = (
    Function(
        "per_period",
        (_RATE, Parameter("how", "word", optional=True, words=HOW)),
        "same",
        _per_period,
        "rate a year as the rate of one period of the model: what compounds to it, or with "
        '"simple" its even part',
        by_year=True,
    ),
    Function(
        "per_year",
        (_RATE, Parameter("how", "word", optional=True, words=HOW)),
        "same",
        _per_year,
        "rate of one period of the model as a rate a year, such as an irr of months: what it "
        'compounds to, or with "simple" as many times as there are periods in a year',
        by_year=True,
    ),
    Function(
        "grow",
        (_RATE, _START, Parameter("lag", "whole", optional=True)),
        "row",
        _grow,
        "index that compounds: start x (1 + rate) x ...; lag=1 leaves the first period unchanged",
    ),
    Function(
        "roll_forward",
        (
            *_values("opening"),
            _RATE,
            Parameter("flow"),
            _TIMING,
            Parameter("floor", "value", optional=True),
            Parameter("shortfall", "flag", optional=True),
        ),
        "row",
        _roll_forward,
        "balance at the end of each period that earns the rate and takes the flow; "
        "shortfall=True: what a floor left unpaid",
    ),
    _column(
        "first_period",
        (Parameter("condition", "row"),),
        first_period,
        "number of the first period in which the condition holds; infinity where it never does",
    ),
    _column(
        "at",
        (Parameter("row", "row"), Parameter("period", "value")),
        at,
        "value in the period of that number, from 1; NaN beyond the row",
    ),
    _column(
        "npv",
        (
            _RATE,
            _FLOWS,
            _INITIAL,
            Parameter("timing", "word", optional=True, words=("end", "mid", "start")),
        ),
        _npv,
        "net present value of flows at the ends of the periods (or their middle, or start), and "
        "of the initial flow at time 0",
    ),
    _column(
        "irr",
        (_FLOWS, _INITIAL),
        irr,
        "internal rate of return; NaN where there is none, or more than one",
    ),
    Function(
        "npv_dated",
        (Parameter("rate", "value"), _FLOWS, _INITIAL, Parameter("on", "date", optional=True)),
        "column",
        _npv_dated,
        "net present value at a rate a year of flows on the last days of the periods, and of the "
        'initial flow on="2028-03-31" (or the first day), in years of 365 days',
        by_date=True,
    ),
    Function(
        "irr_dated",
        (_FLOWS, _INITIAL, Parameter("on", "date", optional=True)),
        "column",
        _irr_dated,
        "internal rate of return a year of the same flows",
        by_date=True,
    ),
    _column(
        "mirr",
        (*_values("finance", "reinvest"), _FLOWS, _INITIAL),
        measures.mirr,
        "modified internal rate of return: outflows discounted at finance, inflows compounded at "
        "reinvest",
    ),
    _column(
        "payback",
        (_FLOWS, _INITIAL),
        measures.payback,
        "periods until the flows have paid back what was put in",
    ),
    _column(
        "discounted_payback",
        (_RATE, _FLOWS, _INITIAL),
        measures.discounted_payback,
        "payback of discounted flows",
    ),
    _column(
        "profitability_index",
        (_RATE, _FLOWS, Parameter("initial", "value")),
        measures.profitability_index,
        "present value of the flows for each unit put in at time 0, -initial",
    ),
    _column(
        "equivalent_annual",
        (_VALUE_RATE, _FLOWS, _INITIAL),
        annuities.equivalent_annual,
        "level amount worth as much",
    ),
    _column(
        "present_value",
        (_VALUE_RATE, _LIFE, *_values("payment"), _TIMING),
        annuities.present_value,
        "worth at time 0 of a level payment each period of a life",
    ),
    _column(
        "future_value",
        (_VALUE_RATE, _LIFE, *_values("payment"), _TIMING),
        annuities.future_value,
        "what a level payment each period has grown to at the end of a life",
    ),
    _column(
        "payment",
        (_VALUE_RATE, _LIFE, *_values("amount"), _TIMING),
        annuities.payment,
        "level payment that pays back an amount",
    ),
    _column(
        "capital_recovery",
        (_VALUE_RATE, _LIFE),
        annuities.capital_recovery,
        "payment each period for a capital of 1",
    ),
    _column(
        "levelized_cost",
        (
            _VALUE_RATE,
            _LIFE,
            *_values("capital"),
            Parameter("yearly_cost"),
            Parameter("yearly_quantity"),
        ),
        annuities.levelized_cost,
        "price per unit that pays for capital and running cost over the life",
    ),
    _column(
        "terminal_value",
        (*_values("rate", "flow"), Parameter("growth", "value", optional=True)),
        measures.terminal_value,
        "worth of all flows after the last, growing for ever: flow x (1 + growth) / (rate - "
        "growth)",
    ),
    _column(
        "value_per_share",
        (
            _VALUE_RATE,
            _FLOWS,
            *_values("growth", "shares"),
            Parameter("debt", "value", optional=True),
        ),
        measures.value_per_share,
        "flows and their terminal value, discounted, less debt, for each share",
    ),
)
