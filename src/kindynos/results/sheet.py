"""Sheets: all quantities of one case, or of each trial, as pandas shows them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.program.program import Program
from kindynos.results.trials import SimulatedTrials


def sheet(program: Program, values: Mapping[str, Floats]) -> pd.DataFrame:
    """Return one case as a sheet: quantities down, a column ``value`` for single numbers and one
    for each period.

    ``values`` holds numbers and rows ``(periods,)``; what has no place in a sheet, such as a table,
    is left out.
    """
    labels = program.timeline.labels
    rows = {}
    for name in [*program.givens, *program.drivers, *program.order]:
        if name not in values or not program.shapes[name].array:
            continue
        value = np.asarray(values[name], dtype=np.float64)
        if program.shapes[name].row:
            rows[name] = [np.nan, *np.broadcast_to(value.reshape(-1), len(labels))]
        else:
            rows[name] = [float(value.reshape(-1)[0]), *[np.nan] * len(labels)]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=["value", *labels])
    frame.index.name = "quantity"
    return frame


def trials_side_by_side(run: SimulatedTrials) -> pd.DataFrame:
    """Return the sheets of all trials of a small run: quantities down (rows by period), trials
    across.
    """
    sheets = []
    for number in range(run.size):
        batch, position = run.drawing.blocks.find(number)
        values = {name: value[..., position] for name, value in run.batch(batch).items()}
        sheets.append(sheet(run.program, values).stack().dropna())
    frame = pd.concat(sheets, axis=1, keys=range(run.size))
    frame.index.names = ["quantity", "period"]
    frame.columns.name = "trial"
    return frame
