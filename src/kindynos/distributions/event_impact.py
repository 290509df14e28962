"""An event that may happen, with its impact if it does: one line of a risk register."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution, a_distribution
from kindynos.distributions.families import MomentDistribution
from kindynos.distributions.inverse import central
from kindynos.distributions.mixture import raw_moments
from kindynos.validate import fraction


@dataclass(frozen=True, repr=False)
class EventImpact(MomentDistribution):
    """Nothing, or with a probability the impact of an event.

    It is a mixture with a mass at 0.

    >>> from kindynos import Pert, EventImpact
    >>> strike = EventImpact(probability=0.2, impact=Pert(50, 100, 210))
    >>> round(strike.mean, 6), round(strike.chance(at=0), 6)
    (22.0, 0.8)
    """

    probability: float
    impact: Distribution

    rules = {"probability": fraction, "impact": a_distribution}
    label = "event impact"
    formula = "F(x) = p G(x) + (1 - p) [x >= 0], with p the chance and G the cdf of impact"
    use = "a line of a risk register: an event that may happen, and what it then costs"

    @property
    def discrete(self) -> bool:
        return self.impact.discrete or self.probability == 0

    @property
    def has_atoms(self) -> bool:
        return self.probability < 1 or self.impact.has_atoms

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        if self.probability == 0:
            return np.zeros(1), np.ones(1)
        values, masses = self.impact._atoms
        return (
            np.concatenate([[0.0], values]),
            np.concatenate([[1 - self.probability], self.probability * masses]),
        )

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        return central(*(self.probability * moment for moment in raw_moments(self.impact)))

    @property
    def support(self) -> tuple[float, float]:
        if self.probability == 0:
            return 0.0, 0.0
        low, high = self.impact.support
        return (low, high) if self.probability == 1 else (min(low, 0.0), max(high, 0.0))

    def _mass(self, x: float) -> float:
        return (1 - self.probability) * (x == 0) + self.probability * self.impact._mass(x)

    def _density(self, x: Floats) -> Floats:
        inner = self.probability * self.impact._density(x)
        if self.impact.discrete == self.discrete:
            return inner + (1 - self.probability) * (x == 0) if self.discrete else inner
        return np.where(x == 0, 1.0, 0.0)  # nothing ever happens

    def _cdf(self, x: Floats) -> Floats:
        return (1 - self.probability) * (x >= 0) + self.probability * self.impact._cdf(x)

    def _survival(self, x: Floats) -> Floats:
        nothing = (1 - self.probability) * (x < 0)
        return nothing + self.probability * self.impact._survival(x)

    @cached_property
    def _below_zero(self) -> float:
        """The chance of an impact below 0: of an event that saves."""
        return self.impact.cdf(0.0) - self.impact._mass(0.0)

    def _quantile(self, u: Floats) -> Floats:
        p = self.probability
        if p == 0:
            return np.where(np.isnan(u), u, 0.0)
        below, nothing = p * self._below_zero, 1 - p
        inner = np.where(u <= below, u, u - nothing) / p
        values = self.impact._quantile(np.clip(inner, 0.0, 1.0))
        return np.where((u > below) & (u <= below + nothing), 0.0, values)

    def _upper_quantile(self, v: Floats) -> Floats:
        p = self.probability
        if p == 0:
            return np.where(np.isnan(v), v, 0.0)
        above, nothing = p * (1 - self._below_zero), 1 - p
        inner = np.where(v < above, v, v - nothing) / p
        values = self.impact._upper_quantile(np.clip(inner, 0.0, 1.0))
        return np.where((v >= above) & (v < above + nothing), 0.0, values)
