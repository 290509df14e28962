"""Cutting the polynomial of many flows into pieces of a low degree, so that isolating its roots
stays quick.

Halving the Bernstein coefficients of degree n costs n². But on a short interval a polynomial of any
degree is its Taylor polynomial about the middle, and what that leaves out has a bound that is
easily worked out. (0, 1) is cut, for each trial on its own, until the bound lies below rounding;
near 1, the pieces become as short as about 8 / n, so there are some log n of them.
"""

from __future__ import annotations

from functools import lru_cache
from math import comb

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import gammaln

TERMS = 32  # of a piece
# where an interval is cut: at the half, ends would fall on round rates, and there on roots
CUT = 0.53
LEFT_OUT = 1e-16  # of the size of the polynomial
GROWTH = 32.0  # how much larger the terms may be at the end of a piece than at its beginning
SHORTEST = 2.0**-60


def pieces(flows: Floats) -> tuple[Floats, NDArray[np.int64], Floats, Floats]:
    """Return the pieces of each column's polynomial on (0, 1) in which its sign may change.

    Bernstein coefficients ``(terms, pieces)``, the column of each piece, its low end and its width.
    """
    sizes = np.abs(flows)
    rows: list[tuple[Floats, NDArray[np.int64], Floats, Floats]] = []
    waiting = [(0.0, 1.0, np.arange(flows.shape[1]))]
    while waiting:
        low, width, columns = waiting.pop()
        terms = flows[:, columns]
        fits = (
            _fits(sizes[:, columns], low, width)
            if width > SHORTEST
            else np.ones(len(columns), dtype=bool)
        )
        if fits.any():
            taylor = _taylor(len(flows), low + width / 2, width / 2)
            coefficients = _to_bernstein() @ (taylor @ terms[: taylor.shape[1], fits])
            positive = coefficients >= 0
            kept = (positive != positive[0]).any(axis=0)
            inside = columns[fits][kept]
            rows.append(
                (
                    coefficients[:, kept],
                    inside,
                    np.full(len(inside), low),
                    np.full(len(inside), width),
                )
            )
        if not fits.all():
            cut = CUT * width
            waiting += [(low, cut, columns[~fits]), (low + cut, width - cut, columns[~fits])]
    if not rows:
        return np.empty((TERMS, 0)), np.empty(0, dtype=np.int64), np.empty(0), np.empty(0)
    parts = list(zip(*rows, strict=True))
    return (
        np.concatenate(parts[0], axis=1),
        np.concatenate(parts[1]),
        np.concatenate(parts[2]),
        np.concatenate(parts[3]),
    )


def _fits(sizes: Floats, low: float, width: float) -> NDArray[np.bool_]:
    """Return for which columns the Taylor polynomial is the polynomial but for rounding."""
    count, high = len(sizes), low + width
    at_low, at_high = (
        powers @ sizes[: len(powers)] for powers in (_powers(low, count), _powers(high, count))
    )
    fits: NDArray[np.bool_] = at_high <= GROWTH * at_low
    if fits.any():
        # The first term left out, C(j, TERMS) high^(j - TERMS) (width / 2)^TERMS, bounds the rest.
        j = np.arange(TERMS, max(_reach(high, count), TERMS))
        logs = gammaln(j + 1.0) - gammaln(TERMS + 1.0) - gammaln(j - TERMS + 1.0)
        logs += (j - TERMS) * np.log(high) + TERMS * np.log(width / 2)
        fits &= np.exp(logs) @ sizes[j] <= LEFT_OUT * at_low
    return fits


def _taylor(count: int, middle: float, radius: float) -> Floats:
    """Return what takes coefficients to Taylor terms, C(j, k) middle^(j - k) radius^k: rows are k,
    columns j.
    """
    first = _powers(middle, count)
    rows = np.empty((TERMS, len(first)))
    rows[0] = first
    j = np.arange(len(first))
    for k in range(1, TERMS):
        np.multiply(rows[k - 1], (j - k + 1) * (radius / (k * middle)), out=rows[k])
    return rows


def _powers(x: float, count: int) -> Floats:
    """Return the powers of x that a float can hold."""
    return np.asarray(np.power(x, np.arange(_reach(x, count))))


def _reach(x: float, count: int) -> int:
    return 1 if x == 0 else count if x == 1 else min(count, int(700 / -np.log(x)) + 1)


def value_and_slope(coefficients: Floats, x: Floats) -> tuple[Floats, Floats]:
    """Return the value and slope at ``x`` in (0, 1) of each column's Bernstein coefficients, by de
    Casteljau's rule.
    """
    rows = coefficients.copy()
    for last in range(len(rows) - 1, 1, -1):
        rows[:last] += x * (rows[1 : last + 1] - rows[:last])
    return rows[0] + x * (rows[1] - rows[0]), (len(rows) - 1) * (rows[1] - rows[0])


@lru_cache(maxsize=1)
def _to_bernstein() -> Floats:
    """Return what takes powers of u in (-1, 1) to Bernstein coefficients: the symmetric sums of i
    ones and n - i minus ones.
    """
    n = TERMS - 1

    def entry(i: int, k: int) -> float:
        total = sum(comb(i, up) * comb(n - i, k - up) * (-1) ** (k - up) for up in range(k + 1))
        return float(total / comb(n, k))

    return np.array([[entry(i, k) for k in range(TERMS)] for i in range(TERMS)])
