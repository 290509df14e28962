"""Simulated counts of a cohort: statistics, moves of one trial, differences, and what each chance
does.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.canvas import Figure
from kindynos.cohorts.chain import chances_of
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import Seed, checked_seed, stream
from kindynos.validate import Count, check_integer, checked, finite, known_name

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.cohorts.cohort import Cohort

BLOCK = 8_192
PERCENTILES = (10, 50, 90)


@dataclass(frozen=True)
class CohortResult(Reported):
    """Counts ``values (states, periods + 1, trials)`` of a cohort, with the seed that reproduces
    them.

    ``result["in dock"]`` are those of one state ``(periods + 1, trials)``.
    """

    cohort: Cohort
    values: Floats
    seed: int

    def __getitem__(self, state: str) -> Floats:
        known_name("state", state, self.cohort.states)
        counts: Floats = self.values[list(self.cohort.states).index(state)]
        return counts

    @property
    def periods(self) -> int:
        """The number of periods."""
        return int(self.values.shape[1]) - 1

    @property
    def trials(self) -> int:
        """The number of trials."""
        return int(self.values.shape[2])

    @cached_property
    def expected(self) -> Any:
        """The expected counts in closed form, None where the chances leave none."""
        return self.cohort.expected(self.periods)

    def table(self) -> pd.DataFrame:
        """Return a DataFrame, a row for each state and period: expected count, mean with its error,
        sd, P10, P50 and P90.
        """
        import pandas as pd

        rows = {}
        for i, state in enumerate(self.cohort.states):
            for t in range(self.periods + 1):
                counts = self.values[i, t]
                sd = float(counts.std(ddof=1)) if self.trials > 1 else 0.0
                ends = np.percentile(counts, PERCENTILES)
                expected, error = (
                    float(self.expected.loc[state, t]),
                    Z * sd / math.sqrt(self.trials),
                )
                rows[state, t] = (expected, float(counts.mean()), error, sd, *map(float, ends))
        columns = ["expected", "mean", "error", "sd", *(f"P{q}" for q in PERCENTILES)]
        table = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        table.index = pd.MultiIndex.from_tuples(rows, names=["state", "period"])
        return table

    @checked
    def moves(self, trial: int) -> pd.DataFrame:
        """Return how many things moved from where to where in each period of one trial, a
        DataFrame; those that stay are left out.

        Raises ParameterError for a trial that is not there.
        """
        import pandas as pd

        if check_integer("trial", trial, least=0) >= self.trials:
            raise ParameterError(f"trial must be from 0 to {self.trials - 1}, not {trial}")
        block, position = divmod(trial, BLOCK)
        size = min(BLOCK, self.trials - block * BLOCK)
        scores = np.maximum(
            stream(self.seed, "cohort", block).random((self.periods, size)), 2.0**-54
        )
        by_name: dict[tuple[int, int], Floats] = {}
        self.cohort._evolve(
            np.ascontiguousarray(scores[:, position : position + 1]),
            self.cohort._matrices(),
            by_name,
        )
        states = self.cohort.states
        rows = {
            f"{states[i]} -> {states[j]}": np.concatenate(
                [counts[:, 0], np.zeros(self.periods - len(counts))]
            )
            for (i, j), counts in sorted(by_name.items())
        }
        table = pd.DataFrame.from_dict(
            rows, orient="index", columns=range(1, self.periods + 1)
        ).astype(int)
        table.index.name = "move"
        return table

    @checked
    def against(self, other: CohortResult) -> pd.DataFrame:
        """Return the difference of the mean counts of this from another, a DataFrame with a row for
        each state and period.

        With one seed the draws are shared, and ``error`` is that of the difference trial by trial.
        Raises ParameterError for results of other states, periods or trials.
        """
        import pandas as pd

        if (
            not isinstance(other, CohortResult)
            or other.values.shape != self.values.shape
            or other.cohort.states != self.cohort.states
        ):
            raise ParameterError("needs a result of the same states, periods and trials")
        paired = self.seed == other.seed
        rows = {}
        for i, state in enumerate(self.cohort.states):
            for t in range(self.periods + 1):
                a, b = self.values[i, t], other.values[i, t]
                spread = (
                    float((a - b).var(ddof=1)) if paired else float(a.var(ddof=1) + b.var(ddof=1))
                )
                rows[state, t] = (float(a.mean() - b.mean()), Z * math.sqrt(spread / self.trials))
        table = pd.DataFrame.from_dict(rows, orient="index", columns=["difference", "error"])
        table.index = pd.MultiIndex.from_tuples(rows, names=["state", "period"])
        return table

    @delegated_to("kindynos.plots", "cohort")
    def plot(self, what: str = "fans", figure: Figure | None = None) -> Figure:
        """Draw a fan for each state (``"fans"``), or the expected counts stacked with bands
        (``"stacked"``); return the figure.
        """


def simulate(cohort: Cohort, periods: int, trials: int = 10_000, seed: Seed = None) -> CohortResult:
    """Return simulated counts; see ``Cohort.simulate``."""
    selected = checked_seed(seed)
    return CohortResult(cohort, cohort.counts(periods, trials, selected), selected)


@checked
def sensitivity(
    cohort: Cohort,
    state: str,
    periods: Count,
    change: float = 0.01,
    trials: int = 10_000,
    seed: int = 1,
) -> pd.DataFrame:
    """Return what each chance does to the count of a state; see ``Cohort.sensitivity``."""
    import pandas as pd

    known_name("state", state, cohort.states)
    if not 0 < abs(finite("change", change)) < 1:
        raise ParameterError(f"change must be between -1 and 1 and other than 0, not {change:g}")
    chances = chances_of(cohort)
    size, target = len(chances), list(cohort.states).index(state)
    expected = cohort.expected(periods).to_numpy()
    powers = [np.eye(size)[:, target]]
    for _ in range(periods):
        powers.append(chances @ powers[-1])  # the chance of being there 0, 1, 2, ... periods later
    base = cohort.counts(periods, trials, seed)[target, -1]
    rows = {}
    for i in range(size):
        for j in range(size):
            if (
                i == j
                or not 0 <= chances[i, j] + change <= 1
                or not 0 <= chances[i, i] - change <= 1
            ):
                continue
            leaving = expected[i, :periods]
            slope = float(
                sum(
                    leaving[t] * (powers[periods - t - 1][j] - powers[periods - t - 1][i])
                    for t in range(periods)
                )
            )
            copied = chances.copy()
            copied[i, j] += change
            copied[i, i] -= change
            other = _with_chances(cohort, copied)
            gap = other.counts(periods, trials, seed)[target, -1] - base
            effect = float(other.expected(periods).to_numpy()[target, -1] - expected[target, -1])
            error = Z * float(gap.std(ddof=1)) / math.sqrt(trials)
            rows[f"{cohort.states[i]} -> {cohort.states[j]}"] = (
                float(chances[i, j]),
                slope,
                effect,
                float(gap.mean()),
                error,
            )
    table = pd.DataFrame.from_dict(
        rows, orient="index", columns=["chance", "derivative", "effect", "simulated", "error"]
    )
    table.index.name = "move"
    return table.sort_values("effect", key=abs, ascending=False, kind="stable")


def _with_chances(cohort: Cohort, chances: Floats) -> Cohort:
    from dataclasses import replace

    return replace(
        cohort, transition=chances / chances.sum(axis=1, keepdims=True), remainder_state=None
    )
