"""The functions a formula may call. To add one: a function on arrays, and its entry in FUNCTIONS."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from kindynos.finance.cash_flow import grow, npv
from kindynos.finance.irr import irr
from kindynos.model.formula.kinds import Kind

Floats = NDArray[np.float64]

Wants = Literal["any", "row", "value", "table", "whole"]  # value: not a row; whole: a whole number written out


@dataclass(frozen=True)
class Parameter:
    """One argument of a function: its name, what it must be, and whether it may be left out."""

    name: str
    wants: Wants = "any"
    optional: bool = False


@dataclass(frozen=True)
class Function:
    """A function of the language.

    ``gives`` is ``"same"`` for element by element, ``"column"`` for one value from each row, ``"row"`` for a row. ``compute``
    takes the arguments by position (whole numbers as int) and gets ``periods=`` when ``gives`` is ``"row"``.
    """

    name: str
    parameters: tuple[Parameter, ...]
    gives: Literal["same", "column", "row"]
    compute: Callable[..., Any]
    help: str
    many: bool = False  # takes two or more values

    @property
    def whole_row(self) -> bool:
        """Whether it needs whole rows, and so cannot be used inside a group that is worked out period by period."""
        return self.gives != "same"

    def kind(self, kinds: list[Kind]) -> Kind:
        """The kind of the answer."""
        answer = Kind()
        for kind in kinds:
            answer = answer | (Kind() if kind.table else kind)
        return {"same": answer, "column": answer.of_column(), "row": Kind(True, answer.random)}[self.gives]


def _lookup(x: Floats, table: Floats) -> Floats:
    """The value beside the last key at or below ``x``; NaN below the first key."""
    place = np.searchsorted(table[:, 0], x, side="right") - 1
    return np.where((place < 0) | np.isnan(x), np.nan, table[np.maximum(place, 0), 1])


def _at(row: Floats, period: Floats) -> Floats:
    """The row's value at the period's number, from 1; NaN beyond the row. A fraction counts as the period it lies in."""
    number = np.asarray(np.ceil(period))
    inside = (number >= 1) & (number <= len(row))
    place = np.where(inside, number, 1).astype(np.int64) - 1
    if place.ndim == 0:
        return row[int(place)] if inside else np.full(row.shape[1:], np.nan)
    if row.shape[1] == 1:
        return np.where(inside, row[place, 0], np.nan)
    return np.where(inside, row[place, np.arange(row.shape[1])], np.nan)


def _following(row: Floats, after: Floats, ahead: int = 1, *, periods: int) -> Floats:
    shape = (min(ahead, periods), *np.broadcast_shapes(row.shape[1:], np.shape(after)))
    tail = np.broadcast_to(after, shape)
    body = np.broadcast_to(row[ahead:], (max(periods - ahead, 0), shape[1]))
    return np.concatenate([body, tail])


def _grow(rate: Floats, start: Floats | float = 1.0, lag: int = 0, *, periods: int) -> Floats:
    row = np.broadcast_to(rate, (periods, np.shape(rate)[-1] if np.ndim(rate) else 1))
    return np.asarray(grow(row, np.atleast_1d(start), lag))


def _round(x: Floats, digits: int = 0) -> Floats:
    return np.round(x, digits)


def _row(name: str, compute: Callable[..., Any], help: str) -> Function:
    return Function(name, (Parameter("row", "row"),), "column", compute, help)


def _one(name: str, compute: Callable[..., Any], help: str) -> Function:
    return Function(name, (Parameter("x"),), "same", compute, help)


_CATALOGUE = (
    Function("min", (Parameter("values"),), "same", lambda *v: _fold(np.minimum, v), "least of its arguments", many=True),
    Function("max", (Parameter("values"),), "same", lambda *v: _fold(np.maximum, v), "greatest of its arguments", many=True),
    _one("abs", np.abs, "size without sign"),
    _one("exp", np.exp, "e to the power x"),
    _one("log", np.log, "natural logarithm; NaN below 0"),
    _one("sqrt", np.sqrt, "square root; NaN below 0"),
    _one("floor", np.floor, "next whole number down"),
    _one("ceil", np.ceil, "next whole number up"),
    Function(
        "round",
        (Parameter("x"), Parameter("digits", "whole", optional=True)),
        "same",
        _round,
        "nearest number of so many digits; halves go to the even one",
    ),
    Function(
        "clip",
        (Parameter("x"), Parameter("low"), Parameter("high")),
        "same",
        lambda x, low, high: np.minimum(np.maximum(x, low), high),
        "x, but not below low nor above high",
    ),
    Function(
        "lookup",
        (Parameter("x"), Parameter("table", "table")),
        "same",
        _lookup,
        "value beside the last key of the table at or below x",
    ),
    _row("lowest", lambda row: row.min(axis=0), "lowest over the periods"),
    _row("highest", lambda row: row.max(axis=0), "highest over the periods"),
    _row("total", lambda row: row.sum(axis=0), "sum over the periods"),
    _row("average", lambda row: row.mean(axis=0), "mean over the periods"),
    _row("median", lambda row: np.median(row, axis=0), "median over the periods"),
    _row("first", lambda row: row[0], "value in the first period"),
    _row("last", lambda row: row[-1], "value in the last period"),
    Function(
        "at",
        (Parameter("row", "row"), Parameter("period", "value")),
        "column",
        _at,
        "value in the period of that number, from 1; NaN beyond the row",
    ),
    Function(
        "running_total",
        (Parameter("row", "row"),),
        "row",
        lambda row, *, periods: np.cumsum(row, axis=0),
        "sum of the periods so far",
    ),
    Function(
        "following",
        (Parameter("row", "row"), Parameter("after", "value"), Parameter("ahead", "whole", optional=True)),
        "row",
        _following,
        "row one period (or so many) later; after stands in beyond the end",
    ),
    Function(
        "grow",
        (Parameter("rate"), Parameter("start", "value", optional=True), Parameter("lag", "whole", optional=True)),
        "row",
        _grow,
        "index that compounds: start x (1 + rate) x ...; lag=1 leaves the first period unchanged",
    ),
    Function(
        "npv",
        (Parameter("rate"), Parameter("flows", "row"), Parameter("start", "value", optional=True)),
        "column",
        npv,
        "net present value of flows at the ends of the periods, and of start at time 0",
    ),
    Function(
        "irr",
        (Parameter("flows", "row"), Parameter("start", "value", optional=True)),
        "column",
        irr,
        "internal rate of return; NaN where there is none, or more than one",
    ),
)


def _fold(pick: np.ufunc, values: tuple[Floats, ...]) -> Floats:
    answer: Floats = values[0]
    for value in values[1:]:
        answer = pick(answer, value)
    return answer


FUNCTIONS: dict[str, Function] = {function.name: function for function in _CATALOGUE}
