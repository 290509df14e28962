"""Conditional sums and counts: a criterion such as ">=5" or "north*" chooses places of areas."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import DIV0, ERRORS, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import bounded, function, numbers_in, required, whole
from kindynos.workbooks.functions.text import wildcard
from kindynos.workbooks.operators import COMPARISONS, HOLDS, compared
from kindynos.workbooks.values import (
    FIXED,
    FLOAT,
    Grid,
    Value,
    number_in_text,
    number_of,
    with_errors,
)

MOST_TRIED = 2_000_000  # rows of a table times rows of criteria
MOST_REMEMBERED = 2**24  # places of answers to criteria
SIGNS = ("<=", ">=", "<>", "<", ">", "=")


@dataclass(frozen=True)
class Criterion:
    """What a value must be: how it stands to another one, or which pattern a text has.

    The ``sign`` is "" for a criterion of empty text, which cells with nothing and with empty text
    meet. A ``text`` that states a number is met by that number and by the same text.
    """

    sign: str
    value: Value
    pattern: re.Pattern[str] | None = None
    text: str | None = None

    def holds(self, value: Value) -> bool:
        """Return whether a single value meets it."""
        if self.sign in ("", "=", "<>"):
            return self._is_met(value) != (self.sign == "<>")
        if type(value) is CellError or type(value) is not type(self.value):
            return False
        return HOLDS[self.sign](compared(value, self.value))

    def _is_met(self, value: Value) -> bool:
        """Return whether a single value is the one that is stated."""
        if self.pattern is not None:
            return type(value) is str and self.pattern.fullmatch(value) is not None
        if self.value == "":  # nothing, and without a sign an empty text too
            return value is None or (value == "" and not self.sign)
        if type(value) is str and self.text is not None:
            return value.lower() == self.text
        if type(value) is CellError or type(value) is not type(self.value):
            return bool(value == self.value and type(value) is CellError)
        return compared(value, self.value) == 0


def criterion_of(value: Value) -> Criterion:
    """Return the criterion that a single value states."""
    if type(value) is Grid:
        value = value.rows[0][0]
    if value is None:
        return Criterion("=", 0.0)
    return _in_words(value) if type(value) is str else Criterion("=", value)


@lru_cache(maxsize=1000)
def _in_words(value: str) -> Criterion:
    sign = next((sign for sign in SIGNS if value.startswith(sign)), "")
    rest = value[len(sign) :]
    if not rest:
        return Criterion(sign, rest)
    sign, stated = sign or "=", rest.upper()
    number = number_in_text(rest)
    if number is not None:
        return Criterion(sign, number, text=rest.lower())
    if stated in ("TRUE", "FALSE"):
        return Criterion(sign, stated == "TRUE", text=rest.lower())
    if stated in ERRORS:
        return Criterion(sign, ERRORS[stated])
    if sign not in ("=", "<>"):
        return Criterion(sign, rest)
    if re.search(r"[?*~]", rest):
        return Criterion(sign, rest, wildcard(rest))
    return Criterion(sign, rest, text=rest.lower())


class Distinct:
    """The distinct values among cells that are the same in all trials: a criterion is asked of each
    once, of numbers all at once, and a text is looked up.
    """

    def __init__(self, cells: Sequence[Value]) -> None:
        places: dict[tuple[type, Value], int] = {}
        self.which = np.array(
            [places.setdefault((type(cell), cell), len(places)) for cell in cells], dtype=np.intp
        )
        self.values = [value for _, value in places]
        self.numeric = np.array([type(value) is float for value in self.values], dtype=bool)
        self.numbers = np.array([v for v in self.values if type(v) is float], dtype=np.float64)
        self.others = np.flatnonzero(~self.numeric).tolist()
        self.texts: dict[str, list[int]] = {}
        for position in self.others:
            if type(self.values[position]) is str:
                self.texts.setdefault(self.values[position].lower(), []).append(position)

        self._holding: dict[tuple[type, Criterion], Any] = {}

    def holding(self, criterion: Criterion) -> Any:
        """Return for each cell whether it meets a criterion; the last answers are remembered."""
        key = type(criterion.value), criterion  # 1 and TRUE are two criteria
        if key not in self._holding:
            if len(self._holding) * len(self.which) > MOST_REMEMBERED:
                self._holding.clear()
            self._holding[key] = self._met(criterion)
        return self._holding[key]

    def _met(self, criterion: Criterion) -> Any:
        sign, holds = criterion.sign, np.zeros(len(self.values), dtype=bool)
        if type(criterion.value) is float and len(self.numbers):
            holds[self.numeric] = COMPARISONS[sign](self.numbers, criterion.value)
        else:
            holds[self.numeric] = sign == "<>"
        if criterion.text is not None and sign in ("=", "<>"):
            holds[self.others] = sign == "<>"
            holds[self.texts.get(criterion.text, [])] = sign == "="
            if type(criterion.value) is bool:
                logicals = [i for i in self.others if type(self.values[i]) is bool]
                holds[logicals] = [criterion.holds(self.values[i]) for i in logicals]
        else:
            holds[self.others] = [criterion.holds(self.values[i]) for i in self.others]
        return holds[self.which]


def _distinct(area: Grid) -> Distinct:
    if area.memo is None:
        area.memo = Distinct(area.flat())
    distinct: Distinct = area.memo
    return distinct


# one trial


def _pairs_of(pairs: Sequence[Value]) -> tuple[list[Grid], list[Value]]:
    """Return areas of one size, and criteria; raises ResultError for others."""
    required(len(pairs) % 2 == 0 and bool(pairs), VALUE)
    areas = list(pairs[::2])
    required(len({_size(area) for area in areas}) == 1, VALUE)
    return _of_one_shape(areas), list(pairs[1::2])


def _size(area: Grid) -> tuple[int, int]:
    """Return the rows and columns of an area, with those of a whole column that hold nothing."""
    place = area.area
    return (area.height, area.width) if place is None else (place.rows, place.columns)


def _of_one_shape(areas: list[Grid]) -> list[Grid]:
    """Return areas of one size with as many places each: of whole columns on several sheets one may
    end before another.
    """
    shapes = {(area.height, area.width) for area in areas}
    if len(shapes) == 1:
        return areas
    height, width = (max(sides) for sides in zip(*shapes, strict=True))
    return [
        Grid(
            [
                [*row, *[None] * (width - area.width)]
                for row in [*area.rows, *[[]] * (height - area.height)]
            ],
            area.area,
        )
        if (area.height, area.width) != (height, width)
        else area
        for area in areas
    ]


def _beyond(areas: list[Grid]) -> int:
    """Return how many places of whole rows and columns lie beyond all that the sheet holds."""
    rows, columns = _size(areas[0])
    return rows * columns - areas[0].height * areas[0].width


def _kept(pairs: Sequence[Value]) -> tuple[Any, int]:
    """Return for each place, row by row, whether all criteria hold there, and at how many they do
    where whole columns hold nothing.
    """
    areas, stated = _pairs_of(pairs)
    criteria = [criterion_of(value) for value in stated]
    kept = _distinct(areas[0]).holding(criteria[0])
    for area, criterion in zip(areas[1:], criteria[1:], strict=True):
        kept = kept & _distinct(area).holding(criterion)
    beyond = _beyond(areas)
    if beyond and not all(criterion.holds(None) for criterion in criteria):
        beyond = 0
    return kept, beyond


def _numbers_at(area: Grid, pairs: Sequence[Value]) -> list[float]:
    """Return the numbers of an area at places at which all criteria hold; the area is as wide as
    the first one that is tested.
    """
    width, numbers = _pairs_of(pairs)[0][0].width, []
    for place in np.flatnonzero(_kept(pairs)[0]).tolist():
        row, column = divmod(place, width)
        inside = row < area.height and column < area.width
        value = area.rows[row][column] if inside else None
        if type(value) is CellError:
            raise ResultError(value)
        if type(value) is float:
            numbers.append(value)
    return numbers


# all trials


@dataclass(frozen=True)
class Stated:
    """A criterion: the distinct ones, and ``which`` of them each trial has, None where there is one
    for all; ``numbers`` one per trial where all have one sign and a number.
    """

    criteria: list[Criterion]
    which: Any = None
    numbers: Any = None

    @classmethod
    def of(cls, value: Value) -> Stated | None:
        """Return a criterion that may differ between trials; None for one of errors."""
        if type(value) is not np.ndarray:
            fixed = type(value) in (float, str, bool, type(None), Grid)
            return cls([criterion_of(value)]) if fixed else None
        if value.dtype is FLOAT:
            distinct, which = np.unique(value, return_inverse=True)
            return cls([Criterion("=", number) for number in distinct.tolist()], which, value)
        texts: dict[tuple[type, Value], int] = {}
        which = np.array([texts.setdefault((type(v), v), len(texts)) for v in value.tolist()])
        if any(kind is CellError for kind, _ in texts):
            return None
        criteria = [criterion_of(text) for _, text in texts]
        numbers = None
        if {(criterion.sign, type(criterion.value)) for criterion in criteria} in (
            {(sign, float)} for sign in SIGNS
        ):
            numbers = np.array([criterion.value for criterion in criteria])[which]
        return cls(criteria, which, numbers)

    def holding(self, area: Grid) -> list[Any] | None:
        """Return for each place of an area whether it is met, alone or one per trial."""
        cells = area.flat()
        if not any(type(cell) is np.ndarray for cell in cells):
            if any(type(cell) not in FIXED for cell in cells):
                return None
            distinct = _distinct(area)
            masks = [distinct.holding(criterion) for criterion in self.criteria]
            if self.which is None:
                return list(map(bool, masks[0]))
            return list(np.array(masks).T[:, self.which])
        held = [self._at(cell) for cell in cells]
        return None if any(mask is None for mask in held) else held

    def _at(self, cell: Value) -> Any:
        """Return whether a cell meets it, alone or one per trial; None where that is not known."""
        if type(cell) in FIXED:
            holds = [criterion.holds(cell) for criterion in self.criteria]
            return holds[0] if self.which is None else np.array(holds)[self.which]
        if type(cell) is not np.ndarray:
            return None
        first = self.criteria[0]
        if cell.dtype is FLOAT and self.which is None:
            if type(first.value) is float:
                return COMPARISONS[first.sign](cell, first.value)
            return first.sign == "<>"
        if cell.dtype is FLOAT and self.numbers is not None:
            return COMPARISONS[first.sign](cell, self.numbers)
        which = np.zeros(len(cell), dtype=np.intp) if self.which is None else self.which
        return np.array(
            [
                self.criteria[k].holds(value)
                for value, k in zip(cell.tolist(), which.tolist(), strict=True)
            ]
        )

    @property
    def of_nothing(self) -> Any:
        """Whether a cell that holds nothing meets it, alone or one per trial."""
        return self._at(None)


def _conditional(name: str, arguments: list[Value], trials: int) -> Value | None:
    """Return a conditional sum, count, mean or extreme of numbers that differ between trials; None
    where it needs to be worked out trial by trial.
    """
    pairs, summed = _pairs_and_summed(name, arguments)
    if len(pairs) % 2 or not all(type(area) is Grid for area in pairs[::2]):
        return None
    if type(summed) is not Grid and summed is not None:
        return None
    if len({_size(area) for area in [*pairs[::2], *([summed] if summed else [])]}) > 1:
        return None
    areas = _of_one_shape([*pairs[::2], *([summed] if summed else [])])
    criteria = [Stated.of(value) for value in pairs[1::2]]
    held: list[Any] = [True] * (areas[0].height * areas[0].width)
    beyond: Any = float(_beyond(areas))
    for area, criterion in zip(areas, criteria, strict=False):
        holding = None if criterion is None else criterion.holding(area)
        if criterion is None or holding is None:
            return None
        held = [_both(before, now) for before, now in zip(held, holding, strict=True)]
        beyond = beyond * criterion.of_nothing
    if summed is None:
        return sum((mask for mask in held if mask is not False), beyond + 0.0)
    return _taken(name.removesuffix("S").removesuffix("IF"), held, areas[-1].flat(), trials)


def _both(before: Any, now: Any) -> Any:
    if before is False or now is False:
        return False
    if before is True:
        return now
    return before if now is True else before & now


def _pairs_and_summed(name: str, arguments: list[Value]) -> tuple[list[Value], Value]:
    """Return areas and criteria in turn, and the area of the numbers, None where they are only
    counted.
    """
    if name in ("SUMIF", "AVERAGEIF"):
        return arguments[:2], arguments[2] if len(arguments) > 2 else arguments[0]
    if name in ("COUNTIF", "COUNTIFS"):
        return arguments, None
    return arguments[1:], arguments[0]


def _taken(what: str, held: list[Any], values: list[Value], trials: int) -> Value | None:
    """Return the sum, mean, largest or smallest of the numbers at places that hold; None for a
    place that is neither a number nor empty.
    """
    count: Any = np.zeros(trials)
    total: Any = np.full(trials, {"MAX": -math.inf, "MIN": math.inf}.get(what, 0.0))
    combined: Any = {"MAX": np.maximum, "MIN": np.minimum}.get(what, np.add)
    nothing = total[0] if trials else 0.0
    for mask, value in zip(held, values, strict=True):
        if mask is False:
            continue
        if not (type(value) is float or (type(value) is np.ndarray and value.dtype is FLOAT)):
            if type(value) not in (str, bool, type(None)):
                return None
            continue
        count = count + mask
        total = combined(total, value if mask is True else np.where(mask, value, nothing))
    if what == "SUM":
        return total
    if what == "AVERAGE":
        errors = np.where(count == 0, np.int8(DIV0.number), np.int8(0))
        return with_errors(total / np.maximum(count, 1), errors)
    return np.where(count == 0, 0.0, total)


@function("COUNTIF", "rv", together=partial(_conditional, "COUNTIF"))
def _countif(area: Grid, criterion: Value) -> Value:
    """Return how many cells meet a criterion."""
    kept, beyond = _kept((area, criterion))
    return int(np.count_nonzero(kept)) + beyond


@function("COUNTIFS", "rv*rv", together=partial(_conditional, "COUNTIFS"))
def _countifs(*pairs: Value) -> Value:
    """Return at how many places all criteria hold."""
    kept, beyond = _kept(pairs)
    return int(np.count_nonzero(kept)) + beyond


@function("SUMIF", "rv[r]", together=partial(_conditional, "SUMIF"))
def _sumif(area: Grid, criterion: Value, summed: Grid | None = None) -> Value:
    """Return the sum of the numbers at places that meet a criterion."""
    return math.fsum(_numbers_at(area if summed is None else summed, (area, criterion)))


@function("SUMIFS", "rrv*rv", together=partial(_conditional, "SUMIFS"))
def _sumifs(summed: Grid, *pairs: Value) -> Value:
    """Return the sum of the numbers at places at which all criteria hold."""
    required(_size(summed) == _size(pairs[0]), VALUE)
    return math.fsum(_numbers_at(summed, pairs))


@function("AVERAGEIF", "rv[r]", together=partial(_conditional, "AVERAGEIF"))
def _averageif(area: Grid, criterion: Value, averaged: Grid | None = None) -> Value:
    """Return the mean of the numbers at places that meet a criterion."""
    return _mean(_numbers_at(area if averaged is None else averaged, (area, criterion)))


@function("AVERAGEIFS", "rrv*rv", together=partial(_conditional, "AVERAGEIFS"))
def _averageifs(averaged: Grid, *pairs: Value) -> Value:
    """Return the mean of the numbers at places at which all criteria hold."""
    required(_size(averaged) == _size(pairs[0]), VALUE)
    return _mean(_numbers_at(averaged, pairs))


def _mean(values: list[float]) -> float:
    required(bool(values), DIV0)
    return math.fsum(values) / len(values)


@function("MAXIFS", "rrv*rv", together=partial(_conditional, "MAXIFS"))
def _maxifs(area: Grid, *pairs: Value) -> Value:
    """Return the largest number at places at which all criteria hold; 0 of none."""
    return max(_numbers_at(area, pairs), default=0.0)


@function("MINIFS", "rrv*rv", together=partial(_conditional, "MINIFS"))
def _minifs(area: Grid, *pairs: Value) -> Value:
    """Return the smallest number at places at which all criteria hold; 0 of none."""
    return min(_numbers_at(area, pairs), default=0.0)


def _chosen_rows(database: Grid, criteria: Grid) -> list[list[Value]]:
    """Return the rows of a table with headings that meet all the criteria of one row below the
    headings of the criteria.
    """
    headings = [_heading(value) for value in database.rows[0]]
    columns = [headings.index(h) if h in headings else -1 for h in map(_heading, criteria.rows[0])]
    required(-1 not in columns and criteria.height >= 2, VALUE)
    wanted = [
        [(k, criterion_of(v)) for k, v in zip(columns, row, strict=True) if v is not None]
        for row in criteria.rows[1:]
    ]
    bounded(len(wanted) * database.height, MOST_TRIED, VALUE)
    return [
        row
        for row in database.rows[1:]
        if any(all(one.holds(row[k]) for k, one in conditions) for conditions in wanted)
    ]


def _heading(value: Value) -> Value:
    return value.lower() if type(value) is str else value


def _column_of(database: Grid, field: Value, criteria: Grid) -> list[Value]:
    """Return a column, by its heading or its number, of the rows that meet the criteria."""
    headings = [_heading(value) for value in database.rows[0]]
    if type(field) is str:
        required(_heading(field) in headings, VALUE)
        place = headings.index(_heading(field))
    else:
        place = whole(number_of(field)) - 1
        required(0 <= place < len(headings), VALUE)
    return [row[place] for row in _chosen_rows(database, criteria)]


def _of_database(name: str, figure: Callable[[list[float]], Value], rule: str) -> None:
    """Add a function of the numbers of a column of a table, in the rows that are chosen."""

    def alone(database: Grid, field: Value, criteria: Grid) -> Value:
        return figure(numbers_in([Grid([_column_of(database, field, criteria)])]))

    alone.__doc__ = rule
    function(name, "aea")(alone)


def _average(numbers: list[float]) -> Value:
    required(bool(numbers), DIV0)
    return math.fsum(numbers) / len(numbers)


def _variance(numbers: list[float], less: int) -> float:
    required(len(numbers) > less, DIV0)
    mean = math.fsum(numbers) / len(numbers)
    return math.fsum((number - mean) ** 2 for number in numbers) / (len(numbers) - less)


_of_database("DSUM", math.fsum, "Return the sum of a column in the chosen rows.")
_of_database("DCOUNT", lambda numbers: float(len(numbers)), "Return how many numbers it has there.")
_of_database("DAVERAGE", _average, "Return their mean.")
_of_database("DMAX", lambda numbers: max(numbers, default=0.0), "Return the largest.")
_of_database("DMIN", lambda numbers: min(numbers, default=0.0), "Return the smallest.")
_of_database("DPRODUCT", math.prod, "Return their product.")
_of_database("DVAR", lambda x: _variance(x, 1), "Return the variance of a sample.")
_of_database("DVARP", lambda x: _variance(x, 0), "Return the variance of all.")
_of_database("DSTDEV", lambda x: math.sqrt(_variance(x, 1)), "Return the sd of a sample.")
_of_database("DSTDEVP", lambda x: math.sqrt(_variance(x, 0)), "Return the sd of all.")


@function("DCOUNTA", "aea")
def _dcounta(database: Grid, field: Value, criteria: Grid) -> Value:
    """Return how many cells of a column in the chosen rows hold something."""
    return float(sum(value is not None for value in _column_of(database, field, criteria)))


@function("DGET", "aea")
def _dget(database: Grid, field: Value, criteria: Grid) -> Value:
    """Return the cell of a column in the only row that is chosen."""
    cells = _column_of(database, field, criteria)
    required(bool(cells), VALUE)
    required(len(cells) == 1)
    return cells[0]
