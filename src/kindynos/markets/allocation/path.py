"""Points on a piecewise linear path of weights, from the least variance to the highest mean."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.markets.allocation.critical_line import corners
from kindynos.markets.allocation.region import Region


@dataclass(frozen=True, eq=False)
class Segment:
    """Weights from ``begin`` to ``end``, with mean m + t m' and variance v + 2 t v' + t^2 v'' for t
    from 0 to 1.
    """

    begin: Floats
    end: Floats
    mean: float
    slope: float
    variance: tuple[float, float, float]

    def weights(self, t: float) -> Floats:
        """Return the weights at t."""
        return self.begin + t * (self.end - self.begin)

    def mean_at(self, t: float) -> float:
        """Return the mean at t, after the cost of trades."""
        return self.mean + t * self.slope

    def sd_at(self, t: float) -> float:
        """Return the sd at t."""
        a, b, c = self.variance
        return float(np.sqrt(max(a + 2 * t * b + t * t * c, 0.0)))

    def steepness(self, t: float) -> float:
        """Return the derivative of half the variance at t."""
        return self.variance[1] + t * self.variance[2]


@dataclass(frozen=True, eq=False)
class Path:
    """A frontier: its corners ``(corners, holdings)``, what they gain, and the segments between
    them.
    """

    corners: Floats
    means: Floats
    sds: Floats
    segments: tuple[Segment, ...]

    def first(self, sign: Callable[[Segment, float], float]) -> Floats:
        """Return the weights at which a function that changes from below 0 to above it along the
        path is 0.

        They are the last corner where it stays below 0, and the first where it is above 0 from the
        start.
        """
        from scipy.optimize import brentq

        for segment in self.segments:
            if sign(segment, 0.0) >= 0:
                return segment.begin
            if sign(segment, 1.0) >= 0:
                return segment.weights(
                    float(brentq(lambda t, s=segment: sign(s, t), 0.0, 1.0, xtol=1e-15, rtol=1e-14))
                )
        return np.asarray(self.corners[-1])

    def of_mean(self, mean: float) -> Floats:
        """Return the weights of the least variance whose mean is at least so high."""
        return self.first(lambda s, t: s.mean_at(t) - mean)

    def of_sd(self, sd: float) -> Floats:
        """Return the weights of the highest mean whose sd is at most so high."""
        return self.first(lambda s, t: s.sd_at(t) - sd)

    def best_ratio(self, rate: float, multiple: float | None = None) -> Floats:
        """Return the weights of the highest ratio of the mean above ``rate`` to the sd, or to that
        many sds less the mean.
        """
        if multiple is None:
            return self.first(
                lambda s, t: (s.mean_at(t) - rate) * s.steepness(t) - s.slope * s.sd_at(t) ** 2
            )

        def sign(s: Segment, t: float) -> float:
            mean, sd = s.mean_at(t), s.sd_at(t)
            return (mean - rate) * (multiple * s.steepness(t) - s.slope * sd) - s.slope * sd * (
                multiple * sd - mean
            )

        return self.first(sign)

    def least(self, multiple: float) -> Floats:
        """Return the weights at which ``multiple`` sds less the mean are least."""
        return self.first(lambda s, t: multiple * s.steepness(t) - s.slope * s.sd_at(t))

    def first_with(self, multiple: float, limit: float) -> Floats:
        """Return the weights of the least variance at which ``multiple`` sds less the mean are at
        most ``limit``.
        """

        def sign(s: Segment, t: float) -> float:
            falling = multiple * s.steepness(t) - s.slope * s.sd_at(t) < 0
            return limit - (multiple * s.sd_at(t) - s.mean_at(t)) if falling else 1.0

        return self.first(sign)

    def most_with(self, multiple: float, limit: float) -> Floats:
        """Return the weights of the highest mean at which ``multiple`` sds less the mean are at
        most ``limit``.
        """

        def sign(s: Segment, t: float) -> float:
            # Before its least the figure falls along the path; there it does not matter that it is
            # above the limit.
            rising = multiple * s.steepness(t) - s.slope * s.sd_at(t) > 0
            return multiple * s.sd_at(t) - s.mean_at(t) - limit if rising else -1.0

        return self.first(sign)


def path_of(region: Region, mean: Floats, covariance: Floats) -> Path:
    """Return the frontier of a region."""
    points = weights = corners(region.system(), covariance, mean)
    means = np.array([float(w @ mean) - region.charge(w) for w in weights])
    sds = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", weights, covariance, weights), 0.0))
    if len(weights) == 1:
        weights, means, sds = np.repeat(weights, 2, axis=0), np.repeat(means, 2), np.repeat(sds, 2)
    segments = []
    for k in range(len(weights) - 1):
        move = weights[k + 1] - weights[k]
        variance = (
            float(sds[k] ** 2),
            float(move @ covariance @ weights[k]),
            float(move @ covariance @ move),
        )
        segments.append(
            Segment(
                weights[k],
                weights[k + 1],
                float(means[k]),
                float(means[k + 1] - means[k]),
                variance,
            )
        )
    return Path(points, means[: len(points)], sds[: len(points)], tuple(segments))
