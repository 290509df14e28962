"""The named quantities of a model: given figures, drivers and lines, each an immutable value."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.distributions import Distribution, Normal
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.errors import ModelError, ParameterError
from kindynos.model.formula import Node, parse
from kindynos.model.formula.kinds import NUMBER, ROW, TABLE, Kind
from kindynos.processes import Process
from kindynos.sampling.plans import Request
from kindynos.validate import finite, positive, wrong

Floats = NDArray[np.float64]
Figure = float | tuple[float, ...] | tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Given:
    """A figure that is known: a number, a row with one number a period, or a table of (key, value) pairs."""

    name: str
    value: Figure
    unit: str | None = None
    source: str | None = None

    @cached_property
    def array(self) -> Floats:
        """The value in the library's layout: ``()``, ``(periods, 1)``, or a table ``(n, 2)``."""
        array = np.asarray(self.value, dtype=np.float64)
        return array[:, None] if array.ndim == 1 else array

    @property
    def kind(self) -> Kind:
        """Whether it is a number, a row or a table."""
        if not isinstance(self.value, tuple):
            return NUMBER
        return TABLE if isinstance(self.value[0], tuple) else ROW


@dataclass(frozen=True)
class Driver:
    """An uncertain input: a law, drawn once a trial or anew each period, or a process; and its value in the base case.

    The law of a process is that of its shocks, standard normal; with ``uncertain`` its fitted parameters are drawn too.
    """

    name: str
    law: Distribution
    each: str | None = None
    base: float | None = None
    unit: str | None = None
    source: str | None = None
    serial: float | None = None  # rank correlation of neighbouring periods
    process: Process | None = None
    dt: float = 1.0  # the length of a period in the process's unit of time
    uncertain: bool = False

    def base_value(self, periods: int) -> Any:
        """The value in the base case: the one given, or the mean; of a process a row ``(periods, 1)``."""
        if self.process is None or self.base is not None:
            return self.law.mean if self.base is None else self.base
        try:
            mean = self.process.expected(self.dt * np.arange(1, periods + 1))
        except ParameterError:  # no closed form: the average of many paths, the same each time
            mean = self.process.paths(periods, 20_000, 0, self.dt)[1:].mean(axis=1)
        return np.asarray(mean)[:, None]

    @property
    def kind(self) -> Kind:
        """One a trial, or a row."""
        return Kind(row=self.each is not None or self.process is not None, random=True)

    def requests(self, periods: int) -> list[Request]:
        """Return the scores it needs: its own, and for a process those of further shocks and of uncertain parameters."""
        found = [Request(self.name, periods if self.kind.row else None)]
        if self.process is not None:
            found += [Request(f"{self.name}, shock {i}", periods) for i in range(2, self.process.shocks + 1)]
            if self.uncertain and self.process.fitted is not None:
                found += [Request(f"{self.name}, parameter {i}") for i in range(1, len(self.process.fitted.theta) + 1)]
        return found

    def values(self, scores: Mapping[str, Floats]) -> Floats:
        """Return its values at scores by the names of its requests."""
        if self.process is None:
            return self.law._quantile(scores[self.name])
        rows = len(scores[self.name])
        shocks, *more = [normal_quantile(scores[request.name]) for request in self.requests(rows)]
        others = [row for row in more if row.ndim == 2]
        theta = [row for row in more if row.ndim == 1]
        at = self.process.parameters_at(np.stack(theta)) if theta else self.process
        return self.process.evolve(np.stack([shocks, *others]), self.dt, at)


def process_driver(
    name: str,
    process: Process,
    periods: int | None,
    each: str | None,
    serial: float | None,
    base: float | None,
    unit: str | None,
    source: str | None,
    dt: float,
    uncertain: bool,
) -> Driver:
    """Return a driver that is a process, of checked arguments; raises ModelError or ParameterError."""
    if periods is None:
        raise ModelError(f"driver {name!r}: a process needs a model with periods")
    if each is not None or serial is not None:
        raise ModelError(f"driver {name!r}: a process has its own course; each= and serial= belong to distributions")
    if uncertain and process.fitted is None:
        raise ModelError(
            f"driver {name!r}: uncertain=True needs a fitted process, such as {type(process).__name__}.fit(prices)"
        )
    positive(f"driver {name!r}", "dt", dt)
    checked = None if base is None else finite(f"driver {name!r}", "base", base)
    return Driver(name, Normal(0.0, 1.0), None, checked, unit, source, None, process, dt, uncertain)


