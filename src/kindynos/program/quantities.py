"""The named quantities of a model: given figures, drivers and lines, each an immutable value, and
the checks of what declares them.
"""

from __future__ import annotations

import inspect
import math
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.scores import Scores
from kindynos.distributions.base import Distribution
from kindynos.distributions.contract import too_extreme
from kindynos.distributions.normal import NormalBased
from kindynos.distributions.stated import StatedDistribution
from kindynos.distributions.uncertain import Uncertain
from kindynos.errors import KindynosError, ModelError, ParameterError
from kindynos.finance.annual_rates import per_period
from kindynos.formula.parse import is_name, parse
from kindynos.formula.shapes import NUMBER, ROW, TABLE, Shape
from kindynos.formula.tree import PERIOD, Expression
from kindynos.processes.base import Process
from kindynos.program.calculation import Calculation
from kindynos.program.drawn_events import DrawnEvents
from kindynos.program.shared_call import SharedCall
from kindynos.sampling.plans import ScoreRequest
from kindynos.sampling.streams import stream
from kindynos.validate import finite, invalid_argument, one_of, owner_is, positive, shown

LONGEST_NAME = 100
STEPS_WITHIN = 12  # of a period of a process, over which it is averaged
SETS = 2_000  # of drawn parameters, whose mean is the base value
YEARLY = re.compile(r"\b(a|per|each) year\b|/ ?(year|yr|a)\b|\byearly\b|\bannual|\bp\. ?a\.", re.I)
GivenValue = float | tuple[float, ...] | tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Given:
    """A figure that is known: a number, a row with one number per period, or a table of (key,
    value) pairs.

    With ``convert`` it is a rate a year, which lines use as the rate of one period.
    """

    name: str
    value: GivenValue
    unit: str | None = None
    source: str | None = None
    convert: bool = False

    @cached_property
    def array(self) -> Floats:
        """The value in the library's layout: ``()``, ``(periods, 1)``, or a table ``(n, 2)``."""
        array = np.asarray(self.value, dtype=np.float64)
        return array[:, None] if array.ndim == 1 else array

    @property
    def shape(self) -> Shape:
        """Whether it is a number, a row or a table."""
        if not isinstance(self.value, tuple):
            return NUMBER
        return TABLE if isinstance(self.value[0], tuple) else ROW

    def as_used(self, periods_a_year: int) -> Given:
        """Return the figure as lines use it: a rate that converts as the rate of one period."""
        if not self.convert:
            return self
        rates = per_period(np.asarray(self.value, dtype=np.float64), periods_a_year)
        value = tuple(rates.tolist()) if isinstance(rates, np.ndarray) else rates
        return replace(self, value=value, convert=False)


def check_rate(given: Given) -> Given:
    """Return a given figure; raises ModelError where it is to be converted and cannot be."""
    if not given.convert:
        return given
    if given.shape.table:
        raise ModelError("a table of pairs is not a rate", owner=f"given {given.name!r}")
    if not YEARLY.search(given.unit or ""):
        raise ModelError(
            'convert goes with a rate whose unit says so, such as unit = "a year"',
            owner=f"given {given.name!r}",
        )
    if (given.array < -1).any():
        raise ModelError(
            f"a rate a year must be at least -1, not {shown(given.value)}",
            owner=f"given {given.name!r}",
        )
    return given


@dataclass(frozen=True)
class Driver(ABC):
    """An uncertain input, and its value in the base case, where that is not the mean."""

    name: str
    base: float | None = None
    unit: str | None = None
    source: str | None = None
    # a rate a year, which lines use as that of one period: what took the place of such a figure
    convert: bool = field(default=False, kw_only=True)

    @property
    @abstractmethod
    def shape(self) -> Shape:
        """One number a trial, or a row."""

    @property
    @abstractmethod
    def each_period(self) -> bool:
        """Whether it is redrawn each period."""

    @abstractmethod
    def base_value(self, periods: int) -> Any:
        """Return the value in the base case, which broadcasts to one trial of its shape."""

    @abstractmethod
    def requests(self, periods: int) -> list[ScoreRequest]:
        """Return the scores it needs."""

    @abstractmethod
    def values(self, scores: Scores) -> Floats:
        """Return its values at scores by the names of its requests."""


