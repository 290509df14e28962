"""How much of the change of a figure between two models each of their changes explains.

Every mixture of the two models is worked out on the same draws. A change explains the mean, over
all orders in which the changes may be made, of what making it adds: the value of Shapley
(Contributions to the Theory of Games 2, 1953, 307-317), whose parts add up to the whole. Errors are
those of the same mixture of the figures' linear terms, from their spread between blocks.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import RESIDUE, Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.engine.available import check_memory
from kindynos.engine.blocks import Blocks
from kindynos.errors import ModelError, ParameterError, RunError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import t_point
from kindynos.inference.sample import variance_by_blocks
from kindynos.program.differences import (
    Change,
    changes_between,
    joined_until_made,
    named_by_owner,
    renamed,
    with_cells_apart,
    with_changes,
    with_terms_apart,
)
from kindynos.program.digests import digest_of
from kindynos.program.program import Program
from kindynos.program.quantities import Line
from kindynos.program.statement import Statement
from kindynos.results.result import Result
from kindynos.results.statistic_text import ParsedStatistic, parse_statistic
from kindynos.results.statistics import STATISTICS
from kindynos.sampling.plans import PLANS
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.studies.aims import JUMPING
from kindynos.studies.model_sweep import checked_outcome
from kindynos.units.reading import read_unit
from kindynos.validate import mapping, names_in

EXACT = 10  # changes, up to which all mixtures are worked out
ORDERS = 20  # that are drawn of more, each with its reverse
LEAST = 1.5  # trials, which the next one may lie beyond a cut-off
UNNAMED = "something unnamed"


@dataclass(frozen=True, eq=False)
class Bridge(Reported):
    """The way from a figure of one model to that of another, change by change.

    ``before`` and ``after`` are the figures, ``parts`` what each change explains, in any order, and
    they add up; ``first`` and ``last`` are what it explains if it is made before, or after, all
    others; ``in_order`` what it explains in the order that was asked for. ``changes`` says what
    changed, ``renamed`` what only has another name, and ``unnamed`` whether some difference was not
    found, which then is a part of its own. ``error`` is that of the whole.
    """

    outcome: str
    statistic: str
    unit: str | None
    kind: str  # of the figure: amount, share
    before: Estimate
    after: Estimate
    error: float
    changes: list[Change]
    parts: dict[str, Estimate]
    first: dict[str, float]
    last: dict[str, float]
    in_order: dict[str, Estimate] = field(default_factory=dict)
    renamed: Mapping[str, str] = field(default_factory=dict)
    trials: int = 0
    seed: int = 0
    runs: int = 0
    without_value: tuple[float, float] = (0.0, 0.0)  # shares of trials, before and after
    basis: str = ""  # what it rests on, where that is not draws of two models

    def __repr__(self) -> str:
        return (
            f"<bridge of the {self.statistic} of {self.outcome}: {float(self.before):,.6g} to "
            f"{float(self.after):,.6g} by {len(self.parts)} changes>"
        )

    @property
    def ranked(self) -> list[str]:
        """The names of the changes, that which explains most first; in their order, where one was
        stated.
        """
        if self.in_order:
            return list(self.in_order)
        return sorted(self.parts, key=lambda name: -abs(float(self.parts[name])))

    @property
    def shown(self) -> Mapping[str, Estimate]:
        """What each change explains: in the order that was stated, or in any."""
        return self.in_order or self.parts

    def table(self) -> pd.DataFrame:
        """Return a row for each change, the largest first: part, error, low, high, made first, made
        last, and what changed, in words. Parts add up to the change of the figure.
        """
        words = {change.name: "; ".join(change.words) for change in self.changes}
        rows = {
            name: {
                "part": float(self.shown[name]),
                "error": self.shown[name].error,
                "low": self.shown[name].low,
                "high": self.shown[name].high,
                "made first": self.first[name],
                "made last": self.last[name],
                "what": words.get(name, ""),
            }
            for name in self.ranked
        }
        columns = ["part", "error", "low", "high", "made first", "made last", "what"]
        table = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        return table.rename_axis("change")

    @delegated_to("kindynos.plots", "bridge")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the way from the old figure to the new one, a bar for each change with its error."""


@dataclass(frozen=True)
class BridgeRequest:
    """What is asked of a bridge; see ``kindynos.bridge``."""

    outcome: str | None = None
    statistic: str = "mean"
    order: Sequence[str] | None = None
    groups: Mapping[str, Sequence[str]] | None = None
    trials: int = 10_000
    seed: Seed = None
    sampling: str = "latin"
    progress: Callable[[int, int], object] | None = None


