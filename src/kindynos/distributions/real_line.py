"""Distributions on the whole line, with a location and a scale: Student's t, logistic, Laplace,
Cauchy, skew normal, Johnson SU.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.families import Standardized, Tabled
from kindynos.distributions.inverse import invert
from kindynos.distributions.percentiles import (
    Recipe,
    by_location_and_scale,
    by_location_scale_and_shape,
    centre_and_spread,
)
from kindynos.distributions.special import (
    betainc,
    betaincinv,
    betaln,
    expit,
    laguerre,
    log_ndtr,
    logit,
    ndtr,
    ndtri,
    owens_t,
)
from kindynos.validate import above, checked, finite, positive


class _TShaped(Standardized, Tabled):
    """What both forms of Student's t share."""

    df: float

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        df = self.df
        variance = df / (df - 2) if df > 2 else (math.inf if df > 1 else math.nan)
        return (0.0 if df > 1 else math.nan), variance, (0.0 if df > 3 else math.nan)

    def _z_density(self, z: Floats) -> Floats:
        df = self.df
        return np.exp(-(df + 1) / 2 * np.log1p(z**2 / df) - betaln(df / 2, 0.5)) / math.sqrt(df)

    def _z_cdf(self, z: Floats) -> Floats:
        df = self.df
        tail = 0.5 * betainc(df / 2, 0.5, df / (df + z**2))
        middle = 0.5 * betainc(0.5, df / 2, z**2 / (df + z**2))
        near = z**2 < df
        return np.where(near, 0.5 + np.sign(z) * middle, np.where(z < 0, tail, 1 - tail))

    def _z_survival(self, z: Floats) -> Floats:
        return self._z_cdf(-z)

    def _z_quantile(self, u: Floats) -> Floats:
        df = self.df
        nearer = np.minimum(u, 1 - u)
        tail = betaincinv(df / 2, 0.5, 2 * nearer)
        middle = betaincinv(0.5, df / 2, np.abs(1 - 2 * u))
        with np.errstate(divide="ignore"):  # of less than one degree: beyond all floats
            far, near = df * (1 - tail) / tail, df * middle / (1 - middle)
        size = np.sqrt(np.where(nearer < 0.1, far, near))
        return np.sign(u - 0.5) * size

    def _from_below(self, u: Floats) -> Floats:
        return self._place[0] + self._place[1] * self._z_quantile(u)

    def _from_above(self, v: Floats) -> Floats:
        return self._place[0] - self._place[1] * self._z_quantile(v)

    def _quantile(self, u: Floats) -> Floats:
        return Tabled._quantile(self, u)

    def _upper_quantile(self, v: Floats) -> Floats:
        return self._from_above(v)


@dataclass(frozen=True, repr=False)
class StudentT(_TShaped):
    """Student's t with ``df`` degrees of freedom (above 2), its mean and its sd; ``from_location``
    takes location and scale.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    28.

    >>> StudentT(5, mean=0.01, sd=0.2).sd
    0.2
    """

    df: float
    mean: float
    sd: float

    rules = {"df": above(2), "mean": finite, "sd": positive}
    label = "student t"
    formula = (
        "f(x) is proportional to (1 + z^2 / df)^(-(df + 1) / 2), with z = (x - mean) sqrt(df "
        "/ (df - 2)) / sd"
    )
    use = "like the normal, with more weight far out: returns, model errors"
    percentile_recipe = Recipe(
        lambda family, t, x: family(2 + math.exp(t[2]), t[0], math.exp(t[1])),
        lambda u, x: [*centre_and_spread(u, x), 1.0],
        3,
    )

    @classmethod
    @checked
    def from_location(cls, df: float, location: float, scale: float) -> StudentTByScale:
        """Return the distribution by location and scale, for any ``df`` above 0.

        >>> StudentT.from_location(1.5, 0, 1).sd
        inf
        """
        return StudentTByScale(df, location, scale)

    @property
    def _place(self) -> tuple[float, float]:
        return self.mean, self.sd * math.sqrt((self.df - 2) / self.df)


@dataclass(frozen=True, repr=False)
class StudentTByScale(_TShaped):
    """Student's t by location and scale, for any degrees of freedom; the mean needs ``df`` above 1,
    the variance above 2.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    28.

    >>> StudentTByScale(3, 10, 2).percentile(50)
    10.0
    """

    df: float
    location: float
    scale: float

    rules = {"df": positive, "location": finite, "scale": positive}
    label = "student t by scale"
    formula = (
        "f(x) is proportional to (1 + z^2 / df)^(-(df + 1) / 2), with z = (x - location) / scale"
    )
    use = "Student's t with so few degrees of freedom that the sd does not exist"

    @property
    def _place(self) -> tuple[float, float]:
        return self.location, self.scale


