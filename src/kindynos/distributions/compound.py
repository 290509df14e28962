"""The distribution of a sum of a random number of random losses."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property, reduce
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution, a_distribution
from kindynos.distributions.counts import Binomial, NegativeBinomial, Poisson
from kindynos.distributions.families import MomentDistribution
from kindynos.errors import ParameterError

MOST = 2**20  # points of the grid


@dataclass(frozen=True, repr=False)
class Compound(MomentDistribution):
    """The sum of a random number of independent random losses: ``count`` of them, each with the
    distribution ``size``, from 0 up.

    The cdf is computed on a grid by the fast Fourier transform, tilted against wrap-around. Sizes
    that are single values with a common divisor (3 and 70 tenths) give a sum on its multiples, and
    all is exact to about 1e-12. With other sizes the grid is fine, up to a million points, and the
    cdf right to about 1e-6. It ends where a larger single loss is expected once in 1e9, or at the
    last point; beyond it the sum is taken to follow its largest loss: P(S > x) = E[N] P(X > x -
    E[S] + E[X]). Sizes may have an infinite variance, with a finite mean. Mean, variance and
    skewness are exact. Sources: Grübel and Hermesmeier, ASTIN Bulletin 29 (1999), 197-214;
    Embrechts, Klüppelberg and Mikosch, Modelling Extremal Events (1997), theorem 1.3.9, for the
    tail.

    >>> from kindynos import Gamma, Poisson
    >>> Compound(Poisson(3), Gamma(2, 5)).mean
    30.0
    """

    count: Distribution
    size: Distribution

    rules = {"count": a_distribution, "size": a_distribution}
    label = "compound"
    formula = "y_1 + ... + y_n, with n from count and each y from size"
    use = "a year's losses: how many come, and how large each is"

    def __post_init__(self) -> None:
        super().__post_init__()
        low, _ = self.count.support
        if not self.count.discrete or low < 0:
            raise ParameterError(
                f"count must be a distribution on whole numbers from 0 up, not {self.count!r}"
            )
        if self.size.support[0] < 0:
            raise ParameterError(f"size must not be negative, and {self.size!r} can be")
        if not math.isfinite(self.size.mean) or not math.isfinite(self.count.variance):
            raise ParameterError("size needs a finite mean, and count a finite variance")
        if self.size.discrete and not math.isfinite(self.size.variance):
            raise ParameterError("a size of single values needs a finite variance")
        if self.count.mean > 100_000:
            raise ParameterError(f"the mean count may be 100,000 at most, not {self.count.mean:g}")

    @property
    def discrete(self) -> bool:
        return self._lattice is not None

    @property
    def has_atoms(self) -> bool:
        return True

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        if self._lattice is None:
            return super()._atoms
        kept = np.flatnonzero(self._masses > 1e-300)
        return self._lattice_values(kept), self._masses[kept]

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        n, x = self.count, self.size
        if not math.isfinite(x.variance) and n.mean > 0:
            return n.mean * x.mean, math.inf, math.nan
        variance = n.mean * x.variance + n.variance * x.mean**2
        third = n.mean * x.skewness * math.pow(x.variance, 1.5) if x.variance else 0.0
        third += 3 * n.variance * x.mean * x.variance
        third += (n.skewness * math.pow(n.variance, 1.5) if n.variance else 0.0) * x.mean**3
        return n.mean * x.mean, variance, third / math.pow(variance, 1.5) if variance else math.nan

    @property
    def support(self) -> tuple[float, float]:
        (fewest, most), (least, largest) = self.count.support, self.size.support
        return fewest * least, (most * largest if most and largest else 0.0)

    @cached_property
    def _lattice(self) -> Fraction | None:
        """The largest number that divides all sizes, where they are single values and the
        sums fit on its grid.
        """
        if not self.size.discrete:
            return None
        values = [Fraction(float(value)).limit_denominator(10**9) for value in self.size._atoms[0]]
        if any(
            float(exact) != value for exact, value in zip(values, self.size._atoms[0], strict=True)
        ):
            return None
        step = reduce(
            _common_divisor, (value for value in values if value), Fraction(0)
        ) or Fraction(1)
        return step if self._end() <= 0.75 * MOST * float(step) else None

    def _end(self) -> float:
        """Return where the grid may end: what lies beyond is expected less than once in 1e9."""
        mean, variance, _ = self._summary
        rare = min(1e-9 / self.count.mean, 1.0) if self.count.mean else 1.0
        largest = float(self.size._upper_quantile(np.array([rare]))[0])
        return min(self.support[1], max(mean + 60 * math.sqrt(variance), mean + largest))

    @cached_property
    def _step(self) -> tuple[float, int]:
        """The step of the grid, and how many points it has."""
        if self._lattice is not None:
            step = float(self._lattice)
            return step, 1 << max(8, math.ceil(math.log2(self._end() / step / 0.75 + 2)))
        mean, variance, _ = self._summary
        if not math.isfinite(variance):
            low, high = self.size.quantile(np.array([0.25, 0.75]))
            return max((high - low) / 200, 30 * mean / (0.75 * MOST)), MOST
        least = min(mean + 60 * math.sqrt(variance), self.support[1]) / 49_000
        if self.size.variance > 0:
            least = min(least, math.sqrt(self.size.variance) / 500)
        points = 1 << min(20, max(16, math.ceil(math.log2(self._end() / least / 0.75))))
        return max(
            least, min(self._end(), mean + 1e5 * math.sqrt(variance)) / points / 0.75
        ), points

    @cached_property
    def _masses(self) -> Floats:
        """The mass at the multiples of the step; of continuous sizes, that within half a step."""
        step, points = self._step
        mass = np.zeros(points)
        if self._lattice is not None:
            values, chances = self.size._atoms
            position = np.rint(values / step).astype(np.int64)
            np.add.at(mass, position[position < points], chances[position < points])
        else:
            cdf = self.size._cdf(np.maximum(step * (np.arange(points + 1) - 0.5), -1.0))
            mass = np.diff(cdf)
            mass[0] = cdf[1]
        tilt = np.exp(-20 * np.arange(points) / points)
        transform = np.fft.rfft(mass * tilt)
        return np.maximum(np.fft.irfft(generating(self.count, transform), points) / tilt, 0.0)

    @cached_property
    def _levels(self) -> Floats:
        """The cdf at the multiples of the step."""
        return np.minimum(np.cumsum(self._masses), 1.0)

    def _lattice_values(self, index: Any) -> Floats:
        assert self._lattice is not None
        return np.asarray(index * float(self._lattice.numerator) / self._lattice.denominator)

    @property
    def _none(self) -> float:
        """The chance that the sum is 0."""
        return (
            float(self._masses[0])
            if self._lattice is not None or self.size.has_atoms
            else self.count._mass(0.0)
        )

    def _mass(self, x: float) -> float:
        if self._lattice is None:
            return self._none if x == 0 else 0.0
        return float(self._density(np.array(x)))

    @cached_property
    def _knots(self) -> tuple[Floats, Floats]:
        """Values and the cdf there, up to the end of the grid; the cdf is straight between them."""
        step, points = self._step
        last = int(0.75 * points)
        x = np.concatenate([[0.0], step * (np.arange(last) + 0.5)])
        level = np.maximum.accumulate(
            np.concatenate([[self._none], np.maximum(self._levels[:last], self._none)])
        )
        far = x > 0.5 * (self._summary[0] + x[-1])
        return x, np.where(far, np.minimum(level, 1.0 - self._beyond(x)), level)

    def _beyond(self, x: Floats) -> Floats:
        """Return how often a single loss alone takes the sum beyond x, all others being as they are
        on average.
        """
        rest = max(self._summary[0] - self.size.mean, 0.0)
        return np.minimum(self.count.mean * self.size._survival(np.maximum(x - rest, 0.0)), 1.0)

    def _density(self, x: Floats) -> Floats:
        step = self._step[0]
        if self._lattice is not None:
            index = np.clip(np.rint(x / step), 0, len(self._masses) - 1).astype(np.int64)
            return np.where(
                np.abs(self._lattice_values(index) - x) <= 1e-12 * np.abs(x),
                self._masses[index],
                x * 0.0,
            )
        inside = (self._cdf(x + step) - self._cdf(np.maximum(x - step, 0))) / np.where(
            x < step, x + step, 2 * step
        )
        return np.where(x > 0, inside, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        if self._lattice is not None:
            index = np.clip(
                np.floor(x / self._step[0] * (1 + 1e-13)), -1, len(self._levels) - 1
            ).astype(np.int64)
            return np.where(x < 0, x * 0.0, self._levels[np.maximum(index, 0)] + x * 0.0)
        knots, level = self._knots
        return np.where(
            x < 0,
            x * 0.0,
            np.where(x > knots[-1], 1.0 - self._beyond(x), np.interp(x, knots, level)),
        )

    def _survival(self, x: Floats) -> Floats:
        end = math.inf if self._lattice is not None else self._knots[0][-1]
        return np.where(x > end, self._beyond(x), 1.0 - self._cdf(x))

    def _quantile(self, u: Floats) -> Floats:
        if self._lattice is not None:
            index = np.minimum(np.searchsorted(self._levels, u), len(self._levels) - 1)
            return np.where(u >= 1, self.support[1], self._lattice_values(index))
        knots, level = self._knots
        clipped = np.clip(np.searchsorted(level, u), 1, len(level) - 1)
        low, high = level[clipped - 1], level[clipped]
        share = np.clip((u - low) / np.where(high > low, high - low, 1.0), 0.0, 1.0)
        knot = knots[clipped - 1] + share * (knots[clipped] - knots[clipped - 1])
        if (beyond := (u > level[-1]) & (u < 1)).any():
            rest = max(self._summary[0] - self.size.mean, 0.0)
            knot[beyond] = rest + self.size._upper_quantile(
                np.minimum((1.0 - u[beyond]) / self.count.mean, 1.0)
            )
        return np.where(
            u <= self._none, 0.0, np.where(u >= 1, self.support[1], np.maximum(knot, 0.0))
        )


def generating(count: Distribution, z: Any) -> Any:
    """Return the generating function of a count at complex z, the sum of mass(n) z**n: closed, or
    by Horner's rule.
    """
    match count:
        case Poisson(mean=mean):
            return np.exp(mean * (z - 1))
        case Binomial(trials=trials, probability=chance):
            return (1 - chance + chance * z) ** trials
        case NegativeBinomial(successes=successes, probability=chance):
            return (chance / (1 - (1 - chance) * z)) ** successes
    last = int(count._quantile(np.array([1 - 1e-15]))[0]) + 1
    masses = count._density(np.arange(last + 1, dtype=np.float64))
    powers = np.full(z.shape, masses[-1], dtype=complex)
    for mass in masses[-2::-1]:
        powers *= z
        powers += mass
    return powers


def _common_divisor(a: Fraction, b: Fraction) -> Fraction:
    return Fraction(
        math.gcd(a.numerator * b.denominator, b.numerator * a.denominator),
        a.denominator * b.denominator,
    )
