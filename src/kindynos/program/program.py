"""A model made ready to run: names resolved, shapes known, lines in order. Immutable, and the same
for any worker.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.groups import DriverGroup
from kindynos.dependence.scores import Scores, joined
from kindynos.distributions.stated import StatedDistribution
from kindynos.engine.blocks import SHARES
from kindynos.errors import FormulaError, KindynosError, ModelError
from kindynos.events.events import Events
from kindynos.finance.annual_rates import per_period
from kindynos.finance.notes import listening
from kindynos.formula.group import Group
from kindynos.formula.shapes import NUMBER, ROW, Shape
from kindynos.formula.tree import PERIOD, TableSum
from kindynos.program.calculation import Calculation
from kindynos.program.correlations import Correlation, Repair, groups_of
from kindynos.program.correlations import check_names as check_correlated_names
from kindynos.program.drawn_events import DrawnEvents, Sizes
from kindynos.program.order import check_names, ordered
from kindynos.program.probe import Probe
from kindynos.program.quantities import (
    YEARLY,
    DependentDriver,
    DistributionDriver,
    Driver,
    Given,
    Line,
    PickingDriver,
    Quantity,
    with_figures,
)
from kindynos.program.steps import (
    CalculationStep,
    DependentStep,
    EventStep,
    FormulaStep,
    GroupStep,
    SharedStep,
    Step,
)
from kindynos.program.timeline import STEPS, Timeline
from kindynos.sampling.plans import Plan, ScoreRequest

MOST_TRIED = 20_000  # of the same, for which formulas are tried on reading
MOST_CELLS = 5_000_000  # quantities x periods of a model

Notes = dict[tuple[str, str], int]


@dataclass(frozen=True)
class Program:
    """What ``compile_model`` makes of a model's quantities."""

    name: str
    timeline: Timeline
    givens: Mapping[str, Given]
    drivers: Mapping[str, Driver]
    lines: Mapping[str, Line]
    shapes: Mapping[str, Shape]
    steps: tuple[Step, ...]
    constants: Mapping[str, Floats] = field(repr=False)
    correlations: tuple[Correlation, ...] = ()
    groups: tuple[DriverGroup, ...] = ()
    shock_groups: tuple[DriverGroup, ...] = ()  # of further shocks of processes
    repairs: tuple[Repair, ...] = ()
    targets: frozenset[str] = frozenset()  # given figures that are targets of outcomes
    yearly: frozenset[str] = frozenset()  # rates a year that lines use as rates of a period
    events_a_trial: float = 0.0  # about how many events a trial has that are held at a time
    recorded: bool = False  # whether its lines were read from a saved run without their functions
    titles: tuple[tuple[str, str], ...] = ()  # what people call quantities, by name

    @property
    def periods(self) -> int:
        """The number of periods; 0 for a model without."""
        return self.timeline.periods or 0

    @property
    def order(self) -> list[str]:
        """The names of the lines in the order they are evaluated."""
        return [name for step in self.steps for name in step.names if name in self.lines]

    @property
    def checks(self) -> list[str]:
        """The names of the conditions that must hold in every trial, as declared."""
        return [name for name, line in self.lines.items() if line.check]

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes, as declared."""
        return [name for name, line in self.lines.items() if line.outcome]

    @property
    def quantities(self) -> list[str]:
        """The names of everything that has a value in a run: all but tables and events."""
        return [name for name, shape in self.shapes.items() if shape.array]

    def shown_driver(self, name: str) -> Driver | None:
        """Return a driver as people see it: of one that picks the sizes of claims, a driver of
        these; None for one that picks something else.
        """
        driver = self.drivers[name]
        if not isinstance(driver, PickingDriver):
            return driver
        for line in self.lines.values():
            if isinstance(line.events, Sizes) and line.events.picking == name:
                stated, unit = line.events.distribution, line.unit
                about: dict[str, Any] = {"unit": unit, "source": driver.source, "each": "event"}
                if isinstance(stated, StatedDistribution):
                    return DependentDriver(name, distribution=stated, **about)
                return DistributionDriver(name, distribution=stated, **about)
        return None

    def rests_on_events(self, name: str) -> bool:
        """Return whether events, such as claims, are among what a quantity is calculated from."""
        return any(self.shapes[n].events for n in self.ancestors([name]) if n in self.shapes)

    def is_quantity(self, name: str) -> bool:
        """Return whether a name has a value in a run."""
        return name in self.shapes and self.shapes[name].array

    @property
    def named(self) -> list[str]:
        """The names of what is a parameter of a driver's distribution."""
        return [
            name
            for driver in self.drivers.values()
            if isinstance(driver, DependentDriver)
            for name in driver.needs
        ]

    def unit(self, name: str) -> str | None:
        """Return the unit of a quantity."""
        quantity: Quantity = self.lines.get(name) or self.drivers.get(name) or self.givens[name]
        return quantity.unit

    def ancestors(self, names: Iterable[str]) -> set[str]:
        """Return the names and all that they are calculated from."""
        needed: set[str] = set()
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            if name not in needed:
                needed.add(name)
                quantity = self.lines.get(name) or self.drivers.get(name)
                if isinstance(quantity, Line):
                    waiting.extend((*quantity.needs, *quantity.needs_earlier))
                elif isinstance(quantity, DependentDriver):
                    waiting.extend(quantity.needs)
        return needed

    def requests(self) -> list[ScoreRequest]:
        """Return the scores that the drivers need, and after them those of copulas that need
        more.
        """
        by_name = {
            request.name: request
            for driver in self.drivers.values()
            for request in driver.requests(self.periods)
        }
        extra = {
            name: by_name[group.names[0]].rows
            for group in self.groups
            for name in group.extra_names
        }
        return [*by_name.values(), *(ScoreRequest(name, rows) for name, rows in extra.items())]

    def scores(self, plan: Plan, seed: int, block: int, trials: int, requested: set[str]) -> Scores:
        """Return the wanted drivers' scores in a block, dependent where the model says so."""
        groups = [group for group in self.groups if not requested.isdisjoint(group.names)]
        further = [
            shock_group
            for shock_group in self.shock_groups
            if not requested.isdisjoint(shock_group.drivers)
        ]
        own = {
            request.name
            for name in requested
            for request in self.drivers[name].requests(self.periods)
        }
        needed = own.union(
            *(group.names for group in [*groups, *further]),
            *(group.extra_names for group in groups),
        )
        scores = Scores(plan.scores(self.requests(), seed, block, trials, needed))
        for group in [*groups, *further]:
            scores = scores.replaced(group.apply(scores, plan.stratified))
        return scores

    def draw(
        self, plan: Plan, seed: int, blocks: Mapping[int, int], names: Iterable[str] | None = None
    ) -> dict[str, Floats]:
        """Return the drivers' values in neighbouring blocks, given with their sizes, side by side
        with the trials last.

        Of a driver with named parameters it is the score, from which ``evaluate`` makes its value.
        """
        drawn_names = set(self.drivers if names is None else names).intersection(self.drivers)
        scores = [
            self.scores(plan, seed, block, trials, drawn_names) for block, trials in blocks.items()
        ]
        with np.errstate(all="ignore"):
            return {
                name: driver.values(joined(scores, [r.name for r in driver.requests(self.periods)]))
                for name, driver in self.drivers.items()
                if name in drawn_names
            }

    def base_values(self) -> dict[str, Floats]:
        """Return what stands for the drivers' base values in ``evaluate``, as one trial."""
        periods = self.periods
        with np.errstate(all="ignore"):
            return {
                name: np.full(driver.shape.dimensions(periods, 1), driver.base_value(periods))
                for name, driver in self.drivers.items()
            }

    def _without_value(self, step: Step, trials: int) -> dict[str, Floats]:
        unknown: dict[str, Any] = {
            name: np.full(self.shapes[name].dimensions(self.periods, trials), np.nan)
            for name in step.names
        }
        for name in step.names:
            if self.shapes[name].events:
                unknown[name] = Events(unknown[name], np.empty(0))
        return unknown

    def as_used(self, drawn: Mapping[str, Floats]) -> dict[str, Floats]:
        """Return drivers' values as lines use them: rates a year that convert as those of a
        period.
        """
        periods = STEPS[self.timeline.every]
        converted = self.yearly.intersection(drawn)
        return {**drawn, **{n: np.asarray(per_period(drawn[n], periods)) for n in converted}}

    @property
    def one_thread(self) -> bool:
        """Whether a function of it must not run in two threads at once."""
        return any(step.one_thread for step in self.steps)

    @property
    def shares(self) -> int:
        """The batches that a run has at least: few where each costs the same for few trials as for
        many, since thousands of cells are worked out one after the other.
        """
        return 1 if any(isinstance(step, CalculationStep) for step in self.steps) else SHARES

    @property
    def seconds_a_trial(self) -> float:
        """How long functions that take one trial at a time take for each, as far as it is known."""
        return max(
            (step.call.seconds for step in self.steps if isinstance(step, SharedStep)), default=0.0
        )

    def _last_read(
        self, needed: Collection[str], kept: Iterable[str]
    ) -> dict[tuple[str, ...], list[str]]:
        """Return the lines that no later step reads, by the names of the last step that does;
        without those that are kept. Only steps that work out something ``needed`` count.
        """
        last: dict[str, tuple[str, ...]] = {}
        for step in self.steps:
            if not any(name in needed for name in step.names):
                continue
            for name in step.names:
                quantity = self.lines.get(name) or self.drivers.get(name)
                for need in (
                    *getattr(quantity, "needs", ()),
                    *getattr(quantity, "needs_earlier", ()),
                    name,
                ):
                    last[need] = step.names
        kept = frozenset(kept)
        freed: dict[tuple[str, ...], list[str]] = {}
        for name, readers in last.items():
            if name in self.lines and name not in kept:
                freed.setdefault(readers, []).append(name)
        return freed

    def evaluate(
        self,
        drawn: Mapping[str, Floats],
        trials: int,
        requested: Iterable[str] | None = None,
        *,
        lenient: bool = False,
        calculated: Mapping[str, Floats] | None = None,
    ) -> tuple[dict[str, Floats], Notes]:
        """Return all quantities (or the wanted, and what they need) for drawn drivers, and the
        notes made on the way.

        With ``lenient``, lines that fail in every trial have no value. What is ``calculated``
        already is not worked out again.
        """
        needed = None if requested is None else self.ancestors(requested)
        if self.recorded and (needed is None or any(name in self.lines for name in needed)):
            raise ModelError(
                "the run was saved without the functions of its model; say open_run(path, "
                "model=...) to calculate its trials"
            )
        there = {} if calculated is None else calculated
        values: dict[str, Floats] = {**self.constants, **self.as_used(drawn), **there}
        as_stated = {n: given.array for n, given in self.givens.items() if n in self.yearly}
        as_stated |= {name: drawn[name] for name in self.yearly.intersection(drawn)}
        notes: Notes = {}
        freed = {}
        if requested is not None and needed is not None:
            freed = self._last_read(needed, kept=requested)
        with np.errstate(all="ignore"):
            for step in self.steps:
                if needed is not None and needed.isdisjoint(step.names):
                    continue
                if all(name in there for name in step.names):
                    continue
                with listening() as heard:
                    try:
                        values.update(step.evaluate(values, self.periods, trials))
                    except KindynosError:
                        if not lenient:
                            raise
                        values.update(self._without_value(step, trials))
                for (line, text), count in heard.items():
                    notes[line or step.names[0], text] = count
                for name in freed.get(step.names, ()):
                    values.pop(name, None)
        shapes = self.shapes if needed is None else needed.intersection(self.shapes)
        by_name = {
            name: value
            for name, value in {**values, **as_stated}.items()
            if name in shapes and not self.shapes[name].events
        }
        return by_name, notes


