"""Mixtures of laws."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.distributions.base import Distribution, Floats
from kindynos.distributions.built import Affine, a_law
from kindynos.distributions.forms import ByMoments, Tabled
from kindynos.distributions.from_data import shares_of
from kindynos.distributions.inverse import central, invert, invert_steps
from kindynos.validate import wrong


def raw_moments(law: Distribution) -> tuple[float, float, float]:
    """Return the first three raw moments of a law."""
    mean, variance = law.mean, law.variance
    skewness = law.skewness if variance > 0 else 0.0
    return mean, variance + mean**2, skewness * math.pow(variance, 1.5) + 3 * mean * variance + mean**3


@dataclass(frozen=True, repr=False)
class Mixture(ByMoments, Tabled):
    """One of several laws, each with its weight: a figure whose law itself is uncertain, or experts who disagree.

    Source: McLachlan and Peel, Finite Mixture Models (2000), chapter 1; quantiles by inverting the cdf.

    >>> from kindynos import Normal
    >>> Mixture([Normal(10, 1), Normal(20, 1)], [0.25, 0.75]).mean
    17.5
    """

    parts: Sequence[Distribution]
    weights: Sequence[float] | None = None

    label = "mixture"
    use = "opinions of several experts together; calm and stormy years"

    def __post_init__(self) -> None:
        if isinstance(self.parts, Distribution | str) or not hasattr(self.parts, "__len__") or not len(self.parts):
            raise wrong("Mixture", "parts", "a list of distributions", self.parts)
        parts = tuple(a_law("Mixture", f"parts[{i}]", part) for i, part in enumerate(self.parts))
        object.__setattr__(self, "parts", parts)
        weights = [1.0] * len(parts) if self.weights is None else self.weights
        object.__setattr__(self, "weights", shares_of("Mixture", weights, len(parts)))

    @property
    def _weighted(self) -> list[tuple[Distribution, float]]:
        return [(part, weight) for part, weight in zip(self.parts, self.weights or (), strict=True) if weight > 0]

    @property
    def discrete(self) -> bool:
        return all(part.discrete for part, _ in self._weighted)

    @property
    def has_atoms(self) -> bool:
        return any(part.has_atoms for part, _ in self._weighted)

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        found = [part._atoms for part, _ in self._weighted]
        masses = [weight * part[1] for (_, weight), part in zip(self._weighted, found, strict=True)]
        return np.concatenate([values for values, _ in found]), np.concatenate(masses)

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        centre = sum(weight * part.mean for part, weight in self._weighted)
        raw = [raw_moments(Affine(part, 1.0, -centre)) for part, _ in self._weighted]
        shares = [weight for _, weight in self._weighted]
        mean, variance, skewness = central(*(sum(w * m[k] for w, m in zip(shares, raw, strict=True)) for k in range(3)))
        return mean + centre, variance, skewness

    @property
    def support(self) -> tuple[float, float]:
        return min(part.support[0] for part, _ in self._weighted), max(part.support[1] for part, _ in self._weighted)

    def _density(self, x: Floats) -> Floats:
        parts = [weight * part._density(x) for part, weight in self._weighted if part.discrete == self.discrete]
        return np.asarray(np.sum(parts, axis=0))

    def _mass(self, x: float) -> float:
        return float(sum(weight * part._mass(x) for part, weight in self._weighted))

    def _cdf(self, x: Floats) -> Floats:
        return np.asarray(np.sum([weight * part._cdf(x) for part, weight in self._weighted], axis=0))

    def _survival(self, x: Floats) -> Floats:
        return np.asarray(np.sum([weight * part._survival(x) for part, weight in self._weighted], axis=0))

    def _quantile(self, u: Floats) -> Floats:
        return super()._quantile(u) if not self.has_atoms else self._from_below(u)

    def _span(self, u: Floats, upper: bool) -> tuple[float, float]:
        """Return ends between which all the quantiles lie: the extreme quantiles of the parts."""
        inside = u[(u > 0) & (u < 1)]
        if not inside.size:
            return self.support
        ends = np.array([inside.min(), inside.max()])
        found = [part._upper_quantile(ends) if upper else part._quantile(ends) for part, _ in self._weighted]
        low, high = float(np.min(found)), float(np.max(found))
        margin = 1e-9 * (abs(low) + abs(high) + 1)
        return low - margin, high + margin

    def _from_below(self, u: Floats) -> Floats:
        with np.errstate(divide="ignore", invalid="ignore"):
            span = self._span(u, False)
            steps = self.has_atoms
            found = invert_steps(self._cdf, u, span) if steps else invert(self._cdf, self._density, u, span)
        low, high = self.support
        return np.where(u <= 0, low, np.where(u >= 1, high, found))

    def _from_above(self, v: Floats) -> Floats:
        if self.has_atoms:
            return self._from_below(1.0 - v)
        low, high = self._span(v, True)
        found = -invert(lambda x: self._survival(-x), lambda x: self._density(-x), v, (-high, -low))
        return np.where(v <= 0, self.support[1], np.where(v >= 1, self.support[0], found))
