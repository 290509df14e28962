"""A model over a grid of chosen values: its base case in one array evaluation, or a simulated statistic on the same draws."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.distributions import Discrete, Distribution
from kindynos.distributions.registry import law_from, parameters_of
from kindynos.errors import KindynosError, ModelError, nearest
from kindynos.estimate import Estimate
from kindynos.model.program import Program
from kindynos.model.quantities import Driver, Given, Line
from kindynos.results.asked import Asked, asked
from kindynos.results.sweep import Progress, Sweep, grid_of, spread
from kindynos.sampling.streams import fresh_seed
from kindynos.validate import finite

if TYPE_CHECKING:
    from kindynos.model.model import Model

Floats = NDArray[np.float64]

TOGETHER = 16_384  # points worked out at a time


@dataclass(frozen=True)
class Sweeping:
    """How to sweep; see Model.sweep."""

    statistic: Any = None
    outcome: str | None = None
    trials: int = 10_000
    seed: int | None = None
    sampling: str = "latin"
    workers: int | None = None
    executor: Executor | None = None
    progress: Progress | None = None
    points: Any = None


def sweep(model: Model, values: Mapping[str, Iterable[Any]], how: Sweeping) -> Sweep:
    """Return the sweep of a model; see Model.sweep."""
    grid = grid_of(values, how.points)
    for name in grid.columns:
        check_swept(model, str(name))
        for value in grid[name].unique():
            finite("sweep", f"a value of {name}", value)
    outcomes = _outcomes(model, how.outcome)
    units = {q.name: q.unit for q in model.quantities.values()}
    if how.statistic is None:
        return Sweep(grid, _base_cases(model, grid, outcomes), statistic="base case", units=units)
    said = asked(how.statistic)
    seed = fresh_seed() if how.seed is None else how.seed
    task = _Point(model, grid.to_dict("records"), outcomes, said, how.trials, seed, how.sampling)
    rows: list[list[Estimate]] = spread(task, len(grid), how.workers or 0, how.executor, how.progress)
    figures = pd.DataFrame([[float(figure) for figure in row] for row in rows], columns=outcomes)
    errors = pd.DataFrame([[figure.error for figure in row] for row in rows], columns=outcomes)
    if said.label.startswith("chance"):
        units |= dict.fromkeys(outcomes)  # a chance has no unit
    return Sweep(grid, figures, errors, f"{said.label}, {how.trials:,} trials, seed {seed}", units)


def check_swept(model: Model, name: str, task: str = "sweep") -> None:
    """Raise ModelError for what is no given number, driver, or parameter of a driver's law."""
    owner, dot, parameter = name.partition(".")
    quantity = model.quantities.get(owner)
    if quantity is None:
        raise ModelError(f"{task}: the model has no {owner!r}{nearest(owner, model.quantities)}")
    if isinstance(quantity, Line):
        raise ModelError(f"{task}: {owner!r} is a line, which is calculated; take given figures and drivers")
    if isinstance(quantity, Given) and (quantity.kind.row or quantity.kind.table):
        raise ModelError(f"{task}: {owner!r} is a {quantity.kind}; only single numbers are set")
    if dot and isinstance(quantity, Given):
        raise ModelError(f"{task}: {owner!r} is a given figure, and has no parameter {parameter!r}")
    if isinstance(quantity, Driver) and quantity.process is not None:
        raise ModelError(f"{task}: {owner!r} is a process; replace it in scenarios instead")
    if dot and isinstance(quantity, Driver):
        known = parameters_of(quantity.law)
        if parameter not in known:
            raise ModelError(f"{task}: the law of {owner!r} has no parameter {parameter!r}{nearest(parameter, known)}")


def _outcomes(model: Model, outcome: str | None) -> list[str]:
    kinds = model.compiled().kinds
    lines = [q.name for q in model.quantities.values() if isinstance(q, Line)]
    if outcome is not None:
        if outcome not in lines:
            raise ModelError(f"sweep: the model has no line {outcome!r}{nearest(outcome, lines)}")
        if kinds[outcome].row:
            raise ModelError(f"sweep: {outcome!r} is a row; sweep a number, such as last({outcome})")
        return [outcome]
    names = [q.name for q in model.quantities.values() if isinstance(q, Line) and q.outcome and not kinds[q.name].row]
    if not names:
        raise ModelError("sweep: the model has no outcome that is one number; say outcome=")
    return names