def _steps(
    lines: Mapping[str, Line],
    dependent: Mapping[str, DependentDriver],
    drivers: dict[str, Driver],
    shapes: dict[str, Shape],
    probe: Probe,
) -> list[Step]:
    """Return the steps that work out lines, and drivers that depend on others, each after what it
    needs; notes the shape of each, and such drivers as they were checked.
    """
    steps: list[Step] = []
    calculated: dict[str, Line | DependentDriver] = {**lines, **dependent}
    for names in ordered(calculated):
        if names[0] in shapes:  # given already by a shared call
            continue
        if names[0] in dependent:
            own_names = _checked_names(dependent[names[0]], shapes)
            drivers[own_names.name], shapes[own_names.name] = own_names, own_names.shape
            steps.append(DependentStep(own_names))
            probe.add(steps[-1])
            continue
        steps.append(_step_of(names, lines, shapes, probe, probe.periods))
    return steps


def compile_model(
    name: str,
    timeline: Timeline,
    quantities: Mapping[str, Quantity],
    correlations: tuple[Correlation, ...] = (),
) -> Program:
    """Return the program of a model. Raises ModelError or FormulaError for what cannot be
    evaluated; probes function lines.
    """
    periods = timeline.periods or 0
    check_names(quantities, timeline)
    givens = {n: q for n, q in quantities.items() if isinstance(q, Given)}
    drivers = {n: q for n, q in quantities.items() if isinstance(q, Driver)}
    used = {n: given.as_used(STEPS[timeline.every]) for n, given in givens.items()}
    rates: list[Given | Driver] = [*givens.values(), *drivers.values()]
    yearly = frozenset(rate.name for rate in rates if rate.convert)
    targets = frozenset(
        q.target for q in quantities.values() if isinstance(q, Line) and isinstance(q.target, str)
    )
    lines = {
        n: _with_target(q, quantities, used) for n, q in quantities.items() if isinstance(q, Line)
    }
    for line in lines.values():
        _check_tables(line, lines)
    drivers |= {
        n: with_figures(q, used) for n, q in drivers.items() if isinstance(q, DependentDriver)
    }
    dependent = {n: q for n, q in drivers.items() if isinstance(q, DependentDriver)}
    check_correlated_names(correlations, drivers, list(quantities))
    groups, shock_groups, repairs = groups_of(correlations, drivers, periods)
    constants = {n: _read_only(given.array) for n, given in used.items()}
    shapes = {n: given.shape for n, given in givens.items()}
    shapes |= {n: driver.shape for n, driver in drivers.items() if n not in dependent}
    for name_of, array in _known_of(timeline, quantities).items():
        constants[name_of] = _read_only(array)
        shapes[name_of] = ROW if array.ndim else Shape()
    _check_size(len(quantities), periods)
    formulas_only = not any(_may_mix_trials(line) for line in lines.values())
    large = formulas_only and len(quantities) * periods > MOST_TRIED
    probe = Probe(drivers, constants, periods, formulas_only, large)
    steps = _steps(lines, dependent, drivers, shapes, probe)
    shapes = {name_of: shape for name_of, shape in shapes.items() if name_of in quantities}
    return Program(
        name,
        timeline,
        givens,
        drivers,
        lines,
        shapes,
        tuple(steps),
        constants,
        correlations,
        groups,
        shock_groups,
        repairs,
        targets,
        yearly,
        probe.events_a_trial,
    )


