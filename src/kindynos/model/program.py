"""A model made ready to run: names resolved, kinds known, lines in order. Immutable, and the same for any worker."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.dependence.groups import DriverGroup
from kindynos.errors import FormulaError, KindynosError, ModelError
from kindynos.finance.notes import listening
from kindynos.model import probe
from kindynos.model.formula import Kind, Node
from kindynos.model.formula.group import Group
from kindynos.model.formula.kinds import ROW
from kindynos.model.formula.tree import PERIOD, Scope
from kindynos.model.links import Link, Repair, groups_of
from kindynos.model.links import check_names as check_link_names
from kindynos.model.order import check_names, ordered
from kindynos.model.quantities import Driver, Given, Line, Quantity
from kindynos.model.timeline import Timeline
from kindynos.sampling.plans import Plan, Request

Floats = NDArray[np.float64]
Notes = dict[tuple[str, str], int]


@dataclass(frozen=True)
class Program:
    """What ``compile_model`` makes of a model's quantities."""

    name: str
    timeline: Timeline
    givens: Mapping[str, Given]
    drivers: Mapping[str, Driver]
    lines: Mapping[str, Line]
    kinds: Mapping[str, Kind]
    steps: tuple[Line | Group, ...]
    constants: Mapping[str, Floats] = field(repr=False)
    links: tuple[Link, ...] = ()
    together: tuple[DriverGroup, ...] = ()
    repairs: tuple[Repair, ...] = ()
    recorded: bool = False  # whether its lines were read from a saved run without their functions

    @property
    def periods(self) -> int:
        """The number of periods; 0 for a model without."""
        return self.timeline.periods or 0

    @cached_property
    def tables(self) -> frozenset[str]:
        """The names of the givens that are tables."""
        return frozenset(name for name, kind in self.kinds.items() if kind.table)

    @property
    def order(self) -> list[str]:
        """The names of the lines in the order they are worked out."""
        return [name for step in self.steps for name in (step.names if isinstance(step, Group) else (step.name,))]

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes, as declared."""
        return [name for name, line in self.lines.items() if line.outcome]

    def ancestors(self, names: Iterable[str]) -> set[str]:
        """Return the names and all that they are worked out from."""
        found: set[str] = set()
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            if name not in found:
                found.add(name)
                line = self.lines.get(name)
                waiting.extend((*line.needs, *line.needs_earlier) if line else ())
        return found

    def requests(self) -> list[Request]:
        """Return the scores that the drivers need, and after them those of copulas that need more."""
        found = {request.name: request for driver in self.drivers.values() for request in driver.requests(self.periods)}
        extra = {name: found[group.names[0]].rows for group in self.together for name in group.extra_names}
        return [*found.values(), *(Request(name, rows) for name, rows in extra.items())]

    def scores(self, plan: Plan, seed: int, block: int, trials: int, wanted: set[str]) -> dict[str, Floats]:
        """Return the wanted drivers' scores in a block, dependent where the model says so."""
        groups = [group for group in self.together if not wanted.isdisjoint(group.names)]
        own = {request.name for name in wanted for request in self.drivers[name].requests(self.periods)}
        needed = own.union(*(group.names for group in groups), *(group.extra_names for group in groups))
        scores = plan.scores(self.requests(), seed, block, trials, needed)
        for group in groups:
            scores.update(group.apply(scores, plan.stratified))
        return scores

    def draw(self, plan: Plan, seed: int, blocks: Mapping[int, int], names: Iterable[str] | None = None) -> dict[str, Floats]:
        """Return the drivers' values in neighbouring blocks, given with their sizes, side by side with the trials last."""
        wanted = set(self.drivers if names is None else names).intersection(self.drivers)
        scores = [self.scores(plan, seed, block, trials, wanted) for block, trials in blocks.items()]
        with np.errstate(all="ignore"):
            return {
                name: driver.values({r.name: _joined([part[r.name] for part in scores]) for r in driver.requests(self.periods)})
                for name, driver in self.drivers.items()
                if name in wanted
            }

    def base_values(self) -> dict[str, Floats]:
        """Return the drivers at their base values, as one trial."""
        periods = self.periods
        return {name: np.full(d.kind.shape(periods, 1), d.base_value(periods)) for name, d in self.drivers.items()}

    @property
    def seconds_a_trial(self) -> float:
        """How long functions that take one trial at a time take for each, as far as it is known."""
        return max((getattr(getattr(line.function, "once", None), "seconds", 0.0) for line in self.lines.values()), default=0.0)

    def evaluate(
        self, drawn: Mapping[str, Floats], trials: int, wanted: Iterable[str] | None = None
    ) -> tuple[dict[str, Floats], Notes]:
        """Return all quantities (or the wanted, and what they need) for drawn drivers, and the notes made on the way."""
        wanted = None if wanted is None else list(wanted)
        if self.recorded and (wanted is None or any(name in self.lines for name in wanted)):
            raise ModelError(
                "the run was saved without the functions of its model; say open_run(path, model=...) to work out its trials"
            )
        needed = None if wanted is None else self.ancestors(wanted)
        values: dict[str, Floats] = {**self.constants, **drawn}
        scope = Scope(values, self.periods)
        notes: Notes = {}
        with np.errstate(all="ignore"):
            for step in self.steps:
                if isinstance(step, Group):
                    if needed is None or not needed.isdisjoint(step.names):
                        values.update(step.evaluate(scope, trials, self.kinds[step.names[0]].random))
                elif needed is None or step.name in needed:
                    with listening() as heard:
                        values[step.name] = self._line(step, values, trials)
                    notes.update({(step.name, text): count for text, count in heard.items()})
        values.pop(PERIOD, None)
        return values, notes

    def _line(self, line: Line, values: Mapping[str, Floats], trials: int) -> Floats:
        if line.tree is not None:
            try:
                answer = line.tree.evaluate(Scope(values, self.periods))
            except KindynosError as error:
                raise FormulaError(f"line {line.name!r}: {error}") from None
        else:
            answer = probe.call(line, {n: values[n] for n in line.needs}, trials, [n for n in line.needs if n in self.tables])
        shape = self.kinds[line.name].shape(self.periods, trials)
        if answer.shape == shape:
            return answer
        try:
            return np.broadcast_to(answer, shape) if answer.size < np.prod(shape, dtype=int) else answer.reshape(shape)
        except ValueError:
            raise ModelError(
                f"line {line.name!r} gave the shape {answer.shape}, and {shape} in the probe; its shape may not change"
            ) from None


