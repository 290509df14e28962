"""Working out cells of a workbook for all trials at once: a plan of closures in order, in which a
value is let go after its last use.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ModelError
from kindynos.finance.notes import note
from kindynos.program.calculation import YEARS, Apart, Calculation, is_figure
from kindynos.workbooks.addresses import Area, Cell
from kindynos.workbooks.cell_errors import BY_NUMBER, NUM, VALUE, CellError
from kindynos.workbooks.changed_cells import changed_cells, with_switches
from kindynos.workbooks.collecting import uncollected
from kindynos.workbooks.compiling import TIDYING, Compiler, single
from kindynos.workbooks.formulas import Binary, Constant, FormulaNode, FunctionCall
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.labels import name_of, unique
from kindynos.workbooks.operators import COMPARISONS, SEVERAL
from kindynos.workbooks.values import (
    FLOAT,
    Closure,
    Faulty,
    Settled,
    Slots,
    Value,
    as_numbers,
    number_in_text,
    with_errors,
)

SETTLED = 1e-10  # relative change at which cells in a circle have settled
MOST_ROUNDS = 1000
MOST_APART = 200  # figures of two workbooks that become quantities
MOST_SWITCHED = 12  # formulas that are changed one by one


def careful() -> Any:
    """Return a context in which what overflows, or is divided by 0, is not passed over."""
    return np.errstate(over="raise", divide="raise", invalid="raise", under="ignore")


@dataclass(frozen=True)
class Draw:
    """A call of RAND or RANDBETWEEN: its cell, and which call of its formula it is."""

    cell: Cell
    place: int


@dataclass(frozen=True)
class Argument:
    """What a function of a cell's formula takes: the call by its place, and the argument."""

    cell: Cell
    place: int
    number: int


Output = tuple[Cell, ...] | Argument


@dataclass(frozen=True)
class CellPlan:
    """What is worked out in order: each cell with its closure, and what is let go after it."""

    base: list[Value]
    steps: list[tuple[int, Closure, tuple[int, ...]]]
    wholes: frozenset[int]
    outputs: dict[str, list[Closure]]


