"""Net present value and rates of return of flows on dates, in years of 365 days.

With y = log(1 + rate) and times in years a rate is a root of f(y) = sum of flow x exp(-time y). One
root is sought as for even flows; all of them are found by Rolle's theorem: between neighbouring
roots of its derivative f times exp(first time x y) has at most one. That derivative has one term
less, so the roots are found level by level, from the last two flows up.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.finance.internal_rate import unique_rates
from kindynos.finance.irr_isolate import SAME, TOUCHES, bisect
from kindynos.finance.rates import solve
from kindynos.finance.shapes import as_rate, as_row, on_arrays, scalar_if
from kindynos.validate import invalid_argument, shown

YEAR = 365.0  # days


@on_arrays
def npv_dated(rate: ArrayLike, flows: ArrayLike, dates: Sequence[Any]) -> Floats | float:
    """Return the net present value, on the first date, of flows on dates.

    ``rate`` is a fraction per year, a number or one per trial; ``flows`` is ``(dates,)`` or
    ``(dates, trials)``; ``dates`` are dates or texts such as ``"2028-03-31"``, in any order, of
    which several flows may share one. A flow n days after the first date counts
    1 / (1 + rate)^(n / 365). The answer is ``(trials,)``, or a float; NaN in trials with a rate at
    or below -1. Raises ParameterError for what is not a date, for such a rate given as a number
    and for shapes that do not fit.

    >>> round(npv_dated(0.1, [-100.0, 110.0], ["2028-01-01", "2028-12-31"]), 6)
    0.0
    """
    row, years = _by_date(as_row("flows", flows), dates)
    rates = as_rate(rate, flows)
    if rates.ndim > 1:
        raise ParameterError("rate must be a number or one per trial, per year")
    force = np.log1p(np.where(rates > -1, rates, np.nan))
    value = np.zeros(np.broadcast_shapes(row.shape[1:], force.shape))
    for flow, year in zip(row, years, strict=True):
        value += flow * np.exp(-year * force)
    return scalar_if(np.ndim(flows) == 1 and rates.ndim == 0, value)


@on_arrays
def irr_dated(flows: ArrayLike, dates: Sequence[Any]) -> Floats | float:
    """Return the internal rate of return per year of flows on dates: NaN where none exists, or more
    than one does.

    Arguments and errors as for ``npv_dated``; rates are exact to 1e-10 of 1 + rate. All trials are
    solved at once, bracketed.

    >>> round(irr_dated([-100.0, 110.0], ["2028-01-01", "2028-12-31"]), 9)
    0.1
    """
    row, years = _by_date(as_row("flows", flows), dates)
    return unique_rates(row, solve(row, Dated(years)), flat=np.ndim(flows) == 1)


FIRST, LAST = np.datetime64("0001-01-01"), np.datetime64("9999-12-31")


def _by_date(row: Floats, dates: Sequence[Any]) -> tuple[Floats, Floats]:
    """Return the flows by date, those of one date added up, and the years since the first date."""
    days = _days(dates, len(row))
    distinct, places = np.unique(days, return_inverse=True)
    years = np.asarray((distinct - distinct[:1]).astype(np.float64) / YEAR)
    if len(distinct) == len(days) and (np.diff(places) > 0).all():
        return row, years
    joined = np.zeros((len(distinct), *row.shape[1:]))
    np.add.at(joined, places, row)
    return joined, years


def _days(dates: Sequence[Any], count: int) -> NDArray[np.datetime64]:
    """Return the dates as days."""
    days: list[np.datetime64] = []
    if not isinstance(dates, Iterable) or isinstance(dates, str | bytes):
        raise invalid_argument("dates", "a list of dates", dates)
    for position, date in enumerate(dates):
        try:
            days.append(np.datetime64(date, "D"))
            if not (np.isnat(days[-1]) or FIRST <= days[-1] <= LAST):
                raise ValueError
        except (TypeError, ValueError, OverflowError):
            raise ParameterError(
                f"date {position + 1} must be a date such as '2028-03-31', not {shown(date)}"
            ) from None
        if np.isnat(days[-1]):
            raise ParameterError(f"date {position + 1} is missing")
    if len(days) != count:
        raise ParameterError(f"{count} flows need as many dates, not {len(days)}")
    return np.array(days, dtype="datetime64[D]")


@dataclass(frozen=True, eq=False)
class Dated:
    """Flows at times in years, the first at 0; the methods are those of ``Schedule``."""

    times: Floats

    @property
    def reach(self) -> float:
        return float(500 / self.times[-1])

    @property
    def near(self) -> float:
        return 1e-4 / max(float(self.times[-1]), 1.0)

    def beginning(self, position: int) -> Dated:
        return Dated(self.times[position:] - self.times[position])

    def log_ratio(
        self, later: Floats, log_x: Floats, price: Floats
    ) -> tuple[Floats, Floats, Floats]:
        value, first, second = np.zeros_like(log_x), np.zeros_like(log_x), np.zeros_like(log_x)
        for row, time in zip(later, self.times[1:], strict=True):
            if log_x.any():
                term = log_x * time
                np.exp(term, out=term)
                term *= row
            else:  # the first step is at a rate of 0
                term = row.copy()
            value += term
            term *= time
            first += term
            term *= time
            second += term
        mean = first / value
        return np.log(value / price), mean, second / value - mean**2

    def only_rate(self, flows: Floats) -> Floats:
        low, high = self._bounds(flows)
        sign = np.sign(self._evaluate(flows, low)[0])
        return np.expm1(bisect(flows, low, high, sign, self._evaluate, least=1.0))

    def all_rates(self, flows: Floats) -> list[Floats]:
        columns = np.arange(flows.shape[1])
        levels = [flows]
        for position in range(len(flows) - 2):
            levels.append(levels[-1] * np.maximum(self.times - self.times[position], 0)[:, None])
        roots = np.full((flows.shape[1], 1), np.nan)
        for level in reversed(levels):
            roots = self._between(level, roots, columns)
        return [np.expm1(_distinct(root[~np.isnan(root)])) for root in roots]

    def _between(self, flows: Floats, turns: Floats, columns: NDArray[np.int64]) -> Floats:
        """Return the roots of each column between its turning points, ``(columns, most)``, in order
        and filled with NaN.
        """
        low, high = self._bounds(flows)
        inside = np.where(
            np.isnan(turns), high[:, None], np.clip(turns, low[:, None], high[:, None])
        )
        knots = np.column_stack([low, inside, high])
        every = np.repeat(columns, knots.shape[1])
        value, size = (
            self._value(flows[:, every], knots.reshape(-1)),
            self._value(np.abs(flows[:, every]), knots.reshape(-1)),
        )
        sign = np.where(np.abs(value) <= TOUCHES * size, 0.0, np.sign(value)).reshape(knots.shape)
        owner, gap = np.nonzero(sign[:, :-1] * sign[:, 1:] < 0)
        crossing = np.full((len(columns), knots.shape[1] - 1), np.nan)
        if owner.size:
            ends = knots[owner, gap], knots[owner, gap + 1]
            crossing[owner, gap] = bisect(
                flows[:, owner], *ends, sign[owner, gap], self._evaluate, least=1.0
            )
        touching = np.where((sign == 0) & (size.reshape(knots.shape) > 0), knots, np.nan)
        ordered: Floats = np.sort(np.column_stack([crossing, touching]), axis=1)
        most = max(1, int((~np.isnan(ordered)).sum(axis=1).max(initial=0)))
        return ordered[:, :most]

    def _bounds(self, flows: Floats) -> tuple[Floats, Floats]:
        """Return for each column between which y all roots lie: beyond, the first or the last flow
        outweighs all others.
        """
        ends = []
        for ordered, times in ((flows[::-1], -self.times[::-1]), (flows, self.times)):
            first = np.argmax(ordered != 0, axis=0)
            leading = np.abs(ordered[first, np.arange(flows.shape[1])])
            gaps = np.append(np.diff(times), times[-1] - times[0])[first]
            others = np.maximum(np.abs(ordered).sum(axis=0), np.finfo(float).tiny)
            with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
                ends.append(np.nan_to_num(np.log(others / leading) / gaps, posinf=0.0) + 1)
        return -ends[0], ends[1]

    def _value(self, flows: Floats, y: Floats) -> Floats:
        return self._evaluate(flows, y)[0]

    def _evaluate(self, flows: Floats, y: Floats) -> tuple[Floats, Floats]:
        """Return value and slope at ``y``, both scaled by one positive factor a column so that
        nothing overflows.
        """
        if not flows.shape[1]:
            return np.zeros(0), np.zeros(0)
        some = flows != 0
        first, last = np.argmax(some, axis=0), len(flows) - 1 - np.argmax(some[::-1], axis=0)
        origin = np.where(y > 0, self.times[first], self.times[last])
        terms = np.exp(-np.where(some, self.times[:, None] - origin, 0) * y) * flows
        return terms.sum(axis=0), -(self.times[:, None] * terms).sum(axis=0)


def _distinct(roots: Floats) -> Floats:
    """Return roots in y without those that are the same but for rounding."""
    keep = np.ones(len(roots), dtype=bool)
    keep[1:] = np.diff(roots) > SAME
    return roots[keep]
