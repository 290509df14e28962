"""Distributions of positive figures: gamma, exponential, Weibull, log-logistic, inverse
Gaussian.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.families import Standardized, Tabled
from kindynos.distributions.inverse import central_moments, invert
from kindynos.distributions.percentiles import Recipe, above_zero
from kindynos.distributions.special import (
    expit,
    gammainc,
    gammaincc,
    gammainccinv,
    gammaincinv,
    gammaln,
    log_ndtr,
    logit,
    ndtr,
    ndtri,
    xlogy,
)
from kindynos.validate import positive

LARGEST = 709.0  # the log of the largest float


def from_raw(first: float, second: float, third: float) -> tuple[float, float, float]:
    """Return mean, variance and skewness from raw moments that may be infinite or NaN."""
    variance = second - first**2 if math.isfinite(first) else math.nan
    if not math.isfinite(third) or not math.isfinite(variance):
        return first, variance, math.nan
    return first, variance, (third - 3 * first * second + 2 * first**3) / math.pow(variance, 1.5)


class _FromZero(Standardized):
    """A distribution from 0 up that has a scale and no location."""

    scale: float

    @property
    def _place(self) -> tuple[float, float]:
        return 0.0, self.scale

    @property
    def _z_support(self) -> tuple[float, float]:
        return 0.0, math.inf


@dataclass(frozen=True, repr=False)
class Gamma(_FromZero, Tabled):
    """The gamma distribution: mean shape x scale, variance shape x scale squared.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    17.

    >>> Gamma(shape=4, scale=2.5).mean
    10.0
    """

    shape: float
    scale: float

    rules = {"shape": positive, "scale": positive}
    label = "gamma"
    formula = "f(x) = x^(shape - 1) exp(-x / scale) / (Gamma(shape) scale^shape)"
    use = "a positive figure skewed to the right: waiting times, sizes of claims, rain"
    percentile_recipe = above_zero(
        lambda family, t: family(math.exp(-2 * t[1]), math.exp(t[0] + 2 * t[1]))
    )

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        return self.shape, self.shape, 2 / math.sqrt(self.shape)

    def _z_density(self, z: Floats) -> Floats:
        return np.exp(xlogy(self.shape - 1, z) - z - gammaln(self.shape))

    def _z_cdf(self, z: Floats) -> Floats:
        return gammainc(self.shape, z)

    def _z_survival(self, z: Floats) -> Floats:
        return gammaincc(self.shape, z)

    def _z_quantile(self, u: Floats) -> Floats:
        return gammaincinv(self.shape, u)

    def _from_below(self, u: Floats) -> Floats:
        return self.scale * gammaincinv(self.shape, u)

    def _from_above(self, v: Floats) -> Floats:
        return self.scale * gammainccinv(self.shape, v)

    def _quantile(self, u: Floats) -> Floats:
        # a table of tiny shapes may fall a hair below
        return np.maximum(Tabled._quantile(self, u), 0.0)

    def _upper_quantile(self, v: Floats) -> Floats:
        return self._from_above(v)


@dataclass(frozen=True, repr=False)
class Exponential(Standardized):
    """The exponential distribution, with its mean: a wait that does not know how long it has
    lasted.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    19.

    >>> round(Exponential(10).chance(above=10), 6)
    0.367879
    """

    mean: float

    rules = {"mean": positive}
    label = "exponential"
    by_trial = True
    formula = "f(x) = exp(-x / mean) / mean"
    use = "time until the next of events that come at a steady rate"
    percentile_recipe = Recipe(
        lambda family, t, x: family(math.exp(t[0])), lambda u, x: [math.log(x[-1])], 1, 0.0
    )

    @property
    def _place(self) -> tuple[float, float]:
        return 0.0, self.mean

    @property
    def _z_support(self) -> tuple[float, float]:
        return 0.0, math.inf

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        return 1.0, 1.0, 2.0

    def _z_density(self, z: Floats) -> Floats:
        return np.exp(-z)

    def _z_cdf(self, z: Floats) -> Floats:
        return -np.expm1(-z)

    def _z_survival(self, z: Floats) -> Floats:
        return np.exp(-z)

    def _z_quantile(self, u: Floats) -> Floats:
        return -np.log1p(-u)

    def _z_upper(self, v: Floats) -> Floats:
        return -np.log(v)


@dataclass(frozen=True, repr=False)
class Weibull(_FromZero):
    """The Weibull distribution: failures that come earlier (shape below 1) or later (above 1) than
    at a steady rate.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    21.

    >>> round(Weibull(shape=2, scale=10).mean, 4)
    8.8623
    """

    shape: float
    scale: float

    rules = {"shape": positive, "scale": positive}
    label = "weibull"
    by_trial = True
    formula = "F(x) = 1 - exp(-(x / scale)^shape)"
    use = "service lives, wind speeds, time until a part fails"
    percentile_recipe = above_zero(lambda family, t: family(math.exp(-t[1]), math.exp(t[0])))

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        # z is near 1, and so is every power of it: moments of shape x (z - 1) keep the digits
        if self.shape > 50:
            k = self.shape
            first, variance, skewness = central_moments(
                lambda u: k * np.expm1(np.log(-np.log1p(-u)) / k),
                lambda v: k * np.expm1(np.log(-np.log(v)) / k),
                0.0,
            )
            return 1 + first / k, variance / k**2, skewness
        first, second, third = (
            math.gamma(1 + k / self.shape) if k / self.shape < 170 else math.inf for k in (1, 2, 3)
        )
        return from_raw(first, second, third)

    def _z_density(self, z: Floats) -> Floats:
        return self.shape * np.exp(xlogy(self.shape - 1, z) - z**self.shape)

    def _z_cdf(self, z: Floats) -> Floats:
        return -np.expm1(-(z**self.shape))

    def _z_survival(self, z: Floats) -> Floats:
        return np.exp(-(z**self.shape))

    def _z_quantile(self, u: Floats) -> Floats:
        return (-np.log1p(-u)) ** (1 / self.shape)

    def _z_upper(self, v: Floats) -> Floats:
        return (-np.log(v)) ** (1 / self.shape)


@dataclass(frozen=True, repr=False)
class LogLogistic(_FromZero):
    """The log-logistic distribution: its logarithm is logistic. The mean needs a shape above 1, the
    variance above 2.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    23.

    >>> LogLogistic(scale=100, shape=3).percentile(50)
    100.0
    """

    scale: float
    shape: float

    rules = {"scale": positive, "shape": positive}
    label = "log logistic"
    by_trial = True
    formula = "F(x) = 1 / (1 + (x / scale)^(-shape))"
    use = (
        "a positive figure around a known median with a heavy upper tail: incomes, flood sizes, "
        "durations"
    )
    percentile_recipe = above_zero(lambda family, t: family(math.exp(t[0]), math.exp(-t[1])))

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        def raw(k: int) -> float:
            angle = k * math.pi / self.shape
            return angle / math.sin(angle) if k < self.shape else math.inf

        return from_raw(raw(1), raw(2), raw(3))

    def _z_density(self, z: Floats) -> Floats:
        y = self.shape * np.log(z)
        inside = self.shape * expit(y) * expit(-y) / z
        return np.where(
            z > 0, inside, 0.0 if self.shape > 1 else (1.0 if self.shape == 1 else math.inf)
        )

    def _z_cdf(self, z: Floats) -> Floats:
        return expit(self.shape * np.log(z))

    def _z_survival(self, z: Floats) -> Floats:
        return expit(-self.shape * np.log(z))

    def _z_quantile(self, u: Floats) -> Floats:
        return np.exp(logit(u) / self.shape)

    def _z_upper(self, v: Floats) -> Floats:
        return np.exp(-logit(v) / self.shape)


@dataclass(frozen=True, repr=False)
class InverseGaussian(Tabled):
    """The inverse Gaussian distribution, with its mean and a shape: variance mean cubed / shape.
    First passage of a drifting price.

    In the upper tail the cdf is a difference; its error is 1e-16 of 1. Source: Folks and Chhikara,
    Journal of the Royal Statistical Society B 40 (1978), 263-289.

    >>> InverseGaussian(mean=2, shape=8).variance
    1.0
    """

    mean: float
    shape: float

    rules = {"mean": positive, "shape": positive}
    label = "inverse gaussian"
    formula = "f(x) = sqrt(shape / (2 pi x^3)) exp(-shape (x - mean)^2 / (2 mean^2 x))"
    use = (
        "time until a drifting figure first reaches a level; positive figures with a heavy "
        "upper tail"
    )
    percentile_recipe = above_zero(
        lambda family, t: family(math.exp(t[0]), math.exp(t[0] - 2 * t[1]))
    )

    @property
    def variance(self) -> float:
        return self.mean**3 / self.shape

    @property
    def skewness(self) -> float:
        return 3 * math.sqrt(self.mean / self.shape)

    @property
    def support(self) -> tuple[float, float]:
        return 0.0, math.inf

    def _sides(self, x: Floats) -> tuple[Floats, Floats]:
        root = np.sqrt(self.shape / x)
        ratio = x / self.mean
        return root * (ratio - 1), np.exp(
            2 * self.shape / self.mean + log_ndtr(-root * (ratio + 1))
        )

    def _density(self, x: Floats) -> Floats:
        positive_x = np.where(x > 0, x, 1.0)
        gap = (positive_x - self.mean) ** 2 / (self.mean**2 * positive_x)
        return np.where(
            x > 0,
            np.sqrt(self.shape / (2 * math.pi * positive_x**3)) * np.exp(-self.shape * gap / 2),
            0.0,
        )

    def _cdf(self, x: Floats) -> Floats:
        near, far = self._sides(np.where(x > 0, x, 1.0))
        return np.where(x > 0, np.clip(ndtr(near) + far, 0, 1), x * 0.0)

    def _survival(self, x: Floats) -> Floats:
        near, far = self._sides(np.where(x > 0, x, 1.0))
        return np.where(x > 0, np.clip(ndtr(-near) - far, 0, 1), 1.0)

    def _log_solve(self, curve: bool, u: Floats) -> Floats:
        """Invert in log x, so that small values keep their digits; ``curve`` says whether from
        below.
        """
        sign = 1.0 if curve else -1.0
        side = self._cdf if curve else self._survival

        def density(y: Floats) -> Floats:
            x = np.exp(sign * y)
            return self._density(x) * x

        centre = sign * math.log(self.mean)
        width = 50 * (1 + math.sqrt(self.mean / self.shape))
        # that of the lognormal with the same mean and variance
        variance = math.log1p(self.mean / self.shape)
        near = centre - sign * variance / 2 + math.sqrt(variance) * ndtri(u)
        bracket = max(centre - width, -LARGEST), min(centre + width, LARGEST)
        return np.exp(
            sign * invert(lambda y: side(np.exp(sign * y)), density, u, bracket, near=near)
        )

    def _from_below(self, u: Floats) -> Floats:
        return self._log_solve(True, u)

    def _from_above(self, v: Floats) -> Floats:
        return self._log_solve(False, v)
