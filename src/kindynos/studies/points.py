"""A model at many values of its decisions, all on the same draws.

Where decisions are given figures, the model is made ready once and many points are worked out in
one array evaluation: the points stand beside each other where a run has its trials. Otherwise each
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
from kindynos.results.result import Result
from kindynos.results.simulate import SimulationOptions, simulate
from kindynos.sampling.plans import PLANS
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
        if not self.given_only:
            yield from (self._alone(point) for point in points)
            return
        width = max(MOST_VALUES // (self.settings.trials * len(self.outcomes)), 1)
        for begin in range(0, len(points), width):
            yield from self._together(points[begin : begin + width])

    @cached_property
    def given_only(self) -> bool:
        """Whether decisions are given figures, none of them the parameter of a distribution, whose
        draws it would change.
        """
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
        plan = PLANS.find(self.settings.sampling, "optimize")
        seed = self.settings.checked_seed()
        blocks = Blocks.cut(self.settings.trials, self._program.periods, plan.powers_of_two)
        values = {name: np.empty((len(points), blocks.trials)) for name in self.outcomes}
        # Drawn by the model as it is: under some plans draws depend on which drivers there are.
        model = self.statement.program
        needed = model.ancestors(self.outcomes)
        rows = sum(
            max(model.periods, 1) if d.each_period else 1
            for n, d in model.drivers.items()
            if n in needed
        )
        kept = rows * blocks.trials <= MOST_VALUES

        def work(batch: int) -> None:
            sizes = {block: blocks.size(block) for block in blocks.in_batch(batch)}
            trials = sum(sizes.values())
            drawn = self._drawn.get(batch) or model.draw(plan, seed, sizes, needed)
            if kept:
                self._drawn[batch] = drawn
            for begin in range(0, len(points), max(TOGETHER // trials, 1)):
                some = points[begin : begin + max(TOGETHER // trials, 1)]
                found = self._evaluated(drawn, some, trials)
                for name in self.outcomes:
                    values[name][begin : begin + len(some), blocks.part(batch)] = found[name]

        workers = self.settings.workers or usable_cpus()
        for _ in run_batches(work, range(blocks.batches), workers, None):
            pass
        return [
            {
                name: self._result(name, values[name][place], blocks, plan.independent)
                for name in self.outcomes
            }
            for place in range(len(points))
        ]

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
        for place, name in enumerate(self.names):
            tiled[name] = np.repeat([point[place] for point in points], trials)
        found, _ = self._program.evaluate(tiled, count * trials, self.outcomes)
        return {
            name: np.broadcast_to(found[name], (count * trials,)).reshape(count, trials)
            for name in self.outcomes
        }

    def _result(self, name: str, values: Floats, blocks: Blocks, independent: bool) -> Result:
        line = self._program.lines[name]
        return Result(
            name,
            values,
            blocks.bounds,
            independent,
            unit=self._program.unit(name),
            better=line.better,
            missing=line.missing,
            target=line.target,
        )


def worded(values: dict[str, float]) -> str:
    """Return decisions in words: ``fare=54, crossings=680``."""
    return ", ".join(f"{name}={value:g}" for name, value in values.items())
