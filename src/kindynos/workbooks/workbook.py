"""A workbook as it is: its formulas, what they need, whether we agree with it, and models of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kindynos.errors import ModelError
from kindynos.model.model import Model
from kindynos.validate import checked, known_name, mapping
from kindynos.workbooks.agreement import Agreement, agreement
from kindynos.workbooks.compiling import LAZY, Compiler
from kindynos.workbooks.formulas import FunctionCall
from kindynos.workbooks.functions.catalogue import FUNCTIONS
from kindynos.workbooks.graph import DRAWING, LOOKING, OF_THE_DAY, REFERRING, Graph, cell_in
from kindynos.workbooks.modelling import OUTCOME_OPTIONS, CellModel, title_of
from kindynos.workbooks.random_cells import random_cells
from kindynos.workbooks.reader import Contents, read_contents

if TYPE_CHECKING:
    import pandas as pd

OTHERS = frozenset({*LAZY, *LOOKING, *REFERRING, *DRAWING, *OF_THE_DAY} - {"RANDARRAY"})
MOST_SHOWN = 5


@checked
def read_workbook(source: str | Path) -> Workbook:
    """Return a workbook (.xlsx or .xlsm) with its formulas and the values stored beside them.

    Macros are never run and links to other workbooks never followed. Raises FileError for a file
    that is not a workbook, is damaged, protected or too large.

    >>> import kindynos as kd
    >>> book = kd.read_workbook(kd.demo_file("night_ferry.xlsx"))
    >>> book.agreement.words
    '186 of 186 formulas agree with the values stored in the file'
    """
    contents = read_contents(source)
    graph = Graph.of(contents)
    graph.hold()
    return Workbook(contents, graph)


@dataclass(frozen=True, eq=False, repr=False)
class Workbook:
    """A workbook: cells with values and formulas; see ``read_workbook``.

    ``model`` makes a model of it. Cells are named by texts such as "Inputs!B4", or by a name that
    the workbook defines.
    """

    contents: Contents = field(repr=False)
    graph: Graph = field(repr=False)

    def __repr__(self) -> str:
        count = self.formula_count
        sheets = len(self.contents.sheets)
        return (
            f"<workbook {Path(self.contents.path).name!r}: {sheets} "
            f"sheet{'' if sheets == 1 else 's'}, {count:,} formula{'' if count == 1 else 's'}>"
        )

    @property
    def path(self) -> str:
        """The file it was read from."""
        return self.contents.path

    @property
    def sheets(self) -> list[str]:
        """The names of its sheets."""
        return list(self.contents.sheets)

    @property
    def formula_count(self) -> int:
        """The number of cells with a formula."""
        return sum(len(sheet.formulas) for sheet in self.contents.sheets.values())

    @property
    def notes(self) -> list[str]:
        """What was left out or is held at its stored value, a sentence each."""
        contents, lines = self.contents, []
        if contents.macros:
            lines.append("its macros are not run")
        by_reason = Counter(self.graph.held.values())
        if by_reason["another workbook"]:
            count = by_reason["another workbook"]
            lines.append(
                f"{_cells(count)} that refer{'s' if count == 1 else ''} to another workbook "
                f"keep{'s' if count == 1 else ''} the stored value"
            )
        if by_reason["the day"]:
            count = by_reason["the day"]
            lines.append(
                f"{_cells(count)} with the day of today keep{'s' if count == 1 else ''} the "
                "stored value"
            )
        for sheet in contents.sheets.values():
            lines += [
                f"the table of repeated recalculation {area} is left out: a run takes its place"
                for area in sheet.repeated
            ]
        return lines

    def value(self, cell: str) -> Any:
        """Return the value stored in a cell; raises ModelError for a cell that is not there."""
        first = cell_in(self.contents, cell).first
        return self.contents.sheets[first.sheet].values.get((first.row, first.column))

    @cached_property
    def agreement(self) -> Agreement:
        """How our values compare with those stored in the file."""
        return agreement(self.graph)

    def recalculate(self) -> pd.DataFrame:
        """Return every formula whose value differs from the one stored in the file: the cell, both
        values, and the formula.
        """
        return self.agreement.table()

    def precedents(self, cell: str) -> dict[str, Any]:
        """Return the cells that a cell is worked out from, as a tree: each with those it needs in
        turn; a cell that was shown already has "..." for its own.
        """
        return self._tree(cell, self._needed_by)

    def dependents(self, cell: str) -> dict[str, Any]:
        """Return the cells that are worked out from a cell, as a tree like that of
        ``precedents``.
        """
        return self._tree(cell, lambda number: self.uses.get(number, []))

    def _tree(self, cell: str, following: Any) -> dict[str, Any]:
        graph = self.graph
        start = graph.number_of(cell_in(self.contents, cell).first)
        tree: dict[str, Any] = {}
        shown = {start}
        waiting = [(start, tree)]
        while waiting:
            number, branch = waiting.pop(0)
            for other in following(number):
                key = str(graph.cells[other])
                if other in shown:
                    branch[key] = "..." if following(other) else {}
                    continue
                shown.add(other)
                branch[key] = {}
                waiting.append((other, branch[key]))
        return tree

    def _needed_by(self, number: int) -> list[int]:
        """Return the cells that a formula refers to and that hold something."""
        graph = self.graph
        number = graph.parts[number][0] if number in graph.parts else number
        formula = graph.formulas.get(number)
        if formula is None:
            return []
        if graph.resolve is None:
            Compiler(graph, {})
        values = [
            other
            for area in graph.areas_in(formula.tree, formula.cell)
            for row in graph.numbers_in(area)
            for other in row
            if other
        ]
        return list(dict.fromkeys(values))

    @cached_property
    def uses(self) -> dict[int, list[int]]:
        """The cells with formulas that refer to each cell, by their numbers in the graph."""
        uses: dict[int, list[int]] = {}
        for number in self.graph.formulas:
            shown = self.graph.numbers[self.graph.cells[number]]
            for other in self._needed_by(number):
                uses.setdefault(other, []).append(shown)
        return uses

    def functions(self) -> pd.DataFrame:
        """Return the functions that its formulas use: how often, whether we know them, and of those
        we do not the first cells.
        """
        import pandas as pd

        counts: Counter[str] = Counter()
        cells: dict[str, list[str]] = {}
        by_tree: dict[int, list[str]] = {}
        for formula in self.graph.formulas.values():
            key = id(formula.tree)
            if key not in by_tree:
                calls = (node for node in formula.tree.walk() if isinstance(node, FunctionCall))
                by_tree[key] = [call.name for call in calls]
            for name in by_tree[key]:
                counts[name] += 1
                if not _is_known(name) and len(cells.setdefault(name, [])) < MOST_SHOWN:
                    cells[name].append(str(formula.cell))
        rows = {
            name: {
                "count": count,
                "known": _is_known(name),
                "cells": ", ".join(cells.get(name, [])),
            }
            for name, count in counts.most_common()
        }
        table = pd.DataFrame.from_dict(rows, orient="index", columns=["count", "known", "cells"])
        return table.rename_axis("function")

    def needing(self, function: str) -> int:
        """Return how many further formulas need the cells that call a function."""
        graph = self.graph
        calling = {
            graph.numbers[formula.cell]
            for formula in graph.formulas.values()
            if any(isinstance(n, FunctionCall) and n.name == function for n in formula.tree.walk())
        }
        reached, waiting = set(calling), list(calling)
        while waiting:
            for user in self.uses.get(waiting.pop(), ()):
                if user not in reached:
                    reached.add(user)
                    waiting.append(user)
        return len(reached) - len(calling)

    def random(self) -> pd.DataFrame:
        """Return the cells that draw: how often each calls RAND, and the distribution that it is,
        where it is one.
        """
        import pandas as pd

        rows = {
            str(random_cell.cell): {
                "draws": len(random_cell.places),
                "distribution": random_cell.distribution or "unchanged formula",
            }
            for random_cell in random_cells(self.graph).values()
        }
        table = pd.DataFrame.from_dict(rows, orient="index", columns=["draws", "distribution"])
        return table.rename_axis("cell")

    @checked
    def model(
        self,
        outcomes: Mapping[str, Any],
        drivers: Mapping[str, Any] | None = None,
        given: Mapping[str, Any] | None = None,
        *,
        lines: Mapping[str, Any] | None = None,
        name: str | None = None,
        periods: int | None = None,
        start: str | int | None = None,
        every: str = "year",
        accept_differences: bool = False,
    ) -> Model:
        """Return a model of cells by name: ``outcomes={"net_value": "Summary!C20"}``,
        ``drivers={"vessel": ("Inputs!B7", kd.Pert(17.5e6, 19e6, 26e6))}``, ``given={"fare":
        "Inputs!B4"}``, and further ``lines`` to look at.

        What a cell holds is its value in the base case; a driver's draws take its place, and a
        given figure may be replaced, swept and solved for. An area along a row or a column is a row
        over the ``periods``. In place of a cell a mapping may say more: ``{"cell": "Summary!C20",
        "unit": "EUR", "target": 0}``. Cells that draw by themselves become drivers, named by the
        label beside them. Raises ModelError for a cell that is not there or holds no number, two
        names for one cell, formulas that cannot be worked out, and an outcome that is not what the
        file stores, unless ``accept_differences``.
        """
        tables = {
            "outcomes": mapping("outcomes", outcomes, "cells by name"),
            "drivers": mapping("drivers", drivers or {}, "cells with distributions by name"),
            "given": mapping("given", given or {}, "cells by name"),
            "lines": mapping("lines", lines or {}, "cells by name"),
        }
        if not tables["outcomes"]:
            raise ModelError("name at least one outcome")
        stated = CellModel(self.graph, accept_differences=accept_differences)
        for key in ("given", "lines", "outcomes"):
            allowed = {
                "given": ("unit", "source", "convert"),
                "lines": ("unit",),
                "outcomes": OUTCOME_OPTIONS,
            }[key]
            for quantity, entry in tables[key].items():
                getattr(stated, key)[quantity] = _cell_and_options(quantity, entry, allowed)
        for quantity, entry in tables["drivers"].items():
            stated.drivers[quantity] = _driver_entry(quantity, entry)
        if periods is None:
            lengths = stated.lengths()
            periods = lengths.pop() if len(lengths) == 1 else None
        model = Model(name or title_of(self.path), periods, start, every)  # type: ignore[arg-type]
        stated.add_to(model)
        model.compiled()
        return model


def _cells(count: int) -> str:
    return "1 cell" if count == 1 else f"{count:,} cells"


def _is_known(name: str) -> bool:
    return name in FUNCTIONS or name in OTHERS


def _cell_and_options(
    name: str, entry: Any, allowed: tuple[str, ...]
) -> tuple[str, dict[str, Any]]:
    if isinstance(entry, str):
        return entry, {}
    if not isinstance(entry, Mapping) or "cell" not in entry:
        raise ModelError(
            f"{name!r} is a cell such as 'Inputs!B4', or {{'cell': 'Inputs!B4', 'unit': 'EUR'}}, "
            f"not {entry!r:.60}"
        )
    options = {key: value for key, value in entry.items() if key != "cell"}
    for key in options:
        known_name(f"option of {name!r}", key, allowed)
    return entry["cell"], options


def _driver_entry(name: str, entry: Any) -> tuple[str, Any, dict[str, Any]]:
    shape = "a cell and its distribution, such as ('Inputs!B7', kd.Pert(17.5e6, 19e6, 26e6))"
    if not isinstance(entry, tuple | list) or not 2 <= len(entry) <= 3:
        raise ModelError(f"driver {name!r} is {shape}, not {entry!r:.60}")
    options = dict(entry[2]) if len(entry) == 3 else {}
    for key in options:
        allowed = ("unit", "source", "base", "each", "serial", "dt", "uncertain")
        known_name(f"option of {name!r}", key, allowed)
    return entry[0], entry[1], options
