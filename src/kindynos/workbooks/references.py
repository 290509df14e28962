"""References that a formula works out: OFFSET, INDIRECT and INDEX, and among which cells they lie
when they move with what is drawn.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.errors import FormulaError, ModelError
from kindynos.workbooks.addresses import LAST_COLUMN, LAST_ROW, Area, Cell, hull, quoted
from kindynos.workbooks.cell_errors import ResultError
from kindynos.workbooks.formulas import Binary, Constant, FormulaNode, FunctionCall, NameRef, parse
from kindynos.workbooks.graph import DependsError, Graph
from kindynos.workbooks.values import Closure, Slots, Value, by_trial, differs, number_of, text_of

MOST_TARGETS = 2_000  # distinct areas that one reference takes among the trials of a block
Fixed = Callable[[FormulaNode, Cell], Value]


@dataclass(frozen=True)
class Targets:
    """The ``areas`` that a reference stands for, None for #REF!, and ``which`` of them each trial
    takes; None where there is one for all.
    """

    areas: list[Area | None]
    which: Any = None


Referring = Callable[[Slots], Targets]


def referred(graph: Graph, fixed: Fixed, node: FunctionCall, cell: Cell) -> Area | None:
    """Return the area that OFFSET, INDIRECT or INDEX stands for, the same in all trials; None for
    #REF!. Raises DependsError where it moves.
    """
    if node.name == "INDIRECT":
        try:
            return named_by(graph, text_of(fixed(node.arguments[0], cell)), cell)
        except ResultError:
            return None
    base = graph.area_of(node.arguments[0], cell) if node.arguments else None
    if base is None:
        return None
    try:
        moves = [_move(None if _left_out(a) else fixed(a, cell)) for a in node.arguments[1:]]
    except ResultError:
        return None
    return _moved(node.name, base, moves)


def named_by(graph: Graph, text: str, cell: Cell) -> Area | None:
    """Return the area that a text names; None for none."""
    try:
        return graph.area_of(parse(text, cell.row, cell.column), cell)
    except FormulaError:
        return None


def _left_out(node: FormulaNode) -> bool:
    return isinstance(node, Constant) and node.value is None


def _move(value: Value) -> int | None:
    return None if value is None else int(number_of(value))


def _moved(name: str, base: Area, moves: Sequence[int | None]) -> Area | None:
    if name == "INDEX":
        return _indexed(base, [move or 0 for move in moves])
    down, across, rows, columns = [*moves, None, None, None][:4]
    height = base.rows if rows is None else rows
    width = base.columns if columns is None else columns
    top, left = base.top + (down or 0), base.left + (across or 0)
    if height < 0:
        top, height = top + height + 1, -height
    if width < 0:
        left, width = left + width + 1, -width
    if top < 1 or left < 1 or not height or not width:
        return None
    if top + height - 1 > LAST_ROW or left + width - 1 > LAST_COLUMN:
        return None
    return Area(base.sheet, top, left, top + height - 1, left + width - 1)


def _indexed(base: Area, moves: list[int]) -> Area | None:
    row = moves[0] if moves else 0
    column = moves[1] if len(moves) > 1 else 0
    if len(moves) < 2 and base.rows == 1:
        row, column = 1, row
    top, bottom = (base.top, base.bottom) if row == 0 else (base.top + row - 1,) * 2
    left, right = (base.left, base.right) if column == 0 else (base.left + column - 1,) * 2
    inside = base.top <= top <= bottom <= base.bottom and base.left <= left <= right <= base.right
    return Area(base.sheet, top, left, bottom, right) if inside else None


class Moving:
    """References of one cell that move with what is drawn."""

    def __init__(
        self, graph: Graph, fixed: Fixed, compiled: Callable[[FormulaNode], Closure], cell: Cell
    ) -> None:
        self.graph, self.fixed, self.compiled, self.cell = graph, fixed, compiled, cell

    # when it is worked out

    def referring(self, node: FormulaNode) -> Referring:
        """Return the function of the cells' values that gives the targets of a reference."""
        try:
            area = self.graph.area_of(node, self.cell)
            return lambda slots: Targets([area])
        except DependsError:
            pass
        if isinstance(node, NameRef):
            tree = self.graph.named(node, self.cell.sheet)
            assert tree is not None
            return self.referring(tree)
        if isinstance(node, Binary) and node.operator == ":":
            left, right = self.referring(node.left), self.referring(node.right)
            return lambda slots: self._combined(
                [left(slots), right(slots)], [], lambda areas, _: hull(*areas)
            )
        if not isinstance(node, FunctionCall) or node.name not in ("OFFSET", "INDIRECT", "INDEX"):
            raise DependsError(
                f"a reference of {self.cell} depends on what is drawn in a way that is not known; "
                "OFFSET, INDEX, INDIRECT and CHOOSE may move with it"
            )
        if node.name == "INDIRECT":
            text = self.compiled(node.arguments[0])
            return lambda slots: self._combined(
                [], [text(slots)], lambda _, texts: self._named(texts[0])
            )
        base = self.referring(node.arguments[0])
        moves = [
            (lambda slots: None) if _left_out(a) else self.compiled(a) for a in node.arguments[1:]
        ]
        name = node.name
        return lambda slots: self._combined(
            [base(slots)],
            [move(slots) for move in moves],
            lambda areas, values: self._moved(name, areas[0], values),
        )

    def _named(self, text: Value) -> Area | None:
        return named_by(self.graph, text_of(text), self.cell)

    def _moved(self, name: str, base: Area | None, values: Sequence[Value]) -> Area | None:
        return None if base is None else _moved(name, base, [_move(value) for value in values])

    def _combined(
        self,
        targets: Sequence[Targets],
        values: Sequence[Value],
        target: Callable[[Sequence[Area | None], Sequence[Value]], Area | None],
    ) -> Targets:
        """Return the targets of each distinct combination of targets and values."""
        keys: dict[Any, int] = {}
        areas: list[Area | None] = []

        def position(*each: Value) -> float:
            parts = each[: len(targets)]
            key = tuple((type(value), value) for value in each)
            if key not in keys:
                keys[key] = len(areas)
                chosen = [t.areas[int(p)] for t, p in zip(targets, parts, strict=True)]
                try:
                    areas.append(target(chosen, each[len(targets) :]))
                except ResultError:
                    areas.append(None)
                if len(areas) > MOST_TARGETS:
                    raise ModelError(
                        f"a reference of {self.cell} takes more than {MOST_TARGETS:,} positions"
                    )
            return float(keys[key])

        parts = [0.0 if t.which is None else np.asarray(t.which, dtype=float) for t in targets]
        everything = [*parts, *values]
        if not any(differs(value) for value in everything):
            position(*everything)
            return Targets(areas)
        each = by_trial(position, everything)
        trials = next(len(v) for v in [each, *everything] if isinstance(v, np.ndarray))
        which = np.broadcast_to(np.asarray(each), (trials,)).astype(np.intp)
        return _distinct(areas, which)

    # before it is worked out

    def candidates(self, node: FormulaNode) -> list[Area]:
        """Return areas among which a reference lies, whatever is drawn."""
        try:
            area = self.graph.area_of(node, self.cell)
            return [] if area is None else [area]
        except DependsError:
            pass
        if isinstance(node, NameRef):
            tree = self.graph.named(node, self.cell.sheet)
            return [] if tree is None else self.candidates(tree)
        if isinstance(node, Binary) and node.operator == ":":
            lefts, rights = self.candidates(node.left), self.candidates(node.right)
            hulls = [hull(left, right) for left in lefts for right in rights]
            return [area for area in hulls if area is not None]
        if isinstance(node, FunctionCall) and node.name == "INDIRECT":
            return self._nameable(node.arguments[0])
        if isinstance(node, FunctionCall) and node.arguments:
            bases = self.candidates(node.arguments[0])
            if node.name == "INDEX":
                return bases
            return [self._reach(base, node.arguments[1:]) for base in bases]
        return []

    def _reach(self, base: Area, moves: Sequence[FormulaNode]) -> Area:
        """Return where OFFSET may lead: where a move is not fixed, as far as the sheet goes."""
        sheet = self.graph.contents.sheets[base.sheet]
        down, across, rows, columns = (self._fixed(moves, i) for i in range(4))
        moves_known = [None if move == "?" else move for move in (down, across, rows, columns)]
        fixed = _moved("OFFSET", base, moves_known)
        top, left, bottom, right = base[1:] if fixed is None else fixed[1:]
        if "?" in (down, rows):
            top, bottom = 1 if down == "?" else top, max(sheet.bottom, bottom)
        if "?" in (across, columns):
            left, right = 1 if across == "?" else left, max(sheet.right, right)
        return Area(base.sheet, top, left, bottom, right)

    def _fixed(self, moves: Sequence[FormulaNode], position: int) -> Any:
        """Return a move that is the same in all trials, None where it is left out, else "?"."""
        if position >= len(moves) or _left_out(moves[position]):
            return None
        try:
            return _move(self.fixed(moves[position], self.cell))
        except (DependsError, ResultError):
            return "?"

    def _nameable(self, node: FormulaNode) -> list[Area]:
        """Return the areas that a text may name whose parts differ between trials."""
        graph, pattern = self.graph, self._pattern(node)
        first, colon, last = pattern.partition(":")
        begins = self._cells_like(first)
        names = [
            graph.area_of(NameRef(name), self.cell)
            for sheet, name in graph.contents.names
            if sheet is None and re.fullmatch(pattern, name, re.I)
        ]
        named = [area for area in names if area is not None]
        if not colon:
            return [*named, *begins]
        ends = self._cells_like(rf"(?:.*!)?{last}")
        return [
            *named,
            *(area for b in _hulls(begins) for e in _hulls(ends) if (area := hull(b, e))),
        ]

    def _cells_like(self, pattern: str) -> list[Area]:
        """Return the cells whose address may be written like a regular expression."""
        like = re.compile(pattern, re.I | re.S)
        cells = []
        for cell in self.graph.cells[1:]:
            short = cell.short
            forms = [f"{quoted(cell.sheet)}!{short}", f"{cell.sheet}!{short}"]
            forms += [f"'{cell.sheet}'!{short}"]
            forms += [short] if cell.sheet == self.cell.sheet else []
            if any(like.fullmatch(form) for form in forms):
                cells.append(Area(cell.sheet, cell.row, cell.column, cell.row, cell.column))
        return cells

    def _pattern(self, node: FormulaNode) -> str:
        """Return the regular expression of what a text may be."""
        if isinstance(node, Binary) and node.operator == "&":
            return self._pattern(node.left) + self._pattern(node.right)
        if isinstance(node, FunctionCall) and node.name in ("CONCATENATE", "CONCAT"):
            return "".join(map(self._pattern, node.arguments))
        try:
            return re.escape(text_of(self.fixed(node, self.cell))).replace(r"\$", r"\$?")
        except (DependsError, ResultError):
            return ".*"


def _hulls(areas: Sequence[Area]) -> list[Area]:
    """Return one area around all those of each sheet."""
    by_sheet: dict[str, Area] = {}
    for area in areas:
        by_sheet[area.sheet] = hull(by_sheet.get(area.sheet, area), area) or area
    return list(by_sheet.values())


def _distinct(areas: list[Area | None], which: Any) -> Targets:
    """Return targets without repetitions."""
    places: dict[Area | None, int] = {}
    again = np.array([places.setdefault(area, len(places)) for area in areas])
    if len(places) == 1:
        return Targets(list(places))
    return Targets(list(places), again[which])
