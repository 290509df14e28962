"""From the correlation an analyst states to the one of the normal scores behind a copula."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from kindynos.errors import ParameterError

Floats = NDArray[np.float64]

TERMS = 60  # of the Hermite series; its terms fall as the power of the correlation


def of_rank(rank: float) -> float:
    """Return the normal correlation behind a rank (Spearman) correlation of a Gaussian copula.

    Source: Pearson (1907); Kruskal, Journal of the American Statistical Association 53 (1958), 814-861.
    """
    return 2 * math.sin(math.pi * rank / 6)


def to_rank(correlation: float) -> float:
    """Return the rank correlation of a Gaussian copula."""
    return 6 / math.pi * math.asin(correlation / 2)


def of_tau(tau: float) -> float:
    """Return the normal correlation behind Kendall's tau of an elliptical copula (Lindskog, McNeil and Schmock 2003)."""
    return math.sin(math.pi * tau / 2)


def rank_of_t(correlation: float, df: float) -> float:
    """Return the rank correlation of a t copula: 6/pi E[arcsin(r V1 / sqrt((V1 + V2)(V1 + V3)))], V the mixing variances.

    The expectation is over three independent inverse chi-square figures, by Gauss-Legendre on their levels.
    Source: the concordance form of Spearman's rho (Nelsen, An Introduction to Copulas, 2006, section 5.1) for mixtures.
    """
    nodes, weights = np.polynomial.legendre.leggauss(48)
    levels, weights = (nodes + 1) / 2, weights / 2
    variance = df / (2 * special.gammaincinv(df / 2, levels))
    a, b, c = variance[:, None, None], variance[None, :, None], variance[None, None, :]
    inside = np.arcsin(correlation * a / np.sqrt((a + b) * (a + c)))
    weight = weights[:, None, None] * weights[None, :, None] * weights[None, None, :]
    return float(6 / math.pi * (weight * inside).sum())


def of_rank_t(rank: float, df: float) -> float:
    """Return the correlation behind a rank correlation of a t copula."""
    if abs(rank) == 1:
        return rank
    return solve(lambda r: rank_of_t(r, df), rank, -1.0, 1.0)


def of_linear(linear: float, first: Any, second: Any) -> float:
    """Return the normal correlation that gives two laws (of the distributions layer) a linear correlation.

    By the Hermite series of both quantile functions. Raises ParameterError for what no Gaussian copula of these laws reaches.
    Source: Cario and Nelson, Modeling and Generating Random Vectors with Arbitrary Marginals (1997).
    """
    a, b = _hermite(first), _hermite(second)

    def reached(correlation: float) -> float:
        powers = correlation ** np.arange(1, TERMS + 1)
        return float((powers * a * b).sum() / math.sqrt((a**2).sum() * (b**2).sum()))

    low, high = reached(-1.0), reached(1.0)
    if not low <= linear <= high:
        raise ParameterError(f"these laws can have a linear correlation from {low:.3f} to {high:.3f}, and {linear:g} is asked")
    return solve(reached, linear, -1.0, 1.0)


def _hermite(law: Any) -> Floats:
    """Return the coefficients of a law's quantile over the normalised Hermite polynomials 1 to TERMS."""
    z = np.linspace(-8.2, 8.2, 8001)
    weight = np.exp(-(z**2) / 2)
    weight /= weight.sum()
    values = law._quantile(special.ndtr(z))
    values = values - weight @ values
    before, now = np.ones_like(z), z.copy()
    found = np.empty(TERMS)
    for k in range(1, TERMS + 1):
        found[k - 1] = weight @ (values * now)
        before, now = now, (z * now - math.sqrt(k) * before) / math.sqrt(k + 1)
    return found


def solve(curve: Callable[[float], float], target: float, low: float, high: float) -> float:
    """Return where a rising curve meets the target, by SciPy's bracketing root finder."""
    from scipy.optimize import brentq

    if curve(low) >= target:
        return low
    if curve(high) <= target:
        return high
    return float(brentq(lambda x: curve(x) - target, low, high, xtol=1e-12))