@dataclass(frozen=True)
class DistributionDriver(Driver):
    """A driver with a distribution: one number per trial, or redrawn each period.

    ``serial`` is the rank correlation of neighbouring periods.
    """

    distribution: Distribution = field(kw_only=True)
    each: str | None = None
    serial: float | None = None

    @property
    def shape(self) -> Shape:
        return Shape(row=self.each_period, random=True)

    @property
    def each_period(self) -> bool:
        return self.each is not None

    def base_value(self, periods: int) -> float:
        return self.distribution.base_value if self.base is None else self.base

    @property
    def _keeps_parameters(self) -> bool:
        """Whether a trial draws parameters once, for all its periods."""
        return self.each_period and isinstance(self.distribution, Uncertain)

    def requests(self, periods: int) -> list[ScoreRequest]:
        rows = [ScoreRequest(self.name, periods if self.shape.row else None)]
        return [*rows, ScoreRequest(f"{self.name}, parameters")] if self._keeps_parameters else rows

    def values(self, scores: Scores) -> Floats:
        try:
            if self._keeps_parameters and isinstance(self.distribution, Uncertain):
                return self.distribution.by_parameters(
                    scores[self.name], scores[f"{self.name}, parameters"]
                )
            if isinstance(self.distribution, NormalBased):
                return self.distribution._from_normal(scores.normal(self.name))
            return self.distribution._quantile(scores[self.name])
        except ArithmeticError:
            raise too_extreme(self.distribution).with_context(
                owner=f"driver {self.name!r}"
            ) from None


@dataclass(frozen=True)
class DependentDriver(Driver):
    """A driver whose distribution has named parameters: given figures, rows, lines or other
    drivers.

    What is drawn of it is its score, from which a step of the program makes its value once its
    parameters are known; a score that is NaN stands for the base value. A row among its parameters
    makes it a row.
    """

    distribution: StatedDistribution = field(kw_only=True)
    each: str | None = None
    serial: float | None = None
    rows: bool = False  # whether a parameter is a row, as found out when the model is made ready

    needs_earlier = ()

    @property
    def needs(self) -> tuple[str, ...]:
        """The names among its parameters."""
        return self.distribution.names

    @property
    def shape(self) -> Shape:
        return Shape(row=self.each_period or self.rows, random=True)

    @property
    def each_period(self) -> bool:
        return self.each is not None

    def base_value(self, periods: int) -> float:
        return math.nan

    def requests(self, periods: int) -> list[ScoreRequest]:
        return [ScoreRequest(self.name, periods if self.each_period else None)]

    def values(self, scores: Scores) -> Floats:
        return scores[self.name]

    def values_where(self, scores: Floats, named: Mapping[str, Floats]) -> Floats:
        """Return its values at scores and at values of its parameters, both with the trials
        last.
        """
        try:
            at_base = np.isnan(scores)
            drawn = self.distribution.values(np.where(at_base, 0.5, scores), named)
            if not at_base.any():
                return drawn
            base = self.distribution.base_values(named) if self.base is None else self.base
            return np.where(at_base, base, drawn)
        except KindynosError as error:
            raise error.with_context(owner=f"driver {self.name!r}") from None
        except ArithmeticError:
            raise too_extreme(self.distribution).with_context(
                owner=f"driver {self.name!r}"
            ) from None


