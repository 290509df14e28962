"""The base case as a living sheet: what is known and what is uncertain as cells to change, and the
lines as formulas over them.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.finance.annual_rates import per_period
from kindynos.formula.tree import PERIODS_A_YEAR
from kindynos.program.program import Program
from kindynos.program.quantities import Line
from kindynos.reports.workbook.cell_formulas import (
    FIRST_PERIOD,
    NUMBER_COLUMN,
    CellRow,
    NoCellFormulaError,
    Translator,
    address,
)
from kindynos.results.run import Run

HEADING = 3  # rows before the first part: title, numbers of the periods, their names
MOST_CELLS = 200_000


@dataclass(frozen=True)
class BaseCase:
    """The rows of the sheet by number, the headings of its parts, and the labels of the periods."""

    rows: Mapping[int, CellRow]
    headings: Mapping[int, str]
    labels: list[str]
    given: frozenset[int]  # rows whose cells are to be changed


def base_case(run: Run) -> BaseCase | None:
    """Return the base case of a run as a sheet; None of a model that is too large for one, and of a
    run without its functions.
    """
    program = run.program
    if program.recorded or len(program.quantities) * max(program.periods, 1) > MOST_CELLS:
        return None
    return _Layout(program, run.base).sheet()


class _Layout:
    """Where quantities stand, and what their cells hold."""

    def __init__(self, program: Program, base: Mapping[str, Floats]) -> None:
        self.program, self.periods = program, program.periods
        stated = {name: np.asarray(base[name]) for name in program.drivers}
        self.values = {
            **program.constants,
            **program.as_used(stated),
            **{name: base[name] for name in program.order if name in base},
        }
        self.stated = {**{n: g.array for n, g in program.givens.items()}, **stated}
        self.rows: dict[int, CellRow] = {}
        self.headings: dict[int, str] = {}
        self.next_row = HEADING

    def sheet(self) -> BaseCase:
        """Return the sheet."""
        program = self.program
        tables = {n for n, given in program.givens.items() if given.shape.table}
        places = self._places("What is known", [n for n in program.givens if n not in tables])
        places |= self._places("What is uncertain, at its base value", list(program.drivers))
        given = frozenset(places.values())
        areas = self._tables(sorted(tables))
        lines = self._places(
            "What is calculated", [name for name in program.order if name in self.values]
        )
        used = {**places, **lines}
        for name in program.yearly.intersection(places):
            used[name] = self._place()
        self.next_row += 1
        helpers = self.next_row
        self.next_row += 1
        translator = Translator(used, areas, self.values, self.periods, self.next_row)
        for name, row in places.items():
            self.rows[row] = self._inputs(name)
            if used[name] != row:
                self.rows[used[name]] = self._converted(name, row)
        for name, row in lines.items():
            self.rows[row] = self._line(program.lines[name], row, translator)
        self.rows |= translator.helpers
        if translator.helpers:
            self.headings[helpers] = "Helper rows"
        return BaseCase(self.rows, self.headings, program.timeline.labels, given)

    def _place(self) -> int:
        self.next_row += 1
        return self.next_row - 1

    def _places(self, title: str, names: list[str]) -> dict[str, int]:
        """Return rows for quantities under a heading."""
        if not names:
            return {}
        self.next_row += self.next_row > HEADING
        self.headings[self._place()] = title
        return {name: self._place() for name in names}

    def _columns(self, name: str, values: Floats) -> Iterator[tuple[int, float]]:
        """Yield the values of a quantity by column."""
        flat = np.asarray(values, dtype=np.float64).reshape(-1)
        if self.program.shapes[name].row:
            yield from enumerate(np.broadcast_to(flat, (self.periods,)).tolist(), FIRST_PERIOD)
        else:
            yield NUMBER_COLUMN, float(flat[0])

    def _inputs(self, name: str) -> CellRow:
        quantity = self.program.givens.get(name) or self.program.drivers[name]
        cells = {c: (None, value) for c, value in self._columns(name, self.stated[name])}
        kind = "" if name in self.program.givens else "driver, base value; "
        return CellRow(name, quantity.unit or "", f"{kind}{quantity.source or ''}", cells)

    def _converted(self, name: str, row: int) -> CellRow:
        """Return a rate a year as the rate of a period, by which lines count."""
        count = float(self.values[PERIODS_A_YEAR])
        cells = {}
        for column, value in self._columns(name, self.stated[name]):
            text = f"(1+{address(row, column)})^(1/{count!r})-1"
            cells[column] = (text, float(per_period(value, count)))
        return CellRow(f"{name}, each period", "", "what compounds to it in a year", cells)

    def _tables(self, names: list[str]) -> dict[str, tuple[str, str]]:
        """Write tables for lookup, keys beside values; return their areas."""
        areas = {}
        for name in names:
            self.next_row += 1
            self.headings[self._place()] = f"Table {name}: keys and values"
            array = np.asarray(self.stated[name])
            first = self.next_row
            for key, value in array.tolist():
                self.rows[self._place()] = CellRow(
                    "", "", "", {NUMBER_COLUMN: (None, key), FIRST_PERIOD: (None, value)}
                )
            last = self.next_row - 1
            areas[name] = (
                f"{address(first, NUMBER_COLUMN)}:{address(last, NUMBER_COLUMN)}",
                f"{address(first, FIRST_PERIOD)}:{address(last, FIRST_PERIOD)}",
            )
        return areas

    def _line(self, line: Line, row: int, translator: Translator) -> CellRow:
        columns = list(self._columns(line.name, self.values[line.name]))
        texts: list[str | None] = [None] * len(columns)
        how = _not_a_formula(line)
        if line.tree is not None:
            how = line.formula or ""
            try:
                is_row = self.program.shapes[line.name].row
                texts = [*translator.line(line.name, line.tree, row, is_row)]
            except NoCellFormulaError as reason:
                how = f"values only, no formula of cells for {reason}: {line.formula}"
        cells = {
            column: (text, value) for (column, value), text in zip(columns, texts, strict=True)
        }
        return CellRow(line.name, line.unit or "", how, cells)


def _not_a_formula(line: Line) -> str:
    if line.calculation is not None:
        return "values only, worked out in the workbook of the model"
    if line.shared is not None and line.shared.cohort is not None:
        return "values only, of a cohort"
    return "values only, a function of Python"
