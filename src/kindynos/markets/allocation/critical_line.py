"""The exact frontier of mean and variance: an active-set solver for its lower end, and the line
from corner to corner.

For each trade-off t the weights minimize x'Qx/2 - t c'x subject to A x = b and l <= x <= u. With
the set of variables that lie between their bounds held, the solution is linear in t; it bends where
one of them meets a bound or where the multiplier of a bound changes its sign. These corners are the
whole frontier.

Source: Markowitz, Naval Research Logistics Quarterly 3 (1956), 111-133; Markowitz and Todd,
Mean-Variance Analysis in Portfolio Choice and Capital Markets (2000), chapters 7 to 9.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.markets.allocation.region import System

EDGE = 1e-11  # distance from a bound at which a variable counts as lying on it
SIGN = 1e-10  # size of a multiplier that counts as 0, in units of the gradient
PATIENCE = 12  # pivots for each variable before giving up


class CriticalLine:
    """The state of the line: values x, the variables between their bounds (``free``), and the
    trade-off reached.
    """

    def __init__(self, system: System, covariance: Floats, gain: Floats) -> None:
        count = len(covariance)
        self.system, self.count = system, count
        self.size = len(system.lower)
        risk_scale = float(np.trace(covariance)) / count
        self.quadratic = covariance / risk_scale
        full = -system.cost
        full[:count] += gain
        gain_scale = float(np.abs(full).max()) or 1.0
        self.gain = full / gain_scale
        self.x = vertex(system) if len(system.right) > 1 else _filled(system)
        self.free = self._basis()

    def _basis(self) -> np.ndarray[Any, np.dtype[np.bool_]]:
        """Return variables between their bounds, completed to as many independent columns as there
        are equations.
        """
        s = self.system
        for i, j in s.twins.items():  # what is bought and sold of the same holding cancels
            least = min(self.x[i], self.x[j])
            self.x[i] -= least
            self.x[j] -= least
        free = (self.x > s.lower + EDGE) & (self.x < s.upper - EDGE)
        left = np.linalg.svd(s.matrix[:, free])
        # directions of the equations that no free variable reaches
        missing = left.U[:, int((left.S > 1e-9).sum()) :]
        if missing.shape[1]:
            from scipy.linalg import qr

            reach = missing.T @ s.matrix
            reach[:, free] = 0.0
            free[qr(reach, mode="economic", pivoting=True)[2][: missing.shape[1]]] = True
        return free

    @cached_property
    def _bounds(self) -> Floats:
        return np.stack([self.system.lower, self.system.upper])

    def _solved(self) -> tuple[Floats, Floats]:
        """Return the solution with the free variables free, as a constant and a slope in the
        trade-off.

        Each of the two holds x and after it the gradient less the equations' multipliers, ``(2,
        size)`` together.
        """
        free, count = np.flatnonzero(self.free), self.count
        s = self.system
        values = np.where(self.free, 0.0, self.x)
        rows, inner = len(s.right), len(free)
        weights = free[free < count]
        matrix = np.zeros((inner + rows, inner + rows))
        matrix[: len(weights), : len(weights)] = self.quadratic[np.ix_(weights, weights)]
        matrix[inner:, :inner] = s.matrix[:, free]
        matrix[:inner, inner:] = s.matrix[:, free].T
        right = np.zeros((inner + rows, 2))
        right[: len(weights), 0] = -self.quadratic[weights] @ values[:count]
        right[inner:, 0] = s.right - s.matrix @ values
        right[:inner, 1] = self.gain[free]
        solution = np.linalg.solve(matrix, right)
        x = np.stack([values, np.zeros(self.size)], axis=1)
        x[free] = solution[:inner]
        gradient = s.matrix.T @ solution[inner:]
        gradient[:count] += self.quadratic @ x[:count]
        gradient[:, 1] -= self.gain
        return x.T, gradient.T

    def lowest_variance(self) -> None:
        """Go to the weights of the least variance, from the vertex of the start, by the primal
        active-set method.
        """
        s = self.system
        for step in range(PATIENCE * self.size):
            (target, _), (gradient, _) = self._solved()
            move = target - self.x
            with np.errstate(divide="ignore", invalid="ignore"):
                rooms = np.where(move < 0, (s.lower - self.x) / move, (s.upper - self.x) / move)
            rooms[~self.free | (np.abs(move) < 1e-14)] = np.inf
            block = int(np.argmin(rooms))
            if rooms[block] < 1 - 1e-12:
                self.x = self.x + max(rooms[block], 0.0) * move
                self._fix(block, bool(move[block] > 0))
                continue
            self.x = target
            wrong = self._wrong_signs(gradient)
            if not (wrong > SIGN).any():
                return
            candidates = np.flatnonzero(wrong > SIGN)
            # The steepest one; after long work the first, which cannot go in circles (Bland's
            # rule).
            self.free[int(candidates[0] if step > 3 * self.size else np.argmax(wrong))] = True
        raise RunError("the search for the least variance did not end")

    def _wrong_signs(self, gradient: Floats) -> Floats:
        """Return by how much each bound's multiplier has the wrong sign; 0 for variables that are
        free or stay fixed.
        """
        s = self.system
        at_lower = self.x <= s.lower + EDGE
        wrong = np.where(at_lower, -gradient, gradient)
        wrong[self.free | (s.upper - s.lower < EDGE)] = 0.0
        for i, j in s.twins.items():
            if self.free[j]:
                wrong[i] = 0.0
        return wrong

    def _fix(self, position: int, at_upper: bool) -> None:
        self.free[position] = False
        self.x[position] = self._bounds[int(at_upper), position]

    def corners(self) -> Floats:
        """Return the weights at all corners from the least variance to the highest mean,
        ``(corners, holdings)``.
        """
        self.lowest_variance()
        reached, latest = 0.0, -1
        rows = [self.x[: self.count].copy()]
        for _ in range(PATIENCE * self.size):
            x, gradient = self._solved()
            at, position, side = self._next(x, gradient, reached, latest)
            self.x = x[0] + (at if np.isfinite(at) else reached) * x[1]
            if np.abs(self.x[: self.count] - rows[-1]).max() > EDGE:
                rows.append(self.x[: self.count].copy())
            if not np.isfinite(at):
                return np.array(rows)
            reached, latest = at, position
            if self.free[position]:
                self._fix(position, side)
            else:
                self.free[position] = True
        raise RunError("the frontier has no end")

    def _next(
        self, x: Floats, gradient: Floats, reached: float, latest: int
    ) -> tuple[float, int, bool]:
        """Return the trade-off of the next corner, the variable that changes there, and whether it
        meets its upper bound.
        """
        s = self.system
        with np.errstate(divide="ignore", invalid="ignore"):
            ends = np.where(x[1] < 0, (s.lower - x[0]) / x[1], (s.upper - x[0]) / x[1])
            signs = -gradient[0] / gradient[1]
        ends[~self.free | (np.abs(x[1]) < 1e-13)] = np.inf
        at_lower = self.x <= s.lower + EDGE
        turning = np.where(at_lower, gradient[1] < -1e-13, gradient[1] > 1e-13)
        signs[self.free | ~turning | (s.upper - s.lower < EDGE)] = np.inf
        for i, j in s.twins.items():
            if self.free[j]:
                signs[i] = np.inf
        events = np.minimum(ends, signs)
        if latest >= 0:
            events[latest] = np.where(
                events[latest] <= reached * (1 + 1e-9) + 1e-13, np.inf, events[latest]
            )
        events = np.maximum(events, reached)
        position = int(np.argmin(events))
        return float(events[position]), position, bool(x[1, position] > 0)


def _filled(system: System) -> Floats:
    """Return a corner where weights have bounds alone: filled up one after the other until they add
    up to 1.
    """
    room = system.upper - system.lower
    before = np.cumsum(room) - room
    return np.asarray(
        system.lower + np.clip(system.right[0] - system.lower.sum() - before, 0.0, room)
    )


def vertex(system: System, gain: Floats | None = None) -> Floats:
    """Return a corner of the region, that of the highest gain where one is given; raises RunError
    where there is none.
    """
    from scipy.optimize import linprog

    solution = linprog(
        np.zeros(len(system.lower)) if gain is None else -gain,
        A_eq=system.matrix,
        b_eq=system.right,
        bounds=np.stack([system.lower, system.upper], axis=1),
        method="highs-ds",
    )
    if solution.status == 2:
        raise RunError("no weights meet all bounds, groups and limits together")
    if solution.status != 0:
        raise RunError(f"the linear program failed: {solution.message}")
    return np.asarray(np.clip(solution.x, system.lower, system.upper))


def corners(system: System, covariance: Floats, gain: Floats) -> Floats:
    """Return the corners ``(corners, holdings)`` of a region's frontier, for a covariance and means
    ``(holdings,)``.
    """
    try:
        return CriticalLine(system, covariance, gain).corners()
    except (RunError, np.linalg.LinAlgError):
        # Corners that fall together can lead in circles; means that differ by less than matters
        # take them apart.
        nudges = 1e-9 * np.abs(gain).max() * np.linspace(-1, 1, len(gain))
        return CriticalLine(system, covariance, gain + nudges).corners()


def least_variance(system: System, covariance: Floats) -> Floats:
    """Return the weights of the least variance ``(holdings,)`` of a region."""
    line = CriticalLine(system, covariance, np.zeros(len(covariance)))
    line.lowest_variance()
    return line.x[: line.count].copy()
