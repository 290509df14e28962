"""Sums, rounding, powers and logarithms, trigonometry, and matrices."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import DIV0, NUM, VALUE, CellError, ResultError
from kindynos.workbooks.functions.registry import bounded, function, numbers_in, required, whole
from kindynos.workbooks.operators import powered
from kindynos.workbooks.values import FLOAT, Faulty, Grid, Value


def _total(values: Sequence[Any]) -> Any:
    """Return a sum of numbers, each alone or one per trial."""
    fixed = math.fsum(value for value in values if type(value) is float)
    total: Any = fixed
    fresh = False
    for value in values:
        if type(value) is not float:
            if fresh:
                total += value
            else:
                total, fresh = total + value, True
    return total


@function("SUM", "+x", _total)
def _sum(*values: Value) -> Value:
    """Return the sum of numbers."""
    return math.fsum(numbers_in(values))


@function("SUMSQ", "+x", lambda values: _total([value * value for value in values]))
def _sumsq(*values: Value) -> Value:
    """Return the sum of the squares of numbers."""
    return math.fsum(x * x for x in numbers_in(values))


def _product_quick(values: Sequence[Any]) -> Any:
    product: Any = 1.0
    for value in values:
        product = product * value
    return product if values else 0.0


@function("PRODUCT", "+x", _product_quick)
def _product(*values: Value) -> Value:
    """Return the product of numbers; 0 of none."""
    numbers = numbers_in(values)
    return math.prod(numbers) if numbers else 0.0


@function("ABS", "n", np.abs)
def _abs(x: float) -> Value:
    """Return a number without its sign."""
    return abs(x)


@function("SIGN", "n", np.sign)
def _sign(x: float) -> Value:
    """Return -1, 0 or 1."""
    return (x > 0) - (x < 0)


@function("SQRT", "n", np.sqrt)
def _sqrt(x: float) -> Value:
    """Return the square root."""
    required(x >= 0)
    return math.sqrt(x)


@function("EXP", "n", np.exp)
def _exp(x: float) -> Value:
    """Return e to the power of a number."""
    return math.exp(x)


@function("LN", "n", np.log)
def _ln(x: float) -> Value:
    """Return the natural logarithm."""
    required(x > 0)
    return math.log(x)


@function("LOG10", "n", np.log10)
def _log10(x: float) -> Value:
    """Return the logarithm to the base of 10."""
    required(x > 0)
    return math.log10(x)


@function("LOG", "n[n]")
def _log(x: float, base: float = 10.0) -> Value:
    """Return the logarithm to a base, 10 unless it is stated."""
    required(x > 0 and base > 0)
    required(base != 1, DIV0)
    return math.log10(x) if base == 10 else math.log(x) / math.log(base)


@function("POWER", "nn", lambda a, b: np.where((a == 0) & (b <= 0), np.nan, np.power(a, b)))
def _power(a: float, b: float) -> Value:
    """Return a number to a power."""
    return powered(a, b)


@function("PI")
def _pi() -> Value:
    """Return pi."""
    return math.pi


NEAREST = 2.0**-47  # relative: what lies so close to a whole number of steps is one


def rounded(x: float, digits: int, toward: Any) -> float:
    """Return a number rounded to digits by a rule for whole numbers; products that miss a whole
    number by a hair count as it.
    """
    if x == 0 or digits > 300:
        return x
    if digits < -300:
        return 0.0
    scale = 10.0 ** abs(digits)
    scaled = x * scale if digits >= 0 else x / scale
    if not math.isfinite(scaled) or abs(scaled) >= 2.0**52:
        return x
    close = float(round(scaled))
    scaled = close if abs(scaled - close) <= NEAREST * abs(scaled) else scaled
    figure = float(toward(scaled))
    return figure / scale if digits >= 0 else figure * scale


def half_up(x: float) -> float:
    """Return a number rounded to a whole one, halves away from 0."""
    size = abs(x)
    below = math.floor(size)
    # a half that is missed by a hair is one
    up = size - below >= 0.5 * (1 - 1e-14) - 1e-14 * size * 0.04
    return math.copysign(below + up, x)


def away(x: float) -> float:
    """Return the next whole number away from 0."""
    return math.copysign(math.ceil(abs(x)), x)


CLEAR = 2.0**-44  # from a half, relative: such a number is rounded alike by every rule for halves


def _rounding(toward: Any, nearest: bool = False) -> Any:
    """Return the rounding of numbers one per trial to the same digits."""

    def quick(x: Any, digits: Any = 0.0) -> Any:
        if not isinstance(digits, float) or abs(digits) > 15:
            return None
        count = math.trunc(digits)
        scale = 10.0 ** abs(count)
        scaled = np.asarray(x * scale if count >= 0 else x / scale)
        close = np.rint(scaled)
        if nearest:
            largest = np.abs(close).max()
            if largest < 2.0**40 and np.abs(scaled - close).max() < 0.5 - CLEAR * (1 + largest):
                return close / scale if count >= 0 else close * scale
        scaled = np.where(np.abs(scaled - close) <= NEAREST * np.abs(scaled), close, scaled)
        result = toward(scaled)
        rounded = result / scale if count >= 0 else result * scale
        return np.where(np.abs(scaled) < 2.0**52, rounded, x)

    return quick


def _half_up_quick(x: Any) -> Any:
    size = np.abs(x)
    below = np.floor(size)
    up = size - below >= 0.5 * (1 - 1e-14) - 1e-14 * size * 0.04
    return np.copysign(below + up, x)


@function("ROUND", "n[n]", _rounding(_half_up_quick, nearest=True))
def _round(x: float, digits: float = 0.0) -> Value:
    """Return a number rounded to digits after the decimal point, halves away from 0."""
    return rounded(x, whole(digits), half_up)


@function("ROUNDUP", "n[n]", _rounding(lambda x: np.copysign(np.ceil(np.abs(x)), x)))
def _roundup(x: float, digits: float = 0.0) -> Value:
    """Return a number rounded away from 0."""
    return rounded(x, whole(digits), away)


@function("ROUNDDOWN TRUNC", "n[n]", _rounding(np.trunc))
def _rounddown(x: float, digits: float = 0.0) -> Value:
    """Return a number rounded toward 0."""
    return rounded(x, whole(digits), math.trunc)


def _int_quick(x: Any) -> Any:
    close = np.rint(x)
    return np.where(np.abs(x - close) <= NEAREST * np.abs(x), close, np.floor(x))


@function("INT", "n", _int_quick)
def _int(x: float) -> Value:
    """Return the largest whole number that is not above a number."""
    close = float(round(x)) if abs(x) < 2.0**53 else x
    return close if abs(x - close) <= NEAREST * abs(x) else float(math.floor(x))


def _multiple(x: float, step: float, toward: Any) -> float:
    """Return a number as a multiple of a step."""
    if step == 0 or x == 0:
        return 0.0
    count = x / step
    close = float(round(count))
    count = close if abs(count - close) <= NEAREST * abs(count) else float(toward(count))
    return count * step


@function("CEILING", "n[n]")
def _ceiling(x: float, step: float = 1.0) -> Value:
    """Return the next multiple of a step away from 0; of a number below 0 and a step above it, the
    next toward 0.
    """
    required(not (x > 0 and step < 0))
    return _multiple(x, step, math.ceil)


@function("FLOOR", "n[n]")
def _floor(x: float, step: float = 1.0) -> Value:
    """Return the next multiple of a step toward 0; of a number below 0 and a step above it, the
    next away from 0.
    """
    required(not (x > 0 and step < 0))
    required(step != 0 or x == 0, DIV0)
    return _multiple(x, step, math.floor)


@function("CEILING.MATH", "n[nn]")
def _ceiling_math(x: float, step: float = 1.0, mode: float = 0.0) -> Value:
    """Return the next multiple of a step above; with a mode, of numbers below 0 away from 0."""
    return _multiple(x, abs(step), math.floor if x < 0 and mode else math.ceil)


@function("FLOOR.MATH", "n[nn]")
def _floor_math(x: float, step: float = 1.0, mode: float = 0.0) -> Value:
    """Return the next multiple of a step below; with a mode, of numbers below 0 toward 0."""
    return _multiple(x, abs(step), math.ceil if x < 0 and mode else math.floor)


@function("CEILING.PRECISE ISO.CEILING", "n[n]")
def _ceiling_precise(x: float, step: float = 1.0) -> Value:
    """Return the next multiple of a step above, whatever the signs."""
    return _multiple(x, abs(step), math.ceil)


@function("FLOOR.PRECISE", "n[n]")
def _floor_precise(x: float, step: float = 1.0) -> Value:
    """Return the next multiple of a step below, whatever the signs."""
    return _multiple(x, abs(step), math.floor)


@function("MROUND", "nn")
def _mround(x: float, step: float) -> Value:
    """Return the nearest multiple of a step of the same sign."""
    required(x * step >= 0)
    return _multiple(x, step, half_up)


@function("EVEN", "n")
def _even(x: float) -> Value:
    """Return the next even number away from 0."""
    return math.copysign(2 * math.ceil(abs(x) / 2), x)


@function("ODD", "n")
def _odd(x: float) -> Value:
    """Return the next odd number away from 0."""
    size = math.ceil(abs(x))
    return math.copysign(size + (size % 2 == 0), x)


def _mod_quick(x: Any, y: Any) -> Any:
    count = x / y
    close = np.rint(count)
    lower = np.where(np.abs(count - close) <= NEAREST * np.abs(count), close, np.floor(count))
    remainder = x - y * lower
    return np.where(np.abs(remainder) <= NEAREST * np.abs(x), 0.0, remainder)


@function("MOD", "nn", _mod_quick)
def _mod(x: float, y: float) -> Value:
    """Return what division leaves, with the sign of the divisor."""
    required(y != 0, DIV0)
    mod = float(_mod_quick(np.float64(x), np.float64(y)))
    required(math.isfinite(mod))
    return mod


@function("QUOTIENT", "nn", lambda a, b: np.trunc(a / b))
def _quotient(a: float, b: float) -> Value:
    """Return the whole part of a division."""
    required(b != 0, DIV0)
    return math.trunc(a / b)


@function("GCD", "+x")
def _gcd(*values: Value) -> Value:
    """Return the greatest common divisor."""
    wholes = [whole(x) for x in numbers_in(values)]
    required(all(x >= 0 for x in wholes))
    return math.gcd(*wholes)


@function("LCM", "+x")
def _lcm(*values: Value) -> Value:
    """Return the least common multiple."""
    wholes = [whole(x) for x in numbers_in(values)]
    required(all(x >= 0 for x in wholes))
    return math.lcm(*wholes)


@function("FACT", "n")
def _fact(x: float) -> Value:
    """Return the factorial of a whole number."""
    required(0 <= x < 171)
    return math.factorial(math.trunc(x))


@function("COMBIN", "nn")
def _combin(n: float, k: float) -> Value:
    """Return how many sets of k things n things make."""
    required(n >= 0 and k >= 0 and math.trunc(n) >= math.trunc(k))
    return _sets(math.trunc(n), math.trunc(k))


@function("COMBINA", "nn")
def _combina(n: float, k: float) -> Value:
    """Return how many sets of k things n things make, when each may be taken again."""
    required(n >= 0 and k >= 0 and (n >= 1 or k < 1))
    return _sets(math.trunc(n) + math.trunc(k) - 1, math.trunc(k)) if n >= 1 else 1


def _sets(n: int, k: int) -> int:
    """Return how many sets of k things n things make; of more than 1,100 it is beyond all
    numbers.
    """
    bounded(min(k, n - k), 1_100)
    return math.comb(n, min(k, n - k))


@function("PERMUT", "nn")
def _permut(n: float, k: float) -> Value:
    """Return how many orders of k of n things there are."""
    required(n >= 0 and k >= 0 and math.trunc(n) >= math.trunc(k))
    bounded(k, 171)  # 171! is beyond all numbers
    return math.perm(math.trunc(n), math.trunc(k))


def _circular(name: str, quick: Any, alone: Any, rule: str, inside: Any = None) -> None:
    def single(x: float) -> Value:
        required(inside is None or inside(x))
        return alone(x)

    single.__doc__ = rule
    function(name, "n", quick)(single)


_circular("SIN", np.sin, math.sin, "Return the sine of an angle in radians.")
_circular("COS", np.cos, math.cos, "Return the cosine of an angle in radians.")
_circular("TAN", np.tan, math.tan, "Return the tangent of an angle in radians.")
_circular("ASIN", np.arcsin, math.asin, "Return the angle of a sine.", lambda x: abs(x) <= 1)
_circular("ACOS", np.arccos, math.acos, "Return the angle of a cosine.", lambda x: abs(x) <= 1)
_circular("ATAN", np.arctan, math.atan, "Return the angle of a tangent.")
_circular("SINH", np.sinh, math.sinh, "Return the hyperbolic sine.")
_circular("COSH", np.cosh, math.cosh, "Return the hyperbolic cosine.")
_circular("TANH", np.tanh, math.tanh, "Return the hyperbolic tangent.")
_circular("RADIANS", np.radians, math.radians, "Return an angle in degrees in radians.")
_circular("DEGREES", np.degrees, math.degrees, "Return an angle in radians in degrees.")


@function("ATAN2", "nn")
def _atan2(x: float, y: float) -> Value:
    """Return the angle of the point (x, y)."""
    required(x != 0 or y != 0, DIV0)
    return math.atan2(y, x)


def _sumproduct_together(grids: list[Value], trials: int) -> Value | None:
    """Return the sum of products of numbers one per trial; None where an error needs more care."""
    together: Any = 0.0
    areas = [grid if type(grid) is Grid else Grid([[grid]]) for grid in grids]
    if len({(area.height, area.width) for area in areas}) > 1:
        return None
    for row in zip(*(area.flat() for area in areas), strict=True):
        product: Any = 1.0
        for value in row:
            plain = type(value) is float or (type(value) is np.ndarray and value.dtype is FLOAT)
            if type(value) in (CellError, Faulty) or (type(value) is np.ndarray and not plain):
                return None
            product = product * (value if plain else 0.0)
        together = together + product
    return together


@function("SUMPRODUCT", "+a", together=_sumproduct_together)
def _sumproduct(*grids: Grid) -> Value:
    """Return the sum of the products of numbers in the same places; what is none counts as 0."""
    required(len({(grid.height, grid.width) for grid in grids}) == 1, VALUE)
    products = []
    for row in zip(*(grid.flat() for grid in grids), strict=True):
        for value in row:
            if type(value) is CellError:
                raise ResultError(value)
        products.append(math.prod(x if type(x) is float else 0.0 for x in row))
    return math.fsum(products)


def matrix_of(grid: Grid) -> Any:
    """Return the numbers of a grid as an array; raises ResultError for a text or an empty cell."""
    for value in grid.flat():
        if type(value) is CellError:
            raise ResultError(value)
        required(type(value) is float, VALUE)
    return np.array(grid.rows, dtype=np.float64)


@function("MMULT", "aa")
def _mmult(a: Grid, b: Grid) -> Value:
    """Return the product of two matrices."""
    first, second = matrix_of(a), matrix_of(b)
    required(first.shape[1] == second.shape[0], VALUE)
    return Grid((first @ second).tolist())


@function("MINVERSE", "a")
def _minverse(a: Grid) -> Value:
    """Return the inverse of a matrix."""
    matrix = matrix_of(a)
    required(matrix.shape[0] == matrix.shape[1], VALUE)
    try:
        return Grid(np.linalg.inv(matrix).tolist())
    except np.linalg.LinAlgError:
        raise ResultError(NUM) from None


@function("MDETERM", "a")
def _mdeterm(a: Grid) -> Value:
    """Return the determinant of a matrix."""
    matrix = matrix_of(a)
    required(matrix.shape[0] == matrix.shape[1], VALUE)
    return float(np.linalg.det(matrix))


@function("TRANSPOSE", "a")
def _transpose(a: Grid) -> Value:
    """Return rows as columns."""
    return Grid([list(column) for column in zip(*a.rows, strict=True)])


@function("SERIESSUM", "nnnr")
def _seriessum(x: float, n: float, m: float, grid: Grid) -> Value:
    """Return a sum of powers with coefficients."""
    total = 0.0
    for place, coefficient in enumerate(numbers_in([grid])):
        power = powered(x, n + place * m)
        if type(power) is CellError:
            raise ResultError(power)
        total += coefficient * power
    return total


@function("N", "v")
def _n(value: Value) -> Value:
    """Return a number as it is, a logical as 1 or 0, and 0 for a text."""
    return float(value) if isinstance(value, float | bool) else 0.0


@function("BASE", "nn[n]")
def _base(x: float, radix: float, length: float = 0.0) -> Value:
    """Return a whole number in another radix as a text."""
    number, radix = whole(x), whole(radix)
    required(number >= 0 and 2 <= radix <= 36)
    bounded(length, 255)
    text = np.base_repr(number, int(radix))
    return text.rjust(whole(length), "0")


def _between_quick(share: Any, low: Any, high: Any) -> Any:
    low, high = np.ceil(low), np.floor(high)
    inside = np.minimum(np.floor(share * (high - low + 1)), high - low)
    return np.where(high < low, np.nan, low + inside)


@function("_BETWEEN", "nnn", _between_quick)
def _between(share: float, low: float, high: float) -> Value:
    """Return the whole number between two others that a share from 0 to 1 falls on."""
    low, high = math.ceil(low), math.floor(high)
    required(low <= high)
    return low + min(math.floor(share * (high - low + 1)), high - low)
