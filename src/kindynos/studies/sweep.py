"""A calculation over chosen values of its inputs: the table of what comes out, and how it is
read.
"""

from __future__ import annotations

import dataclasses
import inspect
import math
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import Executor
from itertools import product
from numbers import Real
from typing import Any, Literal

import numpy as np
import pandas as pd

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.engine.workers import run_batches, usable_cpus
from kindynos.errors import ModelError, ParameterError, RunError
from kindynos.inference.intervals import CLAIMED
from kindynos.validate import checked, finite, instance, invalid_argument

MOST_POINTS = 1_000_000
Progress = Callable[[int, int], object]


class Sweep(Reported):
    """What came out at each point of a sweep.

    ``inputs`` names what was varied, ``outputs`` what came out; ``statistic`` says which figure,
    with ``errors`` beside it where it was simulated. ``broken`` has, for each condition that must
    hold, how many trials break it at each point, or 1 where the base case does. See ``table``,
    ``grid``, ``best`` and ``plot``.
    """

    def __init__(
        self,
        points: pd.DataFrame,
        values: pd.DataFrame,
        errors: pd.DataFrame | None = None,
        statistic: str = "value",
        units: Mapping[str, str | None] | None = None,
        better: Mapping[str, str] | None = None,
        broken: pd.DataFrame | None = None,
        blocks: pd.DataFrame | None = None,
    ) -> None:
        self._blocks = blocks
        self.broken = pd.DataFrame() if broken is None else broken.reset_index(drop=True)
        self.better = dict(better or {})
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

    @checked
    def output(self, name: str | None = None) -> str:
        """Return the checked name of an output (default: the first); raises RunError for an
        unknown one.
        """
        if name is None:
            return self.outputs[0]
        if not isinstance(name, str) or name not in self.outputs:
            raise RunError(
                f"nothing called {name!r:.60} came out", unknown=name, known=self.outputs
            )
        return name

    def table(self) -> pd.DataFrame:
        """Return a row for each point: the inputs, the outputs, and where they were simulated their
        95 % errors.
        """
        parts = [self.points, self.values]
        if self.errors is not None:
            parts.append(self.errors.add_suffix(" error"))
        if self.broken.size:
            parts.append(self.broken.add_suffix(" broken in"))
        return pd.concat(parts, axis=1)

    @checked
    def grid(
        self,
        output: str | None = None,
        down: str | None = None,
        across: str | None = None,
        *,
        errors: bool = False,
    ) -> pd.DataFrame:
        """Return one output with an input down and another across; over further inputs it is the
        mean.

        With ``errors`` its 95 % errors instead, NaN where it was not simulated.
        """
        if len(self.inputs) < 2:
            raise RunError("a grid needs two inputs; read table()")
        down, across = down or self.inputs[0], across or self.inputs[1]
        for name in (down, across):
            if name not in self.inputs:
                raise RunError(f"{name!r} was not varied", unknown=name, known=self.inputs)
        column = self.values[self.output(output)]
        if errors:
            column = column * math.nan if self.errors is None else self.errors[self.output(output)]
        frame = self.points.assign(**{"#": column})
        return frame.pivot_table(
            index=down, columns=across, values="#", aggfunc="mean", sort=True, dropna=False
        )

    def more_is_better(self, output: str) -> bool:
        """Whether the highest figure is the best: as the model says of the outcome, and turned for
        a chance of being below.
        """
        output = self.output(output)
        return (self.better.get(output) != "low") != self.statistic.startswith("chance below")

    @checked
    def best(self, output: str | None = None, more_is_better: bool | None = None) -> pd.Series:
        """Return the row of the table with the best output: the highest unless less is better, or
        ``more_is_better`` says.
        """
        if more_is_better is not None:
            instance("more_is_better", more_is_better, bool, "True, False or None")
        else:
            more_is_better = self.more_is_better(self.output(output))
        column = self.values[self.output(output)]
        if column.isna().all():
            raise RunError("no point has a value")
        return self.table().iloc[int(column.argmax() if more_is_better else column.argmin())]

    @checked
    def behind(self, output: str | None = None) -> pd.DataFrame:
        """Return by how much each point falls short of the best, a DataFrame: ``gap``, its
        ``error`` on the same draws (NaN where it is not known, 0 of a base case), and whether the
        two can be ``told apart``, for which the gap must be 1.15 times its error.
        """
        name = self.output(output)
        best = int(self.best(name).name)  # type: ignore[call-overload]
        column = self.values[name]
        sign = 1.0 if self.more_is_better(name) else -1.0
        with np.errstate(invalid="ignore"):
            gap = np.where(column == column[best], 0.0, sign * (column[best] - column))
        error = pd.Series(0.0 if self.errors is None else math.nan, column.index)
        if self.errors is not None:
            alone = self.errors[name] + self.errors.loc[best, name]
            error = pd.Series([self._reach(name, best, at) for at in column.index]).fillna(alone)
            error[best] = 0.0
        told = ~(pd.Series(gap, column.index) <= CLAIMED * error)  # also of one without a value
        return self.points.assign(gap=gap, error=error, **{"told apart": told})

    def _reach(self, name: str, first: int, second: int) -> float:
        """Return half the 95 % interval of the difference between two points."""
        blocks = None if self._blocks is None else self._blocks[name]
        if blocks is None or blocks[first] is None or blocks[second] is None:
            return math.nan
        return float(blocks[first].reach(blocks[second]))

    @delegated_to("kindynos.reports.styled", "styled_sweep")
    def styled(self, output: str | None = None, number_format: str | None = None) -> Any:
        """Return the grid of one output over two inputs as a pandas Styler: shaded, with the best
        cell in bold.

        ``number_format`` is such as ``"{:,.0f}"``. Needs Jinja2, the extra ``kindynos[notebook]``.
        Raises RunError with fewer than two inputs.
        """

    @delegated_to("kindynos.plots", "sweep")
    def plot(
        self,
        output: str | None = None,
        *,
        labels: Mapping[str, str] | None = None,
        units: Mapping[str, str | None] | None = None,
        digits: int | None = None,
        more_is_better: bool | Literal["as stated"] | None = "as stated",
        bins: int | None = None,
        break_even: float | None = None,
        below_colour: str | None = None,
        number_format: str | None = None,
        ax: Axes | None = None,
    ) -> Axes:
        """Draw one output: a line with its error over one input, a heat map over two, every pair of
        three or more.

        ``labels`` and ``units`` are by name, ``digits`` the decimals written into cells,
        ``more_is_better`` (True, False or None) decides which end is marked as the good one,
        otherwise the model does; ``ax`` takes the axes. Many or scattered points are put into
        ``bins`` a side; default: 20. Cells of a map below ``break_even`` have another colour,
        ``below_colour`` or orange. ``number_format``, such as ``"{:,.1f}"``, takes the place of
        ``digits``.
        """