@dataclass(frozen=True)
class ProcessDriver(Driver):
    """A driver that is a process: a row, its values at the ends of periods that are ``dt`` long in
    its unit of time.

    With ``uncertain`` the fitted parameters are drawn too, trial by trial. ``shares`` names the
    driver whose shocks it has.
    """

    process: Process = field(kw_only=True)
    dt: float = 1.0
    uncertain: bool = False
    shares: str | None = None

    @property
    def shape(self) -> Shape:
        return Shape(row=True, random=True)

    @property
    def each_period(self) -> bool:
        return True

    def base_value(self, periods: int) -> Any:
        if self.base is not None:
            return self.base
        return self._expected(periods, self.dt)[:, None]

    def _expected(self, periods: int, dt: float) -> Floats:
        """Return the expected values: where the parameters are drawn too, the mean of the values
        without shocks over draws of them, of what is not a product of its shocks.
        """
        if not self.uncertain or self.process.fitted is None or self.process.multiplies:
            return self.process._expected_values(periods, dt)
        theta = stream(0, "expected").standard_normal((len(self.process.fitted.theta), SETS))
        without = np.zeros((self.process.shocks, self.process.gap + periods, SETS))
        with np.errstate(over="ignore", under="ignore"):
            paths = self.process._ahead(without, dt, self.process._parameters_at(theta))
        mean: Floats = paths.mean(axis=1)
        return mean if np.isfinite(mean).all() else self.process._expected_values(periods, dt)

    def requests(self, periods: int) -> list[ScoreRequest]:
        source = self.shares or self.name
        rows = [ScoreRequest(source, periods)]
        rows += [
            ScoreRequest(f"{source}, shock {i}", periods) for i in range(2, self.process.shocks + 1)
        ]
        if self.process.gap:
            rows.append(ScoreRequest(self._before, self.process.shocks * self.process.gap))
        if self.uncertain and self.process.fitted is not None:
            rows += [
                ScoreRequest(f"{self.name}, parameter {i}")
                for i in range(1, len(self.process.fitted.theta) + 1)
            ]
        return rows

    def values(self, scores: Scores) -> Floats:
        periods = len(scores.normal(self.shares or self.name))
        normal = {request.name: scores.normal(request.name) for request in self.requests(periods)}
        gap = normal.pop(self._before, None)
        shocks = np.stack([row for row in normal.values() if row.ndim == 2])
        theta = [row for row in normal.values() if row.ndim == 1]
        parameters = self.process._parameters_at(np.stack(theta)) if theta else self.process
        if gap is not None:
            gap = gap.reshape(len(shocks), -1, gap.shape[1])
            shocks = np.concatenate([gap, shocks], axis=1)
        return self.process._ahead(shocks, self.dt, parameters)

    def _theta(self, scores: Scores, periods: int) -> list[Floats]:
        """Return the scores of parameters that are drawn too."""
        own = [request.name for request in ProcessDriver.requests(self, periods)]
        return [scores.normal(n) for n in own if n.startswith(f"{self.name}, parameter ")]

    @property
    def _before(self) -> str:
        """The name of its shocks in the periods before the first one."""
        return f"{self.name}, before"

    def changes(self, scores: Scores) -> Floats:
        """Return the change of each period, of the logarithm where the process multiplies."""
        values, start = self.values(scores), self.process.start_value
        if self.process.multiplies:
            values, start = np.log(values), math.log(start)
        return np.diff(values, axis=0, prepend=start)


@dataclass(frozen=True)
class AveragedDriver(ProcessDriver):
    """A process whose row is its average over each period, by steps within it.

    The shock of a period is as that of its values at the ends; what happens within is drawn beside
    it, so that the period's steps z_j = S / sqrt(k) + e_j - mean(e) are independent and add up to
    the shock.
    """

    def _within(self, source: str) -> str:
        return f"{source}, within"

    def base_value(self, periods: int) -> Any:
        if self.base is not None:
            return self.base
        steps = self._expected(periods * STEPS_WITHIN, self.dt / STEPS_WITHIN)
        return _averages(steps[:, None], self.process.start_value)

    def requests(self, periods: int) -> list[ScoreRequest]:
        own = super().requests(periods)
        inner = [r for r in own if r.rows is not None]
        more = [ScoreRequest(self._within(r.name), periods * STEPS_WITHIN) for r in inner]
        return [*own, *more]

    def values(self, scores: Scores) -> Floats:
        periods = len(scores.normal(self.shares or self.name))
        shocks = [
            self._by_steps(scores, r.name, periods) for r in super().requests(periods) if r.rows
        ]
        theta = self._theta(scores, periods)
        parameters = self.process._parameters_at(np.stack(theta)) if theta else self.process
        path = self.process._ahead(np.stack(shocks), self.dt / STEPS_WITHIN, parameters)
        return _averages(path, self.process.start_value)

    def _by_steps(self, scores: Scores, shock: str, periods: int) -> Floats:
        """Return a shock by the steps within the periods, ``(steps, trials)``: z_j above."""
        of_period = scores.normal(shock)
        within = scores.normal(self._within(shock)).reshape(periods, STEPS_WITHIN, -1)
        within = within - within.mean(axis=1, keepdims=True)
        steps: Floats = within + of_period[:, None] / math.sqrt(STEPS_WITHIN)
        return steps.reshape(periods * STEPS_WITHIN, -1)

    def changes(self, scores: Scores) -> Floats:
        """Return the changes at the ends of periods, which correlations are of."""
        return ProcessDriver(
            self.name, process=self.process, dt=self.dt, shares=self.shares
        ).changes(scores)


def _averages(path: Floats, start: float) -> Floats:
    """Return the average of each period of a path by steps, ``(periods, trials)``: that of the
    straight lines between them.
    """
    before = np.concatenate([np.full((1, path.shape[1]), start), path[:-1]])
    return np.asarray(((before + path) / 2).reshape(-1, STEPS_WITHIN, path.shape[1]).mean(axis=1))


@dataclass(frozen=True)
class PickingDriver(DistributionDriver):
    """A driver whose value only picks the draws of something else, such as the sizes of claims or
    the moves of a cohort: nothing about it could be otherwise than stated.
    """