@dataclass(frozen=True, eq=False)
class CellCalculation(Calculation):
    """Cells of a workbook as lines of a model: ``inputs`` are the cells, or calls of RAND, whose
    values the model gives by name, ``outputs`` what it asks for.
    """

    graph: Graph = field(repr=False)
    inputs: Mapping[str, tuple[Cell, ...] | Draw]
    outputs: Mapping[str, Output]
    rows: frozenset[str] = frozenset()  # outputs, and inputs, with one cell for each period
    implied: frozenset[str] = frozenset()  # of the cells that draw by themselves

    def __getstate__(self) -> dict[str, Any]:
        kept = ("graph", "inputs", "outputs", "rows", "implied")
        return {key: value for key, value in self.__dict__.items() if key in kept}

    @property
    def file(self) -> str:
        return self.graph.contents.path

    def stated(self) -> object:
        contents = self.graph.contents
        held = {self.graph.cells[number] for number in self.graph.held}
        sheets = [
            (
                sheet.name,
                [
                    (place, value)
                    for place, value in sorted(sheet.values.items())
                    if place not in sheet.formulas or Cell(sheet.name, *place) in held
                ],
                sorted(sheet.formulas.items()),
                sorted(sheet.shared.items()),
                *([sorted(sheet.hidden), sheet.filtered] if sheet.hidden else []),
            )
            for sheet in contents.sheets.values()
        ]
        names = sorted(contents.names.items(), key=repr)
        return (sheets, names, dict(self.inputs), dict(self.outputs), sorted(self.rows))

    def apart_from(self, new: Calculation) -> Apart | None:
        if not isinstance(new, CellCalculation):
            return None
        if dict(self.inputs) != dict(new.inputs) or self.rows != new.rows:
            return None
        changed = changed_cells(self.graph.contents, new.graph.contents)
        given = {c for place in self.inputs.values() if isinstance(place, tuple) for c in place}
        figures = {c: values for c, values in changed.figures.items() if c not in given}
        if len(figures) > MOST_APART:
            return None
        names: dict[str, Cell] = {}
        for cell in figures:
            taken = {*names, *self.inputs, *self.outputs}
            names[unique(name_of(new.graph, cell), taken)] = cell
        values = {name: figures[cell] for name, cell in names.items()}
        inputs = {**self.inputs, **{name: (cell,) for name, cell in names.items()}}
        if changed.others or len(changed.formulas) > MOST_SWITCHED:
            after = replace(new, inputs=inputs)
            return Apart(replace(self, inputs=inputs), after, values, {}, changed.words)
        if not changed.formulas:  # the two work out the same
            both = replace(self, inputs=inputs)
            return Apart(both, both, values, {}, ())
        graph, switches = with_switches(new.graph.contents, changed)
        words: dict[str, str] = {}
        for switch, (cell, (before, now)) in zip(switches, changed.formulas.items(), strict=True):
            label = name_of(new.graph, cell, several=True)
            name = unique(f"{label}_formula", {*inputs, *self.outputs})
            inputs[name], values[name] = (switch,), (0.0, 1.0)
            words[name] = f"{cell}: ={before} -> ={now}"
        both = replace(new, graph=graph, inputs=inputs)
        return Apart(both, both, values, words, ())

    def place_of(self, name: str) -> str | None:
        position = self.inputs.get(name, self.outputs.get(name))
        if not isinstance(position, tuple):
            return None if position is None else str(position.cell)
        first, last = position[0], position[-1]
        return str(Area(first.sheet, first.row, first.column, last.row, last.column))

    @cached_property
    def _numbers(self) -> dict[str, list[int]]:
        """The numbers of the cells of each input, and new ones for calls of RAND."""
        numbers = {}
        for name, position in self.inputs.items():
            if isinstance(position, Draw):
                number = len(self.graph.cells)
                self.graph.cells.append(position.cell)
                self.graph.constants.append(0.5)
                numbers[name] = [number]
            else:
                numbers[name] = [self.graph.number_of(cell) for cell in position]
        return numbers

    @cached_property
    def _bound(self) -> Graph:
        """The graph with the inputs."""
        numbers = self._numbers
        cells = [
            number
            for name, position in self.inputs.items()
            if not isinstance(position, Draw)
            for number in numbers[name]
        ]
        return self.graph.with_inputs(cells)

    @cached_property
    def _compiler(self) -> Compiler:
        draws = {}
        for name, position in self.inputs.items():
            if isinstance(position, Draw):
                cell = self.graph.number_of(position.cell)
                for number in (cell, *self._wholes_of(cell)):
                    draws[number, position.place] = self._numbers[name][0]
        return Compiler(self._bound, draws)

    def _wholes_of(self, cell: int) -> list[int]:
        piece = self.graph.parts.get(cell)
        return [] if piece is None else [piece[0]]

    @cached_property
    def _names(self) -> dict[int, str]:
        """The input of each number."""
        return {number: name for name, numbers in self._numbers.items() for number in numbers}

    def _seeds(self, output: Output) -> list[int]:
        if not isinstance(output, Argument):
            return [self.graph.number_of(cell) for cell in output]
        node = self._argument(output)
        return [
            number
            for area in self._bound.areas_in(node, output.cell)
            for number in self._bound.worked_out_in(area)
        ]

    def _argument(self, output: Argument) -> FormulaNode:
        formula = self.graph.formulas[self.graph.number_of(output.cell)]
        call = next(
            node
            for node in formula.tree.walk()
            if isinstance(node, FunctionCall) and node.place == output.place
        )
        return call.arguments[output.number]

    def needs(self, name: str) -> tuple[str, ...]:
        return self._all_needs[name]

    @cached_property
    def _all_needs(self) -> dict[str, tuple[str, ...]]:
        compiler, graph = self._compiler, self._bound
        draws: dict[int, list[str]] = {}
        for (number, _), slot in compiler.draws.items():
            draws.setdefault(number, []).append(self._names[slot])
        all_needs = {}
        for name, output in self.outputs.items():
            seeds = self._seeds(output)
            reached: set[int] = set()
            waiting = list(seeds)
            while waiting:
                number = waiting.pop()
                if number not in reached and graph.is_formula(number):
                    reached.add(number)
                    waiting.extend(graph.needs(number))
            names = {self._names[number] for number in reached if number in self._names}
            names |= {draw for number in reached for draw in draws.get(number, ())}
            all_needs[name] = tuple(key for key in self.inputs if key in names)
        return all_needs

    def hides_figures(self, name: str) -> bool:
        graph, seen = self._bound, set[int]()
        waiting = list(self._seeds(self.outputs[name]))
        while waiting:
            number = waiting.pop()
            formula = graph.formulas.get(number)
            if number in seen or number in graph.inputs or formula is None:
                continue
            seen.add(number)
            for node in formula.tree.walk():
                if isinstance(node, Constant) and is_figure(node.value):
                    return True
            for area in graph.areas_in(formula.tree, formula.cell):
                for other in (n for row in graph.numbers_in(area) for n in row if n):
                    typed = not graph.is_formula(other) and other not in graph.inputs
                    value = graph.constants[other]
                    if typed and type(value) is float and value not in (0.0, 1.0, *YEARS):
                        return True
                    waiting.append(other)
        return False

    def is_row(self, name: str) -> bool:
        return name in self.rows

    def evaluate(
        self, names: Collection[str], values: Mapping[str, Floats], trials: int
    ) -> dict[str, Floats]:
        plan = self._plan(tuple(names))
        requested = {need for name in names for need in self.needs(name)}
        slots = self._run(plan, {name: values[name] for name in requested})
        by_name = {}
        for name, closures in plan.outputs.items():
            with careful():
                rows = [self._numeric(name, closure(slots), trials) for closure in closures]
            if not self.is_row(name):
                by_name[name] = rows[0]
                continue
            random = any(row.ndim for row in rows)
            by_name[name] = np.stack(
                [np.broadcast_to(row, (trials,)) if random else row.reshape(1) for row in rows]
            )
        return by_name

    def _numeric(self, name: str, value: Value, trials: int) -> Floats:
        """Return a value as numbers, NaN for errors and texts, which the listener hears of."""
        value = single(value)
        number = as_numbers(value)
        texts = _texts_in(value, trials)
        for text, count in texts.items():
            note(f"the text {text!r:.40}", count, name)
        if type(number) is CellError:
            if not texts:
                note(number.code, trials, name)
            return np.full((), np.nan)
        if type(number) is Faulty:
            counts = np.bincount(number.errors, minlength=VALUE.number + 1)
            counts[VALUE.number] -= sum(texts.values())  # which were noted as texts
            for code in np.flatnonzero(counts[1:]).tolist():
                note(BY_NUMBER[code + 1].code, int(counts[code + 1]), name)
            return np.asarray(number.values)
        return np.asarray(number, dtype=np.float64)

    def _run(self, plan: CellPlan, values: Mapping[str, Floats]) -> Slots:
        slots = list(plan.base)
        for name, array in values.items():
            numbers = self._numbers[name]
            if name in self.rows:
                for position, number in enumerate(numbers):
                    slots[number] = _given(array[position])
            else:
                slots[numbers[0]] = _given(array)
        with careful():
            for number, closure, dead in plan.steps:
                value = closure(slots)
                if number not in plan.wholes and _is_odd(value):
                    value = single(value)
                slots[number] = value
                for gone in dead:
                    slots[gone] = None
        return slots

    @cached_property
    def _plans(self) -> dict[tuple[str, ...], CellPlan]:
        return {}

    def _plan(self, names: tuple[str, ...]) -> CellPlan:
        if names not in self._plans:
            self._plans[names] = self._planned(names)
        return self._plans[names]

    @uncollected()
    def _planned(self, names: tuple[str, ...]) -> CellPlan:
        """Return the plan for some outputs; what depends on no input is worked out once."""
        compiler, graph = self._compiler, self._bound
        seeds = {name: self._seeds(self.outputs[name]) for name in names}
        values = [number for numbers in seeds.values() for number in numbers]
        groups = graph.ordered(values, graph.inputs)
        order = [number for group in groups for number in group]
        tidy = tidied(graph, order)
        moving = self._moving(groups)
        base = Settled(graph.constants)
        base += [None] * (len(graph.cells) - len(base))
        wholes = frozenset(owner for owner, _, _ in graph.parts.values())
        steps: list[tuple[int, Closure, tuple[int, ...]]] = []
        for group in groups:
            if len(group) > 1 or group[0] in graph.needs(group[0]):
                steps.append((group[-1], settling(compiler, group, base), ()))
                continue
            number = group[0]
            closure = compiler.closure(number, number in tidy)
            if number in moving:
                steps.append((number, closure, ()))
                continue
            base[number] = _worked_out(closure, base, number in wholes)
        kept = set(values) | {number for group in groups if len(group) > 1 for number in group}
        outputs = {name: self._outputs_of(name) for name in names}
        return CellPlan(base, _with_last_uses(steps, graph, kept), wholes, outputs)

    def _outputs_of(self, name: str) -> list[Closure]:
        output = self.outputs[name]
        if isinstance(output, Argument):
            from kindynos.workbooks.compiling import _Cell

            cell = _Cell(self._compiler, self.graph.number_of(output.cell), output.cell)
            return [cell.compiled(self._argument(output), False, True)]
        return [_taking(self.graph.number_of(cell)) for cell in output]

    def _moving(self, groups: Iterable[list[int]]) -> set[int]:
        """Return the cells that depend on an input."""
        graph = self._bound
        drawn = {number for number, _ in self._compiler.draws}
        moving = set(graph.inputs)
        for group in groups:
            needs = {need for number in group for need in graph.needs(number)}
            circle = len(group) > 1 or group[0] in needs
            if circle or not moving.isdisjoint(needs) or not drawn.isdisjoint(group):
                moving.update(group)
        return moving


