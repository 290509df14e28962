"""The one float array type of the package, what a masked value is in it (not a number), and a
product whose order of additions is fixed.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

CHUNK = 4_096  # columns multiplied at a time, which stay in a processor's cache
MOST_ORDERED = 16  # columns of a matrix
RESIDUE = 1e-12  # of the largest amount in a sum, below which what is left of it is rounding


def unmasked(value: Any) -> Any:
    """Return a value with NaN in place of what is masked; anything else as it is."""
    if not np.ma.isMaskedArray(value):
        return value
    return np.ma.filled(np.ma.asarray(value, dtype=np.float64), np.nan)


def without_residue(value: Floats, size: Floats) -> Floats:
    """Return a sum with 0 where it is only what rounding left of amounts as large as ``size``.

    >>> without_residue(np.array([0.1 + 0.2 - 0.3, 1e-9]), np.array([0.3, 1.0]))
    array([0.e+00, 1.e-09])
    """
    left = np.abs(value)
    negligible = (left < RESIDUE * size) & (left > 0)
    return np.where(negligible, 0.0, value) if negligible.any() else value


def product(matrix: Any, columns: Any, ordered: bool = False) -> Floats:
    """Return ``matrix @ columns``, with its additions in one order up to MOST_ORDERED columns of
    the matrix: NumPy's own product adds in another order on another kind of processor, and beside
    other columns. A larger matrix is left to it unless it must be ``ordered``, since it is several
    times as fast.

    >>> product(np.array([[1.0, 2.0]]), np.array([[3.0], [4.0]]))
    array([[11.]])
    """
    if matrix.shape[1] > MOST_ORDERED and not ordered:
        return np.asarray(matrix @ columns)
    total: Floats = np.empty((len(matrix), *columns.shape[1:]))
    filled = [np.flatnonzero(column) for column in matrix.T]
    for begin in range(0, columns.shape[1], CHUNK):
        cut = slice(begin, begin + CHUNK)
        some = total[:, cut]
        np.multiply(matrix[:, :1], columns[:1, cut], out=some)
        for position in range(1, matrix.shape[1]):
            # above its first number, as of a triangular matrix, a column adds nothing
            first = filled[position][0] if len(filled[position]) else len(matrix)
            some[first:] += matrix[first:, position : position + 1] * columns[position, cut]
    return total
