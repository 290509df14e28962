"""Solving for internal rates of return, of many trials at once.

With x = 1 / (1 + rate) a rate is a positive root of the polynomial whose coefficients are the
flows. Three steps:

1. Flows that change sign once have exactly one root, by Descartes' rule. Of others, the same rule
  on cumulative flows
   (Norstrom, Journal of Financial and Quantitative Analysis 7, 1972, 1835-1839), for rates above
   and below 0, often shows one too.
2. Where there is one, Halley's method seeks it on log(later flows at x) - log(first flow), which is
  almost a straight line in
   log x. What does not settle in a few steps is bracketed and halved.
3. The roots of all other flows are isolated exactly, in ``irr_isolate``; those of dated flows in
  ``dated``.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.engine.workers import on_threads
from kindynos.finance import irr_isolate

# trials worked on at a time: small enough for the processor's cache, large enough for threads to
# pay
CHUNK = 16_384
UP = 0.15  # in log x
STEPS = 8


class Schedule(Protocol):
    """When flows come, and what follows from it for finding rates."""

    @property
    def reach(self) -> float:
        """The largest size of log x that does not overflow."""

    @property
    def near(self) -> float:
        """A step in log x so short that it leaves an error of its cube."""

    def beginning(self, position: int) -> Schedule:
        """The schedule without its first N flows."""

    def log_ratio(
        self, later: Floats, log_x: Floats, price: Floats
    ) -> tuple[Floats, Floats, Floats]:
        """Log of the present value of all flows after the first over the price, and its two
        derivatives in log x.
        """

    def only_rate(self, flows: Floats) -> Floats:
        """The rate of each column that is known to have exactly one."""

    def all_rates(self, flows: Floats) -> list[Floats]:
        """All rates of each column, lowest first."""


@dataclass(frozen=True)
class Even:
    """Flows, one period apart; the methods are those of ``Schedule``."""

    count: int

    @property
    def reach(self) -> float:
        return 500 / self.count

    @property
    def near(self) -> float:
        return 1e-4 / self.count

    def beginning(self, position: int) -> Even:
        return Even(self.count - position)

    def log_ratio(
        self, later: Floats, log_x: Floats, price: Floats
    ) -> tuple[Floats, Floats, Floats]:
        value, time, variance = (
            _time_moments(later, np.exp(log_x)) if log_x.any() else _moments_at_one(later, log_x)
        )
        return log_x + np.log(value / price), 1 + time, variance

    def only_rate(self, flows: Floats) -> Floats:
        return irr_isolate.only_rate(flows)

    def all_rates(self, flows: Floats) -> list[Floats]:
        return irr_isolate.all_rates(flows)


@dataclass(frozen=True)
class IrrReport:
    """What the rates of each trial are; flat flows count as one trial.

    ``rate`` ``(trials,)`` is the only rate, NaN otherwise. ``count`` ``(trials,)`` is how many
    rates there are.
    """

    rate: Floats
    count: NDArray[np.int64]
    _several: dict[int, Floats]

    @cached_property
    def status(self) -> NDArray[np.str_]:
        """For each trial: ``"unique"``, ``"none"`` or ``"several"``."""
        return np.array(["none", "unique", "several"])[np.minimum(self.count, 2)]

    @cached_property
    def roots(self) -> list[Floats]:
        """For each trial, all its rates, lowest first."""
        return [
            self._several.get(
                trial, self.rate[trial : trial + 1] if self.count[trial] == 1 else self.rate[:0]
            )
            for trial in range(len(self.rate))
        ]


def solve(flows: Floats, schedule: Schedule) -> IrrReport:
    """Return the rates of each column of ``(periods, trials)`` flows."""
    trials = flows.shape[1]
    rate = np.full(trials, np.nan)
    count = np.zeros(trials, dtype=np.int64)
    several: dict[int, Floats] = {}
    parts = [slice(begin, min(begin + CHUNK, trials)) for begin in range(0, trials, CHUNK)]

    def work(span: slice) -> None:
        solution = _solve(flows[:, span], rate[span], count[span], schedule)
        several.update({span.start + trial: roots for trial, roots in solution.items()})

    on_threads(work, parts)
    return IrrReport(rate, count, several)


def _solve(
    flows: Floats, rate: Floats, count: NDArray[np.int64], schedule: Schedule
) -> dict[int, Floats]:
    """Fill in rate and count for ``(periods, trials)`` flows; return the rates of trials that have
    several.
    """
    changes = sign_changes(flows)
    single_change = changes == 1
    many = np.flatnonzero(changes > 1)
    if many.size:
        bound = _count_bound(flows[:, many])
        single_change[many] = bound == 1
        many = many[bound > 1]
    if single_change.any():
        count[single_change] = 1
        # Where nearly all have one rate, working on all is quicker than picking those out. What
        # Halley's method settles on is a rate, and where there is only one it is that.
        halley = (
            _halley(flows, schedule)[single_change]
            if np.count_nonzero(single_change) > 0.8 * single_change.size
            else _halley(flows[:, single_change], schedule)
        )
        rate[single_change] = halley
        lost = single_change & np.isnan(rate)
        if lost.any():
            rate[lost] = schedule.only_rate(flows[:, lost])
        rate += 0.0  # never -0
    several: dict[int, Floats] = {}
    if not many.size:
        return several
    for trial, roots in zip(many, schedule.all_rates(flows[:, many]), strict=True):
        count[trial] = len(roots)
        if len(roots) == 1:
            rate[trial] = roots[0]
        elif len(roots) > 1:
            several[int(trial)] = roots
    return several


def sign_changes(values: Floats) -> NDArray[np.int64]:
    """Count the sign changes down each column, zeros passed over: ``(n, trials)`` to ``(trials,)``;
    0 beside a NaN.
    """
    if (values != 0).all():
        positive = values > 0
        changes: NDArray[np.int64] = np.count_nonzero(positive[1:] != positive[:-1], axis=0)
    else:
        last = np.sign(values[0])
        changes = np.zeros(values.shape[1], dtype=np.int64)
        for row in values[1:]:
            sign = np.sign(row)
            changes += sign * last < 0
            np.copyto(last, sign, where=sign != 0)
    return np.where(np.isfinite(values.sum(axis=0)), changes, 0)


def _count_bound(flows: Floats) -> NDArray[np.int64]:
    """Return an upper bound of the number of rates, exact when it is 0 or 1 (2 or more stands for
    any more).

    Dividing by 1 - x turns flows into cumulative flows, which by Descartes' rule bound the roots
    below x = 1; the same backwards bounds those above.
    """
    total = np.zeros(flows.shape[1], dtype=np.int64)
    for ordered in (flows, flows[::-1]):
        total += np.minimum(sign_changes(ordered), sign_changes(np.cumsum(ordered, axis=0)))
    size = np.abs(flows).sum(axis=0)
    doubtful = np.abs(flows.sum(axis=0)) <= 1e-12 * size  # a rate of 0, which neither side counts
    return np.where(doubtful, 2, total)


def _halley(flows: Floats, schedule: Schedule) -> Floats:
    """Return a rate of each trial where Halley's method finds one, NaN where it does not settle."""
    rate = np.full(flows.shape[1], np.nan)
    if flows[0].all():
        _halley_from(flows, schedule, rate)
        return rate
    first = np.argmax(flows != 0, axis=0)
    for begin in np.unique(first):
        if len(flows) - begin >= 2:
            roots, selected = np.full(np.count_nonzero(first == begin), np.nan), first == begin
            _halley_from(flows[begin:, selected], schedule.beginning(int(begin)), roots)
            rate[selected] = roots
    return rate


