"""Whether our values are those stored in the file, cell by cell."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from kindynos.errors import KindynosError
from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.calculation import tidied, working_out
from kindynos.workbooks.cell_errors import VALUE, CellError
from kindynos.workbooks.collecting import uncollected
from kindynos.workbooks.compiling import Compiler
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.random_cells import random_cells
from kindynos.workbooks.values import Settled, Value

if TYPE_CHECKING:
    import pandas as pd

CLOSE = 1e-9  # relative, of values that agree
SMALL = 1e-12  # of a value that should be 0
MOST_NAMED = 3


@dataclass(frozen=True)
class Agreement:
    """How many ``formulas`` have our value stored in the file, ``drawn`` ones and those without a
    stored value apart, and which do not.
    """

    formulas: int
    agreeing: int
    drawn: int
    unstored: int
    held: int
    differing: dict[Cell, tuple[Any, Any]] = field(repr=False)
    failed: dict[Cell, str] = field(repr=False)
    program: str = ""

    @property
    def holds(self) -> bool:
        """Whether every value that can be compared agrees."""
        return not self.differing and not self.failed

    @property
    def words(self) -> str:
        """What was found, in a sentence or two."""
        compared = self.formulas - self.drawn - self.unstored - self.held
        if not self.formulas:
            return "the workbook has no formulas"
        if not compared and self.unstored:
            return (
                f"none of its {self.formulas:,} formulas has a stored value: the program that "
                "wrote the file never calculated it, so nothing can be compared"
            )
        if not compared:
            return "none of its formulas can be compared with the values stored in the file"
        text = (
            f"{self.agreeing:,} of {compared:,} formulas agree with the values stored in the file"
        )
        if self.program and not self.holds:
            text += f" by {self.program}"
        if self.differing:
            told = [
                f"{cell} is {shown(ours)} here and {shown(theirs)} in the file"
                for cell, (ours, theirs) in list(self.differing.items())[:MOST_NAMED]
            ]
            text += f"; {', '.join(told)}{_more(self.differing)}"
        if self.failed:
            told = [f"{cell}: {why}" for cell, why in list(self.failed.items())[:MOST_NAMED]]
            text += f"; not worked out: {'; '.join(told)}{_more(self.failed)}"
        apart = [
            (self.drawn, "depend on draws"),
            (self.unstored, "have no stored value"),
            (self.held, "keep their stored value"),
        ]
        others = [f"{count:,} {what}" for count, what in apart if count]
        return text + (f"; not compared: {', '.join(others)}" if others else "")

    def table(self) -> pd.DataFrame:
        """Return the cells that differ or cannot be worked out, with both values."""
        import pandas as pd

        rows: dict[str, dict[str, Any]] = {
            str(cell): {"value": _plain(ours), "stored": _plain(theirs), "problem": ""}
            for cell, (ours, theirs) in self.differing.items()
        }
        rows |= {
            str(cell): {"value": None, "stored": None, "problem": why}
            for cell, why in self.failed.items()
        }
        table = pd.DataFrame.from_dict(rows, orient="index", columns=["value", "stored", "problem"])
        return table.rename_axis("cell")


def _more(others: dict[Cell, Any]) -> str:
    return f" and {len(others) - MOST_NAMED:,} more" if len(others) > MOST_NAMED else ""


def _plain(value: Value) -> Any:
    return value.code if isinstance(value, CellError) else value


def shown(value: Value) -> str:
    """Return a value as a sentence shows it."""
    if isinstance(value, float):
        return f"{value:.10g}"
    return value.code if isinstance(value, CellError) else repr(value)


@uncollected()
def agreement(graph: Graph, requested: Iterable[int] | None = None) -> Agreement:
    """Return how our values of formulas compare with those stored in the file: of all of them, or
    of the cells that are wanted and those that they need.
    """
    every = [*graph.formulas, *graph.unreadable, *graph.parts]
    seeds = every if requested is None else list(requested)
    values, failed = recalculated(graph, seeds)
    drawn = set(random_cells(graph))
    counts = {"agreeing": 0, "drawn": 0, "unstored": 0, "formulas": 0, "held": 0}
    differing: dict[Cell, tuple[Any, Any]] = {}
    broken: dict[Cell, str] = {}
    depending = _depending(graph, drawn, seeds)
    looked_at = every if requested is None else {*values, *failed, *depending}
    for number in looked_at:
        cell = graph.cells[number]
        if graph.numbers[cell] != number:
            continue
        counts["formulas"] += 1
        stored = graph.contents.sheets[cell.sheet].values.get((cell.row, cell.column))
        if number in graph.held:
            counts["held"] += 1
        elif number in depending:
            counts["drawn"] += 1
        elif number in failed:
            broken[cell] = failed[number]
        elif stored is None:
            counts["unstored"] += 1
        elif agrees(values.get(number), stored) or _other_error(graph, values[number], stored):
            counts["agreeing"] += 1
        else:
            differing[cell] = (values.get(number), stored)
    return Agreement(**counts, differing=differing, failed=broken, program=graph.contents.program)


def agrees(ours: Value, theirs: Value) -> bool:
    """Return whether two values are the same, numbers to 1e-9."""
    if isinstance(ours, bool | float) and isinstance(theirs, bool | float):
        if isinstance(ours, bool) or isinstance(theirs, bool):
            return float(ours) == float(theirs)
        return math.isclose(ours, theirs, rel_tol=CLOSE, abs_tol=SMALL)
    if theirs is None:
        return ours in (None, "", 0.0)
    return bool(type(ours) is type(theirs) and ours == theirs)


def _other_error(graph: Graph, ours: Value, theirs: Value) -> bool:
    """Return whether two errors are one: a program that knows more of them than files can hold
    stores #VALUE! for those.
    """
    stores_few = graph.contents.program.startswith("LibreOffice")
    return stores_few and theirs == VALUE and isinstance(ours, CellError)


def _depending(graph: Graph, drawn: set[int], seeds: Iterable[int]) -> set[int]:
    """Return the cells that draw, and those that depend on them."""
    if not drawn:
        return set()
    groups = graph.ordered(seeds)
    depending = {number for group in groups for number in group} & drawn
    for group in groups:
        if any(need in depending for number in group for need in graph.needs(number)):
            depending.update(group)
    return depending


def recalculated(graph: Graph, seeds: Iterable[int]) -> tuple[dict[int, Value], dict[int, str]]:
    """Return our values of cells and of what they need, by number, and why others have none."""
    compiler = Compiler(graph, {})
    failed: dict[int, str] = {}
    slots = Settled(graph.constants)
    wholes = {owner for owner, _, _ in graph.parts.values()}
    drawn = set(random_cells(graph))
    groups = graph.ordered(seeds)
    order = [number for group in groups for number in group]
    tidy = tidied(graph, order)
    values: dict[int, Value] = {}
    for group in groups:
        if any(number in drawn for number in group):
            drawn.update(group)
            continue
        needs = {need for number in group for need in graph.needs(number)}
        if needs & drawn:
            drawn.update(group)
            continue
        broken = next((need for need in needs if need in failed and need not in group), None)
        if broken is not None:
            failed.update(dict.fromkeys(group, f"needs {graph.cells[broken]}"))
            continue
        try:
            working_out(compiler, group, slots, tidy, wholes)
        except KindynosError as error:
            failed.update(dict.fromkeys(group, str(error)))
            continue
        # whatever one cell does, the others are worked out
        except Exception as error:
            reason = f"cannot be worked out ({type(error).__name__}: {error})"
            failed.update(dict.fromkeys(group, reason[:200]))
            continue
        values.update({number: slots[number] for number in group})
    return values, failed
