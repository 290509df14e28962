"""The chance that simulated paths reach a level, between their steps too.

Between two steps a diffusion is a Brownian bridge: with sd s over the step and gaps a and b to the
level before and after, it is reached with chance exp(-2 a b / s**2). Source: Karatzas and Shreve,
Brownian Motion and Stochastic Calculus (1991), 4.3.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Any, Protocol

import numpy as np

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import proportion
from kindynos.processes.drawing import PathDraws, each_part


class Hitting(Protocol):
    """What is needed of a process; see ``Process``."""

    @property
    def shocks(self) -> int:
        """Standard normals a period."""

    @property
    def gap(self) -> int:
        """The periods before the first one that are drawn too."""

    @property
    def multiplies(self) -> bool:
        """Whether shocks add up in the logarithm."""

    @property
    def start_value(self) -> float:
        """The value before the first period."""

    def _periods_of(self, time: float, steps: int) -> int:
        """Return into how many periods a time is cut."""

    def _bridge(self, shocks: Floats, dt: float) -> Any:
        """Return the sd of the diffusion of each period."""

    def _ahead(self, shocks: Floats, dt: float, at: Any) -> Floats:
        """Return the values after each period, from shocks that begin in the gap."""


def simulated_hit_probability(
    process: Hitting, level: float, within: float, trials: int, seed: int, steps: int
) -> Estimate:
    """Return the share of paths that reach a level before a time, with the chance that they do so
    between two steps.
    """
    missed: Floats = np.empty(trials)
    count = process._periods_of(within, steps)
    start = process.start_value
    scale = np.log if process.multiplies else np.asarray
    goal, side = float(scale(level)), 1.0 if level >= start else -1.0
    drawn = process.gap + count
    draws = PathDraws(count, trials, seed, within / count)

    def work(block: int, span: slice) -> None:
        shocks = draws.normals(process.shocks * drawn, span, block).reshape(
            process.shocks, drawn, -1
        )
        spread = np.broadcast_to(process._bridge(shocks, draws.dt), (drawn, shocks.shape[2]))
        spread = spread[process.gap :]
        values = process._ahead(shocks, draws.dt, process)
        gaps = side * (goal - scale(np.concatenate([np.full((1, values.shape[1]), start), values])))
        kept = np.ones(values.shape[1])
        for (before, after), sd in zip(pairwise(gaps), spread, strict=True):
            reached = (before <= 0) | (after <= 0)
            within_reach = np.maximum(before, 0) * np.maximum(after, 0)
            with np.errstate(over="ignore"):  # of a level that is hardly ever reached
                kept *= -np.expm1(-2 * within_reach / np.maximum(sd**2, 1e-300))
            kept[reached] = 0.0
        missed[span] = kept

    each_part(work, draws.parts(process.shocks * drawn))
    return proportion(1 - missed)
