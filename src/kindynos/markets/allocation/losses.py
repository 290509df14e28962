"""Measures of loss over scenarios, convex and piecewise linear in the weights: the mean of the
worst losses, and falls.

Each gives its value and gradient at weights, and a linear model that lies below it everywhere and
is refined where a solution shows that it is too low. Scenarios are returns ``(scenarios,
holdings)``; a loss is the negative of a return.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

CLOSE = 1e-12
LEAST_VALUE = 1e-9  # of a value, where holdings that are sold short could lose more than all
# scenarios near the value at risk that have an equation of their own at first, for each holding
BAND = 4
ADDED = 200  # scenarios that get one after a step
EPISODES = 25  # falls that get one after a step


@dataclass(frozen=True, eq=False)
class LinearModel:
    """The model as a linear program: ``rows @ (weights, extra) <= 0``; the last extra
    variable is the model's value.

    ``cost`` is the measure as a sum of (weights, extra); ``lower`` the least that each extra
    variable may be.
    """

    rows: Floats
    cost: Floats
    lower: Floats


class Measure(ABC):
    """A convex measure of loss, positive where money is lost."""

    @abstractmethod
    def value(self, weights: Floats) -> float:
        """Return the measure at weights ``(holdings,)``."""

    @abstractmethod
    def gradient(self, weights: Floats) -> Floats:
        """Return its gradient there; gradient @ weights is the value."""

    @abstractmethod
    def start(self, weights: Floats) -> None:
        """Begin the model near some weights."""

    @abstractmethod
    def model(self) -> LinearModel:
        """Return the model as it is."""

    @abstractmethod
    def refine(self, weights: Floats, extra: Floats, near: bool) -> None:
        """Make the model exact at a solution; ``near`` allows to let go of what lies far from
        it.
        """


class WorstMean(Measure):
    """The mean of the ``count`` worst losses, which need not be whole.

    min over q of q + sum((loss - q)+) / count, Rockafellar and Uryasev, Journal of Risk 2 (2000),
    21-41. In the model losses surely beyond q are added up, those surely within it are left out,
    and only those in a band have a variable of their own.
    """

    def __init__(self, returns: Floats, count: float) -> None:
        self._losses = np.ascontiguousarray(-returns)
        self.count = count
        self._band: NDArray[np.bool_] = np.zeros(len(returns), dtype=bool)
        self._beyond = self._band.copy()

    def _tail(self, weights: Floats) -> tuple[Floats, NDArray[Any]]:
        """Return the worst losses' places and the weight that each has in the mean."""
        losses = self._losses @ weights
        number = int(np.ceil(self.count - 1e-9))
        places = np.argpartition(losses, len(losses) - number)[len(losses) - number :]
        shares = np.full(number, 1 / self.count)
        shares[int(np.argmin(losses[places]))] = 1 - (number - 1) / self.count
        return shares, places

    def value(self, weights: Floats) -> float:
        return float(self.gradient(weights) @ weights)

    def gradient(self, weights: Floats) -> Floats:
        shares, places = self._tail(weights)
        return np.asarray(shares @ self._losses[places])

    def start(self, weights: Floats) -> None:
        losses = self._losses @ weights
        _, places = self._tail(weights)
        edge = losses[places].min()
        self._band[:] = False
        self._band[np.argsort(np.abs(losses - edge))[: BAND * (len(weights) + 4)]] = True
        self._beyond = (losses > edge) & ~self._band

    def model(self) -> LinearModel:
        inside = np.flatnonzero(self._band)
        n, size = self._losses.shape[1], len(inside)
        rows = np.hstack([self._losses[inside], -np.ones((size, 1)), -np.eye(size)])
        cost = np.r_[
            self._losses[self._beyond].sum(axis=0) / self.count,
            1 - np.count_nonzero(self._beyond) / self.count,
            np.full(size, 1 / self.count),
        ]
        lower = np.r_[-np.inf, np.zeros(size)]
        assert rows.shape[1] == n + 1 + size
        return LinearModel(rows, cost, lower)

    def refine(self, weights: Floats, extra: Floats, near: bool) -> None:
        losses, edge = self._losses @ weights, extra[0]
        gaps = np.abs(losses - edge)
        wrong = np.where(self._beyond, losses < edge - CLOSE, losses > edge + CLOSE) & ~self._band
        added = np.flatnonzero(wrong)
        added = added[np.argsort(-gaps[added])[:ADDED]]
        if near:
            reach = np.partition(gaps, min(6 * len(weights) + 20, len(gaps) - 1))[
                min(6 * len(weights) + 20, len(gaps) - 1)
            ]
            far = self._band & (gaps > reach)
            self._band &= ~far
            self._beyond = np.where(far, losses > edge, self._beyond)
        self._band[added], self._beyond[added] = True, False


