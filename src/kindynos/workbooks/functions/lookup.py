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


def exact_place(wanted: Value, values: list[Value], wildcards: bool = True) -> int | None:
    """Return the first place of a value, whatever the capitals; a text may have wildcards."""
    if wanted is None:
        wanted = 0.0
    if type(wanted) is str and wildcards and re.search(r"[?*~]", wanted):
        pattern = re.compile(wildcard(wanted), re.I | re.S)
        return next(
            (i for i, v in enumerate(values) if type(v) is str and pattern.fullmatch(v)), None
        )
    for place, value in enumerate(values):
        if type(value) is type(wanted) and compared(value, wanted) == 0:
            return place
    return None


def last_not_above(wanted: Value, values: list[Value]) -> int | None:
    """Return the last place, in ascending values, of one of the same kind that is not above the
    wanted one.
    """
    if wanted is None:
        wanted = 0.0
    low, high = 0, len(values)
    found = None
    while low < high:
        middle = (low + high) // 2
        probe = middle
        # places of another kind are passed over
        while probe < high and type(values[probe]) is not type(wanted):
            probe += 1
        if probe == high:
            high = middle
            continue
        if compared(values[probe], wanted) <= 0:
            found, low = probe, probe + 1
        else:
            high = middle
    return found


def _last_not_below(wanted: Value, values: list[Value]) -> int | None:
    found = None
    for place, value in enumerate(values):
        if type(value) is type(wanted):
            if compared(value, wanted) < 0:
                break
            found = place
    return found


def match_place(wanted: Value, values: list[Value], kind: float) -> int | None:
    """Return the place that MATCH finds: kind 0 the same value, 1 the last not above it in
    ascending values, -1 the last not below it in descending ones.
    """
    if type(wanted) is CellError:
        raise ResultError(wanted)
    if kind == 0:
        return exact_place(wanted, values)
    return last_not_above(wanted, values) if kind > 0 else _last_not_below(wanted, values)


def _quick_match(wanted: Any, values: list[Value], kind: float) -> Any | None:
    """Return the places, from 0 and -1 for none, of numbers one per trial among fixed numbers; None
    where it must be done trial by trial.
    """
    if type(wanted) is not np.ndarray or wanted.dtype is not FLOAT or kind < 0:
        return None
    places = [i for i, value in enumerate(values) if type(value) is float]
    if any(type(value) is np.ndarray or type(value) is CellError for value in values):
        return None
    if any(type(value) not in RANK and value is not None for value in values):
        return None
    known = np.array([values[i] for i in places], dtype=np.float64)
    if not len(known):
        return np.full(len(wanted), -1)
    slack = 2.0**-49 * np.abs(wanted)
    if kind > 0:
        if (np.diff(known) < 0).any() or len(places) < len(values):
            return None
        return np.searchsorted(known, wanted + slack, side="right") - 1
    order = np.argsort(known, kind="stable")
    ranked = known[order]
    low = np.searchsorted(ranked, wanted - slack, side="left")
    inside = np.minimum(low, len(known) - 1)
    equal = (low < len(known)) & (np.abs(ranked[inside] - wanted) <= slack)
    return np.where(equal, np.array(places)[order[inside]], -1)


def _taken(places: Any, values: list[Value]) -> Value | None:
    """Return the values at places, of numbers alone or one per trial; #N/A for a place of -1."""
    for value in values:
        if not (type(value) is float or (type(value) is np.ndarray and value.dtype is FLOAT)):
            return None
    inside = np.maximum(places, 0)
    if all(type(value) is float for value in values):
        found = np.array(values)[inside]
    else:
        stacked = np.array(np.broadcast_arrays(*values, places)[:-1])
        found = np.take_along_axis(stacked, inside[None, :], axis=0)[0]
    return with_errors(found, np.where(places < 0, np.int8(NA.number), np.int8(0)))


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
    if len(values) < 2:
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
def _match(wanted: Value, grid: Grid, kind: float = 1.0) -> Value:
    """Return where a value stands in a row or column, from 1."""
    place = match_place(wanted, _line(grid), kind)
    return NA if place is None else place + 1


