"""Net present value."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.finance.shapes import as_rate, as_row, on_arrays, scalar_if
from kindynos.literals import FlowTiming
from kindynos.validate import array_of, one_of


@on_arrays
def npv(
    rate: ArrayLike, flows: ArrayLike, initial: ArrayLike = 0.0, timing: FlowTiming = "end"
) -> Floats | float:
    """Return the net present value of flows at the ends of periods 1 to n, and of ``initial`` at
    time 0.

    ``timing="mid"`` has the flows come in the middle of each period, ``"start"`` at its beginning.

    ``rate`` is a fraction per period: a number, one per trial ``(trials,)``, or a row ``(periods,
    trials)``. ``flows`` is ``(periods,)`` or ``(periods, trials)``; ``initial`` is a number or one
    per trial. The answer is ``(trials,)``, or a float when nothing differs by trial; it is NaN for
    trials with a rate at or below -1. Raises ParameterError for such a rate given as a number, and
    for shapes that do not fit.

    Source: Brealey, Myers and Allen, Principles of Corporate Finance, chapter 2.

    >>> npv(0.1, [0.0, 121.0], initial=-90)
    10.0
    """
    one_of("timing", timing, ("end", "mid", "start"))
    row = as_row("flows", flows)
    rates = as_rate(rate, flows)
    first = array_of("initial", initial)
    if first.ndim > 1:
        raise ParameterError(f"initial must be a number or one per trial, not {first.shape}")
    periods = row.shape[0]
    if rates.ndim == 2 and rates.shape[0] != periods:
        raise ParameterError(f"rate has {rates.shape[0]} periods and flows have {periods}")
    discount = np.asarray(1 / (1 + np.where(rates > -1, rates, np.nan)), dtype=np.float64)
    by_period: Floats = (
        discount if rates.ndim == 2 else np.broadcast_to(discount, (periods, *rates.shape))
    )
    shape = np.broadcast_shapes(row.shape[1:], by_period.shape[1:], first.shape)
    value: Floats = np.zeros(shape)
    for t in range(periods - 1, -1, -1):
        if timing == "end":
            value += row[t]
            value *= by_period[t]
        else:
            value *= by_period[t]
            value += row[t] * np.sqrt(by_period[t]) if timing == "mid" else row[t]
    value += first
    flat = np.ndim(flows) == 1 and rates.ndim == 0 and first.ndim == 0
    return scalar_if(flat, value)
