"""Conditional sums and counts: a criterion such as ">=5" or "north*" chooses places of areas."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import DIV0, ERRORS, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import function, required
from kindynos.workbooks.functions.text import wildcard
from kindynos.workbooks.operators import COMPARISONS, HOLDS, compared
from kindynos.workbooks.values import FLOAT, Grid, Value, number_in_text

SIGNS = ("<=", ">=", "<>", "<", ">", "=")


@dataclass(frozen=True)
class Criterion:
    """What a value must be: how it stands to another one, or which pattern a text has."""

    sign: str
    value: Value
    pattern: re.Pattern[str] | None = None

    def holds(self, value: Value) -> bool:
        """Return whether a single value meets it."""
        if self.pattern is not None:
            fits = type(value) is str and self.pattern.fullmatch(value) is not None
            return bool(fits == (self.sign == "="))
        if self.value == "":
            empty = value is None or (value == "" and self.sign == "<>")
            return (value is None) if self.sign == "=" else not empty
        if type(self.value) is CellError:
            return bool((value == self.value) == (self.sign == "="))
        if type(value) is CellError or value is None:
            return self.sign == "<>"
        if type(value) is not type(self.value):
            return self.sign == "<>"
        return HOLDS[self.sign](compared(value, self.value))


def criterion_of(value: Value) -> Criterion:
    """Return the criterion that a single value states."""
    if type(value) is Grid:
        value = value.rows[0][0]
    if value is None:
        return Criterion("=", 0.0)
    if type(value) is not str:
        return Criterion("=", value)
    sign = next((sign for sign in SIGNS if value.startswith(sign)), "")
    rest = value[len(sign) :]
    sign = sign or "="
    number = number_in_text(rest) if rest else None
    if number is not None:
        return Criterion(sign, number)
    if rest.upper() in ("TRUE", "FALSE"):
        return Criterion(sign, rest.upper() == "TRUE")
    if rest.upper() in ERRORS:
        return Criterion(sign, ERRORS[rest.upper()])
    if sign in ("=", "<>") and rest:
        return Criterion(sign, rest, wildcard(rest))
    return Criterion(sign, rest)


def _places(pairs: tuple[Value, ...]) -> list[tuple[int, int]]:
    """Return the places at which all criteria hold, of areas and criteria in turn."""
    required(len(pairs) % 2 == 0 and bool(pairs), VALUE)
    areas, criteria = pairs[::2], [criterion_of(value) for value in pairs[1::2]]
    height, width = areas[0].height, areas[0].width
    for area in areas:
        required(area.height == height and area.width == width, VALUE)
    return [
        (row, column)
        for row in range(height)
        for column in range(width)
        if all(
            criterion.holds(area.rows[row][column])
            for area, criterion in zip(areas, criteria, strict=True)
        )
    ]


def _numbers_at(area: Grid, places: list[tuple[int, int]]) -> list[float]:
    numbers = []
    for row, column in places:
        inside = row < area.height and column < area.width
        value = area.rows[row][column] if inside else None
        if type(value) is CellError:
            raise ResultError(value)
        if type(value) is float:
            numbers.append(value)
    return numbers


def _held(pairs: list[Value], trials: int) -> list[Any] | None:
    """Return for each place whether all criteria hold, alone or one per trial; None where that
    needs to be worked out trial by trial.
    """
    masks: list[Any] = []
    for area, stated in zip(pairs[::2], pairs[1::2], strict=True):
        sign, value = "=", stated
        if type(stated) is tuple:  # an operator joined to a number that differs
            sign, value = stated
        elif type(stated) is not np.ndarray:
            if type(stated) not in (float, str, bool, type(None), Grid):
                return None
            criterion = criterion_of(stated)
            if criterion.pattern is None and type(criterion.value) is float:
                sign, value = criterion.sign, criterion.value
            else:
                value = criterion
        if type(value) is np.ndarray and value.dtype is not FLOAT:
            return None
        for position, cell in enumerate(area.flat()):
            holds = _holds_at(cell, sign, value)
            if holds is None:
                return None
            if position < len(masks):
                masks[position] = masks[position] & holds
            else:
                masks.append(holds)
    return masks


def _holds_at(cell: Value, sign: str, value: Any) -> Any:
    numeric = type(cell) is float or (type(cell) is np.ndarray and cell.dtype is FLOAT)
    if type(value) is Criterion:
        return value.holds(cell) if type(cell) is not np.ndarray else None
    if numeric:
        return COMPARISONS[sign](cell, value)
    if type(cell) in (str, bool, type(None), CellError):
        return sign == "<>"
    return None


def _conditional(name: str, arguments: list[Value], trials: int) -> Value | None:
    """Return a conditional sum, count or mean of numbers that differ between trials; None where it
    needs to be worked out trial by trial.
    """
    pairs, summed = _pairs_and_summed(name, arguments)
    areas = pairs[::2]
    if len(pairs) % 2 or not all(type(area) is Grid for area in areas):
        return None
    if type(summed) is not Grid and summed is not None:
        return None
    shapes = {(area.height, area.width) for area in [*areas, *([summed] if summed else [])]}
    if len(shapes) > 1:
        return None
    kept_values = _held(pairs, trials)
    if kept_values is None:
        return None
    sums = _sums(kept_values, [1.0] * len(kept_values) if summed is None else summed.flat())
    if sums is None:
        return None
    count, total = sums
    if name.startswith("COUNT"):
        return count
    if name.startswith("SUM"):
        return total
    return None if np.any(np.asarray(count) == 0) else total / count


def _pairs_and_summed(name: str, arguments: list[Value]) -> tuple[list[Value], Value]:
    """Return areas and criteria in turn, and the area of the numbers, None where they are only
    counted.
    """
    if name in ("SUMIF", "AVERAGEIF"):
        return arguments[:2], arguments[2] if len(arguments) > 2 else arguments[0]
    if name in ("SUMIFS", "AVERAGEIFS"):
        return arguments[1:], arguments[0]
    return arguments, None


def _sums(kept_values: list[Any], values: list[Value]) -> tuple[Any, Any] | None:
    """Return how many numbers there are at places that hold, and their sum; None for what is
    neither a number nor empty.
    """
    count: Any = 0.0
    total: Any = 0.0
    for mask, value in zip(kept_values, values, strict=True):
        numeric = type(value) is float or (type(value) is np.ndarray and value.dtype is FLOAT)
        if not numeric and type(value) not in (str, bool, type(None)):
            return None
        if mask is False or not numeric:
            continue
        count = count + (1.0 if mask is True else mask)
        total = total + (value if mask is True else np.where(mask, value, 0.0))
    return count, total


@function("COUNTIF", "rv", together=partial(_conditional, "COUNTIF"))
def _countif(area: Grid, criterion: Value) -> Value:
    """Return how many cells meet a criterion."""
    return len(_places((area, criterion)))


@function("COUNTIFS", "rv*rv", together=partial(_conditional, "COUNTIFS"))
def _countifs(*pairs: Value) -> Value:
    """Return at how many places all criteria hold."""
    return len(_places(pairs))


@function("SUMIF", "rv[r]", together=partial(_conditional, "SUMIF"))
def _sumif(area: Grid, criterion: Value, summed: Grid | None = None) -> Value:
    """Return the sum of the numbers at places that meet a criterion."""
    return math.fsum(_numbers_at(area if summed is None else summed, _places((area, criterion))))


@function("SUMIFS", "rrv*rv", together=partial(_conditional, "SUMIFS"))
def _sumifs(summed: Grid, *pairs: Value) -> Value:
    """Return the sum of the numbers at places at which all criteria hold."""
    required(summed.height == pairs[0].height and summed.width == pairs[0].width, VALUE)
    return math.fsum(_numbers_at(summed, _places(pairs)))


@function("AVERAGEIF", "rv[r]", together=partial(_conditional, "AVERAGEIF"))
def _averageif(area: Grid, criterion: Value, averaged: Grid | None = None) -> Value:
    """Return the mean of the numbers at places that meet a criterion."""
    return _mean(_numbers_at(area if averaged is None else averaged, _places((area, criterion))))


@function("AVERAGEIFS", "rrv*rv", together=partial(_conditional, "AVERAGEIFS"))
def _averageifs(averaged: Grid, *pairs: Value) -> Value:
    """Return the mean of the numbers at places at which all criteria hold."""
    required(averaged.height == pairs[0].height and averaged.width == pairs[0].width, VALUE)
    return _mean(_numbers_at(averaged, _places(pairs)))


def _mean(values: list[float]) -> float:
    required(bool(values), DIV0)
    return math.fsum(values) / len(values)


@function("MAXIFS", "rrv*rv")
def _maxifs(area: Grid, *pairs: Value) -> Value:
    """Return the largest number at places at which all criteria hold; 0 of none."""
    return max(_numbers_at(area, _places(pairs)), default=0.0)


@function("MINIFS", "rrv*rv")
def _minifs(area: Grid, *pairs: Value) -> Value:
    """Return the smallest number at places at which all criteria hold; 0 of none."""
    return min(_numbers_at(area, _places(pairs)), default=0.0)
