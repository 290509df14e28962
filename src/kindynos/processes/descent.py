"""Sums of squares that are least within bounds, sought from several starts at once.

Each step is that of Levenberg and Marquardt among the parameters that no bound holds. Source:
Nocedal and Wright, Numerical Optimization (2006), sections 10.3 and 16.7.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

FIRST_DAMPING, LEAST_DAMPING, MOST_DAMPING = 1e-2, 1e-9, 1e9
LESS, MORE = 0.1, 4.0  # times the damping, after a step that gains and one that does not
STILL = 1e-8  # a step so short ends the search
STEPS = 100

Sloped = Callable[[Floats, NDArray[np.int64]], tuple[Floats, Floats]]
"""Maps parameters ``(parameters, some)`` and the numbers of their starts to errors ``(values,
some)`` and their slopes ``(some, values, parameters)``."""


@dataclass(frozen=True)
class Least:
    """Where sums of squares are least: ``theta (parameters, starts)`` and ``squares (starts,)``."""

    theta: Floats
    squares: Floats

    @property
    def best(self) -> int:
        """The number of the start from which the least was reached."""
        return int(np.argmin(self.squares))


def descend(
    sloped: Sloped,
    theta: Floats,
    low: float,
    high: float,
    *,
    held: NDArray[np.bool_] | None = None,
    enough: float = 1e-8,
    steps: int = STEPS,
) -> Least:
    """Return the least sum of squared errors that each start ``theta (parameters, starts)`` leads
    to, its parameters between ``low`` and ``high`` but for those that are ``held (parameters,)``.

    A search ends where a step gains less than a part ``enough`` of the sum.
    """
    theta = theta.copy()
    size, starts = theta.shape
    fixed = np.zeros(size, dtype=np.bool_) if held is None else held
    damping = np.full(starts, FIRST_DAMPING)
    errors, slopes = sloped(theta, np.arange(starts))
    squares = np.asarray((errors**2).sum(axis=0))
    pull = np.einsum("svp,vs->sp", slopes, errors)
    bend = slopes.transpose(0, 2, 1) @ slopes
    going = np.arange(starts) if not fixed.all() else np.empty(0, dtype=np.int64)
    for _ in range(steps):
        if not len(going):
            break
        own = theta[:, going]
        moved = _moved(own, pull[going], bend[going], damping[going], fixed, low, high)
        errors, slopes = sloped(moved, going)
        tried = np.asarray((errors**2).sum(axis=0))
        gains = squares[going] - tried
        better = gains > 0
        ended = np.abs(moved - own).max(axis=0) < STILL
        ended |= better & (gains <= enough * squares[going])
        factor = np.where(better, LESS, MORE)
        damping[going] = np.clip(damping[going] * factor, LEAST_DAMPING, MOST_DAMPING)
        taken = going[better]
        theta[:, taken], squares[taken] = moved[:, better], tried[better]
        pull[taken] = np.einsum("svp,vs->sp", slopes[better], errors[:, better])
        bend[taken] = slopes[better].transpose(0, 2, 1) @ slopes[better]
        going = going[~ended & (damping[going] < MOST_DAMPING)]
    return Least(theta, squares)


def _moved(
    theta: Floats,
    pull: Floats,
    bend: Floats,
    damping: Floats,
    fixed: NDArray[np.bool_],
    low: float,
    high: float,
) -> Floats:
    """Return parameters ``(parameters, starts)`` after a step, those at a bound held to which they
    are pulled beyond it.
    """
    at_bound = ((theta <= low) & (pull.T > 0)) | ((theta >= high) & (pull.T < 0))
    free = ~(at_bound | fixed[:, None]).T
    size = len(theta)
    diagonal = np.einsum("spp->sp", bend)
    ridge = damping[:, None] * np.where(diagonal > 0, diagonal, 1.0)
    whole = np.where(free[:, :, None] & free[:, None, :], bend, 0.0)
    whole += np.eye(size) * np.where(free, ridge, 1.0)[:, None, :]
    step = np.linalg.solve(whole, np.where(free, -pull, 0.0)[..., None])[..., 0]
    return np.asarray(np.clip(theta + step.T, low, high))
