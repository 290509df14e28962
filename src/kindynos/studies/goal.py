"""What solving for a goal gave."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from kindynos.delegation import delegated_to
from kindynos.inference.estimates import Estimate


@dataclass(frozen=True, eq=False)
class Goal:
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

    def __repr__(self) -> str:
        return (
            f"<{self.name} = {self.value!r} makes the {self.what} {self.goal:g}; "
            f"{len(self.evaluations)} values tried>"
        )

    @delegated_to("kindynos.reports.showing", "show")
    def show(self) -> None:
        """Print the value and how it was found as ``kindynos solve`` does."""

    @delegated_to("kindynos.reports.page.page", "write_page")
    def report(self, path: str | Path) -> None:
        """Write a page of it: one file that a browser opens without a network. Raises FileError
        for a path that cannot be written, and without ``kindynos[report]``.
        """

    @delegated_to("kindynos.reports.excel", "write_excel")
    def to_excel(self, path: str | Path) -> None:
        """Write a workbook of it: the answer, the tables with their errors, and whole tables on
        sheets of their own. Raises FileError as ``report`` does.
        """

    @delegated_to("kindynos.reports.page.inline", "inline")
    def _repr_html_(self) -> Any:
        """Return it as a notebook shows it: the answer and the first tables."""

    @delegated_to("kindynos.plots", "goal")
    def plot(self, ax: Any = None) -> Any:
        """Draw the statistic against the value, with the goal and where it is reached."""
