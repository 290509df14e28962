"""Laws built from another: moved and stretched, truncated, clipped."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.distributions.base import Distribution, Floats
from kindynos.distributions.forms import ByMoments
from kindynos.distributions.inverse import central, moments
from kindynos.errors import ParameterError
from kindynos.validate import finite, wrong


def a_law(owner: str, name: str, value: Any) -> Distribution:
    """A rule: the value must be a distribution."""
    if not isinstance(value, Distribution):
        raise wrong(owner, name, "a distribution such as Normal(10, 2)", value)
    return value


def _check_ends(law: Truncated | Clipped) -> None:
    """Store the ends that are given as floats; ``low`` must be below ``high``."""
    owner = type(law).__name__
    for name in ("low", "high"):
        if getattr(law, name) is not None:
            object.__setattr__(law, name, finite(owner, name, getattr(law, name)))
    if law.low is not None and law.high is not None and not law.low < law.high:
        raise wrong(owner, "low", f"below high ({law.high!r})", law.low)


def moments_of_atoms(values: Floats, masses: Floats) -> tuple[float, float, float]:
    """Return mean, variance and skewness of a law on single values."""
    mean = float(masses @ values)
    gaps = values - mean
    _, variance, skewness = central(0.0, float(masses @ gaps**2), float(masses @ gaps**3))
    return mean, variance, skewness


@dataclass(frozen=True, repr=False)
class Affine(Distribution):
    """Another law times ``factor`` plus ``shift``; written ``2 * X + 3``.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter 12.

    >>> from kindynos import Normal
    >>> (2 * Normal(10, 1) + 3).mean
    23.0
    """

    law: Distribution
    factor: float
    shift: float = 0.0

    rules = {"law": a_law, "factor": finite, "shift": finite}
    label = "affine"
    use = "another law in other units, or moved by a fixed amount"

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.factor == 0:
            raise wrong("Affine", "factor", "other than 0", self.factor)

    @property
    def discrete(self) -> bool:
        return self.law.discrete

    @property
    def has_atoms(self) -> bool:
        return self.law.has_atoms

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, masses = self.law._atoms
        return self.factor * values + self.shift, masses

    @property
    def mean(self) -> float:
        return self.factor * self.law.mean + self.shift

    @property
    def variance(self) -> float:
        return self.factor**2 * self.law.variance

    @property
    def skewness(self) -> float:
        return math.copysign(1, self.factor) * self.law.skewness

    @property
    def support(self) -> tuple[float, float]:
        ends = sorted(self.factor * end + self.shift for end in self.law.support)
        return ends[0], ends[1]

    def _back(self, x: Floats) -> Floats:
        return (x - self.shift) / self.factor

    def _density(self, x: Floats) -> Floats:
        inside = self.law._density(self._back(x))
        return inside if self.discrete else inside / abs(self.factor)

    def _mass(self, x: float) -> float:
        return self.law._mass((x - self.shift) / self.factor)

    def _cdf(self, x: Floats) -> Floats:
        if self.factor > 0:
            return self.law._cdf(self._back(x))
        at = np.array([self._mass(float(value)) for value in x.reshape(-1)]).reshape(x.shape) if self.has_atoms else 0.0
        return np.minimum(self.law._survival(self._back(x)) + at, 1.0)

    def _survival(self, x: Floats) -> Floats:
        return self.law._survival(self._back(x)) if self.factor > 0 else 1.0 - self._cdf(x)

    def _quantile(self, u: Floats) -> Floats:
        inner = self.law._quantile(u) if self.factor > 0 else self.law._upper_quantile(u)
        return self.factor * inner + self.shift

    def _upper_quantile(self, v: Floats) -> Floats:
        inner = self.law._upper_quantile(v) if self.factor > 0 else self.law._quantile(v)
        return self.factor * inner + self.shift


@dataclass(frozen=True, repr=False)
class Truncated(ByMoments):
    """Another law, given that it lies between ``low`` and ``high``; written ``X.truncate(low, high)``.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter 12; moments by quadrature.

    >>> from kindynos import Normal
    >>> Normal(0, 1).truncate(0, None).chance(below=0)
    0.0
    """

    law: Distribution
    low: float | None = None
    high: float | None = None

    rules = {"law": a_law}
    label = "truncated"
    use = "a law whose impossible part is cut off: a price that cannot be negative"

    def __post_init__(self) -> None:
        super().__post_init__()
        _check_ends(self)
        if not self._inside > 0:
            raise ParameterError(f"Truncated: {self.law!r} has nothing between {self.low!r} and {self.high!r}")

    @property
    def discrete(self) -> bool:
        return self.law.discrete

    @property
    def has_atoms(self) -> bool:
        return self.law.has_atoms

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, masses = self.law._atoms
        kept = self._within(values)
        return values[kept], masses[kept] / masses[kept].sum()

    @cached_property
    def _upper_side(self) -> bool:
        """Whether the part kept lies in the law's upper half, where the survival function keeps the digits."""
        return self.low is not None and self.law.cdf(self.low) > 0.5

    @cached_property
    def _ends(self) -> tuple[float, float]:
        """The cdf just below ``low`` and at ``high``; on the upper side the survival functions there."""
        law = self.law
        if self._upper_side:
            assert self.low is not None
            first = law.chance(above=self.low) + law._mass(self.low)
            return first, (0.0 if self.high is None else law.chance(above=self.high))
        first = 0.0 if self.low is None else law.cdf(self.low) - law._mass(self.low)
        return first, (1.0 if self.high is None else law.cdf(self.high))

    @cached_property
    def _inside(self) -> float:
        first, last = self._ends
        return abs(last - first)

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        if self.discrete:
            return moments_of_atoms(*self._atoms)
        return central(*moments(self._quantile, self._upper_quantile))

    @property
    def support(self) -> tuple[float, float]:
        low, high = self.law.support
        return (low if self.low is None else max(low, self.low)), (high if self.high is None else min(high, self.high))

    def _within(self, x: Floats) -> Any:
        low, high = self.support
        return (x >= low) & (x <= high)

    def _density(self, x: Floats) -> Floats:
        return np.where(self._within(x), self.law._density(x) / self._inside, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        first, _ = self._ends
        inside = (first - self.law._survival(x)) if self._upper_side else (self.law._cdf(x) - first)
        return np.clip(inside / self._inside, 0, 1)

    def _quantile(self, u: Floats) -> Floats:
        first, _ = self._ends
        inner = (
            self.law._upper_quantile(first - u * self._inside)
            if self._upper_side
            else self.law._quantile(first + u * self._inside)
        )
        return np.clip(inner, *self.support)

    def _upper_quantile(self, v: Floats) -> Floats:
        if self._upper_side:
            return np.clip(self.law._upper_quantile(self._ends[1] + v * self._inside), *self.support)
        if self.high is None:
            return np.clip(self.law._upper_quantile(v * self._inside), *self.support)
        return self._quantile(1.0 - v)


@dataclass(frozen=True, repr=False)
class Clipped(ByMoments):
    """Another law whose values beyond ``low`` and ``high`` are moved to these ends, where they carry mass.

    Source: Tobin, Econometrica 26 (1958), 24-36 (censored values); moments by quadrature.

    >>> from kindynos import Normal
    >>> Clipped(Normal(0, 1), low=0).chance(at=0)
    0.5
    """

    law: Distribution
    low: float | None = None
    high: float | None = None

    rules = {"law": a_law}
    label = "clipped"
    use = "a figure with a floor or a cap: sales up to capacity, a guaranteed price"

    def __post_init__(self) -> None:
        super().__post_init__()
        _check_ends(self)

    @property
    def discrete(self) -> bool:
        return self.law.discrete

    @property
    def has_atoms(self) -> bool:
        return True

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, masses = self.law._atoms
        return np.clip(values, *self.support), masses

    @property
    def support(self) -> tuple[float, float]:
        low, high = self.law.support
        low, high = (value if self.low is None else max(value, self.low) for value in (low, high))
        low, high = (value if self.high is None else min(value, self.high) for value in (low, high))
        return low, high

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        low, high = self.support
        below = self.law.cdf(low) if self.low is not None else 0.0
        above = self.law.chance(above=high) if self.high is not None else 0.0
        if self.discrete:
            return moments_of_atoms(*self._atoms)
        inner = (
            moments(self.law._quantile, self.law._upper_quantile, below, 1 - above) if below + above < 1 else (0.0, 0.0, 0.0)
        )
        ends = [(low if math.isfinite(low) else 0.0, below), (high if math.isfinite(high) else 0.0, above)]
        first, second, third = (inner[k - 1] + sum(mass * end**k for end, mass in ends) for k in (1, 2, 3))
        return central(first, second, third)

    def _mass(self, x: float) -> float:
        low, high = self.support
        if x == low and self.low is not None:
            return self.law.cdf(low) if low < high else 1.0
        if x == high and self.high is not None:
            return self.law.chance(above=high) + self.law._mass(high)
        return self.law._mass(x) if low < x < high else 0.0

    def _density(self, x: Floats) -> Floats:
        if self.discrete:
            return np.array([self._mass(float(value)) for value in x.reshape(-1)]).reshape(x.shape)
        low, high = self.support
        return np.where((x > low) & (x < high), self.law._density(x), x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        low, high = self.support
        return np.where(x < low, x * 0.0, np.where(x >= high, 1.0, self.law._cdf(x)))

    def _quantile(self, u: Floats) -> Floats:
        return np.clip(self.law._quantile(u), *self.support)

    def _upper_quantile(self, v: Floats) -> Floats:
        return np.clip(self.law._upper_quantile(v), *self.support)
