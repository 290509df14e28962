"""The parts of a formula. Each knows its kind and works itself out on arrays in the library's
layout.

Truth is 1.0 or 0.0. A comparison with NaN, and a choice on it, gives NaN, so that a failed trial
cannot turn into a number.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeGuard

import numpy as np

from kindynos.arrays import RESIDUE, Floats, without_residue
from kindynos.errors import FormulaError
from kindynos.events.events import Events
from kindynos.formula.function import Function
from kindynos.formula.shapes import NUMBER, Shape

Option = int | str | bool

PERIODS_A_YEAR = "periods_a_year"  # a number that every model knows
PERIOD_ENDS = "ends of periods"  # a row that models with dates know; no formula can name it
PERIOD = "period"  # the number of the period, 1 to n; a name no model may use otherwise


@dataclass(frozen=True)
class Scope:
    """The values a formula may use, by name, and the number of periods."""

    values: Mapping[str, Floats]
    periods: int

    @property
    def periods_a_year(self) -> Any:
        """How many periods make a year: 1, or what the model says."""
        return self.values.get(PERIODS_A_YEAR, 1.0)

    def period_ends(self, owner: str) -> Floats:
        """The last days of the periods, since 1970; raises FormulaError for a model without
        dates.
        """
        if PERIOD_ENDS not in self.values:
            raise FormulaError(f"{owner} needs a model with a start, which gives the periods dates")
        return self.values[PERIOD_ENDS]


@dataclass(frozen=True)
class Expression(ABC):
    """A part of a formula; ``place`` is its column, from 1."""

    place: int

    @property
    def parts(self) -> tuple[Expression, ...]:
        """The parts inside this one."""
        return ()

    @abstractmethod
    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        """The kind of the value; raises FormulaError where a part has the wrong one."""

    @abstractmethod
    def evaluate(self, scope: Scope) -> Floats:
        """The value."""

    def with_parts(self, parts: tuple[Expression, ...]) -> Expression:
        """The same part with other parts inside."""
        return self

    def walk(self) -> Iterator[Expression]:
        """This part and all inside it."""
        yield self
        for part in self.parts:
            yield from part.walk()

    def names(self) -> dict[str, int]:
        """The quantities used in the same period, with the column of their first use."""
        by_name: dict[str, int] = {}
        for node in self.walk():
            if isinstance(node, Name) and node.name != PERIOD:
                by_name.setdefault(node.name, node.place)
        return by_name

    def earlier_names(self) -> dict[str, int]:
        """The quantities used through ``previous``, with the column of their first use."""
        by_name: dict[str, int] = {}
        for node in self.walk():
            if isinstance(node, Previous):
                by_name.setdefault(node.name, node.place)
        return by_name


@dataclass(frozen=True)
class Number(Expression):
    value: float

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        return NUMBER

    def evaluate(self, scope: Scope) -> Floats:
        return np.asarray(self.value)


@dataclass(frozen=True)
class Name(Expression):
    name: str

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        if self.name not in shapes:
            raise FormulaError(
                f"unknown name {self.name!r} at column {self.place}",
                unknown=self.name,
                known=shapes,
            )
        return shapes[self.name]

    def evaluate(self, scope: Scope) -> Floats:
        return scope.values[self.name]


@dataclass(frozen=True)
class TableSum(Name):
    """The line that adds up the drivers of a table."""


@dataclass(frozen=True)
class Operation(Expression):
    """An operator on one or two values, element by element."""

    symbol: str
    compute: Callable[..., Floats]
    operands: tuple[Expression, ...]

    @property
    def parts(self) -> tuple[Expression, ...]:
        return self.operands

    def with_parts(self, parts: tuple[Expression, ...]) -> Expression:
        return replace(self, operands=parts)

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        whole, shapes_of = NUMBER, []
        for position, operand in enumerate(self.operands):
            scaled = self.symbol == "*" or (self.symbol == "/" and position == 0)
            what = f"operand of {self.symbol!r}"
            shape = value_kind(operand, shapes, what, events=scaled and not whole.events)
            shapes_of.append(shape)
            whole = whole | shape
        if whole.events:
            _check_rows(self.symbol, shapes_of)
        return whole

    def evaluate(self, scope: Scope) -> Floats:
        return self.compute(*[operand.evaluate(scope) for operand in self.operands])


@dataclass(frozen=True)
class Sum(Operation):
    """A sum or difference that is no part of another: what rounding leaves of amounts that cancel
    is 0.
    """

    def evaluate(self, scope: Scope) -> Floats:
        terms: list[Floats] = []
        value = _added(self, scope, terms)
        # the root of the sum of squares is no smaller than the largest term, and is quick
        bound = RESIDUE * math.sqrt(sum(float(np.vdot(term, term)) for term in terms))
        if bound < math.inf and (
            bound < value.min() or value.max() < -bound or not (np.abs(value) < bound).any()
        ):
            return value  # none is near 0, as of most sums
        sizes = np.abs(terms[0])
        for term in terms[1:]:
            sizes = np.maximum(sizes, np.abs(term))
        return without_residue(value, sizes)


def _added(node: Expression, scope: Scope, terms: list[Floats]) -> Floats:
    """Return the value of a part of a sum, and gather its terms."""
    if is_sum(node):
        left, right = (_added(part, scope, terms) for part in node.parts)
        return node.compute(left, right)
    terms.append(np.asarray(node.evaluate(scope)))
    return terms[-1]


def is_sum(node: Expression) -> TypeGuard[Operation]:
    """Return whether a part is a sum or a difference of two."""
    return isinstance(node, Operation) and node.symbol in "+-" and len(node.operands) == 2


def with_sums(node: Expression, within: bool = False) -> Expression:
    """Return a tree in which each sum that is no part of another is a ``Sum``."""
    own = is_sum(node)
    settled = node.with_parts(tuple(with_sums(part, own) for part in node.parts))
    if not own or within:
        return settled
    assert isinstance(settled, Operation)
    return Sum(settled.place, settled.symbol, settled.compute, settled.operands)


@dataclass(frozen=True)
class Call(Expression):
    """A call of a function in the list; an argument left out is None."""

    function: Function
    arguments: tuple[Expression | None, ...]
    options: tuple[tuple[str, Option], ...] = ()  # what is written out

    @property
    def parts(self) -> tuple[Expression, ...]:
        return tuple(argument for argument in self.arguments if argument is not None)

    def with_parts(self, parts: tuple[Expression, ...]) -> Expression:
        given = iter(parts)
        return replace(
            self, arguments=tuple(None if a is None else next(given) for a in self.arguments)
        )

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        function = self.function
        parameters = function.inputs * len(self.arguments) if function.many else function.inputs
        rows = []
        for parameter, argument in zip(parameters, self.arguments, strict=False):
            if argument is None:
                continue
            shape = argument.shape_of(shapes)
            rows.append(shape)
            what = f"{parameter.name} of {function.name} at column {argument.place}"
            if shape.events and (parameter.events or parameter.wants == "events"):
                continue
            if shape.events or parameter.wants == "events":
                rule = "must be events, such as claims"
                if parameter.wants != "events":
                    rule = "must not be events; total(x) adds them up"
                raise FormulaError(f"{what} {rule}")
            if parameter.wants == "row" and not shape.row:
                kind = f"not a {shape}".replace("a one", "one")
                raise FormulaError(
                    f"{what} must be a row over the periods, {kind}; every_period(x) is a level row"
                )
            if parameter.wants == "value" and shape.row:
                raise FormulaError(f"{what} must be a number or one per trial, not a row")
            if (parameter.wants == "table") != shape.table:
                raise FormulaError(
                    f"{what} must {'' if parameter.wants == 'table' else 'not '}be a table"
                )
        if any(shape.events for shape in rows):
            _check_rows(function.name, rows)
        return function.shape_of(rows)

    def evaluate(self, scope: Scope) -> Any:
        function, options = self.function, dict[str, Any](self.options)
        values = [
            None if argument is None else argument.evaluate(scope) for argument in self.arguments
        ]
        if function.gives == "row":
            options["periods"] = scope.periods
        if function.by_date:
            options["ends"] = scope.period_ends(function.name)
        if function.by_year:
            options["periods_a_year"] = scope.periods_a_year
        if not function.many:
            named = zip(function.inputs, values, strict=False)
            options.update(
                {p.name: value for p, value in named if p.optional and value is not None}
            )
            values = values[: sum(not p.optional for p in function.inputs)]
        computed: Any = function.compute(*values, **options)
        return computed if isinstance(computed, Events) else np.asarray(computed)


def _check_rows(function: str, shapes: Sequence[Shape]) -> None:
    """Raise FormulaError for a row beside events that do not happen in periods."""
    in_periods = any(shape.row for shape in shapes if shape.events)
    if not in_periods and any(shape.row for shape in shapes):
        raise FormulaError(
            f'{function} has events without periods and a row; say each = "period" of the claims, '
            "or take one value of the row"
        )


@dataclass(frozen=True)
class Previous(Expression):
    """A line ``back`` periods earlier, with ``first`` standing in before period 1."""

    name: str
    first: Expression
    back: int = 1

    @property
    def parts(self) -> tuple[Expression, ...]:
        return (self.first,)

    def with_parts(self, parts: tuple[Expression, ...]) -> Expression:
        return replace(self, first=parts[0])

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        earlier = Name(self.place, self.name).shape_of(shapes)
        if not earlier.row or earlier.events:
            raise FormulaError(
                f"previous at column {self.place}: {self.name!r} is not a row, so it has no "
                "earlier "
                "periods"
            )
        first = value_kind(self.first, shapes, "first of previous")
        return Shape(True, earlier.random or first.random)

    def evaluate(self, scope: Scope) -> Floats:
        row, first = scope.values[self.name], self.first.evaluate(scope)
        back = min(self.back, scope.periods)
        if first.ndim == 2:
            first = first[:back]
        width = np.broadcast_shapes(row.shape[1:], first.shape[-1:])
        head = np.broadcast_to(first, (back, *width))
        return np.concatenate(
            [head, np.broadcast_to(row[: scope.periods - back], (scope.periods - back, *width))]
        )


def value_kind(
    expression: Expression, shapes: Mapping[str, Shape], what: str, events: bool = False
) -> Shape:
    """Return the kind of a part that must be a value, or may be ``events``; raises FormulaError
    for a table, and for events.
    """
    shape = expression.shape_of(shapes)
    if shape.events and not events:
        raise FormulaError(
            f"{what} at column {expression.place} must not be events, which are multiplied and "
            "divided by a number alone; total(x) adds them up"
        )
    if shape.table:
        raise FormulaError(
            f"{what} at column {expression.place} must not be a table; use lookup(x, table)"
        )
    return shape
