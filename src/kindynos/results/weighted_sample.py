"""Trials that weigh differently, as likelihood ratios make them, in the same protocol as trials
that weigh alike.

The variance of a weighted mean is that of the influence of its trials, the sum of
w^2 (x - mean)^2 over the square of the sum of w, whether or not weights depend on the values.
Source: Owen, Monte Carlo theory, methods and examples (2013), equation 9.8.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.intervals import Z
from kindynos.results.sample import Sample, Terms

ROUNDING = 1e-12


@dataclass(frozen=True)
class WeightedSample(Sample):
    """A sample whose trials have weights, one per trial and at least 0."""

    weights: Floats = field(default_factory=lambda: np.empty(0))

    @cached_property
    def valid_weights(self) -> Floats:
        """The weights of the valid trials, 1 on average."""
        valid = self.weights[~np.isnan(self.values)]
        total = float(valid.sum())
        return valid * (len(valid) / total) if total > 0 else valid

    @property
    def worth(self) -> float:
        """How many independent trials of equal weight say as much: the square of the sum of the
        weights over the sum of their squares (Kish, Survey Sampling, 1965, section 11.2).
        """
        return _worth(self.valid_weights)

    @property
    def share_with_a_value(self) -> float:
        """Which weighted share of all trials is valid."""
        return float(self.weights[~np.isnan(self.values)].sum() / self.weights.sum())

    @property
    def student(self) -> float:
        """Student's t for the blocks, or the normal point where trials are independent and the
        variance is that of their influence.
        """
        return Z if self.independent else super().student

    def terms(self, values: Floats) -> Terms:
        """Return terms, one for each valid trial, by their weights."""
        weights = self.valid_weights
        sizes, sums = self.by_block(weights), self.by_block(weights * values)
        influence = weights * (values - sums.sum() / sizes.sum())
        variance = float((influence**2).sum()) / float(sizes.sum()) ** 2
        return Terms(sizes, sums, variance, self.worth, lambda: _skewness(influence))

    def _shares(self, hit: NDArray[Any]) -> Terms:
        """Return whether each valid trial is a hit (or half of one), as terms; their worth is that
        of as many independent trials as have the variance of their share.
        """
        terms = self.terms(hit.astype(np.float64))
        share = terms.mean
        worth = self.worth
        if ROUNDING < share < 1 - ROUNDING:  # of all or none the variance is that of rounding
            worth = share * (1 - share) / terms.variance
        return Terms(terms.sizes, terms.sums, terms.variance, worth, terms.skewness)

    def reach_below(self, value: float) -> float:
        """Return the half-width of the interval of the share of trials at or below a value."""
        return self.student * self._shares(self.valid <= value).deviation(self.independent)

    @property
    def middle(self) -> float:
        """The weighted mean of the valid values."""
        return float(np.average(self.valid, weights=self.valid_weights))

    @property
    def spread(self) -> float:
        """The weighted standard deviation."""
        gaps = self.valid - self.middle
        return math.sqrt(float(np.average(gaps * gaps, weights=self.valid_weights)))

    @property
    def asymmetry(self) -> float:
        """The weighted mean third power of the distances in standard deviations."""
        return self._standardised(3)

    @property
    def peakedness(self) -> float:
        """The weighted mean fourth power of the distances in standard deviations."""
        return self._standardised(4)

    def _standardised(self, power: int) -> float:
        sd = self.spread
        gaps = (self.valid - self.middle) / sd if sd > 0 else np.zeros(self.count)
        return float(np.average(gaps**power, weights=self.valid_weights))

    def farthest_share(self, few: int) -> float:
        """Return the share of the variance that the few trials of the largest part in it hold."""
        squares = self.valid_weights * (self.valid - self.middle) ** 2
        total = float(squares.sum())
        if not 0 < total < math.inf:
            return 0.0
        return float(np.partition(squares, self.count - few)[self.count - few :].sum()) / total

    def left_out(self, powers: int) -> list[Floats]:
        """Return the weighted sums of the powers 0, 1, ... with each block left out."""
        gaps, terms = self.valid - self.middle, self.valid_weights
        sums = []
        for _ in range(powers + 1):
            by_block = self.by_block(terms)
            sums.append(by_block.sum() - by_block)
            terms = terms * gaps
        return sums

    @cached_property
    def _levels(self) -> tuple[Floats, Floats]:
        """The valid values in order, and the level at the middle of the weight of each."""
        order = np.argsort(self.valid, kind="stable")
        weights = self.valid_weights[order] / len(order)
        return self.valid[order], np.cumsum(weights) - weights / 2

    def share_below(self, values: Floats, upto: bool = False) -> Floats:
        """Return the weighted share below each of some values, those at it by half, or ``upto``
        them wholly.
        """
        order = np.argsort(self.valid, kind="stable")
        sums = np.concatenate([[0.0], np.cumsum(self.valid_weights[order])]) / self.count
        last = sums[np.searchsorted(self.sorted, values, "right")]
        first = last if upto else sums[np.searchsorted(self.sorted, values, "left")]
        return np.asarray((first + last) / 2)

    def histogram(self, edges: Floats) -> Floats:
        """Return the weighted share of all trials between each two edges."""
        valid = ~np.isnan(self.values)
        counts = np.histogram(self.valid, edges, weights=self.weights[valid])[0]
        return np.asarray(counts / self.weights.sum())

    def quantile(self, level: Any) -> Any:
        """Return the value at a level, interpolated between the middles of the weights."""
        values, levels = self._levels
        return np.asarray(np.interp(level, levels, values))

    def ordered(self, position: int) -> float:
        """Return the value that would have a place in order among as many trials of equal weight
        as these are worth.
        """
        level = (position + 0.5) / self.worth
        return float(self.quantile(level if position >= 0 else 1 + level))


def sample_of(
    values: Floats,
    bounds: NDArray[np.int64],
    together: int = 0,
    better: str = "high",
    weights: Floats | None = None,
    constant: bool = False,
) -> Sample:
    """Return the sample of values that weigh alike, or as ``weights`` say."""
    if weights is None:
        return Sample(values, bounds, together, better, constant)
    return WeightedSample(values, bounds, together, better, weights=weights)


def _worth(weights: Floats) -> float:
    squares = float((weights**2).sum())
    return float(weights.sum()) ** 2 / squares if squares > 0 else 0.0


def _skewness(influence: Floats) -> float:
    """Return the skewness of terms whose mean is 0."""
    second = float((influence**2).mean())
    return float((influence**3).mean()) / second**1.5 if second > 0 else 0.0
