"""Measures of a series of flows besides its net present value and its rates of return."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.finance.cash_flow import npv
from kindynos.finance.notes import note
from kindynos.finance.shapes import as_rate, as_row, joined, on_arrays, scalar_if
from kindynos.validate import array_of


@on_arrays
def mirr(
    finance: ArrayLike, reinvest: ArrayLike, flows: ArrayLike, initial: ArrayLike | None = None
) -> Floats | float:
    """Return the modified internal rate of return per period.

    Outflows are discounted at the ``finance`` rate to time 0 and inflows compounded at the
    ``reinvest`` rate to the last period; the answer is the rate that leads from one to the other.
    ``flows`` is ``(periods,)`` or ``(periods, trials)``; ``initial``, a number or one per trial,
    comes one period before. Both rates are numbers or one per trial. The answer is ``(trials,)``,
    or a float of flat flows; NaN without an outflow or an inflow. Raises ParameterError for a rate
    at or below -1 and for shapes that do not fit.

    Source: Lin, Journal of Business Finance and Accounting 3 (1976), 31-40.

    >>> round(mirr(0.1, 0.12, [-1000.0, 500.0, 400.0, 300.0]), 6)
    0.112044
    """
    row = joined(flows, initial)
    periods = len(row) - 1
    if periods < 1:
        raise ParameterError("needs at least two flows, one of them out and one back")
    rates = [as_rate(rate, flows) for rate in (finance, reinvest)]
    out = -np.asarray(npv(rates[0], np.minimum(row[1:], 0))) - np.minimum(row[0], 0)
    back = np.asarray(npv(rates[1], np.maximum(row[1:], 0))) + np.maximum(row[0], 0)
    lost = ~((out > 0) & (back > 0))
    note("no MIRR: flows all of one sign", int(np.count_nonzero(lost)))
    with np.errstate(all="ignore"):
        rate_of_return = np.where(lost, np.nan, (back / out) ** (1 / periods) * (1 + rates[1]) - 1)
    return scalar_if(np.ndim(flows) == 1 and rate_of_return.size == 1, rate_of_return)


@on_arrays
def payback(flows: ArrayLike, initial: ArrayLike | None = None) -> Floats | float:
    """Return after how many periods the flows have first paid back what was put in; infinity where
    they never do.

    That is when the running total, once it has been below 0, is back at 0; where it never is below
    0, the answer is 0.

    ``flows`` is ``(periods,)`` or ``(periods, trials)``; ``initial``, a number or one per trial,
    comes one period before, and the first of all is time 0. Within a period the flow is taken as
    even, so the answer may be a fraction. It is ``(trials,)``, or a float of flat flows. Raises
    ParameterError for shapes that do not fit.

    >>> payback([-100.0, 40.0, 40.0, 40.0])
    2.5
    """
    return _payback(
        joined(flows, initial), np.ndim(flows) == 1 and (initial is None or np.ndim(initial) == 0)
    )


@on_arrays
def discounted_payback(
    rate: ArrayLike, flows: ArrayLike, initial: ArrayLike | None = None
) -> Floats | float:
    """Return the payback of discounted flows; ``rate`` is a number, one per trial or a row over the
    flows after the first.

    Otherwise as ``payback``. Raises ParameterError also for a rate at or below -1.

    >>> round(discounted_payback(0.1, [-100.0, 60.0, 60.0, 60.0]), 6)
    1.916667
    """
    row = joined(flows, initial)
    rates = as_rate(rate, flows)
    if rates.ndim == 2 and len(rates) != len(row) - 1:
        raise ParameterError(
            f"rate has {len(rates)} periods, and {len(row) - 1} flows come after the first"
        )
    steps = np.broadcast_to(
        1 + np.where(rates > -1, rates, np.nan), (len(row) - 1, *np.shape(rates)[-1:])
    )
    discounted = row[1:] / np.cumprod(steps if steps.ndim == 2 else steps[:, None], axis=0)
    first = np.broadcast_to(row[:1], (1, discounted.shape[1]))
    return _payback(
        np.concatenate([first, discounted]),
        np.ndim(flows) == 1 and row.shape[1] == 1 and np.ndim(rate) == 0,
    )


def _payback(row: Floats, flat: Any) -> Floats | float:
    total = np.cumsum(row, axis=0)
    owed = np.maximum.accumulate(total < 0, axis=0)
    paid = (total >= 0) & owed
    period = paid.argmax(axis=0)
    column = np.arange(row.shape[1])
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        share = -total[period - 1, column] / row[period, column]
    periods_until = np.where(period > 0, period - 1 + share, 0.0)
    periods_until = np.where(paid.any(axis=0), periods_until, np.where(owed[-1], np.inf, 0.0))
    return scalar_if(bool(flat), np.where(np.isnan(total[-1]), np.nan, periods_until))


@on_arrays
def profitability_index(rate: ArrayLike, flows: ArrayLike, initial: ArrayLike) -> Floats | float:
    """Return the present value of the flows for each unit of money put in at time 0, ``-initial``.

    ``rate`` and ``flows`` as for ``npv``; ``initial`` is below 0, a number or one per trial (NaN
    where it is not). Raises ParameterError for a number that is not below 0, and as ``npv`` does.

    >>> profitability_index(0.1, [0.0, 121.0], initial=-80.0)
    1.25
    """
    first = array_of("initial", initial)
    if first.ndim == 0 and not first < 0:
        raise ParameterError(f"initial must be below 0, what is put in, not {float(first)!r}")
    note("nothing put in at time 0", int(np.count_nonzero(first >= 0)))
    value = npv(rate, flows)
    indices = np.asarray(value) / np.where(first < 0, -first, np.nan)
    return scalar_if(isinstance(value, float) and first.ndim == 0, indices)


@on_arrays
def terminal_value(rate: ArrayLike, flow: ArrayLike, growth: ArrayLike = 0.0) -> Floats | float:
    """Return what all flows after the last period are worth at its end, if they grow for ever: flow
    x (1 + g) / (rate - g).

    ``flow`` is that of the last period; all three are numbers or one per trial. A growth at or
    above the rate is not a value: NaN, counted and named in a run. Raises ParameterError where all
    are numbers and it is.

    Source: Gordon and Shapiro, Management Science 3 (1956), 102-110.

    >>> round(terminal_value(0.08, 100.0, 0.02), 2)
    1700.0
    """
    given = {"flow": flow, "rate": rate, "growth": growth}
    last, rates, growths = (array_of(name, value) for name, value in given.items())
    if max(last.ndim, rates.ndim, growths.ndim) > 1:
        raise ParameterError(
            "flow, rate and growth must be numbers or one per trial; of a row use its last"
        )
    if rates.ndim == 0 == growths.ndim and not rates > growths:
        raise ParameterError(
            f"growth {float(growths):g} must be below the rate {float(rates):g}: no finite value"
        )
    lost = rates <= growths
    note("no terminal value: growth at or above the rate", int(np.count_nonzero(lost)))
    values = last * (1 + growths) / np.where(lost, np.nan, rates - growths)
    return scalar_if(values.ndim == 0, np.asarray(values))


@on_arrays
def value_per_share(
    rate: ArrayLike, flows: ArrayLike, growth: ArrayLike, shares: ArrayLike, debt: ArrayLike = 0.0
) -> Floats | float:
    """Return what one share is worth: flows and their terminal value, discounted, less ``debt``
    (net of cash), by ``shares``.

    ``flows`` are to all who provide capital, ``(periods,)`` or ``(periods, trials)``; ``rate`` (the
    cost of capital), ``growth`` after the last period, ``shares`` and ``debt`` are numbers or one
    per trial. The answer is ``(trials,)``, or a float of numbers; NaN where growth reaches the rate
    or there are no shares. Raises ParameterError as ``terminal_value`` does.

    >>> round(value_per_share(0.08, [100.0, 100.0], 0.02, shares=100, debt=500), 2)
    11.36
    """
    row = as_row("flows", flows)
    rates = as_rate(rate, flows)
    count = array_of("shares", shares)
    if count.ndim == 0 and not count > 0:
        raise ParameterError(f"shares must be above 0, not {float(count):g}")
    last = row[-1] if row.shape[1] > 1 else row[-1, 0]
    after = np.asarray(terminal_value(rates, last, growth)) / (1 + rates) ** len(row)
    worth = (
        np.asarray(npv(rates, row if row.shape[1] > 1 else row[:, 0]))
        + after
        - array_of("debt", debt)
    )
    per_share = worth / np.where(count > 0, count, np.nan)
    note("debt above the value of the flows", int(np.count_nonzero(per_share < 0)))
    return scalar_if(
        per_share.ndim == 0 or (np.ndim(flows) == 1 and per_share.size == 1), np.asarray(per_share)
    )
