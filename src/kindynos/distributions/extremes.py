"""Distributions of extremes and of heavy tails: Pareto, Gumbel, generalized extreme values,
generalized Pareto.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.families import Standardized
from kindynos.distributions.inverse import central_moments
from kindynos.distributions.percentiles import (
    above_zero,
    by_location_and_scale,
    by_location_scale_and_shape,
)
from kindynos.distributions.positive import from_raw
from kindynos.validate import finite, positive

EULER = 0.57721566490153286
ZETA_3 = 1.2020569031595942


@dataclass(frozen=True, repr=False)
class Pareto(Standardized):
    """The Pareto distribution from ``low`` up: the chance of exceeding x is (low / x) to the power
    ``shape``.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    20.

    >>> Pareto(shape=2, low=100).mean
    200.0
    """

    shape: float
    low: float

    rules = {"shape": positive, "low": positive}
    label = "pareto"
    by_trial = True
    formula = "F(x) = 1 - (low / x)^shape"
    use = "large losses and fortunes above a threshold"
    percentile_recipe = above_zero(lambda family, t: family(math.exp(-t[1]), math.exp(t[0])))

    @property
    def _place(self) -> tuple[float, float]:
        return 0.0, self.low

    @property
    def _z_support(self) -> tuple[float, float]:
        return 1.0, math.inf

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        a = self.shape
        return from_raw(*(a / (a - k) if a > k else math.inf for k in (1, 2, 3)))

    def _z_density(self, z: Floats) -> Floats:
        return self.shape * z ** (-self.shape - 1)

    def _z_cdf(self, z: Floats) -> Floats:
        return -np.expm1(-self.shape * np.log(z))

    def _z_survival(self, z: Floats) -> Floats:
        return z**-self.shape

    def _z_quantile(self, u: Floats) -> Floats:
        return np.exp(-np.log1p(-u) / self.shape)

    def _z_upper(self, v: Floats) -> Floats:
        return v ** (-1 / self.shape)


@dataclass(frozen=True, repr=False)
class Gumbel(Standardized):
    """The Gumbel distribution of the largest of many figures with light tails.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    22.

    >>> round(Gumbel(location=0, scale=1).mean, 6)
    0.577216
    """

    location: float
    scale: float

    rules = {"location": finite, "scale": positive}
    label = "gumbel"
    by_trial = True
    formula = "F(x) = exp(-exp(-z)), with z = (x - location) / scale"
    use = "the highest of a year: water level, load, price"
    percentile_recipe = by_location_and_scale()

    @property
    def _place(self) -> tuple[float, float]:
        return self.location, self.scale

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        return EULER, math.pi**2 / 6, 12 * math.sqrt(6) * ZETA_3 / math.pi**3

    def _z_density(self, z: Floats) -> Floats:
        return np.exp(-z - np.exp(-z))

    def _z_cdf(self, z: Floats) -> Floats:
        return np.exp(-np.exp(-z))

    def _z_survival(self, z: Floats) -> Floats:
        return -np.expm1(-np.exp(-z))

    def _z_quantile(self, u: Floats) -> Floats:
        return -np.log(-np.log(u))

    def _z_upper(self, v: Floats) -> Floats:
        return -np.log(-np.log1p(-v))


class _Extreme(Standardized):
    """What the generalized extreme-value and Pareto distributions share; a shape above 0 means a
    heavy upper tail.
    """

    location: float
    scale: float
    shape: float

    @property
    def _place(self) -> tuple[float, float]:
        return self.location, self.scale

    def _stretch(self, y: Floats) -> Floats:
        """Return (exp(shape y) - 1) / shape, and y for a shape of 0."""
        return np.expm1(self.shape * y) / self.shape if self.shape else y

    def _shrink(self, z: Floats) -> Floats:
        """The inverse of ``_stretch``."""
        return np.log1p(self.shape * z) / self.shape if self.shape else z


@dataclass(frozen=True, repr=False)
class GeneralizedExtremeValue(_Extreme):
    """The distribution of the largest of many figures; shape 0 is Gumbel's, above 0 has a heavy
    tail, below 0 an upper end.

    Source: Jenkinson, Quarterly Journal of the Royal Meteorological Society 81 (1955), 158-171.

    >>> GeneralizedExtremeValue(0, 1, shape=-0.5).support
    (-inf, 2.0)
    """

    location: float
    scale: float
    shape: float

    rules = {"location": finite, "scale": positive, "shape": finite}
    label = "generalized extreme value"
    formula = "F(x) = exp(-(1 + shape z)^(-1 / shape)), with z = (x - location) / scale"
    use = "the largest loss or highest level of each year"
    percentile_recipe = by_location_scale_and_shape(0.1)

    @property
    def _z_support(self) -> tuple[float, float]:
        if self.shape == 0:
            return -math.inf, math.inf
        return (-1 / self.shape, math.inf) if self.shape > 0 else (-math.inf, -1 / self.shape)

    @cached_property
    def _z_moments(self) -> tuple[float, float, float]:
        shape = self.shape
        if abs(shape) < 1e-3:  # gamma functions cancel here; the first terms of the series serve
            return _series_of_extremes(shape)
        g1, g2, g3 = (math.gamma(1 - k * shape) if k * shape < 1 else math.inf for k in (1, 2, 3))
        first, variance, skewness = from_raw(g1, g2, g3)
        return (first - 1) / shape, variance / shape**2, math.copysign(1, shape) * skewness

    def _z_density(self, z: Floats) -> Floats:
        y = self._shrink(z)
        inside = np.exp(-(1 + self.shape) * y - np.exp(-y))
        return np.where(np.isnan(inside), 0.0, inside)

    def _z_cdf(self, z: Floats) -> Floats:
        return np.exp(-np.exp(-self._shrink(z)))

    def _z_survival(self, z: Floats) -> Floats:
        return -np.expm1(-np.exp(-self._shrink(z)))

    def _z_quantile(self, u: Floats) -> Floats:
        return self._stretch(-np.log(-np.log(u)))

    def _z_upper(self, v: Floats) -> Floats:
        return self._stretch(-np.log(-np.log1p(-v)))


def _series_of_extremes(shape: float) -> tuple[float, float, float]:
    """Return mean, variance and skewness of the standard distribution near shape 0, by quadrature
    of its quantiles.
    """
    distribution = GeneralizedExtremeValue(0.0, 1.0, shape)
    return central_moments(
        distribution._z_quantile,
        distribution._z_upper,
        float(distribution._z_quantile(np.array([0.5]))[0]),
    )


@dataclass(frozen=True, repr=False)
class GeneralizedPareto(_Extreme):
    """The distribution of what exceeds a high threshold (the location); shape 0 is exponential,
    above 0 heavy, below 0 has an end.

    Source: Pickands, Annals of Statistics 3 (1975), 119-131.

    >>> GeneralizedPareto(location=10, scale=2, shape=0).mean
    12.0
    """

    location: float
    scale: float
    shape: float

    rules = {"location": finite, "scale": positive, "shape": finite}
    label = "generalized pareto"
    formula = "F(x) = 1 - (1 + shape z)^(-1 / shape), with z = (x - location) / scale above 0"
    use = "losses beyond a threshold: how bad is bad"
    percentile_recipe = by_location_scale_and_shape(0.1)

    @property
    def _z_support(self) -> tuple[float, float]:
        return 0.0, (-1 / self.shape if self.shape < 0 else math.inf)

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        k = self.shape
        mean = 1 / (1 - k) if k < 1 else math.inf
        variance = (
            1 / ((1 - k) ** 2 * (1 - 2 * k)) if k < 0.5 else (math.inf if k < 1 else math.nan)
        )
        return (
            mean,
            variance,
            (2 * (1 + k) * math.sqrt(1 - 2 * k) / (1 - 3 * k) if k < 1 / 3 else math.nan),
        )

    def _z_density(self, z: Floats) -> Floats:
        inside = np.exp(-(1 + self.shape) * self._shrink(z))
        return np.where(np.isnan(inside), 0.0, inside)

    def _z_cdf(self, z: Floats) -> Floats:
        return -np.expm1(-self._shrink(z))

    def _z_survival(self, z: Floats) -> Floats:
        return np.exp(-self._shrink(z))

    def _z_quantile(self, u: Floats) -> Floats:
        return self._stretch(-np.log1p(-u))

    def _z_upper(self, v: Floats) -> Floats:
        return self._stretch(-np.log(v))
