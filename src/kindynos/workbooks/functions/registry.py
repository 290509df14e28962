"""The table of functions, what their arguments are, and how one is called with values that differ
between trials.

To add a function: write it for single values in a file here, with its rule as its docstring, and
put ``@function("NAME", "kinds")`` above it. A kind says what an argument is:

- ``n`` a number, ``d`` the serial number of a date, ``t`` a text, ``b`` a logical: converted;
- ``v`` any value, ``e`` any value or an error;
- ``r`` values side by side as they are (a ``Grid``); ``a`` the same, and a formula in it is worked
  out place by place;
- ``x`` numbers: of cells the numbers among them, and else what can be converted.

Kinds in brackets may be left out; those after a "*" are repeated, and those after a "+" at least
once.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import islice, repeat
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import DIV0, NUM, VALUE, CellError, ResultError
from kindynos.workbooks.operators import over_grids
from kindynos.workbooks.values import (
    FLOAT,
    LOGICAL,
    Alternatives,
    Faulty,
    Grid,
    Value,
    as_logicals,
    as_numbers,
    by_trial,
    first_errors,
    logical_of,
    number_of,
    over_alternatives,
    picked,
    split_errors,
    text_of,
    trials_in,
    with_errors,
)

SINGLE = frozenset("ndtbve")  # kinds of arguments that are one value
MOST_ARGUMENTS = 255
MOST_STEPS = 100_000  # of a function that works something out step by step
NUMERIC = frozenset("nx")
PLAIN = frozenset({float, np.ndarray})


@dataclass(frozen=True)
class SheetFunction:
    """A function of formulas: its ``kinds`` of arguments, how many of them are ``needed`` and how
    many of the last are repeated; ``quick`` takes numbers one per trial, where there is one.
    """

    name: str
    kinds: str
    needed: int
    repeated: int
    alone: Callable[..., Value]
    quick: Callable[..., Any] | None
    rule: str
    together: Callable[[list[Value], int], Value | None] | None = None
    dated: bool = False

    def kinds_of(self, count: int) -> str:
        """Return the kind of each of a number of arguments."""
        if count <= len(self.kinds):
            return self.kinds[:count]
        last = self.kinds[len(self.kinds) - self.repeated :] if self.repeated else "v"
        return self.kinds + "".join(islice(_cycled(last), count - len(self.kinds)))

    def takes(self, count: int) -> bool:
        """Return whether it takes a number of arguments."""
        return self.needed <= count and (
            count <= len(self.kinds) or (self.repeated > 0 and count <= MOST_ARGUMENTS)
        )


def _read_kinds(kinds: str) -> tuple[str, int, int]:
    """Return the kinds of arguments without signs, how many are needed, and how many of the last
    are repeated: none or more times after a "*", once or more after a "+".
    """
    before, star, group = kinds.partition("*")
    if star:
        return f"{before}{group}", len(before), len(group)
    before, plus, group = kinds.partition("+")
    if plus:
        return f"{before}{group}", len(before) + len(group), len(group)
    before, _, optional = kinds.partition("[")
    return before + optional.rstrip("]"), len(before), 0


def _cycled(text: str) -> Any:
    for character in repeat(text):
        yield from character


FUNCTIONS: dict[str, SheetFunction] = {}
Alone = Callable[..., Value]


def function(
    names: str,
    kinds: str = "",
    quick: Callable[..., Any] | None = None,
    *,
    together: Callable[[list[Value], int], Value | None] | None = None,
    dated: bool = False,
) -> Callable[[Alone], Alone]:
    """Return a decorator that puts a function of single values into the table, under several names.

    ``quick`` works on numbers one per trial, ``together`` on any values and the number of trials,
    and may return None where it cannot; ``dated`` says that its value is a date.
    """
    plain, needed, repeated = _read_kinds(kinds)

    def add(alone: Alone) -> Alone:
        for name in names.split():
            rule = " ".join((alone.__doc__ or "").split())
            FUNCTIONS[name] = SheetFunction(
                name, plain, needed, repeated, alone, quick, rule, together, dated
            )
        return alone

    return add


def called(sheet_function: SheetFunction, arguments: Sequence[Value], kinds: str) -> Value:
    """Return the value of a function of values that may differ between trials, each of its
    kind.
    """
    plain_numbers = _of_plain_numbers(sheet_function, kinds, arguments)
    if plain_numbers is not None:
        return plain_numbers
    if any(type(a) is Alternatives for a in arguments):
        return over_alternatives(lambda *each: called(sheet_function, each, kinds), arguments)
    if any(type(a) is Grid and k in SINGLE for a, k in zip(arguments, kinds, strict=True)):
        return _over_grids(sheet_function, kinds, arguments)
    trials = trials_in(arguments)
    if not trials:
        return alone(sheet_function, kinds, arguments)
    if sheet_function.together is not None:
        plain_numbers = sheet_function.together(list(arguments), trials)
        if plain_numbers is not None:
            return plain_numbers
    if sheet_function.quick is not None:
        plain_numbers = _quickly(sheet_function, kinds, arguments, trials)
        if plain_numbers is not None:
            return plain_numbers
    return by_trial(lambda *single: alone(sheet_function, kinds, single), arguments)


def _of_plain_numbers(
    sheet_function: SheetFunction, kinds: str, arguments: Sequence[Value]
) -> Value | None:
    """Return the value of a function of numbers, some of them one per trial, where none of them and
    no trial of the value has an error; None otherwise.
    """
    if sheet_function.quick is None or not NUMERIC.issuperset(kinds):
        return None
    plain = _plain_numbers(kinds, arguments)
    if plain is None:
        return None
    assert sheet_function.quick is not None
    try:
        result = (
            sheet_function.quick(plain) if set(kinds) == {"x"} else sheet_function.quick(*plain)
        )
        if type(result) is not np.ndarray:
            return None
        return result if result.dtype is not FLOAT or math.isfinite(np.add.reduce(result)) else None
    except ArithmeticError:  # some trial has an error, which takes more care
        return None


def _plain_numbers(kinds: str, arguments: Sequence[Value]) -> list[Any] | None:
    """Return arguments that are numbers, some of them one per trial, without errors; None for
    others.
    """
    rows: list[Any] = []
    moving = False
    for position, value in enumerate(arguments):
        kind = type(value)
        if kind is np.ndarray and value.dtype is FLOAT:
            moving = True
            rows.append(value)
        elif kind is float:
            rows.append(value)
        elif kind is Grid and kinds[position] == "x":
            items = value.flat()
            kinds_in = set(map(type, items))
            if not kinds_in <= PLAIN:
                return None
            if np.ndarray in kinds_in:
                if any(
                    type(argument) is np.ndarray and argument.dtype is not FLOAT
                    for argument in items
                ):
                    return None
                moving = True
            rows += items
        else:
            return None
    return rows if moving else None


def _over_grids(sheet_function: SheetFunction, kinds: str, arguments: Sequence[Value]) -> Value:
    """Return a function of single values at each place of grids."""
    fixed = {i: a for i, (a, k) in enumerate(zip(arguments, kinds, strict=True)) if k not in SINGLE}
    moving = [i for i in range(len(arguments)) if i not in fixed]

    def at(*values: Value) -> Value:
        whole = dict(zip(moving, values, strict=True)) | fixed
        return called(sheet_function, [whole[i] for i in range(len(arguments))], kinds)

    return over_grids(at, *(arguments[i] for i in moving))


def alone(sheet_function: SheetFunction, kinds: str, arguments: Sequence[Value]) -> Value:
    """Return the value of a function of single values."""
    try:
        return checked(
            sheet_function.alone(
                *(CONVERSIONS[kind](value) for kind, value in zip(kinds, arguments, strict=True))
            )
        )
    except ResultError as error:
        return error.error
    except ZeroDivisionError:
        return DIV0
    except (OverflowError, ValueError, ArithmeticError):
        return NUM


def checked(value: Value) -> Value:
    """Return what a function gave as a value: whole numbers as floats, none that is not finite."""
    if isinstance(value, bool | np.bool_):
        return bool(value)
    if isinstance(value, complex):
        return NUM
    if isinstance(value, int | float | np.floating | np.integer):
        number = float(value)
        return number if math.isfinite(number) else NUM
    return value


def _value(value: Value) -> Value:
    if type(value) is CellError:
        raise ResultError(value)
    return value


def _grid(value: Value) -> Grid:
    if type(value) is Grid:
        return value
    return Grid([[value]])


CONVERSIONS: dict[str, Callable[[Value], Value]] = {
    "n": number_of,
    "d": number_of,
    "t": text_of,
    "b": logical_of,
    "v": _value,
    "e": lambda value: value,
    "r": _grid,
    "a": _grid,
    "x": lambda value: value,
}


def _quickly(
    sheet_function: SheetFunction, kinds: str, arguments: Sequence[Value], trials: int
) -> Value:
    """Return the value of a function by its quick form; None where its arguments are not of a kind
    that it takes.
    """
    converted = _converted(kinds, arguments)
    if converted is None:
        return None
    if any(type(value) is CellError for value in converted):
        if not any(type(value) is Faulty for value in converted):
            return next(value for value in converted if type(value) is CellError)
        return None
    parts = [split_errors(value) for value in converted]
    values, errors = [value for value, _ in parts], first_errors([e for _, e in parts])
    assert sheet_function.quick is not None
    try:
        with np.errstate(all="ignore"):
            result = (
                sheet_function.quick(values)
                if set(kinds) == {"x"}
                else sheet_function.quick(*values)
            )
    except ArithmeticError:  # of numbers that are the same in all trials
        return None
    if result is None:
        return None
    result = np.asarray(result)
    result = np.full(trials, result) if result.ndim == 0 else result
    if result.dtype is LOGICAL:
        return with_errors(result, errors)
    return _with_failing(
        sheet_function, kinds, arguments, np.array(result, dtype=np.float64), errors
    )


def _converted(kinds: str, arguments: Sequence[Value]) -> list[Any] | None:
    """Return arguments as numbers and logicals, with their errors; None for another kind."""
    converted: list[Any] = []
    for kind, value in zip(kinds, arguments, strict=True):
        if kind == "x":
            items = numeric_items(value)
            if items is None:
                return None
            converted += items
        elif kind in "nd":
            converted.append(as_numbers(value))
        elif kind == "b":
            converted.append(as_logicals(value))
        else:
            return None
    return converted


def _with_failing(
    sheet_function: SheetFunction, kinds: str, arguments: Sequence[Value], answer: Any, errors: Any
) -> Value:
    """Return numbers one per trial; those that are none are worked out alone."""
    bad = ~np.isfinite(answer)
    if errors is not None:
        bad &= errors == 0
    if not bad.any():
        return with_errors(answer, errors)
    errors = np.zeros(len(answer), dtype=np.int8) if errors is None else errors.copy()
    for trial in np.flatnonzero(bad).tolist():
        again = alone(sheet_function, kinds, [picked(value, trial) for value in arguments])
        if type(again) is CellError:
            errors[trial] = again.number
        elif type(again) is float:
            answer[trial] = again
        else:
            return None
    return with_errors(answer, errors)


def numeric_items(value: Value) -> list[Any] | None:
    """Return the numbers of an argument of kind ``x``, each alone or one per trial, and its errors;
    None where kinds are mixed between trials.
    """
    if type(value) is not Grid:
        return [as_numbers(value)]
    rows: list[Any] = []
    for cell in value.flat():
        kind = type(cell)
        if kind is float or kind is CellError or (kind is np.ndarray and cell.dtype == np.float64):
            rows.append(cell)
        elif kind is np.ndarray and cell.dtype == object:
            return None
        elif kind is Faulty:
            if cell.values.dtype is LOGICAL:
                return None
            rows.append(cell)
    return rows


def numbers_in(values: Sequence[Value]) -> list[float]:
    """Return the numbers of arguments of kind ``x`` in one trial; raises ResultError for an
    error.
    """
    numbers = []
    for value in values:
        if type(value) is Grid:
            for cell in value.flat():
                if type(cell) is float:
                    numbers.append(cell)
                elif type(cell) is CellError:
                    raise ResultError(cell)
        elif value is not None:
            numbers.append(number_of(value))
        else:
            numbers.append(0.0)
    return numbers


def required(condition: bool, error: CellError = NUM) -> None:
    """Raise ResultError with an error unless a condition holds."""
    if not condition:
        raise ResultError(error)


def bounded(count: float, most: float = MOST_STEPS, error: CellError = NUM) -> None:
    """Raise ResultError with an error for a number of steps or digits that no sheet needs: work and
    memory of a formula are bounded.
    """
    required(count <= most, error)


def whole(number: float) -> int:
    """Return a number without what is behind its decimal point."""
    required(abs(number) < 1e15, VALUE)
    return math.trunc(number)
