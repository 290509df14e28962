"""A calculation over chosen values of its inputs: the table of what comes out, and how it is read."""

from __future__ import annotations

import dataclasses
import inspect
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import Executor
from itertools import product
from typing import Any

import numpy as np
import pandas as pd

from kindynos.engine.workers import available, each
from kindynos.errors import ModelError, ParameterError, RunError, nearest
from kindynos.hooks import draw
from kindynos.validate import finite

MOST_POINTS = 1_000_000
Progress = Callable[[int, int], object]


class Sweep:
    """What came out at each point of a sweep.

    ``inputs`` names what was varied, ``outputs`` what came out; ``statistic`` says which figure, with ``errors`` beside it
    where it was simulated. See ``table``, ``grid``, ``best`` and ``plot``.
    """

    def __init__(
        self,
        points: pd.DataFrame,
        values: pd.DataFrame,
        errors: pd.DataFrame | None = None,
        statistic: str = "value",
        units: Mapping[str, str | None] | None = None,
    ) -> None:
        self.points = points.reset_index(drop=True)
        self.values = values.reset_index(drop=True)
        self.errors = None if errors is None else errors.reset_index(drop=True)
        self.statistic = statistic
        self.units = dict(units or {})

    @property
    def inputs(self) -> list[str]:
        """The names of what was varied."""
        return [str(name) for name in self.points.columns]

    @property
    def outputs(self) -> list[str]:
        """The names of what came out."""
        return [str(name) for name in self.values.columns]

    def __repr__(self) -> str:
        over = f"{', '.join(self.inputs)}: {len(self.points):,} points"
        return f"<sweep of {', '.join(self.outputs)} ({self.statistic}) over {over}>"

    def output(self, name: str | None = None) -> str:
        """Return the checked name of an output, the first unless given; raises RunError for one there is not."""
        if name is None:
            return self.outputs[0]
        if name not in self.outputs:
            raise RunError(f"sweep: nothing called {name!r} came out{nearest(name, self.outputs)}")
        return name

    def table(self) -> pd.DataFrame:
        """Return a row for each point: the inputs, the outputs, and where they were simulated their 95 % errors."""
        parts = [self.points, self.values]
        if self.errors is not None:
            parts.append(self.errors.add_suffix(" error"))
        return pd.concat(parts, axis=1)

    def grid(self, output: str | None = None, down: str | None = None, across: str | None = None) -> pd.DataFrame:
        """Return one output with an input down and another across; over further inputs it is the mean."""
        if len(self.inputs) < 2:
            raise RunError("sweep: a grid needs two inputs; read table()")
        down, across = down or self.inputs[0], across or self.inputs[1]
        for name in (down, across):
            if name not in self.inputs:
                raise RunError(f"sweep: {name!r} was not varied{nearest(name, self.inputs)}")
        frame = self.points.assign(**{"#": self.values[self.output(output)]})
        return frame.pivot_table(index=down, columns=across, values="#", aggfunc="mean", sort=True)

    def best(self, output: str | None = None, more_is_better: bool = True) -> pd.Series:
        """Return the row of the table with the highest output, or the lowest where less is better."""
        column = self.values[self.output(output)]
        if column.isna().all():
            raise RunError("sweep: no point has a value")
        return self.table().iloc[int(column.argmax() if more_is_better else column.argmin())]

    def plot(self, output: str | None = None, **options: Any) -> Any:
        """Draw one output: a line with its error over one input, a heat map over two, every pair of three or more.

        ``labels`` and ``units`` are by name, ``digits`` the decimals written into cells, ``more_is_better`` (True, False or
        None) decides which end is marked as the good one; ``ax`` takes the axes. Many or scattered points are put into bins.
        """
        return draw("sweep", self, output, **options)


def grid_of(values: Mapping[str, Iterable[Any]], points: Any = None) -> pd.DataFrame:
    """Return the points of a sweep: every combination of the values, or the points given by name.

    Raises ParameterError for nothing to vary, for values that are none, and for too many points.
    """
    if points is not None:
        if values:
            raise ParameterError("sweep: give values for a grid or points=, not both")
        frame = pd.DataFrame(points)
        if frame.empty:
            raise ParameterError("sweep: points= has no points")
        return frame
    lists = {}
    for name, given in values.items():
        if isinstance(given, str) or not isinstance(given, Iterable):
            raise ParameterError(f"sweep: {name} must be a list of values, such as {name}=[1, 2, 3], not {given!r:.60}")
        lists[name] = list(given)
        if not lists[name]:
            raise ParameterError(f"sweep: {name} has no values")
    if not lists:
        raise ParameterError("sweep: nothing to vary; say hurdle=[0.05, 0.08]")
    count = int(np.prod([float(len(items)) for items in lists.values()]))
    if count > MOST_POINTS:
        raise ParameterError(f"sweep: {count:,} points are more than {MOST_POINTS:,}; take fewer values of some")
    return pd.DataFrame(list(product(*lists.values())), columns=list(lists))


