"""The operators of formulas on values that are alone or one per trial.

Plain numbers take the quick path under NumPy's "raise": what overflows or divides by 0 is worked
out again, with an error in the trials concerned. ``tidy`` operators take a sum or difference that
is about 3.6e-15 of its operands for 0, as spreadsheets do; they serve where it matters, before a
comparison, a condition, rounding or a text.
"""

from __future__ import annotations

import math
import operator
from collections.abc import Callable
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import DIV0, NUM, CellError, ResultError
from kindynos.workbooks.values import (
    FLOAT,
    Alternatives,
    Faulty,
    Grid,
    Value,
    as_numbers,
    by_trial,
    differs,
    first_errors,
    near,
    near_each,
    none_near,
    over_alternatives,
    picked,
    split_errors,
    text_of,
    with_errors,
)

Operation = Callable[[Value, Value], Value]


SEVERAL = frozenset({Grid, Alternatives})


def over_grids(function: Callable[..., Value], *values: Value) -> Value:
    """Return a function of each place of grids; single rows and columns are repeated."""
    if any(type(value) is Alternatives for value in values):
        return over_alternatives(function, values)
    grids = [value for value in values if type(value) is Grid]
    height, width = max(g.height for g in grids), max(g.width for g in grids)

    def at(value: Value, row: int, column: int) -> Value:
        if type(value) is not Grid:
            return value
        row = 0 if value.height == 1 else row
        column = 0 if value.width == 1 else column
        if row >= value.height or column >= value.width:
            return CellError("#N/A", 7)
        return value.rows[row][column]

    return Grid(
        [
            [function(*(at(value, row, column) for value in values)) for column in range(width)]
            for row in range(height)
        ]
    )


def _arithmetic(
    quick: Callable[[Any, Any], Any], alone: Callable[[float, float], Value]
) -> Operation:
    """Return an operation on numbers from the one on arrays and the one on single numbers."""

    def apply(a: Value, b: Value) -> Value:
        kind_a, kind_b = type(a), type(b)
        if kind_a is float and kind_b is float:
            return alone(a, b)
        plain_a = kind_a is float or (kind_a is np.ndarray and a.dtype is FLOAT)
        if plain_a and (kind_b is float or (kind_b is np.ndarray and b.dtype is FLOAT)):
            try:
                return quick(a, b)
            except FloatingPointError:
                return _with_errors_of(quick, alone, a, b)
        if kind_a in SEVERAL or kind_b in SEVERAL:
            return over_grids(apply, a, b)
        return _carefully(quick, alone, as_numbers(a), as_numbers(b))

    return apply


def _carefully(
    quick: Callable[[Any, Any], Any], alone: Callable[[float, float], Value], a: Value, b: Value
) -> Value:
    """Return an operation on numbers, some of them errors."""
    if type(a) is CellError:
        return a
    if type(b) is CellError:
        if type(a) is not Faulty:
            return b
        return by_trial(lambda item: item if type(item) is CellError else b, [a])
    if not (differs(a) or differs(b)):
        return alone(a, b)
    return _with_errors_of(quick, alone, a, b)


def _with_errors_of(
    quick: Callable[[Any, Any], Any], alone: Callable[[float, float], Value], a: Value, b: Value
) -> Value:
    """Return an operation on numbers one per trial, with the errors that it makes."""
    (x, errors_x), (y, errors_y) = split_errors(a), split_errors(b)
    with np.errstate(all="ignore"):
        values = np.asarray(quick(x, y), dtype=np.float64)
    errors = first_errors([errors_x, errors_y])
    bad = ~np.isfinite(values)
    if errors is not None:
        bad &= errors == 0
    if bad.any():
        errors = np.zeros(len(values), dtype=np.int8) if errors is None else errors.copy()
        for trial in np.flatnonzero(bad).tolist():
            error = alone(picked(x, trial), picked(y, trial))
            errors[trial] = error.number if type(error) is CellError else 0
    return with_errors(values, errors)


def finite(number: float) -> Value:
    """Return a number, or #NUM! where it is too large or none."""
    return number if math.isfinite(number) else NUM


def _add(a: float, b: float) -> Value:
    return 0.0 if near(a, -b) else finite(a + b)


def _subtract(a: float, b: float) -> Value:
    return 0.0 if near(a, b) else finite(a - b)


def _divide(a: float, b: float) -> Value:
    return DIV0 if b == 0 else finite(a / b)


def powered(a: float, b: float) -> Value:
    """Return a number to a power."""
    if a == 0 and b < 0:
        return DIV0
    try:
        power = a**b
    except OverflowError:
        return NUM
    return NUM if isinstance(power, complex) else finite(power)


def _tidy_add(a: Any, b: Any) -> Any:
    total = a + b
    return total if none_near(total, b) else np.where(near_each(a, -b), 0.0, total)


def _tidy_subtract(a: Any, b: Any) -> Any:
    difference = a - b
    return difference if none_near(difference, b) else np.where(near_each(a, b), 0.0, difference)


