"""The one float array type of the package, what a masked value is in it (not a number), and a
product whose order of additions is fixed.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

MOST_ORDERED = 16  # columns of a matrix


def unmasked(value: Any) -> Any:
    """Return a value with NaN in place of what is masked; anything else as it is."""
    if not np.ma.isMaskedArray(value):
        return value
    return np.ma.filled(np.ma.asarray(value, dtype=np.float64), np.nan)


def product(matrix: Any, columns: Any) -> Floats:
    """Return ``matrix @ columns``, with its additions in one order up to MOST_ORDERED columns of
    the matrix: NumPy's own product adds in another order on another kind of processor. A larger
    matrix is left to it, since it is several times as fast.

    >>> product(np.array([[1.0, 2.0]]), np.array([[3.0], [4.0]]))
    array([[11.]])
    """
    if matrix.shape[1] > MOST_ORDERED:
        return np.asarray(matrix @ columns)
    total: Floats = matrix[:, :1] * columns[:1]
    for place in range(1, matrix.shape[1]):
        total += matrix[:, place : place + 1] * columns[place]
    return total