def bridge_between(old: Statement, new: Statement, request: BridgeRequest) -> Bridge:
    """Return the bridge between two models; raises ModelError or ParameterError for an outcome that
    one of them lacks, a statistic without terms, and changes that there are not.
    """
    old, names = renamed(old, new)
    outcome = _outcome(old, new, request.outcome)
    _check_units(old, new, outcome)
    stated = {} if request.groups is None else request.groups
    groups = mapping("groups", stated, "names of changes by label")
    old, new, changes = _changes_apart(old, new, outcome, groups)
    mixtures = _Mixtures(old, new, changes, outcome, request)
    count = len(changes)
    everything, nothing = frozenset(range(count)), frozenset[int]()

    if mixtures.unnamed:
        changes = [*changes, Change(UNNAMED, words=("a difference that no change shows",))]
        mixtures.changes = changes
        count, everything = len(changes), frozenset(range(len(changes)))

    before, after = mixtures.figure(nothing), mixtures.figure(everything)
    if not (math.isfinite(before) and math.isfinite(after)):
        raise RunError(
            f"the {mixtures.label} of {outcome!r} goes from {float(before):g} to {float(after):g}, "
            "which cannot be divided among changes"
        )
    parts = {
        change.name: mixtures.combined(weights)
        for change, weights in zip(changes, mixtures.weights(), strict=True)
    }
    ordered = {}
    if request.order is not None:
        done: list[int] = []
        for position in _positions(changes, request.order):
            without, with_it = frozenset(done), frozenset([*done, position])
            ordered[changes[position].name] = mixtures.combined({with_it: 1.0, without: -1.0})
            done.append(position)
    first, last = {}, {}
    for position, change in enumerate(changes):
        alone, others = frozenset([position]), everything - {position}
        first[change.name] = float(mixtures.combined({alone: 1.0, nothing: -1.0}))
        last[change.name] = float(mixtures.combined({everything: 1.0, others: -1.0}))
    whole = mixtures.combined({everything: 1.0, nothing: -1.0})
    line = new.program.lines[outcome]
    return Bridge(
        outcome,
        mixtures.label,
        line.unit,
        mixtures.kind,
        before,
        after,
        whole.error,
        changes,
        parts,
        first,
        last,
        ordered,
        names,
        mixtures.blocks.trials,
        mixtures.seed,
        len(mixtures.figures),
        mixtures.without_value,
    )


def _changes_apart(
    old: Statement, new: Statement, outcome: str, groups: Mapping[str, Sequence[str]]
) -> tuple[Statement, Statement, list[Change]]:
    """Return both models with figures of their workbooks and terms of their formulas as quantities
    of their own, and the changes between them, joined by group and where they need each other.
    """
    old, new, cells = with_cells_apart(old, new)
    old, new, owners = with_terms_apart(old, new)
    changes = [
        replace(change, words=cells[change.name])
        if change.name in cells
        else named_by_owner(change, owners)
        for change in changes_between(old, new)
    ]
    changes = joined_until_made(old, new, _grouped(changes, groups), outcome, EXACT)
    return old, new, changes


def _outcome(old: Statement, new: Statement, name: str | None) -> str:
    if name is None:
        both = [common for common in new.program.outcomes if common in old.program.outcomes]
        numbers = [common for common in both if not new.program.shapes[common].row]
        if not numbers:
            raise ModelError("the models have no outcome in common that is one number")
        return numbers[0]
    for statement in (old, new):
        checked_outcome(statement, name)
        if statement.program.shapes[name].row:
            raise ModelError(f"{name!r} has a value in each period; name an outcome of one number")
    return name


def _check_units(old: Statement, new: Statement, outcome: str) -> None:
    """Raise ModelError for an outcome whose figures are counted in other units: 1,001 EUR and 1
    thousand EUR are no change.
    """
    before, after = (statement.program.lines[outcome].unit for statement in (old, new))
    one, two = read_unit(before), read_unit(after)
    if before == after or (one is not None and one == two):
        return
    if before and after:
        raise ModelError(
            f"the outcome {outcome!r} is in {before} in the old model and in {after} in the new "
            "one; bring both to one unit to compare them"
        )


def _positions(changes: Sequence[Change], order: Sequence[str]) -> list[int]:
    """Return the positions of changes in the order given, those not named last."""
    names = [change.name for change in changes]
    positions = []
    for name in names_in("order", order):
        if name not in names:
            raise ParameterError(f"no change {name!r:.60}", unknown=str(name), known=names)
        positions.append(names.index(name))
    return [*positions, *(place for place in range(len(names)) if place not in positions)]