@dataclass(frozen=True, repr=False)
class Logistic(Standardized):
    """The logistic distribution, with its mean and sd; tails between those of the normal and the
    Laplace distribution.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    23.

    >>> Logistic(10, 2).percentile(50)
    10.0
    """

    mean: float
    sd: float

    rules = {"mean": finite, "sd": positive}
    label = "logistic"
    by_trial = True
    formula = "F(x) = 1 / (1 + exp(-z)), with z = (x - mean) pi / (sd sqrt(3))"
    use = (
        "a symmetric figure with somewhat heavier tails than the normal: growth, shares in "
        "transition"
    )
    percentile_recipe = by_location_and_scale()

    @property
    def _place(self) -> tuple[float, float]:
        return self.mean, self.sd * math.sqrt(3) / math.pi

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        return 0.0, math.pi**2 / 3, 0.0

    def _z_density(self, z: Floats) -> Floats:
        return expit(z) * expit(-z)

    def _z_cdf(self, z: Floats) -> Floats:
        return expit(z)

    def _z_survival(self, z: Floats) -> Floats:
        return expit(-z)

    def _z_quantile(self, u: Floats) -> Floats:
        return logit(u)

    def _z_upper(self, v: Floats) -> Floats:
        return -logit(v)


@dataclass(frozen=True, repr=False)
class Laplace(Standardized):
    """The Laplace distribution, with its mean and sd: exponential on both sides.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    24.

    >>> Laplace(0, 2).chance(above=0)
    0.5
    """

    mean: float
    sd: float

    rules = {"mean": finite, "sd": positive}
    label = "laplace"
    by_trial = True
    formula = "f(x) = exp(-|x - mean| / b) / (2 b), with b = sd / sqrt(2)"
    use = "changes that are mostly small and sometimes large: daily price changes"
    percentile_recipe = by_location_and_scale()

    @property
    def _place(self) -> tuple[float, float]:
        return self.mean, self.sd / math.sqrt(2)

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        return 0.0, 2.0, 0.0

    def _z_density(self, z: Floats) -> Floats:
        return 0.5 * np.exp(-np.abs(z))

    def _z_cdf(self, z: Floats) -> Floats:
        half = 0.5 * np.exp(-np.abs(z))
        return np.where(z < 0, half, 1 - half)

    def _z_survival(self, z: Floats) -> Floats:
        return self._z_cdf(-z)

    def _z_quantile(self, u: Floats) -> Floats:
        return np.where(u < 0.5, np.log(2 * u), -np.log(2 * (1 - u)))

    def _z_upper(self, v: Floats) -> Floats:
        return -self._z_quantile(v)


@dataclass(frozen=True, repr=False)
class Cauchy(Standardized):
    """The Cauchy distribution: no mean and no sd exist, however many figures are averaged.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    16.

    >>> Cauchy(0, 1).mean
    nan
    """

    location: float
    scale: float

    rules = {"location": finite, "scale": positive}
    label = "cauchy"
    by_trial = True
    formula = "f(x) = 1 / (pi scale (1 + z^2)), with z = (x - location) / scale"
    use = "a ratio of two figures about zero; a warning example without a mean"
    percentile_recipe = by_location_and_scale()

    @property
    def _place(self) -> tuple[float, float]:
        return self.location, self.scale

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        return math.nan, math.nan, math.nan

    def _z_density(self, z: Floats) -> Floats:
        return 1 / (math.pi * (1 + z**2))

    def _z_cdf(self, z: Floats) -> Floats:
        return np.arctan2(1, -z) / math.pi

    def _z_survival(self, z: Floats) -> Floats:
        return np.arctan2(1, z) / math.pi

    def _z_quantile(self, u: Floats) -> Floats:
        return np.where(
            u < 0.25,
            -1 / np.tan(math.pi * u),
            np.where(u > 0.75, 1 / np.tan(math.pi * (1 - u)), np.tan(math.pi * (u - 0.5))),
        )

    def _z_upper(self, v: Floats) -> Floats:
        return -self._z_quantile(v)


THIN = 1e-6  # of a skew normal distribution, below which its thin tail is integrated