@dataclass(frozen=True)
class Line:
    """A calculated quantity: a function whose parameters are the quantities it needs, a formula,
    one value of a shared call, one line of a calculation, such as a cell of a workbook, or events.

    A line of a saved run, whose function is gone, has its ``recorded_needs`` alone.
    """

    name: str
    function: Callable[..., Any] | None = None
    formula: str | None = None
    unit: str | None = None
    outcome: bool = False
    check: bool = False  # whether it is a condition that must hold in every trial
    target: Any = None  # a number, or the name of a given one until the model is made ready
    better: str = "high"  # the direction that is wanted of an outcome
    missing: Any = None  # how a trial without a value ranks: "worst", "best" or a number
    each_trial: bool = False
    shared: SharedCall | None = None
    calculation: Calculation | None = None
    events: DrawnEvents | None = None
    recorded_needs: tuple[str, ...] = ()

    @cached_property
    def tree(self) -> Expression | None:
        """The formula's syntax tree."""
        return None if self.formula is None else parse(self.formula)

    @cached_property
    def needs(self) -> tuple[str, ...]:
        """The names it uses in the same period, in order of use."""
        if self.shared is not None:
            return self.shared.inputs
        if self.calculation is not None:
            return self.calculation.needs(self.name)
        if self.events is not None:
            return self.events.needs
        if self.function is not None:
            return tuple(inspect.signature(self.function).parameters)
        return self.recorded_needs if self.tree is None else tuple(self.tree.names())

    @cached_property
    def needs_earlier(self) -> tuple[str, ...]:
        """The names it uses through ``previous``."""
        return () if self.tree is None else tuple(self.tree.earlier_names())

    def same_as(self, other: object) -> bool:
        """Whether the other is this line again: equal, or the same function defined again (a
        notebook cell run twice).
        """
        if self == other:
            return True
        if (
            isinstance(other, Line)
            and self.shared is not None
            and other.shared is not None
            and self.name == other.name
        ):
            own = self.shared.cohort
            return own is not None and own == other.shared.cohort
        if not isinstance(other, Line) or self.function is None or other.function is None:
            return False
        return _address(self.function) == _address(other.function) and self.outcome == other.outcome


Quantity = Given | Driver | Line


def with_figures(driver: DependentDriver, givens: Mapping[str, Given]) -> Driver:
    """Return a driver whose parameters are all given numbers with its distribution, other drivers
    as they are.
    """
    if not all(name in givens and givens[name].shape == NUMBER for name in driver.needs):
        return driver
    try:
        distribution = driver.distribution.at(
            {name: float(givens[name].array) for name in driver.needs}
        )
    except KindynosError as error:
        raise error.with_context(owner=f"driver {driver.name!r}") from None
    return DistributionDriver(
        driver.name,
        driver.base,
        driver.unit,
        driver.source,
        distribution=distribution,
        each=driver.each,
        serial=driver.serial,
    )


def _address(function: Callable[..., Any]) -> tuple[Any, Any]:
    return getattr(function, "__module__", None), getattr(function, "__qualname__", None)


def check_name(name: Any) -> str:
    """Return the name of a quantity; raises ModelError for one that formulas could not use."""
    if not is_name(name):
        raise ModelError(
            f"{name!r:.60} cannot be a name: it must be an identifier such as 'fuel_price', and "
            "no word of Python"
        )
    if len(name) > LONGEST_NAME:
        raise ModelError(
            f"a name may have {LONGEST_NAME} characters, and {name[:20]}... has {len(name)}"
        )
    if name == PERIOD:
        raise ModelError(f"{name!r} cannot be a name: it stands for the number of the period")
    return str(name)


@owner_is("driver {name!r}")
def distribution_driver(
    name: str,
    distribution: Distribution | StatedDistribution,
    periods: int | None,
    *,
    each: Any = None,
    base: Any = None,
    unit: str | None = None,
    source: str | None = None,
    serial: Any = None,
) -> DistributionDriver | DependentDriver:
    """Return a driver with a distribution, of checked arguments; raises ModelError or
    ParameterError.
    """
    if not isinstance(distribution, Distribution | StatedDistribution):
        raise ModelError(f"needs a distribution such as Normal(10, 2), not {shown(distribution)}")
    if each is not None:
        one_of("each", each, ("period",))
        if periods is None:
            raise ModelError("each='period' needs a model with periods")
    if serial is not None:
        if each is None:
            raise ModelError("serial= needs each='period'")
        if not -1 < finite("serial", serial) < 1:
            raise ParameterError(f"serial must be between -1 and 1, not {serial!r}")
    if base is None and isinstance(distribution, Distribution) and not distribution.discrete:
        finite("the mean, its base value (give base= instead),", distribution.mean)
    base_value = _base_value(distribution, base)
    if isinstance(distribution, StatedDistribution):
        return DependentDriver(
            name, base_value, unit, source, distribution=distribution, each=each, serial=serial
        )
    return DistributionDriver(
        name, base_value, unit, source, distribution=distribution, each=each, serial=serial
    )


