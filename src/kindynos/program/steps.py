"""The steps of a program: one for each line, one for lines that refer to each other's earlier
periods, one for a shared call.

Function lines get read-only views, and whatever goes wrong in them becomes a ModelError that names
the line.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats, unmasked
from kindynos.distributions.contract import too_extreme
from kindynos.errors import FormulaError, KindynosError, ModelError, TrialError
from kindynos.formula.group import Group
from kindynos.formula.shapes import Shape
from kindynos.formula.tree import Expression, Scope
from kindynos.program.calculation import Calculation
from kindynos.program.drawn_events import DrawnEvents, Sizes
from kindynos.program.failing import one_by_one, single
from kindynos.program.quantities import DependentDriver, Line
from kindynos.program.shared_call import SharedCall, may_keep_state


class Step(ABC):
    """Part of the work of a program, which gives one or several quantities."""

    @property
    def one_thread(self) -> bool:
        """Whether it calls what may keep state, or one trial at a time, and so must not run in two
        threads at once.
        """
        return False

    @property
    @abstractmethod
    def names(self) -> tuple[str, ...]:
        """The quantities it gives."""

    @abstractmethod
    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        """Return them, from the values of earlier quantities."""


@dataclass(frozen=True)
class FormulaStep(Step):
    """A line with a formula."""

    name: str
    tree: Expression
    shape: Shape

    @property
    def names(self) -> tuple[str, ...]:
        return (self.name,)

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        try:
            returned = self.tree.evaluate(Scope(values, periods))
        except KindynosError as error:
            raise FormulaError(str(error), owner=f"line {self.name!r}", place=error.place) from None
        if self.shape.events:
            return {self.name: returned}
        return {self.name: fitted(self.name, returned, self.shape.dimensions(periods, trials))}


@dataclass(frozen=True)
class FunctionStep(Step):
    """A line with a Python function."""

    line: Line
    shape: Shape
    tables: frozenset[str]  # the inputs that are tables, which have no trials

    @property
    def one_thread(self) -> bool:
        return self.line.each_trial or may_keep_state(self.line.function)

    @property
    def names(self) -> tuple[str, ...]:
        return (self.line.name,)

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        returned = call_function(
            self.line, {name: values[name] for name in self.line.needs}, trials, self.tables
        )
        return {
            self.line.name: fitted(self.line.name, returned, self.shape.dimensions(periods, trials))
        }


@dataclass(frozen=True)
class DependentStep(Step):
    """A driver whose distribution has named parameters: its score, drawn under its name, becomes
    its value.
    """

    driver: DependentDriver

    @property
    def names(self) -> tuple[str, ...]:
        return (self.driver.name,)

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        name = self.driver.name
        values_where = self.driver.values_where(
            values[name], {other: values[other] for other in self.driver.needs}
        )
        return {name: fitted(name, values_where, self.driver.shape.dimensions(periods, trials))}


@dataclass(frozen=True)
class EventStep(Step):
    """A line of events: the claims of each trial."""

    name: str
    events: DrawnEvents

    @property
    def names(self) -> tuple[str, ...]:
        return (self.name,)

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        drawn: Any
        try:
            drawn = self.events.drawn(values)
        except KindynosError as error:
            raise error.with_context(owner=f"claims {self.name!r}") from None
        except ArithmeticError:
            stated = self.events.distribution if isinstance(self.events, Sizes) else self.name
            raise too_extreme(stated).with_context(owner=f"claims {self.name!r}") from None
        return {self.name: drawn}


@dataclass(frozen=True)
class GroupStep(Step):
    """Lines that refer to each other's earlier periods."""

    group: Group
    random: bool

    @property
    def names(self) -> tuple[str, ...]:
        return self.group.names

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        try:
            return self.group.evaluate(Scope(values, periods), trials, self.random)
        except KindynosError as error:
            raise FormulaError(
                str(error), owner=f"line {' and '.join(map(repr, self.names))}"
            ) from None


@dataclass(frozen=True)
class CalculationStep(Step):
    """Lines of one calculation that can be worked out at the same time."""

    calculation: Calculation
    shapes: Mapping[str, Shape]

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(self.shapes)

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        # what is not wanted may need drivers that were not drawn
        possible = [
            name
            for name in self.shapes
            if all(need in values for need in self.calculation.needs(name))
        ]
        returned = self.calculation.evaluate(possible, values, trials)
        return {
            name: fitted(name, value, self.shapes[name].dimensions(periods, trials))
            for name, value in returned.items()
        }


@dataclass(frozen=True)
class SharedStep(Step):
    """All the lines of one shared call."""

    call: SharedCall
    shapes: Mapping[str, Shape]

    @property
    def one_thread(self) -> bool:
        return bool(self.call.each_trial) or may_keep_state(self.call.function)

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(self.shapes)

    def evaluate(
        self, values: Mapping[str, Floats], periods: int, trials: int
    ) -> dict[str, Floats]:
        returned = shared_values(self.call, values)
        return {
            name: fitted(name, returned[name], shape.dimensions(periods, trials))
            for name, shape in self.shapes.items()
        }


