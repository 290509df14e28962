"""From the correlation an analyst states to the one of the normal scores behind a copula."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from scipy import special

from kindynos.arrays import Floats
from kindynos.distributions.special import legendre
from kindynos.errors import ParameterError

# normal scores at which a quantile function steps up, and by how much
Steps = tuple[Floats, Floats]

MOST_STEPS = 300  # of a quantile function that are summed over
TERMS = 60  # of the Hermite series; its terms fall as the power of the correlation


def of_rank(rank: float) -> float:
    """Return the normal correlation behind a rank (Spearman) correlation of a Gaussian copula.

    Source: Pearson (1907); Kruskal, Journal of the American Statistical Association 53 (1958),
    814-861.
    """
    return 2 * math.sin(math.pi * rank / 6)


def to_rank(correlation: float) -> float:
    """Return the rank correlation of a Gaussian copula."""
    return 6 / math.pi * math.asin(correlation / 2)


def of_tau(tau: float) -> float:
    """Return the normal correlation behind Kendall's tau of an elliptical copula (Lindskog, McNeil
    and Schmock 2003).
    """
    return math.sin(math.pi * tau / 2)


def rank_of_t(correlation: float, df: float) -> float:
    """Return the rank correlation of a t copula: 6/pi E[arcsin(r V1 / sqrt((V1 + V2)(V1 + V3)))], V
    the mixing variances.

    The expectation is over three independent inverse chi-square figures, by Gauss-Legendre on their
    levels. Source: the concordance form of Spearman's rho (Nelsen, An Introduction to Copulas,
    2006, section 5.1) for mixtures.
    """
    shares, weight = _mixing(df)
    return float(6 / math.pi * (weight @ np.arcsin(correlation * shares)))


@lru_cache(maxsize=4)  # many correlations are asked about at the same degrees of freedom
def _mixing(df: float) -> tuple[Floats, Floats]:
    """Return V1 / sqrt((V1 + V2)(V1 + V3)) at the nodes of the expectation, and their weights."""
    nodes, weights = legendre(48)
    levels, weights = (nodes + 1) / 2, weights / 2
    variance = df / (2 * special.gammaincinv(df / 2, levels))
    a, b, c = variance[:, None, None], variance[None, :, None], variance[None, None, :]
    weight = weights[:, None, None] * weights[None, :, None] * weights[None, None, :]
    return (a / np.sqrt((a + b) * (a + c))).ravel(), weight.ravel()


def of_rank_t(rank: float, df: float) -> float:
    """Return the correlation behind a rank correlation of a t copula."""
    if abs(rank) == 1:
        return rank
    return solve(lambda r: rank_of_t(r, df), rank, -1.0, 1.0)


@dataclass(frozen=True)
class Marginal:
    """What a linear correlation needs of one distribution (of the distributions layer), worked out
    once for all its correlations.
    """

    distribution: Any

    @cached_property
    def steps(self) -> Steps | None:
        """The steps of its quantile function, None for a continuous one."""
        return _steps(self.distribution)

    @cached_property
    def many_steps(self) -> Steps:
        """Its quantile function as steps, small ones where it is continuous."""
        return _steps_of_quantile(self.distribution) if self.steps is None else self.steps

    @cached_property
    def hermite(self) -> Floats:
        """The coefficients of its quantile function, scaled to a length of 1."""
        weights = _hermite(self.distribution)
        return np.asarray(weights / math.sqrt(float((weights**2).sum())))


def of_linear(linear: float, first: Marginal, second: Marginal) -> float:
    """Return the normal correlation that gives two distributions a linear correlation.

    By the Hermite series of both quantile functions; where one is discrete, whose series converges
    slowly, by summing over its steps. Raises ParameterError for what no Gaussian copula of these
    distributions reaches. Sources: Cario and Nelson, Modeling and Generating Random Vectors with
    Arbitrary Marginals (1997); Plackett, Biometrika 41 (1954), 351-360.
    """
    reached = _reached_linear(first, second)
    low, high = reached(-1.0), reached(1.0)
    if not low <= linear <= high:
        raise ParameterError(
            f"these distributions can have a linear correlation from {low:.3f} to {high:.3f}, but "
            f"{linear:g} was requested"
        )
    return solve(reached, linear, -1.0, 1.0)


def rank_reached(correlation: float, first: Any, second: Any) -> float:
    """Return the rank correlation, ties counted at their middle, of two distributions with a normal
    correlation behind them.

    Ties of discrete distributions make it smaller than that of continuous ones,
    ``to_rank(correlation)``.
    """
    steps = [_steps(distribution) for distribution in (first, second)]
    if steps[0] is None and steps[1] is None:
        return to_rank(correlation)
    middles = [_uniform_steps() if step is None else _middle_ranks(step[0]) for step in steps]
    spreads = [
        1 / 12 if step is None else _covariance(1.0, m, m)
        for step, m in zip(steps, middles, strict=True)
    ]
    return _covariance(correlation, *middles) / math.sqrt(spreads[0] * spreads[1])


def _middle_ranks(scores: Floats) -> Steps:
    """Return the steps of the ranks, as levels, of a discrete distribution that steps at these
    scores.
    """
    levels = np.concatenate([[0.0], special.ndtr(scores), [1.0]])
    return scores, np.diff((levels[1:] + levels[:-1]) / 2)


def _reached_linear(first: Marginal, second: Marginal) -> Callable[[float], float]:
    """Return the linear correlation as a function of the normal correlation."""
    if first.steps is None and second.steps is None:
        terms = first.hermite * second.hermite
        powers = np.arange(1, TERMS + 1)
        return lambda r: float((r**powers * terms).sum())
    one, two = first.many_steps, second.many_steps
    spread = math.sqrt(_covariance(1.0, one, one) * _covariance(1.0, two, two))
    return lambda r: _covariance(r, one, two) / spread


def _steps(distribution: Any) -> Steps | None:
    """Return the steps of a discrete distribution; None of another, or of one with so large a
    number of them that it is like a continuous one.
    """
    if not distribution.discrete or distribution.sd > MOST_STEPS / 10:
        return None
    values = np.unique(distribution._atoms[0])
    if len(values) > MOST_STEPS:
        return None
    scores = special.ndtri(distribution._cdf(values[:-1]))
    kept = np.abs(scores) < 8
    return scores[kept], np.diff(values)[kept]


def _steps_of_quantile(distribution: Any) -> Steps:
    """Return a continuous quantile function as many small steps."""
    levels = special.ndtr(np.linspace(-7, 7, MOST_STEPS + 1))
    return np.linspace(-7, 7, MOST_STEPS + 1)[1:-1], np.diff(
        distribution._quantile((levels[1:] + levels[:-1]) / 2)
    )


def _uniform_steps() -> Steps:
    scores = np.linspace(-7, 7, MOST_STEPS + 1)
    levels = special.ndtr(scores)
    return scores[1:-1], np.diff((levels[1:] + levels[:-1]) / 2)


def _covariance(correlation: float, first: Steps, second: Steps) -> float:
    """Return the covariance of two step functions of normal scores: the sum of P(both above) -
    P(above) P(above).

    Each term is the integral of the bivariate normal density over the correlation, from 0; with sin
    it is smooth up to 1.
    """
    nodes, weights = legendre(64)
    end = math.asin(max(-1.0, min(1.0, correlation)))
    angles = end * (nodes + 1) / 2
    a, b = first[0][:, None], second[0]
    total = np.zeros((len(first[0]), len(second[0])))
    for angle, weight in zip(angles, weights, strict=True):
        total += weight * np.exp(
            -(a**2 + b**2 - 2 * a * b * math.sin(angle)) / (2 * math.cos(angle) ** 2)
        )
    return float(first[1] @ total @ second[1]) * end / (4 * math.pi)


def _hermite(distribution: Any) -> Floats:
    """Return the coefficients of a distribution's quantile over the normalized Hermite polynomials
    1 to TERMS.
    """
    z = np.linspace(-8.2, 8.2, 8001)
    weight = np.exp(-(z**2) / 2)
    weight /= weight.sum()
    values = distribution._quantile(special.ndtr(z))
    values = values - weight @ values
    before, now = np.ones_like(z), z.copy()
    hermite = np.empty(TERMS)
    for k in range(1, TERMS + 1):
        hermite[k - 1] = weight @ (values * now)
        before, now = now, (z * now - math.sqrt(k) * before) / math.sqrt(k + 1)
    return hermite


def solve(curve: Callable[[float], float], target: float, low: float, high: float) -> float:
    """Return where a rising curve meets the target, by SciPy's bracketing root finder."""
    from scipy.optimize import brentq

    if curve(low) >= target:
        return low
    if curve(high) <= target:
        return high
    return float(brentq(lambda x: curve(x) - target, low, high, xtol=1e-12))