def _grouped(changes: list[Change], groups: Mapping[str, Sequence[str]]) -> list[Change]:
    """Return the changes with those of each group as one, by its name."""
    rest = list(changes)
    joined = []
    for label, members in groups.items():
        positions = _positions(rest, members)[: len(names_in("groups", members))]
        own = [rest[position] for position in positions]
        rest = [change for change in rest if change not in own]
        whole = own[0]
        for change in own[1:]:
            whole = whole.with_other(change)
        joined.append(
            Change(str(label), whole.quantities, whole.correlations, whole.periods, whole.words)
        )
    return [*joined, *rest]


@dataclass(frozen=True)
class _Figure:
    """A figure of a mixture: its value, the sums by block of its linear terms, and how far apart
    these lie, the most by which one trial moves it.
    """

    value: Estimate
    sums: Floats
    jump: float
    without_value: float  # the share of trials


class _Mixtures:
    """The figure of the old model with any of the changes made, on the same draws."""

    def __init__(
        self,
        old: Statement,
        new: Statement,
        changes: list[Change],
        outcome: str,
        request: BridgeRequest,
    ) -> None:
        self.old, self.new, self.changes = old, new, changes
        self.outcome, self.request = outcome, request
        self.plan = PLANS.find(request.sampling)
        self.seed = checked_seed(request.seed)
        before, self.label = (
            _with_target(request.statistic, statement.program.lines[outcome])
            for statement in (old, new)
        )
        self.statistic = parse_statistic(self.label)
        if before != self.label:  # each model's chance is that of missing its own target
            self.label = f"{self.label} (before: {before.removeprefix('chance ')})"
        self.kind = self.statistic.kind
        program = new.program
        self.blocks = Blocks.cut(request.trials, program.periods, self.plan.powers_of_two)
        self.figures: dict[frozenset[int], _Figure] = {}
        self.draws: dict[str, Floats] = {}
        all_changes = with_changes(old, new, changes).program
        here, there = (self._outcome_values(case) for case in (all_changes, program))
        self.unnamed = not np.array_equal(here, there, equal_nan=True)

    def figure(self, mixture: frozenset[int]) -> Estimate:
        """Return the figure with some changes made, with its own error."""
        return self._worked_out(mixture).value

    @property
    def without_value(self) -> tuple[float, float]:
        """The shares of trials without a value in the old and in the new model."""
        everything = frozenset(range(len(self.changes)))
        old, new = (self._worked_out(mixture) for mixture in (frozenset[int](), everything))
        return old.without_value, new.without_value

    def combined(self, weights: Mapping[frozenset[int], float]) -> Estimate:
        """Return a mixture of figures, with the 95 % error that its terms have between blocks."""
        figures = [(weight, self._worked_out(mixture)) for mixture, weight in weights.items()]
        value = sum(weight * float(figure.value) for weight, figure in figures)
        sizes = np.diff(self.blocks.bounds)
        sums = np.sum([weight * figure.sums for weight, figure in figures], axis=0)
        if len(sizes) < 2 or not np.isfinite(sums).all():
            return Estimate(value)
        error = t_point(len(sizes) - 1) * math.sqrt(variance_by_blocks(sums, sizes))
        largest = max(abs(weight * float(figure.value)) for weight, figure in figures)
        error = error if error > RESIDUE * largest else 0.0  # of a constant: all is rounding
        if self.label.split()[0] in JUMPING:  # blocks of a stratified plan may all agree on it
            jump = sum(weight * figure.jump for weight, figure in figures if weight > 0)
            error = max(error, LEAST * jump / self.blocks.trials)
        return symmetrical(value, error)

    def weights(self) -> list[dict[frozenset[int], float]]:
        """Return for each change the weight of each mixture in what it explains."""
        count = len(self.changes)
        by_change: list[dict[frozenset[int], float]] = [{} for _ in range(count)]

        def add(position: int, before: frozenset[int], weight: float) -> None:
            after = before | {position}
            by_change[position][after] = by_change[position].get(after, 0.0) + weight
            by_change[position][before] = by_change[position].get(before, 0.0) - weight

        if count <= EXACT:
            for size in range(count):
                weight = math.factorial(size) * math.factorial(count - size - 1)
                for earlier in map(frozenset, combinations(range(count), size)):
                    for position in frozenset(range(count)) - earlier:
                        add(position, earlier, weight / math.factorial(count))
            return by_change
        generator = np.random.default_rng(self.seed)
        for _ in range(ORDERS // 2):
            drawn = generator.permutation(count).tolist()
            for order in (drawn, drawn[::-1]):
                for count_before, position in enumerate(order):
                    add(position, frozenset(order[:count_before]), 1 / ORDERS)
        return by_change

    def _worked_out(self, mixture: frozenset[int]) -> _Figure:
        """Return the figure of a mixture with its terms by block."""
        if mixture not in self.figures:
            program = self._statement(mixture).program
            values = self._outcome_values(program)
            line = program.lines[self.outcome]
            result = Result(
                self.outcome,
                values,
                self.blocks.bounds,
                self.plan.together,
                unit=line.unit,
                better=line.better,
                target=line.target,
                missing=line.missing,
            )
            statistic = parse_statistic(_with_target(self.request.statistic, line))
            terms = self._terms(result, statistic)
            self.figures[mixture] = _Figure(
                statistic.read(result),
                np.add.reduceat(terms, self.blocks.bounds[:-1]),
                float(np.ptp(terms)),
                result.n_failed / result.size,
            )
            if self.request.progress is not None:
                total = max(2 ** min(len(self.changes), EXACT), len(self.figures))
                self.request.progress(len(self.figures), total)
        return self.figures[mixture]

    def _terms(self, result: Result, statistic: ParsedStatistic) -> Floats:
        """Return what each trial adds to the figure; a trial without a value adds nothing to one
        that is of the others.
        """
        name = statistic.name
        ranks = bool(name) and STATISTICS[name].ranks
        sample = result.ranked if ranks else result.sample
        terms = statistic.influence(sample)
        if terms is None:
            raise ParameterError(
                f"the {self.label} has no term for each trial; say a mean, percentile or chance"
            )
        if len(terms) == result.size:
            return terms
        by_trial = np.zeros(result.size)
        by_trial[~np.isnan(sample.values)] = (terms - terms.mean()) * result.size / len(terms)
        return by_trial

    def _statement(self, mixture: frozenset[int]) -> Statement:
        if len(mixture) == len(self.changes):
            return self.new
        if not mixture:
            return self.old
        return with_changes(
            self.old, self.new, [self.changes[position] for position in sorted(mixture)]
        )

    def _outcome_values(self, program: Program) -> Floats:
        """Return the outcome by trial; a driver that is the same, and moves with the same others,
        is drawn once for all mixtures.
        """
        needed = program.ancestors([self.outcome]).intersection(program.drivers)
        keys = {name: _key(program, name) for name in needed}
        missing = [
            name for name in program.drivers if name in needed and keys[name] not in self.draws
        ]
        if missing:
            sizes = {block: self.blocks.size(block) for block in range(self.blocks.count)}
            check_memory(
                f"the draws of {len(missing)} drivers",
                8.0 * self.blocks.trials * sum(_rows(program, name) for name in missing),
            )
            for name, draws in program.draw(self.plan, self.seed, sizes, missing).items():
                self.draws[_key(program, name)] = draws
        inputs = {name: self.draws[key] for name, key in keys.items()}
        evaluated, _ = program.evaluate(inputs, self.blocks.trials, [self.outcome])
        flat = np.broadcast_to(evaluated[self.outcome].reshape(-1), (self.blocks.trials,))
        return np.array(flat)


def _key(program: Program, name: str) -> str:
    """Return what the draws of a driver hang on: itself, those that it moves with, the periods, and
    its parameters that are other quantities.
    """
    near: set[str] = set()
    waiting = [name]
    while waiting:
        driver = waiting.pop()
        if driver not in near:
            near.add(driver)
            waiting += [
                other
                for entry in program.correlations
                if driver in entry.names
                for other in entry.names
            ]
    above = program.ancestors(sorted(near)) - near
    return digest_of(
        name,
        repr(program.timeline),
        [program.drivers[driver] for driver in sorted(near) if driver in program.drivers],
        [repr(entry) for entry in program.correlations if near & set(entry.names)],
        [_stated(program, driver) for driver in sorted(above)],
    )


def _rows(program: Program, name: str) -> int:
    return max(program.periods, 1) if program.drivers[name].shape.row else 1


def _stated(program: Program, name: str) -> Any:
    for group in (program.givens, program.drivers):
        if name in group:
            return group[name]
    line = program.lines[name]
    return (line.name, line.formula, line.function)


def _with_target(statistic: str, line: Line) -> str:
    """Return a statistic with the target of a line as its threshold, where a chance has none."""
    words = str(statistic).split()
    if words and words[0] == "chance" and len(words) < 3:
        target = 0.0 if line.target is None else float(line.target)
        side = words[1] if len(words) > 1 else ("below" if line.better == "high" else "above")
        return f"chance {side} {target:.12g}"
    return str(statistic)
