"""Averages, ranks, percentiles, and what describes samples."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.distributions.special import gammaincc
from kindynos.workbooks.cell_errors import DIV0, NA, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import (
    FUNCTIONS,
    bounded,
    function,
    numbers_in,
    required,
    whole,
)
from kindynos.workbooks.values import Grid, Value, number_in_text, number_of


def _mean_quick(values: Sequence[Any]) -> Any:
    if not values:
        return None
    total: Any = 0.0
    for value in values:
        total = total + value
    return total / len(values)


@function("AVERAGE", "+x", _mean_quick)
def _average(*values: Value) -> Value:
    """Return the mean of numbers."""
    numbers = numbers_in(values)
    required(bool(numbers), DIV0)
    return math.fsum(numbers) / len(numbers)


def _least(values: Sequence[Any]) -> Any:
    smaller: Any = None
    for value in values:
        smaller = value if smaller is None else np.minimum(smaller, value)
    return 0.0 if smaller is None else smaller


def _most(values: Sequence[Any]) -> Any:
    larger: Any = None
    for value in values:
        larger = value if larger is None else np.maximum(larger, value)
    return 0.0 if larger is None else larger


@function("MIN", "+x", _least)
def _min(*values: Value) -> Value:
    """Return the smallest number; 0 of none."""
    return min(numbers_in(values), default=0.0)


@function("MAX", "+x", _most)
def _max(*values: Value) -> Value:
    """Return the largest number; 0 of none."""
    return max(numbers_in(values), default=0.0)


def _with_words(values: Sequence[Value]) -> list[float]:
    """Return numbers, logicals as 1 or 0, and texts in cells as 0."""
    words = []
    for value in values:
        items = value.flat() if type(value) is Grid else [value]
        for cell in items:
            if type(cell) is CellError:
                raise ResultError(cell)
            if cell is not None:
                words.append(float(cell) if isinstance(cell, float | bool) else 0.0)
    return words


@function("AVERAGEA", "+r")
def _averagea(*values: Value) -> Value:
    """Return the mean of values, texts counting as 0."""
    words = _with_words(values)
    required(bool(words), DIV0)
    return math.fsum(words) / len(words)


@function("MINA", "+r")
def _mina(*values: Value) -> Value:
    """Return the smallest value, texts counting as 0."""
    return min(_with_words(values), default=0.0)


@function("MAXA", "+r")
def _maxa(*values: Value) -> Value:
    """Return the largest value, texts counting as 0."""
    return max(_with_words(values), default=0.0)


@function("COUNT", "+x")
def _count(*values: Value) -> Value:
    """Return how many numbers there are; of single arguments also what states one."""
    return sum(
        sum(type(cell) is float for cell in value.flat())
        if type(value) is Grid
        else type(value) in (float, bool)
        or (type(value) is str and number_in_text(value) is not None)
        for value in values
    )


@function("COUNTA", "+x")
def _counta(*values: Value) -> Value:
    """Return how many cells are not empty."""
    items = [cell for v in values for cell in (v.flat() if type(v) is Grid else [v])]
    return sum(cell is not None for cell in items)


@function("COUNTBLANK", "r")
def _countblank(grid: Grid) -> Value:
    """Return how many cells are empty, or hold an empty text."""
    beyond = 0 if grid.area is None else grid.area.rows * grid.area.columns
    beyond -= grid.height * grid.width if beyond else 0  # of whole columns, what holds nothing
    return beyond + sum(cell is None or cell == "" for cell in grid.flat())


def _spread(values: Sequence[float], sample: bool) -> float:
    count = len(values)
    required(count > (1 if sample else 0), DIV0)
    mean = math.fsum(values) / count
    return math.fsum((x - mean) ** 2 for x in values) / (count - sample)


def _spread_quick(sample: bool, root: bool) -> Any:
    def quick(values: Sequence[Any]) -> Any:
        if len(values) < 1 + sample:
            return None
        stacked = np.array(np.broadcast_arrays(*values), dtype=np.float64)
        return stacked.std(axis=0, ddof=sample) if root else stacked.var(axis=0, ddof=sample)

    return quick


@function("VAR VAR.S", "+x", _spread_quick(True, False))
def _var(*values: Value) -> Value:
    """Return the variance of a sample."""
    return _spread(numbers_in(values), True)


@function("VARP VAR.P", "+x", _spread_quick(False, False))
def _varp(*values: Value) -> Value:
    """Return the variance of a population."""
    return _spread(numbers_in(values), False)


@function("STDEV STDEV.S", "+x", _spread_quick(True, True))
def _stdev(*values: Value) -> Value:
    """Return the standard deviation of a sample."""
    return math.sqrt(_spread(numbers_in(values), True))


@function("STDEVP STDEV.P", "+x", _spread_quick(False, True))
def _stdevp(*values: Value) -> Value:
    """Return the standard deviation of a population."""
    return math.sqrt(_spread(numbers_in(values), False))


@function("DEVSQ", "+x")
def _devsq(*values: Value) -> Value:
    """Return the sum of squared departures from the mean."""
    numbers = numbers_in(values)
    required(bool(numbers))
    return _spread(numbers, False) * len(numbers)


@function("AVEDEV", "+x")
def _avedev(*values: Value) -> Value:
    """Return the mean departure from the mean, without signs."""
    numbers = numbers_in(values)
    required(bool(numbers))
    mean = math.fsum(numbers) / len(numbers)
    return math.fsum(abs(x - mean) for x in numbers) / len(numbers)


@function("GEOMEAN", "+x")
def _geomean(*values: Value) -> Value:
    """Return the geometric mean."""
    numbers = numbers_in(values)
    required(bool(numbers) and min(numbers) > 0)
    return math.exp(math.fsum(map(math.log, numbers)) / len(numbers))


@function("HARMEAN", "+x")
def _harmean(*values: Value) -> Value:
    """Return the harmonic mean."""
    numbers = numbers_in(values)
    required(bool(numbers) and min(numbers) > 0)
    return len(numbers) / math.fsum(1 / x for x in numbers)


@function("MEDIAN", "+x")
def _median(*values: Value) -> Value:
    """Return the median."""
    numbers = numbers_in(values)
    required(bool(numbers))
    return float(np.median(numbers))


@function("MODE MODE.SNGL", "+x")
def _mode(*values: Value) -> Value:
    """Return the number that occurs most often, the first of several."""
    counts = Counter(numbers_in(values))
    required(bool(counts) and max(counts.values()) > 1, NA)
    return max(counts, key=lambda x: counts[x])


def _ranked(grid: Grid) -> list[float]:
    ranked = sorted(numbers_in([grid]))
    required(bool(ranked))
    return ranked


@function("LARGE", "rn")
def _large(grid: Grid, position: float) -> Value:
    """Return the n-th largest number."""
    ranked, number = _ranked(grid), math.ceil(position)
    required(1 <= number <= len(ranked))
    return ranked[-number]


@function("SMALL", "rn")
def _small(grid: Grid, position: float) -> Value:
    """Return the n-th smallest number."""
    ranked, number = _ranked(grid), whole(position)
    required(1 <= number <= len(ranked))
    return ranked[number - 1]


def _quantile(ranked: list[float], position: float) -> float:
    """Return the value at a place, from 0, between ranked ones."""
    below = math.floor(position + 1e-12)
    above = min(below + 1, len(ranked) - 1)
    return ranked[below] + (position - below) * (ranked[above] - ranked[below])


@function("PERCENTILE PERCENTILE.INC", "rn")
def _percentile(grid: Grid, level: float) -> Value:
    """Return a percentile; the level 0 is the smallest number and 1 the largest."""
    ranked = _ranked(grid)
    required(0 <= level <= 1)
    return _quantile(ranked, level * (len(ranked) - 1))


@function("PERCENTILE.EXC", "rn")
def _percentile_exc(grid: Grid, level: float) -> Value:
    """Return a percentile at the place level (n + 1)."""
    ranked = _ranked(grid)
    position = level * (len(ranked) + 1)
    required(1 <= position <= len(ranked))
    return _quantile(ranked, position - 1)


@function("QUARTILE QUARTILE.INC", "rn")
def _quartile(grid: Grid, quarter: float) -> Value:
    """Return a quartile, 0 for the smallest number and 4 for the largest."""
    ranked, number = _ranked(grid), whole(quarter)
    required(0 <= number <= 4)
    return _quantile(ranked, number / 4 * (len(ranked) - 1))


@function("QUARTILE.EXC", "rn")
def _quartile_exc(grid: Grid, quarter: float) -> Value:
    """Return a quartile at the place part (n + 1) / 4."""
    ranked, number = _ranked(grid), whole(quarter)
    required(1 <= number <= 3)
    position = number / 4 * (len(ranked) + 1)
    required(1 <= position <= len(ranked))
    return _quantile(ranked, position - 1)


@function("RANK RANK.EQ", "nr[n]")
def _rank(x: float, grid: Grid, ascending: float = 0.0) -> Value:
    """Return the rank of a number, from the largest or with a third argument from the smallest."""
    numbers = numbers_in([grid])
    required(x in numbers, NA)
    return 1 + sum((y < x) if ascending else (y > x) for y in numbers)


@function("RANK.AVG", "nr[n]")
def _rank_avg(x: float, grid: Grid, ascending: float = 0.0) -> Value:
    """Return the rank of a number, the mean of ranks where several are equal."""
    numbers = numbers_in([grid])
    required(x in numbers, NA)
    before = sum((y < x) if ascending else (y > x) for y in numbers)
    return before + (numbers.count(x) + 1) / 2


@function("PERCENTRANK PERCENTRANK.INC", "rn[n]")
def _percentrank(grid: Grid, x: float, digits: float = 3.0) -> Value:
    """Return the level at which a number lies, cut to 3 digits."""
    ranked, count = _ranked(grid), whole(digits)
    required(count >= 1)
    bounded(count, 15)
    required(ranked[0] <= x <= ranked[-1], NA)
    if len(ranked) == 1:
        return 1.0
    below = max(i for i, y in enumerate(ranked) if y <= x)
    below = ranked.index(ranked[below])
    share = 0.0 if ranked[below] == x else (x - ranked[below]) / (ranked[below + 1] - ranked[below])
    level = (below + share) / (len(ranked) - 1)
    return math.floor(level * 10**count + 1e-9) / 10**count


def _pairs(ys: Grid, xs: Grid) -> tuple[list[float], list[float]]:
    """Return the numbers of two areas at places where both have one."""
    first, second = ys.flat(), xs.flat()
    required(len(first) == len(second), NA)
    rows = []
    for y, x in zip(first, second, strict=True):
        for side in (y, x):
            if type(side) is CellError:
                raise ResultError(side)
        if type(y) is float and type(x) is float:
            rows.append((y, x))
    required(bool(rows), DIV0)
    return [y for y, _ in rows], [x for _, x in rows]


def _moments(ys: list[float], xs: list[float]) -> tuple[float, float, float, float, float]:
    """Return both means, and the mean squares and products of departures."""
    count = len(ys)
    y, x = math.fsum(ys) / count, math.fsum(xs) / count
    yy = math.fsum((value - y) ** 2 for value in ys) / count
    xx = math.fsum((value - x) ** 2 for value in xs) / count
    xy = math.fsum((a - y) * (b - x) for a, b in zip(ys, xs, strict=True)) / count
    return y, x, yy, xx, xy


@function("CORREL PEARSON", "rr")
def _correl(first: Grid, second: Grid) -> Value:
    """Return the linear correlation."""
    _, _, yy, xx, xy = _moments(*_pairs(first, second))
    required(xx > 0 and yy > 0, DIV0)
    return xy / math.sqrt(xx * yy)


@function("RSQ", "rr")
def _rsq(first: Grid, second: Grid) -> Value:
    """Return the square of the linear correlation."""
    _, _, yy, xx, xy = _moments(*_pairs(first, second))
    required(xx > 0 and yy > 0, DIV0)
    return xy**2 / (xx * yy)


@function("COVAR COVARIANCE.P", "rr")
def _covar(first: Grid, second: Grid) -> Value:
    """Return the covariance of a population."""
    return _moments(*_pairs(first, second))[4]


@function("COVARIANCE.S", "rr")
def _covariance_s(first: Grid, second: Grid) -> Value:
    """Return the covariance of a sample."""
    ys, xs = _pairs(first, second)
    required(len(ys) > 1, DIV0)
    return _moments(ys, xs)[4] * len(ys) / (len(ys) - 1)


@function("SLOPE", "rr")
def _slope(ys: Grid, xs: Grid) -> Value:
    """Return the slope of the line of least squares."""
    _, _, _, xx, xy = _moments(*_pairs(ys, xs))
    required(xx > 0, DIV0)
    return xy / xx


@function("INTERCEPT", "rr")
def _intercept(ys: Grid, xs: Grid) -> Value:
    """Return where the line of least squares is at 0."""
    y, x, _, xx, xy = _moments(*_pairs(ys, xs))
    required(xx > 0, DIV0)
    return y - x * xy / xx


@function("FORECAST FORECAST.LINEAR", "nrr")
def _forecast(at: float, ys: Grid, xs: Grid) -> Value:
    """Return the line of least squares at a place."""
    y, x, _, xx, xy = _moments(*_pairs(ys, xs))
    required(xx > 0, DIV0)
    return y + (at - x) * xy / xx


@function("STEYX", "rr")
def _steyx(ys: Grid, xs: Grid) -> Value:
    """Return the standard error of the line of least squares."""
    y, x = _pairs(ys, xs)
    required(len(y) > 2, DIV0)
    _, _, yy, xx, xy = _moments(y, x)
    required(xx > 0, DIV0)
    return math.sqrt(max(yy - xy**2 / xx, 0.0) * len(y) / (len(y) - 2))


@function("SKEW", "+x")
def _skew(*values: Value) -> Value:
    """Return the skewness of a sample."""
    numbers = numbers_in(values)
    count = len(numbers)
    required(count > 2, DIV0)
    mean, sd = math.fsum(numbers) / count, math.sqrt(_spread(numbers, True))
    required(sd > 0, DIV0)
    total = math.fsum(((x - mean) / sd) ** 3 for x in numbers)
    return total * count / ((count - 1) * (count - 2))


@function("KURT", "+x")
def _kurt(*values: Value) -> Value:
    """Return the excess kurtosis of a sample."""
    numbers = numbers_in(values)
    n = len(numbers)
    required(n > 3, DIV0)
    mean, sd = math.fsum(numbers) / n, math.sqrt(_spread(numbers, True))
    required(sd > 0, DIV0)
    total = math.fsum(((x - mean) / sd) ** 4 for x in numbers)
    scale = n * (n + 1) / ((n - 1) * (n - 2) * (n - 3))
    return total * scale - 3 * (n - 1) ** 2 / ((n - 2) * (n - 3))


@function("STANDARDIZE", "nnn")
def _standardize(x: float, mean: float, sd: float) -> Value:
    """Return a number in sds from a mean."""
    required(sd > 0)
    return (x - mean) / sd


@function("FREQUENCY", "rr")
def _frequency(values: Grid, bounds: Grid) -> Value:
    """Return how many numbers lie up to each bound and above the one before, and above the last."""
    numbers, ends = numbers_in([values]), sorted(numbers_in([bounds]))
    edges = [-math.inf, *ends, math.inf]
    counts = [float(sum(low < x <= high for x in numbers)) for low, high in pairwise(edges)]
    return Grid([[count] for count in counts])


@function("TRIMMEAN", "rn")
def _trimmean(grid: Grid, share: float) -> Value:
    """Return the mean without a share of the numbers, half of it at each end."""
    ranked = _ranked(grid)
    required(0 <= share < 1)
    cut = math.floor(len(ranked) * share / 2)
    kept = ranked[cut : len(ranked) - cut]
    return math.fsum(kept) / len(kept)


@function("SUMXMY2", "rr")
def _sumxmy2(first: Grid, second: Grid) -> Value:
    """Return the sum of squared differences."""
    x, y = _pairs(first, second)
    return math.fsum((a - b) ** 2 for a, b in zip(x, y, strict=True))


@function("SUMX2MY2", "rr")
def _sumx2my2(first: Grid, second: Grid) -> Value:
    """Return the sum of the differences of squares."""
    x, y = _pairs(first, second)
    return math.fsum(a**2 - b**2 for a, b in zip(x, y, strict=True))


@function("SUMX2PY2", "rr")
def _sumx2py2(first: Grid, second: Grid) -> Value:
    """Return the sum of the sums of squares."""
    x, y = _pairs(first, second)
    return math.fsum(a**2 + b**2 for a, b in zip(x, y, strict=True))


@function("PROB", "rrn[e]")
def _prob(values: Grid, chances: Grid, low: float, high: Value = None) -> Value:
    """Return the chance of the values from low to high, or of low alone."""
    x, p = _pairs(values, chances)
    required(all(0 < one <= 1 for one in p) and abs(math.fsum(p) - 1) < 1e-7)
    top = low if high is None else number_of(high)
    return math.fsum(chance for value, chance in zip(x, p, strict=True) if low <= value <= top)


@function("FISHER", "n", lambda x: np.where(np.abs(x) < 1, np.arctanh(x), np.nan))
def _fisher(x: float) -> Value:
    """Return Fisher's transformation of a correlation."""
    required(abs(x) < 1)
    return math.atanh(x)


