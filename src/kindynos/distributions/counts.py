"""Distributions of counts: Bernoulli, binomial, Poisson, geometric, negative binomial,
hypergeometric, and all alike.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.counting import NORMAL, Counting, a_count, whole_number
from kindynos.distributions.special import (
    betainc,
    betaincc,
    gammainc,
    gammaincc,
    gammaln,
    ndtri,
    pdtrik,
    xlog1py,
    xlogy,
)
from kindynos.errors import ParameterError
from kindynos.validate import fraction, invalid_argument, positive

MOST_CORRECTIONS = 20  # steps by which a first guess of a quantile is corrected


def _chance(name: str, value: Any) -> float:
    number = fraction(name, value)
    if number == 0:
        raise invalid_argument(name, "above 0 and at most 1", number)
    return number


def log_choose(n: Floats | float, k: Floats) -> Floats:
    """Return the logarithm of the number of ways to choose k of n."""
    return gammaln(np.asarray(n) + 1.0) - gammaln(k + 1) - gammaln(np.asarray(n) - k + 1)


@dataclass(frozen=True, repr=False)
class Binomial(Counting):
    """How many of ``trials`` independent trials succeed.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 3.

    >>> Binomial(trials=10, probability=0.3).mean
    3.0
    """

    trials: int
    probability: float

    rules = {"trials": a_count, "probability": fraction}
    label = "binomial"
    formula = "P(k) = C(trials, k) p^k (1 - p)^(trials - k), with p = probability"
    use = "how many of n succeed: passengers who turn up, loans that default"

    @property
    def mean(self) -> float:
        return self.trials * self.probability

    @property
    def variance(self) -> float:
        return self.trials * self.probability * (1 - self.probability)

    @property
    def skewness(self) -> float:
        return (1 - 2 * self.probability) / self.sd if self.variance else math.nan

    @property
    def support(self) -> tuple[float, float]:
        return (float(self.trials) if self.probability == 1 else 0.0), (
            0.0 if self.probability == 0 else float(self.trials)
        )

    def _mass_at(self, k: Floats) -> Floats:
        p, n = self.probability, self.trials
        return np.exp(log_choose(n, k) + xlogy(k, p) + xlog1py(n - k, -p))

    def _cdf_at(self, k: Floats) -> Floats:
        return np.where(
            k >= self.trials,
            1.0,
            betaincc(k + 1, np.maximum(self.trials - k, 1e-300), self.probability),
        )

    def _survival(self, x: Floats) -> Floats:
        k = np.clip(np.floor(x), -1, self.trials)
        inside = betainc(
            np.maximum(k + 1, 1e-300), np.maximum(self.trials - k, 1e-300), self.probability
        )
        return np.where(x < self.support[0], 1.0, np.where(k >= self.support[1], 0.0, inside))


@dataclass(frozen=True, repr=False)
class Bernoulli(Counting):
    """1 with the given probability, else 0.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 3.

    >>> Bernoulli(0.25).variance
    0.1875
    """

    probability: float

    rules = {"probability": fraction}
    by_trial = True
    label = "bernoulli"
    formula = "P(1) = probability, P(0) = 1 - probability"
    use = "something that happens or does not: a permit, a strike"

    @property
    def mean(self) -> float:
        return self.probability

    @property
    def variance(self) -> float:
        return self.probability * (1 - self.probability)

    @property
    def skewness(self) -> float:
        return (1 - 2 * self.probability) / self.sd if self.variance else math.nan

    @property
    def support(self) -> tuple[float, float]:
        return float(self.probability == 1), float(self.probability > 0)

    def _mass_at(self, k: Floats) -> Floats:
        return np.where(k == 1, self.probability, 1 - self.probability)

    def _cdf_at(self, k: Floats) -> Floats:
        return np.where(k >= 1, 1.0, 1 - self.probability)

    def _quantile(self, u: Floats) -> Floats:
        chance: Any = self.probability
        if not isinstance(chance, np.ndarray):
            return super()._quantile(u)
        return np.where(u > 1 - chance, 1.0, 0.0)


@dataclass(frozen=True, repr=False)
class Poisson(Counting):
    """How many events come in a stretch of time when they come at a steady rate.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 4.

    >>> round(Poisson(2).chance(at=0), 6)
    0.135335
    """

    mean: float

    rules = {"mean": positive}
    by_trial = True
    label = "poisson"
    formula = "P(k) = mean^k exp(-mean) / k!"
    use = "number of rare events in a period: breakdowns, claims, cancellations"

    @property
    def variance(self) -> float:
        return self.mean

    @property
    def skewness(self) -> float:
        return 1 / math.sqrt(self.mean)

    @property
    def support(self) -> tuple[float, float]:
        return 0.0, math.inf

    def _mass_at(self, k: Floats) -> Floats:
        return np.exp(xlogy(k, self.mean) - self.mean - gammaln(k + 1))

    def _cdf_at(self, k: Floats) -> Floats:
        return gammaincc(k + 1, self.mean)

    def _survival(self, x: Floats) -> Floats:
        return np.where(x < 0, 1.0, gammainc(np.maximum(np.floor(x), 0) + 1, self.mean))

    def _quantile(self, u: Floats) -> Floats:
        mean: Any = self.mean
        if not isinstance(mean, np.ndarray):
            return super()._quantile(u)
        guess = np.ceil(np.maximum(pdtrik(u, mean), 0.0))
        for _ in range(MOST_CORRECTIONS):  # as the cdf of the distribution itself has it
            low = guess > 0
            low &= gammaincc(np.maximum(guess, 1.0), mean) >= u
            high = gammaincc(guess + 1, mean) < u
            if not (low.any() or high.any()):
                break
            guess = np.where(high, guess + 1, np.where(low, guess - 1, guess))
        wide = np.sqrt(mean) > NORMAL
        if wide.any():
            z = ndtri(u)
            by_normal = np.ceil(mean + np.sqrt(mean) * z + (z**2 - 1) / 6 - 0.5)
            guess = np.where(wide, np.maximum(by_normal, 0.0), guess)
        return np.where(u >= 1, np.inf, guess)


@dataclass(frozen=True, repr=False)
class Geometric(Counting):
    """How many attempts it takes until the first success, that one included.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 5.

    >>> Geometric(0.2).mean
    5.0
    """

    probability: float

    rules = {"probability": _chance}
    label = "geometric"
    formula = "P(k) = (1 - p)^(k - 1) p from k = 1 on, with p = probability"
    use = "attempts until the first success: bids until a contract, wells until a find"

    @property
    def mean(self) -> float:
        return 1 / self.probability

    @property
    def variance(self) -> float:
        return (1 - self.probability) / self.probability**2

    @property
    def skewness(self) -> float:
        p = self.probability
        return (2 - p) / math.sqrt(1 - p) if p < 1 else math.nan

    @property
    def support(self) -> tuple[float, float]:
        return 1.0, (1.0 if self.probability == 1 else math.inf)

    def _mass_at(self, k: Floats) -> Floats:
        return self.probability * np.exp(xlog1py(k - 1, -self.probability))

    def _cdf_at(self, k: Floats) -> Floats:
        return -np.expm1(xlog1py(k, -self.probability))

    def _survival(self, x: Floats) -> Floats:
        return np.exp(xlog1py(np.maximum(np.floor(x), 0), -self.probability))

    def _quantile(self, u: Floats) -> Floats:
        with np.errstate(divide="ignore"):
            logs = np.log1p(-u)
        return self._attempts(logs, lambda k: self._cdf_at(k) < u, u <= 0)

    def _upper_quantile(self, v: Floats) -> Floats:
        with np.errstate(divide="ignore"):
            logs = np.log(v)
        return self._attempts(logs, lambda k: self._survival(k) > v, v >= 1)

    def _attempts(self, log_survival: Floats, short: Callable[[Floats], Any], least: Any) -> Floats:
        """Return how many attempts leave so small a chance; ``short`` says whether a number is too
        small.
        """
        if self.probability == 1:
            return np.where(np.isnan(log_survival), log_survival, 1.0)
        larger = np.maximum(np.ceil(log_survival / math.log1p(-self.probability)), 1.0)
        larger = np.where(
            (larger > 1) & np.logical_not(short(larger - 1)), larger - 1, larger + short(larger)
        )  # rounding, at a step
        return np.asarray(np.where(least, 1.0, larger))


@dataclass(frozen=True, repr=False)
class NegativeBinomial(Counting):
    """How many failures come before the given number of successes; with any positive ``successes``,
    a Poisson count of uncertain rate.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 5.

    >>> NegativeBinomial(successes=3, probability=0.5).mean
    3.0
    """

    successes: float
    probability: float

    rules = {"successes": positive, "probability": _chance}
    label = "negative binomial"
    formula = (
        "P(k) = Gamma(k + r) / (Gamma(r) k!) p^r (1 - p)^k, with r = successes and p = probability"
    )
    use = "counts that vary more than Poisson's: claims where some years are bad"

    @property
    def mean(self) -> float:
        return self.successes * (1 - self.probability) / self.probability

    @property
    def variance(self) -> float:
        return self.mean / self.probability

    @property
    def skewness(self) -> float:
        p = self.probability
        return (2 - p) / math.sqrt(self.successes * (1 - p)) if p < 1 else math.nan

    @property
    def support(self) -> tuple[float, float]:
        return 0.0, (0.0 if self.probability == 1 else math.inf)

    def _mass_at(self, k: Floats) -> Floats:
        r, p = self.successes, self.probability
        return np.exp(
            gammaln(k + r)
            - gammaln(k + 1)
            - gammaln(np.asarray(r))
            + r * math.log(p)
            + xlog1py(k, -p)
        )

    def _cdf_at(self, k: Floats) -> Floats:
        return betainc(self.successes, k + 1, self.probability)

    def _survival(self, x: Floats) -> Floats:
        return np.where(
            x < 0, 1.0, betaincc(self.successes, np.maximum(np.floor(x), 0) + 1, self.probability)
        )


@dataclass(frozen=True, repr=False)
class Hypergeometric(Counting):
    """How many marked ones are among those drawn from a population without putting back.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 6.

    >>> Hypergeometric(population=50, marked=10, drawn=5).mean
    1.0
    """

    population: int
    marked: int
    drawn: int

    rules = {"population": a_count, "marked": a_count, "drawn": a_count}
    label = "hypergeometric"
    formula = "P(k) = C(marked, k) C(population - marked, drawn - k) / C(population, drawn)"
    use = "faulty ones in a sample from a lot"

    def __post_init__(self) -> None:
        super().__post_init__()
        for name in ("marked", "drawn"):
            if getattr(self, name) > self.population:
                raise invalid_argument(
                    name, f"at most the population ({self.population})", getattr(self, name)
                )
        if self.population == 0:
            raise invalid_argument("population", "at least 1", 0)

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
        return (
            (n - 2 * m)
            * math.sqrt(n - 1)
            * (n - 2 * d)
            / (math.sqrt(d * m * (n - m) * (n - d)) * (n - 2))
        )

    @property
    def support(self) -> tuple[float, float]:
        return float(max(0, self.drawn + self.marked - self.population)), float(
            min(self.marked, self.drawn)
        )

    def _mass_at(self, k: Floats) -> Floats:
        n, m, d = self.population, self.marked, self.drawn
        return np.exp(
            log_choose(m, k) + log_choose(n - m, d - k) - log_choose(n, np.asarray(float(d)))
        )

    @cached_property
    def _cumulative(self) -> tuple[float, Floats]:
        """The lowest count within 40 sds of the mean, and the cdf from there on."""
        low, high = self.support
        reach = max(40 * self.sd, 40.0)
        first, last = (
            max(low, math.floor(self.mean - reach)),
            min(high, math.ceil(self.mean + reach)),
        )
        sums: Floats = np.cumsum(self._mass_at(np.arange(first, last + 1)))
        return first, sums / float(sums[-1])

    def _cdf_at(self, k: Floats) -> Floats:
        first, sums = self._cumulative
        values = np.clip(k - first, -1, len(sums) - 1).astype(np.int64)
        return np.where(values < 0, 0.0, sums[np.maximum(values, 0)])


@dataclass(frozen=True, repr=False)
class IntegerUniform(Counting):
    """Every whole number from ``low`` to ``high``, both included, alike.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 6.

    >>> IntegerUniform(1, 6).mean
    3.5
    """

    low: int
    high: int

    rules = {"low": whole_number, "high": whole_number}
    label = "integer uniform"
    formula = "P(k) = 1 / (high - low + 1) for k from low to high"
    use = "whole numbers, all equally likely: a day of the month, a position in a queue"

    def __post_init__(self) -> None:
        super().__post_init__()
        for name, end in (("low", self.low), ("high", self.high)):
            if abs(end) > 2**53:
                raise invalid_argument(
                    name, "within 2**53 (9e15), up to which a float holds every whole number", end
                )
        if self.low > self.high:
            raise ParameterError(f"low must be at most high ({self.high}), not {self.low}")

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
        return np.where(
            np.isnan(u), u, np.clip(np.where(self._cdf(k) < u, k + 1, k), self.low, self.high)
        )
