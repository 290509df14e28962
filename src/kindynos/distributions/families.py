"""Forms that many distributions share: by their moments, by location and scale, or with quantiles
from a table.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions import table
from kindynos.distributions.base import Distribution
from kindynos.distributions.contract import OverridableProperty


class MomentDistribution(Distribution):
    """A distribution whose mean, variance and skewness are computed together."""

    @property
    @abstractmethod
    def _summary(self) -> tuple[float, float, float]:
        """Mean, variance and skewness."""

    @property
    def mean(self) -> float:
        return self._summary[0]

    @property
    def variance(self) -> float:
        return self._summary[1]

    @property
    def skewness(self) -> float:
        return self._summary[2]


class Standardized(Distribution):
    """A distribution whose shape is fixed, moved to a location and stretched by a scale; a subclass
    describes it on z = (x - l) / s.
    """

    @property
    @abstractmethod
    def _place(self) -> tuple[float, float]:
        """The location and the scale."""

    @property
    @abstractmethod
    def _z_moments(self) -> tuple[float, float, float]:
        """Mean, variance and skewness of z; NaN or infinite where they do not exist."""

    @property
    def _z_support(self) -> tuple[float, float]:
        return -math.inf, math.inf

    @abstractmethod
    def _z_density(self, z: Floats) -> Floats:
        """The density of z inside its support."""

    @abstractmethod
    def _z_cdf(self, z: Floats) -> Floats:
        """The cdf of z inside its support."""

    @abstractmethod
    def _z_quantile(self, u: Floats) -> Floats:
        """The quantile of z."""

    def _z_survival(self, z: Floats) -> Floats:
        return 1.0 - self._z_cdf(z)

    def _z_upper(self, v: Floats) -> Floats:
        return self._z_quantile(1.0 - v)

    if not TYPE_CHECKING:
        mean = OverridableProperty(
            lambda distribution: (
                distribution._place[0] + distribution._place[1] * distribution._z_moments[0]
            )
        )

    @property
    def variance(self) -> float:
        return self._place[1] ** 2 * self._z_moments[1]

    @property
    def skewness(self) -> float:
        return self._z_moments[2]

    @property
    def support(self) -> tuple[float, float]:
        location, scale = self._place
        low, high = self._z_support
        return location + scale * low, location + scale * high

    def _inside(
        self, compute: Callable[[Floats], Floats], x: Floats, below: float, above: float
    ) -> Floats:
        """Work out a function of z inside the support, with fixed values on either side of it."""
        location, scale = self._place
        z = (x - location) / scale
        low, high = self._z_support
        scores = compute(np.clip(z, low, high))
        if math.isfinite(low):
            scores = np.where(z < low, below, scores)
        return np.where(z > high, above, scores) if math.isfinite(high) else scores

    def _density(self, x: Floats) -> Floats:
        return self._inside(self._z_density, x, 0.0, 0.0) / self._place[1]

    def _cdf(self, x: Floats) -> Floats:
        return self._inside(self._z_cdf, x, 0.0, 1.0)

    def _survival(self, x: Floats) -> Floats:
        return self._inside(self._z_survival, x, 1.0, 0.0)

    def _quantile(self, u: Floats) -> Floats:
        location, scale = self._place
        return location + scale * self._z_quantile(u)

    def _upper_quantile(self, v: Floats) -> Floats:
        location, scale = self._place
        return location + scale * self._z_upper(v)


class Tabled(Distribution):
    """A distribution whose inverse is slow: quantiles of many values come from a table (see
    ``table``).
    """

    smooth = True

    @abstractmethod
    def _from_below(self, u: Floats) -> Floats:
        """The value whose cdf is ``u``, from the exact inverse."""

    @abstractmethod
    def _from_above(self, v: Floats) -> Floats:
        """The value whose survival function is ``v``, from the exact inverse."""

    def _quantile(self, u: Floats) -> Floats:
        return table.quantile(self, u)

    def _upper_quantile(self, v: Floats) -> Floats:
        return self._from_above(v)
