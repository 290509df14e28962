"""Balances that are fed and drawn on, indices that compound, and the first period in which
something holds.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.finance.notes import note
from kindynos.finance.shapes import as_row, on_arrays, scalar_if
from kindynos.validate import Natural, array_of, check_integer, checked, instance, one_of


@on_arrays
def roll_forward(
    opening: ArrayLike,
    rate: ArrayLike,
    flow: ArrayLike,
    timing: str = "end",
    floor: ArrayLike | None = None,
    *,
    shortfall: bool = False,
    periods: int | None = None,
) -> Floats:
    """Return the balance at the end of each period, ``(periods, trials)``; flat when nothing
    differs by trial.

    ``opening`` is a number or one per trial; ``rate`` (a fraction per period) and ``flow``
    (deposits above 0, withdrawals below) are each a number, one per trial, or a row. A flat
    ``flow`` is a row, ``(periods,)``, unless ``rate`` is a row of another length; a flat ``rate``
    is one per trial beside a row, and a row beside numbers. ``timing`` says whether a flow comes at
    the "end" of its period or at the "start" and so earns its rate. With ``floor`` a withdrawal is
    cut so that the balance does not fall below it, and ``shortfall=True`` returns what was not
    paid, per period, instead of the balance. ``periods`` is needed where neither rate nor flow is a
    row. Raises ParameterError for shapes that do not fit or could mean two things.

    >>> roll_forward(100.0, 0.1, [0.0, -60.0, -60.0, -60.0], floor=0).round(2)
    array([110. ,  61. ,   7.1,   0. ])
    >>> roll_forward(100.0, 0.1, [0.0, -60.0, -60.0, -60.0], floor=0, shortfall=True).round(2)
    array([ 0.  ,  0.  ,  0.  , 52.19])
    """
    one_of("timing", timing, ("end", "start"))
    instance("shortfall", shortfall, bool, "True or False")
    if shortfall and floor is None:
        raise ParameterError(
            "shortfall=True needs floor=, below which nothing is paid, such as floor=0"
        )
    if periods is not None:
        check_integer("periods", periods, least=1)
    rates, flows = _rows(array_of("rate", rate), array_of("flow", flow), periods)
    first = _per_trial("opening", opening)
    lowest = None if floor is None else _per_trial("floor", floor)
    width = np.broadcast_shapes(
        rates.shape[1:], flows.shape[1:], first.shape, () if lowest is None else lowest.shape
    )
    balances = _roll(first, rates, flows, timing == "start", lowest, shortfall, width)
    return (
        balances.reshape(-1)
        if not any(np.ndim(value) == 2 for value in (rate, flow)) and width in ((), (1,))
        else balances
    )


def _per_trial(name: str, value: ArrayLike) -> Floats:
    array = array_of(name, value)
    if array.ndim > 1:
        raise ParameterError(f"{name} must be a number or one per trial, not {array.shape}")
    return array


def _rows(rate: Floats, flow: Floats, periods: int | None) -> tuple[Floats, Floats]:
    """Return rate and flow with their periods first; what is alike in all of them is repeated
    without a copy.
    """
    for name, value in (("rate", rate), ("flow", flow)):
        if value.ndim > 2:
            raise ParameterError(
                f"{name} must be a number, one per trial or a row, not {value.shape}"
            )
    if rate.ndim == 1 and flow.ndim == 1 and rate.size > 1 and flow.size > 1:
        raise ParameterError(
            "a flat rate beside flat flows could mean periods or trials; "
            "give rate[:, None] for one per period, or flow[:, None] for one rate per trial"
        )
    if flow.ndim == 1 and rate.ndim < 2:
        flow = flow[:, None]
    elif flow.ndim == 1 and len(flow) == len(rate):
        if rate.shape[1] == len(flow) > 1:
            raise ParameterError(
                "a flat flow could mean periods or trials here; give flow[:, None] for one a "
                "period, "
                "or flow[None, :] for one per trial"
            )
        flow = flow[:, None]
    if rate.ndim == 1 and flow.ndim == 0:
        rate = rate[:, None]
    lengths = {value.shape[0] for value in (rate, flow) if value.ndim == 2 and value.shape[0] > 1}
    lengths |= {1} if periods is None and not lengths and 2 in (rate.ndim, flow.ndim) else set()
    count = lengths.pop() if lengths else check_integer("periods", periods, least=1)
    if lengths or (periods is not None and periods != count):
        raise ParameterError(
            f"rate {rate.shape} and flow {flow.shape} differ in their number of periods"
        )

    def spread(value: Floats) -> Floats:
        return np.broadcast_to(value, (count, *value.shape[-1:]) if value.ndim else (count, 1))

    return spread(rate), spread(flow)


def _roll(
    first: Floats,
    rate: Floats,
    flow: Floats,
    early: bool,
    floor: Floats | None,
    shortfall: bool,
    width: tuple[int, ...],
) -> Floats:
    """Work out the periods one by one; every row is written in place."""
    balance: Floats = np.empty((len(rate), *width))
    unmet: Floats = np.empty_like(balance if shortfall else balance[:0])
    before: Any = first
    lowest: Floats = np.array(np.broadcast_to(first, width))
    for t, (r, f) in enumerate(zip(rate, flow, strict=True)):
        row = balance[t]
        if early:
            np.add(before, f, out=row)
            _cut(row, f, floor, unmet[t] if shortfall else None)
            np.minimum(lowest, row, out=lowest)
            row *= 1 + r
        else:
            np.multiply(before, 1 + r, out=row)
            row += f
            _cut(row, f, floor, unmet[t] if shortfall else None)
            if floor is None and t < len(rate) - 1:
                np.minimum(lowest, row, out=lowest)
        before = row
    if floor is None:
        note("a balance below 0 that went on at the same rate", int(np.count_nonzero(lowest < 0)))
    return unmet if shortfall else balance


def _cut(balance: Floats, flow: Floats, floor: Floats | None, unmet: Floats | None) -> None:
    """Raise a balance that a withdrawal took below the floor, by no more than the withdrawal."""
    if floor is None:
        return
    missing = np.subtract(floor, balance)
    np.minimum(missing, -flow, out=missing)
    np.maximum(missing, 0, out=missing)
    balance += missing
    if unmet is not None:
        unmet[...] = missing


@on_arrays
@checked
def grow(rate: ArrayLike, start: ArrayLike = 1.0, lag: Natural = 0) -> Floats:
    """Return an index that compounds: start x (1 + rate of period 1) x ... up to each period,
    ``(periods, trials)``.

    ``rate`` is a row, ``(periods,)`` or ``(periods, trials)``; ``start`` is a number or one per
    trial. With ``lag=1`` the first period is unchanged, as an amount that is indexed only from the
    second year on needs: the whole index comes ``lag`` periods later. A flat rate with one start
    gives ``(periods,)``. Raises ParameterError for a rate that is not a row.

    >>> grow([0.1, 0.1], 100.0, lag=1).round(6)
    array([100., 110.])
    """
    row = as_row("rate", rate)
    first = array_of("start", start)
    index: Floats = np.empty((len(row), *np.broadcast_shapes(row.shape[1:], first.shape)))
    index[:lag] = first
    for t in range(lag, len(row)):
        np.multiply(index[t - 1] if t else first, 1 + row[t - lag], out=index[t])
    return index[:, 0] if np.ndim(rate) == 1 and first.ndim == 0 else index


@on_arrays
def first_period(condition: ArrayLike) -> Floats | float:
    """Return the number, from 1, of the first period in which the condition holds; infinity where
    it never does.

    ``condition`` is ``(periods,)`` or ``(periods, trials)``, true where it is not 0; the answer is
    ``(trials,)``, or a float of a flat one. It is NaN where a NaN comes before the condition holds.
    Raises ParameterError for any other shape.

    >>> first_period([[False, False], [True, False]])
    array([ 2., inf])
    """
    row = as_row("condition", condition)
    unknown = np.isnan(row)
    holds = (row != 0) & ~unknown
    periods_until = np.where(holds.any(axis=0), holds.argmax(axis=0) + 1.0, np.inf)
    if unknown.any():
        lost = np.where(unknown.any(axis=0), unknown.argmax(axis=0) + 1.0, np.inf)
        periods_until = np.where(lost < periods_until, np.nan, periods_until)
    return scalar_if(np.ndim(condition) == 1, periods_until)


@on_arrays
def at(row: ArrayLike, period: ArrayLike) -> Floats | float:
    """Return the row's value in the period of that number, from 1; NaN beyond the row.

    ``row`` is ``(periods,)`` or ``(periods, trials)``; ``period`` is a number or one per trial, and
    a fraction counts as the period it lies in. The answer is ``(trials,)``, or a float of a flat
    row and a number. Raises ParameterError for other shapes.

    >>> at([10.0, 20.0, 30.0], 2)
    20.0
    """
    values = as_row("row", row)
    number = np.ceil(array_of("period", period))
    if number.ndim > 1:
        raise ParameterError(f"period must be a number or one per trial, not {number.shape}")
    if number.ndim and values.shape[1] not in (1, len(number)):
        raise ParameterError(f"period has {len(number)} trials, and the row {values.shape[1]}")
    inside = (number >= 1) & (number <= len(values))
    position = np.where(inside, number, 1).astype(np.int64) - 1
    if position.ndim == 0:
        value = values[int(position)] if inside else np.full(values.shape[1:], np.nan)
    elif values.shape[1] == 1:
        value = np.where(inside, values[position, 0], np.nan)
    else:
        value = np.where(inside, values[position, np.arange(values.shape[1])], np.nan)
    return scalar_if(np.ndim(row) == 1 and number.ndim == 0, np.asarray(value))
