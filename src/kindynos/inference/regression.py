"""What is to be expected given what is known: a regression that chooses its own shape.

A difference between two options is fitted by a constant, a plane, a cubic or natural splines in
what is known. It stays a constant unless one of the others explains enough to pay log n for each of
its terms, so that noise is worth nothing (Schwarz, Annals of Statistics 6, 1978, 461-464); of the
others the best at a price of 2 a term is taken (Akaike, IEEE Transactions on Automatic Control 19,
1974, 716-723).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from itertools import combinations

import numpy as np

from kindynos.arrays import Floats

FINE, COARSE = 8, 4  # knots of the splines of one quantity, and of products of two
RIDGE = 1e-8  # on standardized terms, where some depend on others
TINY = 1e-300

Terms = Callable[[Floats], Floats]


def expected_given(known: Floats, values: Floats) -> Callable[[Floats], Floats]:
    """Return the function that expects values ``(trials,)`` from what is known, ``(quantities,
    trials)``, fitted to these trials.

    >>> known = np.linspace(-1, 1, 400)[None]
    >>> expects = expected_given(known, known[0] ** 2)
    >>> [round(float(x), 2) for x in expects(np.array([[-1.0, 0.0, 0.5]]))]
    [1.0, 0.0, 0.25]
    """
    count = values.size
    mean = float(values.mean())
    moving = known.std(axis=1) > 0
    varies = known[moving]
    if not len(varies):
        return lambda new: np.full(new.shape[1], mean)
    shapes = [_plane(), _cubic(varies), _splines(varies)]
    fits = [_least_squares(terms, varies, values) for terms in shapes]
    sizes = np.array([terms(varies[:, :1]).shape[1] for terms in shapes])
    misfit = np.array(
        [count * math.log(((values - fit(varies)) ** 2).mean() + TINY) for fit in fits]
    )
    if (misfit + math.log(count) * sizes).min() >= count * math.log(float(values.var()) + TINY):
        return lambda new: np.full(new.shape[1], mean)
    best = fits[int((misfit + 2 * sizes).argmin())]
    return lambda new: best(new[moving])


def _least_squares(terms: Terms, known: Floats, values: Floats) -> Callable[[Floats], Floats]:
    """Return the fit of values by standardized terms of what is known."""
    raw, mean = terms(known), float(values.mean())
    centre, spread = raw.mean(axis=0), raw.std(axis=0)
    spread = np.where(spread > 1e-12, spread, 1.0)
    scaled = (raw - centre) / spread
    ridge = RIDGE * len(scaled) * np.eye(scaled.shape[1])
    slopes = np.linalg.solve(scaled.T @ scaled + ridge, scaled.T @ (values - mean))
    return lambda new: np.asarray(mean + ((terms(new) - centre) / spread) @ slopes)


def _plane() -> Terms:
    return lambda known: known.T


def _cubic(known: Floats) -> Terms:
    """Return powers to the third of each quantity, and products of two to the third degree."""
    centre, spread = known.mean(axis=1)[:, None], known.std(axis=1)[:, None]

    def terms(new: Floats) -> Floats:
        scaled = (new - centre) / spread
        products = [
            product
            for first, second in combinations(scaled, 2)
            for product in (first * second, first**2 * second, first * second**2)
        ]
        return np.column_stack([*scaled, *scaled**2, *scaled**3, *products])

    return terms


def _splines(known: Floats) -> Terms:
    """Return natural splines of each quantity, and products of coarse ones of each two."""
    knots = {
        count: [np.unique(np.quantile(row, np.linspace(0.02, 0.98, count))) for row in known]
        for count in (FINE, COARSE)
    }

    def terms(new: Floats) -> Floats:
        parts = [_spline(row, own) for row, own in zip(new, knots[FINE], strict=True)]
        coarse = [_spline(row, own) for row, own in zip(new, knots[COARSE], strict=True)]
        for first, second in combinations(coarse, 2):
            parts.append((first[:, :, None] * second[:, None, :]).reshape(new.shape[1], -1))
        return np.hstack(parts)

    return terms


def _spline(x: Floats, knots: Floats) -> Floats:
    """Return the terms of a natural cubic spline, linear beyond its outer knots: one fewer than
    knots, without a constant (Hastie, Tibshirani and Friedman, Elements of Statistical Learning,
    2009, section 5.2.1).
    """
    if len(knots) < 3:
        return x[:, None]
    width = knots[-1] - knots[0]
    u, inner = (x - knots[0]) / width, (knots - knots[0]) / width
    beyond = np.maximum(u - 1.0, 0.0) ** 3
    bent = [(np.maximum(u - at, 0.0) ** 3 - beyond) / (1.0 - at) for at in inner[:-1].tolist()]
    return np.column_stack([u, *(one - bent[-1] for one in bent[:-1])])
