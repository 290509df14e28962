"""The outcome across slices of a driver, and the drivers in the outcome's worst trials: both read off a run as it is."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from kindynos.errors import RunError
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome
from kindynos.validate import finite, one_of, share, whole

if TYPE_CHECKING:
    from kindynos.results.run import Run

FEWEST_IN_SLICE = 5


def conditional_sensitivity(
    run: Run, outcome: str, by_period: bool = False, slices: int = 10, percentile: float | None = None
) -> pd.DataFrame:
    """Return the outcome's mean, or a percentile of it, across equal slices of each driver, all else remaining random.

    A row a driver, a column a slice of its trials from the lowest tenth to the highest, and ``range``, the largest less the
    smallest; the widest first. A driver with a value each period is sliced by its mean over the periods, unless
    ``by_period``. Raises RunError with too few trials for the slices.
    """
    values, valid = valid_outcome(run, outcome)
    count = whole("conditional", "slices", slices, least=2)
    trials = int(np.count_nonzero(valid))
    if trials < FEWEST_IN_SLICE * count:
        raise RunError(f"sensitivity: {count} slices need at least {FEWEST_IN_SLICE * count} trials with a value, not {trials}")
    q = None if percentile is None else finite("conditional", "percentile", percentile)
    labels = [f"{100 * i / count:.3g}-{100 * (i + 1) / count:.3g} %" for i in range(count)]
    inputs = inputs_of(run, outcome, by_period)
    records = []
    for entry in inputs:
        order = np.argsort(entry.rows(run)[:, valid].mean(axis=0), kind="stable")
        parts = np.array_split(values[valid][order], count)
        records.append([float(part.mean() if q is None else np.percentile(part, q)) for part in parts])
    frame = pd.DataFrame(records, columns=labels, index=pd.Index([entry.label for entry in inputs], name="driver"))
    frame["range"] = frame[labels].max(axis=1) - frame[labels].min(axis=1)
    frame.attrs["figure"] = "mean" if q is None else f"P{q:g}"
    return frame.sort_values("range", ascending=False, kind="stable")


def tail_sensitivity(run: Run, outcome: str, by_period: bool = False, worst: float = 0.05, side: str = "low") -> pd.DataFrame:
    """Return what the drivers looked like in the worst trials of an outcome against all trials: what goes wrong then.

    ``worst`` is the share of trials taken, from the outcome's ``side`` "low" or "high". Columns: mean, P10, P50 and P90 of the
    driver in all and in the worst trials, and ``shift``, the difference of the means in sd of all; the largest first. A driver
    with a value each period is read by its mean over the periods, unless ``by_period``. Raises RunError with too few trials.
    """
    values, valid = valid_outcome(run, outcome)
    part = share("tail", "worst", worst, closed=False)
    one_of("tail", "side", side, ("low", "high"))
    count = round(part * int(np.count_nonzero(valid)))
    if count < FEWEST_IN_SLICE:
        raise RunError(f"sensitivity: the worst {100 * part:g} % are {count} trials; at least {FEWEST_IN_SLICE} are needed")
    order = np.argsort(values[valid], kind="stable")
    chosen = order[:count] if side == "low" else order[-count:]
    inputs = inputs_of(run, outcome, by_period)
    records = []
    for entry in inputs:
        everyone = entry.rows(run)[:, valid].mean(axis=0)
        tail, sd = everyone[chosen], float(everyone.std())
        shift = float(tail.mean() - everyone.mean()) / sd if sd > 0 else 0.0
        figures = [(part.mean(), *np.percentile(part, [10, 50, 90])) for part in (everyone, tail)]
        records.append([*figures[0], *figures[1], shift])
    names = [f"{word}, {which}" for which in ("all", "worst") for word in ("mean", "P10", "P50", "P90")]
    frame = pd.DataFrame(records, columns=[*names, "shift"], index=pd.Index([entry.label for entry in inputs], name="driver"))
    frame.attrs |= {"trials": count, "worst": part, "side": side}
    return frame.sort_values("shift", key=np.abs, ascending=False, kind="stable")
