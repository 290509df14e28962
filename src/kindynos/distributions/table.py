"""Fast quantiles from a table, for distributions whose exact inverse is slow.

Each octave of ``min(u, 1 - u)`` is cut into 16 intervals, in both tails, and each interval holds
the polynomial of degree 7 through the exact quantiles at its Chebyshev nodes. The interval is read
from the bits of the float: the exponent and the first four bits of its fraction. Beyond 40 octaves
the exact inverse is used.

A distribution that may have gaps, atoms or narrow peaks says so (``smooth = False``): then each
polynomial is compared with exact quantiles between its nodes, and an interval where it fails is
halved, again and again, see ``Halved``.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from threading import Lock
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats, product

OCTAVES = 40
PARTS = 16
DEGREE = 7
WORTHWHILE = 2_000  # below this many values the exact inverse is quicker than building a table
CHUNK = 32_768  # values worked on at a time, so that temporaries stay in the processor's cache
HALVINGS = 24
MOST = 50_000  # intervals of one tail that are halved further
# how far a polynomial may be off between its nodes, relative to the values of its interval
CLOSE = 1e-9

_FIRST = (1023 - OCTAVES - 1) * PARTS  # the exponent bits of 2**-41, and four fraction bits
_FRACTION = (1 << 48) - 1
_ONE = 1023 << 52
_BELOW_HALF = np.nextafter(0.5, 0)
_LEAST = 2.0 ** (-OCTAVES - 1)
_NODES = 0.5 * np.cos(np.pi * (np.arange(DEGREE + 1) + 0.5) / (DEGREE + 1))
_BETWEEN = 0.5 * np.cos(np.pi * np.arange(DEGREE + 2) / (DEGREE + 1)) * (1 - 1e-9)
_TO_POWERS = np.linalg.inv(np.vander(_NODES, increasing=True))
_AT_BETWEEN = np.vander(_BETWEEN, DEGREE + 1, increasing=True)


class HasTails(Protocol):
    """What a distribution must offer for a table: its exact inverse from either end. Hashable, so
    that tables are kept.
    """

    smooth: bool
    """Whether the quantile function is known to have no jumps and no flat or steep stretches."""

    def _from_below(self, u: Floats) -> Floats:
        """The value whose cdf is ``u``."""

    def _from_above(self, v: Floats) -> Floats:
        """The value whose survival function is ``v``."""

    def __hash__(self) -> int: ...


def quantile(distribution: HasTails, u: Floats) -> Floats:
    """Return the distribution's quantiles at ``u`` (any shape): exact for a few, from its table for
    many.
    """
    if u.size < WORTHWHILE:
        return exact(distribution, u)
    with _building:
        table = _build_table(distribution)
    flat = np.ascontiguousarray(u).reshape(-1)
    quantiles = np.empty_like(flat)
    for begin in range(0, flat.size, CHUNK):
        span = slice(begin, begin + CHUNK)
        quantiles[span] = _look_up(distribution, table, flat[span])
    return quantiles.reshape(u.shape)


def exact(distribution: HasTails, u: Floats) -> Floats:
    """Return the distribution's quantiles at ``u`` from its exact inverse, taken from the nearer
    end.
    """
    lower = u <= 0.5
    quantiles = np.empty_like(u)
    quantiles[lower] = distribution._from_below(u[lower])
    quantiles[~lower] = distribution._from_above(1.0 - u[~lower])
    return quantiles


@dataclass(frozen=True)
class Halved:
    """The halves of one tail's intervals where one polynomial does not do, in order.

    A last half that still fails, one that holds a jump, has NaN for coefficients: the exact inverse
    is used there.
    """

    begins: Floats
    widths: Floats
    coefficients: Floats

    def quantile(self, tail: Callable[[Floats], Floats], level: Floats) -> Floats:
        """Return the quantiles at levels, counted from the end of the tail, that lie in the
        halves.
        """
        index = np.maximum(np.searchsorted(self.begins, level, side="right") - 1, 0)
        position = (level - self.begins[index]) / self.widths[index] - 0.5
        quantiles: Floats = self.coefficients[DEGREE].take(index)
        for power in range(DEGREE - 1, -1, -1):
            quantiles = quantiles * position + self.coefficients[power].take(index)
        left = np.isnan(quantiles)
        if left.any():
            quantiles[left] = tail(level[left])
        return quantiles


@dataclass(frozen=True)
class QuantileTable:
    """Coefficients ``(DEGREE + 1, 2 tails x octaves x parts)``, lowest power first; NaN for
    intervals that were halved.
    """

    coefficients: Floats
    lower: Halved | None = None
    upper: Halved | None = None


def _look_up(distribution: HasTails, table: QuantileTable, u: Floats) -> Floats:
    coefficients = table.coefficients
    nearer = np.minimum(u, 1.0 - u)
    np.minimum(nearer, _BELOW_HALF, out=nearer)
    bits = nearer.view(np.int64)
    index = bits >> 48
    index += np.where(u > 0.5, OCTAVES * PARTS - _FIRST, -_FIRST)
    bits = bits & _FRACTION
    bits <<= 4
    bits |= _ONE
    view = bits.view(np.float64)
    view -= 1.5
    # With mode="clip" the indices need no check, which takes longer than the look-up; those out of
    # range are redone below.
    looked_up: Floats = coefficients[DEGREE].take(index, mode="clip")
    term = np.empty_like(looked_up)
    for power in range(DEGREE - 1, -1, -1):
        looked_up *= view
        looked_up += coefficients[power].take(index, out=term, mode="clip")
    if nearer.min() < _LEAST:
        far = nearer < _LEAST
        looked_up[far] = exact(distribution, u[far])
    if table.lower is not None and (rest := np.isnan(looked_up) & (u <= 0.5)).any():
        looked_up[rest] = table.lower.quantile(distribution._from_below, u[rest])
    if table.upper is not None and (rest := np.isnan(looked_up) & (u > 0.5)).any():
        looked_up[rest] = table.upper.quantile(distribution._from_above, 1.0 - u[rest])
    return looked_up


_building = Lock()


@lru_cache(maxsize=256)
def _build_table(distribution: HasTails) -> QuantileTable:
    starts = np.ldexp((PARTS + np.arange(PARTS)) / PARTS, -OCTAVES - 1)
    widths = np.repeat(np.ldexp(1 / PARTS, np.arange(OCTAVES) - OCTAVES - 1), PARTS)
    begins = (starts[None, :] * 2.0 ** np.arange(OCTAVES)[:, None]).reshape(-1)
    tails: list[Callable[[Floats], Floats]] = [distribution._from_below, distribution._from_above]
    if distribution.smooth:
        return QuantileTable(
            np.concatenate([_polynomials(tail, begins, widths)[0] for tail in tails], axis=1)
        )
    checked_tails = [_checked(tail, begins, widths) for tail in tails]
    halves = (
        _halve(tail, begins, widths, np.isnan(levels[0]))
        for tail, levels in zip(tails, checked_tails, strict=True)
    )
    return QuantileTable(np.concatenate(checked_tails, axis=1), *halves)


def _polynomials(
    tail: Callable[[Floats], Floats], begins: Floats, widths: Floats
) -> tuple[Floats, Floats]:
    """Return the coefficients ``(DEGREE + 1, n)`` for n intervals, and the values at their
    nodes.
    """
    points = begins + widths * (_NODES[:, None] + 0.5)
    values = tail(points.reshape(-1)).reshape(points.shape)
    return product(_TO_POWERS, values), values


def _checked(tail: Callable[[Floats], Floats], begins: Floats, widths: Floats) -> Floats:
    """Return the coefficients for n intervals, NaN where the polynomial is wrong between its
    nodes.
    """
    with np.errstate(invalid="ignore"):
        coefficients, values = _polynomials(tail, begins, widths)
        points = begins + widths * (_BETWEEN[:, None] + 0.5)
        between = tail(points.reshape(-1)).reshape(points.shape)
        low, high = (
            np.minimum(values.min(0), between.min(0)),
            np.maximum(values.max(0), between.max(0)),
        )
        allowed = CLOSE * (np.maximum(np.abs(low), np.abs(high)) + (high - low))
        good = (np.abs(_AT_BETWEEN @ coefficients - between) <= allowed).all(axis=0)
    flat = low == high  # one value, kept to the last bit
    coefficients[:, flat] = 0.0
    coefficients[0, flat] = low[flat]
    coefficients[:, ~good & ~flat] = np.nan
    return coefficients


def _halve(
    tail: Callable[[Floats], Floats], begins: Floats, widths: Floats, failed: NDArray[np.bool_]
) -> Halved | None:
    """Return the halves of the intervals that failed, halved again where they fail too."""
    rows: list[tuple[Floats, Floats, Floats]] = []
    while failed.any():
        widths = np.repeat(widths[failed] / 2, 2)
        begins = np.repeat(begins[failed], 2)
        begins[1::2] += widths[1::2]
        coefficients = _checked(tail, begins, widths)
        failed = np.isnan(coefficients[0])
        if len(rows) == HALVINGS or len(begins) > MOST:
            failed[:] = False  # the exact inverse does the rest
        rows.append((begins[~failed], widths[~failed], coefficients[:, ~failed]))
    if not rows:
        return None
    joined = [np.concatenate(parts, axis=-1) for parts in zip(*rows, strict=True)]
    order = np.argsort(joined[0])
    return Halved(joined[0][order], joined[1][order], joined[2][:, order])
