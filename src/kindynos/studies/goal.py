"""What solving for a goal gave."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.inference.estimates import Estimate


@dataclass(frozen=True, eq=False)
class Goal(Reported):
    """The ``value`` of a given at which a statistic reaches its goal, with its error, and all that
    was tried on the way.

    ``value`` is an Estimate: the error is the statistic's own, over its slope. ``evaluations`` has
    the columns value, statistic, error, low and high, all on the same draws; its ``plot`` shows the
    statistic against the value.
    """

    name: str
    what: str
    goal: float
    value: Estimate
    evaluations: pd.DataFrame
    trials: int
    seed: int
    unit: str | None = None
    outcome_unit: str | None = None
    without_value: float = 0.0
    """The largest share of trials without a value, in what was tried; figures are over the
    others."""
    others: tuple[float, ...] = ()
    """Further values in the range at which the goal is reached, about."""
    jump: tuple[float, float] | None = None
    """From where to where the statistic jumps over the goal at ``value``; None where it reaches
    it."""

    def __repr__(self) -> str:
        return (
            f"<{self.name} = {self.value!r} makes the {self.what} {self.goal:g}; "
            f"{len(self.evaluations)} values tried>"
        )

    @delegated_to("kindynos.plots", "goal")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the statistic against the value, with the goal and where it is reached."""
