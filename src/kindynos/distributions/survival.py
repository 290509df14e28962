"""Ages at death from a table of the chances to die within a year.

Source: Dickson, Hardy and Waters, Actuarial Mathematics for Life Contingent Risks (2013),
chapter 3.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import FileError, ParameterError
from kindynos.tables.reader import read_table
from kindynos.validate import finite

LEFT = 0.01  # the share that may still live at the end of a table
HEADINGS = {"age": ("x",), "chance": ("qx", "q(x)", "probability", "chance of dying")}


def ages_at_death(table: Any, age: float) -> tuple[list[float], list[float]]:
    """Return the ages at which a person may die, and their chances; see
    ``Discrete.from_survival``.
    """
    ages, chances = _columns(table)
    start = finite("age", age)
    if (np.diff(ages) <= 0).any():
        raise ParameterError("the ages of the table must rise")
    if not ((chances >= 0) & (chances <= 1)).all():
        wrong = chances[~((chances >= 0) & (chances <= 1))][0]
        raise ParameterError(f"a chance to die must be from 0 to 1, not {wrong:g}")
    if not ages[0] <= start <= ages[-1]:
        raise ParameterError(
            f"age must be within the table, {ages[0]:g} to {ages[-1]:g}, not {start:g}"
        )
    years = np.arange(np.floor(start), ages[-1] + 1)
    yearly = chances[np.searchsorted(ages, years, side="right") - 1]
    alive = np.concatenate([[1.0], np.cumprod(1 - yearly)])
    if alive[-1] > LEFT:
        raise ParameterError(
            f"the table ends at {ages[-1]:g} with {100 * alive[-1]:.3g} % alive; it must go on "
            "until at most 1 % are"
        )
    dying = -np.diff(alive)
    dying[-1] += alive[-1]
    return years.tolist(), (dying / dying.sum()).tolist()


def _columns(table: Any) -> tuple[Floats, Floats]:
    """Return the ages and the chances of a table."""
    if isinstance(table, str | Path | pd.DataFrame):
        read = read_table(table)
        columns = read.headings(HEADINGS)
        for key in HEADINGS:
            if key not in columns:
                raise FileError(
                    f"a table of survival needs the columns age and chance; it has "
                    f"{', '.join(read.names)[:400]}",
                    file=read.file,
                )
        ages, chances = (read.numbers(columns[key]) for key in HEADINGS)
    else:
        pairs = list(table.items()) if isinstance(table, Mapping) else table
        try:
            both = np.array(pairs, dtype=np.float64).reshape(-1, 2)
        except (TypeError, ValueError, OverflowError):
            raise ParameterError("the table must have pairs of age and chance") from None
        ages, chances = both.T
    if not len(ages) or np.isnan(ages).any() or np.isnan(chances).any():
        raise ParameterError("the table must have an age and a chance in each row")
    return ages, chances
