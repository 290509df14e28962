"""The law of a sum of a random number of random losses."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.distributions.base import Distribution, Floats
from kindynos.distributions.built import a_law
from kindynos.distributions.forms import ByMoments
from kindynos.errors import ParameterError


@dataclass(frozen=True, repr=False)
class Compound(ByMoments):
    """The sum of a random number of independent random losses: ``count`` of them, each with the law ``size``, from 0 up.

    The cdf is worked out on a grid by the fast Fourier transform, tilted against wrap-around, and is
    exact to about 1e-6; mean, variance and skewness are exact. Source: Grübel and Hermesmeier, ASTIN Bulletin 29
    (1999), 197-214.

    >>> from kindynos import Gamma, Poisson
    >>> Compound(Poisson(3), Gamma(2, 5)).mean
    30.0
    """

    count: Distribution
    size: Distribution

    rules = {"count": a_law, "size": a_law}
    label = "compound"
    use = "a year's losses: how many come, and how large each is"

    def __post_init__(self) -> None:
        super().__post_init__()
        low, _ = self.count.support
        if not self.count.discrete or low < 0:
            raise ParameterError(f"Compound: count must be a law on whole numbers from 0 up, not {self.count!r}")
        if self.size.support[0] < 0:
            raise ParameterError(f"Compound: size must not be negative, and {self.size!r} can be")
        if not math.isfinite(self.size.variance) or not math.isfinite(self.count.variance):
            raise ParameterError("Compound: count and size need a finite variance")
        if self.count.mean > 100_000:
            raise ParameterError(f"Compound: the mean count may be 100,000 at most, not {self.count.mean:g}")

    @property
    def has_atoms(self) -> bool:
        return True

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        n, x = self.count, self.size
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
    def _grid(self) -> tuple[float, Floats]:
        """The step of the grid, and the cdf at its multiples."""
        points = 2**16
        mean, variance, _ = self._summary
        top = min(self.support[1], mean + 60 * math.sqrt(variance))
        step = top / (points * 0.75)
        edges = step * (np.arange(points + 1) - 0.5)
        cdf = self.size._cdf(np.maximum(edges, -1.0))
        mass = np.diff(cdf)
        mass[0] = cdf[1]
        tilt = np.exp(-20 * np.arange(points) / points)
        transform = np.fft.fft(mass * tilt)
        total = np.fft.ifft(self._generating(transform)).real / tilt
        return step, np.clip(np.cumsum(total), 0, 1)

    def _generating(self, z: Any) -> Any:
        """Return the generating function of the count, the sum of mass(n) z**n, by Horner's rule."""
        last = int(self.count._quantile(np.array([1 - 1e-15]))[0]) + 1
        masses = self.count._density(np.arange(last + 1, dtype=np.float64))
        answer = np.full(z.shape, masses[-1], dtype=complex)
        for mass in masses[-2::-1]:
            answer *= z
            answer += mass
        return answer

    @property
    def _none(self) -> float:
        """The chance that the sum is 0."""
        return float(self._grid[1][0]) if self.size._mass(0.0) or self.size.discrete else self.count._mass(0.0)

    def _mass(self, x: float) -> float:
        return self._none if x == 0 else 0.0

    def _knots(self) -> tuple[Floats, Floats]:
        step, cdf = self._grid
        x = np.concatenate([[0.0], step * (np.arange(len(cdf)) + 0.5)])
        return x, np.maximum.accumulate(np.concatenate([[self._none], np.maximum(cdf, self._none)]))

    def _density(self, x: Floats) -> Floats:
        step = self._grid[0]
        inside = (self._cdf(x + step) - self._cdf(np.maximum(x - step, 0))) / np.where(x < step, x + step, 2 * step)
        return np.where(x > 0, inside, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        knots, level = self._knots()
        return np.where(x < 0, x * 0.0, np.interp(x, knots, level, right=1.0))

    def _quantile(self, u: Floats) -> Floats:
        knots, level = self._knots()
        first = np.concatenate([[True], level[1:] > level[:-1]])
        found = np.interp(u, level[first], knots[first])
        return np.where(u <= self._none, 0.0, np.where(u >= 1, self.support[1], found))
