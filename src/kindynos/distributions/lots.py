"""Whole numbers drawn from a fixed lot: hypergeometric, and all alike."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.distributions.base import Floats
from kindynos.distributions.counts import Counting, a_count, log_choose
from kindynos.errors import ParameterError
from kindynos.validate import whole, wrong


def _integer(owner: str, name: str, value: Any) -> int:
    return whole(owner, name, int(value) if isinstance(value, float) and value.is_integer() else value)


@dataclass(frozen=True, repr=False)
class Hypergeometric(Counting):
    """How many marked ones are among so many drawn from a population without putting back.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 6.

    >>> Hypergeometric(population=50, marked=10, drawn=5).mean
    1.0
    """

    population: int
    marked: int
    drawn: int

    rules = {"population": a_count, "marked": a_count, "drawn": a_count}
    label = "hypergeometric"
    use = "faulty ones in a sample from a lot"

    def __post_init__(self) -> None:
        super().__post_init__()
        for name in ("marked", "drawn"):
            if getattr(self, name) > self.population:
                raise wrong("Hypergeometric", name, f"at most the population ({self.population})", getattr(self, name))
        if self.population == 0:
            raise wrong("Hypergeometric", "population", "at least 1", 0)

    @property
    def mean(self) -> float:
        return self.drawn * self.marked / self.population

    @property
    def variance(self) -> float:
        n = self.population
        if n == 1:
            return 0.0
        return self.mean * (1 - self.marked / n) * (n - self.drawn) / (n - 1)

    @property
    def skewness(self) -> float:
        n, m, d = self.population, self.marked, self.drawn
        if n <= 2 or not self.variance:
            return math.nan
        return (n - 2 * m) * math.sqrt(n - 1) * (n - 2 * d) / (math.sqrt(d * m * (n - m) * (n - d)) * (n - 2))

    @property
    def support(self) -> tuple[float, float]:
        return float(max(0, self.drawn + self.marked - self.population)), float(min(self.marked, self.drawn))

    def _mass_at(self, k: Floats) -> Floats:
        n, m, d = self.population, self.marked, self.drawn
        return np.exp(log_choose(m, k) + log_choose(n - m, d - k) - log_choose(n, np.asarray(float(d))))

    @cached_property
    def _cumulative(self) -> Floats:
        low, high = self.support
        sums: Floats = np.cumsum(self._mass_at(np.arange(low, high + 1)))
        return sums / float(sums[-1])

    def _cdf_at(self, k: Floats) -> Floats:
        return np.asarray(self._cumulative[(k - self.support[0]).astype(np.int64)])


@dataclass(frozen=True, repr=False)
class IntegerUniform(Counting):
    """Every whole number from ``low`` to ``high``, both included, alike.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 6.

    >>> IntegerUniform(1, 6).mean
    3.5
    """

    low: int
    high: int

    rules = {"low": _integer, "high": _integer}
    label = "integer uniform"
    use = "whole numbers of which none is likelier: a day of the month, a position in a queue"

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.low > self.high:
            raise ParameterError(f"IntegerUniform: low must be at most high ({self.high}), not {self.low}")

    @property
    def mean(self) -> float:
        return (self.low + self.high) / 2

    @property
    def variance(self) -> float:
        return ((self.high - self.low + 1) ** 2 - 1) / 12

    @property
    def skewness(self) -> float:
        return 0.0 if self.high > self.low else math.nan

    @property
    def support(self) -> tuple[float, float]:
        return float(self.low), float(self.high)

    def _mass_at(self, k: Floats) -> Floats:
        return np.full(k.shape, 1 / (self.high - self.low + 1))

    def _cdf_at(self, k: Floats) -> Floats:
        return (k - self.low + 1) / (self.high - self.low + 1)

    def _quantile(self, u: Floats) -> Floats:
        width = self.high - self.low + 1
        k = np.clip(self.low + np.ceil(u * width) - 1, self.low, self.high)
        k = np.where(self._cdf(k - 1) >= u, k - 1, k)  # the product may round to the wrong side
        return np.where(np.isnan(u), u, np.clip(np.where(self._cdf(k) < u, k + 1, k), self.low, self.high))
