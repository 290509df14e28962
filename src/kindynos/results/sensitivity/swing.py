"""Each driver moved alone, with all others at their base."""

from __future__ import annotations

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.program.quantities import DependentDriver, DistributionDriver, Driver
from kindynos.results.reached_correlations import ranks
from kindynos.results.sensitivity.inputs import Input, inputs_of, valid_outcome, work_out
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import finite, invalid_argument

MOST_TRIALS = 4096  # in which a driver with a value each period is moved
Case = tuple[float, float, float, float]  # the driver's two values, and the outcome at each


def swing_sensitivity(
    run: SimulatedTrials,
    outcome: str,
    by_period: bool = False,
    *,
    percentiles: tuple[float, float] = (10, 90),
) -> pd.DataFrame:
    """Return the outcome with each driver at its P10 and its P90 and all others at their base, the
    widest swing first.

    A driver of two values, such as an event, and one whose percentiles are the same value,
    moves between its lowest and its highest value; the column ``chance`` has that of the rarer.
    A driver with a value each period is moved as its periods go together: it takes its rows of the
    run, with all others at their base. Its values are then the percentiles of its mean over the
    periods, and the outcomes those of what it does to the outcome. With ``by_period`` each period
    is moved alone; a driver with named parameters is moved by its score, in all periods alike.
    ``attrs["base"]`` is the base case. Raises ParameterError for percentiles out of
    order.
    """
    valid_outcome(run, outcome)
    low, high = (finite("a percentile", q) for q in percentiles)
    if not 0 < low < high < 100:
        raise invalid_argument("percentiles", "a low and a high one between 0 and 100", percentiles)
    inputs = inputs_of(run, outcome, by_period)
    cases, chances = [], []
    for entry in inputs:
        driver, rows = run.program.drivers[entry.driver], entry.rows(run)
        if len(rows) > 1 and not isinstance(driver, DependentDriver):
            cases.append(_together(run, outcome, entry, rows, (low, high)))
            chances.append(np.nan)
        else:
            ends, chance = _ends(driver, rows, (low, high))
            cases.append(_alone(run, outcome, entry, ends))
            chances.append(chance)

    columns = [
        f"driver at P{low:g}",
        f"driver at P{high:g}",
        f"outcome at P{low:g}",
        f"outcome at P{high:g}",
    ]
    index = pd.Index([entry.label for entry in inputs], name="driver")
    frame = pd.DataFrame(cases, columns=columns, index=index)
    frame["swing"] = (frame[columns[3]] - frame[columns[2]]).abs()
    if not np.isnan(chances).all():
        frame["chance"] = chances
    frame.attrs["base"] = float(work_out(run, outcome, _at_base(run, 1), 1)[0])
    return frame.sort_values("swing", ascending=False, kind="stable")


def _at_base(run: SimulatedTrials, trials: int) -> dict[str, Floats]:
    """Return every driver at its base in some trials."""
    return {
        name: np.repeat(base, trials, axis=-1) for name, base in run.program.base_values().items()
    }


def _ends(
    driver: Driver, rows: Floats, percentiles: tuple[float, float]
) -> tuple[tuple[float, float], float]:
    """Return the two values between which a driver moves, and the chance of the rarer of them where
    it has few; of one with named parameters its scores.
    """
    if isinstance(driver, DependentDriver):
        return (percentiles[0] / 100, percentiles[1] / 100), np.nan
    if not isinstance(driver, DistributionDriver):  # one period of a process, as the run has it
        percentile = np.percentile(rows, percentiles)
        return (float(percentile[0]), float(percentile[1])), np.nan
    distribution = driver.distribution
    low, high = (float(distribution.percentile(q)) for q in percentiles)
    if low < high and len(np.unique(rows)) > 2:
        return (low, high), np.nan
    ends = distribution.support
    low, high = ends if np.isfinite(ends).all() else (float(rows.min()), float(rows.max()))
    return (low, high), min(distribution.chance(at=low), distribution.chance(at=high))


def _alone(run: SimulatedTrials, outcome: str, entry: Input, ends: tuple[float, float]) -> Case:
    """Return the case of a driver, or of one period of it, at two values."""
    drawn = _at_base(run, 2)
    rows = np.atleast_2d(drawn[entry.driver])
    rows[slice(None) if entry.period is None else entry.period] = ends
    values = ends
    if isinstance(run.program.drivers[entry.driver], DependentDriver):
        shifted = run.program.evaluate(drawn, 2, [entry.driver])[0][entry.driver]
        values = float(np.mean(shifted[..., 0])), float(np.mean(shifted[..., 1]))
    figures = work_out(run, outcome, drawn, 2)
    return *values, float(figures[0]), float(figures[1])


def _together(
    run: SimulatedTrials, outcome: str, entry: Input, rows: Floats, percentiles: tuple[float, float]
) -> Case:
    """Return the case of a driver whose periods move as they do in the run: the percentiles of its
    mean over the periods, and those of what it does to the outcome.
    """
    trials = min(rows.shape[1], MOST_TRIALS)
    drawn = _at_base(run, trials)
    drawn[entry.driver] = rows[:, :trials]
    effects = work_out(run, outcome, drawn, trials)
    has_value = ~np.isnan(effects)
    if not has_value.any():
        raise RunError(f"{outcome!r} has no value when {entry.driver!r} moves")
    effects, level = effects[has_value], rows[:, :trials].mean(axis=0)[has_value]
    values = np.percentile(level, percentiles)
    ends = np.percentile(effects, percentiles)
    if ranks(level) @ ranks(effects) < 0:  # more of the driver, less of the outcome
        ends = ends[::-1]
    return float(values[0]), float(values[1]), float(ends[0]), float(ends[1])
