"""A distribution without a family, through given percentiles."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.families import MomentDistribution
from kindynos.distributions.inverse import central_moments
from kindynos.distributions.percentiles import increasing_percentiles
from kindynos.distributions.special import expit, logit, ndtr, ndtri
from kindynos.validate import checked, finite, invalid_argument

ROUNDING = 1e-15  # of a normal score and of a free value


@dataclass(frozen=True, repr=False)
class SmoothPercentiles(MomentDistribution):
    """A smooth distribution through any increasing percentiles, between ``low`` and ``high`` where
    these are given.

    A monotone cubic through the percentiles against the normal score, of the value, or of its
    logarithm or logit where there are ends; beyond the outermost percentiles a straight line.
    Source: Fritsch and Carlson, SIAM Journal on Numerical Analysis 17 (1980), 238-246, for the
    cubic.

    >>> SmoothPercentiles({5: 1, 25: 2, 50: 3, 75: 5, 95: 9}).percentile(75)
    5.0
    """

    percentiles: Sequence[tuple[float, float]] | Mapping[float, float]
    low: float | None = None
    high: float | None = None

    label = "smooth percentiles"
    formula = "the quantile is a monotone cubic of the normal score through the percentiles"
    use = "an opinion or a report that gives percentiles and no family"

    def __post_init__(self) -> None:
        pairs = increasing_percentiles(self.percentiles)
        object.__setattr__(self, "percentiles", pairs)
        for name in ("low", "high"):
            if getattr(self, name) is not None:
                object.__setattr__(self, name, finite(name, getattr(self, name)))
        if self.low is not None and self.low >= pairs[0][1]:
            raise invalid_argument(
                "low", f"below the lowest percentile's value ({pairs[0][1]:g})", self.low
            )
        if self.high is not None and self.high <= pairs[-1][1]:
            raise invalid_argument(
                "high", f"above the highest percentile's value ({pairs[-1][1]:g})", self.high
            )

    @property
    def support(self) -> tuple[float, float]:
        return (-math.inf if self.low is None else self.low), (
            math.inf if self.high is None else self.high
        )

    def _free(self, x: Floats) -> Floats:
        """Return a value on the whole line: as it is, or its logarithm or logit between the
        ends.
        """
        low, high = self.support
        if self.low is not None and self.high is not None:
            return logit((x - low) / (high - low))
        if self.low is not None:
            return np.log(x - low)
        return -np.log(high - x) if self.high is not None else x

    def _bound(self, y: Floats) -> Floats:
        low, high = self.support
        if self.low is not None and self.high is not None:
            return low + (high - low) * expit(y)
        if self.low is not None:
            return low + np.exp(y)
        return high - np.exp(-y) if self.high is not None else y

    def _stretch(self, x: Floats) -> Floats:
        """The slope of ``_free``."""
        low, high = self.support
        if self.low is not None and self.high is not None:
            return (high - low) / ((x - low) * (high - x))
        if self.low is not None:
            return 1 / (x - low)
        return 1 / (high - x) if self.high is not None else np.ones_like(x)

    @cached_property
    def _curve(self) -> tuple[Floats, Floats, Any, Any, float, float]:
        """The normal scores, the free values there, the cubic between them with its slope, and the
        slopes beyond.
        """
        from scipy.interpolate import PchipInterpolator

        pairs = np.array(self.percentiles, dtype=np.float64)
        z, y = ndtri(pairs[:, 0] / 100), self._free(pairs[:, 1])
        first, last = (y[1] - y[0]) / (z[1] - z[0]), (y[-1] - y[-2]) / (z[-1] - z[-2])
        cubic = PchipInterpolator(z, y)
        return z, y, cubic, cubic.derivative(), float(first), float(last)

    def _value(self, score: Floats) -> Floats:
        z, _, cubic, _, first, last = self._curve
        inside = cubic(np.clip(score, z[0], z[-1]))
        return self._bound(
            inside + first * np.minimum(score - z[0], 0) + last * np.maximum(score - z[-1], 0)
        )

    def _score(self, x: Floats) -> Floats:
        """The normal score of each value: the cubic's inverse, by halving and Newton's steps."""
        z, y, cubic, slope, first, last = self._curve
        free = self._free(x)
        inside = np.clip(free, y[0], y[-1])
        segment = np.clip(np.searchsorted(y, inside, side="right") - 1, 0, len(z) - 2)
        low, high = z[segment], z[segment + 1]
        score, beyond = 0.5 * (low + high), (free <= y[0]) | (free >= y[-1])
        for _ in range(80):
            gap, rise = cubic(score) - inside, slope(score)
            low, high = np.where(gap < 0, score, low), np.where(gap < 0, high, score)
            with np.errstate(divide="ignore", invalid="ignore"):
                newton = score - gap / rise
                rounding = ROUNDING * (1 + np.abs(score) + np.abs(inside) / rise)
            values = np.where((newton > low) & (newton < high), newton, 0.5 * (low + high))
            if (beyond | (np.abs(values - score) <= rounding)).all():
                break
            score = values
        score = np.where(free <= y[0], z[0], np.where(free >= y[-1], z[-1], score))
        further: Floats = np.minimum(free - y[0], 0) / first + np.maximum(free - y[-1], 0) / last
        return score + further

    def _inside(self, x: Floats) -> tuple[Any, Floats]:
        low, high = self.support
        inside = (x > low) & (x < high)
        return inside, np.where(inside, x, self._value(np.zeros(1))[0])

    def _density(self, x: Floats) -> Floats:
        z, _, _, rise, first, last = self._curve
        inside, safe = self._inside(x)
        score = self._score(safe)
        slope = np.where(
            score < z[0], first, np.where(score > z[-1], last, rise(np.clip(score, z[0], z[-1])))
        )
        density = np.exp(-(score**2) / 2) / math.sqrt(2 * math.pi) * self._stretch(safe) / slope
        return np.where(inside, density, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        inside, safe = self._inside(x)
        return np.where(
            inside, ndtr(self._score(safe)), np.where(x >= self.support[1], 1.0, x * 0.0)
        )

    def _survival(self, x: Floats) -> Floats:
        inside, safe = self._inside(x)
        return np.where(
            inside, ndtr(-self._score(safe)), np.where(x >= self.support[1], x * 0.0, 1.0)
        )

    def _quantile(self, u: Floats) -> Floats:
        return self._value(ndtri(u))

    def _upper_quantile(self, v: Floats) -> Floats:
        return self._value(-ndtri(v))

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        return central_moments(
            self._quantile, self._upper_quantile, float(self._quantile(np.array([0.5]))[0])
        )


@checked
def smooth_percentiles(
    percentiles: Mapping[float, float], low: float | None = None, high: float | None = None
) -> SmoothPercentiles:
    """Return a distribution without a family through any increasing percentiles, between ``low``
    and ``high`` where given.

    Raises ParameterError for percentiles outside 0 to 100 or values that do not increase. See
    SmoothPercentiles.

    >>> smooth_percentiles({10: 4, 50: 6, 90: 12}, low=0).percentile(90)
    12.0
    """
    return SmoothPercentiles(percentiles, low, high)
