"""Conditions that must hold in every trial: in how many they are broken, and in which."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.results.trials import SimulatedTrials

COLUMNS = ["broken in", "share", "first trial", "worst trial", "periods"]


def broken_periods(values: Floats) -> NDArray[np.int64]:
    """Return in how many periods a condition is broken in each trial: values ``(trials,)`` or
    ``(periods, trials)`` that are 1 where it holds; one that has no value is broken.
    """
    broken = ~(np.atleast_2d(values) == 1)
    return np.asarray(broken.sum(axis=0))


def conditions_held(run: SimulatedTrials) -> pd.DataFrame:
    """Return a row for each condition that must hold: in how many trials it is broken, their share,
    the first one, the worst, and in how many periods it is broken there; see ``Run.checks``.
    """
    rows = {}
    for name in run.program.checks:
        periods = broken_periods(run[name].values)
        broken = np.flatnonzero(periods)
        count = len(broken)
        worst = int(np.argmax(periods)) if count else None
        first = int(broken[0]) if count else None
        rows[name] = (count, count / run.size, first, worst, int(periods.max(initial=0)))
    table = pd.DataFrame.from_dict(rows, orient="index", columns=COLUMNS)
    return table.astype({"first trial": "Int64", "worst trial": "Int64"}).rename_axis("check")


def raise_broken(run: SimulatedTrials) -> None:
    """Raise RunError for the first condition that is broken in some trial."""
    for name, row in conditions_held(run).iterrows():
        if row["broken in"]:
            raise RunError(
                f"is broken in {int(row['broken in']):,} of {run.size:,} trials, first in trial "
                f"{row['first trial']}; seed {run.seed}",
                owner=f"check {name!r}",
            )


def broken_sentences(run: SimulatedTrials) -> list[str]:
    """Return for each condition that is broken in some trial in how many, and which to look at."""
    sentences = []
    for name, row in conditions_held(run).iterrows():
        if not row["broken in"]:
            continue
        periods = f", in {row['periods']} periods" if run[str(name)].is_row else ""
        first, worst = row["first trial"], row["worst trial"]
        which = f"first and worst in trial {first}"
        if first != worst:
            which = f"first in trial {first}, worst in trial {worst}"
        sentences.append(
            f"The condition {name} is broken in {row['broken in']:,} of {run.size:,} trials "
            f"({100 * row['share']:.2g} %): {which}{periods}."
        )
    return sentences
