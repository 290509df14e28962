"""A model from cells: which are given, which are drawn, which are the answer, and how the cells
that draw by themselves take part.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.normal import LogNormal
from kindynos.distributions.registry import distribution_from
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import DataWarning, KindynosError, ModelError, concerning
from kindynos.model.model import Model
from kindynos.processes.base import Process
from kindynos.program.quantities import (
    Given,
    Line,
    check_name,
    check_rate,
    distribution_driver,
    given_value,
    process_driver,
)
from kindynos.workbooks.addresses import Area, Cell
from kindynos.workbooks.agreement import agreement, shown
from kindynos.workbooks.calculation import Argument, CellCalculation, Draw, Output
from kindynos.workbooks.cell_errors import CellError
from kindynos.workbooks.cell_texts import Statement
from kindynos.workbooks.cell_units import unit_of
from kindynos.workbooks.compiling import Compiler
from kindynos.workbooks.graph import DependsError, Graph, cell_in
from kindynos.workbooks.labels import as_name, name_of, unique
from kindynos.workbooks.random_cells import RandomCell, is_whole, random_cells
from kindynos.workbooks.reader import read_contents
from kindynos.workbooks.values import Value

OUTCOME_OPTIONS = ("unit", "target", "better", "missing")
MOST_DRAWS = 2_500


@dataclass
class CellModel:
    """What is stated of a workbook: names with their cells, and what else is said of each."""

    graph: Graph
    periods: int | None = None
    given: dict[str, tuple[str, dict[str, Any]]] = field(default_factory=dict)
    drivers: dict[str, tuple[str, Any, dict[str, Any]]] = field(default_factory=dict)
    lines: dict[str, tuple[str, dict[str, Any]]] = field(default_factory=dict)
    outcomes: dict[str, tuple[str, dict[str, Any]]] = field(default_factory=dict)
    correlations: list[tuple[Any, ...]] = field(default_factory=list)  # first, second, value
    accept_differences: bool = False

    def add_to(self, model: Model) -> None:
        """Add the quantities to a model; raises ModelError or ParameterError."""
        _Adding(self, model).run()
        names = {name.replace(" ", "_").lower(): name for name in self.drivers}
        for first, second, value in self.correlations:
            pair = [
                names.get(str(one).strip().replace(" ", "_").lower(), one)
                for one in (first, second)
            ]
            model.correlate(*pair, value)

    def state(self, kind: str, statement: Statement) -> None:
        """Add an outcome or a driver that a text states; raises ModelError for a name twice."""
        taken = {*self.outcomes, *self.drivers, *self.given, *self.lines}
        if statement.name in taken:
            raise ModelError(f"the name {statement.name!r} is there twice")
        label = statement.name or next(iter(names_for(self.graph, [statement.cell])))
        name = unique(label, taken)
        if kind == "drivers":
            self.drivers[name] = statement.cell, statement.distribution, statement.options
        else:
            self.outcomes[name] = statement.cell, statement.options

    def lengths(self) -> set[int]:
        """Return how many periods the areas with more than one cell have."""
        stated = [self.given, self.lines, self.outcomes]
        texts = [cell for table in stated for cell, _ in table.values()]
        texts += [cell for cell, _, _ in self.drivers.values()]
        areas = [cell_in(self.graph.contents, text) for text in texts]
        return {area.rows * area.columns for area in areas if not area.single}


class _Adding:
    """Adds what is stated of cells to a model, with drivers for the cells that draw."""

    def __init__(self, stated: CellModel, model: Model) -> None:
        self.stated, self.model, self.graph = stated, model, stated.graph
        self.contents = stated.graph.contents
        self.inputs: dict[str, tuple[Cell, ...] | Draw] = {}
        self.outputs: dict[str, Output] = {}
        self.rows: set[str] = set()
        self.owners: dict[Cell, str] = {}

    def run(self) -> None:
        """Add everything."""
        self._places()
        drawn = self._draws()
        self._check_agreement()
        parameters = [n for n, output in self.outputs.items() if isinstance(output, Argument)]
        calculation = CellCalculation(
            self.graph,
            self.inputs,
            self.outputs,
            frozenset(self.rows),
            frozenset([*(name for name, _ in drawn), *parameters]),
        )
        for name, (_, options) in self.stated.given.items():
            self._given(name, options)
        for name, (_, distribution, options) in self.stated.drivers.items():
            self._driver(name, distribution, options)
        for name, distribution in drawn:
            source = f"drawn by the workbook, {self._place(name)}"
            options = self._with_unit(name, {"source": source})
            self.model.add(distribution_driver(name, distribution, self.model.periods, **options))
        lines = [Line(name, calculation=calculation) for name in parameters]
        lines += [
            Line(check_name(name), calculation=calculation, **self._with_unit(name, options))
            for name, (_, options) in self.stated.lines.items()
        ]
        lines += [
            Line(
                check_name(name),
                outcome=True,
                calculation=calculation,
                **self._with_unit(name, options),
            )
            for name, (_, options) in self.stated.outcomes.items()
        ]
        for line in lines:
            self.model.add(line)
        self._tell_of_certain_outcomes(calculation)

    def _tell_of_certain_outcomes(self, calculation: CellCalculation) -> None:
        """Warn of outcomes that are the same in all trials."""
        certain = [
            name
            for name in self.stated.outcomes
            if not any(need not in self.stated.given for need in calculation.needs(name))
        ]
        if certain:
            depend = "depends" if len(certain) == 1 else "depend"
            text = f"{self.contents.path}: {', '.join(certain)} {depend} on no driver"
            warnings.warn(text, DataWarning, stacklevel=2)

    def _places(self) -> None:
        """Find the cells of what is stated."""
        for name, (cell, _) in self.stated.given.items():
            with concerning(f"given {name!r}"):
                self._input(name, cell)
        for name, (cell, _, _) in self.stated.drivers.items():
            with concerning(f"driver {name!r}"):
                self._input(name, cell)
        for kind, table in (("line", self.stated.lines), ("outcome", self.stated.outcomes)):
            for name, (cell, _) in table.items():
                with concerning(f"{kind} {name!r}"):
                    self._output(name, cell)

    def _check_agreement(self) -> None:
        """Compare our values of what the outcomes need with those stored in the file: refuse an
        outcome that it has already, and warn of other cells.
        """
        outcomes = {
            name: list(output)
            for name, output in self.outputs.items()
            if name in self.stated.outcomes and not isinstance(output, Argument)
        }
        cells = [self.graph.number_of(cell) for outcome in outcomes.values() for cell in outcome]
        compared = agreement(self.graph, cells)
        if compared.holds:
            return
        for name, outcome in outcomes.items():
            for cell in outcome:
                if cell in compared.differing and not self.stated.accept_differences:
                    ours, theirs = (shown(value) for value in compared.differing[cell])
                    raise ModelError(
                        f"{cell} is {ours} here and {theirs} in the file, so this would be another "
                        "model than the workbook; recalculate and save the workbook, or accept the "
                        "difference (accept_differences)",
                        owner=f"outcome {name!r}",
                    )
        if compared.differing:
            warnings.warn(f"{self.contents.path}: {compared.words}", DataWarning, stacklevel=2)

    def _place(self, name: str) -> str:
        position = self.inputs[name]
        return str(position.cell if isinstance(position, Draw) else position[0])

    def _area(self, text: str) -> Area:
        area = cell_in(self.contents, text)
        if area.single:
            return area
        periods = self.model.periods
        if 1 not in (area.rows, area.columns):
            raise ModelError(f"{area} is neither a row nor a column")
        count = area.rows * area.columns
        if periods != count:
            requested = "has no periods" if periods is None else f"has {periods} periods"
            raise ModelError(
                f"{area} has {count} cells, one for each period, and the model {requested}"
            )
        return area

    def _input(self, name: str, text: str) -> None:
        area = self._area(text)
        cells = tuple(area.cells())
        for cell in cells:
            other = self.owners.get(cell)
            if other is not None:
                raise ModelError(f"{cell} is already {other!r}; a cell has one name")
            self.owners[cell] = name
            value = self._value(cell)
            if isinstance(value, str | bool | CellError):
                what = f"the text {value!r:.40}" if isinstance(value, str) else repr(value)
                raise ModelError(f"{cell} holds {what}, not a number")
        self.inputs[check_name(name)] = cells
        if not area.single:
            self.rows.add(name)

    def _output(self, name: str, text: str) -> None:
        area = self._area(text)
        for cell in area.cells():
            value = self._value(cell)
            if isinstance(value, str) and not self.graph.is_formula(self.graph.number_of(cell)):
                raise ModelError(f"{cell} holds the text {value!r:.40}, not a number")
        self.outputs[check_name(name)] = tuple(area.cells())
        if not area.single:
            self.rows.add(name)

    def _value(self, cell: Cell) -> Value:
        return self.contents.sheets[cell.sheet].values.get((cell.row, cell.column))

    def _stored(self, name: str) -> list[float]:
        position = self.inputs[name]
        assert not isinstance(position, Draw)
        return [float(self._value(cell) or 0.0) for cell in position]

    def _given(self, name: str, options: dict[str, Any]) -> None:
        stored = self._stored(name)
        stored_value = stored if name in self.rows else stored[0]
        stated = options.get("value")
        value = given_value(name, stored_value if stated is None else stated, self.model.periods)
        others = {key: option for key, option in options.items() if key != "value"}
        self.model.add(check_rate(Given(name, value, **self._with_unit(name, others))))

    def _with_unit(self, name: str, options: dict[str, Any]) -> dict[str, Any]:
        """Return the options of a quantity with the unit of its cell, where none is stated."""
        place = self.inputs.get(name, self.outputs.get(name))
        if options.get("unit") is not None or not isinstance(place, tuple):
            return options
        return {**options, "unit": unit_of(self.contents, place[0])}

    def _driver(self, name: str, distribution: Any, options: dict[str, Any]) -> None:
        options = self._with_unit(name, options)
        row = name in self.rows
        if isinstance(distribution, Process):
            if not row:
                raise ModelError(
                    "a process fills a row of cells, one for each period", owner=f"driver {name!r}"
                )
            self.model.add(process_driver(name, distribution, self.model.periods, **options))
            return
        if row and options.get("each") is None:
            options = {**options, "each": "period"}
        if not row:
            options = {"base": self._base(name), **options}
        self.model.add(distribution_driver(name, distribution, self.model.periods, **options))

    def _base(self, name: str) -> float | None:
        """Return what the cell holds; None where it draws, or is empty."""
        position = self.inputs[name]
        assert not isinstance(position, Draw)
        number = self.graph.number_of(position[0])
        formula = self.graph.formulas.get(number)
        value = self._value(position[0])
        drawn = formula is not None and number in random_cells(self.graph)
        return value if isinstance(value, float) and not drawn else None

    # cells that draw

    def _draws(self) -> list[tuple[str, Any]]:
        """Return the drivers of the cells that draw and that outcomes depend on."""
        drawn = random_cells(self.graph)
        if not drawn:
            return []
        bound = self.graph.with_inputs(
            self.graph.number_of(cell)
            for position in self.inputs.values()
            if not isinstance(position, Draw)
            for cell in position
        )
        Compiler(bound, {})
        seeds = [
            self.graph.number_of(cell)
            for output in self.outputs.values()
            if not isinstance(output, Argument)
            for cell in output
        ]
        reached = {n for group in bound.ordered(seeds, bound.inputs) for n in group}
        cells = [driver for number, driver in drawn.items() if number in reached]
        if len(cells) > MOST_DRAWS:
            raise ModelError(
                f"{len(cells):,} cells draw; a model may have {MOST_DRAWS:,}. Where a sheet "
                "repeats one trial down its rows, name the result of one row: a run takes the "
                "place of the copies"
            )
        rows = [(driver.cell.sheet, driver.cell.row) for driver in cells]
        taken = {*self.stated.lines, *self.stated.outcomes, *self.inputs}
        draws: list[tuple[str, Any]] = []
        for driver in cells:
            several = (
                rows.count((driver.cell.sheet, driver.cell.row)) > 1 if len(rows) < 500 else False
            )
            name = unique(name_of(self.graph, driver.cell, several), taken)
            distribution = self._distribution(driver, name, bound)
            if distribution is not None:
                self.inputs[name] = (driver.cell,)
                draws.append((name, distribution))
                taken.add(name)
                continue
            for position in driver.places:
                distinct = unique(f"{name}_draw", taken)
                self.inputs[distinct] = Draw(driver.cell, position)
                draws.append((distinct, distribution_from("uniform", {"low": 0.0, "high": 1.0})))
                taken.add(distinct)
        return draws

    def _distribution(
        self, random_cell: RandomCell, name: str, bound: Graph
    ) -> Distribution | StatedDistribution | None:
        """Return the distribution that a cell is; None where its formula is kept."""
        if random_cell.distribution is None or random_cell.parameters is None:
            return None
        values: dict[str, Any] = {}
        moving: list[tuple[str, int]] = []
        for parameter, (argument, node) in random_cell.parameters.items():
            try:
                value = _fixed(bound, node, random_cell.cell)
            except DependsError:
                if argument is None or random_cell.call is None:
                    return None
                moving.append((parameter, argument))
                continue
            if not isinstance(value, float):
                return None
            values[parameter] = value
        kind = CATALOGUE[random_cell.distribution]
        if moving and not (kind.by_trial and random_cell.distribution in ("normal", "uniform")):
            return None
        for parameter, argument in moving:
            assert random_cell.call is not None
            line = unique(f"{name}_{parameter}", {*self.outputs, *self.inputs})
            self.outputs[line] = Argument(random_cell.cell, random_cell.call, argument)
            values[parameter] = line
        try:
            return _made(random_cell.distribution, values)
        except KindynosError:
            return None


def _fixed(graph: Graph, node: Any, cell: Cell) -> Value:
    """Return the value of a parameter that depends on nothing drawn or changed."""
    compiler = Compiler(graph, {})
    return compiler.fixed_value(node, cell)


def _made(label: str, values: dict[str, Any]) -> Distribution | StatedDistribution | None:
    if label == "lognormal":
        return LogNormal.from_log(values["mu"], values["sigma"])
    if label in ("binomial", "integer uniform"):
        whole = ("trials",) if label == "binomial" else ("low", "high")
        if not all(is_whole(values[key]) for key in whole):
            return None
        values = {key: int(v) if key in whole else v for key, v in values.items()}
    return distribution_from(label, values)


def cells_of_file(
    model: Model, path: Path, tables: Mapping[str, Mapping[str, Any]], accept_differences: bool
) -> None:
    """Add the cells that a model file names to its model; raises FileError for a workbook that
    cannot be read, and ModelError.
    """
    contents = read_contents(path)
    graph = Graph.of(contents)
    graph.hold()
    stated = CellModel(graph, accept_differences=accept_differences)
    keys = {
        "given": ("value", "unit", "source", "convert"),
        "lines": ("unit",),
        "outcomes": OUTCOME_OPTIONS,
    }
    for kind, requested in keys.items():
        for name, entry in tables[kind].items():
            options = {key: getattr(entry, key) for key in requested}
            getattr(stated, kind)[name] = entry.cell, options
    stated.drivers.update(tables["drivers"])
    stated.add_to(model)


def title_of(path: str) -> str:
    """Return the name of a model from the name of its workbook."""
    stem = Path(path).stem.replace("_", " ").strip()
    return stem[:1].upper() + stem[1:] if stem else "Workbook"


def names_for(graph: Graph, cells: Iterable[str]) -> dict[str, str]:
    """Return names for cells that are given by their addresses."""
    names: dict[str, str] = {}
    for text in cells:
        area = cell_in(graph.contents, text)
        given = as_name(text) if "!" not in text and area.single else ""
        name = given if (None, text.upper()) in graph.contents.names else name_of(graph, area.first)
        names[unique(name, names)] = text
    return names
