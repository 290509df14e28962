"""What it is worth to be able to wait: a choice that can be made once, in any of several periods.

Going back in time, the value of waiting on is estimated by a regression on what is known in each
period, and the choice is made where acting brings more. The rule is found on half of the trials and
valued on the others, so that it can only be too low: no foreknowledge slips in. Source: Longstaff
and Schwartz, Review of Financial Studies 14 (2001), 113-147.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import combinations_with_replacement
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z
from kindynos.validate import Count, array_of, checked

DEGREE = 4
FEWEST = 100  # trials in which acting brings something, for a regression


@dataclass(frozen=True)
class WaitingValue:
    """What a choice is worth that may wait: ``value`` with the best rule that was found,
    ``at_start`` if it were made at once, ``at_end`` if it had to wait for the last period.
    ``acted`` is the share of trials in which it is made in each period.
    """

    value: Estimate
    at_start: float
    at_end: Estimate
    acted: Floats

    @property
    def worth_of_waiting(self) -> float:
        """How much more it is worth than the better of deciding at once, and of leaving it."""
        return float(self.value) - max(self.at_start, 0.0)


@checked
def value_of_waiting(
    payoffs: ArrayLike, known: ArrayLike, discount: Any = 1.0, degree: Count = DEGREE
) -> WaitingValue:
    """Return what it is worth to act once, or never, when it pays best.

    ``payoffs (periods + 1, trials)`` is what acting brings in each period, in money of that period;
    ``known`` what is known then, ``(periods + 1, trials)`` or ``(quantities, periods + 1,
    trials)``; ``discount`` the factor of one period, or one per period. Raises ParameterError for
    arrays that do not fit.

    >>> from kindynos import GeometricBrownianMotion
    >>> price = GeometricBrownianMotion(36.0, 0.06, 0.2).paths(50, 20_000, seed=1, dt=1 / 50)
    >>> found = value_of_waiting(np.maximum(40 - price, 0), price, discount=np.exp(-0.06 / 50))
    >>> 4.3 < found.value < 4.6
    True
    """
    gain, state = array_of("payoffs", payoffs), array_of("known", known)
    state = state[None] if state.ndim == 2 else state
    if gain.ndim != 2 or state.ndim != 3 or state.shape[1:] != gain.shape:
        raise ParameterError(
            "payoffs must be (periods + 1, trials) and known the same, or one more axis in "
            f"front, not {gain.shape} and "
            f"{np.shape(known)}"
        )
    if gain.shape[1] < 4 * FEWEST or len(gain) < 2:
        raise ParameterError(f"needs at least {4 * FEWEST} trials and 2 periods")
    if not (np.isfinite(gain).all() and np.isfinite(state).all()):
        raise ParameterError("payoffs and what is known must be finite")
    periods = len(gain) - 1
    given = array_of("discount", discount)
    if given.shape not in ((), (periods,)):
        raise ParameterError(
            f"discount must be one factor, or one of each of the {periods} periods, not "
            f"{given.shape}"
        )
    factors = np.broadcast_to(given, (periods,)).astype(np.float64)
    if (factors <= 0).any():
        raise ParameterError("discount factors must be above 0")
    rules = _fit(gain[:, ::2], state[:, :, ::2], factors, degree)
    values, when = _applied(gain[:, 1::2], state[:, :, 1::2], factors, rules, degree)
    total = np.concatenate([[1.0], np.cumprod(factors)])
    last = np.maximum(gain[-1], 0.0) * total[-1]
    acted = np.array([float((when == t).mean()) for t in range(periods + 1)])
    return WaitingValue(_mean(values), float(gain[0].mean()), _mean(last), acted)


def _mean(values: Floats) -> Estimate:
    mean, reach = float(values.mean()), Z * float(values.std(ddof=1)) / math.sqrt(len(values))
    return symmetrical(mean, reach)


def _basis(state: Floats, gain: Floats, centre: Floats, spread: Floats, degree: int) -> Floats:
    """Return the terms of the regression ``(trials, terms)``: powers and products of what is known,
    and the payoff itself.
    """
    scaled = (state - centre[:, None]) / spread[:, None]
    columns = [np.ones(state.shape[1])]
    for power in range(1, degree + 1):
        for selected in combinations_with_replacement(range(len(state)), power):
            columns.append(np.prod(scaled[list(selected)], axis=0))
    return np.stack([*columns, gain], axis=1)


def _fit(gain: Floats, state: Floats, factors: Floats, degree: int) -> list[Any]:
    """Return for each period the rule of waiting: the coefficients of what waiting brings, None
    where it is always better.
    """
    periods = len(gain) - 1
    ahead = np.maximum(gain[-1], 0.0)
    rules: list[Any] = [None] * (periods + 1)
    for t in range(periods - 1, -1, -1):
        ahead = ahead * factors[t]
        paying = gain[t] > 0
        if paying.sum() < FEWEST:
            continue
        own, now = state[:, t, paying], gain[t, paying]
        centre, spread = own.mean(axis=1), own.std(axis=1)
        spread = np.where(spread > 0, spread, 1.0)
        terms = _basis(own, now, centre, spread, degree)
        coefficients = np.linalg.lstsq(terms, ahead[paying], rcond=None)[0]
        rules[t] = (centre, spread, coefficients)
        act = now > terms @ coefficients
        ahead[np.flatnonzero(paying)[act]] = now[act]
    return rules


def _applied(
    gain: Floats, state: Floats, factors: Floats, rules: list[Any], degree: int
) -> tuple[Floats, Any]:
    """Return what the rules bring in trials that they were not fitted to, and in which period
    they act; -1 for never.
    """
    periods, trials = len(gain) - 1, gain.shape[1]
    total = np.concatenate([[1.0], np.cumprod(factors)])
    values, when = np.zeros(trials), np.full(trials, -1)
    for t in range(periods + 1):
        open_ = (when < 0) & (gain[t] > 0)
        if t < periods:
            if rules[t] is None:
                continue
            centre, spread, coefficients = rules[t]
            places = np.flatnonzero(open_)
            terms = _basis(state[:, t, places], gain[t, places], centre, spread, degree)
            places = places[gain[t, places] > terms @ coefficients]
        else:
            places = np.flatnonzero(open_)
        values[places], when[places] = total[t] * gain[t, places], t
    return values, when
