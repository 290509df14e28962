"""Looking values up in rows and columns. OFFSET, INDIRECT and INDEX as references are forms of
``references``.
"""

from __future__ import annotations

import math
import re
from typing import Any

import numpy as np

from kindynos.workbooks.addresses import letters, quoted
from kindynos.workbooks.cell_errors import NA, REF, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import function, required, whole
from kindynos.workbooks.functions.text import wildcard
from kindynos.workbooks.operators import RANK, compared
from kindynos.workbooks.values import FLOAT, Grid, Value, as_logicals, with_errors


def _line(grid: Grid) -> list[Value]:
    """Return the values of a single row or column; raises ResultError for more."""
    required(grid.height == 1 or grid.width == 1, NA)
    return grid.flat()


def exact_place(requested: Value, values: list[Value], wildcards: bool = True) -> int | None:
    """Return the first place of a value, whatever the capitals; a text may have wildcards."""
    if requested is None:
        requested = 0.0
    if type(requested) is str and wildcards and re.search(r"[?*~]", requested):
        pattern = wildcard(requested)
        return next(
            (i for i, v in enumerate(values) if type(v) is str and pattern.fullmatch(v)), None
        )
    for position, value in enumerate(values):
        if type(value) is type(requested) and compared(value, requested) == 0:
            return position
    return None


def last_not_above(value: Value, values: list[Value]) -> int | None:
    """Return the last place, in ascending values, of one of the same kind that is not above the
    wanted one.
    """
    if value is None:
        value = 0.0
    low, high = 0, len(values)
    not_above = None
    while low < high:
        middle = (low + high) // 2
        probe = middle
        # places of another kind are passed over
        while probe < high and type(values[probe]) is not type(value):
            probe += 1
        if probe == high:
            high = middle
            continue
        if compared(values[probe], value) <= 0:
            not_above, low = probe, probe + 1
        else:
            high = middle
    return not_above


def _last_not_below(requested: Value, values: list[Value]) -> int | None:
    not_below = None
    for position, value in enumerate(values):
        if type(value) is type(requested):
            if compared(value, requested) < 0:
                break
            not_below = position
    return not_below


def match_place(value: Value, values: list[Value], kind: float) -> int | None:
    """Return the place that MATCH finds: kind 0 the same value, 1 the last not above it in
    ascending values, -1 the last not below it in descending ones.
    """
    if type(value) is CellError:
        raise ResultError(value)
    if kind == 0:
        return exact_place(value, values)
    return last_not_above(value, values) if kind > 0 else _last_not_below(value, values)


def _quick_match(requested: Any, values: list[Value], kind: float) -> Any | None:
    """Return the places, from 0 and -1 for none, of numbers one per trial among fixed numbers; None
    where it must be done trial by trial.
    """
    if type(requested) is not np.ndarray or requested.dtype is not FLOAT or kind < 0:
        return None
    places = [i for i, value in enumerate(values) if type(value) is float]
    if any(type(value) is np.ndarray or type(value) is CellError for value in values):
        return None
    if any(type(value) not in RANK and value is not None for value in values):
        return None
    keys = np.array([values[i] for i in places], dtype=np.float64)
    if not len(keys):
        return np.full(len(requested), -1)
    slack = 2.0**-49 * np.abs(requested)
    if kind > 0:
        if (np.diff(keys) < 0).any() or len(places) < len(values):
            return None
        return np.searchsorted(keys, requested + slack, side="right") - 1
    order = np.argsort(keys, kind="stable")
    ranked = keys[order]
    low = np.searchsorted(ranked, requested - slack, side="left")
    inside = np.minimum(low, len(keys) - 1)
    equal = (low < len(keys)) & (np.abs(ranked[inside] - requested) <= slack)
    return np.where(equal, np.array(places)[order[inside]], -1)