def _step_of(
    names: Sequence[str],
    lines: Mapping[str, Line],
    shapes: dict[str, Shape],
    probe: Probe,
    periods: int,
) -> Step:
    """Return the step that works out a line, or lines that need each other, once the probe has
    tried it; their shapes are put among the others.
    """
    line = lines[names[0]]
    if line.tree is None:
        _check_arrays(line, shapes)
    if len(names) > 1 or line.name in line.needs_earlier:
        step: Step = _group_step([lines[n] for n in names], shapes, periods)
        probe.add(step)
    elif line.events is not None:
        step = _event_step(line.name, line.events, shapes)
        shapes[line.name] = _events_shape(line.events, shapes)
        probe.add(step)
    elif line.shared is not None:
        step = probe.shared(line.shared)
        shapes.update(step.shapes)
    elif line.calculation is not None:
        step = _calculation_step(line.calculation, lines, shapes)
        shapes.update(step.shapes)
        probe.add(step)
    elif line.tree is None:
        step = probe.function(line, shapes)
        shapes[line.name] = step.shape
    else:
        step = FormulaStep(line.name, line.tree, _formula_shape(line, shapes))
        shapes[line.name] = step.shape
        probe.add(step)
    return step


def _event_step(name: str, sizes: DrawnEvents, shapes: Mapping[str, Shape]) -> EventStep:
    """Return the step of a line of events; raises ModelError for a number of events, or a parameter
    of their size, that is not a number, and for a row where events do not happen in periods.
    """
    for need in sizes.needs:
        if not shapes[need].array:
            raise ModelError(f"rests on {need!r}, a {shapes[need]}", owner=f"claims {name!r}")
        if shapes[need].row and not shapes[sizes.picking].row:
            raise ModelError(
                f"{need!r} is a row; say each='period' for claims in every period",
                owner=f"claims {name!r}",
            )
    return EventStep(name, sizes)


