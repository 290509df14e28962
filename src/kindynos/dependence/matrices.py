"""Correlation matrices: whether one is valid, which entries conflict, and the nearest valid one."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import array_of, check_integer, checked, invalid_argument

ROUNDED = 1e-12  # by which a correlation may be off because it was worked out
SINGULAR = 1e-10  # an eigenvalue above minus this counts as not negative
MOST = 2_000  # rows of a matrix that is repaired
STEPS = 20_000


def valid_matrix(matrix: ArrayLike, names: Sequence[str] | None = None) -> Floats:
    """Return a matrix as floats; raises ParameterError unless it is square, symmetric, 1 on the
    diagonal and within ±1.
    """
    array = np.array(array_of("matrix", matrix))
    if array.ndim != 2 or array.shape[0] != array.shape[1] or not array.size:
        raise ParameterError(f"a correlation matrix must be square, not {array.shape}")
    labels = list(names) if names is not None else [str(i) for i in range(len(array))]
    if not np.isfinite(array).all():
        i, j = np.argwhere(~np.isfinite(array))[0]
        raise ParameterError(
            f"the entry of {labels[i]} and {labels[j]} must be a finite number, not {array[i, j]}"
        )
    uneven = np.abs(array - array.T) > ROUNDED
    if uneven.any():
        i, j = np.argwhere(uneven)[0]
        sides = (
            f"{labels[i]} with {labels[j]} is {array[i, j]:g}, and the other way {array[j, i]:g}"
        )
        raise ParameterError(f"the matrix must be symmetric: {sides}")
    for i in range(len(array)):
        if abs(array[i, i] - 1) > ROUNDED:
            raise ParameterError(
                f"the diagonal must be 1, and that of {labels[i]} is {array[i, i]:g}"
            )
    # a matrix that was worked out is 1 and symmetric up to rounding
    array = (array + array.T) / 2
    np.fill_diagonal(array, 1.0)
    array = np.where(np.abs(array) <= 1 + ROUNDED, np.clip(array, -1, 1), array)
    if np.abs(array).max() > 1:
        i, j = np.unravel_index(np.abs(array).argmax(), array.shape)
        raise ParameterError(
            f"a correlation must be from -1 to 1: {labels[i]} with {labels[j]} is {array[i, j]:g}"
        )
    return array


def is_correlation_matrix(matrix: Floats) -> bool:
    """Return whether no eigenvalue is negative, so that the matrix is one of correlations."""
    try:
        np.linalg.cholesky(matrix)  # far quicker, and enough in all but the doubtful cases
        return True
    except np.linalg.LinAlgError:
        return bool(np.linalg.eigvalsh(matrix)[0] >= -SINGULAR)


def conflicting_pairs(
    matrix: Floats, names: Sequence[str], shown: Callable[[float], float], most: int = 3
) -> list[str]:
    """Return the pairs whose entries move most on the way to the nearest matrix that can be, with
    what they would become.

    ``shown`` turns an entry into the correlation the analyst stated.
    """
    near = nearest_correlation(matrix)
    gap = np.triu(np.abs(near - matrix), 1)
    order = np.argsort(-gap, axis=None)[:most]
    pairs = [
        np.unravel_index(position, gap.shape) for position in order if gap.flat[position] > 1e-6
    ]
    entries = [
        (names[i], names[j], shown(float(matrix[i, j])), shown(float(near[i, j]))) for i, j in pairs
    ]
    return [
        f"{first} with {second} ({requested:.3f}, nearest {nearest:.3f})"
        for first, second, requested, nearest in entries
    ]


def _places(fixed: Any, count: int) -> list[tuple[int, int]]:
    """Return the places of entries in a matrix; raises ParameterError for what is none."""
    rule = f"pairs of whole numbers from 0 to {count - 1}"
    if not isinstance(fixed, Collection) or isinstance(fixed, str | bytes | Mapping):
        raise invalid_argument("fixed", rule, fixed)
    places = []
    for pair in fixed:
        if not isinstance(pair, tuple | list) or len(pair) != 2:
            raise invalid_argument("fixed", rule, fixed)
        i, j = (check_integer("fixed", place, least=0) for place in pair)
        if max(i, j) >= count:
            raise invalid_argument("fixed", rule, fixed)
        places.append((i, j))
    return places


@checked
def nearest_correlation(
    matrix: ArrayLike, weights: ArrayLike | None = None, fixed: Collection[tuple[int, int]] = ()
) -> Floats:
    """Return the correlation matrix nearest to a symmetric one, ``(n, n)``.

    ``weights`` ``(n,)``, all above 0, say how unwillingly each variable's entries move; ``fixed``
    pairs of places keep their value. Raises ParameterError for a matrix that is not symmetric with
    entries within ±1, and when fixed entries leave no matrix that can be.

    Source: Higham, IMA Journal of Numerical Analysis 22 (2002), 329-343: alternating projections
    with Dykstra's correction.

    >>> nearest_correlation([[1, 1, 0], [1, 1, 1], [0, 1, 1]]).round(3)
    array([[1.   , 0.761, 0.157],
           [0.761, 1.   , 0.761],
           [0.157, 0.761, 1.   ]])
    """
    start = valid_matrix(matrix)
    count = len(start)
    if count > MOST:
        raise ParameterError(
            f"takes at most {MOST:,} rows, not {count:,}; that would take many minutes"
        )
    weight = np.ones(count) if weights is None else array_of("weights", weights)
    if weight.shape != (count,) or not (weight > 0).all():
        raise ParameterError(f"weights must be {count} numbers above 0, not {weights!r:.60}")
    root = np.sqrt(np.outer(weight, weight))
    is_stated = np.eye(count, dtype=bool)
    places = _places(fixed, count)
    for i, j in places:
        is_stated[i, j] = is_stated[j, i] = True
    target, correction = start.copy(), np.zeros_like(start)
    for _ in range(STEPS):
        shifted = target - correction
        values, vectors = np.linalg.eigh(shifted * root)
        projected = (vectors * np.maximum(values, 0)) @ vectors.T / root
        correction = projected - shifted
        displaced = np.where(is_stated, start, projected)
        if np.abs(displaced - target).max() < 1e-13 and np.abs(displaced - projected).max() < 1e-9:
            break
        target = displaced
    if np.abs(np.where(is_stated, start, projected) - projected).max() > 1e-4:
        raise ParameterError("no correlation matrix has these fixed entries; fix fewer")
    if places:
        return _lifted(np.where(is_stated, start, projected))
    values, vectors = np.linalg.eigh((projected + projected.T) / 2)
    # what the iteration leaves below 0 is rounding
    projected = (vectors * np.maximum(values, 0)) @ vectors.T
    scale = 1 / np.sqrt(np.diag(projected))
    nearest = projected * np.outer(scale, scale)
    np.fill_diagonal(nearest, 1.0)
    return np.asarray((nearest + nearest.T) / 2)


def _lifted(matrix: Floats) -> Floats:
    """Return a matrix a hair short of positive semidefinite as it is: what is missing is rounding,
    which sampling forgives.
    """
    return np.asarray((matrix + matrix.T) / 2)


def cholesky_factor(matrix: Floats) -> Floats:
    """Return lower triangular L with L L' = matrix, zero in columns where the matrix is
    singular.
    """
    lower = np.zeros_like(matrix)
    for j in range(len(matrix)):
        rest = matrix[j:, j] - lower[j:, :j] @ lower[j, :j]
        if rest[0] > 1e-12:
            lower[j:, j] = rest / np.sqrt(rest[0])
    length = np.sqrt((lower**2).sum(axis=1, keepdims=True))
    return np.asarray(lower / length)


def named_pairs(frame: Any) -> list[tuple[tuple[str, str], float]]:
    """Return the pairs of names of a correlation matrix with their entries; raises ParameterError
    unless it is a DataFrame of one.

    Rows and columns must have the same names.
    """
    if not hasattr(frame, "columns"):
        raise ParameterError(
            "a matrix must be a DataFrame with the drivers' names as rows and columns"
        )
    names = [str(name) for name in frame.columns]
    if names != [str(name) for name in frame.index]:
        raise ParameterError(
            f"rows and columns must have the same names, not {list(frame.index)} and {names}"
        )
    matrix = valid_matrix(frame, names)
    return [
        ((names[j], name), float(matrix[i, j])) for i, name in enumerate(names) for j in range(i)
    ]
