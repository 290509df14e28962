"""Fast quantiles from a table, for laws whose exact inverse is slow.

Each octave of ``min(u, 1 - u)`` is cut into 16 intervals, in both tails, and each interval holds the polynomial of degree 7
through the exact quantiles at its Chebyshev nodes. The interval is read from the bits of the float: the exponent and the
first four bits of its fraction. Beyond 40 octaves the exact inverse is used.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from threading import Lock
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

OCTAVES = 40
PARTS = 16
DEGREE = 7
WORTHWHILE = 2_000  # below this many values the exact inverse is quicker than building a table
CHUNK = 32_768  # values worked on at a time, so that temporaries stay in the processor's cache

_FIRST = (1023 - OCTAVES - 1) * PARTS  # the exponent bits of 2**-41, and four fraction bits
_FRACTION = (1 << 48) - 1
_ONE = 1023 << 52
_BELOW_HALF = np.nextafter(0.5, 0)
_LEAST = 2.0 ** (-OCTAVES - 1)


class HasTails(Protocol):
    """What a law must offer for a table: its exact inverse from either end. Hashable, so that tables are kept."""

    def _from_below(self, u: Floats) -> Floats:
        """The value whose cdf is ``u``."""

    def _from_above(self, v: Floats) -> Floats:
        """The value whose survival function is ``v``."""

    def __hash__(self) -> int: ...


def quantile(law: HasTails, u: Floats) -> Floats:
    """Return the law's quantiles at ``u`` (any shape): exact for a few, from its table for many."""
    if u.size < WORTHWHILE:
        return exact(law, u)
    with _building:
        coefficients = _table(law)
    flat = np.ascontiguousarray(u).reshape(-1)
    answer = np.empty_like(flat)
    for begin in range(0, flat.size, CHUNK):
        part = slice(begin, begin + CHUNK)
        answer[part] = _look_up(law, coefficients, flat[part])
    return answer.reshape(u.shape)


def exact(law: HasTails, u: Floats) -> Floats:
    """Return the law's quantiles at ``u`` from its exact inverse, taken from the nearer end."""
    lower = u <= 0.5
    answer = np.empty_like(u)
    answer[lower] = law._from_below(u[lower])
    answer[~lower] = law._from_above(1.0 - u[~lower])
    return answer


def _look_up(law: HasTails, coefficients: Floats, u: Floats) -> Floats:
    nearer = np.minimum(u, 1.0 - u)
    np.minimum(nearer, _BELOW_HALF, out=nearer)
    bits = nearer.view(np.int64)
    index = bits >> 48
    index += np.where(u > 0.5, OCTAVES * PARTS - _FIRST, -_FIRST)
    bits = bits & _FRACTION
    bits <<= 4
    bits |= _ONE
    place = bits.view(np.float64)
    place -= 1.5
    # With mode="clip" the indices need no check, which takes longer than the look-up; those out of range are redone below.
    answer: Floats = coefficients[DEGREE].take(index, mode="clip")
    term = np.empty_like(answer)
    for power in range(DEGREE - 1, -1, -1):
        answer *= place
        answer += coefficients[power].take(index, out=term, mode="clip")
    if nearer.min() < _LEAST:
        far = nearer < _LEAST
        answer[far] = exact(law, u[far])
    return answer


_building = Lock()


@lru_cache(maxsize=256)
def _table(law: HasTails) -> Floats:
    """Return the coefficients, (DEGREE + 1, 2 tails x octaves x parts), lowest power first."""
    nodes = 0.5 * np.cos(np.pi * (np.arange(DEGREE + 1) + 0.5) / (DEGREE + 1))
    starts = np.ldexp((PARTS + np.arange(PARTS)) / PARTS, -OCTAVES - 1)
    widths = np.ldexp(1 / PARTS, np.arange(OCTAVES) - OCTAVES - 1)
    begins = (starts[None, :] * 2.0 ** np.arange(OCTAVES)[:, None]).reshape(-1)
    points = begins + np.repeat(widths, PARTS) * (nodes[:, None] + 0.5)
    to_powers = np.linalg.inv(np.vander(nodes, increasing=True))
    tails: list[Callable[[Floats], Floats]] = [law._from_below, law._from_above]
    return np.concatenate([to_powers @ tail(points.reshape(-1)).reshape(points.shape) for tail in tails], axis=1)