def _worked_out(closure: Closure, slots: Slots, whole: bool) -> Value:
    """Return the value of a cell that is the same in all trials."""
    with np.errstate(all="ignore"):
        value = closure(slots)
    return value if whole else single(value)


def working_out(
    compiler: Compiler, group: list[int], slots: Slots, tidy: set[int], wholes: set[int]
) -> None:
    """Put the values of a cell, or of cells in a circle, into their slots."""
    if len(group) > 1 or group[0] in compiler.graph.needs(group[0]):
        _worked_out(settling(compiler, group, slots), slots, True)
        return
    number = group[0]
    slots[number] = _worked_out(compiler.closure(number, number in tidy), slots, number in wholes)


def settling(compiler: Compiler, group: list[int], base: list[Value]) -> Closure:
    """Return what works out cells that need each other, round by round until they settle; raises
    ModelError where the workbook does not switch iteration on.
    """
    graph, contents = compiler.graph, compiler.graph.contents
    if not contents.iterates:
        shown = " -> ".join(str(graph.cells[number]) for number in _circle_of(group, graph))
        raise ModelError(
            f"cells need each other in a circle: {shown}; the workbook does not switch iteration on"
        )
    closures = [(number, compiler.closure(number, False)) for number in group]
    starts = {n: base[n] if type(base[n]) is float else 0.0 for n in group}
    rounds = max(MOST_ROUNDS, contents.iterations)

    def settle(slots: Slots) -> Value:
        for number in group:
            slots[number] = starts[number]
        for _ in range(rounds):
            apart: Any = False
            for number, closure in closures:
                new = single(closure(slots))
                apart = apart | _apart(new, slots[number])
                slots[number] = new
                if type(slots) is Settled:
                    slots.grids.clear()
            if not np.any(apart):
                return slots[group[-1]]
        _unsettled(slots, group, apart)
        return slots[group[-1]]

    return settle