def sweep(
    function: Callable[..., Any],
    *,
    base: Any = None,
    points: Any = None,
    workers: int | None = None,
    executor: Executor | None = None,
    progress: Progress | None = None,
    **values: Iterable[Any],
) -> Sweep:
    """Return what a function gives over every combination of values: ``sweep(profit, vessels=[1, 2], fare=[40, 50])``.

    The function takes the inputs by name and returns a number, or numbers by name. With ``base=`` it takes one dataclass
    instance instead, of which the named fields are replaced. ``points=`` (a table of inputs by name) takes the place of the
    grid. ``workers`` threads or an ``executor``, such as a process pool, share the points; ``progress(done, total)`` is told.
    Raises ParameterError for inputs the function does not have, and RunError, with the inputs, where it fails.

    >>> sweep(lambda a, b: a * b, a=[1, 2], b=[3, 4]).grid().to_numpy()
    array([[3., 4.],
           [6., 8.]])
    """
    grid = grid_of(values, points)
    _check_inputs(function, base, list(grid.columns))
    records = grid.to_dict("records")
    name = getattr(function, "__name__", "value").replace("<lambda>", "value")
    task = _Call(function, base, records, name)
    rows = spread(task, len(records), workers or 1, executor, progress)
    return Sweep(grid, pd.DataFrame(rows), statistic="value")


def spread(
    task: Callable[[int], Any], count: int, workers: int, executor: Executor | None, progress: Progress | None
) -> list[Any]:
    """Return what a task gives for 0, 1, ... ``count`` - 1, in order, worked out by several."""
    answers: dict[int, Any] = {}
    for place, answer in each(task, range(count), available() if workers == 0 else workers, executor):
        answers[place] = answer
        if progress is not None and progress(len(answers), count) is False:
            raise RunError(f"sweep: stopped after {len(answers):,} of {count:,} points")
    return [answers[place] for place in range(count)]


def _check_inputs(function: Callable[..., Any], base: Any, names: list[Any]) -> None:
    if base is not None:
        if not dataclasses.is_dataclass(base) or isinstance(base, type):
            raise ParameterError(f"sweep: base must be an instance of a dataclass, not {base!r:.60}")
        known = [field.name for field in dataclasses.fields(base) if field.init]
        taken = False
    else:
        try:
            parameters = inspect.signature(function).parameters
        except (TypeError, ValueError):
            return
        known = [p.name for p in parameters.values() if p.kind in (p.POSITIONAL_OR_KEYWORD, p.KEYWORD_ONLY)]
        taken = any(p.kind is p.VAR_KEYWORD for p in parameters.values())
        lacking = [p.name for p in parameters.values() if p.name in known and p.default is p.empty and p.name not in names]
        if lacking:
            raise ParameterError(f"sweep: the function also needs {', '.join(lacking)}; give values, or a default")
    for name in names:
        if name not in known and not taken:
            raise ParameterError(f"sweep: there is no input {name!r}{nearest(name, known)}")


@dataclasses.dataclass(frozen=True)
class _Call:
    """One call of the function for each point."""

    function: Callable[..., Any]
    base: Any
    records: list[dict[Any, Any]]
    name: str

    def __call__(self, place: int) -> dict[str, float]:
        inputs = self.records[place]
        try:
            changed = None if self.base is None else dataclasses.replace(self.base, **inputs)
            answer = self.function(**inputs) if changed is None else self.function(changed)
        except Exception as error:
            said = ", ".join(f"{name}={value!r}" for name, value in inputs.items())
            raise RunError(f"sweep: failed at {said}: {type(error).__name__}: {error}") from error
        named = answer if isinstance(answer, Mapping) else {self.name: answer}
        return {str(name): _number(str(name), value) for name, value in named.items()}


def _number(name: str, value: Any) -> float:
    array = np.asarray(value)
    if array.size != 1 or array.dtype.kind not in "fiub":
        raise ModelError(f"sweep: {name} must be one number, not {value!r:.60}")
    number = float(array.reshape(-1)[0])
    return number if not np.isfinite(number) else finite("sweep", name, number)
