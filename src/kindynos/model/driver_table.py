"""Drivers from a table: one row each, such as the items of a budget or the lines of a risk
register.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.distributions.base import Distribution
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.event_impact import EventImpact
from kindynos.distributions.registry import distribution_from
from kindynos.errors import FileError, KindynosError, ModelError
from kindynos.program.quantities import check_name
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table

DEFAULTS = ("distribution", "unit", "source", "each")  # texts that a table may leave to its reader
TEXTS = ("name", "distribution", "unit", "source", "each")
HEADINGS = {
    "name": ("item", "risk", "cost item", "description"),
    "low": ("min", "minimum", "lowest", "optimistic"),
    "mode": ("most likely", "likely", "best guess", "expected"),
    "high": ("max", "maximum", "highest", "pessimistic"),
    "chance": ("probability",),
}  # other headings of the same
RISK = ("chance", "impact")
MOST_ROWS = 1_000


@dataclass(frozen=True)
class TableDriver:
    """One row of a table: a driver as ``Model.driver`` takes it."""

    name: str
    distribution: Distribution
    options: dict[str, Any]


def drivers_in(
    source: str | Path | pd.DataFrame, form: TableFormat, defaults: Mapping[str, str] | None = None
) -> list[TableDriver]:
    """Return the drivers in a table, with columns ``name``, ``distribution`` and those of its
    parameters. ``defaults`` stand in for a column of texts that it lacks, or an empty cell of it:
    ``{"distribution": "pert"}``. Headings such as item, minimum, most likely and maximum are
    understood; what an item is called becomes a name.

    Columns ``unit``, ``source``, ``each`` and ``base`` are those of a driver. A row with a
    ``chance`` is a risk: with that chance it has the impact that its distribution says, or the
    number in the column ``impact``. Empty cells state nothing. Raises FileError, with the row, for
    a row that does not describe a driver.
    """
    table = read_table(source, form)
    titled = "name" not in table.headings({})
    columns = table.headings(HEADINGS)
    stated_defaults = dict(defaults or {})
    given = {*columns, *stated_defaults}
    if "name" not in columns or not {"distribution", "impact"}.intersection(given):
        raise FileError(
            "a table of drivers needs the columns name and distribution; it has "
            f"{', '.join(table.names)[:400]}",
            file=table.file,
        )
    if not 1 <= len(table) <= MOST_ROWS:
        raise FileError(
            f"a table of drivers may have 1 to {MOST_ROWS:,} rows, and this one has {len(table):,}",
            file=table.file,
        )
    texts = {key: table.texts(columns[key]) for key in TEXTS if key in columns}
    numbers = {
        key: table.numbers(name).tolist() for key, name in columns.items() if key not in TEXTS
    }
    by_name: dict[str, TableDriver] = {}
    mistakes: list[KindynosError] = []
    for position, row in enumerate(table.rows.tolist()):
        own = {key: cells[position] for key, cells in texts.items() if cells[position]}
        stated = {**stated_defaults, **own}
        if titled and "name" in stated:
            stated["name"] = as_name(stated["name"])
        figures = {
            key: cells[position]
            for key, cells in numbers.items()
            if cells[position] == cells[position]
        }
        try:
            driver = _driver(stated, figures)
            if driver.name in by_name:
                raise ModelError(f"{driver.name!r} is there already")
            by_name[driver.name] = driver
        except KindynosError as error:
            mistakes.append(error.with_context(row=row))
    if mistakes:
        raise FileError.of_all(table.file, mistakes)
    return list(by_name.values())


def as_name(text: str) -> str:
    """Return what an item is called as a name: Hull repair (steel) as hull_repair_steel."""
    name = re.sub(r"\W+", "_", text.strip().lower()).strip("_")
    return f"x{name}" if name[:1].isdigit() else name


def read_matrix(source: str | Path) -> pd.DataFrame:
    """Return a correlation matrix whose first column holds the names of its rows, which are those
    of its columns; an empty half is the other one.

    Raises FileError for any other table.
    """
    table = read_table(source)
    names = table.names if table.unnamed else table.names[1:]
    rows = list(table.unnamed) or table.texts(table.names[0])
    matrix = (
        np.stack([table.numbers(name) for name in names], axis=1) if names else np.empty((0, 0))
    )
    if matrix.shape[0] != matrix.shape[1]:
        raise FileError(
            f"a matrix of correlations has as many rows as columns, and this one has "
            f"{matrix.shape[0]:,} and {matrix.shape[1]:,}",
            file=table.file,
        )
    matrix = np.where(np.isnan(matrix), matrix.T, matrix)
    return pd.DataFrame(matrix, index=rows, columns=names)


def _driver(stated: dict[str, str], figures: dict[str, float]) -> TableDriver:
    name = check_name(stated.pop("name", ""))
    label = stated.pop("distribution", None)
    options: dict[str, Any] = dict(stated)
    if "base" in figures:
        options["base"] = figures.pop("base")
    chance, impact = (figures.pop(key, None) for key in RISK)
    if impact is not None and (label is not None or figures):
        raise ModelError(f"{name}: an impact is a number, or has a distribution, and not both")
    if impact is not None:
        distribution: Distribution = Discrete([impact], [1.0])
    elif label is None:
        raise ModelError(f"{name} has no distribution")
    else:
        made = distribution_from(label, figures)
        assert isinstance(made, Distribution)  # its parameters are numbers
        distribution = made
    if chance is None and impact is not None:
        raise ModelError(f"{name} has an impact and no chance")
    if chance is not None:
        distribution = EventImpact(chance, distribution)
    return TableDriver(name, distribution, options)