@dataclass(frozen=True, repr=False)
class SkewNormal(Standardized, Tabled):
    """The skew normal distribution: ``shape`` above 0 leans to the right, below 0 to the left, and
    0 is the normal distribution.

    Far out in the thin tail, where the closed form is a difference of nearly equal numbers, the
    density is integrated by Gauss-Laguerre quadrature, right to about 1e-9 of the tail. Source:
    Azzalini, Scandinavian Journal of Statistics 12 (1985), 171-178.

    >>> SkewNormal(0, 1, shape=4).skewness > 0.7
    True
    """

    location: float
    scale: float
    shape: float

    rules = {"location": finite, "scale": positive, "shape": finite}
    label = "skew normal"
    formula = "f(x) = 2 phi(z) Phi(shape z) / scale, with z = (x - location) / scale"
    use = "a normal figure that leans to one side"
    percentile_recipe = by_location_scale_and_shape(1.0)

    @property
    def _place(self) -> tuple[float, float]:
        return self.location, self.scale

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        mean = math.sqrt(2 / math.pi) * self.shape / math.sqrt(1 + self.shape**2)
        variance = 1 - mean**2
        return mean, variance, (4 - math.pi) / 2 * mean**3 / math.pow(variance, 1.5)

    def _z_density(self, z: Floats) -> Floats:
        return 2 * np.exp(-(z**2) / 2) / math.sqrt(2 * math.pi) * ndtr(self.shape * z)

    def _z_cdf(self, z: Floats) -> Floats:
        cdf = np.clip(ndtr(z) - 2 * owens_t(z, self.shape), 0, 1)
        return self._with_thin_tail(cdf, z, self.shape)

    def _z_survival(self, z: Floats) -> Floats:
        survival = np.clip(ndtr(-z) + 2 * owens_t(z, self.shape), 0, 1)
        return self._with_thin_tail(survival, -z, -self.shape)

    def _with_thin_tail(self, cdf: Floats, z: Floats, shape: float) -> Floats:
        """Return the cdf with its thin tail integrated: for z below 0 and a shape above 0 the
        density falls about as exp(-(1 + shape²) |z| s) at the distance s beyond z.
        """
        thin = (z < 0) & (cdf < THIN) if shape > 0 else np.zeros(np.shape(z), dtype=bool)
        if not np.any(thin):
            return cdf
        nodes, weights = laguerre(40)
        start = z[thin][..., None]
        rate = (1 + shape**2) * -start
        beyond = start - nodes / rate
        logs = nodes - beyond**2 / 2 + log_ndtr(shape * beyond)
        tail = (weights * np.exp(logs)).sum(axis=-1) * 2 / math.sqrt(2 * math.pi) / rate[..., 0]
        below = np.array(cdf, dtype=float)
        below[thin] = tail
        return below

    def _near(self, u: Floats, sign: float) -> Floats:
        """Return the quantiles of the normal with the same mean and variance."""
        mean, variance, _ = self._z_moments
        return sign * mean + math.sqrt(variance) * ndtri(u)

    def _z_quantile(self, u: Floats) -> Floats:
        ends = -40.0, 40.0
        return invert(self._z_cdf, self._z_density, u, ends, near=self._near(u, 1.0))

    def _z_upper(self, v: Floats) -> Floats:
        return -invert(
            lambda z: self._z_survival(-z),
            lambda z: self._z_density(-z),
            v,
            (-40.0, 40.0),
            near=self._near(v, -1.0),
        )

    def _from_below(self, u: Floats) -> Floats:
        return self.location + self.scale * self._z_quantile(u)

    def _from_above(self, v: Floats) -> Floats:
        return self.location + self.scale * self._z_upper(v)

    def _quantile(self, u: Floats) -> Floats:
        return Tabled._quantile(self, u)


@dataclass(frozen=True, repr=False)
class JohnsonSU(Standardized):
    """Johnson's unbounded distribution: a + b x arcsinh((x - location) / scale) is standard normal.

    Source: Johnson, Biometrika 36 (1949), 149-176.

    >>> JohnsonSU(a=0, b=1.5, location=3, scale=1).mean
    3.0
    """

    a: float
    b: float
    location: float
    scale: float

    rules = {"a": finite, "b": positive, "location": finite, "scale": positive}
    label = "johnson su"
    by_trial = True
    formula = "a + b arsinh((x - location) / scale) is standard normal"
    use = "a figure whose skewness and tails are both known from records"

    @property
    def _place(self) -> tuple[float, float]:
        return self.location, self.scale

    @property
    def _z_moments(self) -> tuple[float, float, float]:
        if self.b**-2 > 150 or abs(self.a / self.b) > 100:  # beyond the largest float
            return -math.copysign(math.inf, self.a) if self.a else 0.0, math.inf, math.nan
        w, lean = math.exp(self.b**-2), self.a / self.b
        variance = (w - 1) * (w * math.cosh(2 * lean) + 1) / 2
        third = (
            -0.25
            * math.sqrt(w)
            * (w - 1) ** 2
            * (w * (w + 2) * math.sinh(3 * lean) + 3 * math.sinh(lean))
        )
        return -math.sqrt(w) * math.sinh(lean), variance, third / math.pow(variance, 1.5)

    def _z_density(self, z: Floats) -> Floats:
        y = self.a + self.b * np.arcsinh(z)
        return self.b * np.exp(-(y**2) / 2) / np.sqrt(2 * math.pi * (1 + z**2))

    def _z_cdf(self, z: Floats) -> Floats:
        return ndtr(self.a + self.b * np.arcsinh(z))

    def _z_survival(self, z: Floats) -> Floats:
        return ndtr(-self.a - self.b * np.arcsinh(z))

    def _z_quantile(self, u: Floats) -> Floats:
        return np.sinh((ndtri(u) - self.a) / self.b)

    def _z_upper(self, v: Floats) -> Floats:
        return np.sinh((-ndtri(v) - self.a) / self.b)