def replacements(model: Model, values: Mapping[str, Any]) -> dict[str, Any]:
    """Return what ``replace`` takes for values of givens, drivers and parameters of drivers' laws (``"vessel.mode"``)."""
    found: dict[str, Any] = {}
    parameters: dict[str, dict[str, float]] = {}
    for name, value in values.items():
        owner, dot, parameter = str(name).partition(".")
        if dot:
            parameters.setdefault(owner, {})[parameter] = float(value)
        else:
            found[owner] = float(value)
    for owner, changes in parameters.items():
        driver = model.quantities[owner]
        assert isinstance(driver, Driver)
        old = {name: item for name, item in parameters_of(driver.law).items() if item is not None}
        found[owner] = law_from(driver.law.label, {**old, **changes})
    return found


@dataclass(frozen=True)
class _Point:
    """Simulates one point."""

    model: Model
    records: list[dict[Any, Any]]
    outcomes: list[str]
    asked: Asked
    trials: int
    seed: int
    sampling: str

    def __call__(self, place: int) -> list[Estimate]:
        values = self.records[place]
        try:
            model = self.model.replace(**replacements(self.model, values))
            run = model.simulate(self.trials, self.seed, self.sampling, workers=1, keep=self.outcomes)
        except KindynosError as error:
            said = ", ".join(f"{name}={value:g}" for name, value in values.items())
            raise type(error)(f"sweep: at {said}: {error}") from None
        return [self.asked.read(run[name]) for name in self.outcomes]


def _base_cases(model: Model, grid: pd.DataFrame, outcomes: list[str]) -> pd.DataFrame:
    """Return the base case at every point: the points stand where a run has its trials."""
    swept = {str(name): grid[name].to_numpy(dtype=np.float64) for name in grid.columns}
    program = _as_drivers(model, swept).compiled()
    bases = _bases(model, swept)
    parts = []
    for begin in range(0, len(grid), TOGETHER):
        count = min(TOGETHER, len(grid) - begin)
        drawn = {}
        for name, driver in program.drivers.items():
            base = bases[name][begin : begin + count] if name in bases else driver.base_value(program.periods)
            drawn[name] = np.broadcast_to(base, driver.kind.shape(program.periods, count)).astype(np.float64)
        values, _ = program.evaluate(drawn, count, outcomes)
        parts.append(_columns(program, values, outcomes, count))
    return pd.concat(parts, ignore_index=True)


def _columns(program: Program, values: Mapping[str, Floats], outcomes: list[str], count: int) -> pd.DataFrame:
    return pd.DataFrame({name: np.broadcast_to(values[name].reshape(-1), count) for name in outcomes})


def _as_drivers(model: Model, swept: Mapping[str, Floats]) -> Model:
    """Return the model with what is swept as drivers, so that it may differ from point to point."""
    stand_ins: dict[str, Distribution] = {}
    for name, values in swept.items():
        if "." not in name:
            distinct = np.unique(values)
            stand_ins[name] = Discrete(tuple(distinct), tuple(np.full(len(distinct), 1 / len(distinct))))
    return model.replace(**stand_ins).unlinked()


def _bases(model: Model, swept: Mapping[str, Floats]) -> dict[str, Floats]:
    """Return the values of what is swept, point by point; of a parameter, the base value its driver then has."""
    found = {name: values for name, values in swept.items() if "." not in name}
    owners = {name.partition(".")[0] for name in swept if "." in name}
    for owner in owners:
        driver = model.quantities[owner]
        assert isinstance(driver, Driver)
        parameters = {name: values for name, values in swept.items() if name.startswith(owner + ".")}
        points = pd.DataFrame(parameters)
        distinct = points.drop_duplicates()
        laws = {
            tuple(row): replacements(model, dict(zip(points.columns, row, strict=True)))[owner] for row in distinct.to_numpy()
        }
        found[owner] = np.array(
            [driver.base if driver.base is not None else laws[tuple(row)].mean for row in points.to_numpy()]
        )
    return found
