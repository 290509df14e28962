"""The functions a formula may call; those about money are in ``money``. To add one: a function on
arrays, and its entry.
"""

from __future__ import annotations

import copyreg
from collections.abc import Callable
from typing import Any

import numpy as np

from kindynos.arrays import Floats, without_residue
from kindynos.events import layers
from kindynos.events.events import Events
from kindynos.formula.assets import ASSETS
from kindynos.formula.claims import CLAIMS
from kindynos.formula.function import Function, Parameter
from kindynos.formula.money import MONEY


def _lookup(x: Floats, table: Floats) -> Floats:
    """The value beside the last key at or below ``x``; NaN below the first key."""
    positions = np.searchsorted(table[:, 0], x, side="right") - 1
    return np.where((positions < 0) | np.isnan(x), np.nan, table[np.maximum(positions, 0), 1])


def _interpolate(x: Floats, table: Floats) -> Floats:
    """The value at ``x`` on the straight lines between the keys; NaN outside them."""
    return np.asarray(np.interp(x, table[:, 0], table[:, 1], left=np.nan, right=np.nan))


def _following(row: Floats, after: Floats, ahead: int = 1, *, periods: int) -> Floats:
    shape = (min(ahead, periods), *np.broadcast_shapes(row.shape[1:], np.shape(after)))
    tail = np.broadcast_to(after, shape)
    body = np.broadcast_to(row[ahead:], (max(periods - ahead, 0), shape[1]))
    return np.concatenate([body, tail])


def _change(row: Floats, before: Floats | None = None, *, periods: int) -> Floats:
    first = row[:1] if before is None else np.broadcast_to(before, row[:1].shape)
    earlier = np.concatenate([first, row[:-1]])
    moving = np.where(earlier == 0, np.nan, earlier)
    return np.asarray(row / moving - 1)


def _any_period(condition: Floats) -> Floats:
    """1 where it holds in some period; NaN where it holds in none and one has no value."""
    unknown = np.isnan(condition)
    holds = ((condition != 0) & ~unknown).any(axis=0)
    return np.where(holds, 1.0, np.where(unknown.any(axis=0), np.nan, 0.0))


def _round(x: Floats, digits: int = 0) -> Floats:
    return np.round(x, digits)


def _row(name: str, compute: Callable[..., Any], help: str) -> Function:
    return Function(name, (Parameter("row", "row"),), "column", compute, help)


def _one(name: str, compute: Callable[..., Any], help: str) -> Function:
    return Function(name, (Parameter("x"),), "same", compute, help)


def _so_far(name: str, operation: np.ufunc, help: str) -> Function:
    def compute(row: Floats, *, periods: int) -> Floats:
        values = np.asarray(operation.accumulate(row, axis=0))
        if operation is not np.add:
            return values
        sizes = np.maximum(np.abs(row), np.abs(values))
        return without_residue(values, np.maximum.accumulate(sizes, axis=0))

    return Function(name, (Parameter("row", "row"),), "row", compute, help)


def _total(row: Floats | Events) -> Floats:
    if isinstance(row, Events):
        return layers.total(row)
    return without_residue(row.sum(axis=0), np.abs(row).max(axis=0))


def _sum_of(*values: Floats) -> Floats:
    total = _fold(np.add, values)
    return without_residue(total, _fold(np.maximum, tuple(map(np.abs, values))))


_CATALOGUE = (
    Function(
        "sum_of",
        (Parameter("values"),),
        "same",
        _sum_of,
        'sum of its arguments, or of all drivers of a table: sum_of("items")',
        many=True,
    ),
    Function(
        "min",
        (Parameter("values"),),
        "same",
        lambda *v: _fold(np.minimum, v),
        "least of its arguments",
        many=True,
    ),
    Function(
        "max",
        (Parameter("values"),),
        "same",
        lambda *v: _fold(np.maximum, v),
        "greatest of its arguments",
        many=True,
    ),
    _one("abs", np.abs, "size without sign"),
    _one("exp", np.exp, "e to the power x"),
    _one("log", np.log, "natural logarithm; NaN below 0"),
    _one("sqrt", np.sqrt, "square root; NaN below 0"),
    _one("sin", np.sin, "sine of an angle in radians"),
    _one("cos", np.cos, "cosine of an angle in radians"),
    _one("floor", np.floor, "next whole number down"),
    _one("ceil", np.ceil, "next whole number up"),
    Function(
        "round",
        (Parameter("x"), Parameter("digits", "whole", optional=True)),
        "same",
        _round,
        "nearest number with the given digits; halves go to the even one",
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
    Function(
        "interpolate",
        (Parameter("x"), Parameter("table", "table")),
        "same",
        _interpolate,
        "value on the straight line between the keys of the table on either side of x",
    ),
    Function(
        "every_period",
        (Parameter("x", "value"),),
        "row",
        lambda x, *, periods: np.broadcast_to(x, (periods, np.size(x))),
        "row with the same value in every period",
    ),
    _row("lowest", lambda row: row.min(axis=0), "lowest over the periods"),
    _row("highest", lambda row: row.max(axis=0), "highest over the periods"),
    Function(
        "total",
        (Parameter("row", "row", events=True),),
        "column",
        _total,
        "sum over the periods; of claims, the sum of the events of a trial, or of each period",
    ),
    _row("average", lambda row: row.mean(axis=0), "mean over the periods"),
    _row("median", lambda row: np.median(row, axis=0), "median over the periods"),
    _row("any_period", _any_period, "1 if a condition holds in some period, else 0"),
    _row("first", lambda row: row[0], "value in the first period"),
    _row("last", lambda row: row[-1], "value in the last period"),
    _so_far("running_total", np.add, "sum of the periods so far"),
    _so_far("min_so_far", np.minimum, "lowest of the periods so far"),
    _so_far("max_so_far", np.maximum, "highest of the periods so far"),
    Function(
        "change",
        (Parameter("row", "row"), Parameter("before", "value", optional=True)),
        "row",
        _change,
        "change of each period from the one before, as a share of it; in the first from before, or "
        "0",
    ),
    Function(
        "following",
        (
            Parameter("row", "row"),
            Parameter("after", "value"),
            Parameter("ahead", "whole", optional=True),
        ),
        "row",
        _following,
        "row one period (or `ahead` periods) later; after is used beyond the end",
    ),
)


def _fold(pick: np.ufunc, values: tuple[Floats, ...]) -> Floats:
    folded: Floats = values[0]
    for value in values[1:]:
        folded = pick(folded, value)
    return folded


FUNCTIONS: dict[str, Function] = {
    function.name: function for function in (*_CATALOGUE, *MONEY, *ASSETS, *CLAIMS)
}


def named(name: str) -> Function:
    """Return the function of a name."""
    return FUNCTIONS[name]


def _reduced(function: Function) -> tuple[Callable[[str], Function], tuple[str]]:
    return named, (function.name,)  # what it computes with may be a lambda, which pickle refuses


copyreg.pickle(Function, _reduced)
