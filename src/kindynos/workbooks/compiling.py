"""Formulas as functions of the cells' values: one closure for each cell, over a list of values by
the cells' numbers.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from kindynos.errors import FormulaError, ModelError
from kindynos.workbooks.addresses import Area, Cell
from kindynos.workbooks.cell_errors import BY_NUMBER, NA, NAME, NULL, REF, VALUE, CellError
from kindynos.workbooks.formulas import (
    ArrayConstant,
    Binary,
    Constant,
    FormulaNode,
    FunctionCall,
    NameRef,
    Reference,
    SheetsReference,
    TableReference,
    Unary,
    allow_deep_trees,
)
from kindynos.workbooks.functions.catalogue import FUNCTIONS
from kindynos.workbooks.functions.registry import SheetFunction, called
from kindynos.workbooks.graph import DRAWING, LOOKING, REFERENCES, REFERRING, DependsError, Graph
from kindynos.workbooks.operators import BINARY, COMPARISONS, SEVERAL, TIDY, UNARY, add, over_grids
from kindynos.workbooks.references import Moving, Referring, referred
from kindynos.workbooks.serials import SYSTEM_GAP
from kindynos.workbooks.values import (
    Alternatives,
    Closure,
    Faulty,
    Grid,
    Settled,
    Slots,
    Value,
    as_logicals,
    as_numbers,
    chosen,
    joined,
    over_alternatives,
    picked,
    with_errors,
)

# functions before which a sum that is almost 0 must be 0
TIDYING = frozenset(
    [
        "IF",
        "IFS",
        "SWITCH",
        "CHOOSE",
        "ROUND",
        "ROUNDUP",
        "ROUNDDOWN",
        "TRUNC",
        "INT",
        "MOD",
        "QUOTIENT",
        "CEILING",
        "FLOOR",
        "CEILING.MATH",
        "FLOOR.MATH",
        "CEILING.PRECISE",
        "FLOOR.PRECISE",
        "ISO.CEILING",
        "MROUND",
        "EVEN",
        "ODD",
        "TEXT",
        "FIXED",
        "DOLLAR",
        "CONCATENATE",
        "CONCAT",
        "TEXTJOIN",
        "MATCH",
        "VLOOKUP",
        "HLOOKUP",
        "LOOKUP",
        "XLOOKUP",
        "XMATCH",
        "INDEX",
        "OFFSET",
        "AND",
        "OR",
        "NOT",
        "XOR",
        "COUNTIF",
        "COUNTIFS",
        "SUMIF",
        "SUMIFS",
        "AVERAGEIF",
        "AVERAGEIFS",
        "MAXIFS",
        "MINIFS",
        "RANK",
        "RANK.EQ",
        "RANK.AVG",
        "SIGN",
        "FREQUENCY",
        "MODE",
        "MODE.SNGL",
    ]
)
TOTALS = ("SUBTOTAL", "AGGREGATE")  # which leave each other out
LAZY = ("IF", "IFS", "SWITCH", "CHOOSE", "IFERROR", "IFNA")


class Compiler:
    """Compiles formulas of a graph; ``draws`` has the number of the slot of each call of RAND, by
    cell and place.
    """

    def __init__(self, graph: Graph, draws: Mapping[tuple[int, int], int]) -> None:
        allow_deep_trees()
        self.graph, self.inputs, self.draws = graph, graph.inputs, draws
        self.closures: dict[int, Closure] = {}
        self.fixed: dict[int, Value] = {}
        self._resolved: dict[tuple[int, Cell], Area | DependsError | None] = {}
        self._grids: dict[Area, Grid | None] = {}
        self._numbers: dict[Area, list[list[int]]] = {}
        graph.resolve, graph.candidates = self._resolve, self._candidates

    def closure(self, number: int, tidy: bool) -> Closure:
        """Return the function that works a cell out."""
        graph = self.graph
        if number in graph.parts:
            owner, row, column = graph.parts[number]
            return lambda slots: _part(slots[owner], row, column)
        if number in graph.unreadable:
            raise graph.unreadable[number].with_context(owner=str(graph.cells[number]))
        formula = graph.formulas[number]
        array = formula.area is not None
        return _Cell(self, number, formula.cell).whole(formula.tree, array, tidy)

    def _resolve(self, node: FormulaNode, cell: Cell) -> Area | None:
        """Return the area that OFFSET, INDIRECT or INDEX stands for; raises DependsError where it
        moves.
        """
        key = (id(node), cell)
        if key not in self._resolved:
            assert isinstance(node, FunctionCall)
            try:
                self._resolved[key] = referred(self.graph, self.fixed_value, node, cell)
            except DependsError as error:
                self._resolved[key] = error
        remembered = self._resolved[key]
        if isinstance(remembered, DependsError):
            raise remembered
        return remembered

    def _candidates(self, node: FormulaNode, cell: Cell) -> list[Area]:
        return self.moving(cell).candidates(node)

    def moving(self, cell: Cell, number: int = 0) -> Moving:
        """Return the references of a cell that move."""

        def compiled(node: FormulaNode) -> Closure:
            return _Cell(self, number, cell).compiled(node, False, True)

        return Moving(self.graph, self.fixed_value, compiled, cell)

    def numbers_in(self, area: Area) -> list[list[int]]:
        """Return the numbers of the cells of an area, found once for all formulas."""
        if area not in self._numbers:
            self._numbers[area] = self.graph.numbers_in(area)
        return self._numbers[area]

    def constant_grid(self, area: Area) -> Grid | None:
        """Return the cells of an area without formulas and inputs, made once for all formulas;
        None for another area.
        """
        if area not in self._grids:
            numbers, constants = self.numbers_in(area), self.graph.constants
            plain = not any(self.graph.worked_out_in(area))
            self._grids[area] = (
                Grid([[constants[n] for n in row] for row in numbers], area) if plain else None
            )
        return self._grids[area]

    def fixed_value(self, node: FormulaNode, cell: Cell) -> Value:
        """Return a value that must be the same in all trials; raises DependsError for another."""
        graph = self.graph
        for part in node.walk():
            if isinstance(part, FunctionCall) and part.name in DRAWING:
                raise DependsError(f"a reference of {cell} depends on what is drawn")
        seeds: list[int] = []
        for area in graph.areas_in(node, cell):
            seeds += [n for row in graph.numbers_in(area) for n in row if n in self.inputs]
            seeds += graph.worked_out_in(area)
        slots = _Lazily(self, cell)
        for group in graph.ordered(seeds, self.fixed):
            for number in group:
                if number in self.inputs or len(group) > 1:
                    raise DependsError(self._depends(cell, number))
                formula = graph.formulas.get(number)
                if formula is not None and _draws(formula.tree):
                    raise DependsError(self._depends(cell, number))
                self.fixed[number] = single(self.closure(number, True)(slots))
        for number in seeds:
            if number in self.inputs:
                raise DependsError(self._depends(cell, number))
        return single(_Cell(self, 0, cell).compiled(node, False, True)(slots))

    def _depends(self, cell: Cell, number: int) -> str:
        return (
            f"{cell} refers to cells that depend on {self.graph.cells[number]}, which is drawn or "
            "changed; a reference must be the same in all trials"
        )


class _Lazily(list[Value]):
    """The values of cells that are the same in all trials."""

    def __init__(self, compiler: Compiler, cell: Cell) -> None:
        super().__init__()
        self.compiler, self.cell = compiler, cell

    def __getitem__(self, number: Any) -> Value:
        compiler = self.compiler
        if number in compiler.inputs:
            raise DependsError(compiler._depends(self.cell, number))
        return compiler.fixed.get(number, compiler.graph.constants[number])


def _draws(tree: FormulaNode) -> bool:
    return any(isinstance(node, FunctionCall) and node.name in DRAWING for node in tree.walk())


def single(value: Value) -> Value:
    """Return what a cell holds of a value: 0 for an empty one, the first of several."""
    if type(value) is Alternatives:
        return over_alternatives(single, [value])
    if type(value) is Grid:
        value = value.rows[0][0]
    if type(value) is np.ndarray and value.dtype == object:
        return joined([0.0 if cell is None else cell for cell in value.tolist()])
    return 0.0 if value is None else value


def _part(value: Value, row: int, column: int) -> Value:
    """Return the value of one cell of an array formula; a single row or column is repeated."""
    if type(value) is Alternatives:
        return over_alternatives(lambda each: _part(each, row, column), [value])
    if type(value) is not Grid:
        return value
    row = 0 if value.height == 1 else row
    column = 0 if value.width == 1 else column
    if row >= value.height or column >= value.width:
        return NA
    return single(value.rows[row][column])


class _Cell:
    """Compiles the formula of one cell."""

    def __init__(self, compiler: Compiler, number: int, cell: Cell) -> None:
        self.compiler, self.graph = compiler, compiler.graph
        self.number, self.cell = number, cell

    def whole(self, tree: FormulaNode, array: bool, tidy: bool) -> Closure:
        """Return the closure of the formula of the cell."""
        if isinstance(tree, FunctionCall) and tree.name == "IF" and not array:
            return self._if(tree.arguments, array, tidy, shown=True)
        compiled = self.compiled(tree, array, tidy)
        if not array:
            return compiled
        return lambda slots: self._of_one_size(compiled(slots))

    def _of_one_size(self, value: Value) -> Value:
        """Return what an array formula fills its cells with; raises ModelError where trials differ
        in how many it fills.
        """
        if type(value) is Alternatives:
            sizes = {(v.height, v.width) for v in value.values if type(v) is Grid}
            if len(sizes) > 1:
                raise ModelError(
                    f"the array formula of {self.cell} fills another number of cells in other "
                    "trials; take one figure of it, such as SUM or INDEX of the formula, in a cell"
                )
        return value

    def compiled(self, node: FormulaNode, array: bool, tidy: bool) -> Closure:
        """Return the closure of a node. In an ``array`` areas are worked out place by place, and
        else the place beside the cell is taken; ``tidy`` says that a sum that is almost 0 must
        be 0.
        """
        if isinstance(node, Constant):
            value = node.value
            return lambda slots: value
        if isinstance(node, ArrayConstant):
            grid = Grid([list(row) for row in node.rows])
            return lambda slots: grid
        if isinstance(node, Unary):
            return self._unary(node, array, tidy)
        if isinstance(node, Binary) and node.operator in BINARY:
            return self._binary(node, array, tidy)
        if isinstance(node, FunctionCall) and node.name not in REFERRING:
            return self._call(node, array, tidy)
        if isinstance(node, NameRef):
            named = self.graph.named(node, self.cell.sheet)
            if named is None:
                return lambda slots: NAME
            if not isinstance(named, Reference):
                return self.compiled(named, array, tidy)
        moving = self._moving(node)
        if moving is not None:
            return self._at_targets(moving, array)
        return self._reference(node, array)

    def _unary(self, node: Unary, array: bool, tidy: bool) -> Closure:
        if node.operator == "@":
            return self.compiled(node.operand, False, tidy)
        operation, operand = UNARY[node.operator], self.compiled(node.operand, array, tidy)
        return lambda slots: operation(operand(slots))

    def _binary(self, node: Binary, array: bool, tidy: bool) -> Closure:
        inside = tidy or node.operator in COMPARISONS or node.operator == "&"
        left = self.compiled(node.left, array, inside)
        right = self.compiled(node.right, array, inside)
        operation = (TIDY if inside else {}).get(node.operator, BINARY[node.operator])
        if isinstance(node.right, Constant) and type(node.right.value) is float:
            constant = node.right.value
            return lambda slots: operation(left(slots), constant)
        return lambda slots: operation(left(slots), right(slots))

    def _reference(self, node: FormulaNode, array: bool) -> Closure:
        only = self.graph.single(node, self.cell)
        if only is not None:
            return lambda slots: slots[only]
        if isinstance(node, SheetsReference):
            return lambda slots: VALUE
        area = self._area(node)
        if area is None:
            error = NULL if isinstance(node, Binary) and node.operator == " " else REF
            return lambda slots: error
        return self._of_area(area, array and not area.single)

    def _area(self, node: FormulaNode) -> Area | None:
        return self.graph.area_of(node, self.cell)

    def _grid(self, area: Area, without: frozenset[int] = frozenset()) -> Closure:
        """Return the cells of an area side by side; empty ones for those to be left out."""
        constant = None if without else self.compiler.constant_grid(area)
        if constant is not None:
            return lambda slots: constant
        numbers = self.compiler.numbers_in(area)
        if without:
            numbers = [[0 if n in without else n for n in row] for row in numbers]

        def grid(slots: Slots) -> Grid:
            if type(slots) is not Settled or without:
                return Grid([[slots[n] for n in row] for row in numbers], area)
            if area not in slots.grids:
                slots.grids[area] = Grid([[slots[n] for n in row] for row in numbers], area)
            return slots.grids[area]

        return grid

    # references that move

    def _moving(self, node: FormulaNode) -> Referring | None:
        """Return what gives the targets of a reference that moves with what is drawn; None for any
        other part of a formula.
        """
        if self.graph.single(node, self.cell) is not None:
            return None
        refers = isinstance(node, NameRef) or (isinstance(node, Binary) and node.operator == ":")
        if not (refers or (isinstance(node, FunctionCall) and node.name in REFERRING)):
            return None
        try:
            self._area(node)
        except DependsError:
            return self.compiler.moving(self.cell, self.number).referring(node)
        return None

    def _at_targets(self, referring: Referring, array: bool) -> Closure:
        """Return the cells at the targets of a reference, in each trial those of its own."""
        needed = frozenset(self.graph.needs(self.number)) if self.number else frozenset()
        closures: dict[Area | None, Closure] = {None: lambda slots: REF}

        def closure_of(target: Area | None) -> Closure:
            if target not in closures:
                assert target is not None
                missing = [n for n in self.graph.worked_out_in(target) if n not in needed]
                if missing:
                    raise ModelError(
                        f"{self.cell} refers in some trials to {self.graph.cells[missing[0]]}, "
                        "which needs it in turn"
                    )
                closures[target] = self._of_area(target, array)
            return closures[target]

        def at_targets(slots: Slots) -> Value:
            targets = referring(slots)
            values = [closure_of(target)(slots) for target in targets.areas]
            return values[0] if targets.which is None else _one_of(values, targets.which)

        return at_targets

    def _of_area(self, area: Area, array: bool) -> Closure:
        """Return the cells of an area, or in a single cell the one beside it."""
        if not array:
            beside = area if area.single else _beside(area, self.cell)
            if beside is None:
                return lambda slots: VALUE
            number = self.graph.numbers.get((beside.sheet, beside.top, beside.left), 0)
            return lambda slots: slots[number]
        return self._grid(area)

    def _areas(self, node: FormulaNode) -> list[Area] | None:
        """Return the areas of a reference, which may be a union; None for anything else."""
        if isinstance(node, Binary) and node.operator == ",":
            parts = [self._areas(node.left), self._areas(node.right)]
            return None if None in parts else [area for part in parts for area in part or ()]
        if isinstance(node, SheetsReference):
            return self.graph.areas_over_sheets(node, self.cell) or None
        refers = isinstance(node, REFERENCES) or (
            isinstance(node, Binary) and node.operator in ": "
        )
        if refers or (isinstance(node, FunctionCall) and node.name in REFERRING):
            if isinstance(node, NameRef):
                named = self.graph.named(node, self.cell.sheet)
                if named is None or not isinstance(
                    named, Reference | Binary | TableReference | SheetsReference | FunctionCall
                ):
                    return None
                if not isinstance(named, Reference):
                    return self._areas(named)
            area = self._area(node)
            return None if area is None else [area]
        return None

    def _argument(
        self,
        node: FormulaNode,
        kind: str,
        array: bool,
        tidy: bool,
        without: frozenset[int] = frozenset(),
    ) -> list[Closure]:
        """Return the closures of an argument: several for a union of areas of numbers, which any
        other function takes as one row.
        """
        if kind in "rax":
            moving = self._moving(node)
            if moving is not None:
                return [self._at_targets(moving, True)]
            areas = self._areas(node)
            if areas is not None and (len(areas) == 1 or kind == "x"):
                return [self._grid(area, without) for area in areas]
            if areas is not None:
                return [_in_a_row([self._grid(area, without) for area in areas])]
            if isinstance(node, FunctionCall) and node.name == "IF" and len(node.arguments) > 1:
                return [self._chosen_area(node.arguments, kind, array, tidy)]
            return [self.compiled(node, array or kind == "a", tidy)]
        return [self.compiled(node, array, tidy)]

    def _chosen_area(
        self, arguments: tuple[FormulaNode, ...], kind: str, array: bool, tidy: bool
    ) -> Closure:
        """Return an IF whose branches may be areas."""
        array = array or kind == "a"
        condition = self.compiled(arguments[0], array, True)
        yes, *others = (self._area_or_value(branch, kind, array, tidy) for branch in arguments[1:3])
        return _either(condition, yes, others[0] if others else _false)

    def _area_or_value(self, node: FormulaNode, kind: str, array: bool, tidy: bool) -> Closure:
        """Return what a branch is: several cells side by side, or a single value."""
        if self._moving(node) is None:
            areas = self._areas(node)
            if areas is not None and all(area.single for area in areas):
                return self._branch(node, array, tidy)
        return self._argument(node, kind, array, tidy)[0]

    def _call(self, node: FunctionCall, array: bool, tidy: bool) -> Closure:
        name, arguments = node.name, node.arguments
        tidy = tidy or name in TIDYING
        if name in DRAWING:
            return self._draw(node, array, tidy)
        if name in LOOKING:
            return self._looking(name, arguments)
        if name in LAZY:
            return self._lazy(name)(arguments, array, tidy)
        function = FUNCTIONS.get(name)
        if function is None:
            raise FormulaError(f"the function {name} is not known", owner=str(self.cell))
        if not function.takes(len(arguments)):
            raise FormulaError(
                f"{name} takes {_counts(function)} arguments, not {len(arguments)}",
                owner=str(self.cell),
            )
        closures: list[Closure] = []
        without = self._totals_in(node) | self._hidden_in(node) if name in TOTALS else frozenset()
        for argument, kind in zip(arguments, function.kinds_of(len(arguments)), strict=True):
            closures += self._argument(argument, kind, array, tidy, without)
        if name == "INDEX":
            closures = self._of_areas(arguments, closures)
        applied = self._in_date_system(function, closures, _applied(function, closures))
        return _once(applied) if self._never_changes(node) else applied

    def _never_changes(self, node: FunctionCall) -> bool:
        """Return whether a call takes areas, and only cells that hold what was typed into them: it
        is worked out once for all blocks of trials.
        """
        calls = [inner for inner in node.walk() if isinstance(inner, FunctionCall)]
        if any(call.name in DRAWING or call.name in REFERRING for call in calls):
            return False
        if any(self._moving(inner) is not None for inner in node.walk()):
            return False
        areas = list(self.graph.areas_in(node, self.cell))
        return any(not area.single for area in areas) and all(
            self.compiler.constant_grid(area) is not None for area in areas
        )

    def _totals_in(self, node: FunctionCall) -> frozenset[int]:
        """Return the cells of its areas that hold totals themselves, which it leaves out; AGGREGATE
        takes them with options from 4 on.
        """
        option = node.arguments[1] if node.name == "AGGREGATE" else None
        if isinstance(option, Constant) and type(option.value) is float and option.value >= 4:
            return frozenset()
        totals = set()
        for area in self.graph.areas_in(node, self.cell):
            for number in self.graph.worked_out_in(area):
                formula = self.graph.formulas.get(number)
                calls = () if formula is None else formula.tree.walk()
                if any(isinstance(call, FunctionCall) and call.name in TOTALS for call in calls):
                    totals.add(number)
        return frozenset(totals)

    def _hidden_in(self, node: FunctionCall) -> frozenset[int]:
        """Return the cells of its areas in rows that it leaves out since they are not shown: all
        such rows, or only those of a filter.
        """
        of_filter = node.name == "SUBTOTAL"
        stated = node.arguments[0 if of_filter else 1]
        value = stated.value if isinstance(stated, Constant) else None
        if of_filter and isinstance(value, float) and value > 100:
            of_filter = False
        elif node.name == "AGGREGATE" and value not in (1.0, 3.0, 5.0, 7.0):
            return frozenset()
        left_out = set[int]()
        for area in self.graph.areas_in(node, self.cell):
            sheet = self.graph.contents.sheets[area.sheet]
            for row, numbers in enumerate(self.graph.numbers_in(area), start=area.top):
                inside = sheet.filtered is not None and (
                    sheet.filtered.top <= row <= sheet.filtered.bottom
                )
                if row in sheet.hidden and (inside or not of_filter):
                    left_out.update(numbers)
        return frozenset(left_out)

    def _of_areas(
        self, arguments: tuple[FormulaNode, ...], closures: list[Closure]
    ) -> list[Closure]:
        """Return the arguments of INDEX with the area that its fourth one says of several."""
        areas = None if self._moving(arguments[0]) else self._areas(arguments[0])
        if areas is None or (len(areas) == 1 and len(arguments) < 4):
            return closures
        grids = [self._grid(area) for area in areas]
        number = closures[3] if len(arguments) > 3 else lambda slots: 1.0
        return [lambda slots: _chosen_by(number(slots), grids, slots, REF), *closures[1:3]]

    def _in_date_system(
        self, sheet_function: SheetFunction, closures: list[Closure], system: Closure
    ) -> Closure:
        """Return a function of dates in the system of the workbook."""
        if not self.graph.contents.since_1904 or not (
            sheet_function.dated or "d" in sheet_function.kinds
        ):
            return system
        kinds = sheet_function.kinds_of(len(closures))
        moveds = [
            _moved(closure, SYSTEM_GAP) if kind == "d" else closure
            for closure, kind in zip(closures, kinds, strict=True)
        ]
        again = _applied(sheet_function, moveds)
        return _moved(again, -SYSTEM_GAP) if sheet_function.dated else again

    def _draw(self, node: FunctionCall, array: bool, tidy: bool) -> Closure:
        """Return a uniform number between 0 and 1, or a whole one between two others."""
        number = self.compiler.draws.get((self.number, node.place))
        if node.name == "RANDARRAY" or number is None:
            raise FormulaError(f"{node.name} cannot be drawn here", owner=str(self.cell))
        slot = number
        if node.name == "RAND":
            return lambda slots: slots[slot]
        if len(node.arguments) != 2:
            raise FormulaError("RANDBETWEEN takes 2 arguments", owner=str(self.cell))
        low, high = (self.compiled(argument, array, tidy) for argument in node.arguments)
        between = FUNCTIONS["_BETWEEN"]
        return lambda slots: called(between, [slots[slot], low(slots), high(slots)], "nnn")

    def _looking(self, name: str, arguments: tuple[FormulaNode, ...]) -> Closure:
        """Return a function that looks at where a reference is."""
        areas = [Area(self.cell.sheet, *self.cell[1:], *self.cell[1:])]
        if arguments:
            looked_in = self._areas(arguments[0])
            if name == "ISREF":
                return lambda slots: looked_in is not None
            if looked_in is None:
                rows = self.compiled(arguments[0], True, False)
                if name in ("ROWS", "COLUMNS"):
                    return lambda slots: _size(rows(slots), name)
                return lambda slots: VALUE
            areas = looked_in
        area = areas[0]
        if name in ("ROW", "COLUMN") and not area.single:
            down = name == "ROW"
            grid = (
                Grid([[float(row)] for row in range(area.top, area.bottom + 1)])
                if down
                else Grid([[float(c) for c in range(area.left, area.right + 1)]])
            )
            return lambda slots: grid
        value = {
            "ROW": area.top,
            "COLUMN": area.left,
            "ROWS": area.rows,
            "COLUMNS": area.columns,
            "AREAS": len(areas),
            "SHEET": list(self.graph.contents.sheets).index(area.sheet) + 1,
            "SHEETS": 1 if arguments else len(self.graph.contents.sheets),
        }[name]
        return lambda slots: float(value)

    # forms that work out only what is needed

    def _lazy(self, name: str) -> Callable[[tuple[FormulaNode, ...], bool, bool], Closure]:
        return {
            "IF": self._if,
            "IFS": self._ifs,
            "SWITCH": self._switch,
            "CHOOSE": self._choose,
            "IFERROR": self._iferror,
            "IFNA": self._ifna,
        }[name]

    def _if(
        self, arguments: tuple[FormulaNode, ...], array: bool, tidy: bool, shown: bool = False
    ) -> Closure:
        if not 1 <= len(arguments) <= 3:
            raise FormulaError(
                f"IF takes 1 to 3 arguments, not {len(arguments)}", owner=str(self.cell)
            )
        condition = self.compiled(arguments[0], array, True)
        yes: Closure = (
            self._branch(arguments[1], array, tidy, shown) if len(arguments) > 1 else _true
        )
        no: Closure = (
            self._branch(arguments[2], array, tidy, shown) if len(arguments) > 2 else _false
        )
        return lambda slots: _branched(condition(slots), yes, no, slots)

    def _branch(self, node: FormulaNode, array: bool, tidy: bool, shown: bool = False) -> Closure:
        """Return what a condition chooses; 0 where it is left out, or where an empty cell is
        ``shown`` by the cell.
        """
        if isinstance(node, Constant) and node.value is None:
            return lambda slots: 0.0
        compiled = self.compiled(node, array, tidy)
        return (lambda slots: single(compiled(slots))) if shown else compiled

    def _ifs(self, arguments: tuple[FormulaNode, ...], array: bool, tidy: bool) -> Closure:
        if not arguments or len(arguments) % 2:
            raise FormulaError("IFS takes conditions and values in turn", owner=str(self.cell))
        ifs: Closure = _not_available
        for position in range(len(arguments) - 2, -1, -2):
            condition = self.compiled(arguments[position], array, True)
            value = self._branch(arguments[position + 1], array, tidy)
            ifs = _either(condition, value, ifs)
        return ifs

    def _switch(self, arguments: tuple[FormulaNode, ...], array: bool, tidy: bool) -> Closure:
        if len(arguments) < 3:
            raise FormulaError("SWITCH takes at least 3 arguments", owner=str(self.cell))
        subject = self.compiled(arguments[0], array, True)
        pairs = list(arguments[1:])
        switch: Closure = (
            self.compiled(pairs.pop(), array, tidy) if len(pairs) % 2 else _not_available
        )
        equal = COMPARISONS["="]
        for position in range(len(pairs) - 2, -1, -2):
            case = self.compiled(pairs[position], array, True)
            value = self.compiled(pairs[position + 1], array, tidy)
            switch = _either(_compared(equal, subject, case), value, switch)
        return switch

    def _choose(self, arguments: tuple[FormulaNode, ...], array: bool, tidy: bool) -> Closure:
        if len(arguments) < 2:
            raise FormulaError("CHOOSE takes at least 2 arguments", owner=str(self.cell))
        index = self.compiled(arguments[0], array, True)
        values = [self._area_or_value(argument, "r", array, tidy) for argument in arguments[1:]]
        return lambda slots: _chosen_by(index(slots), values, slots)

    def _iferror(self, arguments: tuple[FormulaNode, ...], array: bool, tidy: bool) -> Closure:
        return self._unless(arguments, array, tidy, "IFERROR", None)

    def _ifna(self, arguments: tuple[FormulaNode, ...], array: bool, tidy: bool) -> Closure:
        return self._unless(arguments, array, tidy, "IFNA", NA)

    def _unless(
        self,
        arguments: tuple[FormulaNode, ...],
        array: bool,
        tidy: bool,
        name: str,
        error: CellError | None,
    ) -> Closure:
        if len(arguments) != 2:
            raise FormulaError(f"{name} takes 2 arguments", owner=str(self.cell))
        value, other = (self.compiled(argument, array, tidy) for argument in arguments)
        return lambda slots: _replaced(value(slots), other, slots, error)


def _true(slots: Slots) -> Value:
    return True


def _false(slots: Slots) -> Value:
    return False


def _not_available(slots: Slots) -> Value:
    return NA


def _applied(sheet_function: SheetFunction, closures: list[Closure]) -> Closure:
    kinds = sheet_function.kinds_of(len(closures))
    if len(closures) == 1:
        only = closures[0]
        return lambda slots: called(sheet_function, (only(slots),), kinds)
    return lambda slots: called(sheet_function, [closure(slots) for closure in closures], kinds)


def _once(closure: Closure) -> Closure:
    """Return a closure that is called once and then gives the same value."""
    values: list[Value] = []

    def once(slots: Slots) -> Value:
        if not values:
            values.append(closure(slots))
        return values[0]

    return once


def _moved(closure: Closure, days: int) -> Closure:
    return lambda slots: add(closure(slots), float(days))


def _compared(equal: Any, subject: Closure, case: Closure) -> Closure:
    return lambda slots: equal(subject(slots), case(slots))


def _either(condition: Closure, yes: Closure, no: Closure) -> Closure:
    return lambda slots: _branched(condition(slots), yes, no, slots)


def _counts(sheet_function: SheetFunction) -> str:
    if sheet_function.repeated:
        return f"at least {sheet_function.needed}"
    most = len(sheet_function.kinds)
    return str(most) if most == sheet_function.needed else f"{sheet_function.needed} to {most}"


def _size(value: Value, name: str) -> Value:
    if type(value) is CellError:
        return value
    if type(value) is Alternatives:
        return over_alternatives(lambda one: _size(one, name), [value])
    if type(value) is not Grid:
        return 1.0
    return float(value.height if name == "ROWS" else value.width)


def _beside(area: Area, cell: Cell) -> Area | None:
    """Return the cell of a single row or column that lies beside a formula; None for none."""
    if area.columns == 1 and area.top <= cell.row <= area.bottom:
        return area._replace(top=cell.row, bottom=cell.row)
    if area.rows == 1 and area.left <= cell.column <= area.right:
        return area._replace(left=cell.column, right=cell.column)
    return None


def _branched(condition: Value, yes: Closure, no: Closure, slots: Slots) -> Value:
    """Return one of two branches, trial by trial; a branch that no trial needs is not worked
    out.
    """
    if type(condition) in SEVERAL:
        first, second = yes(slots), no(slots)
        return over_grids(
            lambda c, a, b: _branched(c, lambda _: a, lambda _: b, slots), condition, first, second
        )
    branched = as_logicals(condition)
    if type(branched) is bool:
        return yes(slots) if branched else no(slots)
    if type(branched) is CellError:
        return branched
    mask, errors = (
        (branched.values, branched.errors) if type(branched) is Faulty else (branched, None)
    )
    if errors is None:
        held_in = np.count_nonzero(mask)
        if held_in == len(mask):
            return yes(slots)
        if not held_in:
            return no(slots)
    chosen_cells = chosen(mask, yes(slots), no(slots))
    return chosen_cells if errors is None else _overridden(chosen_cells, errors)


def _plain(value: Value) -> bool:
    value = value.values if type(value) is Faulty else value
    return type(value) is np.ndarray and value.dtype != object


def _overridden(value: Value, errors: Any) -> Value:
    """Return a value with further errors, which come before its own."""
    if not _plain(value):
        return joined(
            [
                BY_NUMBER[number] if number else picked(value, trial)
                for trial, number in enumerate(errors.tolist())
            ]
        )
    values, own = (value.values, value.errors) if type(value) is Faulty else (value, None)
    return with_errors(values, errors if own is None else np.where(errors > 0, errors, own))


def _in_a_row(grids: list[Closure]) -> Closure:
    """Return the cells of several areas as one row."""
    return lambda slots: Grid([[value for grid in grids for value in grid(slots).flat()]])


def _one_of(values: list[Value], which: Any) -> Value:
    """Return the value that each trial has of several."""
    return over_alternatives(lambda value: value, [Alternatives(values, which)])


def _chosen_by(
    index: Value, values: list[Closure], slots: Slots, outside: CellError = VALUE
) -> Value:
    """Return the value that a number chooses, from 1."""
    if type(index) in SEVERAL:
        return over_grids(lambda item: _chosen_by(item, values, slots, outside), index)
    number = as_numbers(index)
    if type(number) is CellError:
        return number
    if type(number) is float:
        position = int(number)
        return values[position - 1](slots) if 1 <= position <= len(values) else outside
    plain, errors = (number.values, number.errors) if type(number) is Faulty else (number, None)
    with np.errstate(all="ignore"):
        places = np.where(np.isnan(plain), 0, np.trunc(plain))
    distinct, which = np.unique(places.astype(int), return_inverse=True)
    chosen_values = [
        values[position - 1](slots) if 1 <= position <= len(values) else outside
        for position in distinct.tolist()
    ]
    chosen = chosen_values[0] if len(distinct) == 1 else _one_of(chosen_values, which)
    return chosen if errors is None else _overridden(chosen, errors)


def _replaced(value: Value, other: Closure, slots: Slots, error: CellError | None) -> Value:
    """Return a value with another in place of errors, or of one kind of them."""
    kind = type(value)
    if kind is CellError:
        return other(slots) if error is None or value == error else value
    if kind is Faulty:
        mask = value.errors > 0 if error is None else value.errors == error.number
        if not mask.any():
            return value
        kept = value.values
        left = np.where(mask, np.int8(0), value.errors)
        return chosen(mask, other(slots), with_errors(kept, left) if left.any() else kept)
    if kind is np.ndarray and value.dtype == object:
        valids = [type(v) is CellError and (error is None or v == error) for v in value.tolist()]
        return chosen(np.array(valids), other(slots), value) if any(valids) else value
    if kind in SEVERAL:
        stands = other(slots)
        return over_grids(
            lambda item, otherwise: _replaced(item, lambda _: otherwise, slots, error),
            value,
            stands,
        )
    return value
