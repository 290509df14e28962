"""Distributions between two ends: uniform, triangular, beta and PERT."""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.families import Tabled
from kindynos.distributions.percentiles import LOW_MODE_HIGH, Recipe, centre_and_spread
from kindynos.distributions.special import betainc, betaincc, betainccinv, betaincinv, betaln
from kindynos.validate import finite, invalid_argument, positive


def _ends(distribution: Distribution, low: float, high: float) -> tuple[float, float]:
    """Store both ends as floats; ``low`` must be below ``high``."""
    low, high = finite("low", low), finite("high", high)
    if not low < high:
        raise invalid_argument("low", f"below high ({high!r})", low)
    object.__setattr__(distribution, "low", low)
    object.__setattr__(distribution, "high", high)
    return low, high


def _mode(distribution: Distribution, mode: float, low: float, high: float) -> None:
    mode = finite("mode", mode)
    if not low <= mode <= high:
        raise invalid_argument("mode", f"from low ({low!r}) to high ({high!r})", mode)
    object.__setattr__(distribution, "mode", mode)


@dataclass(frozen=True, repr=False)
class Uniform(Distribution):
    """Every value between ``low`` and ``high`` alike.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter
    26.

    >>> Uniform(10, 20).chance(above=18)
    0.2
    """

    low: float
    high: float

    label = "uniform"
    by_trial = True
    formula = "f(x) = 1 / (high - low) from low to high"
    use = "only the two ends are known, and nothing speaks for any value between them"
    percentile_recipe = Recipe(
        lambda family, t, x: family(t[0] - math.exp(t[1]), t[0] + math.exp(t[1])), centre_and_spread
    )

    def __post_init__(self) -> None:
        _ends(self, self.low, self.high)

    @property
    def mean(self) -> float:
        return self.low + (self.high - self.low) / 2

    @property
    def variance(self) -> float:
        return (self.high - self.low) ** 2 / 12

    @property
    def skewness(self) -> float:
        return 0.0

    @property
    def support(self) -> tuple[float, float]:
        return self.low, self.high

    def _density(self, x: Floats) -> Floats:
        return np.where((x >= self.low) & (x <= self.high), 1 / (self.high - self.low), x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        return np.clip((x - self.low) / (self.high - self.low), 0, 1)

    def _survival(self, x: Floats) -> Floats:
        return np.clip((self.high - x) / (self.high - self.low), 0, 1)

    def _quantile(self, u: Floats) -> Floats:
        return self.low + (self.high - self.low) * u


@dataclass(frozen=True, repr=False)
class Triangular(Distribution):
    """A density that rises in a straight line from ``low`` to ``mode`` and falls to ``high``.

    Source: Kotz and van Dorp, Beyond Beta (2004), chapter 1.

    >>> Triangular(low=1, mode=2, high=6).mean
    3.0
    """

    low: float
    mode: float
    high: float

    label = "triangular"
    by_trial = True
    formula = (
        "f(x) rises in a straight line from low to 2 / (high - low) at mode, and falls to high"
    )
    use = "a quick opinion: the least, the likeliest and the most, with weight well out to the ends"
    percentile_recipe = LOW_MODE_HIGH

    def __post_init__(self) -> None:
        low, high = _ends(self, self.low, self.high)
        _mode(self, self.mode, low, high)

    @property
    def mean(self) -> float:
        return (self.low + self.mode + self.high) / 3

    @property
    def variance(self) -> float:
        left, right = self.mode - self.low, self.high - self.mode
        return (left**2 + left * right + right**2) / 18

    @property
    def skewness(self) -> float:
        left, right = self.mode - self.low, self.high - self.mode
        spread = left**2 + left * right + right**2
        return (
            math.sqrt(2)
            * (right - left)
            * (2 * left + right)
            * (left + 2 * right)
            / (5 * math.pow(spread, 1.5))
        )

    @property
    def support(self) -> tuple[float, float]:
        return self.low, self.high

    @cached_property
    def _at_mode(self) -> float:
        """The cdf at the mode."""
        return (self.mode - self.low) / (self.high - self.low)

    def _density(self, x: Floats) -> Floats:
        width = self.high - self.low
        rising = 2 * (x - self.low) / (width * max(self.mode - self.low, np.finfo(float).tiny))
        falling = 2 * (self.high - x) / (width * max(self.high - self.mode, np.finfo(float).tiny))
        inside = np.where(x < self.mode, rising, np.where(x > self.mode, falling, 2 / width))
        return np.where((x >= self.low) & (x <= self.high), inside, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        return np.where(x <= self.mode, self._left(x), 1 - self._right(x))

    def _survival(self, x: Floats) -> Floats:
        return np.where(x <= self.mode, 1 - self._left(x), self._right(x))

    def _left(self, x: Floats) -> Floats:
        rise = np.clip(x - self.low, 0, None) ** 2 / (self.high - self.low)
        return rise / (self.mode - self.low) if self.mode > self.low else x * 0.0

    def _right(self, x: Floats) -> Floats:
        drawdown_ = np.clip(self.high - x, 0, None) ** 2 / (self.high - self.low)
        return drawdown_ / (self.high - self.mode) if self.mode < self.high else x * 0.0

    def _quantile(self, u: Floats) -> Floats:
        width = self.high - self.low
        left = self.low + np.sqrt(u * (width * (self.mode - self.low)))
        right = self.high - np.sqrt((1 - u) * (width * (self.high - self.mode)))
        return np.where(u <= self._at_mode, left, right)


class _BetaShaped(Tabled):
    """What Beta and Pert share: a beta distribution stretched from ``low`` to ``high``. Many
    quantiles use a table.
    """

    low: float
    high: float

    @property
    @abstractmethod
    def _shapes(self) -> tuple[float, float]:
        """The two shapes of the beta distribution on 0 to 1."""

    @property
    def mean(self) -> float:
        a, b = self._shapes
        return self.low + (self.high - self.low) * (a / (a + b))

    @property
    def variance(self) -> float:
        a, b = self._shapes
        return (self.high - self.low) ** 2 * a * b / ((a + b) ** 2 * (a + b + 1))

    @property
    def skewness(self) -> float:
        a, b = self._shapes
        return 2 * (b - a) * math.sqrt(a + b + 1) / ((a + b + 2) * math.sqrt(a * b))

    @property
    def support(self) -> tuple[float, float]:
        return self.low, self.high

    def _share(self, x: Floats) -> Floats:
        return np.clip((x - self.low) / (self.high - self.low), 0, 1)

    def _density(self, x: Floats) -> Floats:
        a, b = self._shapes
        z = self._share(x)
        rest = np.clip((self.high - x) / (self.high - self.low), 0, 1)
        # A shape of exactly 1 makes the density finite at that end: 0**0 is 1.
        log = (a - 1) * np.log(z) if a != 1 else np.zeros_like(z)
        log = log + ((b - 1) * np.log(rest) if b != 1 else 0.0) - betaln(a, b)
        inside = np.exp(log) / (self.high - self.low)
        return np.where((x >= self.low) & (x <= self.high), inside, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        return betainc(*self._shapes, self._share(x))

    def _survival(self, x: Floats) -> Floats:
        return betaincc(*self._shapes, self._share(x))

    def _from_below(self, u: Floats) -> Floats:
        return self.low + (self.high - self.low) * betaincinv(*self._shapes, u)

    def _from_above(self, v: Floats) -> Floats:
        return self.low + (self.high - self.low) * betainccinv(*self._shapes, v)


@dataclass(frozen=True, repr=False)
class Beta(_BetaShaped):
    """The beta distribution with shapes ``a`` and ``b``, from ``low`` to ``high`` (default: 0 and
    1).

    With a shape far below 1, such as Beta(0.1, 0.1), much of the mass lies closer to that end than
    floats can tell apart there; the cdf of a quantile is then not the level to 1e-10, though the
    quantile is right. Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2
    (1995), chapter 25.

    >>> Beta(3, 1).mean
    0.75
    """

    a: float
    b: float
    low: float = 0.0
    high: float = 1.0

    rules = {"a": positive, "b": positive}
    label = "beta"
    formula = (
        "f(x) = u^(a - 1) (1 - u)^(b - 1) / (B(a, b) (high - low)), with u = (x - low) / "
        "(high - low)"
    )
    use = "a share or a rate between two ends: load factors, recovery rates"
    percentile_recipe = Recipe(
        lambda family, t, x: family(math.exp(t[0]), math.exp(t[1])),
        lambda u, x: [math.log(8 * float(np.mean(x))), math.log(8 * (1 - float(np.mean(x))))],
        low=0.0,
        high=1.0,
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        _ends(self, self.low, self.high)

    @property
    def _shapes(self) -> tuple[float, float]:
        return self.a, self.b


@dataclass(frozen=True, repr=False)
class Pert(_BetaShaped):
    """A smooth opinion: a beta distribution from ``low`` to ``high`` whose mean is (low + weight x
    mode + high) / (weight + 2).

    Source: Malcolm, Roseboom, Clark and Fazar, Operations Research 7 (1959), 646-669.

    >>> Pert(low=17.5, mode=19, high=26.5).mean
    20.0
    """

    low: float
    mode: float
    high: float
    weight: float = 4.0

    rules = {"weight": positive}
    label = "pert"
    formula = (
        "beta with shapes 1 + weight (mode - low) / (high - low) and 1 + weight (high - "
        "mode) / (high - low)"
    )
    use = "an opinion with a trusted likeliest value: the least, the likeliest and the most"
    percentile_recipe = LOW_MODE_HIGH

    def __post_init__(self) -> None:
        low, high = _ends(self, self.low, self.high)
        _mode(self, self.mode, low, high)
        super().__post_init__()

    @property
    def _shapes(self) -> tuple[float, float]:
        width = self.high - self.low
        return 1 + self.weight * (self.mode - self.low) / width, 1 + self.weight * (
            self.high - self.mode
        ) / width
