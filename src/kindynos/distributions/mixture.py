"""Mixtures of distributions."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Affine, Distribution, a_distribution
from kindynos.distributions.families import MomentDistribution, Tabled
from kindynos.distributions.from_data import normalized_weights
from kindynos.distributions.inverse import central, invert, invert_steps
from kindynos.errors import ParameterError
from kindynos.validate import invalid_argument

MOST_PARTS = 100


def raw_moments(distribution: Distribution) -> tuple[float, float, float]:
    """Return the first three raw moments of a distribution."""
    mean, variance = distribution.mean, distribution.variance
    skewness = distribution.skewness if variance > 0 else 0.0
    return (
        mean,
        variance + mean**2,
        skewness * math.pow(variance, 1.5) + 3 * mean * variance + mean**3,
    )


@dataclass(frozen=True, repr=False)
class Mixture(MomentDistribution, Tabled):
    """One of several distributions, each with its weight: a figure whose distribution itself is
    uncertain, or experts who disagree.

    Source: McLachlan and Peel, Finite Mixture Models (2000), chapter 1; quantiles by inverting the
    cdf.

    >>> from kindynos import Normal
    >>> Mixture([Normal(10, 1), Normal(20, 1)], [0.25, 0.75]).mean
    17.5
    """

    parts: Sequence[Distribution]
    weights: Sequence[float] | None = None

    label = "mixture"
    smooth = False
    formula = "F(x) = sum of weights[i] F_i(x), with weights that add up to 1"
    use = "opinions of several experts together; calm and stormy years"

    def __post_init__(self) -> None:
        if not isinstance(self.parts, list | tuple | np.ndarray) or len(self.parts) == 0:
            raise invalid_argument("parts", "a list of distributions", self.parts)
        parts = tuple(a_distribution(f"parts[{i}]", part) for i, part in enumerate(self.parts))
        if len(parts) > MOST_PARTS:
            raise ParameterError(
                f"a mixture may have {MOST_PARTS:,} parts, and this one has {len(parts):,}"
            )
        object.__setattr__(self, "parts", parts)
        weights = [1.0] * len(parts) if self.weights is None else self.weights
        object.__setattr__(self, "weights", normalized_weights(weights, len(parts)))

    @cached_property
    def _weighted(self) -> list[tuple[Distribution, float]]:
        return [
            (part, weight)
            for part, weight in zip(self.parts, self.weights or (), strict=True)
            if weight > 0
        ]

    @cached_property
    def discrete(self) -> bool:
        return all(part.discrete for part, _ in self._weighted)

    @cached_property
    def has_atoms(self) -> bool:
        return any(part.has_atoms for part, _ in self._weighted)

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        atoms = [part._atoms for part, _ in self._weighted]
        masses = [weight * part[1] for (_, weight), part in zip(self._weighted, atoms, strict=True)]
        return np.concatenate([values for values, _ in atoms]), np.concatenate(masses)

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        centre = sum(weight * part.mean for part, weight in self._weighted)
        raw = [raw_moments(Affine(part, 1.0, -centre)) for part, _ in self._weighted]
        shares = [weight for _, weight in self._weighted]
        mean, variance, skewness = central(
            *(sum(w * m[k] for w, m in zip(shares, raw, strict=True)) for k in range(3))
        )
        return mean + centre, variance, skewness

    @property
    def support(self) -> tuple[float, float]:
        return min(part.support[0] for part, _ in self._weighted), max(
            part.support[1] for part, _ in self._weighted
        )

    def _density(self, x: Floats) -> Floats:
        parts = [
            weight * part._density(x)
            for part, weight in self._weighted
            if part.discrete == self.discrete
        ]
        return np.asarray(np.sum(parts, axis=0))

    def _mass(self, x: float) -> float:
        return float(sum(weight * part._mass(x) for part, weight in self._weighted))

    def _cdf(self, x: Floats) -> Floats:
        return np.asarray(
            np.sum([weight * part._cdf(x) for part, weight in self._weighted], axis=0)
        )

    def _survival(self, x: Floats) -> Floats:
        return np.asarray(
            np.sum([weight * part._survival(x) for part, weight in self._weighted], axis=0)
        )

    def _quantile(self, u: Floats) -> Floats:
        return self._among_atoms(u) if self.discrete else super()._quantile(u)

    @cached_property
    def _steps(self) -> tuple[Floats, Floats]:
        """All single values in order, and the cdf at each."""
        values = np.unique(self._atoms[0])
        return values, self._cdf(values)

    def _among_atoms(self, u: Floats) -> Floats:
        values, levels = self._steps
        quantiles = values[np.minimum(np.searchsorted(levels, u), len(values) - 1)]
        beyond = (u > levels[-1]) | (u <= 0)  # values so rare that the parts do not list them
        if beyond.any():
            quantiles[beyond] = self._from_below(u[beyond])
        return quantiles

    def _span(self, u: Floats, upper: bool) -> tuple[float, float]:
        """Return ends between which all the quantiles lie: the extreme quantiles of the parts."""
        inside = u[(u > 0) & (u < 1)]
        if not inside.size:
            return self.support
        ends = np.array([inside.min(), inside.max()])
        upper_quantiles = [
            part._upper_quantile(ends) if upper else part._quantile(ends)
            for part, _ in self._weighted
        ]
        low, high = float(np.min(upper_quantiles)), float(np.max(upper_quantiles))
        margin = 1e-9 * (abs(low) + abs(high) + 1)
        return low - margin, high + margin

    def _from_below(self, u: Floats) -> Floats:
        with np.errstate(divide="ignore", invalid="ignore"):
            span = self._span(u, False)
            between_atoms = (
                self._between_atoms(u, span)
                if self.has_atoms
                else invert(self._cdf, self._density, u, span)
            )
        low, high = self.support
        return np.where(u <= 0, low, np.where(u >= 1, high, between_atoms))

    @cached_property
    def _jumps(self) -> tuple[Floats, Floats, Floats]:
        """The single values of the discrete parts in order, and the cdf just below and at each."""
        parts = [(part, weight) for part, weight in self._weighted if part.discrete]
        values = np.unique(np.concatenate([np.empty(0), *(part._atoms[0] for part, _ in parts)]))
        at = self._cdf(values)
        return (
            values,
            at - np.sum([weight * part._density(values) for part, weight in parts], axis=0),
            at,
        )

    def _between_atoms(self, u: Floats, span: tuple[float, float]) -> Floats:
        """Return the single value whose jump holds a level, or the place between two of them,
        sought there alone.
        """
        values, below, at = self._jumps
        positions = np.searchsorted(at, u)
        padded = np.concatenate([[span[0]], np.clip(values, *span), [span[1]]])
        first, last = padded[positions], padded[positions + 1]
        quantiles = np.array(last)
        free = (u < np.append(below, np.inf)[positions]) & (first < last)
        if free.any():
            bracket = first[free], last[free]
            constant = np.concatenate([[0.0], at - self._flowing(values)])[positions[free]]
            if any(part.has_atoms for part, _ in self._weighted if not part.discrete):
                quantiles[free] = invert_steps(self._cdf, u[free], bracket)
            else:
                quantiles[free] = invert(
                    lambda x, constant: constant + self._flowing(x),
                    lambda x, _: self._density(x),
                    u[free],
                    bracket,
                    (constant,),
                )
        return quantiles

    def _flowing(self, x: Floats) -> Floats:
        """Return what the continuous parts add to the cdf."""
        return np.asarray(
            np.sum(
                [weight * part._cdf(x) for part, weight in self._weighted if not part.discrete],
                axis=0,
            )
        )

    def _from_above(self, v: Floats) -> Floats:
        low, high = self._span(v, True)
        if not self.has_atoms:
            result = -invert(
                lambda x: self._survival(-x), lambda x: self._density(-x), v, (-high, -low)
            )
            return np.where(v <= 0, self.support[1], np.where(v >= 1, self.support[0], result))
        # Beyond the last single value the survival function keeps the digits that 1 - v loses.
        quantiles = self._from_below(1.0 - v)
        last = self._jumps[0][-1] if len(self._jumps[0]) else math.inf
        beyond = (
            (v > 0) & (v < self._survival(np.array(last)))
            if math.isfinite(last) and last < high
            else v < 0
        )
        if beyond.any():
            quantiles[beyond] = -invert(
                lambda x: self._survival(-x), lambda x: self._density(-x), v[beyond], (-high, -last)
            )
        return quantiles