def _events_shape(sizes: DrawnEvents, shapes: Mapping[str, Shape]) -> Shape:
    return Shape(shapes[sizes.picking].row, True, events=True)


def _check_arrays(line: Line, shapes: Mapping[str, Shape]) -> None:
    """Raise ModelError for a line that is no formula and needs events."""
    for need in line.needs if line.events is None else ():
        if need in shapes and shapes[need].events:
            raise ModelError(
                f"needs {need!r}, which are events; add a line such as 'total({need})', and use "
                "that",
                owner=f"line {line.name!r}",
            )


def _known_of(timeline: Timeline, quantities: Mapping[str, Quantity]) -> dict[str, Floats]:
    """Return what a timeline makes known, such as the number of each period, and no quantity is
    called.
    """
    periods = timeline.periods or 0
    counted = {PERIOD: tuple(map(float, range(1, periods + 1)))} if periods else {}
    by_name = {}
    for name, value in {**counted, **timeline.known}.items():
        if name not in quantities:
            array = np.array(value, dtype=np.float64)
            by_name[name] = array[:, None] if isinstance(value, tuple) else array
    return by_name


def _may_mix_trials(line: Line) -> bool:
    """Return whether a line is worked out by a function of Python."""
    return line.tree is None and line.calculation is None and line.events is None