@function("FISHERINV", "n", np.tanh)
def _fisherinv(y: float) -> Value:
    """Return the correlation whose transformation this is."""
    return math.tanh(y)


@function("CHISQ.TEST CHITEST", "rr")
def _chisqtest(actual: Grid, expected: Grid) -> Value:
    """Return the chance of counts so far from the expected ones: of a table with (rows - 1)
    (columns - 1) degrees of freedom, of a line with its length less 1.
    """
    required(actual.height == expected.height and actual.width == expected.width, NA)
    observed, wanted = _pairs(actual, expected)
    df = (actual.height - 1) * (actual.width - 1)
    if 1 in (actual.height, actual.width):
        df = actual.height * actual.width - 1
    required(df >= 1, NA)
    required(all(one > 0 for one in wanted))
    squares = math.fsum((a - e) ** 2 / e for a, e in zip(observed, wanted, strict=True))
    return float(gammaincc(df / 2, squares / 2))


# figures by their number in SUBTOTAL and AGGREGATE
FIGURES = (
    *("AVERAGE", "COUNT", "COUNTA", "MAX", "MIN", "PRODUCT", "STDEV", "STDEVP", "SUM"),
    *("VAR", "VARP", "MEDIAN", "MODE", "LARGE", "SMALL", "PERCENTILE", "QUARTILE"),
    *("PERCENTILE.EXC", "QUARTILE.EXC"),
)


