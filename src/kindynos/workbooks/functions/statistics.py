"""Averages, ranks, percentiles, and what describes samples."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import DIV0, NA, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import function, numbers_in, required, whole
from kindynos.workbooks.values import Grid, Value, number_in_text


def _mean_quick(values: Sequence[Any]) -> Any:
    if not values:
        return None
    found: Any = 0.0
    for value in values:
        found = found + value
    return found / len(values)


@function("AVERAGE", "+x", _mean_quick)
def _average(*values: Value) -> Value:
    """Return the mean of numbers."""
    found = numbers_in(values)
    required(bool(found), DIV0)
    return math.fsum(found) / len(found)


def _least(values: Sequence[Any]) -> Any:
    found: Any = None
    for value in values:
        found = value if found is None else np.minimum(found, value)
    return 0.0 if found is None else found


def _most(values: Sequence[Any]) -> Any:
    found: Any = None
    for value in values:
        found = value if found is None else np.maximum(found, value)
    return 0.0 if found is None else found


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
    found = []
    for value in values:
        items = value.flat() if type(value) is Grid else [value]
        for one in items:
            if type(one) is CellError:
                raise ResultError(one)
            if one is not None:
                found.append(float(one) if isinstance(one, float | bool) else 0.0)
    return found


@function("AVERAGEA", "+r")
def _averagea(*values: Value) -> Value:
    """Return the mean of values, texts counting as 0."""
    found = _with_words(values)
    required(bool(found), DIV0)
    return math.fsum(found) / len(found)


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
        sum(type(one) is float for one in value.flat())
        if type(value) is Grid
        else type(value) in (float, bool)
        or (type(value) is str and number_in_text(value) is not None)
        for value in values
    )


@function("COUNTA", "+x")
def _counta(*values: Value) -> Value:
    """Return how many cells are not empty."""
    items = [one for v in values for one in (v.flat() if type(v) is Grid else [v])]
    return sum(one is not None for one in items)


@function("COUNTBLANK", "r")
def _countblank(grid: Grid) -> Value:
    """Return how many cells are empty, or hold an empty text."""
    return sum(one is None or one == "" for one in grid.flat())


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
    found = numbers_in(values)
    required(bool(found))
    return _spread(found, False) * len(found)


@function("AVEDEV", "+x")
def _avedev(*values: Value) -> Value:
    """Return the mean departure from the mean, without signs."""
    found = numbers_in(values)
    required(bool(found))
    mean = math.fsum(found) / len(found)
    return math.fsum(abs(x - mean) for x in found) / len(found)


@function("GEOMEAN", "+x")
def _geomean(*values: Value) -> Value:
    """Return the geometric mean."""
    found = numbers_in(values)
    required(bool(found) and min(found) > 0)
    return math.exp(math.fsum(map(math.log, found)) / len(found))


@function("HARMEAN", "+x")
def _harmean(*values: Value) -> Value:
    """Return the harmonic mean."""
    found = numbers_in(values)
    required(bool(found) and min(found) > 0)
    return len(found) / math.fsum(1 / x for x in found)


@function("MEDIAN", "+x")
def _median(*values: Value) -> Value:
    """Return the median."""
    found = numbers_in(values)
    required(bool(found))
    return float(np.median(found))


@function("MODE MODE.SNGL", "+x")
def _mode(*values: Value) -> Value:
    """Return the number that occurs most often, the first of several."""
    counts = Counter(numbers_in(values))
    required(bool(counts) and max(counts.values()) > 1, NA)
    return max(counts, key=lambda x: counts[x])


def _ranked(grid: Grid) -> list[float]:
    found = sorted(numbers_in([grid]))
    required(bool(found))
    return found


@function("LARGE", "rn")
def _large(grid: Grid, place: float) -> Value:
    """Return the n-th largest number."""
    found, number = _ranked(grid), math.ceil(place)
    required(1 <= number <= len(found))
    return found[-number]


@function("SMALL", "rn")
def _small(grid: Grid, place: float) -> Value:
    """Return the n-th smallest number."""
    found, number = _ranked(grid), whole(place)
    required(1 <= number <= len(found))
    return found[number - 1]


def _quantile(found: list[float], place: float) -> float:
    """Return the value at a place, from 0, between ranked ones."""
    below = math.floor(place + 1e-12)
    above = min(below + 1, len(found) - 1)
    return found[below] + (place - below) * (found[above] - found[below])


@function("PERCENTILE PERCENTILE.INC", "rn")
def _percentile(grid: Grid, level: float) -> Value:
    """Return a percentile, of which the level 0 is the smallest number and 1 the largest."""
    found = _ranked(grid)
    required(0 <= level <= 1)
    return _quantile(found, level * (len(found) - 1))


@function("PERCENTILE.EXC", "rn")
def _percentile_exc(grid: Grid, level: float) -> Value:
    """Return a percentile at the place level (n + 1)."""
    found = _ranked(grid)
    place = level * (len(found) + 1)
    required(1 <= place <= len(found))
    return _quantile(found, place - 1)


@function("QUARTILE QUARTILE.INC", "rn")
def _quartile(grid: Grid, part: float) -> Value:
    """Return a quartile, 0 for the smallest number and 4 for the largest."""
    found, number = _ranked(grid), whole(part)
    required(0 <= number <= 4)
    return _quantile(found, number / 4 * (len(found) - 1))


@function("QUARTILE.EXC", "rn")
def _quartile_exc(grid: Grid, part: float) -> Value:
    """Return a quartile at the place part (n + 1) / 4."""
    found, number = _ranked(grid), whole(part)
    required(1 <= number <= 3)
    place = number / 4 * (len(found) + 1)
    required(1 <= place <= len(found))
    return _quantile(found, place - 1)


@function("RANK RANK.EQ", "nr[n]")
def _rank(x: float, grid: Grid, ascending: float = 0.0) -> Value:
    """Return the rank of a number, from the largest or with a third argument from the smallest."""
    found = numbers_in([grid])
    required(x in found, NA)
    return 1 + sum((y < x) if ascending else (y > x) for y in found)


@function("RANK.AVG", "nr[n]")
def _rank_avg(x: float, grid: Grid, ascending: float = 0.0) -> Value:
    """Return the rank of a number, the mean of ranks where several are equal."""
    found = numbers_in([grid])
    required(x in found, NA)
    before = sum((y < x) if ascending else (y > x) for y in found)
    return before + (found.count(x) + 1) / 2


@function("PERCENTRANK PERCENTRANK.INC", "rn[n]")
def _percentrank(grid: Grid, x: float, digits: float = 3.0) -> Value:
    """Return the level at which a number lies, cut to 3 digits."""
    found, count = _ranked(grid), whole(digits)
    required(count >= 1)
    required(found[0] <= x <= found[-1], NA)
    if len(found) == 1:
        return 1.0
    below = max(i for i, y in enumerate(found) if y <= x)
    below = found.index(found[below])
    share = 0.0 if found[below] == x else (x - found[below]) / (found[below + 1] - found[below])
    level = (below + share) / (len(found) - 1)
    return math.floor(level * 10**count + 1e-9) / 10**count


def _pairs(ys: Grid, xs: Grid) -> tuple[list[float], list[float]]:
    """Return the numbers of two areas at places where both have one."""
    first, second = ys.flat(), xs.flat()
    required(len(first) == len(second), NA)
    found = []
    for y, x in zip(first, second, strict=True):
        for one in (y, x):
            if type(one) is CellError:
                raise ResultError(one)
        if type(y) is float and type(x) is float:
            found.append((y, x))
    required(bool(found), DIV0)
    return [y for y, _ in found], [x for _, x in found]


def _moments(ys: list[float], xs: list[float]) -> tuple[float, float, float, float, float]:
    """Return both means, and the mean squares and products of departures."""
    count = len(ys)
    y, x = math.fsum(ys) / count, math.fsum(xs) / count
    yy = math.fsum((one - y) ** 2 for one in ys) / count
    xx = math.fsum((one - x) ** 2 for one in xs) / count
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
    found = numbers_in(values)
    count = len(found)
    required(count > 2, DIV0)
    mean, sd = math.fsum(found) / count, math.sqrt(_spread(found, True))
    required(sd > 0, DIV0)
    total = math.fsum(((x - mean) / sd) ** 3 for x in found)
    return total * count / ((count - 1) * (count - 2))


@function("KURT", "+x")
def _kurt(*values: Value) -> Value:
    """Return the excess kurtosis of a sample."""
    found = numbers_in(values)
    n = len(found)
    required(n > 3, DIV0)
    mean, sd = math.fsum(found) / n, math.sqrt(_spread(found, True))
    required(sd > 0, DIV0)
    total = math.fsum(((x - mean) / sd) ** 4 for x in found)
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
    found, ends = numbers_in([values]), sorted(numbers_in([bounds]))
    edges = [-math.inf, *ends, math.inf]
    counts = [float(sum(low < x <= high for x in found)) for low, high in pairwise(edges)]
    return Grid([[count] for count in counts])


@function("TRIMMEAN", "rn")
def _trimmean(grid: Grid, share: float) -> Value:
    """Return the mean without a share of the numbers, half of it at each end."""
    found = _ranked(grid)
    required(0 <= share < 1)
    cut = math.floor(len(found) * share / 2)
    kept = found[cut : len(found) - cut]
    return math.fsum(kept) / len(kept)


@function("SUMXMY2", "rr")
def _sumxmy2(first: Grid, second: Grid) -> Value:
    """Return the sum of squared differences."""
    x, y = _pairs(first, second)
    return math.fsum((a - b) ** 2 for a, b in zip(x, y, strict=True))


@function("SUBTOTAL", "n+r")
def _subtotal(kind: float, *grids: Grid) -> Value:
    """Return a figure of areas by its number: 1 mean, 2 count, 3 count of what is not empty, 4
    largest, 5 smallest, 6 product, 7 and 8 sd, 9 sum, 10 and 11 variance; 101 to 111 the same.
    """
    from kindynos.workbooks.functions.registry import FUNCTIONS

    names = [
        "AVERAGE",
        "COUNT",
        "COUNTA",
        "MAX",
        "MIN",
        "PRODUCT",
        "STDEV",
        "STDEVP",
        "SUM",
        "VAR",
        "VARP",
    ]
    number = whole(kind) % 100
    required(1 <= number <= 11 and whole(kind) in (number, 100 + number), VALUE)
    return FUNCTIONS[names[number - 1]].alone(*grids)