def _listed(name: str, given: Any) -> list[Any]:
    """Return the values of an input; a single number is one; raises ParameterError for
    none.
    """
    if isinstance(given, Real) and not isinstance(given, bool):
        return [given]
    if isinstance(given, str) or not isinstance(given, Iterable):
        raise ParameterError(
            f"{name} must be a list of values, such as {name}=[1, 2, 3], not {given!r:.60}"
        )
    listed = list(given)
    if not listed:
        raise ParameterError(f"{name} has no values")
    return listed


def grid_of(values: Mapping[str, Iterable[Any]], points: Any = None) -> pd.DataFrame:
    """Return the points of a sweep: every combination of the values, or the points given by name.

    Raises ParameterError for nothing to vary, for values that are none, and for too many points.
    """
    if points is not None:
        if values:
            raise ParameterError("give values for a grid or points=, not both")
        rows = (
            [row for row in points if isinstance(row, list | tuple)]
            if isinstance(points, list | tuple)
            else []
        )
        if len({len(row) for row in rows}) > 1:
            raise invalid_argument(
                "points", "a table of values by name, with rows of one length", points
            )
        try:
            frame = pd.DataFrame(points)
        except (TypeError, ValueError):
            raise invalid_argument("points", "a table of values by name", points) from None
        if frame.empty:
            raise ParameterError("points= has no points")
        return frame
    lists = {name: _listed(name, given) for name, given in values.items()}
    if not lists:
        raise ParameterError("nothing to vary; say hurdle=[0.05, 0.08]")
    count = int(np.prod([float(len(items)) for items in lists.values()]))
    if count > MOST_POINTS:
        raise ParameterError(
            f"{count:,} points are more than {MOST_POINTS:,}; take fewer values of some"
        )
    return pd.DataFrame(list(product(*lists.values())), columns=list(lists))