def _base_value(distribution: Distribution | StatedDistribution, base: Any) -> float | None:
    """Return a stated base value, of ``"mode"`` the likeliest one."""
    if isinstance(base, str) and base == "mode":
        base = (
            getattr(distribution, "mode", None) if isinstance(distribution, Distribution) else None
        )
        if base is None:
            raise ModelError(
                "base='mode' needs a distribution with a stated mode, such as Triangular or Pert"
            )
    return None if base is None else finite("base", base)


@owner_is("driver {name!r}")
def process_driver(
    name: str,
    process: Process,
    periods: int | None,
    *,
    each: Any = None,
    base: Any = None,
    unit: str | None = None,
    source: str | None = None,
    serial: Any = None,
    dt: float = 1.0,
    uncertain: bool = False,
    shares: str | None = None,
    value: str = "end",
) -> ProcessDriver:
    """Return a driver that is a process, of checked arguments; raises ModelError or
    ParameterError.
    """
    if periods is None:
        raise ModelError("a process needs a model with periods")
    if each is not None or serial is not None:
        raise ModelError("a process has its own course; each= and serial= belong to distributions")
    if uncertain and process.fitted is None:
        raise ModelError(
            f"uncertain=True needs a fitted process, such as {type(process).__name__}.fit(prices)"
        )
    base_value = None if base is None else finite("base", base)
    one_of("value", value, ("end", "average"))
    if value == "average" and not process.continuous:
        raise ModelError(
            "value='average' belongs to processes in continuous time; a "
            f"{process.label!r} has one value a period"
        )
    kind = AveragedDriver if value == "average" else ProcessDriver
    return kind(
        name,
        base_value,
        unit,
        source,
        process=process,
        dt=positive("dt", dt),
        uncertain=uncertain,
        shares=shares,
    )


@owner_is("line {name!r}")
def check_signature(name: str, function: Callable[..., Any]) -> None:
    """Raise ModelError unless every parameter of the function is a plain name without a default."""
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError):
        raise ModelError(
            f"a line is a Python function or a formula, not {function!r:.60}"
        ) from None
    for parameter in parameters:
        if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
            raise ModelError(f"name every quantity it needs; {parameter} could be any")
        if parameter.kind is parameter.POSITIONAL_ONLY:
            raise ModelError(f"parameter {parameter.name!r} is positional-only; remove the '/'")
        if parameter.default is not parameter.empty:
            raise ModelError(
                f"parameter {parameter.name!r} has a default, which would hide a missing quantity; "
                f"remove it and say model.given({parameter.name}={parameter.default!r})"
            )


@owner_is("given {name!r}")
def given_value(name: str, value: Any, periods: int | None) -> GivenValue:
    """Return a given value, checked: a finite number, a row of ``periods`` numbers, or pairs that
    make a table.
    """
    if isinstance(value, dict):
        value = list(value.items())
    if isinstance(value, str) or not (
        hasattr(value, "__len__") and getattr(value, "shape", None) != ()
    ):
        return finite("the value", value)
    items = value.tolist() if hasattr(value, "tolist") else list(value)
    if items and all(isinstance(entry, list | tuple) for entry in items):
        if all(len(entry) == 1 for entry in items):
            items = [entry[0] for entry in items]
        else:
            return _lookup_table(items)
    row = tuple(finite(f"the value of period {i + 1}", entry) for i, entry in enumerate(items))
    if periods is None:
        raise ModelError(f"a row needs a model with periods; say Model(..., periods={len(row)})")
    if len(row) != periods:
        raise ModelError(f"a row needs one number per period, {periods}, not {len(row)}")
    return row


def _lookup_table(items: list[Any]) -> tuple[tuple[float, float], ...]:
    pairs = []
    for i, entry in enumerate(items):
        if len(entry) != 2:
            raise invalid_argument(f"row {i + 1} of the table", "a pair of key and value", entry)
        pairs.append((finite(f"key {i + 1}", entry[0]), finite(f"value {i + 1}", entry[1])))
    for earlier, later in pairwise(pairs):
        if later[0] <= earlier[0]:
            raise ModelError(
                f"the keys of a table must increase, and {later[0]!r} follows {earlier[0]!r}"
            )
    return tuple(pairs)
