"""A model at many values of its decisions, all on the same draws.

Where decisions are given figures, the model is made ready once and many points are worked out in
one array evaluation: the points are beside each other where a run has its trials. Otherwise each
point is a run of its own.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.registry import parameters_of
from kindynos.engine.blocks import Blocks
from kindynos.engine.workers import run_batches, usable_cpus
from kindynos.errors import KindynosError
from kindynos.program.program import Program
from kindynos.program.quantities import DependentDriver, Given
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.results.result import Result
from kindynos.results.simulate import simulate
from kindynos.sampling.plans import PLANS, Plan
from kindynos.studies.swept_drivers import as_drivers

TOGETHER = 131_072  # points times trials worked on at a time
MOST_VALUES = 2**24  # values held at a time

Point = tuple[float, ...]


@dataclass(frozen=True, eq=False)
class Points:
    """Works out outcomes at points, each a tuple of the values of ``names``."""

    statement: Statement
    names: tuple[str, ...]
    outcomes: tuple[str, ...]
    settings: SimulationOptions

    def at(self, points: Sequence[Point]) -> Iterator[dict[str, Result]]:
        """Yield the outcomes at each point, a few points at a time; raises what the model raises,
        with the point.
        """
        if not self.share_a_model:
            yield from (self._alone(point) for point in points)
            return
        width = max(MOST_VALUES // (self.settings.trials * len(self.outcomes)), 1)
        for begin in range(0, len(points), width):
            yield from self._together(points[begin : begin + width])

    @cached_property
    def share_a_model(self) -> bool:
        """Whether one model made ready serves all points: decisions are given figures, none of them
        the parameter of a distribution, whose draws it would change; and runs are of a number of
        trials, those without a value counted.
        """
        if self.settings.until is not None or self.settings.on_bad != "count":
            return False
        quantities = self.statement.quantities
        dependent = [q for q in quantities.values() if isinstance(q, DependentDriver)]
        stated = {
            value
            for q in dependent
            for value in parameters_of(q.distribution).values()
            if isinstance(value, str)
        }
        given = all(
            isinstance(quantities.get(name), Given) and name not in stated for name in self.names
        )
        return given and not self.statement.program.one_thread

    def _alone(self, point: Point) -> dict[str, Result]:
        values = dict(zip(self.names, point, strict=True))
        try:
            run = simulate(
                self.statement.replace(**values).program,
                replace(self.settings, keep=self.outcomes, progress=None),
            )
        except KindynosError as error:
            raise error.inside(f"optimize: at {worded(values)}") from None
        return {name: run[name] for name in self.outcomes}

    @cached_property
    def _program(self) -> Program:
        """The model with the decisions as drivers, so that they may differ from point to point."""
        values = {}
        for name in self.names:
            given = self.statement.quantities[name]
            assert isinstance(given, Given)
            values[name] = given.array.reshape(1)
        return as_drivers(self.statement, values).program

    @cached_property
    def _drawn(self) -> dict[int, dict[str, Floats]]:
        """The draws by batch, where they are not too many to be kept."""
        return {}

    def _together(self, points: Sequence[Point]) -> list[dict[str, Result]]:
        settings = self.settings
        plan = PLANS.find(settings.sampling)
        blocks = Blocks.cut(settings.trials, self._program.periods, plan.powers_of_two)
        # Drawn by the model as it is: under some plans draws depend on which drivers there are.
        model = self.statement.program
        needed = model.ancestors(self.outcomes)
        rows = sum(
            max(model.periods, 1) if d.each_period else 1
            for n, d in model.drivers.items()
            if n in needed
        )
        kept = settings.executor is None and rows * blocks.trials <= MOST_VALUES
        task = PointsTask(
            model,
            self._program,
            self.names,
            self.outcomes,
            plan,
            settings.checked_seed(),
            blocks,
            tuple(points),
            self._drawn if kept else None,
        )
        values = {name: np.empty((len(points), blocks.trials)) for name in self.outcomes}
        workers = settings.workers or usable_cpus()
        batches = run_batches(task, range(blocks.batches), workers, settings.executor)
        for batch, returned in filter(None, batches):
            for name in self.outcomes:
                values[name][:, blocks.part(batch)] = returned[name]
        return [
            {
                name: self._result(name, values[name][position], blocks, plan.together)
                for name in self.outcomes
            }
            for position in range(len(points))
        ]

    def _result(self, name: str, values: Floats, blocks: Blocks, together: int) -> Result:
        line = self._program.lines[name]
        return Result(
            name,
            values,
            blocks.bounds,
            together,
            unit=self._program.unit(name),
            better=line.better,
            missing=line.missing,
            target=line.target,
        )


@dataclass(frozen=True, eq=False)
class PointsTask:
    """Works out a batch of trials at many points: draws it by the ``model``, and evaluates the
    ``program`` in which the decisions ``names`` are drivers. ``drawn`` keeps the draws.
    """

    model: Program
    program: Program
    names: tuple[str, ...]
    outcomes: tuple[str, ...]
    plan: Plan
    seed: int
    blocks: Blocks
    points: tuple[Point, ...]
    drawn: dict[int, dict[str, Floats]] | None

    def __call__(self, batch: int) -> dict[str, Floats]:
        """Return each outcome ``(points, trials)`` of a batch."""
        sizes = {block: self.blocks.size(block) for block in self.blocks.in_batch(batch)}
        trials = sum(sizes.values())
        kept = {} if self.drawn is None else self.drawn
        if batch in kept:
            drawn = kept[batch]
        else:
            needed = self.model.ancestors(self.outcomes)
            drawn = self.model.draw(self.plan, self.seed, sizes, needed)
        if self.drawn is not None:
            self.drawn[batch] = drawn
        width = max(TOGETHER // trials, 1)
        parts = [
            self._evaluated(drawn, self.points[begin : begin + width], trials)
            for begin in range(0, len(self.points), width)
        ]
        return {name: np.concatenate([part[name] for part in parts]) for name in self.outcomes}

    def _evaluated(
        self, drawn: dict[str, Floats], points: Sequence[Point], trials: int
    ) -> dict[str, Floats]:
        """Return each outcome ``(points, trials)``: the draws of all trials, again for every
        point.
        """
        count = len(points)
        tiled = {
            name: np.tile(values, (*[1] * (values.ndim - 1), count))
            for name, values in drawn.items()
        }
        for position, name in enumerate(self.names):
            tiled[name] = np.repeat([point[position] for point in points], trials)
        evaluated, _ = self.program.evaluate(tiled, count * trials, self.outcomes)
        return {
            name: np.broadcast_to(evaluated[name], (count * trials,)).reshape(count, trials)
            for name in self.outcomes
        }


def worded(values: dict[str, float]) -> str:
    """Return decisions in words: ``fare=54, crossings=680``."""
    return ", ".join(f"{name}={value:g}" for name, value in values.items())