def _check_tables(line: Line, lines: Mapping[str, Line]) -> None:
    """Raise ModelError where a line adds up a table of drivers that there is not."""
    tables = [n for n, other in lines.items() if (other.formula or "").startswith("sum_of(")]
    for node in [] if line.tree is None else line.tree.walk():
        if isinstance(node, TableSum) and node.name not in tables:
            raise ModelError(
                f"no table of drivers {node.name!r}",
                owner=f"line {line.name!r}",
                unknown=node.name,
                known=tables,
            )


def _checked_names(driver: DependentDriver, shapes: Mapping[str, Shape]) -> DependentDriver:
    """Return a driver that knows whether its parameters are rows; raises ModelError for one that is
    a table.
    """
    for name in driver.needs:
        if not shapes[name].array:
            raise ModelError(
                f"a parameter cannot be the {shapes[name]} {name!r}",
                owner=f"driver {driver.name!r}",
            )
    return replace(driver, rows=any(shapes[name].row for name in driver.needs))


def _with_target(line: Line, quantities: Mapping[str, Quantity], used: Mapping[str, Given]) -> Line:
    """Return a line whose target is a number: that of the given figure it names. A rate a year that
    is converted is held as it is stated against an outcome a year, and else as it is used.
    """
    if not isinstance(line.target, str):
        return line
    is_yearly = YEARLY.search(line.unit or "") is not None
    given = quantities.get(line.target) if is_yearly else used.get(line.target)
    given = quantities.get(line.target) if given is None else given
    if not isinstance(given, Given) or given.shape != NUMBER:
        what = "a row or a table" if isinstance(given, Given) else "not a given figure"
        problem = f"the target {line.target!r} is {what}; name a given number"
        raise ModelError(
            problem, owner=f"outcome {line.name!r}", unknown=line.target, known=quantities
        )
    return replace(line, target=float(np.asarray(given.array)))


def _check_size(quantities: int, periods: int) -> None:
    if quantities * periods > MOST_CELLS:
        raise ModelError(
            f"{quantities:,} quantities over {periods:,} periods are {quantities * periods:,} "
            "figures a trial; at most "
            f"{MOST_CELLS:,} can be held"
        )


def _formula_shape(line: Line, shapes: Mapping[str, Shape]) -> Shape:
    assert line.tree is not None
    try:
        shape = line.tree.shape_of(shapes)
    except FormulaError as error:
        raise error.with_context(owner=f"line {line.name!r}") from None
    if shape.table:
        raise FormulaError(
            "a line cannot be a table; use lookup(x, table)", owner=f"line {line.name!r}"
        )
    if shape.events and (line.outcome or line.check):
        raise FormulaError(
            "has several amounts in a trial; total(x) adds them up, largest(x) takes the largest",
            owner=f"outcome {line.name!r}",
        )
    return shape


def _calculation_step(
    calculation: Calculation, lines: Mapping[str, Line], shapes: Mapping[str, Shape]
) -> CalculationStep:
    """Return the step of all lines of a calculation whose needs are known by now; others, such as
    those that need a driver with a parameter among these, follow later.
    """
    ready = [
        name
        for name, line in lines.items()
        if line.calculation is calculation
        and name not in shapes
        and all(need in shapes for need in line.needs)
    ]
    return CalculationStep(
        calculation, {name: calculation.shape_of(name, shapes) for name in ready}
    )


def _group_step(lines: list[Line], shapes: dict[str, Shape], periods: int) -> GroupStep:
    """Return the step of a group, and add its shapes."""
    label = " and ".join(repr(line.name) for line in lines)
    if not periods:
        raise FormulaError(
            f"line {lines[0].name!r} uses previous(...), and the model has no periods"
        )
    formulas = {line.name: line.tree for line in lines if line.tree is not None}
    try:
        group = Group(formulas, shapes)
        shapes.update(group.member_shapes(shapes, formulas))
    except FormulaError as error:
        raise error.with_context(owner=f"line {label}") from None
    return GroupStep(group, shapes[lines[0].name].random)


def _read_only(array: Floats) -> Floats:
    array.flags.writeable = False
    return array
