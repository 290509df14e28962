"""The normal quantile of many levels at once, from a table of cubic polynomials.

SciPy's ``ndtri`` branches for every value; polynomials looked up in a table take array operations
alone. Their error is below 2e-11, far under what any figure of a simulation can show; few values,
and the outermost levels, are computed exactly.
"""

from __future__ import annotations

from functools import cache

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtri

FEW = 4_096  # values below which the table does not pay
PIECES = 4_096
OUTER = 0.02  # share of levels at either end that are computed exactly
# values worked on at a time: few enough to stay in a processor's cache, and enough that threads
# seldom wait for the interpreter's lock
CHUNK = 32_768


def normal_quantile(levels: Floats) -> Floats:
    """Return the standard normal quantile of an array of levels, as a new array of its shape."""
    if levels.size < FEW:
        return ndtri(levels)
    scores: Floats = np.empty(levels.shape)
    flat, out = np.ascontiguousarray(levels).reshape(-1), scores.reshape(-1)
    table, width = _score_table(), min(CHUNK, flat.size)
    position, term, piece = np.empty(width), np.empty(width), np.empty(width, dtype=np.intp)
    for begin in range(0, flat.size, CHUNK):
        u, z = flat[begin : begin + CHUNK], out[begin : begin + CHUNK]
        x, t, i = position[: len(u)], term[: len(u)], piece[: len(u)]
        np.multiply(u, PIECES, out=x)
        with np.errstate(invalid="ignore"):  # a NaN has no piece; it stays NaN
            np.copyto(i, x, casting="unsafe")
        x -= i
        table[3].take(i, out=z, mode="clip")
        for coefficients in table[2::-1]:
            z *= x
            z += coefficients.take(i, out=t, mode="clip")
        exact = np.flatnonzero(np.isnan(z))
        z[exact] = ndtri(u[exact])
    return scores


@cache
def _score_table() -> Floats:
    """Return coefficients ``(4, PIECES)`` of the cubic through four Chebyshev points of each piece;
    NaN in the outer ones.
    """
    points = 0.5 + 0.5 * np.cos(np.pi * (2 * np.arange(4) + 1) / 8)
    values = ndtri((np.arange(PIECES) + points[:, None]) / PIECES)
    coefficients = np.asarray(
        np.linalg.solve(np.vander(points, 4, increasing=True), values), dtype=np.float64
    )
    edge = int(OUTER * PIECES)
    coefficients[:, :edge] = coefficients[:, -edge:] = np.nan
    return coefficients
