"""The cells of a workbook as a graph: which cell needs which, and in what order they are worked
out.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from kindynos.errors import FormulaError, ModelError
from kindynos.workbooks.addresses import (
    LAST_COLUMN,
    LAST_ROW,
    Area,
    Cell,
    area_in,
    hull,
    sheet_and_rest,
)
from kindynos.workbooks.collecting import uncollected
from kindynos.workbooks.formulas import (
    Binary,
    External,
    FormulaNode,
    FunctionCall,
    NameRef,
    Reference,
    SheetsReference,
    TableReference,
    allow_deep_trees,
    parse,
    template,
)
from kindynos.workbooks.lambdas import EACH as _EACH  # noqa: F401 - formulas are written out by it
from kindynos.workbooks.reader import Contents, TableArea
from kindynos.workbooks.values import Value

# functions whose value is another one each time, or depends on the day
DRAWING = frozenset({"RAND", "RANDBETWEEN", "RANDARRAY"})
OF_THE_DAY = frozenset({"TODAY", "NOW"})
# functions that give a reference
REFERRING = frozenset({"OFFSET", "INDIRECT", "ANCHORARRAY"})
# functions that look at a reference, and not at what its cells hold
LOOKING = frozenset({"ROW", "COLUMN", "ROWS", "COLUMNS", "AREAS", "ISREF", "SHEET", "SHEETS"})
REFERENCES = (Reference, SheetsReference, TableReference, NameRef)
MOST_FILLED = 1_000_000  # cells that one array formula fills
MOST_AREA = 2_000_000  # cells of an area in a formula


class DependsError(ModelError):
    """A reference that a formula works out depends on what is drawn or changed."""


def _is_place(node: FormulaNode) -> bool:
    """Return whether a part of a formula is a reference, or gives one."""
    union = isinstance(node, Binary) and node.operator in ":, "
    named = isinstance(node, FunctionCall) and node.name in REFERRING
    return isinstance(node, REFERENCES) or union or named


@dataclass(frozen=True, slots=True)
class Formulated:
    """A cell with a formula: its place and the tree, which its copies share."""

    cell: Cell
    tree: FormulaNode
    area: Area | None = None  # what an array formula fills


@dataclass
class Graph:
    """The cells of a workbook by number, with what they hold and what their formulas need."""

    contents: Contents
    numbers: dict[tuple[str, int, int], int] = field(default_factory=dict)
    cells: list[Cell] = field(default_factory=list)
    formulas: dict[int, Formulated] = field(default_factory=dict)
    parts: dict[int, tuple[int, int, int]] = field(default_factory=dict)  # of array formulas
    constants: list[Value] = field(default_factory=list)
    held: dict[int, str] = field(default_factory=dict)  # cells that keep their stored value, why
    unreadable: dict[int, FormulaError] = field(default_factory=dict)
    inputs: frozenset[int] = frozenset()  # cells whose values are given from outside
    resolve: Callable[[FormulaNode, Cell], Area | None] | None = None
    candidates: Callable[[FormulaNode, Cell], list[Area]] | None = None  # of references that move
    drawing: dict[int, tuple[int, ...]] = field(default_factory=dict)  # calls, by id of the tree
    _rows: dict[tuple[str, int], list[int]] = field(default_factory=dict)
    _trees: dict[str, FormulaNode] = field(default_factory=dict)
    _referring: dict[int, list[FormulaNode]] = field(default_factory=dict)
    _names: dict[tuple[str | None, str], FormulaNode | None] = field(default_factory=dict)
    _needs: dict[int, list[int]] = field(default_factory=dict)
    _working: set[int] = field(default_factory=set)  # cells whose needs are just being found

    @classmethod
    @uncollected()
    def of(cls, contents: Contents) -> Graph:
        """Return the graph of a workbook."""
        allow_deep_trees()
        graph = cls(contents)
        graph._add(Cell("", 0, 0), None)  # stands for every cell that is not there
        for sheet in contents.sheets.values():
            for (row, column), value in sheet.values.items():
                if (row, column) not in sheet.formulas:
                    graph._add(Cell(sheet.name, row, column), value)
        for sheet in contents.sheets.values():
            for (row, column), formula in sheet.formulas.items():
                cell = Cell(sheet.name, row, column)
                stored = sheet.values.get((row, column))
                number = graph._add(cell, stored)
                text, at_row, at_column = formula.text, row, column
                if formula.shared is not None and formula.shared in sheet.shared and not text:
                    text, at_row, at_column = sheet.shared[formula.shared]
                graph._formulate(number, cell, text, at_row, at_column, formula.area)
        return graph

    def _add(self, cell: Cell, value: Value) -> int:
        key = (cell.sheet, cell.row, cell.column)
        number = self.numbers.get(key)
        if number is not None:
            self.constants[number] = value
            return number
        self.numbers[key] = number = len(self.cells)
        self.cells.append(cell)
        self.constants.append(value)
        return number

    def _formulate(
        self, number: int, cell: Cell, text: str, row: int, column: int, area: Area | None
    ) -> None:
        key = template(text, row, column)
        tree = self._trees.get(key)
        if tree is None:
            try:
                tree = self._trees[key] = parse(text, row, column)
            except FormulaError as error:
                self.unreadable[number] = error
                return
        if area is None or area.single:
            self.formulas[number] = Formulated(cell, tree, area)
            return
        if area.rows * area.columns > MOST_FILLED:
            self.unreadable[number] = FormulaError(
                f"fills {area.rows * area.columns:,} cells, and {MOST_FILLED:,} are worked out"
            )
            return
        # the whole has a number of its own, beside those of its cells
        whole = len(self.cells)
        self.cells.append(cell)
        self.constants.append(None)
        self.formulas[whole] = Formulated(cell, tree, area)
        for position in area.cells():
            known_number = self.numbers.get(position) or self._add(position, self._stored(position))
            self.parts[known_number] = (whole, position.row - area.top, position.column - area.left)

    def _stored(self, cell: Cell) -> Value:
        return self.contents.sheets[cell.sheet].values.get((cell.row, cell.column))

    def number_of(self, cell: Cell) -> int:
        """Return the number of a cell, of a new one where it holds nothing."""
        number = self.numbers.get(cell)
        return self._add(cell, None) if number is None else number

    def is_formula(self, number: int) -> bool:
        """Return whether a cell is worked out, alone or as part of an array formula."""
        if number in self.inputs:
            return True
        return (
            number in self.formulas or number in self.parts or number in self.unreadable
        ) and number not in self.held

    def with_inputs(self, inputs: Iterable[int]) -> Graph:
        """Return the graph with the values of some cells given from outside."""
        return replace(
            self,
            inputs=frozenset(inputs),
            resolve=None,
            candidates=None,
            _rows={},
            _needs={},
            _working=set(),
        )

    def __getstate__(self) -> dict[str, Any]:
        # identities of objects, and what resolves references, mean nothing elsewhere
        return {**self.__dict__, "_referring": {}, "resolve": None, "candidates": None}

    def hold(self) -> None:
        """Keep the stored values of cells that look beyond the workbook or at the day."""
        reasons: dict[int, str] = {}
        for number, formula in self.formulas.items():
            key = id(formula.tree)
            if key not in reasons:
                reasons[key] = _why_held(formula.tree)
            if reasons[key]:
                self.held[number] = reasons[key]

    # what a formula refers to

    def area_of(self, node: FormulaNode, cell: Cell) -> Area | None:
        """Return the area that a reference, a name or a table's column stands for; None for
        anything else, and for #REF!.
        """
        if isinstance(node, Reference):
            area = node.area(cell.sheet, cell.row, cell.column)
            sheet = None if area is None else self.contents.sheet(area.sheet)
            if area is None or sheet is None:
                return None
            return area._replace(sheet=sheet.name)
        if isinstance(node, NameRef):
            tree = self.named(node, cell.sheet)
            return None if tree is None else self.area_of(tree, cell)
        if isinstance(node, TableReference):
            return self._table_area(node, cell)
        if isinstance(node, Binary) and node.operator == ":":
            return hull(self.area_of(node.left, cell), self.area_of(node.right, cell))
        if isinstance(node, FunctionCall) and node.name == "ANCHORARRAY":
            return self._filled(node, cell)
        if isinstance(node, Binary) and node.operator == " ":
            return _common(self.area_of(node.left, cell), self.area_of(node.right, cell))
        if (
            isinstance(node, FunctionCall)
            and self.resolve is not None
            and node.name in (*REFERRING, "INDEX")
        ):
            return self.resolve(node, cell)
        return None

    def areas_over_sheets(self, node: SheetsReference, cell: Cell) -> list[Area]:
        """Return an area of each sheet from one to another, in the order of the workbook; none
        where a sheet is not there.
        """
        sheets = list(self.contents.sheets)
        ends = [self.contents.sheet(name) for name in (node.first, node.last)]
        if None in ends:
            return []
        first, last = sorted(sheets.index(sheet.name) for sheet in ends if sheet is not None)
        areas = [node.area.area(name, cell.row, cell.column) for name in sheets[first : last + 1]]
        return [area for area in areas if area is not None]

    def _filled(self, node: FunctionCall, cell: Cell) -> Area | None:
        """Return the area that the array formula of a cell fills; None where it has none."""
        corner = self.area_of(node.arguments[0], cell) if node.arguments else None
        if corner is None:
            return None
        number = self.numbers.get((corner.sheet, corner.top, corner.left), 0)
        whole, *place = self.parts.get(number, (number, 0, 0))
        formula = self.formulas.get(whole)
        return None if formula is None or any(place) else formula.area

    def named(self, node: NameRef, sheet: str) -> FormulaNode | None:
        """Return the tree of a defined name, of a sheet's own before the workbook's; None where
        there is none, and for names that stand for each other in a circle.
        """
        key = self._key_of(node, sheet)
        if key is None:
            table = node.name.lower() in self.contents.tables and node.sheet is None
            return TableReference(node.name, None, None, ()) if table else None
        if key not in self._names:
            tree = self._tree_of_name(key)
            circular = tree is not None and self._returns(key, tree, key[0] or sheet)
            self._names[key] = None if circular else tree
        return self._names[key]

    def _key_of(self, node: NameRef, sheet: str) -> tuple[str | None, str] | None:
        upper = node.name.upper()
        keys = ((node.sheet or sheet, upper), (None, upper))
        return next((key for key in keys if key in self.contents.names), None)

    def _tree_of_name(self, key: tuple[str | None, str]) -> FormulaNode | None:
        try:
            return parse(self.contents.names[key], 1, 1)
        except FormulaError:
            return None

    def _returns(self, key: tuple[str | None, str], tree: FormulaNode, sheet: str) -> bool:
        """Return whether what a name stands for leads to names that stand for each other."""
        waiting, met = [tree], {key}
        while waiting:
            for node in waiting.pop().walk():
                other = self._key_of(node, sheet) if isinstance(node, NameRef) else None
                if other == key:
                    return True
                if other is not None and other not in met:
                    met.add(other)
                    inner = self._tree_of_name(other)
                    waiting += [] if inner is None else [inner]
        return False

    def _table_area(self, node: TableReference, cell: Cell) -> Area | None:
        table = self._table(node, cell)
        if table is None:
            return None
        area, rows = table.area, set(node.rows)
        first, last = 0, len(table.columns) - 1
        if node.first is not None:
            lower = [column.lower() for column in table.columns]
            requested = [node.first.lower(), (node.last or node.first).lower()]
            if any(column not in lower for column in requested):
                return None
            first, last = (lower.index(column) for column in requested)
        top, bottom = area.top + table.header_rows, area.bottom - table.total_rows
        if "#this row" in rows:
            if not top <= cell.row <= bottom:
                return None
            top = bottom = cell.row
        elif "#all" in rows:
            top, bottom = area.top, area.bottom
        elif "#headers" in rows:
            top = area.top
            bottom = bottom if "#data" in rows else area.top
        elif "#totals" in rows:
            top, bottom = (top if "#data" in rows else area.bottom), area.bottom
        return Area(area.sheet, top, area.left + first, bottom, area.left + last)

    def _table(self, node: TableReference, cell: Cell) -> TableArea | None:
        if node.table:
            return self.contents.tables.get(node.table.lower())
        for table in self.contents.tables.values():
            area = table.area
            inside = area.top <= cell.row <= area.bottom and area.left <= cell.column <= area.right
            if area.sheet == cell.sheet and inside:
                return table
        return None

    def within(self, area: Area) -> Area:
        """Return the part of an area that may hold something, of whole rows and columns."""
        whole = area.bottom == LAST_ROW or area.right == LAST_COLUMN
        if not whole and area.rows * area.columns <= MOST_AREA:
            return area
        sheet = self.contents.sheets[area.sheet]
        return area.within(sheet.bottom, sheet.right)

    def numbers_in(self, area: Area) -> list[list[int]]:
        """Return the numbers of the cells of an area, row by row; 0 for cells that hold nothing."""
        area = self.within(area)
        get, sheet = self.numbers.get, area.sheet
        return [
            [get((sheet, row, column), 0) for column in range(area.left, area.right + 1)]
            for row in range(area.top, area.bottom + 1)
        ]

    # order

    def needs(self, number: int) -> list[int]:
        """Return the cells with formulas that a cell needs, in the order in which it names them."""
        remembered = self._needs.get(number)
        if remembered is not None:
            return remembered
        if number in self.inputs:
            rows = []
        elif number in self.parts:
            rows = [self.parts[number][0]]
        elif number in self.unreadable:
            rows = []
        else:
            rows = self._needs_of_formula(number)
        self._needs[number] = rows = list(dict.fromkeys(rows))
        return rows

    def _needs_of_formula(self, number: int) -> list[int]:
        formula = self.formulas[number]
        rows: list[int] = []
        moving: list[int] = []
        for node in self._references(formula.tree):
            other = self.single(node, formula.cell)
            if other is not None:
                rows += [other] if self.is_formula(other) else []
                continue
            for area, moves in self._areas_and_moves(node, formula.cell):
                (moving if moves else rows).extend(self.worked_out_in(area))
        if not moving or number in self._working:
            return rows
        self._working.add(number)
        around = self._that_need(number, moving)
        self._working.discard(number)
        return [*rows, *(cell for cell in moving if cell not in around)]

    def _that_need(self, goal: int, starts: Iterable[int]) -> set[int]:
        """Return, of cells and all that they need, those that need one cell, and that cell."""
        users: dict[int, list[int]] = {}
        met, waiting = {goal}, [*starts]
        while waiting:
            number = waiting.pop()
            if number in met:
                continue
            met.add(number)
            # what a cell needs while its own needs are being found is not kept
            needed = (
                self._needs_of_formula(number) if number in self._working else self.needs(number)
            )
            for need in needed:
                users.setdefault(need, []).append(number)
                waiting.append(need)
        around, waiting = {goal}, [goal]
        while waiting:
            for user in users.get(waiting.pop(), ()):
                if user not in around:
                    around.add(user)
                    waiting.append(user)
        return around

    def areas_in(self, tree: FormulaNode, cell: Cell) -> Iterator[Area]:
        """Yield the areas whose values a formula takes; of a reference that moves with what is
        drawn, those among which it may lie.
        """
        for node in self._references(tree):
            for area, _ in self._areas_and_moves(node, cell):
                yield area

    def _areas_and_moves(self, node: FormulaNode, cell: Cell) -> Iterator[tuple[Area, bool]]:
        """Yield the areas of a reference, each with whether it is one of those among which the
        reference moves.
        """
        if isinstance(node, SheetsReference):
            for area in self.areas_over_sheets(node, cell):
                yield area, False
            return
        if isinstance(node, NameRef):
            named = self.named(node, cell.sheet)
            for part in () if named is None else self._references(named):
                yield from self._areas_and_moves(part, cell)
            return
        try:
            found = self.area_of(node, cell)
        except DependsError:
            yield from self._around(node, cell)
            return
        if found is not None:
            yield found, False

    def _around(self, node: FormulaNode, cell: Cell) -> Iterator[tuple[Area, bool]]:
        """Yield the areas among which a reference moves, and those that say where it lies."""
        assert self.candidates is not None
        for area in self.candidates(node, cell):
            yield area, True
        for call in node.walk():
            if isinstance(call, FunctionCall):
                for argument in call.arguments[call.name != "INDIRECT" :]:
                    for area in self.areas_in(argument, cell):
                        yield area, False

    def _references(self, tree: FormulaNode) -> list[FormulaNode]:
        """Return the parts of a tree that are references, or names; the same for all copies."""
        remembered = self._referring.get(id(tree))
        if remembered is not None:
            return remembered
        references: list[FormulaNode] = []
        waiting = [tree]
        while waiting:
            node = waiting.pop()
            if isinstance(node, FunctionCall) and node.name in LOOKING:
                # how large a result is depends on what it is worked out from
                waiting += [part for part in node.parts() if not _is_place(part)]
                continue
            refers = isinstance(node, REFERENCES) or (
                isinstance(node, Binary) and node.operator in ": "
            )
            if refers or (isinstance(node, FunctionCall) and node.name in REFERRING):
                references.append(node)
            if not refers:
                parts = list(node.parts())
                # OFFSET takes no value of the area that it starts from
                only_place = isinstance(node, FunctionCall) and node.name == "OFFSET"
                if only_place and parts and isinstance(parts[0], Reference):
                    parts = parts[1:]
                waiting.extend(reversed(parts))
        self._referring[id(tree)] = references
        return references

    def single(self, node: FormulaNode, cell: Cell) -> int | None:
        """Return the number of the one cell that a reference is, 0 where it holds nothing; None for
        another part of a formula. Most references are such, and this is the quicker way.
        """
        if type(node) is not Reference or node.last is not None:
            return None
        row, column = node.first.at(cell.row, cell.column)
        if row is None or column is None:
            return None
        sheet = cell.sheet if node.sheet is None else node.sheet
        if sheet not in self.contents.sheets:
            return None
        return self.numbers.get((sheet, row, column), 0)

    def worked_out_in(self, area: Area) -> Iterable[int]:
        """Return the cells of an area that have a formula."""
        if area.single:
            number = self.numbers.get((area.sheet, area.top, area.left), 0)
            return [number] if self.is_formula(number) else []
        if not self._rows:
            self._index_rows()
        numbers = []
        area = self.within(area)
        for column in range(area.left, area.right + 1):
            rows = self._rows.get((area.sheet, column))
            if rows:
                begin, end = bisect_left(rows, area.top), bisect_right(rows, area.bottom)
                numbers += [self.numbers[area.sheet, row, column] for row in rows[begin:end]]
        return [number for number in numbers if number not in self.held]

    def _index_rows(self) -> None:
        for number in (*self.formulas, *self.parts, *self.unreadable, *self.inputs):
            cell = self.cells[number]
            if self.numbers[cell] != number:  # an array formula as a whole
                continue
            self._rows.setdefault((cell.sheet, cell.column), []).append(cell.row)
        for key, rows in self._rows.items():
            self._rows[key] = sorted(set(rows))

    def ordered(self, requested: Iterable[int], already: Iterable[int] = ()) -> list[list[int]]:
        """Return the cells to be worked out for those wanted, each after all it needs; cells that
        need each other in a circle stand together. What is ``known`` already is not entered.
        """
        return _components(requested, self.needs, set(already), self.is_formula)


def _components(
    requested: Iterable[int],
    needs: Callable[[int], Sequence[int]],
    already: set[int],
    entered: Callable[[int], bool],
) -> list[list[int]]:
    """Return strongly connected components, each after those it needs."""
    search = _Components(needs, already)
    for start in requested:
        if start not in already and entered(start):
            search.enter(start)
    return search.found


class _Components:
    """Tarjan's algorithm without recursion, since chains of cells are long.

    Source: Tarjan, SIAM Journal on Computing 1 (1972), 146-160.
    """

    def __init__(self, needs: Callable[[int], Sequence[int]], already: set[int]) -> None:
        self.needs, self.known = needs, already
        self.index: dict[int, int] = {}
        self.low: dict[int, int] = {}
        self.stack: list[int] = []
        self.on_stack: set[int] = set()
        self.found: list[list[int]] = []

    def enter(self, start: int) -> None:
        """Add the components that can be reached from a cell."""
        if start in self.index:
            return
        work = [self._opened(start)]
        while work:
            node, others = work[-1]
            fresh = self._next_fresh(node, others)
            if fresh is not None:
                work.append(self._opened(fresh))
                continue
            work.pop()
            if work:
                before = work[-1][0]
                self.low[before] = min(self.low[before], self.low[node])
            if self.low[node] == self.index[node]:
                self.found.append(self._closed(node))

    def _opened(self, node: int) -> tuple[int, Iterator[int]]:
        self.index[node] = self.low[node] = len(self.index)
        self.stack.append(node)
        self.on_stack.add(node)
        return node, iter(self.needs(node))

    def _next_fresh(self, node: int, others: Iterator[int]) -> int | None:
        """Return the next cell that was not looked at yet; None where there is none left."""
        for other in others:
            if other in self.known:
                continue
            if other not in self.index:
                return other
            if other in self.on_stack:
                self.low[node] = min(self.low[node], self.index[other])
        return None

    def _closed(self, node: int) -> list[int]:
        group: list[int] = []
        while not group or group[-1] != node:
            group.append(self.stack.pop())
            self.on_stack.discard(group[-1])
        return group[::-1]


def _common(first: Area | None, second: Area | None) -> Area | None:
    """Return what two areas have in common."""
    if first is None or second is None or first.sheet != second.sheet:
        return None
    top, bottom = max(first.top, second.top), min(first.bottom, second.bottom)
    left, right = max(first.left, second.left), min(first.right, second.right)
    return Area(first.sheet, top, left, bottom, right) if top <= bottom and left <= right else None


def _why_held(tree: FormulaNode) -> str:
    """Return why a formula keeps its stored value, "" where it does not."""
    for node in tree.walk():
        if isinstance(node, External):
            return "another workbook"
        if isinstance(node, FunctionCall) and node.name in OF_THE_DAY:
            return "the day"
    return ""


def cell_in(contents: Contents, text: Any, what: str = "a cell") -> Area:
    """Return the area that a text such as "Inputs!B4", "Inputs!B4:F4" or a defined name stands for;
    raises ModelError for one that is not there.
    """
    if not isinstance(text, str) or not text.strip():
        raise ModelError(f"{what} is named by a text such as 'Inputs!B4', not {text!r:.40}")
    text = text.strip().lstrip("=")
    sheet, rest = sheet_and_rest(text)
    if sheet is None and (None, rest.upper()) in contents.names:
        return _named_area(contents, rest)
    if sheet is None and len(contents.sheets) == 1:
        sheet = next(iter(contents.sheets))
    if sheet is None:
        rows = [*contents.spelling.values()]
        raise ModelError(
            f"{text!r:.60} is neither a cell with its sheet, such as 'Inputs!B4', nor a defined "
            "name",
            unknown=text,
            known=rows,
        )
    its_sheet = contents.sheet(sheet)
    if its_sheet is None:
        raise ModelError(f"no sheet {sheet!r:.60}", unknown=sheet, known=list(contents.sheets))
    area = area_in(rest, its_sheet.name)
    if area is None and (its_sheet.name, rest.upper()) in contents.names:
        return _named_area(contents, rest, its_sheet.name)
    if area is None:
        raise ModelError(
            f"{rest!r:.60} is no cell of the sheet {its_sheet.name!r}; write it like 'B4'"
        )
    if area.top > its_sheet.bottom or area.left > its_sheet.right:
        last = Cell("", its_sheet.bottom, its_sheet.right).short
        raise ModelError(f"the sheet {its_sheet.name!r} ends at {last}, and {area} lies beyond")
    return area


def _named_area(contents: Contents, name: str, sheet: str | None = None) -> Area:
    graph = Graph(contents)
    node = NameRef(name, sheet)
    area = graph.area_of(node, Cell(sheet or next(iter(contents.sheets)), 1, 1))
    if area is None:
        raise ModelError(f"the name {name!r} stands for no cell")
    return area
