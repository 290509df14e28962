"""Formulas that say what is done with each cell of an area: MAP, BYROW, BYCOL, REDUCE, SCAN and
MAKEARRAY of a LAMBDA, written out as a formula for each cell. Source: OpenFormula has none of them;
they are worked out as their published descriptions say.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from kindynos.workbooks.formulas import (
    OF_EACH,
    ArrayConstant,
    Constant,
    Corner,
    FormulaNode,
    FunctionCall,
    NameRef,
    Reference,
    substituted,
)

EACH = ("MAP", "BYROW", "BYCOL", "REDUCE", "SCAN", "MAKEARRAY")
MOST_CELLS = 2_000
Cells = list[list[FormulaNode]]
Problem = Callable[[str], Exception]


@dataclass(frozen=True)
class _Lambda:
    """What is done with each cell: the names, what is worked out of them, and for which
    function.
    """

    owner: str
    names: list[str]
    body: FormulaNode
    problem: Problem

    def of(self, *values: FormulaNode) -> FormulaNode:
        """Return what is worked out of values."""
        if len(values) != len(self.names):
            raise self.problem(
                f"the LAMBDA of {self.owner} takes {len(values)} names, not {len(self.names)}"
            )
        return substituted(self.body, dict(zip(self.names, values, strict=True)))


def written_out(name: str, arguments: Sequence[FormulaNode], problem: Problem) -> FormulaNode:
    """Return the formula that stands for one of ``EACH``, whose last argument is a LAMBDA; raises
    the problem of what cannot be written out.
    """
    *given, last = arguments
    assert isinstance(last, FunctionCall)
    *parameters, body = last.arguments
    names = [p.name.upper() for p in parameters if isinstance(p, NameRef) and p.sheet is None]
    if len(names) < len(parameters):
        raise problem("LAMBDA takes names, then what is worked out")
    done = _Lambda(name, names, body, problem)
    counts = {"MAP": range(1, 254), "REDUCE": (1, 2), "SCAN": (1, 2), "MAKEARRAY": (2,)}
    if len(given) not in counts.get(name, (1,)):
        raise problem(f"{name} takes other arguments before its LAMBDA")
    if name == "MAP":
        return _of_cells(given, done)
    if name == "MAKEARRAY":
        rows, columns = (range(1, _count(node, problem) + 1) for node in given)
        return _stacked([[done.of(_number(i), _number(j)) for j in columns] for i in rows])
    if name in ("BYROW", "BYCOL"):
        parts = [done.of(part) for part in _lines(given[0], name == "BYROW", problem)]
        return _stacked([[part] for part in parts] if name == "BYROW" else [parts])
    reached, shown = _accumulated(given, done)
    return _stacked(shown) if name == "SCAN" else reached


def _of_cells(areas: Sequence[FormulaNode], done: _Lambda) -> FormulaNode:
    """Return what is done with the cells of areas of one size, place by place."""
    cells = [_cells(area, done.owner, done.problem) for area in areas]
    if len({(len(area), len(area[0])) for area in cells}) > 1:
        raise done.problem("the areas of MAP differ in size")
    rows = zip(*cells, strict=True)
    return _stacked([[done.of(*values) for values in zip(*row, strict=True)] for row in rows])


def _accumulated(given: Sequence[FormulaNode], done: _Lambda) -> tuple[FormulaNode, Cells]:
    """Return what is reached from cell to cell in the end, and after each."""
    start, area = given if len(given) == 2 else (Constant(None), given[0])
    reached, shown = start, list[list[FormulaNode]]()
    for row in _cells(area, done.owner, done.problem):
        shown.append([])
        for cell in row:
            reached = done.of(reached, cell)
            shown[-1].append(reached)
    return reached, shown


def _number(value: int) -> Constant:
    return Constant(float(value))


def _count(node: FormulaNode, problem: Problem) -> int:
    if not isinstance(node, Constant) or not isinstance(node.value, float):
        raise problem("the size of MAKEARRAY must be a number")
    return int(node.value)


def _cells(node: FormulaNode, name: str, problem: Problem) -> Cells:
    """Return the cells of an area, or the values of an array, by row."""
    if isinstance(node, ArrayConstant):
        return [[Constant(value) for value in row] for row in node.rows]
    size = node.size if isinstance(node, Reference) else None
    if not isinstance(node, Reference) or size is None:
        raise problem(f"{name} takes an area of cells whose size is the same in all copies")
    down, across = size
    if (down + 1) * (across + 1) > MOST_CELLS:
        raise problem(f"{name} takes at most {MOST_CELLS:,} cells")
    return [
        [Reference(node.sheet, _corner(node, i, j)) for j in range(across + 1)]
        for i in range(down + 1)
    ]


def _lines(node: FormulaNode, by_row: bool, problem: Problem) -> list[FormulaNode]:
    """Return the rows or the columns of an area, as areas."""
    size = node.size if isinstance(node, Reference) else None
    if not isinstance(node, Reference) or size is None:
        raise problem("BYROW and BYCOL take an area of cells")
    down, across = size
    if by_row:
        return [
            Reference(node.sheet, _corner(node, i, 0), _corner(node, i, across))
            for i in range(down + 1)
        ]
    return [
        Reference(node.sheet, _corner(node, 0, j), _corner(node, down, j))
        for j in range(across + 1)
    ]


def _corner(area: Reference, down: int, across: int) -> Corner:
    """Return the corner ``down`` rows and ``across`` columns from the first cell of an area."""
    begin, end = area.first, area.last or area.first
    rows = [place for place in (begin.row, end.row) if place is not None]
    columns = [place for place in (begin.column, end.column) if place is not None]
    return Corner(
        min(rows) + down, min(columns) + across, begin.row_absolute, begin.column_absolute
    )


def _stacked(cells: Cells) -> FormulaNode:
    """Return cells by row as one array."""
    rows = [row[0] if len(row) == 1 else FunctionCall("HSTACK", tuple(row)) for row in cells]
    return rows[0] if len(rows) == 1 else FunctionCall("VSTACK", tuple(rows))


OF_EACH.update(dict.fromkeys(EACH, written_out))
