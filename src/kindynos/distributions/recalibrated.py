"""An opinion corrected by the track record of whoever gave it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution, a_distribution
from kindynos.distributions.families import MomentDistribution
from kindynos.distributions.inverse import central_moments
from kindynos.distributions.special import ndtri
from kindynos.errors import ParameterError
from kindynos.validate import finite, positive

OUTER = 0.1, 0.9  # levels whose distance from the median is the reach of a side


@dataclass(frozen=True, repr=False)
class Recalibrated(MomentDistribution):
    """Another distribution with its range widened about the median and moved: written
    ``X.recalibrated(record)``.

    The score of a value is its distance from the median in units of the reach of its side, which is
    the distance of the 10th or the 90th percentile over 1.2816. The score s becomes
    ``bias + widening s``, on the side on which that lies. Ends of the inner distribution move too.

    Source: the two-piece scale of Wallis, Statistical Science 29 (2014), 106-112.

    >>> from kindynos import Normal
    >>> Recalibrated(Normal(10, 1), bias=0.5, widening=2.0).sd
    2.0
    """

    inner: Distribution
    bias: float
    widening: float

    rules = {"inner": a_distribution, "bias": finite, "widening": positive}
    label = "recalibrated"
    formula = "median + reach (bias + widening s), with s = (y - median) / reach and y from inner"
    use = "the opinion of someone whose past ranges were too narrow, or too low"

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.inner.discrete or not min(self._reaches) > 0:
            raise ParameterError(
                f"{self.inner!r:.60} has no range about its median that could be widened"
            )

    @cached_property
    def _middle(self) -> float:
        return float(self.inner.quantile(0.5))

    @cached_property
    def _reaches(self) -> tuple[float, float]:
        """The reach of the lower and of the upper side."""
        low, high = self.inner.quantile(np.array(OUTER))
        unit = float(ndtri(OUTER[1]))
        return (self._middle - float(low)) / unit, (float(high) - self._middle) / unit

    def _reach(self, score: Floats) -> Floats:
        return np.where(score < 0, *self._reaches)

    def _there(self, x: Floats) -> Floats:
        """Return the value of this distribution for one of the inner one."""
        gap = x - self._middle
        score = self.bias + self.widening * gap / self._reach(gap)
        return np.asarray(self._middle + score * self._reach(score))

    def _back(self, x: Floats) -> Floats:
        """Return the value of the inner distribution for one of this."""
        gap = x - self._middle
        score = (gap / self._reach(gap) - self.bias) / self.widening
        return np.asarray(self._middle + score * self._reach(score))

    @property
    def has_atoms(self) -> bool:
        return self.inner.has_atoms

    @property
    def support(self) -> tuple[float, float]:
        low, high = self._there(np.array(self.inner.support))
        return float(low), float(high)

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        return central_moments(self._quantile, self._upper_quantile, self._middle)

    def _mass(self, x: float) -> float:
        return self.inner._mass(float(self._back(np.array(x))))

    def _density(self, x: Floats) -> Floats:
        inner = self._back(x)
        own, other = self._reach(x - self._middle), self._reach(inner - self._middle)
        return np.asarray(self.inner._density(inner) * other / (own * self.widening))

    def _cdf(self, x: Floats) -> Floats:
        return self.inner._cdf(self._back(x))

    def _survival(self, x: Floats) -> Floats:
        return self.inner._survival(self._back(x))

    def _quantile(self, u: Floats) -> Floats:
        return self._there(self.inner._quantile(u))

    def _upper_quantile(self, v: Floats) -> Floats:
        return self._there(self.inner._upper_quantile(v))