add = _arithmetic(operator.add, _add)
subtract = _arithmetic(operator.sub, _subtract)
multiply = _arithmetic(operator.mul, lambda a, b: finite(a * b))
divide = _arithmetic(operator.truediv, _divide)
power = _arithmetic(np.power, powered)
tidy_add = _arithmetic(_tidy_add, _add)
tidy_subtract = _arithmetic(_tidy_subtract, _subtract)


def negate(a: Value) -> Value:
    """Return a value with the other sign."""
    if type(a) is float or (type(a) is np.ndarray and a.dtype is FLOAT):
        return -a
    return subtract(0.0, a)


def percent(a: Value) -> Value:
    """Return a hundredth of a value."""
    return divide(a, 100.0)


def plain(a: Value) -> Value:
    """Return a value as it is: a sign + changes nothing."""
    return a


def concatenate(a: Value, b: Value) -> Value:
    """Return two values as one text."""
    if type(a) in SEVERAL or type(b) in SEVERAL:
        return over_grids(concatenate, a, b)
    if differs(a) or differs(b):
        return by_trial(_concatenate, [a, b])
    return _concatenate(a, b)


def _concatenate(a: Value, b: Value) -> Value:
    try:
        return text_of(a) + text_of(b)
    except ResultError as error:
        return error.error


RANK = {float: 0, str: 1, bool: 2}


def compared(a: Value, b: Value) -> int:
    """Return -1, 0 or 1: how single values stand to each other. Numbers come before texts, these
    before logicals; an empty cell is 0, an empty text or FALSE as the other one asks; texts differ
    by more than capitals. Raises ResultError for an error.
    """
    for side in (a, b):
        if type(side) is CellError:
            raise ResultError(side)
    if a is None and b is None:
        return 0
    a, b = _filled(a, b), _filled(b, a)
    if type(a) is not type(b):
        return -1 if RANK[type(a)] < RANK[type(b)] else 1
    if type(a) is float:
        return 0 if near(a, b) else -1 if a < b else 1
    if type(a) is str:
        a, b = a.casefold(), b.casefold()
    return int(a > b) - int(a < b)


def _filled(value: Value, other: Value) -> Value:
    if value is not None:
        return value
    return {float: 0.0, str: "", bool: False}[type(other)]


HOLDS: dict[str, Callable[[int], bool]] = {
    "=": lambda order: order == 0,
    "<>": lambda order: order != 0,
    "<": lambda order: order < 0,
    "<=": lambda order: order <= 0,
    ">": lambda order: order > 0,
    ">=": lambda order: order >= 0,
}


def _quick_comparison(sign: str) -> Callable[[Any, Any], Any]:
    """Return a comparison of numbers one per trial."""
    careful: dict[str, Callable[[Any, Any], Any]] = {
        "<": lambda a, b: (a < b) & ~near_each(a, b),
        ">": lambda a, b: (a > b) & ~near_each(a, b),
        "<=": lambda a, b: (a < b) | near_each(a, b),
        ">=": lambda a, b: (a > b) | near_each(a, b),
        "=": near_each,
        "<>": lambda a, b: ~near_each(a, b),
    }
    plain: dict[str, Callable[[Any, Any], Any]] = {
        "<": operator.lt,
        ">": operator.gt,
        "<=": operator.le,
        ">=": operator.ge,
        "=": operator.eq,
        "<>": operator.ne,
    }

    def compare(a: Any, b: Any) -> Any:
        return (plain if none_near(a - b, b) else careful)[sign](a, b)

    return compare


def _comparison(sign: str) -> Operation:
    quick, holds = _quick_comparison(sign), HOLDS[sign]

    def alone(a: Value, b: Value) -> Value:
        try:
            return holds(compared(a, b))
        except ResultError as error:
            return error.error

    def apply(a: Value, b: Value) -> Value:
        kind_a, kind_b = type(a), type(b)
        if kind_a in SEVERAL or kind_b in SEVERAL:
            return over_grids(apply, a, b)
        if _plain(a) and _plain(b) and not (kind_a is float and kind_b is float):
            try:
                return quick(a, b)
            except FloatingPointError:  # a gap too large for a number
                pass
        if not (differs(a) or differs(b)):
            return alone(a, b)
        a = 0.0 if a is None and _numeric(b) else a
        b = 0.0 if b is None and _numeric(a) else b
        if _numeric(a) and _numeric(b):
            (x, errors_x), (y, errors_y) = split_errors(a), split_errors(b)
            with np.errstate(all="ignore"):
                return with_errors(quick(x, y), first_errors([errors_x, errors_y]))
        return by_trial(alone, [a, b])

    return apply


def _plain(value: Value) -> bool:
    """Return whether a value is a number, or numbers one per trial without an error."""
    return type(value) is float or (type(value) is np.ndarray and value.dtype is FLOAT)


def _numeric(value: Value) -> bool:
    return _plain(value.values if type(value) is Faulty else value)


COMPARISONS = {sign: _comparison(sign) for sign in HOLDS}
BINARY: dict[str, Operation] = {
    "+": add,
    "-": subtract,
    "*": multiply,
    "/": divide,
    "^": power,
    "&": concatenate,
    **COMPARISONS,
}
TIDY: dict[str, Operation] = {"+": tidy_add, "-": tidy_subtract}
UNARY: dict[str, Callable[[Value], Value]] = {"-": negate, "+": plain, "%": percent}
