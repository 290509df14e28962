"""What the measures of sensitivity share: the inputs of a run, its outcome, and working it out at
other drivers.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.results.reached_correlations import ranks
from kindynos.results.result import Result
from kindynos.results.trials import SimulatedTrials


@dataclass(frozen=True)
class Input:
    """A driver, or one period of it."""

    label: str
    driver: str
    period: int | None = None

    def rows(self, run: SimulatedTrials) -> Floats:
        """Its values in the run, ``(1, trials)`` or ``(periods, trials)``."""
        values = np.atleast_2d(run[self.driver].values)
        return values if self.period is None else values[self.period : self.period + 1]


def inputs_of(
    run: SimulatedTrials, outcome: str, by_period: bool, everyone: bool = False
) -> list[Input]:
    """Return the drivers that reach the outcome, or all of them; those with a value each period one
    by one where asked.

    Raises RunError when there is none.
    """
    reach = run.program.ancestors([outcome])
    inputs = []
    for name, driver in run.program.drivers.items():
        if name == outcome or (name not in reach and not everyone):
            continue
        if by_period and driver.each_period:
            inputs += [
                Input(f"{name} {label}", name, period) for period, label in enumerate(run.labels)
            ]
        else:
            inputs.append(Input(name, name))
    if not inputs and not everyone:
        raise RunError(f"no driver reaches {outcome!r}")
    return inputs


def valid_outcome(
    run: SimulatedTrials, outcome: str, fewest: int = 2
) -> tuple[Floats, NDArray[np.bool_]]:
    """Return the outcome's values and which trials have one; raises RunError for a row, when too
    few have one, and for infinite ones, which have no variance.
    """
    result = _one_number(run, outcome)
    endless = float(np.isinf(result.values).mean())
    if endless:
        raise RunError(
            f"{outcome!r} is infinite in {100 * endless:.3g} % of the trials, so that it has no "
            "variance to share out; method 'rank' ranks these last, and the drivers of a chance "
            f"are those of a line such as '{outcome} < 100'"
        )
    has_value = ~np.isnan(result.values)
    if np.count_nonzero(has_value) < fewest:
        raise RunError(f"{outcome!r} has no two trials with a value")
    return result.values, has_value


def ranked_outcome(run: SimulatedTrials, outcome: str) -> tuple[Floats, NDArray[np.bool_]]:
    """Return the outcome's values and which trials have one, where those without a value rank as
    ``missing`` says; where some are infinite, the ranks of all in place of the values. Raises
    RunError for a row.
    """
    values = _one_number(run, outcome).ranked.values
    has_value = ~np.isnan(values)
    if np.isinf(values).any():
        ranked = np.full(len(values), np.nan)
        ranked[has_value] = ranks(values[has_value])
        values = ranked
    return values, has_value


def _one_number(run: SimulatedTrials, outcome: str) -> Result:
    result = run[outcome]
    if result.is_row:
        raise RunError(
            f"{outcome!r} is a row; ask for a quantity with one number per trial, such as "
            f"total({outcome})"
        )
    return result


def work_out(
    run: SimulatedTrials, outcome: str, drawn: Mapping[str, Floats], trials: int
) -> Floats:
    """Return the outcome at other values of the drivers, ``(trials,)``."""
    missing = [
        name
        for name in run.program.ancestors([outcome])
        if name in run.program.drivers and name not in drawn
    ]
    if missing:
        raise RunError(f"no values for {missing[0]!r}", unknown=missing[0], known=drawn)
    values, _ = run.program.evaluate(drawn, trials, [outcome])
    return np.broadcast_to(values[outcome], (trials,))
