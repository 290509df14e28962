"""A distribution as it would be if what was stated were wider, elsewhere or of another shape, on
the scale that is natural to it.

What may be below 0 moves on a linear scale; what lies within 0 and 1 and is no amount of money on
the logit scale; any other from 0 up on the logarithmic one; counts and lists of values by the
normal score of their draw, and so keep their values. Quantiles spread around the median.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.counts import Bernoulli
from kindynos.distributions.event_impact import EventImpact
from kindynos.distributions.special import ndtr, ndtri

LEVELS = (np.arange(4_000) + 0.5) / 4_000  # of the moments and the cdf
TINY = 1e-300  # in place of a quantile of 0 on the logarithmic scale
Z90 = float(ndtri(0.9))


@dataclass(frozen=True)
class Departure:
    """By how much drivers depart from what was stated: ``wider`` times their range, ``shift``
    standard deviations (from their P10 to P90), or another ``shape`` through the same P10, P50 and
    P90.
    """

    wider: float = 1.0
    shift: float = 0.0
    shape: bool = False


def scale_of(distribution: Distribution, money: bool) -> str:
    """Return the scale that is natural to a distribution: "linear", "logarithmic", "logit" or
    "score".
    """
    low, high = distribution.support
    if distribution.discrete:
        return "score"
    if low < 0:
        return "linear"
    return "logit" if high <= 1 and not money else "logarithmic"


def moved(distribution: Distribution, departure: Departure, money: bool) -> Distribution | None:
    """Return a distribution after a departure, None where nothing about it can move.

    An event becomes likelier with a shift, where it is to be higher, and its impact moves; its
    chance has no width.
    """
    if isinstance(distribution, EventImpact):
        sign = 1.0 if float(distribution.impact.quantile(0.5)) >= 0 else -1.0
        score = float(ndtri(distribution.probability)) + sign * departure.shift
        impact = moved(distribution.impact, departure, money) or distribution.impact
        return EventImpact(float(ndtr(score)), impact)
    scale = scale_of(distribution, money)
    if isinstance(distribution, Bernoulli):
        departure = replace(departure, wider=1.0)
    if not distribution.sd > 0 or (scale == "score" and departure.shape):
        return None
    return None if departure == Departure() else Moved(distribution, scale, departure)


def _there(scale: str, values: Floats) -> Floats:
    if scale == "linear":
        return np.asarray(values)
    logs = np.log(np.maximum(values, TINY))
    return np.asarray(logs - np.log(np.maximum(1 - values, TINY)) if scale == "logit" else logs)


def _back(scale: str, values: Floats) -> Floats:
    if scale == "linear":
        return values
    return np.asarray(1 / (1 + np.exp(-values)) if scale == "logit" else np.exp(values))


@dataclass(frozen=True)
class Moved(Distribution):
    """A distribution after a departure; it is made by ``moved``."""

    inner: Distribution
    scale: str
    departure: Departure

    label = "moved"

    def _quantile(self, u: Floats) -> Floats:
        by = self.departure
        if self.scale == "score":
            return self.inner._quantile(ndtr(by.wider * ndtri(u) + by.shift))
        low, middle, high = self._places
        if by.shape:  # a logistic, each side through its own percentile
            half = np.where(u < 0.5, middle - low, high - middle)
            gaps = np.log(u / (1 - u)) / np.log(9.0) * half
        else:
            gaps = _there(self.scale, self.inner._quantile(u)) - middle
        moved = middle + by.wider * gaps + by.shift * (high - low) / (2 * Z90)
        return _back(self.scale, moved)

    @cached_property
    def _places(self) -> tuple[float, float, float]:
        low, middle, high = _there(self.scale, self.inner._quantile(np.array([0.1, 0.5, 0.9])))
        return float(low), float(middle), float(high)

    @cached_property
    def _table(self) -> Floats:
        return self._quantile(LEVELS)

    @property
    def discrete(self) -> bool:
        return self.inner.discrete

    @property
    def mean(self) -> float:
        return float(self._table.mean())

    @property
    def variance(self) -> float:
        return float(self._table.var())

    @property
    def skewness(self) -> float:
        return float((((self._table - self.mean) / self.sd) ** 3).mean())

    @property
    def support(self) -> tuple[float, float]:
        low, high = self._quantile(np.array([1e-15, 1 - 1e-15])).tolist()
        return low, high

    def _cdf(self, x: Floats) -> Floats:
        return np.asarray(np.interp(x, self._table, LEVELS, left=0.0, right=1.0))

    def _density(self, x: Floats) -> Floats:
        slopes = np.gradient(LEVELS, self._table)
        return np.asarray(slopes[np.searchsorted(self._table, x).clip(0, len(LEVELS) - 1)])