def _texts_in(value: Value, trials: int) -> dict[str, int]:
    """Return the texts in a value that state no number, each with how many trials have it."""
    if type(value) is str:
        return {} if number_in_text(value) is not None else {value: trials}
    if type(value) is not np.ndarray or value.dtype != object:
        return {}
    counts = Counter(cell for cell in value.tolist() if type(cell) is str)
    return {text: count for text, count in counts.items() if number_in_text(text) is None}


def _is_odd(value: Value) -> bool:
    """Return whether a value may be nothing, or several values side by side."""
    kind = type(value)
    return value is None or kind in SEVERAL or (kind is np.ndarray and value.dtype == object)


def _given(array: Floats) -> Value:
    """Return what a model gives to a cell: a number, or numbers one per trial; an error where there
    is none.
    """
    if array.ndim == 0 or array.size == 1:
        number = float(array.reshape(-1)[0])
        return number if number == number else NUM
    if np.isnan(array).any():
        return with_errors(array, np.where(np.isnan(array), np.int8(NUM.number), np.int8(0)))
    return array if array.dtype is FLOAT else array.astype(np.float64)


def _taking(number: int) -> Closure:
    return lambda slots: slots[number]


def _apart(new: Value, old: Value) -> Any:
    """Return whether values have moved since the last round, alone or one per trial."""
    values, other = as_numbers(new), as_numbers(old)
    if type(values) is CellError or type(other) is CellError:
        return new != old if type(new) is type(old) else True
    values = values.values if type(values) is Faulty else values
    other = other.values if type(other) is Faulty else other
    with np.errstate(all="ignore"):
        near = np.abs(values - other) <= SETTLED * np.maximum(1.0, np.abs(values))
        return ~(near | (np.isnan(values) & np.isnan(other)))


