"""Functions whose value is several cells: sequences, and rows that are sorted, chosen or told
apart.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cmp_to_key

from kindynos.workbooks.cell_errors import NA, NUM, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import bounded, function, required, whole
from kindynos.workbooks.operators import RANK, compared
from kindynos.workbooks.values import Grid, Value, logical_of, number_of

MOST_CELLS = 1_000_000  # of a sequence


@function("SEQUENCE", "n[nnn]")
def _sequence(rows: float, columns: float = 1.0, begin: float = 1.0, step: float = 1.0) -> Value:
    """Return numbers that rise by equal steps, row by row."""
    height, width = whole(rows), whole(columns)
    required(height >= 1 and width >= 1, VALUE)
    bounded(height * width, MOST_CELLS, NUM)
    return Grid([[begin + step * (r * width + c) for c in range(width)] for r in range(height)])


def _turned(grid: Grid, by_column: bool) -> list[list[Value]]:
    """Return the rows of a grid, or its columns."""
    return [list(column) for column in zip(*grid.rows, strict=True)] if by_column else grid.rows


def _grid_of(lines: list[list[Value]], by_column: bool) -> Grid:
    """Return rows, or columns, as a grid; raises ResultError where there is none."""
    required(bool(lines) and bool(lines[0]), VALUE)
    return Grid(_turned(Grid(lines), by_column))


def _key(value: Value) -> tuple[int, Value]:
    """Return what tells a value apart, whatever the capitals."""
    return (RANK.get(type(value), 3), value.lower() if type(value) is str else value)


@function("UNIQUE", "a[bb]")
def _unique(grid: Grid, by_column: bool = False, only_once: bool = False) -> Value:
    """Return each row that is there, or those that are there only once."""
    met: dict[tuple[tuple[int, Value], ...], list[list[Value]]] = {}
    for line in _turned(grid, by_column):
        met.setdefault(tuple(map(_key, line)), []).append(line)
    return _grid_of(
        [lines[0] for lines in met.values() if not only_once or len(lines) == 1], by_column
    )


def _standing(a: Value, b: Value) -> int:
    """Return the order of two values in a column: numbers, texts, logicals, errors, nothing."""
    ranks = [4 if v is None else RANK.get(type(v), 3) for v in (a, b)]
    if ranks[0] != ranks[1] or ranks[0] > 2:
        return ranks[0] - ranks[1]
    return compared(a, b)


@function("SORT", "a[nnb]")
def _sort(grid: Grid, key: float = 1.0, order: float = 1.0, by_column: bool = False) -> Value:
    """Return rows in the order of one of their columns, 1 rising or -1 falling; equal ones stay in
    their order.
    """
    lines, position = _turned(grid, by_column), whole(key)
    required(1 <= position <= len(lines[0]) and order in (1, -1), VALUE)
    return _grid_of(_sorted(lines, [[line[position - 1] for line in lines]], [order]), by_column)


@function("SORTBY", "aa*na")
def _sortby(grid: Grid, *keys: Value) -> Value:
    """Return rows in the order of other columns beside them, each 1 rising or -1 falling."""
    columns = [key.flat() for key in keys[::2]]
    orders = [*keys[1::2], 1.0][: len(columns)]
    by_column = grid.height == 1 and grid.width > 1
    lines = _turned(grid, by_column)
    required(all(len(column) == len(lines) for column in columns), VALUE)
    required(all(order in (1, -1) for order in orders), VALUE)
    return _grid_of(_sorted(lines, columns, orders), by_column)


def _sorted(
    lines: list[list[Value]], columns: Sequence[list[Value]], orders: Sequence[float]
) -> list[list[Value]]:
    places = list(range(len(lines)))
    for column, order in reversed(list(zip(columns, orders, strict=True))):
        keys = [cmp_to_key(_standing)(value) for value in column]
        places.sort(key=keys.__getitem__, reverse=order < 0)
    return [lines[place] for place in places]


@function("FILTER", "aa[e]")
def _filter(grid: Grid, kept: Grid, otherwise: Value = None) -> Value:
    """Return the rows, or columns, beside which there is TRUE; or a value instead of none."""
    by_column = kept.height == 1 and kept.width == grid.width and grid.width > 1
    lines, holds = _turned(grid, by_column), kept.flat()
    required(len(holds) == len(lines), VALUE)
    for value in holds:
        if type(value) is CellError:
            raise ResultError(value)
    chosen = [line for line, value in zip(lines, holds, strict=True) if logical_of(value)]
    if not chosen:
        required(otherwise is not None, VALUE)
        return otherwise
    return _grid_of(chosen, by_column)


def _taken(lines: list[Value], count: Value) -> list[Value]:
    """Return the first lines, or the last for a count below 0; all for none."""
    if count is None:
        return lines
    number = whole(number_of(count))
    required(number != 0, VALUE)
    return lines[:number] if number > 0 else lines[number:]


@function("TAKE", "a[ee]")
def _take(grid: Grid, rows: Value = None, columns: Value = None) -> Value:
    """Return the first rows and columns, or the last ones for numbers below 0."""
    return Grid([_taken(row, columns) for row in _taken(grid.rows, rows)])


@function("DROP", "a[ee]")
def _drop(grid: Grid, rows: Value = None, columns: Value = None) -> Value:
    """Return all but the first rows and columns, or the last ones for numbers below 0."""
    lines = _dropped(grid.rows, rows)
    return _grid_of([_dropped(row, columns) for row in lines], False)


def _dropped(lines: list[Value], count: Value) -> list[Value]:
    number = whole(number_of(count))
    return lines[number:] if number >= 0 else lines[:number]


@function("VSTACK", "+a")
def _vstack(*grids: Grid) -> Value:
    """Return areas of one width below each other."""
    required(len({grid.width for grid in grids}) == 1, VALUE)
    return Grid([row for grid in grids for row in grid.rows])


@function("HSTACK", "+a")
def _hstack(*grids: Grid) -> Value:
    """Return areas of one height beside each other."""
    required(len({grid.height for grid in grids}) == 1, VALUE)
    rows = zip(*(grid.rows for grid in grids), strict=True)
    return Grid([[value for row in each for value in row] for each in rows])


def _chosen(lines: list[Value], places: Sequence[float]) -> list[Value]:
    """Return lines by their places, from 1, or from the end for places below 0."""
    numbers = [whole(place) for place in places]
    required(all(1 <= abs(number) <= len(lines) for number in numbers), VALUE)
    return [lines[number - 1 if number > 0 else number] for number in numbers]


@function("CHOOSECOLS", "an*n")
def _choosecols(grid: Grid, *places: float) -> Value:
    """Return columns by their places, from the end for numbers below 0."""
    return Grid([_chosen(row, places) for row in grid.rows])


@function("CHOOSEROWS", "an*n")
def _chooserows(grid: Grid, *places: float) -> Value:
    """Return rows by their places, from the end for numbers below 0."""
    return Grid(_chosen(grid.rows, places))


def _in_line(grid: Grid, left_out: float, by_column: bool) -> list[Value]:
    """Return the values of an area in one line; 1 leaves out blanks, 2 errors, 3 both."""
    required(left_out in (0, 1, 2, 3), VALUE)
    values = [value for line in _turned(grid, by_column) for value in line]
    blanks, errors = left_out in (1, 3), left_out in (2, 3)
    return [
        value
        for value in values
        if not (blanks and value is None) and not (errors and type(value) is CellError)
    ]


@function("TOCOL", "a[nb]")
def _tocol(grid: Grid, left_out: float = 0.0, by_column: bool = False) -> Value:
    """Return the values of an area below each other."""
    return _grid_of([[value] for value in _in_line(grid, left_out, by_column)], False)


@function("TOROW", "a[nb]")
def _torow(grid: Grid, left_out: float = 0.0, by_column: bool = False) -> Value:
    """Return the values of an area beside each other."""
    return _grid_of([_in_line(grid, left_out, by_column)], False)


def _wrapped(grid: Grid, count: float, filler: Value, by_column: bool) -> Value:
    """Return the values of a row or a column in lines of a length; the last one is filled up."""
    length = whole(count)
    required(length >= 1, NUM)
    required(grid.height == 1 or grid.width == 1, VALUE)
    values = grid.flat()
    missing = NA if filler is None else filler
    lines = [values[begin : begin + length] for begin in range(0, len(values), length)]
    lines[-1] = [*lines[-1], *[missing] * (length - len(lines[-1]))]
    return _grid_of(lines, by_column)


@function("WRAPROWS", "an[e]")
def _wraprows(grid: Grid, count: float, filler: Value = None) -> Value:
    """Return a row or a column as rows of a given length."""
    return _wrapped(grid, count, filler, False)


@function("WRAPCOLS", "an[e]")
def _wrapcols(grid: Grid, count: float, filler: Value = None) -> Value:
    """Return a row or a column as columns of a given length."""
    return _wrapped(grid, count, filler, True)


@function("EXPAND", "ae[ee]")
def _expand(grid: Grid, rows: Value, columns: Value = None, filler: Value = None) -> Value:
    """Return an area with more rows and columns, filled up."""
    height = grid.height if rows is None else whole(number_of(rows))
    width = grid.width if columns is None else whole(number_of(columns))
    required(height >= grid.height and width >= grid.width, VALUE)
    bounded(height * width, MOST_CELLS, NUM)
    missing = NA if filler is None else filler
    wide = [[*row, *[missing] * (width - grid.width)] for row in grid.rows]
    return Grid([*wide, *([missing] * width for _ in range(height - grid.height))])
