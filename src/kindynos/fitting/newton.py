"""Newton's method for many likelihoods at once, with derivatives by differences and steps that
never lose ground.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

STEP = 1e-4  # of the differences; parameters are scaled so that 1 is a large change
LONGEST = 2.0  # a single step of any parameter
LENGTHS = np.array([0.5, 0.25, 0.0625, 2.0**-8, 2.0**-12])  # of a step that is shortened
ENOUGH = 1e-10  # gain in log likelihood below which the search stops
MOST = 80  # steps

LogLikelihood = Callable[[Floats, NDArray[np.int64]], Floats]
"""Maps parameters ``(rows, points, parameters)`` and row numbers to log likelihoods."""


@dataclass(frozen=True)
class NewtonOptimum:
    """Where the log likelihood of each row is highest: ``theta (rows, parameters)``, ``value
    (rows,)``, ``hessian`` there.
    """

    theta: Floats
    value: Floats
    hessian: Floats
    converged: NDArray[np.bool_]

    def row(self, position: int) -> NewtonOptimum:
        """Return one row alone."""
        span = slice(position, position + 1)
        return NewtonOptimum(
            self.theta[span], self.value[span], self.hessian[span], self.converged[span]
        )


def climb(
    likelihood: LogLikelihood,
    theta: Floats,
    low: Floats | None = None,
    high: Floats | None = None,
    most: int = MOST,
) -> NewtonOptimum:
    """Return the summit of each row from its start ``theta (rows, parameters)``, kept from ``low``
    to ``high``.

    The Hessian's negative eigenvalues are taken by their size, which makes every step one uphill; a
    step is shortened until it gains. Source: Nocedal and Wright, Numerical Optimization (2006),
    section 3.4.
    """
    theta = np.array(theta, dtype=np.float64)
    rows, size = theta.shape
    low = np.full(size, -np.inf) if low is None else low
    high = np.full(size, np.inf) if high is None else high
    value, hessian = np.full(rows, -np.inf), np.full((rows, size, size), np.nan)
    converged = np.zeros(rows, dtype=bool)
    active, offsets = np.arange(rows), _stencil(size)
    here = theta
    finite = _finite(likelihood(here[:, None, :] + offsets, active))
    for _ in range(most):
        centre, slope, bend = _derivatives(finite, size)
        theta[active], value[active], hessian[active] = here, centre, bend
        step, gain = _uphill(slope, bend)
        fresh = np.minimum(np.maximum(here + step, low), high)
        done = ~(gain > ENOUGH) | (fresh == here).all(axis=1)
        converged[active[done]] = True
        left = ~done
        if not left.any():
            return NewtonOptimum(theta, value, hessian, converged)
        here, centre, step, fresh, active = (
            here[left],
            centre[left],
            step[left],
            fresh[left],
            active[left],
        )
        # at the new point and around it, in one go
        finite = _finite(likelihood(fresh[:, None, :] + offsets, active))
        lost = ~(finite[:, 0] > centre)
        if lost.any():
            shorter = np.clip(here[lost, None] + LENGTHS[:, None] * step[lost, None], low, high)
            tried = _finite(likelihood(shorter, active[lost]))
            best = tried.argmax(axis=1)
            fresh[lost] = shorter[np.arange(len(best)), best]
            stuck = np.zeros(len(active), dtype=bool)
            stuck[lost] = ~(tried.max(axis=1) > centre[lost])
            converged[active[stuck]] = True
            finite[lost] = _finite(likelihood(fresh[lost][:, None, :] + offsets, active[lost]))
            active, fresh, finite = active[~stuck], fresh[~stuck], finite[~stuck]
            if not len(active):
                break
        here = fresh
        theta[active], value[active] = here, finite[:, 0]
    return NewtonOptimum(theta, value, hessian, converged)


def at_optimum(likelihood: LogLikelihood, theta: Floats) -> NewtonOptimum:
    """Return what lies at points ``theta (rows, parameters)`` that are known to be summits."""
    rows, size = theta.shape
    finite = _finite(likelihood(theta[:, None, :] + _stencil(size), np.arange(rows)))
    centre, _, bend = _derivatives(finite, size)
    return NewtonOptimum(theta, centre, bend, np.ones(rows, dtype=bool))


def _finite(values: Floats) -> Floats:
    return np.where(np.isnan(values), -np.inf, values)


@lru_cache(maxsize=16)
def _stencil(size: int) -> Floats:
    """Return the points around one at which the likelihood is asked: itself, each axis both ways,
    each pair both ways.
    """
    unit = np.eye(size)
    pairs = [unit[i] + unit[j] for i in range(size) for j in range(i)]
    both = np.array(pairs).reshape(-1, size)
    return STEP * np.concatenate([np.zeros((1, size)), unit, -unit, both, -both])


def _derivatives(values: Floats, size: int) -> tuple[Floats, Floats, Floats]:
    centre, up, down = values[:, 0], values[:, 1 : 1 + size], values[:, 1 + size : 1 + 2 * size]
    with np.errstate(invalid="ignore"):
        slope = (up - down) / (2 * STEP)
        bend = np.zeros((len(values), size, size))
        for i in range(size):
            bend[:, i, i] = (up[:, i] - 2 * centre + down[:, i]) / STEP**2
        position, count = 1 + 2 * size, size * (size - 1) // 2
        for i in range(size):
            for j in range(i):
                sides = values[:, position] + values[:, position + count] + 2 * centre
                bend[:, i, j] = bend[:, j, i] = (
                    sides - up[:, i] - up[:, j] - down[:, i] - down[:, j]
                ) / (2 * STEP**2)
                position += 1
    return centre, slope, bend


def _uphill(slope: Floats, bend: Floats) -> tuple[Floats, Floats]:
    """Return the step of each row, and the gain it promises; a row without derivatives promises
    none.
    """
    finite = np.asarray(np.isfinite(slope).all(axis=1) & np.isfinite(bend).all(axis=(1, 2)))
    slope, bend = np.where(finite[:, None], slope, 0.0), np.where(finite[:, None, None], bend, 0.0)
    values, vectors = np.linalg.eigh(-bend)
    sizes = np.abs(values)
    sizes = np.maximum(sizes, 1e-8 * sizes.max(axis=1, keepdims=True) + 1e-12)
    along = np.einsum("rij,ri->rj", vectors, slope)
    step = np.einsum("rij,rj->ri", vectors, along / sizes)
    longest = np.abs(step).max(axis=1, keepdims=True)
    return step * np.minimum(1.0, LONGEST / np.maximum(longest, 1e-300)), (along**2 / sizes).sum(
        axis=1
    )
