"""The outcome of a model under every plan of its choices: the draws are made once, what no option
changes is worked out once, and what follows from the choices once for each plan.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.blocks import Blocks
from kindynos.engine.workers import run_batches, usable_cpus
from kindynos.errors import ModelError, RunError
from kindynos.program.planned import Plan, PlannedChoice, replacements_of
from kindynos.program.program import Program
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.results.result import Result
from kindynos.sampling.plans import PLANS
from kindynos.sampling.plans import Plan as SamplingPlan
from kindynos.studies.model_sweep import checked_outcome

Known = tuple[str, str]  # a choice and what is known when it is made


@dataclass(frozen=True, eq=False)
class PlansTask:
    """Works out a batch of trials under every plan: ``base`` is the model as it is, ``programs``
    are those of the plans, ``fixed`` what no option changes.
    """

    base: Program
    programs: tuple[Program, ...]
    choices: Mapping[str, PlannedChoice]
    outcome: str
    fixed: frozenset[str]
    plan: SamplingPlan
    seed: int
    blocks: Blocks

    def __call__(self, batch: int) -> list[dict[str | Known, Floats]]:
        """Return for each plan the outcome and what each choice knows ``(trials,)``."""
        sizes = {block: self.blocks.size(block) for block in self.blocks.in_batch(batch)}
        trials = sum(sizes.values())
        known = {name for choice in self.choices.values() for name in choice.knowing}
        asked = {self.outcome, *known}
        needed = {n for program in (self.base, *self.programs) for n in program.ancestors(asked)}
        drawn = self.base.draw(self.plan, self.seed, sizes, needed)
        fixed = sorted(self.fixed & needed)
        before = self.base.evaluate(drawn, trials, fixed)[0] if fixed else {}
        lines = {name: before[name] for name in fixed if name in self.base.lines}
        results = []
        for program in self.programs:
            if program.drivers == self.base.drivers:
                values, _ = program.evaluate(drawn, trials, asked, calculated=lines)
            else:  # a figure that an option replaces is the parameter of a distribution
                own = program.draw(self.plan, self.seed, sizes, needed)
                values, _ = program.evaluate(own, trials, asked)
            results.append(self._asked(values, trials))
        return results

    def _asked(self, values: Mapping[str, Floats], trials: int) -> dict[str | Known, Floats]:
        outcome = np.broadcast_to(values[self.outcome], (trials,))
        picked: dict[str | Known, Floats] = {self.outcome: np.array(outcome)}
        for name, choice in self.choices.items():
            for source in choice.knowing:
                there = at_period(np.asarray(values[source]), choice.at)
                picked[name, source] = np.array(np.broadcast_to(there, (trials,)))
        return picked


@dataclass(frozen=True, eq=False)
class PlanRuns:
    """The outcome of each plan, what each choice knows under it, and the seed."""

    results: Mapping[Plan, Result]
    known: Mapping[Plan, Mapping[str | Known, Floats]]
    seed: int

    @property
    def size(self) -> int:
        """The number of trials."""
        return len(next(iter(self.results.values())).values)


def run_plans(
    statement: Statement, plans: Sequence[Plan], outcome: str, settings: SimulationOptions
) -> PlanRuns:
    """Return the outcome under every plan, all on the same draws; raises ModelError for options
    that a policy cannot serve, and RunError for an outcome without a mean.
    """
    if settings.until is not None or settings.max_seconds is not None:
        raise ModelError("a policy is found on a number of trials: until= and max_seconds= do not")
    base, choices = statement.program, statement.choices
    line = base.lines[checked_outcome(statement, outcome)]
    programs = tuple(statement.replace(**replacements_of(choices, plan)).program for plan in plans)
    plan, seed = PLANS.find(settings.sampling), settings.checked_seed()
    blocks = Blocks.cut(settings.trials, base.periods, plan.powers_of_two, base.shares)
    fixed = _unchanged(base, choices.values())
    task = PlansTask(base, programs, choices, outcome, fixed, plan, seed, blocks)
    parts: dict[int, list[dict[str | Known, Floats]]] = {}
    workers = 1 if base.one_thread else settings.workers or usable_cpus()
    trials = 0
    for done in run_batches(task, range(blocks.batches), workers, settings.executor):
        if done is not None:
            parts[done[0]] = done[1]
            trials += len(done[1][0][outcome])
            if settings.progress is not None:
                settings.progress(trials, blocks.trials)
    results, known = {}, {}
    for position, plan_made in enumerate(plans):
        rows = [parts[batch][position] for batch in range(blocks.batches)]
        whole = {key: np.concatenate([row[key] for row in rows]) for key in rows[0]}
        values = whole.pop(outcome)
        if not np.isfinite(values).all():
            raise RunError(
                f"{outcome!r} has trials without a value, or infinite ones; a policy is judged by "
                "its mean"
            )
        results[plan_made] = Result(
            outcome,
            values,
            blocks.bounds,
            plan.together,
            unit=base.unit(outcome),
            better=line.better,
            missing=line.missing,
            target=line.target,
        )
        known[plan_made] = whole
    return PlanRuns(results, known, seed)


def _unchanged(program: Program, choices: Iterable[PlannedChoice]) -> frozenset[str]:
    """Return the lines that no option of a choice changes."""
    replaced = {
        figure
        for choice in choices
        for replacements in choice.options.values()
        for figure in replacements
    }
    return frozenset(
        name for name in program.lines if replaced.isdisjoint(program.ancestors([name]))
    )


def at_period(values: Floats, period: int) -> Floats:
    """Return what is known of a quantity at the end of a period, from 1."""
    return np.array(values[period - 1] if values.ndim == 2 else values)
