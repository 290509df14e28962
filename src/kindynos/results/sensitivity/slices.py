"""The outcome across slices of a driver, and the drivers in the outcome's worst trials: both read
off a run as it is.
"""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import jackknife_error
from kindynos.inference.sample import FEWEST, FEWEST_BLOCKS, Sample
from kindynos.results.result import bad_side
from kindynos.results.sensitivity.inputs import inputs_of, ranked_outcome, valid_outcome
from kindynos.results.statistics import mean, percentile
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import check_integer, finite, one_of, proper_fraction

FEWEST_IN_SLICE = 5
GROUPS = 20  # of blocks, left out one at a time


def conditional_sensitivity(
    run: SimulatedTrials,
    outcome: str,
    by_period: bool = False,
    *,
    slices: int = 10,
    percentile: float | None = None,
) -> pd.DataFrame:
    """Return the outcome's mean, or a percentile of it, across equal slices of each driver, all
    else remaining random.

    A row a driver, a column a slice of its trials from the lowest tenth to the highest, and
    ``range``, the largest less the smallest; the widest first. A driver with a value each period is
    sliced by its mean over the periods, unless ``by_period``. ``attrs["errors"]`` has each driver's
    95 % errors of its slices (NaN below 200 trials in a slice). Raises RunError with too few trials
    for the slices.
    """
    values, has_value = valid_outcome(run, outcome)
    count = check_integer("slices", slices, least=2)
    trials = int(np.count_nonzero(has_value))
    if trials < FEWEST_IN_SLICE * count:
        raise RunError(
            f"{count} slices need at least {FEWEST_IN_SLICE * count} trials with a value, not "
            f"{trials}"
        )
    q = None if percentile is None else finite("percentile", percentile)
    labels = [f"{100 * i / count:.3g}-{100 * (i + 1) / count:.3g} %" for i in range(count)]
    inputs = inputs_of(run, outcome, by_period)
    records = []
    for entry in inputs:
        order = np.argsort(entry.rows(run)[:, has_value].mean(axis=0), kind="stable")
        records.append(
            [_figure(some, q) for some in np.array_split(values[has_value][order], count)]
        )
    index = pd.Index([entry.label for entry in inputs], name="driver")
    frame = pd.DataFrame(
        [[float(figure) for figure in row] for row in records], columns=labels, index=index
    )
    frame.attrs["errors"] = {
        entry.label: [figure.error for figure in row]
        for entry, row in zip(inputs, records, strict=True)
    }
    frame["range"] = frame[labels].max(axis=1) - frame[labels].min(axis=1)
    frame.attrs["figure"] = "mean" if q is None else f"P{q:g}"
    return frame.sort_values("range", ascending=False, kind="stable")


def _figure(values: Floats, q: float | None) -> Estimate:
    """Return the mean, or a percentile, of the trials of a slice, which lie in it at random."""
    sample = Sample(
        values,
        np.linspace(0, len(values), min(GROUPS, len(values)) + 1).astype(np.int64),
        together=1,
    )
    return mean(sample) if q is None else percentile(sample, q)


def tail_sensitivity(
    run: SimulatedTrials,
    outcome: str,
    by_period: bool = False,
    *,
    worst: float = 0.05,
    side: str | None = None,
) -> pd.DataFrame:
    """Return what the drivers looked like in the worst trials of an outcome against all trials:
    what goes wrong then.

    ``worst`` is the share of trials taken, from the outcome's ``side`` "low" or "high" (default:
    the bad one). Columns: mean, P10, P50 and P90 of the driver in all and in the worst trials, and
    ``shift``, the difference of the means in sd of all, with its ``error`` by the jackknife that
    leaves out a twentieth of the blocks at a time; the largest first. A driver with a value each
    period is read by its mean over the periods, unless ``by_period``. Raises RunError with too few
    trials.
    """
    values, has_value = ranked_outcome(run, outcome)
    tail_trials = proper_fraction("worst", worst)
    side = one_of("side", bad_side(run[outcome].better) if side is None else side, ("low", "high"))
    count = round(tail_trials * int(np.count_nonzero(has_value)))
    if count < FEWEST_IN_SLICE:
        raise RunError(
            f"the worst {100 * tail_trials:g} % are {count} trials; at least {FEWEST_IN_SLICE} are "
            "needed"
        )
    outcomes = values[has_value] if side == "low" else -values[has_value]
    selected = np.argsort(outcomes, kind="stable")[:count]
    inputs = inputs_of(run, outcome, by_period)
    rows = np.array([entry.rows(run)[:, has_value].mean(axis=0) for entry in inputs])
    shifts, errors = (
        _shifts(rows, selected),
        _shift_errors(rows, outcomes, tail_trials, run.drawing.blocks.bounds, has_value),
    )
    records = []
    for everyone, shift, error in zip(rows, shifts, errors, strict=True):
        figures = [
            (tail_trials.mean(), *np.percentile(tail_trials, [10, 50, 90]))
            for tail_trials in (everyone, everyone[selected])
        ]
        records.append([*figures[0], *figures[1], float(shift), float(error)])
    names = [
        f"{label}, {which}" for which in ("all", "worst") for label in ("mean", "P10", "P50", "P90")
    ]
    frame = pd.DataFrame(
        records,
        columns=[*names, "shift", "error"],
        index=pd.Index([entry.label for entry in inputs], name="driver"),
    )
    frame.attrs |= {"trials": count, "worst": tail_trials, "side": side}
    return frame.sort_values("shift", key=np.abs, ascending=False, kind="stable")


def _shifts(rows: Floats, selected: NDArray[np.int64]) -> Floats:
    """Return for each row the mean of the chosen trials less that of all, in sd of all."""
    spread = rows.std(axis=1)
    return np.asarray(
        (rows[:, selected].mean(axis=1) - rows.mean(axis=1)) / np.where(spread > 0, spread, np.inf)
    )


def _shift_errors(
    rows: Floats,
    outcomes: Floats,
    piece: float,
    bounds: NDArray[np.int64],
    has_value: NDArray[np.bool_],
) -> Floats:
    """Return the 95 % errors of the shifts; NaN with too few trials or blocks."""
    bounds = np.unique(np.concatenate([[0], np.cumsum(has_value)])[bounds])
    blocks = len(bounds) - 1
    if len(outcomes) < FEWEST or blocks < FEWEST_BLOCKS:
        return np.full(len(rows), np.nan)
    groups = min(GROUPS, blocks)
    group = (np.searchsorted(bounds, np.arange(len(outcomes)), side="right") - 1) * groups // blocks
    left_out = []
    for omitted in range(groups):
        kept = group != omitted
        values = outcomes[kept]
        count = max(1, round(piece * len(values)))
        left_out.append(_shifts(rows[:, kept], np.argpartition(values, count - 1)[:count]))
    return np.array([jackknife_error(shifts) for shifts in np.transpose(left_out)])
