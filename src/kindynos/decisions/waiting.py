"""What it is worth to be able to wait: a choice that can be made once, in any of several periods.

Going back in time, what acting brings more than waiting on is expected, by a regression, from what
is known in each period, and the choice is made where that is above 0. Payoffs may be realized ones:
no rule sees more of them than what is known tells. The rule is found on half of the trials and
judged on the others, and the other way round, so that it can only be too low. Source: Longstaff and
Schwartz, Review of Financial Studies 14 (2001), 113-147.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z
from kindynos.inference.regression import expected_given
from kindynos.validate import array_of, checked

FEWEST = 400  # trials


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
def value_of_waiting(payoffs: ArrayLike, known: ArrayLike, discount: Any = 1.0) -> WaitingValue:
    """Return what it is worth to act once, or never, when it pays best.

    ``payoffs (periods + 1, trials)`` is what acting brings in each period, in money of that period,
    as it will turn out; ``known`` what is known then, ``(periods + 1, trials)`` or ``(quantities,
    periods + 1, trials)``: a payoff that is known when acting is named there too. ``discount`` is
    the factor of one period, or one per period. Raises ParameterError for arrays that do not fit.

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
    if gain.shape[1] < FEWEST or len(gain) < 2:
        raise ParameterError(f"needs at least {FEWEST} trials and 2 periods")
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
    total = np.concatenate([[1.0], np.cumprod(factors)])
    worth = gain * total[:, None]  # in money of the start
    values, when = _judged(worth, state)
    at_end, _ = _judged(worth[-1:], state[:, -1:])
    acted = np.array([float((when == t).mean()) for t in range(periods + 1)])
    return WaitingValue(_mean(values), float(gain[0].mean()), _mean(at_end), acted)


def _mean(values: Floats) -> Estimate:
    mean, reach = float(values.mean()), Z * float(values.std(ddof=1)) / math.sqrt(len(values))
    return symmetrical(mean, reach)


def _judged(worth: Floats, state: Floats) -> tuple[Floats, NDArray[np.int64]]:
    """Return what each trial brings under the rule that the other half of the trials gave, and in
    which period it acts, -1 for never.
    """
    trials = worth.shape[1]
    values, when = np.zeros(trials), np.full(trials, -1)
    first = np.arange(trials) % 2 == 0
    for found_on, judged_on in ((first, ~first), (~first, first)):
        ahead, acts = np.zeros(trials), np.full(trials, -1)
        for t in range(len(worth) - 1, -1, -1):
            more = worth[t] - ahead
            expects = expected_given(state[:, t, found_on], more[found_on])
            act = expects(state[:, t]) > 0
            ahead, acts = np.where(act, worth[t], ahead), np.where(act, t, acts)
        values[judged_on], when[judged_on] = ahead[judged_on], acts[judged_on]
    return values, when
