"""The normal and the lognormal distribution."""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.percentiles import above_zero, by_location_and_scale
from kindynos.distributions.special import ndtr, ndtri
from kindynos.validate import checked, finite, positive

ROOT_TWO_PI = math.sqrt(2 * math.pi)


class NormalBased(Distribution):
    """A distribution of what a standard normal figure becomes by a rising function."""

    @abstractmethod
    def _from_normal(self, z: Floats) -> Floats:
        """Return the values, as a new array, at standard normal scores."""

    def _quantile(self, u: Floats) -> Floats:
        return self._from_normal(normal_quantile(u))


@dataclass(frozen=True, repr=False)
class Normal(NormalBased):
    """The normal distribution, with its mean and standard deviation; from minus to plus infinity.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    13.

    >>> Normal(100, 15).percentile(50)
    100.0
    """

    mean: float
    sd: float

    label = "normal"
    by_trial = True
    formula = "f(x) = exp(-z^2 / 2) / (sd sqrt(2 pi)), with z = (x - mean) / sd"
    use = "a sum of many small influences; errors of measurement; can go negative"
    percentile_recipe = by_location_and_scale()

    rules = {"mean": finite, "sd": positive}

    @property
    def variance(self) -> float:
        return self.sd**2

    @property
    def skewness(self) -> float:
        return 0.0

    @property
    def support(self) -> tuple[float, float]:
        return -math.inf, math.inf

    def _density(self, x: Floats) -> Floats:
        return np.exp(-0.5 * ((x - self.mean) / self.sd) ** 2) / (self.sd * ROOT_TWO_PI)

    def _cdf(self, x: Floats) -> Floats:
        return ndtr((x - self.mean) / self.sd)

    def _survival(self, x: Floats) -> Floats:
        return ndtr((self.mean - x) / self.sd)

    def _from_normal(self, z: Floats) -> Floats:
        values = z * self.sd
        values += self.mean
        return values

    def _upper_quantile(self, v: Floats) -> Floats:
        return self.mean - self.sd * ndtri(v)


@dataclass(frozen=True, repr=False)
class LogNormal(NormalBased):
    """The lognormal distribution, with the mean and sd of the quantity itself (``from_log`` takes
    those of its logarithm); above 0.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    14.

    >>> LogNormal(mean=20, sd=5).mean
    20.0
    """

    mean: float
    sd: float

    label = "lognormal"
    formula = "ln x is normal with variance s^2 = ln(1 + (sd / mean)^2) and mean ln(mean) - s^2 / 2"
    use = "a positive figure made of many factors: prices, sizes, volumes; skewed to the right"
    percentile_recipe = above_zero(lambda family, t: family.from_log(t[0], math.exp(t[1])))

    rules = {"mean": positive, "sd": positive}

    @classmethod
    @checked
    def from_log(cls, mu: float, sigma: float) -> LogNormal:
        """Return the distribution whose logarithm is normal with mean ``mu`` and standard deviation
        ``sigma``.

        >>> LogNormal.from_log(0, 0.5).percentile(50)
        1.0
        """
        mu, sigma = (finite("mu", mu), positive("sigma", sigma))
        mean = float(np.exp(np.minimum(mu + sigma**2 / 2, 709.7)))
        return cls(mean, mean * math.sqrt(math.expm1(min(sigma**2, 709.0))))

    @cached_property
    def sigma(self) -> float:
        """The standard deviation of the logarithm."""
        return math.sqrt(math.log1p((self.sd / self.mean) ** 2))

    @cached_property
    def mu(self) -> float:
        """The mean of the logarithm."""
        return math.log(self.mean) - self.sigma**2 / 2

    @property
    def variance(self) -> float:
        return self.sd**2

    @property
    def skewness(self) -> float:
        ratio = self.sd / self.mean
        return ratio**3 + 3 * ratio

    @property
    def support(self) -> tuple[float, float]:
        return 0.0, math.inf

    def _standard(self, x: Floats) -> Floats:
        return (np.log(np.maximum(x, 0)) - self.mu) / self.sigma

    def _density(self, x: Floats) -> Floats:
        positive_x = np.where(x > 0, x, np.inf)
        z = (np.log(positive_x) - self.mu) / self.sigma
        return np.where(x > 0, np.exp(-0.5 * z**2) / (positive_x * self.sigma * ROOT_TWO_PI), 0.0)

    def _cdf(self, x: Floats) -> Floats:
        return ndtr(self._standard(x))

    def _survival(self, x: Floats) -> Floats:
        return ndtr(-self._standard(x))

    def _from_normal(self, z: Floats) -> Floats:
        values = z * self.sigma
        values += self.mu
        return np.exp(values, out=values)

    def _upper_quantile(self, v: Floats) -> Floats:
        return np.exp(self.mu - self.sigma * ndtri(v))