@dataclass(frozen=True)
class Line:
    """A calculated quantity: a function whose parameters are the quantities it needs, or a formula."""

    name: str
    function: Callable[..., Any] | None = None
    formula: str | None = None
    unit: str | None = None
    outcome: bool = False
    target: float | None = None
    each_trial: bool = False
    recorded_needs: tuple[str, ...] = ()  # of a line of a saved run, whose function is gone

    @cached_property
    def tree(self) -> Node | None:
        """The formula's syntax tree."""
        return None if self.formula is None else parse(self.formula)

    @cached_property
    def needs(self) -> tuple[str, ...]:
        """The names it uses in the same period, in order of use."""
        if self.function is not None:
            return tuple(inspect.signature(self.function).parameters)
        return self.recorded_needs if self.tree is None else tuple(self.tree.names())

    @cached_property
    def needs_earlier(self) -> tuple[str, ...]:
        """The names it uses through ``previous``."""
        return () if self.tree is None else tuple(self.tree.earlier_names())

    def same_as(self, other: object) -> bool:
        """Whether the other is this line again: equal, or the same function defined anew (a notebook cell run twice)."""
        if self == other:
            return True
        if not isinstance(other, Line) or self.function is None or other.function is None:
            return False
        return _address(self.function) == _address(other.function) and self.outcome == other.outcome


Quantity = Given | Driver | Line


def _address(function: Callable[..., Any]) -> tuple[Any, Any]:
    return getattr(function, "__module__", None), getattr(function, "__qualname__", None)


def check_signature(name: str, function: Callable[..., Any]) -> None:
    """Raise ModelError unless every parameter of the function is a plain name without a default."""
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError):
        raise ModelError(f"line {name!r}: a line is a Python function or a formula, not {function!r:.60}") from None
    for parameter in parameters:
        if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
            raise ModelError(f"line {name!r}: name every quantity it needs; {parameter} could be any")
        if parameter.kind is parameter.POSITIONAL_ONLY:
            raise ModelError(f"line {name!r}: parameter {parameter.name!r} is positional-only; remove the '/'")
        if parameter.default is not parameter.empty:
            raise ModelError(
                f"line {name!r}: parameter {parameter.name!r} has a default, which would hide a missing quantity; "
                f"remove it and say model.given({parameter.name}={parameter.default!r})"
            )


def figure(name: str, value: Any, periods: int | None) -> Figure:
    """Return a given value, checked: a finite number, a row of ``periods`` numbers, or pairs that make a table."""
    owner = f"given {name!r}"
    if isinstance(value, dict):
        value = list(value.items())
    if isinstance(value, str) or not (hasattr(value, "__len__") and getattr(value, "shape", None) != ()):
        return finite(owner, "the value", value)
    items = value.tolist() if hasattr(value, "tolist") else list(value)
    if items and all(isinstance(item, list | tuple) for item in items):
        if all(len(item) == 1 for item in items):
            items = [item[0] for item in items]
        else:
            return _table(owner, items)
    row = tuple(finite(owner, f"the value of period {i + 1}", item) for i, item in enumerate(items))
    if periods is None:
        raise ModelError(f"{owner}: a row needs a model with periods; say Model(..., periods={len(row)})")
    if len(row) != periods:
        raise ModelError(f"{owner}: a row needs one number a period, {periods}, not {len(row)}")
    return row


def _table(owner: str, items: list[Any]) -> tuple[tuple[float, float], ...]:
    pairs = []
    for i, item in enumerate(items):
        if len(item) != 2:
            raise wrong(owner, f"row {i + 1} of the table", "a pair of key and value", item)
        pairs.append((finite(owner, f"key {i + 1}", item[0]), finite(owner, f"value {i + 1}", item[1])))
    for earlier, later in pairwise(pairs):
        if later[0] <= earlier[0]:
            raise ModelError(f"{owner}: the keys of a table must increase, and {later[0]!r} follows {earlier[0]!r}")
    return tuple(pairs)
