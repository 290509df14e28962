"""Transforms of another distribution: values beyond an end moved to it. Shifting, scaling and
truncating are in ``base``.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution, a_distribution, check_ends
from kindynos.distributions.families import MomentDistribution
from kindynos.distributions.inverse import atom_moments, central, moments, without_heavy_tail


@dataclass(frozen=True, repr=False)
class Clipped(MomentDistribution):
    """Another distribution whose values beyond ``low`` and ``high`` are moved to these ends, where
    they carry mass; written ``X.clip(low, high)``.

    Source: Tobin, Econometrica 26 (1958), 24-36 (censored values); moments by quadrature.

    >>> from kindynos import Normal
    >>> Clipped(Normal(0, 1), low=0).chance(at=0)
    0.5
    """

    inner: Distribution
    low: float | None = None
    high: float | None = None

    rules = {"inner": a_distribution}
    label = "clipped"
    formula = "min(max(y, low), high), with y from inner"
    use = "a figure with a floor or a cap: sales up to capacity, a guaranteed price"

    def __post_init__(self) -> None:
        super().__post_init__()
        check_ends(self)

    @property
    def discrete(self) -> bool:
        return self.inner.discrete

    @property
    def has_atoms(self) -> bool:
        return True

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, masses = self.inner._atoms
        return np.clip(values, *self.support), masses

    @property
    def support(self) -> tuple[float, float]:
        low, high = self.inner.support
        low, high = (value if self.low is None else max(value, self.low) for value in (low, high))
        low, high = (value if self.high is None else min(value, self.high) for value in (low, high))
        return low, high

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        low, high = self.support
        below = self.inner.cdf(low) if self.low is not None else 0.0
        above = self.inner.chance(above=high) if self.high is not None else 0.0
        if self.discrete:
            return atom_moments(*self._atoms)
        centre = float(self._quantile(np.array([0.5]))[0])
        lower, upper = (
            (lambda u: self.inner._quantile(u) - centre),
            (lambda v: self.inner._upper_quantile(v) - centre),
        )
        inner = moments(lower, upper, below, 1 - above) if below + above < 1 else (0.0, 0.0, 0.0)
        ends = [
            (end - centre if math.isfinite(end) else 0.0, mass)
            for end, mass in ((low, below), (high, above))
        ]
        first, variance, skewness = central(
            *(inner[k - 1] + sum(mass * end**k for end, mass in ends) for k in (1, 2, 3))
        )
        if math.isfinite(low) and math.isfinite(high):
            return centre + first, variance, skewness
        whole = self.inner.mean, self.inner.variance, self.inner.skewness
        return without_heavy_tail(
            whole, (centre + first, variance, skewness), math.isinf(high) - math.isinf(low)
        )

    def _mass(self, x: float) -> float:
        low, high = self.support
        if x == low and self.low is not None:
            return self.inner.cdf(low) if low < high else 1.0
        if x == high and self.high is not None:
            return self.inner.chance(above=high) + self.inner._mass(high)
        return self.inner._mass(x) if low < x < high else 0.0

    def _density(self, x: Floats) -> Floats:
        if self.discrete:
            return np.array([self._mass(float(value)) for value in x.reshape(-1)]).reshape(x.shape)
        low, high = self.support
        return np.where((x > low) & (x < high), self.inner._density(x), x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        low, high = self.support
        return np.where(x < low, x * 0.0, np.where(x >= high, 1.0, self.inner._cdf(x)))

    def _quantile(self, u: Floats) -> Floats:
        return np.clip(self.inner._quantile(u), *self.support)

    def _upper_quantile(self, v: Floats) -> Floats:
        return np.clip(self.inner._upper_quantile(v), *self.support)


def clipped(inner: Distribution, low: float | None = None, high: float | None = None) -> Clipped:
    """Return the distribution with its values beyond ``low`` and ``high`` moved to these ends:
    ``inner.clip``.
    """
    return Clipped(inner, low, high)