def _taken(places: Any, values: list[Value]) -> Value | None:
    """Return the values at places, of numbers alone or one per trial; #N/A for a place of -1."""
    for value in values:
        if not (type(value) is float or (type(value) is np.ndarray and value.dtype is FLOAT)):
            return None
    inside = np.maximum(places, 0)
    if all(type(value) is float for value in values):
        taken = np.array(values)[inside]
    else:
        stacked = np.array(np.broadcast_arrays(*values, places)[:-1])
        taken = np.take_along_axis(stacked, inside[None, :], axis=0)[0]
    return with_errors(taken, np.where(places < 0, np.int8(NA.number), np.int8(0)))


def _match_together(values: list[Value], trials: int) -> Value | None:
    kind = values[2] if len(values) > 2 else 1.0
    grid = values[1]
    if type(kind) is not float or type(grid) is not Grid or 1 not in (grid.height, grid.width):
        return None
    places = _quick_match(values[0], grid.flat(), kind)
    if places is None:
        return None
    return _taken(places, [float(i + 1) for i in range(len(grid.flat()))])


def _table_together(down: bool) -> Any:
    """Return VLOOKUP, or HLOOKUP, of numbers one per trial."""

    def together(values: list[Value], trials: int) -> Value | None:
        table, number = values[1], values[2]
        kind = as_logicals(values[3]) if len(values) > 3 else True
        if type(table) is not Grid or type(number) is not float or type(kind) is not bool:
            return None
        lines = (
            table.rows if not down else [list(column) for column in zip(*table.rows, strict=True)]
        )
        if not 1 <= math.trunc(number) <= len(lines):
            return None
        places = _quick_match(values[0], lines[0], float(kind))
        return None if places is None else _taken(places, lines[math.trunc(number) - 1])

    return together


def _index_together(values: list[Value], trials: int) -> Value | None:
    """Return INDEX of a row or column by numbers one per trial."""
    if not 2 <= len(values) <= 3:
        return None
    grid, places = values[0], values[1]
    if type(grid) is not Grid or type(places) is not np.ndarray or places.dtype is not FLOAT:
        return None
    if not (grid.height == 1 or grid.width == 1):
        return None
    fixed = len(values) < 3 or (type(values[2]) is float and values[2] in (0.0, 1.0))
    if not fixed or (len(values) > 2 and grid.width > 1):
        return None
    line = grid.flat()
    if places.min() < 1 or places.max() >= len(line) + 1:
        return None
    return _taken(np.trunc(places).astype(np.int64) - 1, line)


@function("MATCH", "va[n]", together=_match_together)
def _match(value: Value, grid: Grid, kind: float = 1.0) -> Value:
    """Return where a value is in a row or column, from 1."""
    position = match_place(value, _line(grid), kind)
    return NA if position is None else position + 1


@function("VLOOKUP", "van[b]", together=_table_together(True))
def _vlookup(value: Value, table: Grid, column: float, sorted_keys: bool = True) -> Value:
    """Return the value in a column of a table beside the key that is found in its first."""
    number = whole(column)
    required(number >= 1, VALUE)
    required(number <= table.width, REF)
    position = match_place(value, [row[0] for row in table.rows], float(sorted_keys))
    return NA if position is None else _shown(table.rows[position][number - 1])


@function("HLOOKUP", "van[b]", together=_table_together(False))
def _hlookup(value: Value, table: Grid, row: float, sorted_keys: bool = True) -> Value:
    """Return the value in a row of a table below the key that is found in its first."""
    number = whole(row)
    required(number >= 1, VALUE)
    required(number <= table.height, REF)
    position = match_place(value, table.rows[0], float(sorted_keys))
    return NA if position is None else _shown(table.rows[number - 1][position])


def _shown(value: Value) -> Value:
    """Return what a formula shows of a cell: 0 for an empty one."""
    return 0.0 if value is None else value


@function("LOOKUP", "va[a]")
def _lookup(value: Value, keys: Grid, results: Grid | None = None) -> Value:
    """Return the value beside the last key that is not above a value."""
    if results is None:
        along = keys.width > keys.height
        line = keys.rows[0] if along else [row[0] for row in keys.rows]
        answers = keys.rows[-1] if along else [row[-1] for row in keys.rows]
    else:
        line, answers = keys.flat(), results.flat()
    not_above = last_not_above(value, line)
    return NA if not_above is None or not_above >= len(answers) else _shown(answers[not_above])


