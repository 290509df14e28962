"""The values of cells: numbers, texts, logicals, nothing and errors, alone or one per trial.

A value that is the same in all trials is a ``float``, ``str``, ``bool``, None (an empty cell) or a
``CellError``. A value that differs is an array ``(trials,)`` of floats or logicals, a ``Faulty``
where some trials hold an error, or an array of objects where kinds are mixed. Values side by side
are a ``Grid``; where trials differ in how many they are, or in which cells are meant, they are
``Alternatives``.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import BY_NUMBER, VALUE, CellError, ResultError
from kindynos.workbooks.serials import serial_in_text

FLOAT = np.dtype(np.float64)
LOGICAL = np.dtype(np.bool_)
Value = Any  # one of the kinds above
Slots = list[Value]  # the values of cells by their numbers
Closure = Callable[[Slots], Value]  # a formula, or a part of one


class Faulty:
    """Numbers or logicals with an error in some trials: the value there is NaN (or False),
    and ``errors`` has the error's number, 0 elsewhere.
    """

    __slots__ = ("errors", "values")

    def __init__(self, values: Any, errors: Any) -> None:
        self.values, self.errors = values, errors


class Grid:
    """Values side by side, ``rows`` of equally many; ``area`` is where they stand, if they are
    cells. ``memo`` keeps what a function has found out of them for its next call.
    """

    __slots__ = ("_trials", "area", "memo", "rows")

    def __init__(self, rows: list[list[Value]], area: Any = None) -> None:
        self.rows, self.area = rows, area
        self.memo: Any = None
        self._trials: int | None = None

    @property
    def trials(self) -> int:
        """The number of trials where values differ between them; 0 for none."""
        if self._trials is None:
            self._trials = trials_in(self.flat())
        return self._trials

    @property
    def height(self) -> int:
        """The number of rows."""
        return len(self.rows)

    @property
    def width(self) -> int:
        """The number of columns."""
        return len(self.rows[0])

    def flat(self) -> list[Value]:
        """Return the values, row by row."""
        return self.rows[0] if len(self.rows) == 1 else [v for row in self.rows for v in row]


class Alternatives:
    """One of several ``values`` in each trial, most of them grids of different sizes: ``which``
    ``(trials,)`` says which. A function of them is worked out for the trials of each.
    """

    __slots__ = ("values", "which")

    def __init__(self, values: list[Value], which: Any) -> None:
        self.values, self.which = values, which


class Settled(list[Value]):
    """The values of cells that stay as they are once they are worked out: the ``grids`` of areas
    are made once for all formulas that ask for them.
    """

    def __init__(self, values: Iterable[Value]) -> None:
        super().__init__(values)
        self.grids: dict[Any, Grid] = {}


def differs(value: Value) -> bool:
    """Return whether a value differs between trials."""
    kind = type(value)
    if kind is Grid:
        return any(differs(cell) for row in value.rows for cell in row)
    return kind is np.ndarray or kind is Faulty or kind is Alternatives


# what is the same in all trials
FIXED: frozenset[Any] = frozenset({float, str, bool, type(None), CellError})


def trials_in(values: Sequence[Value]) -> int:
    """Return the number of trials where the values differ between them; 0 for none."""
    if FIXED.issuperset(map(type, values)):
        return 0
    for value in values:
        if type(value) is np.ndarray:
            return len(value)
        if type(value) is Faulty:
            return len(value.values)
        if type(value) is Alternatives:
            return len(value.which)
        if type(value) is Grid and value.trials:
            return value.trials
    return 0


def picked(value: Value, trial: int) -> Value:
    """Return a value in one trial."""
    kind = type(value)
    if kind is np.ndarray:
        at_trial = value[trial]
        if value.dtype is FLOAT:
            return float(at_trial)
        return bool(at_trial) if value.dtype is LOGICAL else at_trial
    if kind is Faulty:
        number = int(value.errors[trial])
        return BY_NUMBER[number] if number else picked(value.values, trial)
    if kind is Grid:
        return Grid([[picked(cell, trial) for cell in row] for row in value.rows], value.area)
    if kind is Alternatives:
        return picked(value.values[int(value.which[trial])], trial)
    return value


def at_trials(value: Value, places: Any) -> Value:
    """Return a value in some trials."""
    kind = type(value)
    if kind is np.ndarray:
        return value[places]
    if kind is Faulty:
        return with_errors(value.values[places], value.errors[places])
    if kind is Grid:
        return Grid([[at_trials(cell, places) for cell in row] for row in value.rows], value.area)
    if kind is Alternatives:
        return Alternatives([at_trials(v, places) for v in value.values], value.which[places])
    return value


def over_alternatives(function: Callable[..., Value], values: Sequence[Value]) -> Value:
    """Return a function of values, some of them ``Alternatives``, worked out for the trials of each
    alternative.
    """
    first = next(value for value in values if type(value) is Alternatives)
    pieces = []
    for position, alternative in enumerate(first.values):
        places = np.flatnonzero(first.which == position)
        if len(places):
            taken = [alternative if value is first else value for value in values]
            pieces.append((places, function(*(at_trials(value, places) for value in taken))))
    return scattered(pieces, len(first.which))


def scattered(pieces: Sequence[tuple[Any, Value]], trials: int) -> Value:
    """Return one value from those in some trials each."""
    which = np.empty(trials, dtype=np.intp)
    for position, (places, _) in enumerate(pieces):
        which[places] = position
    values = [value for _, value in pieces]
    if any(type(value) is Grid or type(value) is Alternatives for value in values):
        shapes = {(v.height, v.width) if type(v) is Grid else None for v in values}
        if len(shapes) > 1 or None in shapes:
            return Alternatives([_spread(value, places, trials) for places, value in pieces], which)
        height, width = shapes.pop() or (0, 0)
        return Grid(
            [
                [scattered([(p, v.rows[r][c]) for p, v in pieces], trials) for c in range(width)]
                for r in range(height)
            ]
        )
    if all(type(v) is float or (type(v) is np.ndarray and v.dtype is FLOAT) for v in values):
        together = np.empty(trials)
        for places, value in pieces:
            together[places] = value
        return together
    each: list[Value] = [None] * trials
    for places, value in pieces:
        for order, place in enumerate(places.tolist()):
            each[place] = picked(value, order)
    return joined(each)


def _spread(value: Value, places: Any, trials: int) -> Value:
    """Return a value of some trials as one of all; the others are never asked for."""
    order = np.zeros(trials, dtype=np.intp)
    order[places] = np.arange(len(places))
    return at_trials(value, order)


def joined(values: Sequence[Value]) -> Value:
    """Return single values, one per trial, as one value."""
    kinds = {type(value) for value in values}
    if kinds == {float}:
        return np.array(values, dtype=np.float64)
    if kinds == {bool}:
        return np.array(values, dtype=np.bool_)
    if len(kinds) == 1 and len(set(values)) == 1:
        return values[0]
    if (CellError in kinds and kinds <= {float, CellError}) or kinds == {bool, CellError}:
        nothing = False if bool in kinds else math.nan
        errors = np.array([v.number if type(v) is CellError else 0 for v in values], dtype=np.int8)
        return Faulty(np.array([nothing if type(v) is CellError else v for v in values]), errors)
    if Grid in kinds:
        return _joined_grids(values)
    texts = np.empty(len(values), dtype=object)
    texts[:] = values
    return texts


def _joined_grids(values: Sequence[Value]) -> Value:
    """Return grids, one per trial, as one grid, in which errors among them fill their trial; as
    alternatives where they differ in size, or a single value stands for one.
    """
    shapes = {(v.height, v.width) for v in values if type(v) is Grid}
    alone = any(type(v) is not Grid and type(v) is not CellError for v in values)
    if len(shapes) > 1 or alone:
        return Alternatives(list(values), np.arange(len(values)))
    height, width = shapes.pop()
    return Grid(
        [
            [
                joined([v.rows[row][column] if type(v) is Grid else v for v in values])
                for column in range(width)
            ]
            for row in range(height)
        ]
    )


def by_trial(function: Callable[..., Value], values: Sequence[Value]) -> Value:
    """Return what a function of single values gives, trial by trial."""
    moving = [differs(value) for value in values]
    return joined(
        [
            function(*(picked(v, t) if m else v for v, m in zip(values, moving, strict=True)))
            for t in range(trials_in(values))
        ]
    )


NUMBER = re.compile(r"\s*[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?\s*")
CURRENCIES = "$\u20ac\u00a3\u00a5"
AMOUNT = re.compile(  # with a currency, groups of three digits, a percent sign, or in brackets
    rf"(?P<sign>[-+])?\s*[{CURRENCIES}]?\s*(?P<late_sign>[-+])?"
    r"(?P<digits>(?:\d{1,3}(?:,\d{3})+|\d+)(?:\.\d*)?|\.\d+)(?P<power>[eE][-+]?\d+)?"
    rf"\s*[{CURRENCIES}]?\s*(?P<percent>%)?"
)


def number_in_text(text: str) -> float | None:
    """Return the number, amount, percentage, date or time that a text states, None where it states
    none.

    >>> number_in_text("1,234.5"), number_in_text("($5)"), number_in_text("1,23")
    (1234.5, -5.0, None)
    """
    if NUMBER.fullmatch(text):
        return float(text)
    stripped = text.strip()
    bracketed = stripped.startswith("(") and stripped.endswith(")")
    match = AMOUNT.fullmatch(stripped[1:-1].strip() if bracketed else stripped)
    if match is None:
        return serial_in_text(stripped)
    signs = [sign for sign in (match["sign"], match["late_sign"]) if sign]
    if len(signs) + bracketed > 1:
        return None
    number = float(match["digits"].replace(",", "") + (match["power"] or ""))
    number = number / 100 if match["percent"] else number
    return -number if bracketed or signs == ["-"] else number


def number_of(value: Value) -> float:
    """Return a single value as a number; raises ResultError where it is none."""
    kind = type(value)
    if kind is float:
        return float(value)
    if kind is bool:
        return 1.0 if value else 0.0
    if value is None:
        return 0.0
    if kind is CellError:
        raise ResultError(value)
    if kind is str:
        number = number_in_text(value)
        if number is None:
            raise ResultError(VALUE)
        return number
    if kind is Grid:
        return number_of(value.rows[0][0])
    return float(value)


def text_of(value: Value) -> str:
    """Return a single value as a text; raises ResultError for an error."""
    kind = type(value)
    if kind is str:
        return str(value)
    if value is None:
        return ""
    if kind is bool:
        return "TRUE" if value else "FALSE"
    if kind is CellError:
        raise ResultError(value)
    if kind is Grid:
        return text_of(value.rows[0][0])
    return general(float(value))


def logical_of(value: Value) -> bool:
    """Return a single value as a logical; raises ResultError where it is none."""
    kind = type(value)
    if kind is bool:
        return bool(value)
    if kind is float:
        return bool(value != 0)
    if value is None:
        return False
    if kind is CellError:
        raise ResultError(value)
    if kind is str:
        upper = value.strip().upper()
        if upper in ("TRUE", "FALSE"):
            return bool(upper == "TRUE")
        raise ResultError(VALUE)
    if kind is Grid:
        return logical_of(value.rows[0][0])
    return bool(value)


def general(number: float) -> str:
    """Return a number as a cell of no format shows it, to 15 digits.

    >>> general(0.1 + 0.2), general(1e21), general(1234567.0)
    ('0.3', '1E+21', '1234567')
    """
    if number == 0:
        return "0"
    if number == int(number) and abs(number) < 1e15:
        return str(int(number))
    text = f"{number:.15g}"
    if "e" not in text:
        size = abs(number)
        if 1e-4 <= size < 1e20:
            return text
    mantissa, _, exponent = f"{number:.14e}".partition("e")
    mantissa = mantissa.rstrip("0").rstrip(".")
    power = int(exponent)
    if -10 < power < 21:
        return np.format_float_positional(float(text), trim="-")
    return f"{mantissa}E{'-' if power < 0 else '+'}{abs(power):02d}"


NEAR = 2.0**-48  # of two numbers that count as equal: about 3.6e-15 of either


def near(a: float, b: float) -> bool:
    """Return whether two numbers count as equal: to about 15 digits, whole numbers exactly."""
    if a == b:
        return True
    if a == 0 or b == 0:
        return False
    gap = abs(a - b)
    if not gap < NEAR * min(abs(a), abs(b)):
        return False
    return not (a == math.floor(a) and b == math.floor(b) and max(abs(a), abs(b)) < 2.0**53)


def near_each(a: Any, b: Any) -> Any:
    """Return ``near`` for numbers one per trial."""
    close = np.abs(a - b) < NEAR * np.minimum(np.abs(a), np.abs(b))
    whole = (np.floor(a) == a) & (np.floor(b) == b) & (np.abs(a) < 2.0**53)
    return (a == b) | (close & ~whole)


def none_near(gaps: Any, b: Any) -> bool:
    """Return, quickly, that no number one per trial counts as equal to another, from what lies
    between them; False where that takes a closer look.
    """
    # the root of the sum of squares is quicker to have than the largest size, and no less
    size = abs(b) if type(b) is float else math.sqrt(b.dot(b))
    return bool(np.minimum.reduce(np.abs(gaps)) > NEAR * size)


def as_numbers(value: Value) -> Value:
    """Return a value with numbers for its logicals, texts and empty cells; CellError or Faulty
    where there is none.
    """
    kind = type(value)
    if kind is float or kind is CellError:
        return value
    if kind is np.ndarray:
        if value.dtype is FLOAT:
            return value
        if value.dtype is LOGICAL:
            return value.astype(np.float64)
        return joined([_number_or_error(cell) for cell in value.tolist()])
    if kind is Faulty:
        if value.values.dtype is FLOAT:
            return value
        return Faulty(
            np.where(value.errors > 0, math.nan, value.values.astype(np.float64)), value.errors
        )
    return _number_or_error(value)


def as_logicals(value: Value) -> Value:
    """Return a value as logicals; CellError or Faulty where there is none."""
    kind = type(value)
    if kind is bool or kind is CellError:
        return value
    if kind is np.ndarray:
        if value.dtype is LOGICAL:
            return value
        if value.dtype is FLOAT:
            return value != 0
        return joined([_logical_or_error(cell) for cell in value.tolist()])
    if kind is Faulty:
        if value.values.dtype is LOGICAL:
            return value
        return Faulty(np.where(value.errors > 0, False, value.values != 0), value.errors)
    return _logical_or_error(value)


def _number_or_error(value: Value) -> Value:
    try:
        return number_of(value)
    except ResultError as error:
        return error.error


def _logical_or_error(value: Value) -> Value:
    try:
        return logical_of(value)
    except ResultError as error:
        return error.error


def split_errors(value: Value) -> tuple[Value, Any]:
    """Return the numbers or logicals of a value and the numbers of its errors, None for none."""
    return (value.values, value.errors) if type(value) is Faulty else (value, None)


def first_errors(result: Sequence[Any]) -> Any:
    """Return the first error of each trial among several records of errors, None for none."""
    values = [errors for errors in result if errors is not None]
    if not values:
        return None
    errors_so_far = values[0]
    for errors in values[1:]:
        errors_so_far = np.where(errors_so_far > 0, errors_so_far, errors)
    return errors_so_far


def with_errors(values: Any, errors: Any) -> Value:
    """Return numbers or logicals with a record of errors; plain where there is no error."""
    if errors is None or not errors.any():
        return values
    nothing: Any = False if values.dtype is LOGICAL else math.nan
    return Faulty(np.where(errors > 0, nothing, values), errors)


def chosen(mask: Any, yes: Value, no: Value) -> Value:
    """Return one value where a mask ``(trials,)`` holds and another elsewhere."""
    if not {Grid, Alternatives}.isdisjoint((type(yes), type(no))):
        sides = ((np.flatnonzero(mask), yes), (np.flatnonzero(~mask), no))
        return scattered([(p, at_trials(v, p)) for p, v in sides if len(p)], len(mask))
    kinds = {_kind_of(yes), _kind_of(no)}
    if len(kinds - {"error"}) == 1 and kinds <= {"number", "logical", "error"}:
        kind = (kinds - {"error"}).pop()
        nothing: Any = math.nan if kind == "number" else False
        (yes_values, yes_errors), (no_values, no_errors) = (
            _plain(branch, nothing, len(mask)) for branch in (yes, no)
        )
        values = np.where(mask, yes_values, no_values)
        if yes_errors is None and no_errors is None:
            return values
        zeros = np.zeros(len(mask), dtype=np.int8)
        errors = np.where(
            mask,
            zeros if yes_errors is None else yes_errors,
            zeros if no_errors is None else no_errors,
        )
        return with_errors(values, errors)
    return joined([picked(yes if is_true else no, t) for t, is_true in enumerate(mask.tolist())])


def _plain(value: Value, nothing: Any, trials: int) -> tuple[Any, Any]:
    """Return numbers or logicals, and the record of their errors."""
    if type(value) is CellError:
        return nothing, np.full(trials, value.number, dtype=np.int8)
    return split_errors(value)


def _kind_of(value: Value) -> str:
    if type(value) is Faulty:
        return _kind_of(value.values)
    if type(value) is np.ndarray:
        return (
            "number" if value.dtype is FLOAT else "logical" if value.dtype is LOGICAL else "mixed"
        )
    kinds = {float: "number", bool: "logical", CellError: "error"}
    return kinds.get(type(value), "text")
