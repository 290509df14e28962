"""Distributions made from data: empirical, histogram, kernel density."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.families import MomentDistribution, Tabled
from kindynos.distributions.inverse import central
from kindynos.distributions.kernel_sums import KernelSums
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.validate import check_length, finite, instance, invalid_argument, positive


def numbers(name: str, values: Any, least: int = 1) -> tuple[float, ...]:
    """Return a list of finite numbers as a tuple; raises ParameterError for anything else, or fewer
    than ``least``.
    """
    check_length(name, values)
    if isinstance(values, str) or not (hasattr(values, "__len__") and hasattr(values, "__iter__")):
        raise invalid_argument(name, "a list of numbers", values)
    listed = tuple(finite(f"{name}[{i}]", value) for i, value in enumerate(values))
    if len(listed) < least:
        raise ParameterError(f"{name} must hold at least {least} numbers, not {len(listed)}")
    return listed


def normalized_weights(weights: Any, count: int) -> tuple[float, ...]:
    """Return ``count`` weights, none negative and not all 0, scaled to add up to 1."""
    listed = numbers("weights", weights)
    if len(listed) != count:
        raise ParameterError(
            f"weights must be as many as there are parts, {count}, not {len(listed)}"
        )
    for i, weight in enumerate(listed):
        if weight < 0:
            raise invalid_argument(f"weights[{i}]", "at least 0", weight)
    total = math.fsum(listed)
    if total <= 0:
        raise ParameterError("weights must not all be 0")
    # scaled already: dividing again would change last digits
    if abs(total - 1) <= count * 2.0**-53:
        return tuple(listed)
    return tuple(weight / total for weight in listed)


class _InPieces(MomentDistribution):
    """A distribution with a constant density between knots; equal neighbouring knots carry mass on
    their value.
    """

    @property
    @abstractmethod
    def _knots(self) -> tuple[Floats, Floats]:
        """The knots, and the level at each, from 0 to 1."""

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        x, level = self._knots
        a, b, weight = x[:-1], x[1:], np.diff(level)
        centre = float(weight @ (a + b)) / 2
        a, b = a - centre, b - centre  # about the mean, so that nothing cancels
        second = float(weight @ (a * a + a * b + b * b)) / 3
        third = float(weight @ ((a * a + b * b) * (a + b))) / 4
        return centre, second, (third / math.pow(second, 1.5) if second else math.nan)

    @property
    def support(self) -> tuple[float, float]:
        x, _ = self._knots
        return float(x[0]), float(x[-1])

    def _density(self, x: Floats) -> Floats:
        knots, level = self._knots
        gap = np.clip(np.searchsorted(knots, x, side="right") - 1, 0, len(knots) - 2)
        inside = (x >= knots[0]) & (x <= knots[-1])
        return np.where(inside, (np.diff(level) / np.diff(knots))[gap], x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        knots, level = self._knots
        # at equal knots the highest level counts
        last = np.concatenate([knots[1:] != knots[:-1], [True]])
        return np.asarray(np.interp(x, knots[last], level[last], left=0.0, right=1.0))

    def _quantile(self, u: Floats) -> Floats:
        knots, level = self._knots
        # over an empty stretch the lowest value counts
        first = np.concatenate([[True], level[1:] != level[:-1]])
        return np.asarray(np.interp(u, level[first], knots[first]))


MANY = 20_000_000  # kernels that are evaluated one by one
MOST_SMOOTHED = 200_000  # values that a kernel density takes, so that its table takes seconds


@dataclass(frozen=True, repr=False)
class Empirical(_InPieces):
    """The distribution of recorded values, weighted if given: straight lines between them, or with
    ``steps`` the values alone.

    Percentiles of the interpolated form are those of linear interpolation between ordered values.
    Source: Hyndman and Fan, American Statistician 50 (1996), 361-365, definition 7.

    >>> Empirical([3, 1, 2, 10]).percentile(50)
    2.5
    """

    values: Sequence[float]
    weights: Sequence[float] | None = None
    steps: bool = False

    label = "empirical"
    formula = "F(x) is the weight of the values up to x, in steps or in straight lines between them"
    use = "ten years of records, taken as they are"

    def __post_init__(self) -> None:
        object.__setattr__(
            self, "steps", bool(instance("steps", self.steps, (bool, np.bool_), "True or False"))
        )
        values = numbers("values", self.values, 1 if self.steps else 2)
        if self.weights is not None:
            weights = normalized_weights(self.weights, len(values))
            object.__setattr__(
                self, "weights", tuple(w for _, w in sorted(zip(values, weights, strict=True)))
            )
        object.__setattr__(self, "values", tuple(sorted(values)))

    @property
    def discrete(self) -> bool:
        return self.steps

    @property
    def has_atoms(self) -> bool:
        return self.steps or len(set(self.values)) < len(self.values)

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        knots, level = self._knots
        return knots[::2], np.diff(np.concatenate([[0.0], level[1::2]])) if self.steps else level[
            :0
        ]

    @cached_property
    def _knots(self) -> tuple[Floats, Floats]:
        values = np.array(self.values)
        weights = (
            np.full(len(values), 1 / len(values))
            if self.weights is None
            else np.array(self.weights)
        )
        if self.steps:
            ends = np.concatenate([[0.0], np.cumsum(weights)])
            ends[-1] = 1.0
            return np.repeat(values, 2), np.repeat(ends, 2)[1:-1]
        middles = np.cumsum(weights) - weights / 2
        level = (
            (middles - middles[0]) / (middles[-1] - middles[0])
            if middles[-1] > middles[0]
            else np.array([0.0, 1.0])
        )
        return values, level

    def _density(self, x: Floats) -> Floats:
        if not self.steps:
            return super()._density(x)
        return self._cdf(x) - self._cdf(np.nextafter(x, -np.inf))

    def _cdf(self, x: Floats) -> Floats:
        if not self.steps:
            return super()._cdf(x)
        knots, level = self._knots
        return np.where(
            np.isnan(x),
            x,
            np.concatenate([[0.0], level[1::2]])[np.searchsorted(knots[::2], x, side="right")],
        )

    def _quantile(self, u: Floats) -> Floats:
        if not self.steps:
            return super()._quantile(u)
        knots, level = self._knots
        positions = np.searchsorted(level[1::2], np.where(u > 0, u, np.finfo(float).tiny))
        return np.where(np.isnan(u), u, knots[::2][np.minimum(positions, len(knots) // 2 - 1)])

    def _mass(self, x: float) -> float:
        if self.steps:
            return self.pmf(x)
        at = np.array(self.values) == x
        return float(np.diff(self._knots[1])[at[1:] & at[:-1]].sum())


@dataclass(frozen=True, repr=False)
class Histogram(_InPieces):
    """A distribution from counts or weights in bins: a constant density between neighbouring edges.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 2 (1995), chapter 26
    (a mixture of uniforms).

    >>> Histogram(edges=[0, 10, 20], weights=[3, 1]).mean
    7.5
    """

    edges: Sequence[float]
    weights: Sequence[float]

    label = "histogram"
    formula = (
        "f(x) = weights[i] / (edges[i + 1] - edges[i]) between two edges, with weights that "
        "add up to 1"
    )
    use = "figures known only by how many fall into each bin"

    def __post_init__(self) -> None:
        edges = numbers("edges", self.edges, 2)
        for i, (a, b) in enumerate(pairwise(edges)):
            if not a < b:
                raise invalid_argument(f"edges[{i + 1}]", f"above the one before ({a!r})", b)
        object.__setattr__(self, "edges", edges)
        object.__setattr__(self, "weights", normalized_weights(self.weights, len(edges) - 1))

    @cached_property
    def _knots(self) -> tuple[Floats, Floats]:
        level = np.concatenate([[0.0], np.cumsum(self.weights)])
        level[-1] = 1.0
        return np.array(self.edges), level


@dataclass(frozen=True, repr=False)
class KernelDensity(MomentDistribution, Tabled):
    """Recorded values smoothed by a normal kernel of sd ``bandwidth`` (default: Silverman's rule).

    Source: Silverman, Density Estimation for Statistics and Data Analysis (1986), equation 3.31.

    >>> KernelDensity([1, 2, 3, 4], bandwidth=0.5).mean
    2.5
    """

    values: Sequence[float]
    bandwidth: float | None = None

    label = "kernel density"
    smooth = False
    formula = "f(x) is the mean of normal densities around the values, each with sd bandwidth"
    use = "records taken as a sample of something smooth, which may go a little beyond them"

    def __post_init__(self) -> None:
        values = numbers("values", self.values, 2)
        if len(values) > MOST_SMOOTHED:
            raise ParameterError(
                f"smooths at most {MOST_SMOOTHED:,} values, not {len(values):,}; larger samples "
                "need no smoothing: say Empirical, or give a part of them"
            )
        object.__setattr__(self, "values", tuple(sorted(values)))
        if self.bandwidth is None:
            sd = float(np.std(values, ddof=1))
            quartiles = float(np.subtract(*np.percentile(values, [75, 25]))) / 1.34
            width = 0.9 * (min(sd, quartiles) or sd) * len(values) ** -0.2
            if width <= 0:
                raise ParameterError("all values are equal; give a bandwidth")
            object.__setattr__(self, "bandwidth", width)
        else:
            object.__setattr__(self, "bandwidth", positive("bandwidth", self.bandwidth))

    @property
    def _width(self) -> float:
        return float(self.bandwidth or 0.0)

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        values = np.array(self.values)
        first, width = float(values.mean()), self._width
        gaps = values - first
        _, variance, skewness = central(
            0.0, float((gaps**2).mean()) + width**2, float((gaps**3).mean())
        )
        return first, variance, skewness

    @property
    def support(self) -> tuple[float, float]:
        return -math.inf, math.inf

    def _over(self, x: Floats, kernel: Any) -> Floats:
        """Return the average of a kernel of (x - value) / width over the values, a stretch of x at
        a time.
        """
        flat, values = x.reshape(-1), np.array(self.values)
        averages = np.empty(flat.shape)
        step = max(1, 2_000_000 // len(values))
        for begin in range(0, len(flat), step):
            column = flat[begin : begin + step, None]
            averages[begin : begin + step] = kernel((column - values) / self._width).mean(axis=1)
        return averages.reshape(x.shape)

    def _many(self, x: Floats) -> bool:
        """Whether polynomials serve better than a sum over all values at each point."""
        return x.size * len(self.values) > MANY

    def _density(self, x: Floats) -> Floats:
        if self._many(x):
            return self._sums[0].density(x.reshape(-1)).reshape(x.shape)
        return self._over(x, lambda z: np.exp(-(z**2) / 2)) / (self._width * math.sqrt(2 * math.pi))

    def _cdf(self, x: Floats) -> Floats:
        if self._many(x):
            return self._sums[0].cdf(x.reshape(-1)).reshape(x.shape)
        return self._over(x, ndtr)

    def _survival(self, x: Floats) -> Floats:
        if self._many(x):
            return self._sums[1].cdf(-x.reshape(-1)).reshape(x.shape)
        return self._over(x, lambda z: ndtr(-z))

    @cached_property
    def _sums(self) -> tuple[KernelSums, KernelSums]:
        """The cells for the cdf, and those of the values with the opposite sign, for the survival
        function.
        """
        values = np.array(self.values)
        return KernelSums.of(values, self._width), KernelSums.of(-values[::-1], self._width)

    def _from_below(self, u: Floats) -> Floats:
        return self._sums[0].quantile(u)

    def _from_above(self, v: Floats) -> Floats:
        return -self._sums[1].quantile(v)