def x_place(requested: Value, values: list[Value], mode: int, order: int) -> int | None:
    """Return the place that XLOOKUP and XMATCH find: the same value (mode 0), or else the next
    smaller (-1) or larger (1) one, or a pattern (2); from the end for order -1.
    """
    if type(requested) is CellError:
        raise ResultError(requested)
    places = range(len(values)) if order > 0 else range(len(values) - 1, -1, -1)
    if mode == 2:
        pattern = wildcard(str(requested))
        return next(
            (i for i in places if type(values[i]) is str and pattern.fullmatch(values[i])), None
        )
    best: int | None = None
    for position in places:
        value = values[position]
        if type(value) is not type(requested):
            continue
        standing = compared(value, requested)
        if standing == 0:
            return position
        if mode and (standing < 0) == (mode < 0):
            nearer = best is None or (compared(value, values[best]) > 0) == (mode < 0)
            equal = best is not None and compared(value, values[best]) == 0
            if nearer and not equal:
                best = position
    return best


@function("XLOOKUP", "vaa[enn]")
def _xlookup(
    value: Value,
    keys: Grid,
    results: Grid,
    otherwise: Value = NA,
    mode: float = 0.0,
    order: float = 1.0,
) -> Value:
    """Return the value, or the row or column, beside a key; another one where there is none."""
    position = x_place(0.0 if value is None else value, _line(keys), whole(mode), whole(order))
    if position is None:
        return otherwise if otherwise is not None else NA
    if keys.width == 1:
        required(results.height == keys.height, VALUE)
        grid = Grid([results.rows[position]])
    else:
        required(results.width == keys.width, VALUE)
        grid = Grid([[row[position]] for row in results.rows])
    single = grid.height == grid.width == 1
    return _shown(grid.rows[0][0]) if single else grid


@function("XMATCH", "va[nn]")
def _xmatch(value: Value, keys: Grid, mode: float = 0.0, order: float = 1.0) -> Value:
    """Return where a value stands, from 1."""
    position = x_place(value, _line(keys), whole(mode), whole(order))
    return NA if position is None else position + 1


@function("INDEX", "a[nnn]", together=_index_together)
def _index(grid: Grid, row: float = 0.0, column: float | None = None, area: float = 1.0) -> Value:
    """Return the value at a row and a column of an area; 0 stands for all of them. Which of several
    areas is taken is settled before.
    """
    required(area == 1, REF)
    down, across = whole(row), 0 if column is None else whole(column)
    if column is None and grid.height == 1 and grid.width > 1:
        down, across = 1, down
    elif column is None and grid.width == 1:
        across = 1
    required(down >= 0 and across >= 0, VALUE)
    required(down <= grid.height and across <= grid.width, REF)
    rows = grid.rows if down == 0 else [grid.rows[down - 1]]
    values = [row if across == 0 else [row[across - 1]] for row in rows]
    single = len(values) == 1 and len(values[0]) == 1
    return values[0][0] if single else Grid(values)


@function("ADDRESS", "nn[nbt]")
def _address(
    row: float, column: float, kind: float = 1.0, plain: bool = True, sheet: str = ""
) -> Value:
    """Return the address of a cell as a text."""
    down, across, how = whole(row), whole(column), whole(kind)
    required(down >= 1 and across >= 1 and 1 <= how <= 4, VALUE)
    before = f"{quoted(sheet)}!" if sheet else ""
    if not plain:
        places = f"R{down}" if how in (1, 2) else f"R[{down}]"
        return before + places + (f"C{across}" if how in (1, 3) else f"C[{across}]")
    text = f"{'$' if how in (1, 3) else ''}{letters(across)}{'$' if how in (1, 2) else ''}{down}"
    return before + text