@checked
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
    """Return what a function gives over every combination of values: ``sweep(profit, vessels=[1,
    2], fare=[40, 50])``.

    The function takes the inputs by name and returns a number, or numbers by name. With ``base=``
    it takes one dataclass instance instead, where the named fields are replaced. ``points=`` (a
    table of inputs by name) takes the place of the grid. ``workers`` threads or an ``executor``,
    such as a process pool, share the points; ``progress(done, total)`` is called. Raises
    ParameterError for inputs the function does not have, and RunError, with the inputs, where it
    fails.

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
    task: Callable[[int], Any],
    count: int,
    workers: int,
    executor: Executor | None,
    progress: Progress | None,
) -> list[Any]:
    """Return what a task gives for 0, 1, ... ``count`` - 1, in order, computed by several
    workers.
    """
    answers: dict[int, Any] = {}
    for run_batch in run_batches(
        task, range(count), usable_cpus() if workers == 0 else workers, executor
    ):
        if run_batch is not None:
            answers[run_batch[0]] = run_batch[1]
        if progress is not None and progress(len(answers), count) is False:
            raise RunError(f"stopped after {len(answers):,} of {count:,} points")
    return [answers[position] for position in range(count)]


def _check_inputs(function: Callable[..., Any], base: Any, names: list[Any]) -> None:
    if base is not None:
        if not dataclasses.is_dataclass(base) or isinstance(base, type):
            raise ParameterError(f"base must be an instance of a dataclass, not {base!r:.60}")
        input_names = [field.name for field in dataclasses.fields(base) if field.init]
        taken = False
    else:
        try:
            parameters = inspect.signature(function).parameters
        except (TypeError, ValueError):
            return
        input_names = [
            p.name
            for p in parameters.values()
            if p.kind in (p.POSITIONAL_OR_KEYWORD, p.KEYWORD_ONLY)
        ]
        taken = any(p.kind is p.VAR_KEYWORD for p in parameters.values())
        lacking = [
            p.name
            for p in parameters.values()
            if p.name in input_names and p.default is p.empty and p.name not in names
        ]
        if lacking:
            raise ParameterError(
                f"the function also needs {', '.join(lacking)}; give values, or a default"
            )
    for name in names:
        if name not in input_names and not taken:
            raise ParameterError(f"there is no input {name!r}", unknown=name, known=input_names)


@dataclasses.dataclass(frozen=True)
class _Call:
    """One call of the function for each point."""

    function: Callable[..., Any]
    base: Any
    records: list[dict[Any, Any]]
    name: str

    def __call__(self, position: int) -> dict[str, float]:
        inputs = self.records[position]
        try:
            changed = None if self.base is None else dataclasses.replace(self.base, **inputs)
            outputs = self.function(**inputs) if changed is None else self.function(changed)
        except Exception as error:
            description = ", ".join(f"{name}={value!r}" for name, value in inputs.items())
            raise RunError(f"failed at {description}: {type(error).__name__}: {error}") from error
        named = outputs if isinstance(outputs, Mapping) else {self.name: outputs}
        return {str(name): _number(str(name), value) for name, value in named.items()}


def _number(name: str, value: Any) -> float:
    array = np.asarray(value)
    if array.size != 1 or array.dtype.kind not in "fiub":
        raise ModelError(f"{name} must be one number, not {value!r:.60}")
    number = float(array.reshape(-1)[0])
    return number if not np.isfinite(number) else finite(name, number)
