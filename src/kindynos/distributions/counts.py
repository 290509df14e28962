"""Laws of counts: Bernoulli, binomial, Poisson, geometric, negative binomial."""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.distributions.base import Floats
from kindynos.distributions.discrete import OnValues
from kindynos.distributions.special import betainc, betaincc, gammainc, gammaincc, gammaln, xlog1py, xlogy
from kindynos.validate import positive, share, whole, wrong

WIDEST = 1_000_000  # counts whose cdf is kept in a table; beyond, each quantile is sought by halving


def _chance(owner: str, name: str, value: Any) -> float:
    number = share(owner, name, value)
    if number == 0:
        raise wrong(owner, name, "above 0 and at most 1", number)
    return number


def a_count(owner: str, name: str, value: Any) -> int:
    """A whole number of at least 0; a float such as 3.0, as files may give, counts."""
    return whole(owner, name, int(value) if isinstance(value, float) and value.is_integer() else value, least=0)


def log_choose(n: Floats | float, k: Floats) -> Floats:
    """Return the logarithm of the number of ways to choose k of n."""
    return gammaln(np.asarray(n) + 1.0) - gammaln(k + 1) - gammaln(np.asarray(n) - k + 1)


class Counting(OnValues):
    """A law on whole numbers: a subclass gives the mass and the cdf at whole numbers inside its support."""

    @abstractmethod
    def _mass_at(self, k: Floats) -> Floats:
        """The mass on whole numbers inside the support."""

    @abstractmethod
    def _cdf_at(self, k: Floats) -> Floats:
        """The chance of k or less, for whole numbers inside the support."""

    def _density(self, x: Floats) -> Floats:
        low, high = self.support
        hit = (x == np.floor(x)) & (x >= low) & (x <= high)
        return np.where(hit, self._mass_at(np.where(hit, x, low)), x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        low, high = self.support
        k = np.floor(np.where(np.isnan(x), low, x))
        inside = self._cdf_at(np.clip(k, low, min(high, 2.0**62)))
        return np.where(np.isnan(x), x, np.where(k < low, 0.0, np.where(k >= high, 1.0, inside)))

    @cached_property
    def _ends(self) -> tuple[float, float]:
        """The whole numbers between which all but about 1e-17 of the mass lies."""
        low, high = self.support
        reach = max(40 * self.sd, 40.0)
        first, last = max(low, math.floor(self.mean - reach)), min(high, math.ceil(self.mean + reach))
        while last < high and self.cdf(last) < 1:
            last = min(high, self.mean + 2 * (last - self.mean))
        return first, math.ceil(last)

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        first, last = self._ends
        values = np.arange(first, last + 1)
        return values, self._mass_at(values)

    @cached_property
    def _steps(self) -> Floats:
        first, last = self._ends
        return self._cdf(np.arange(first, last + 1))

    def _quantile(self, u: Floats) -> Floats:
        low, high = self.support
        first, last = self._ends
        if last - first <= WIDEST:
            found = first + np.searchsorted(self._steps, u)
        else:
            below, found = np.full(u.shape, first - 1.0), np.full(u.shape, float(last))
            while (found - below > 1).any():
                middle = np.floor((below + found) / 2)
                reached = self._cdf(middle) >= u
                found, below = np.where(reached, middle, found), np.where(reached, below, middle)
        answer = np.where(u <= 0, low, np.where(u >= 1, high, found))
        return np.where(np.isnan(u), u, answer)


@dataclass(frozen=True, repr=False)
class Binomial(Counting):
    """How many of so many independent trials succeed.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 3.

    >>> Binomial(trials=10, probability=0.3).mean
    3.0
    """

    trials: int
    probability: float

    rules = {"trials": a_count, "probability": share}
    label = "binomial"
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
        return (float(self.trials) if self.probability == 1 else 0.0), (0.0 if self.probability == 0 else float(self.trials))

    def _mass_at(self, k: Floats) -> Floats:
        p, n = self.probability, self.trials
        return np.exp(log_choose(n, k) + xlogy(k, p) + xlog1py(n - k, -p))

    def _cdf_at(self, k: Floats) -> Floats:
        return np.where(k >= self.trials, 1.0, betaincc(k + 1, np.maximum(self.trials - k, 1e-300), self.probability))


@dataclass(frozen=True, repr=False)
class Bernoulli(Counting):
    """1 with the given probability, else 0.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 3.

    >>> Bernoulli(0.25).variance
    0.1875
    """

    probability: float

    rules = {"probability": share}
    label = "bernoulli"
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


@dataclass(frozen=True, repr=False)
class Poisson(Counting):
    """How many events come in a stretch of time when they come at a steady rate.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 4.

    >>> round(Poisson(2).chance(at=0), 6)
    0.135335
    """

    mean: float

    rules = {"mean": positive}
    label = "poisson"
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


@dataclass(frozen=True, repr=False)
class NegativeBinomial(Counting):
    """How many failures come before so many successes; with any positive ``successes``, a Poisson count of uncertain rate.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 5.

    >>> NegativeBinomial(successes=3, probability=0.5).mean
    3.0
    """

    successes: float
    probability: float

    rules = {"successes": positive, "probability": _chance}
    label = "negative binomial"
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
        return np.exp(gammaln(k + r) - gammaln(k + 1) - gammaln(np.asarray(r)) + r * math.log(p) + xlog1py(k, -p))

    def _cdf_at(self, k: Floats) -> Floats:
        return betainc(self.successes, k + 1, self.probability)

    def _survival(self, x: Floats) -> Floats:
        return np.where(x < 0, 1.0, betaincc(self.successes, np.maximum(np.floor(x), 0) + 1, self.probability))