def _halley_from(flows: Floats, schedule: Schedule, rate: Floats) -> None:
    """Fill in the rates of trials whose first flow is not 0. A rate that has settled no longer
    moves, whatever others do.
    """
    if len(flows) < 2:
        return
    positive = flows[0] > 0
    if positive.any():
        flows = np.where(positive, -flows, flows)
    later, log_x = flows[1:], np.zeros(flows.shape[1])
    largest, near = schedule.reach, schedule.near
    active, still = np.arange(flows.shape[1]), np.zeros(flows.shape[1], dtype=bool)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        price = -flows[0]
        for _ in range(STEPS):
            step = _halley_step(schedule, price, later, log_x)
            clipped = np.clip(log_x + step, -largest, largest)
            log_x = np.where(still, log_x, clipped)
            # a step that is not a number goes nowhere: its rate is NaN
            still |= ~(np.abs(step) >= near)
            if still.all():
                rate[active] = np.expm1(-log_x)
                break
            if np.count_nonzero(still) > 0.5 * still.size:
                rate[active[still]] = np.expm1(-log_x[still])
                going = ~still
                active, log_x, price, later, still = (
                    active[going],
                    log_x[going],
                    price[going],
                    later[:, going],
                    still[going],
                )
        else:  # those that have settled, whether or not others have
            rate[active[still]] = np.expm1(-log_x[still])


def _halley_step(schedule: Schedule, price: Floats, later: Floats, log_x: Floats) -> Floats:
    """Return Halley's step in log x towards log later(x) = log price; a step up where the later
    flows are worth nothing, or less, so that their value has no logarithm: there the rate is lower.
    """
    gap, slope, variance = schedule.log_ratio(later, log_x, price)
    step = -2 * gap * slope / (2 * slope**2 - gap * variance)
    return np.where(np.isnan(gap), UP, step)


def _time_moments(flows: Floats, x: Floats) -> tuple[Floats, Floats, Floats]:
    """Return the present value, and the mean and the variance of the time of its flows: the slopes
    of its log in log x.
    """
    value, slope, half_curve = flows[-1].copy(), np.zeros_like(x), np.zeros_like(x)
    for row in flows[-2::-1]:  # Horner's rule, with both derivatives
        half_curve *= x
        half_curve += slope
        slope *= x
        slope += value
        value *= x
        value += row
    time = x * slope / value
    return value, time, 2 * x**2 * half_curve / value + time - time**2


def _moments_at_one(flows: Floats, log_x: Floats) -> tuple[Floats, Floats, Floats]:
    """Return what ``_time_moments`` does where every x is 1, without the products."""
    value, slope, half_curve = flows[-1].copy(), np.zeros_like(log_x), np.zeros_like(log_x)
    for row in flows[-2::-1]:
        half_curve += slope
        slope += value
        value += row
    time = slope / value
    return value, time, 2 * half_curve / value + time - time**2
