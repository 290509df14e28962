"""Copulas: each turns independent scores into scores that move together, every one still uniform.

To add one: a subclass of Copula with its ``label``, and its line in ``built`` and COPULAS.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np

from kindynos.arrays import Floats, product
from kindynos.dependence.convert import solve
from kindynos.dependence.matrices import cholesky_factor
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import gammaincinv, ndtr, stdtr


class Copula(ABC):
    """How the scores of several drivers move together."""

    label: ClassVar[str]
    extra: ClassVar[int] = 0  # scores needed a trial besides those of the drivers

    @abstractmethod
    def mix(self, scores: Floats, extra: Floats) -> Floats:
        """Return dependent figures from independent scores, ``(drivers, ...)``, and the extra ones,
        ``(extra, ...)``.

        Each rises with the driver's own independent score, and has the order of ``score``.
        """

    @abstractmethod
    def score(self, mixed: Floats) -> Floats:
        """Return the uniform scores of what ``mix`` returned."""

    @property
    def gives_normal(self) -> bool:
        """Whether what ``mix`` returns are standard normal scores."""
        return False


@dataclass(frozen=True)
class Elliptical(Copula):
    """A Gaussian copula, or with ``df`` a Student t copula, by the correlation matrix of its normal
    scores.

    Source: McNeil, Frey and Embrechts, Quantitative Risk Management (2005), section 5.1.
    """

    matrix: tuple[tuple[float, ...], ...]
    df: float | None = None

    label = "gaussian"

    @cached_property
    def _lower(self) -> Floats:
        return cholesky_factor(np.array(self.matrix))

    @property
    def gives_normal(self) -> bool:
        return self.df is None

    def mix(self, scores: Floats, extra: Floats) -> Floats:
        normal = normal_quantile(scores)
        mixed = product(self._lower, normal.reshape(len(normal), -1)).reshape(normal.shape)
        if self.df is None:
            return mixed
        variance = 2 * gammaincinv(self.df / 2, extra[0]) / self.df
        return np.asarray(mixed / np.sqrt(variance))

    def score(self, mixed: Floats) -> Floats:
        return ndtr(mixed) if self.df is None else stdtr(self.df, mixed)

    def following(self, first: Floats, rest: Floats) -> Floats:
        """Return the normal scores of the last drivers given those of the first ones, ``(drivers,
        trials)``, from independent ones.
        """
        count, lower = len(first), self._lower
        own = np.linalg.lstsq(lower[:count, :count], first, rcond=None)[0]
        return product(lower[count:], np.concatenate([own, rest]))


@dataclass(frozen=True)
class StudentCopula(Elliptical):
    """A Student t copula: extremes come together, the more so the fewer degrees of freedom."""

    label = "t"
    extra = 1


@dataclass(frozen=True)
class Archimedean(Copula):
    """A copula of one parameter, the same for every pair: scores share a common frailty.

    Source: Marshall and Olkin, Journal of the American Statistical Association 83 (1988), 834-841.
    """

    parameter: float
    extra = 1

    @abstractmethod
    def frailty(self, extra: Floats) -> Floats:
        """Return the common positive figure of each trial."""

    @abstractmethod
    def generator(self, t: Floats) -> Floats:
        """Return the Laplace transform of the frailty."""

    def mix(self, scores: Floats, extra: Floats) -> Floats:
        return self.generator(-np.log(scores) / self.frailty(extra))

    def score(self, mixed: Floats) -> Floats:
        return mixed


@dataclass(frozen=True)
class Clayton(Archimedean):
    """Low values come together: a lower tail in common. Parameter above 0; Kendall's tau is p / (p
    + 2).
    """

    label = "clayton"

    def frailty(self, extra: Floats) -> Floats:
        return np.maximum(gammaincinv(1 / self.parameter, extra[0]), 1e-300)

    def generator(self, t: Floats) -> Floats:
        return np.exp(-np.log1p(t) / self.parameter)


@dataclass(frozen=True)
class GumbelCopula(Archimedean):
    """High values come together: an upper tail in common. Parameter from 1; Kendall's tau is 1 - 1
    / p.

    The frailty is a positive stable figure (Chambers, Mallows and Stuck, Journal of the American
    Statistical Association 71, 1976, 340-344).
    """

    label = "gumbel"
    extra = 2

    def frailty(self, extra: Floats) -> Floats:
        power = 1 / self.parameter
        angle, wait = math.pi * extra[1], -np.log(extra[0])
        if power == 1:
            return np.ones_like(wait)
        first = np.sin(power * angle) / np.sin(angle) ** self.parameter
        stable: Floats = first * (np.sin((1 - power) * angle) / wait) ** (self.parameter - 1)
        return np.maximum(stable, 1e-300)

    def generator(self, t: Floats) -> Floats:
        score: Floats = np.exp(-(t ** (1 / self.parameter)))
        return score


@dataclass(frozen=True)
class Frank(Archimedean):
    """Moves together alike at both ends, without common tails; with two drivers the parameter may
    be negative.

    Source: Genest, Biometrika 74 (1987), 549-555; the frailty is logarithmic (Kemp, Applied
    Statistics 30, 1981, 249-253).
    """

    label = "frank"
    extra = 2

    def frailty(self, extra: Floats) -> Floats:
        below: Floats = -np.expm1(-self.parameter * extra[1])
        frailty: Floats = np.floor(1 + np.log(extra[0]) / np.log(below))
        return frailty

    def generator(self, t: Floats) -> Floats:
        score: Floats = -np.log1p(math.expm1(-self.parameter) * np.exp(-t)) / self.parameter
        return score

    def mix(self, scores: Floats, extra: Floats) -> Floats:
        if len(scores) > 2:
            return super().mix(scores, extra)
        first, level = scores
        p = self.parameter
        slope = np.expm1(-p * first)
        second = -np.log1p(level * np.expm1(-p) / (1 + slope * (1 - level))) / p
        return np.stack([first, second])


def of_tau(label: str, tau: float) -> float:
    """Return the parameter of an Archimedean copula for a Kendall's tau that its label allows (see
    PARAMETERS).
    """
    if label == "clayton":
        return 2 * tau / (1 - tau)
    if label == "gumbel":
        return 1 / (1 - tau)
    size = solve(_frank_tau, abs(tau), 1e-6, 1e4)
    return math.copysign(size, tau)


def _frank_tau(parameter: float) -> float:
    """Kendall's tau of Frank's copula, by Debye's function (Genest 1987)."""
    from scipy.integrate import quad

    debye = (
        float(quad(lambda t: t / math.expm1(t) if t else 1.0, 0, min(parameter, 700))[0])
        / parameter
    )
    return 1 - 4 / parameter * (1 - debye)


ARCHIMEDEAN: dict[str, type[Archimedean]] = {
    copula.label: copula for copula in (Clayton, GumbelCopula, Frank)
}
COPULAS = ("gaussian", "t", *ARCHIMEDEAN)