def fitted(name: str, values: Floats, requested: tuple[int, ...]) -> Floats:
    """Return a line's value in the shape it must have; raises ModelError where it cannot take that
    shape.
    """
    if values.shape == requested:
        return values
    try:
        return (
            np.broadcast_to(values, requested)
            if values.size < np.prod(requested, dtype=int)
            else values.reshape(requested)
        )
    except ValueError:
        raise ModelError(
            f"returned the shape {values.shape}, and {requested} when it was probed; its shape may "
            "not change",
            owner=f"line {name!r}",
        ) from None


def shared_values(call: SharedCall, values: Mapping[str, Floats]) -> dict[str, Floats]:
    """Return every outcome of a shared call as arrays; raises TrialError or ModelError."""
    inputs = read_only({name: values[name] for name in call.inputs})
    try:
        with np.errstate(all="ignore"):
            returned = call(inputs)
    except (KindynosError, MemoryError):
        raise
    except Exception as error:
        raise _function_failed(", ".join(call.outcomes), error) from error
    return {name: _as_floats(name, value) for name, value in returned.items()}


def call_function(
    line: Line, inputs: Mapping[str, Floats], trials: int, tables: frozenset[str]
) -> Floats:
    """Return a function line's value as an array; raises ModelError, naming the line, for whatever
    goes wrong in it.
    """
    assert line.function is not None
    views = read_only(inputs)
    try:
        with np.errstate(all="ignore"):
            if line.each_trial:
                return _as_floats(line.name, _one_by_one(line, views, trials, tables))
            returned = line.function(**views)
    except (TrialError, MemoryError):
        raise
    except Exception as error:
        if line.each_trial:
            raise _function_failed(line.name, error) from error
        returned = _without_failing(line, views, trials, tables, error)
    return _as_floats(line.name, returned)


def _without_failing(
    line: Line, inputs: Mapping[str, Floats], trials: int, tables: frozenset[str], error: Exception
) -> Floats:
    """Return the value of a function line that fails on all trials together, NaN in those trials
    that fail alone; raises ModelError where none does, or all.
    """
    function = line.function
    assert function is not None

    def alone(trial: int) -> list[Floats]:
        by_name = {n: value if n in tables else single(value, trial) for n, value in inputs.items()}
        with np.errstate(all="ignore"):
            returned = np.asarray(unmasked(function(**by_name)), dtype=np.float64)
        return [returned[..., 0] if returned.ndim else returned]

    def failed(_: int, error: Exception) -> ModelError:
        return _function_failed(line.name, error)

    (without_failing,), count = one_by_one(alone, trials, failed)
    if count == 0:  # it cannot take arrays, whatever they hold
        raise _function_failed(line.name, error) from error
    return without_failing


def _as_floats(name: str, returned: Any) -> Floats:
    """Return a copy of what a line returned; masked trials are trials without a value."""
    try:
        array = np.asarray(unmasked(returned))
        if array.dtype.kind not in "fiub":
            raise TypeError
        return np.array(array, dtype=np.float64)
    except (TypeError, ValueError):
        raise ModelError(
            f"must return numbers, not {returned!r:.60}", owner=f"line {name!r}"
        ) from None


def read_only(inputs: Mapping[str, Floats]) -> dict[str, Floats]:
    """Return views of inputs: a line that changed them in place would change other lines."""
    views = {name: value.view() for name, value in inputs.items()}
    for view in views.values():
        view.flags.writeable = False
    return views


def _one_by_one(
    line: Line, inputs: Mapping[str, Floats], trials: int, tables: frozenset[str]
) -> Floats:
    """Call a function of single numbers for each trial: numbers as floats, rows as ``(periods,)``,
    tables whole.
    """
    assert line.function is not None

    def picked(name: str, trial: int) -> Any:
        value = inputs[name]
        if name in tables:
            return value
        if value.ndim == 2:
            return value[:, trial if value.shape[1] > 1 else 0]
        return float(value[trial] if value.ndim else value)

    function = line.function

    def alone(trial: int) -> list[Floats]:
        returned = function(**{name: picked(name, trial) for name in inputs})
        return [np.asarray(unmasked(returned), dtype=np.float64)]

    def failed(_: int, error: Exception) -> ModelError:
        return _function_failed(line.name, error)

    return one_by_one(alone, trials, failed)[0][0]


def _function_failed(name: str, error: Exception) -> ModelError:
    if isinstance(error, ModelError) and error.name == name:
        return error
    if isinstance(error, KindynosError):
        return ModelError(str(error), owner=f"line {name!r}")
    text, advice = str(error), ""
    if "truth value of an array" in text:
        text = "the truth value of an array is ambiguous."  # NumPy's own advice would mix trials
        advice = (
            " Use np.where(condition, a, b), or declare the line with each_trial=True to "
            "write it for single numbers."
        )
    elif "read-only" in text:
        advice = " A line may not change what it is given; work on a copy."
    return ModelError(f"line {name!r} failed: {type(error).__name__}: {text}{advice}", name=name)
