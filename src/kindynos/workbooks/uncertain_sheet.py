"""A sheet named ``uncertain``: plain tables that say which cells are drawn, given and reported, for
people who want to stay in their workbook.

In one cell a line says the same as on the command line, such as "NPV = Out!B1, EUR, at least 0", or
below the word drivers "Price = Inputs!C4: pert 40 50 70 EUR/t".

Each table has a row of names: ``name`` and ``cell``, and for drivers ``distribution`` and the
parameters by name: numbers, a list as a text such as "1; 2; 5", or percentiles such as P10, P50 and
P90. A row above that says "drivers", "given" or "outcomes" tells which it is; without one, a table
with distributions is of drivers, and another of outcomes. A table with the names ``first``,
``second`` and ``value`` has correlations, as has a line such as "Price with Cost: 0.4".
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from kindynos.distributions.registry import NUMBER, PERCENTILE, distribution_from
from kindynos.errors import KindynosError, ModelError
from kindynos.workbooks.cell_texts import correlation_in, driver_in, outcome_in
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.labels import unique
from kindynos.workbooks.modelling import OUTCOME_OPTIONS, CellModel, names_for
from kindynos.workbooks.reader import Contents, Sheet
from kindynos.workbooks.values import Value

NAME = "uncertain"
KINDS = ("drivers", "given", "outcomes")
CORRELATIONS = "correlations"
DRIVER_WORDS = ("name", "cell", "distribution", "unit", "source", "each", "base")
PAIR = ("first", "second", "value")


@dataclass(frozen=True)
class SheetTable:
    """A table on the sheet: its kind, and its rows by the names of the columns."""

    kind: str
    rows: list[tuple[int, dict[str, Value]]]


def uncertain_sheet(contents: Contents) -> Sheet | None:
    """Return the sheet named ``uncertain``, whatever the capitals; None where there is none."""
    return next((s for name, s in contents.sheets.items() if name.lower() == NAME), None)


def stated_on(sheet: Sheet, graph: Graph) -> CellModel:
    """Return what the sheet states; raises ModelError with the row of what cannot be read."""
    stated = CellModel(graph)
    for table in _tables(sheet):
        for row, entry in table.rows:
            with _in_row(sheet, row):
                _add(stated, table.kind, entry)
    for row, kind, text in _lines_of_text(sheet):
        with _in_row(sheet, row):
            pair = correlation_in(text)
            if pair is not None:
                stated.correlations.append(pair)
            else:
                stated.state(kind, driver_in(text) if kind == "drivers" else outcome_in(text))
    if not stated.outcomes:
        raise ModelError(
            f"the sheet {sheet.name!r} names no outcome: it needs a table with the columns name "
            "and cell below the word outcomes"
        )
    return stated


@contextmanager
def _in_row(sheet: Sheet, row: int) -> Iterator[None]:
    try:
        yield
    except KindynosError as error:
        raise ModelError(f"sheet {sheet.name!r}, row {row}: {error}") from None


def _lines_of_text(sheet: Sheet) -> Iterator[tuple[int, str, str]]:
    """Yield what is stated in one cell of a row, such as "NPV = Out!B1, EUR, at least 0": the row,
    the kind and the text. A cell is a driver below the word drivers, or with a distribution after
    a colon.
    """
    title = ""
    for row, cells in sorted(_lines(sheet).items()):
        texts = [value for value in cells.values() if value not in (None, "")]
        if len(texts) != 1 or not isinstance(texts[0], str):
            continue
        word = texts[0].strip().lower().rstrip(":")
        if word in KINDS:
            title = word
        elif correlation_in(texts[0]) is not None:
            yield row, "drivers", texts[0]
        elif "=" in texts[0] and title != "given":
            drawn = title == "drivers" or (not title and ": " in texts[0])
            yield row, "drivers" if drawn else "outcomes", texts[0]


def _tables(sheet: Sheet) -> Iterator[SheetTable]:
    lines = _lines(sheet)
    title, rows = "", sorted(lines)
    position = 0
    while position < len(rows):
        line = {c: v for c, v in lines[rows[position]].items() if v not in (None, "")}
        words = {column: str(v).strip().lower() for column, v in line.items()}
        if not {"cell"} <= set(words.values()) and not set(PAIR) <= set(words.values()):
            alone = list(words.values())
            title = alone[0].rstrip(":") if len(alone) == 1 else ""
            position += 1
            continue
        of_pairs = "cell" not in words.values()
        kind = CORRELATIONS if of_pairs else title if title in KINDS else ""
        kind = kind or ("drivers" if "distribution" in words.values() else "outcomes")
        tables: list[tuple[int, dict[str, Value]]] = []
        while position + 1 < len(rows) and rows[position + 1] == rows[position] + 1:
            cells = lines[rows[position + 1]]
            needed = PAIR if of_pairs else ("cell",)
            if any(cells.get(_column_of(label, words)) in (None, "") for label in needed):
                break
            position += 1
            entry = {label: cells.get(column) for column, label in words.items()}
            tables.append((rows[position], {k: v for k, v in entry.items() if v not in (None, "")}))
        yield SheetTable(kind, tables)
        title = ""
        position += 1


def _column_of(label: str, words: dict[int, str]) -> int:
    return next(column for column, name in words.items() if name == label)


def _lines(sheet: Sheet) -> dict[int, dict[int, Value]]:
    """Return the values of the sheet by row and column."""
    lines: dict[int, dict[int, Value]] = {}
    for (row, column), value in sheet.values.items():
        lines.setdefault(row, {})[column] = value
    return lines


def _parameters(entry: dict[str, Value]) -> dict[str, Any]:
    """Return the parameters in a row of drivers: numbers, lists that are written out, and
    percentiles by level.
    """
    parameters: dict[str, Any] = {}
    for key, value in entry.items():
        if key in DRIVER_WORDS:
            continue
        if PERCENTILE.fullmatch(key):
            parameters.setdefault("percentiles", {})[key[1:]] = value
            continue
        words = re.split(r"[;,\s]+", value.strip()) if isinstance(value, str) else []
        listed = len(words) > 1 and all(NUMBER.fullmatch(word) for word in words)
        parameters[key] = [float(word) for word in words] if listed else value
    return parameters


def _add(stated: CellModel, kind: str, entry: dict[str, Value]) -> None:
    if kind == CORRELATIONS:
        stated.correlations.append(tuple(entry.get(key) for key in PAIR))
        return
    cell = str(entry["cell"]).lstrip("=")
    taken = {*stated.given, *stated.drivers, *stated.outcomes}
    name = str(entry["name"]).strip() if "name" in entry else ""
    name = name or unique(next(iter(names_for(stated.graph, [cell]))), taken)
    if name in taken:
        raise ModelError(f"the name {name!r} is there twice")
    if kind == "drivers":
        label, parameters = entry.get("distribution"), _parameters(entry)
        if not isinstance(label, str) and "percentiles" not in parameters:
            raise ModelError(f"driver {name!r} has no distribution")
        options: dict[str, Any] = {
            key: entry[key] for key in ("unit", "source", "each", "base") if key in entry
        }
        family = label.strip() if isinstance(label, str) else None
        stated.drivers[name] = cell, distribution_from(family, parameters), options
        return
    allowed = OUTCOME_OPTIONS if kind == "outcomes" else ("unit", "source")
    by_name = {key: v for key, v in entry.items() if key in allowed}
    for key in entry:
        if key not in (*allowed, "name", "cell"):
            raise ModelError(
                f"{kind} have no column {key!r}", unknown=key, known=["name", "cell", *allowed]
            )
    (stated.outcomes if kind == "outcomes" else stated.given)[name] = cell, by_name
