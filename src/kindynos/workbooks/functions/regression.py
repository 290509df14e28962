"""Lines and curves through points by least squares, of one or several columns of regressors."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from kindynos.workbooks.cell_errors import NA, NUM, REF, CellError
from kindynos.workbooks.functions.math import matrix_of
from kindynos.workbooks.functions.registry import function, required
from kindynos.workbooks.values import Grid, Value

Numbers = np.ndarray[Any, np.dtype[np.float64]]


def _points(ys: Grid, xs: Value) -> tuple[Numbers, Numbers]:
    """Return the values ``(points,)`` and the regressors ``(points, regressors)``: those stated, or
    1, 2, 3, ...; a row of values has its regressors in rows.
    """
    numbers = matrix_of(ys)
    if xs is None:
        regressors = np.arange(1.0, numbers.size + 1).reshape(numbers.shape)
    else:
        regressors = matrix_of(xs)
    if numbers.shape == regressors.shape:
        return numbers.ravel(), regressors.reshape(-1, 1)
    if numbers.shape[1] == 1:
        required(len(regressors) == len(numbers), REF)
        return numbers.ravel(), regressors
    required(numbers.shape[0] == 1 and regressors.shape[1] == numbers.shape[1], REF)
    return numbers.ravel(), regressors.T


def _fitted(y: Numbers, x: Numbers, constant: bool) -> tuple[Numbers, Numbers, int]:
    """Return the slopes and the constant, the unscaled covariance, and the degrees of freedom. A
    regressor that others explain has the slope 0.
    """
    design = np.column_stack([x, np.ones(len(y))]) if constant else x
    r = np.linalg.qr(design, mode="r")
    size = np.abs(design).max(axis=0) + 1e-300
    free = np.abs(np.diag(r)) > 1e-12 * size * math.sqrt(len(y))
    count = int(free.sum())
    required(len(y) >= count)
    used = design[:, free]
    solved = np.linalg.lstsq(used, y, rcond=None)[0]
    weights, covariance = np.zeros(design.shape[1]), np.zeros((design.shape[1],) * 2)
    weights[free] = solved
    covariance[np.ix_(free, free)] = np.linalg.inv(used.T @ used)
    if not constant:
        weights = np.append(weights, 0.0)
    return weights, covariance, len(y) - count


def _at(xs: Value, given: Value, known: Grid, count: int) -> tuple[Numbers, tuple[int, int]]:
    """Return the new regressors ``(points, regressors)`` and the shape of the answer."""
    source = given if given is not None else xs
    if source is None:
        shape = (known.height, known.width)
        return np.arange(1.0, known.height * known.width + 1).reshape(-1, 1), shape
    numbers = matrix_of(source)
    if count == 1:
        return numbers.reshape(-1, 1), numbers.shape
    if known.width == 1:
        required(numbers.shape[1] == count, REF)
        return numbers, (len(numbers), 1)
    required(numbers.shape[0] == count, REF)
    return numbers.T, (1, numbers.shape[1])


def _predicted(ys: Grid, xs: Value, given: Value, constant: bool, logs: bool) -> Value:
    y, x = _points(ys, _or_none(xs))
    if logs:
        required(bool((y > 0).all()))
        y = np.log(y)
    weights, _, _ = _fitted(y, x, constant)
    places, shape = _at(_or_none(xs), _or_none(given), ys, x.shape[1])
    predicted = places @ weights[:-1] + weights[-1]
    predicted = np.exp(predicted) if logs else predicted
    required(bool(np.isfinite(predicted).all()))
    return Grid(predicted.reshape(shape).tolist())


def _or_none(value: Value) -> Value:
    """Return an area, None where it is left out."""
    if type(value) is Grid and value.height == value.width == 1 and value.rows[0][0] is None:
        return None
    return value


@function("TREND", "a[aab]")
def _trend(ys: Grid, xs: Value = None, given: Value = None, constant: bool = True) -> Value:
    """Return the values of the line of least squares at other regressors."""
    return _predicted(ys, xs, given, constant, False)


@function("GROWTH", "a[aab]")
def _growth(ys: Grid, xs: Value = None, given: Value = None, constant: bool = True) -> Value:
    """Return the values of the exponential curve of least squares of the logs."""
    return _predicted(ys, xs, given, constant, True)


@function("LINEST", "a[abb]")
def _linest(ys: Grid, xs: Value = None, constant: bool = True, figures: bool = False) -> Value:
    """Return the slopes of the line of least squares, the last regressor's first, and its constant;
    with figures also their standard errors, R squared and the standard error, F and the degrees of
    freedom, and the sums of squares that are explained and left.
    """
    y, x = _points(ys, _or_none(xs))
    return _figures(y, x, constant, figures)


@function("LOGEST", "a[abb]")
def _logest(ys: Grid, xs: Value = None, constant: bool = True, figures: bool = False) -> Value:
    """Return the bases and the factor of the exponential curve of least squares of the logs; with
    figures as those of the line of the logs.
    """
    y, x = _points(ys, _or_none(xs))
    required(bool((y > 0).all()))
    grid = _figures(np.log(y), x, constant, figures)
    return Grid([[math.exp(weight) for weight in grid.rows[0]], *grid.rows[1:]])


def _figures(y: Numbers, x: Numbers, constant: bool, figures: bool) -> Grid:
    weights, covariance, freedom = _fitted(y, x, constant)
    order = [*range(x.shape[1] - 1, -1, -1), -1]
    first: list[Value] = [float(weights[i]) for i in order]
    if not figures:
        return Grid([first])
    left = float(((y - x @ weights[:-1] - weights[-1]) ** 2).sum())
    centre = y.mean() if constant else 0.0
    explained = float(((y - centre) ** 2).sum()) - left
    spread = left / freedom if freedom else 0.0
    errors: list[Value] = np.sqrt(np.diag(covariance) * spread).tolist()
    errors = [errors[i] for i in order] if constant else [*(errors[i] for i in order[:-1]), NA]
    explaining = len(y) - freedom - constant
    ratio: Value = NUM if not spread or not explaining else explained / explaining / spread
    blank: list[CellError] = [NA] * (len(first) - 2)
    return Grid(
        [
            first,
            errors,
            [explained / (explained + left), math.sqrt(spread), *blank],
            [ratio, float(freedom), *blank],
            [explained, left, *blank],
        ]
    )
