"""A model over a grid of chosen values: its base case in one array evaluation, or a simulated
statistic on the same draws.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.distributions.registry import parameters_of
from kindynos.errors import KindynosError, ModelError, RunError
from kindynos.inference.estimates import Estimate
from kindynos.program.program import Program
from kindynos.program.quantities import (
    DependentDriver,
    DistributionDriver,
    Given,
    Line,
    ProcessDriver,
)
from kindynos.program.statement import PERIODS, Statement, check_parameters
from kindynos.results.held_conditions import conditions_held
from kindynos.results.options import SimulationOptions
from kindynos.results.result import Result
from kindynos.results.simulate import simulate
from kindynos.results.statistic_text import ParsedStatistic, parse_statistic
from kindynos.sampling.streams import checked_seed
from kindynos.studies.paired import ByBlock
from kindynos.studies.points import Points
from kindynos.studies.sweep import Sweep, grid_of, spread
from kindynos.studies.swept_drivers import as_drivers
from kindynos.validate import checked, finite, shown

POINTS_PER_BATCH = 16_384  # points evaluated at a time
BASE = "base"  # in place of a statistic: the base case


@dataclass(frozen=True)
class SweepRequest:
    """What to sweep over, and what to look at; see Model.sweep."""

    values: Mapping[str, Iterable[Any]]
    points: Any = None
    statistic: Any = None
    outcome: str | None = None


@checked
def sweep(statement: Statement, wanted: SweepRequest, options: SimulationOptions) -> Sweep:
    """Return the sweep of a model; see Model.sweep."""
    grid = grid_of(wanted.values, wanted.points)
    for name in grid.columns:
        check_swept(statement, str(name))
        for value in grid[name].unique():
            finite(f"a value of {name}", value)
    outcomes = _outcomes(statement, wanted.outcome)
    units = {q.name: q.unit for q in statement.quantities.values()}
    better = {q.name: q.better for q in statement.quantities.values() if isinstance(q, Line)}
    statistic = wanted.statistic
    if statistic is None:
        statistic = "mean" if statement.program.drivers else BASE
    if isinstance(statistic, str) and statistic == BASE:
        return Sweep(
            grid,
            _base_cases(statement, grid, outcomes),
            statistic="base case",
            units=units,
            better=better,
            broken=_broken_bases(statement, grid),
        )
    description = parse_statistic(statistic)
    seed = checked_seed(options.seed)
    options = replace(options, seed=seed)
    rows = _simulated(statement, grid, outcomes, description, options)
    figures, errors, blocks = (
        pd.DataFrame([[read(point) for point in row] for row in rows], columns=outcomes, dtype=kind)
        for read, kind in (
            (lambda point: float(point.figure), "float64"),
            (lambda point: point.figure.error, "float64"),
            (lambda point: point.blocks, object),
        )
    )
    if description.label.startswith("chance"):
        units |= dict.fromkeys(outcomes)  # a chance has no unit
    return Sweep(
        grid,
        figures,
        errors,
        f"{description.label}, {options.trials:,} trials, seed {seed}",
        units,
        better,
        _broken_trials(statement, grid, options),
        blocks,
    )


@dataclass(frozen=True)
class PointFigure:
    """A figure at a point, and what each block of the trials adds to it."""

    figure: Estimate
    blocks: ByBlock | None

    @classmethod
    def of(cls, result: Result, requested: ParsedStatistic) -> PointFigure:
        """Return the statistic of a result."""
        return cls(requested.read(result), ByBlock.of(result, requested))


def _broken_bases(statement: Statement, grid: pd.DataFrame) -> pd.DataFrame:
    """Return for each condition that must hold whether its base case breaks it at each point: 1 or
    0.
    """
    checks = statement.program.checks
    if not checks:
        return pd.DataFrame(index=grid.index)
    return 1 - (_base_cases(statement, grid, checks) == 1).astype(int)


def _broken_trials(
    statement: Statement, grid: pd.DataFrame, options: SimulationOptions
) -> pd.DataFrame:
    """Return for each condition that must hold how many trials break it at each point."""
    checks = statement.program.checks
    if not checks:
        return pd.DataFrame(index=grid.index)
    rows = []
    settings = replace(options, keep=checks, progress=None, executor=None)
    for values in grid.to_dict("records"):
        changed = statement.replace(**{str(name): float(v) for name, v in values.items()})
        rows.append(conditions_held(simulate(changed.program, settings))["broken in"])
    return pd.DataFrame(rows, columns=checks).reset_index(drop=True)


def _simulated(
    statement: Statement,
    grid: pd.DataFrame,
    outcomes: list[str],
    requested: ParsedStatistic,
    options: SimulationOptions,
) -> list[list[PointFigure]]:
    """Return the statistic of the outcomes at each point: of given figures all on draws that are
    made once, else of a run for each point.
    """
    names = tuple(map(str, grid.columns))
    points = Points(statement, names, tuple(outcomes), replace(options, progress=None))
    are_quantities = set(names) <= set(statement.quantities)  # and not the number of periods
    if options.executor is None and are_quantities and points.share_a_model:
        try:
            rows = _together(points, grid, outcomes, requested, options)
        except KindynosError:
            pass  # one run for each point says at which it fails
        else:
            if len(rows) < len(grid):
                raise RunError(f"stopped after {len(rows):,} of {len(grid):,} points")
            return rows
    records = grid.to_dict("records")
    task = _Point(
        statement,
        records,
        outcomes,
        requested,
        options.trials,
        options.checked_seed(),
        options.sampling,
    )
    workers = 1 if statement.program.one_thread else options.workers or 0
    return spread(task, len(grid), workers, options.executor, options.progress)


def _together(
    points: Points,
    grid: pd.DataFrame,
    outcomes: list[str],
    requested: ParsedStatistic,
    options: SimulationOptions,
) -> list[list[PointFigure]]:
    rows: list[list[PointFigure]] = []
    listed = [tuple(map(float, row)) for row in grid.itertuples(index=False)]
    for of_point in points.at(listed):
        rows.append([PointFigure.of(of_point[name], requested) for name in outcomes])
        if options.progress is not None and options.progress(len(rows), len(grid)) is False:
            break
    return rows


def check_swept(statement: Statement, name: str) -> None:
    """Raise ModelError for what is not a given number, driver, or parameter of a driver's
    distribution.
    """
    if (
        name == PERIODS
        and name not in statement.quantities
        and statement.timeline.periods is not None
    ):
        return
    owner, dot, parameter = name.partition(".") if isinstance(name, str) else (shown(name), "", "")
    quantity = statement.quantities.get(owner)
    if quantity is None:
        raise ModelError(f"the model has no {owner!r}", unknown=owner, known=statement.quantities)
    if isinstance(quantity, Line):
        raise ModelError(
            f"{owner!r} is a line, which is calculated; take given figures and drivers"
        )
    if isinstance(quantity, Given) and (quantity.shape.row or quantity.shape.table):
        raise ModelError(f"{owner!r} is a {quantity.shape}; only single numbers are set")
    if dot and isinstance(quantity, Given):
        raise ModelError(f"{owner!r} is a given figure, and has no parameter {parameter!r}")
    if dot and isinstance(quantity, ProcessDriver):
        check_parameters(f"process of {owner!r}", [parameter], quantity.process.parameters)
    if dot and isinstance(quantity, DistributionDriver | DependentDriver):
        parameters = parameters_of(quantity.distribution)
        check_parameters(f"distribution of {owner!r}", [parameter], parameters)


def _outcomes(statement: Statement, outcome: str | None) -> list[str]:
    if outcome is not None:
        return [checked_outcome(statement, outcome)]
    shapes = statement.program.shapes
    names = [
        q.name
        for q in statement.quantities.values()
        if isinstance(q, Line) and q.outcome and not shapes[q.name].row
    ]
    if not names:
        raise ModelError("the model has no outcome that is one number; say outcome=")
    return names


def checked_outcome(statement: Statement, outcome: str) -> str:
    """Return the name of a line with one number per trial; raises ModelError for another."""
    lines = [q.name for q in statement.quantities.values() if isinstance(q, Line)]
    if not isinstance(outcome, str) or outcome not in lines:
        raise ModelError(f"the model has no line {shown(outcome)}", unknown=outcome, known=lines)
    if statement.program.shapes[outcome].row:
        raise ModelError(f"{outcome!r} is a row; take a number, such as last({outcome})")
    return outcome


@dataclass(frozen=True)
class _Point:
    """Simulates one point."""

    statement: Statement
    records: list[dict[Any, Any]]
    outcomes: list[str]
    requested: ParsedStatistic
    trials: int
    seed: int
    sampling: str

    def __call__(self, position: int) -> list[PointFigure]:
        values = self.records[position]
        try:
            changed = self.statement.replace(
                **{str(name): float(value) for name, value in values.items()}
            )
            settings = SimulationOptions(
                self.trials, self.seed, self.sampling, workers=1, keep=self.outcomes
            )
            run = simulate(changed.program, settings)
        except KindynosError as error:
            point = ", ".join(f"{name}={value:g}" for name, value in values.items())
            raise error.inside(f"sweep: at {point}") from None
        return [PointFigure.of(run[name], self.requested) for name in self.outcomes]


def _base_cases(statement: Statement, grid: pd.DataFrame, outcomes: list[str]) -> pd.DataFrame:
    """Return the base case at every point: the points stand where a run has its trials."""
    apart = next((name for name in grid.columns if _changes_the_model(statement, name)), None)
    if apart is not None:
        rows = []
        for value in grid[apart].unique().tolist():
            along = grid[grid[apart] == value].drop(columns=apart)
            changed = statement.replace(**{str(apart): float(value)})
            rows.append(_base_cases(changed, along, outcomes).set_index(along.index))
        return pd.concat(rows).sort_index()
    bases = {str(name): grid[name].to_numpy(dtype=np.float64) for name in grid.columns}
    program = as_drivers(statement, bases).program
    parts = []
    for begin in range(0, len(grid), POINTS_PER_BATCH):
        count = min(POINTS_PER_BATCH, len(grid) - begin)
        drawn = {}
        for name, driver in program.drivers.items():
            base = (
                bases[name][begin : begin + count]
                if name in bases
                else driver.base_value(program.periods)
            )
            drawn[name] = np.broadcast_to(
                base, driver.shape.dimensions(program.periods, count)
            ).astype(np.float64)
        values, _ = program.evaluate(drawn, count, outcomes)
        parts.append(_columns(program, values, outcomes, count))
    return pd.concat(parts, ignore_index=True)


def _changes_the_model(statement: Statement, name: Any) -> bool:
    """Whether points with other values are other models: of the number of periods, and of a
    parameter of a process.
    """
    owner, dot, _ = str(name).partition(".")
    if name == PERIODS and name not in statement.quantities:
        return True
    return bool(dot) and isinstance(statement.quantities.get(owner), ProcessDriver)


def _columns(
    program: Program, values: Mapping[str, Floats], outcomes: list[str], count: int
) -> pd.DataFrame:
    columns = {}
    for name in outcomes:
        value = values[name]
        if program.lines[name].check and value.ndim == 2:  # it must hold in every period
            value = (value == 1).all(axis=0).astype(np.float64)
        columns[name] = np.broadcast_to(value.reshape(-1), count)
    return pd.DataFrame(columns)
