"""Each driver moved alone, with all others at their base."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from kindynos.program.quantities import DependentDriver, DistributionDriver
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome, work_out
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import finite, invalid_argument


def swing_sensitivity(
    run: SimulatedTrials,
    outcome: str,
    by_period: bool = False,
    *,
    percentiles: tuple[float, float] = (10, 90),
) -> pd.DataFrame:
    """Return the outcome with each driver at its P10 and its P90 and all others at their base, the
    widest swing first.

    All cases are evaluated in one array evaluation. A driver with a value each period is moved in
    all periods together, or one by one with ``by_period``. ``attrs["base"]`` is the base case.
    Raises ParameterError for percentiles out of order.
    """
    valid_outcome(run, outcome)
    low, high = (finite("swing", "a percentile", q) for q in percentiles)
    if not 0 < low < high < 100:
        raise invalid_argument(
            "swing", "percentiles", "a low and a high one between 0 and 100", percentiles
        )
    inputs = inputs_of(run, outcome, by_period)
    trials = 2 * len(inputs) + 1
    drawn = {
        name: np.repeat(base, trials, axis=-1) for name, base in run.program.base_values().items()
    }  # the last trial is the base case
    ends = []
    for place, entry in enumerate(inputs):
        driver = run.program.drivers[entry.driver]
        # its score is moved, with its parameters at their base
        if isinstance(driver, DependentDriver):
            pair: list[Any] = [low / 100, high / 100]
        elif isinstance(driver, DistributionDriver):
            pair = [
                float(driver.distribution.percentile(low)),
                float(driver.distribution.percentile(high)),
            ]
        else:  # period by period, as the run has them
            pair = list(np.percentile(entry.rows(run), [low, high], axis=1))
        ends.append([float(np.mean(value)) for value in pair])
        rows = np.atleast_2d(drawn[entry.driver])
        for side, value in enumerate(pair):
            rows[slice(None) if entry.period is None else entry.period, 2 * place + side] = (
                np.squeeze(value)
            )
    for place, entry in enumerate(inputs):
        if isinstance(run.program.drivers[entry.driver], DependentDriver):
            moved = run.program.evaluate(drawn, trials, [entry.driver])[0][entry.driver]
            ends[place] = [float(np.mean(moved[..., 2 * place + side])) for side in (0, 1)]
    figures = work_out(run, outcome, drawn, trials)
    columns = [
        f"driver at P{low:g}",
        f"driver at P{high:g}",
        f"outcome at P{low:g}",
        f"outcome at P{high:g}",
    ]
    frame = pd.DataFrame(
        [[*pair, figures[2 * i], figures[2 * i + 1]] for i, pair in enumerate(ends)],
        columns=columns,
        index=pd.Index([entry.label for entry in inputs], name="driver"),
    )
    frame["swing"] = (frame[columns[3]] - frame[columns[2]]).abs()
    frame.attrs["base"] = float(figures[-1])
    return frame.sort_values("swing", ascending=False, kind="stable")