def compile_model(name: str, timeline: Timeline, quantities: Mapping[str, Quantity], links: tuple[Link, ...] = ()) -> Program:
    """Return the program of a model. Raises ModelError or FormulaError for what cannot be worked out; probes function lines."""
    periods = timeline.periods or 0
    check_names(quantities, timeline.periods)
    givens = {n: q for n, q in quantities.items() if isinstance(q, Given)}
    drivers = {n: q for n, q in quantities.items() if isinstance(q, Driver)}
    lines = {n: q for n, q in quantities.items() if isinstance(q, Line)}
    check_link_names(links, drivers, list(quantities))
    together, repairs = groups_of(links, drivers)
    constants = {n: _read_only(given.array) for n, given in givens.items()}
    kinds = {n: given.kind for n, given in givens.items()} | {n: driver.kind for n, driver in drivers.items()}
    if periods:
        constants[PERIOD] = _read_only(np.arange(1.0, periods + 1)[:, None])
        kinds[PERIOD] = ROW
    steps: list[Line | Group] = []
    trial_run = probe.Probe(drivers, constants, periods)
    for names in ordered(lines):
        members = [lines[n] for n in names]
        line = members[0]
        if len(members) > 1 or line.name in line.needs_earlier:
            group = _group(members, kinds, periods)
            trial_run.add_group(group, kinds)
            steps.append(group)
            continue
        if line.tree is None:
            kinds[line.name] = trial_run.probe(line, kinds)
        else:
            kinds[line.name] = _kind(line, line.tree, kinds)
            trial_run.add_formula(line, line.tree, kinds[line.name])
        steps.append(line)
    kinds.pop(PERIOD, None)
    return Program(name, timeline, givens, drivers, lines, kinds, tuple(steps), constants, links, together, repairs)


def _kind(line: Line, tree: Node, kinds: Mapping[str, Kind]) -> Kind:
    try:
        kind = tree.kind(kinds)
    except FormulaError as error:
        raise FormulaError(f"line {line.name!r}: {error}") from None
    if kind.table:
        raise FormulaError(f"line {line.name!r}: a line cannot be a table; use lookup(x, table)")
    return kind


def _group(lines: list[Line], kinds: dict[str, Kind], periods: int) -> Group:
    """Return the step of a group, and add its kinds."""
    formulas: dict[str, Any] = {line.name: line.tree for line in lines}
    label = " and ".join(repr(line.name) for line in lines)
    if not periods:
        raise FormulaError(f"line {lines[0].name!r} uses previous(...), and the model has no periods")
    try:
        group = Group(formulas)
        kinds.update(group.kinds(kinds, formulas))
    except FormulaError as error:
        raise FormulaError(f"line {label}: {error}") from None
    return group


def _joined(parts: list[Floats]) -> Floats:
    """Return blocks side by side, without a copy where there is one."""
    return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=-1)


def _read_only(array: Floats) -> Floats:
    array.flags.writeable = False
    return array
