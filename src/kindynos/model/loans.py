"""Loans in a model: each defaults once or not at all, and all share a factor."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.distributions.bounded import Uniform
from kindynos.distributions.normal import Normal
from kindynos.errors import FileError
from kindynos.events.defaults import Loans
from kindynos.events.events import AT_BASE
from kindynos.model.driver_table import as_name
from kindynos.program.drawn_events import Defaults
from kindynos.program.quantities import DistributionDriver, Line, PickingDriver, Quantity
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from kindynos.tables.table import Table
from kindynos.validate import fraction, owner_is

USUAL = 0.15  # correlation of what decides two defaults, where none is stated
MOST_LOANS = 10_000
HEADINGS = {
    "amount": ("exposure", "balance", "principal", "outstanding"),
    "chance": ("probability", "default", "pd", "chance of default"),
    "recovery": ("recovered", "recovery rate"),
    "group": ("segment", "rating", "sector"),
}  # other headings of the same


def loans_in(source: str | Path | pd.DataFrame, form: TableFormat) -> Loans:
    """Return the loans in a table with the columns amount and chance, and perhaps recovery and
    group; raises FileError, with the row, for what no loan can have.
    """
    table = read_table(source, form)
    columns = table.headings(HEADINGS)
    for key in ("amount", "chance"):
        if key not in columns:
            raise FileError(
                f"a table of loans needs the columns amount and chance; it has "
                f"{', '.join(table.names)[:400]}",
                file=table.file,
            )
    if not 1 <= len(table) <= MOST_LOANS:
        raise FileError(
            f"a table of loans may have 1 to {MOST_LOANS:,} rows, and this one has {len(table):,}",
            file=table.file,
        )
    shares = {key: _shares(table, columns, key) for key in ("chance", "recovery")}
    amounts = table.numbers(columns["amount"])
    _refuse(table, "amount", amounts, ~np.isfinite(amounts), "a number")
    groups = table.texts(columns["group"]) if "group" in columns else [""] * len(table)
    return Loans(
        tuple(amounts.tolist()),
        tuple(shares["chance"].tolist()),
        tuple(shares["recovery"].tolist()),
        tuple(groups),
    )


def _shares(table: Table, columns: dict[str, str], key: str) -> Floats:
    """Return a column of shares from 0 to 1; a recovery that is not there is 0."""
    if key not in columns:
        return np.zeros(len(table))
    values = table.numbers(columns[key])
    _refuse(table, key, values, ~((values >= 0) & (values <= 1)), "from 0 to 1, or in per cent")
    return values


def _refuse(table: Table, key: str, values: Floats, wrong: Any, rule: str) -> None:
    if wrong.any():
        position = int(np.argmax(wrong))
        value = f"{values[position]:g}" if np.isfinite(values[position]) else "no number"
        raise FileError(
            f"{key} must be {rule}, not {value}", file=table.file, row=int(table.rows[position])
        )


@owner_is("loans {name!r}")
def declarations(
    name: str, loans: Loans, correlation: float | str | None, unit: str | None
) -> list[Quantity]:
    """Return the drivers of a book of loans, the line of its losses, and one for each group."""
    stated: float | str = USUAL if correlation is None else correlation
    if not isinstance(stated, str):
        fraction("correlation", stated)
    said = f"the correlation is {stated}"
    if correlation is None:
        said = f"the correlation is not stated; {USUAL} is taken"
    factor = DistributionDriver(f"{name}_factor", source=said, distribution=Normal(0.0, 1.0))
    picking = PickingDriver(
        f"{name}_events",
        AT_BASE,
        source="what picks the loans that default",
        distribution=Uniform(0.0, 1.0),
    )
    groups: Sequence[str | None] = [None, *dict.fromkeys(group for group in loans.groups if group)]
    lines = [
        Line(
            name if group is None else f"{name}_{as_name(group)}",
            events=Defaults(picking.name, factor.name, loans, stated, group),
            unit=unit,
        )
        for group in groups
    ]
    return [factor, picking, *lines]


def loans_of(quantities: Sequence[Quantity]) -> dict[str, Defaults]:
    """Return the books of loans, by name."""
    lines = [q for q in quantities if isinstance(q, Line)]
    return {
        line.name: line.events
        for line in lines
        if isinstance(line.events, Defaults) and line.events.group is None
    }