@function("VLOOKUP", "van[b]", together=_table_together(True))
def _vlookup(wanted: Value, table: Grid, column: float, sorted_keys: bool = True) -> Value:
    """Return the value in a column of a table beside the key that is found in its first."""
    number = whole(column)
    required(number >= 1, VALUE)
    required(number <= table.width, REF)
    place = match_place(wanted, [row[0] for row in table.rows], float(sorted_keys))
    return NA if place is None else _shown(table.rows[place][number - 1])


@function("HLOOKUP", "van[b]", together=_table_together(False))
def _hlookup(wanted: Value, table: Grid, row: float, sorted_keys: bool = True) -> Value:
    """Return the value in a row of a table below the key that is found in its first."""
    number = whole(row)
    required(number >= 1, VALUE)
    required(number <= table.height, REF)
    place = match_place(wanted, table.rows[0], float(sorted_keys))
    return NA if place is None else _shown(table.rows[number - 1][place])


def _shown(value: Value) -> Value:
    """Return what a formula shows of a cell: 0 for an empty one."""
    return 0.0 if value is None else value


@function("LOOKUP", "va[a]")
def _lookup(wanted: Value, keys: Grid, results: Grid | None = None) -> Value:
    """Return the value beside the last key that is not above a value."""
    if results is None:
        along = keys.width > keys.height
        line = keys.rows[0] if along else [row[0] for row in keys.rows]
        answers = keys.rows[-1] if along else [row[-1] for row in keys.rows]
    else:
        line, answers = keys.flat(), results.flat()
    place = last_not_above(wanted, line)
    return NA if place is None or place >= len(answers) else _shown(answers[place])


def x_place(wanted: Value, values: list[Value], mode: int, order: int) -> int | None:
    """Return the place that XLOOKUP and XMATCH find: the same value (mode 0), or else the next
    smaller (-1) or larger (1) one, or a pattern (2); from the end for order -1.
    """
    if type(wanted) is CellError:
        raise ResultError(wanted)
    places = range(len(values)) if order > 0 else range(len(values) - 1, -1, -1)
    if mode == 2:
        pattern = re.compile(wildcard(str(wanted)), re.I | re.S)
        return next(
            (i for i in places if type(values[i]) is str and pattern.fullmatch(values[i])), None
        )
    best: int | None = None
    for place in places:
        value = values[place]
        if type(value) is not type(wanted):
            continue
        standing = compared(value, wanted)
        if standing == 0:
            return place
        if mode and (standing < 0) == (mode < 0):
            nearer = best is None or (compared(value, values[best]) > 0) == (mode < 0)
            equal = best is not None and compared(value, values[best]) == 0
            if nearer and not equal:
                best = place
    return best


@function("XLOOKUP", "vaa[enn]")
def _xlookup(
    wanted: Value,
    keys: Grid,
    results: Grid,
    otherwise: Value = NA,
    mode: float = 0.0,
    order: float = 1.0,
) -> Value:
    """Return the value, or the row or column, beside a key; another one where there is none."""
    place = x_place(0.0 if wanted is None else wanted, _line(keys), whole(mode), whole(order))
    if place is None:
        return otherwise if otherwise is not None else NA
    if keys.width == 1:
        required(results.height == keys.height, VALUE)
        found = Grid([results.rows[place]])
    else:
        required(results.width == keys.width, VALUE)
        found = Grid([[row[place]] for row in results.rows])
    single = found.height == found.width == 1
    return _shown(found.rows[0][0]) if single else found


@function("XMATCH", "va[nn]")
def _xmatch(wanted: Value, keys: Grid, mode: float = 0.0, order: float = 1.0) -> Value:
    """Return where a value stands, from 1."""
    place = x_place(wanted, _line(keys), whole(mode), whole(order))
    return NA if place is None else place + 1


@function("INDEX", "a[nn]", together=_index_together)
def _index(grid: Grid, row: float = 0.0, column: float | None = None) -> Value:
    """Return the value at a row and a column of an area; 0 stands for all of them."""
    down, across = whole(row), 0 if column is None else whole(column)
    if column is None and grid.height == 1 and grid.width > 1:
        down, across = 1, down
    elif column is None and grid.width == 1:
        across = 1
    required(down >= 0 and across >= 0, VALUE)
    required(down <= grid.height and across <= grid.width, REF)
    rows = grid.rows if down == 0 else [grid.rows[down - 1]]
    found = [row if across == 0 else [row[across - 1]] for row in rows]
    single = len(found) == 1 and len(found[0]) == 1
    return found[0][0] if single else Grid(found)


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
