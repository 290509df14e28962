"""Logic and information. IF and its kin, which choose what is worked out, are ``lazy`` forms."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import NA, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import function, required
from kindynos.workbooks.values import Faulty, Grid, Value, as_logicals, logical_of

OBJECT = np.dtype(object)


def _logicals(values: tuple[Value, ...]) -> list[bool]:
    """Return the logicals of arguments: of cells the logicals and numbers among them."""
    logicals = []
    for value in values:
        if type(value) is Grid:
            for cell in value.flat():
                if type(cell) is CellError:
                    raise ResultError(cell)
                if isinstance(cell, bool | float):
                    logicals.append(logical_of(cell))
        else:
            logicals.append(logical_of(value))
    required(bool(logicals), VALUE)
    return logicals


def _joined(values: list[Value], operation: Any) -> Value | None:
    """Return logicals one per trial joined by an operation; None where an error, or kinds that are
    mixed between trials, need more care.
    """
    joined: Any = None
    for value in values:
        for cell in value.flat() if type(value) is Grid else [value]:
            if type(value) is Grid and type(cell) in (str, type(None)):
                continue
            logical = as_logicals(cell)
            if type(logical) is not bool and type(logical) is not np.ndarray:
                return None
            joined = logical if joined is None else operation(joined, logical)
    return joined


@function("AND", "+x", together=lambda values, _: _joined(values, np.logical_and))
def _and(*values: Value) -> Value:
    """Return whether all arguments are true."""
    return all(_logicals(values))


@function("OR", "+x", together=lambda values, _: _joined(values, np.logical_or))
def _or(*values: Value) -> Value:
    """Return whether any argument is true."""
    return any(_logicals(values))


@function("XOR", "+x", together=lambda values, _: _joined(values, np.logical_xor))
def _xor(*values: Value) -> Value:
    """Return whether an odd number of arguments is true."""
    return sum(_logicals(values)) % 2 == 1


@function("NOT", "b", lambda x: ~np.asarray(x, dtype=np.bool_))
def _not(x: bool) -> Value:
    """Return the opposite of a logical."""
    return not x


@function("TRUE")
def _true() -> Value:
    """Return TRUE."""
    return True


@function("FALSE")
def _false() -> Value:
    """Return FALSE."""
    return False


@function("NA")
def _na() -> Value:
    """Return #N/A."""
    return NA


def _errors_where(test: Callable[[Any], Any]) -> Callable[[list[Value], int], Value | None]:
    """Return a test of errors for values that may hold one in some trials."""

    def together(values: list[Value], trials: int) -> Value | None:
        value = values[0]
        if type(value) is Faulty:
            return test(value.errors)
        if type(value) is np.ndarray and value.dtype is not OBJECT:
            return test(np.zeros(trials, dtype=np.int8))
        return None

    return together


@function("ISERROR", "e", together=_errors_where(lambda errors: errors > 0))
def _iserror(value: Value) -> Value:
    """Return whether a value is an error."""
    return type(value) is CellError


@function("ISERR", "e", together=_errors_where(lambda e: (e > 0) & (e != NA.number)))
def _iserr(value: Value) -> Value:
    """Return whether a value is an error other than #N/A."""
    return type(value) is CellError and value != NA


@function("ISNA", "e", together=_errors_where(lambda errors: errors == NA.number))
def _isna(value: Value) -> Value:
    """Return whether a value is #N/A."""
    return value == NA


@function("ISNUMBER", "e")
def _isnumber(value: Value) -> Value:
    """Return whether a value is a number."""
    return type(value) is float


@function("ISTEXT", "e")
def _istext(value: Value) -> Value:
    """Return whether a value is a text."""
    return type(value) is str


@function("ISNONTEXT", "e")
def _isnontext(value: Value) -> Value:
    """Return whether a value is not a text."""
    return type(value) is not str


@function("ISLOGICAL", "e")
def _islogical(value: Value) -> Value:
    """Return whether a value is a logical."""
    return type(value) is bool


@function("ISBLANK", "e")
def _isblank(value: Value) -> Value:
    """Return whether a cell is empty."""
    return value is None


@function("ISEVEN", "n")
def _iseven(x: float) -> Value:
    """Return whether the whole part of a number is even."""
    return int(abs(x)) % 2 == 0


@function("ISODD", "n")
def _isodd(x: float) -> Value:
    """Return whether the whole part of a number is odd."""
    return int(abs(x)) % 2 == 1


@function("ERROR.TYPE", "e")
def _error_type(value: Value) -> Value:
    """Return the number of an error; #N/A for a value that is none."""
    return value.number if type(value) is CellError else NA


@function("TYPE", "e")
def _type(value: Value) -> Value:
    """Return 1 for a number, 2 for a text, 4 for a logical, 16 for an error."""
    if type(value) is Grid:
        return 64
    return {str: 2, bool: 4, CellError: 16}.get(type(value), 1)