@function("SUBTOTAL", "n+r")
def _subtotal(kind: float, *grids: Grid) -> Value:
    """Return a figure of areas by its number: 1 mean, 2 count, 3 count of what is not empty, 4
    largest, 5 smallest, 6 product, 7 and 8 sd, 9 sum, 10 and 11 variance; 101 to 111 the same.
    Cells that hold such totals are left out.
    """
    number = whole(kind) % 100
    required(1 <= number <= 11 and whole(kind) in (number, 100 + number), VALUE)
    return FUNCTIONS[FIGURES[number - 1]].alone(*grids)


@function("AGGREGATE", "nn+a")
def _aggregate(kind: float, options: float, *grids: Grid) -> Value:
    """Return a figure of areas by its number, as SUBTOTAL and further 12 median, 13 mode, 14 and 15
    the k-th largest and smallest, 16 and 17 a percentile and a quartile, 18 and 19 those without
    the ends; options 2, 3, 6 and 7 leave errors out.
    """
    number, option = whole(kind), whole(options)
    required(1 <= number <= 19 and 0 <= option <= 7, VALUE)
    chosen, place = (grids[:-1], [grids[-1].rows[0][0]]) if number > 13 else (grids, [])
    required(len(chosen) == 1 or (number < 14 and len(chosen) > 0), VALUE)
    if option in (2, 3, 6, 7):
        chosen = tuple(
            Grid([[None if type(v) is CellError else v for v in grid.flat()]]) for grid in chosen
        )
    return FUNCTIONS[FIGURES[number - 1]].alone(*chosen, *place)
