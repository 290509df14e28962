"""What is to be expected given what is known: a regression that chooses its own shape.

A difference between two options is fitted by a constant, a plane, a cubic or natural splines in
what is known. It stays a constant unless one of the others explains enough to pay log n for each of
its terms, so that noise is worth nothing (Schwarz, Annals of Statistics 6, 1978, 461-464); of the
others the best at a price of 2 a term is taken (Akaike, IEEE Transactions on Automatic Control 19,
1974, 716-723).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

FINE, COARSE = 8, 4  # knots of the splines of one quantity, and of products of two
RIDGE = 1e-8  # on standardized terms, where some depend on others
TINY = 1e-300
SHAPES = ("plane", "cubic", "splines")


@dataclass(frozen=True, eq=False)
class Terms:
    """What is known, written as the terms of a fit: "plane", "cubic" or "splines", by the centre
    and spread, or the knots, of the trials that it was fitted to.
    """

    shape: str
    known: Floats  # (quantities, numbers): centre and spread, or the fine and the coarse knots

    @classmethod
    def of(cls, shape: str, known: Floats) -> Terms:
        """Return the terms of a shape for what is known ``(quantities, trials)``."""
        if shape == "splines":
            levels = [np.linspace(0.02, 0.98, count) for count in (FINE, COARSE)]
            return cls(shape, np.quantile(known, np.concatenate(levels), axis=1).T)
        return cls(shape, np.column_stack([known.mean(axis=1), known.std(axis=1)]))

    def __call__(self, new: Floats) -> Floats:
        """Return the terms ``(trials, terms)`` of what is known ``(quantities, trials)``."""
        if self.shape == "plane":
            return new.T
        if self.shape == "cubic":
            return _cubic((new - self.known[:, :1]) / self.known[:, 1:])
        return _splines(new, self.known)


@dataclass(frozen=True, eq=False)
class Expectation:
    """What is expected from what is known: the mean, and perhaps ``slopes`` of standardized terms
    of those quantities that are ``moving``.
    """

    mean: float
    moving: NDArray[np.bool_]
    terms: Terms | None = None
    centre: Floats = field(default_factory=lambda: np.empty(0))
    spread: Floats = field(default_factory=lambda: np.empty(0))
    slopes: Floats = field(default_factory=lambda: np.empty(0))

    def __call__(self, new: Floats) -> Floats:
        """Return what is expected ``(trials,)`` given ``(quantities, trials)``."""
        if self.terms is None:
            return np.full(new.shape[1], self.mean)
        scaled = (self.terms(new[self.moving]) - self.centre) / self.spread
        return np.asarray(self.mean + scaled @ self.slopes)


def expected_given(known: Floats, values: Floats) -> Expectation:
    """Return the function that expects values ``(trials,)`` from what is known, ``(quantities,
    trials)``, fitted to these trials.

    >>> known = np.linspace(-1, 1, 400)[None]
    >>> expects = expected_given(known, known[0] ** 2)
    >>> [round(float(x), 2) for x in expects(np.array([[-1.0, 0.0, 0.5]]))]
    [1.0, 0.0, 0.25]
    """
    count = values.size
    moving = known.std(axis=1) > 0
    nothing, varies = Expectation(float(values.mean()), moving), known[moving]
    if not len(varies):
        return nothing
    fits = [_least_squares(Terms.of(shape, varies), known, moving, values) for shape in SHAPES]
    sizes = np.array([len(fit.slopes) for fit in fits])
    misfit = np.array(
        [count * math.log(((values - fit(known)) ** 2).mean() + TINY) for fit in fits]
    )
    if (misfit + math.log(count) * sizes).min() >= count * math.log(float(values.var()) + TINY):
        return nothing
    return fits[int((misfit + 2 * sizes).argmin())]


def _least_squares(
    terms: Terms, known: Floats, moving: NDArray[np.bool_], values: Floats
) -> Expectation:
    """Return the fit of values by standardized terms of what is known."""
    raw, mean = terms(known[moving]), float(values.mean())
    centre, spread = raw.mean(axis=0), raw.std(axis=0)
    spread = np.where(spread > 1e-12, spread, 1.0)
    scaled = (raw - centre) / spread
    ridge = RIDGE * len(scaled) * np.eye(scaled.shape[1])
    slopes = np.linalg.solve(scaled.T @ scaled + ridge, scaled.T @ (values - mean))
    return Expectation(mean, moving, terms, centre, spread, slopes)


def _cubic(scaled: Floats) -> Floats:
    """Return powers to the third of each quantity, and products of two to the third degree."""
    products = [
        product
        for first, second in combinations(scaled, 2)
        for product in (first * second, first**2 * second, first * second**2)
    ]
    return np.column_stack([*scaled, *scaled**2, *cubed(scaled), *products])


def _splines(new: Floats, knots: Floats) -> Floats:
    """Return natural splines of each quantity, and products of coarse ones of each two."""
    fine, coarse = (
        [_spline(row, np.unique(own[part])) for row, own in zip(new, knots, strict=True)]
        for part in (slice(FINE), slice(FINE, None))
    )
    for first, second in combinations(coarse, 2):
        fine.append((first[:, :, None] * second[:, None, :]).reshape(new.shape[1], -1))
    return np.hstack(fine)


def cubed(x: Floats) -> Floats:
    """Return third powers, by products, which take a tenth of the time of the operator."""
    return x * x * x


def _spline(x: Floats, knots: Floats) -> Floats:
    """Return the terms of a natural cubic spline, linear beyond its outer knots: one fewer than
    knots, without a constant (Hastie, Tibshirani and Friedman, Elements of Statistical Learning,
    2009, section 5.2.1).
    """
    if len(knots) < 3:
        return x[:, None]
    width = knots[-1] - knots[0]
    u, inner = (x - knots[0]) / width, (knots - knots[0]) / width
    beyond = cubed(np.maximum(u - 1.0, 0.0))
    bent = [(cubed(np.maximum(u - at, 0.0)) - beyond) / (1.0 - at) for at in inner[:-1].tolist()]
    return np.column_stack([u, *(one - bent[-1] for one in bent[:-1])])