def _unsettled(slots: Slots, group: list[int], shifted: Any) -> None:
    """Take the value from trials in which a circle did not settle."""
    trials = np.size(shifted)
    note("cells in a circle did not settle", int(np.sum(shifted)) if trials > 1 else 1)
    for number in group:
        value = slots[number]
        if np.ndim(shifted) == 0:
            slots[number] = NUM
            continue
        plain = np.broadcast_to(value.values if type(value) is Faulty else value, shifted.shape)
        errors = np.where(shifted, np.int8(NUM.number), np.int8(0))
        if type(value) is Faulty:
            errors = np.where(value.errors > 0, value.errors, errors)
        slots[number] = with_errors(np.asarray(plain, dtype=np.float64), errors)


def _circle_of(group: list[int], graph: Graph) -> list[int]:
    """Return cells of a group that need each other in turn, the first one again at the end."""
    members, path = set(group), [group[0]]
    while True:
        following = next(need for need in graph.needs(path[-1]) if need in members)
        if following in path:
            return [*path[path.index(following) :], following]
        path.append(following)


def _with_last_uses(
    steps: list[tuple[int, Closure, tuple[int, ...]]], graph: Graph, kept: set[int]
) -> list[tuple[int, Closure, tuple[int, ...]]]:
    """Return the steps with the cells that none after them needs."""
    last: dict[int, int] = {}
    own = {number for number, _, _ in steps}
    for position, (number, _, _) in enumerate(steps):
        last.setdefault(number, position)
        for need in graph.needs(number):
            if need in own:
                last[need] = position
    dead: dict[int, list[int]] = {}
    for number, position in last.items():
        if number not in kept:
            dead.setdefault(position, []).append(number)
    return [
        (number, closure, tuple(dead.get(position, ())))
        for position, (number, closure, _) in enumerate(steps)
    ]


def tidied(graph: Graph, order: list[int]) -> set[int]:
    """Return the cells that a comparison, a condition, a rounding or a text uses, directly
    or through others.
    """
    names: set[int] = set()
    exposed: dict[int, list[FormulaNode]] = {}
    for number in reversed(order):
        if number in names or number in graph.parts:
            names.update(graph.needs(number))
            continue
        formula = graph.formulas.get(number)
        if formula is None:
            continue
        key = id(formula.tree)
        if key not in exposed:
            exposed[key] = _exposed(formula.tree)
        for node in exposed[key]:
            for area in graph.areas_in(node, formula.cell):
                names.update(graph.worked_out_in(area))
    return names


def _exposed(tree: FormulaNode) -> list[FormulaNode]:
    """Return the parts of a formula that are compared, rounded or turned into a text."""
    exposed: list[FormulaNode] = []
    waiting = [tree]
    while waiting:
        node = waiting.pop()
        compares = isinstance(node, Binary) and (
            node.operator in COMPARISONS or node.operator == "&"
        )
        if compares or (isinstance(node, FunctionCall) and node.name in TIDYING):
            exposed.append(node)
        else:
            waiting.extend(node.parts())
    return exposed