def log_fall(drawdown: float) -> float:
    """Return a drawdown, a share of the highest value so far, as a fall of the log of the value."""
    return -math.log1p(-min(drawdown, 1 - LEAST_VALUE))


def compounded_drawdown(returns: Floats, weights: Floats) -> float:
    """Return the deepest fall of the value below its highest so far, as a share of that, with
    weights set back each period; 1 where all is lost.
    """
    logs = np.log(np.maximum(1 + returns @ weights, LEAST_VALUE))
    path = np.concatenate([[0.0], np.cumsum(logs)])
    return float(-np.expm1(-(np.maximum.accumulate(path) - path).max()))


def log_tangent(returns: Floats, weights: Floats) -> Floats:
    """Return returns ``(periods, holdings)`` whose sum at any weights that add up to 1 is the
    tangent, at these weights, of the log growth with them.
    """
    growth = np.maximum(1 + returns @ weights, LEAST_VALUE)
    slopes = returns / growth[:, None]
    return slopes + (np.log(growth) - slopes @ weights)[:, None]


class MaxDrawdown(Measure):
    """The deepest fall of the running sum of returns below its highest value so far, with weights
    set back each time: of log growth, that of the log of the value.

    max over s <= t of (C_s - C_t)'w, where C is the running sum and C_0 = 0: the model has the
    episodes met so far.
    """

    def __init__(self, returns: Floats) -> None:
        self._sums = np.vstack([np.zeros(returns.shape[1]), np.cumsum(returns, axis=0)])
        self._cuts: list[Floats] = []

    def _episodes(self, weights: Floats) -> list[tuple[float, int, int]]:
        """Return the deepest fall from each peak: its depth, the peak's place and the trough's."""
        path = self._sums @ weights
        peaks = np.maximum.accumulate(path)
        starts = np.flatnonzero(np.r_[True, peaks[1:] > peaks[:-1]])
        falls = peaks - path
        rows = []
        for begin, end in zip(starts.tolist(), [*starts[1:].tolist(), len(path)], strict=True):
            trough = begin + int(np.argmax(falls[begin:end]))
            rows.append((float(falls[trough]), begin, trough))
        return sorted(rows, reverse=True)

    def value(self, weights: Floats) -> float:
        return self._episodes(weights)[0][0]

    def gradient(self, weights: Floats) -> Floats:
        _, peak, trough = self._episodes(weights)[0]
        return np.asarray(self._sums[peak] - self._sums[trough])

    def start(self, weights: Floats) -> None:
        self._cuts = []
        self.refine(weights, np.array([-np.inf]), near=False)

    def model(self) -> LinearModel:
        n = self._sums.shape[1]
        return LinearModel(
            np.hstack([np.array(self._cuts), -np.ones((len(self._cuts), 1))]),
            np.r_[np.zeros(n), 1.0],
            np.array([0.0]),
        )

    def refine(self, weights: Floats, extra: Floats, near: bool) -> None:
        deeper = [
            (p, t) for depth, p, t in self._episodes(weights)[:EPISODES] if depth > extra[0] + CLOSE
        ]
        self._cuts += [self._sums[p] - self._sums[t] for p, t in deeper]
