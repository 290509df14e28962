"""One sample: the values of one number over trials, alike or with weights, and their blocks. Every
figure of trials is worked out of it.

Estimates come from the whole sample. The error of a share, a mean or a quantile is that of a mean
of terms, one per trial: from the spread between blocks where trials of a block depend on each
other, else from the terms themselves. The variance of a weighted mean is the sum of
w^2 (x - mean)^2 over the square of the sum of w, whether or not weights depend on the values
(Owen, Monte Carlo theory, methods and examples, 2013, equation 9.8).
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.intervals import Z, t_point

FEWEST = 200  # trials below which no error is given
FEWEST_BLOCKS = 5  # blocks below which their spread says too little
ROUNDING = 1e-12  # of a share of all trials or none


@dataclass(frozen=True)
class Terms:
    """Terms whose mean is estimated: their weight (their number, where all weigh alike) and their
    sums by block.

    ``variance`` is that of their mean if trials are independent, ``effective_count`` how many
    independent trials of equal weight say as much of a share, and ``skewness`` that of the terms.
    ``count`` is their number, and ``rarer``, of shares with weights, how many trials of equal
    weight say as much as the hits, or as the others where these are fewer.
    """

    sizes: Floats | NDArray[np.int64]
    sums: Floats
    variance: float
    effective_count: float
    skewness: Callable[[], float]
    count: float
    rarer: float = math.inf

    @property
    def mean(self) -> float:
        """Their mean."""
        return float(self.sums.sum() / self.sizes.sum())

    def deviation(self, independent: bool) -> float:
        """Return the standard deviation of their mean, from the spread between blocks where trials
        within one depend on each other.
        """
        return math.sqrt(
            self.variance if independent else variance_by_blocks(self.sums, self.sizes)
        )


def variance_by_blocks(sums: Floats, sizes: Floats | NDArray[np.int64]) -> float:
    """Return the variance of a mean from the sums and numbers of its terms by block."""
    count, blocks = sizes.sum(), len(sizes)
    gaps = (count * sums - sizes * sums.sum()) / count  # exact for whole numbers: equal blocks
    return float(np.sum(gaps**2) / float(count) ** 2 * blocks / (blocks - 1))


def interpolated(low: float, high: float, fraction: float) -> float:
    """Return the value between two neighbours in order; between a number and an infinite value it
    is the infinite one.

    >>> interpolated(1.0, 3.0, 0.25), interpolated(-math.inf, 3.0, 0.25)
    (1.5, -inf)
    """
    if fraction == 0 or low == high or low == -math.inf:
        return low
    return low + (high - low) * fraction


class AnySample(ABC):
    """What statistics need of trials: held one by one, or only as sums by block.

    ``together`` says how many trials of a block depend on each other, as the plan has it: 1 where
    they are independent, 2 in antithetic pairs, 0 where all of them do. ``better`` says which end
    of the values is wanted, ``constant`` that no draw reaches them.
    """

    together: int
    better: str
    constant: bool

    @property
    @abstractmethod
    def count(self) -> int:
        """How many trials have a value."""

    @property
    @abstractmethod
    def blocks(self) -> int:
        """How many blocks have a trial with a value."""

    @property
    @abstractmethod
    def negated(self) -> Self:
        """The same trials with the opposite sign, and so with the other end wanted."""

    @property
    @abstractmethod
    def mean(self) -> float:
        """The mean of the trials with a value."""

    @property
    @abstractmethod
    def sd(self) -> float:
        """Their standard deviation."""

    @abstractmethod
    def standardized(self, power: int) -> float:
        """Return the mean power of the distances from the mean in standard deviations; 0 where all
        are equal.
        """

    @abstractmethod
    def left_out(self, powers: int) -> list[Floats]:
        """Return the sums of the powers 0, 1, ... of the distances from the mean with each block
        left out.
        """

    @abstractmethod
    def distances(self) -> Terms:
        """Return the distances from the mean."""

    @abstractmethod
    def distances_below(self, value: float) -> Terms:
        """Return how far trials lie below a value, 0 above it."""

    @abstractmethod
    def farthest_share(self, few: int) -> float:
        """Return what share of the variance the few farthest trials hold, 0 of an infinite one."""

    @abstractmethod
    def hits(self, above: float | None, below: float | None, at: float | None) -> Terms:
        """Return which trials are above and below values, or at one, as terms over all trials:
        those without a value are no hits.
        """

    @abstractmethod
    def lying_below(self, x: float) -> Terms:
        """Return which trials with a value lie below another, those at it by half, as terms."""

    @abstractmethod
    def up_to(self, value: float) -> Terms:
        """Return which trials with a value lie at or below another, as terms."""

    @abstractmethod
    def ordered(self, position: int) -> float:
        """Return a value by its position in order, from 0, or from the end with -1, -2, ..."""

    @property
    def effective_count(self) -> float:
        """How many independent trials of equal weight say as much."""
        return float(self.count)

    @property
    def weighted(self) -> bool:
        """Whether trials weigh differently."""
        return False

    @property
    def independent(self) -> bool:
        """Whether trials within a block are independent of each other."""
        return self.together == 1

    @property
    def has_error(self) -> bool:
        """Whether there are enough trials to give an error."""
        return self.effective_count >= FEWEST and self.blocks >= FEWEST_BLOCKS

    @property
    def why_no_error(self) -> str:
        """Why weights leave too few trials for an error; nothing where they do not."""
        return ""

    @property
    def student(self) -> float:
        """Student's t at 97.5 % for the blocks."""
        return t_point(self.blocks - 1)

    def reach_below(self, value: float) -> float:
        """Return the half-width of the interval of the share of trials at or below a value."""
        return self.student * self.up_to(value).deviation(False)

    def effective_beyond(self, level: float) -> float:
        """Return how many trials of equal weight say as much as those on the thinner side of the
        quantile at a level.
        """
        return self.effective_count * min(level, 1 - level)

    def position(self, level: float) -> float:
        """Return the position in order, from 0, at which the quantile of a level lies."""
        return level * (self.count - 1)

    def quantile(self, level: Any) -> Any:
        """Return the value at a level, interpolated between neighbours in order."""
        if np.ndim(level):
            levels = np.asarray(level, dtype=np.float64)
            values = [self.quantile(one) for one in levels.reshape(-1).tolist()]
            return np.array(values).reshape(levels.shape)
        position = self.position(float(level))
        below = math.floor(position)
        low = self.ordered(below)
        high = self.ordered(min(below + 1, self.count - 1))
        return interpolated(low, high, position - below)

    def reached(self, level: float) -> float:
        """Return the smallest value at or below which the share of a level lies: the quantile that
        is one of the values.
        """
        return self.ordered(max(math.ceil(level * self.count * (1 - ROUNDING)) - 1, 0))

    def shortfalls(self, level: float) -> tuple[float, Terms]:
        """Return the value q that a level reaches, and the distances below it, 0 above: the mean of
        the lowest part is q less the mean of the distances over the level.

        At this q the last value of the part counts by what is left of it (Acerbi and Tasche,
        Journal of Banking & Finance 26, 2002, 1487-1503).
        """
        value = self.reached(level)
        return value, self.distances_below(value)

    def tail_mean(self, level: float) -> float:
        """Return the mean of the lowest part of the trials."""
        value, below = self.shortfalls(level)
        return value - below.mean / level


@dataclass(frozen=True)
class Sample(AnySample):
    """Trials that are held: values, ``(trials,)``, the first trial of each block and the number of
    trials as ``bounds``, and weights, one per trial and at least 0, or None where all weigh alike.

    ``dealt`` is the order in which trials are dealt to the blocks; None where each block has the
    trials that follow each other.
    """

    values: Floats
    bounds: NDArray[np.int64]
    together: int = 0
    better: str = "high"
    constant: bool = False
    weights: Floats | None = None
    dealt: NDArray[np.int64] | None = None

    def __post_init__(self) -> None:
        if self.weights is not None and (self.weights == self.weights[:1]).all():
            object.__setattr__(self, "weights", None)

    @classmethod
    def of(cls, values: Any, weights: Floats | None = None) -> Self:
        """Return independent values without blocks, such as draws or scenarios."""
        array = np.asarray(values, dtype=np.float64)
        return cls(array, np.array([0, len(array)]), together=1, weights=weights)

    @property
    def negated(self) -> Self:
        """The same trials with the opposite sign, and so with the other end wanted."""
        better = "high" if self.better == "low" else "low"
        return replace(self, values=-self.values, better=better)

    def only(self, kept: NDArray[np.bool_]) -> Self:
        """Return the sample in which the trials that are not kept have no value."""
        return replace(self, values=np.where(kept, self.values, np.nan))

    def with_values(self, values: Floats | NDArray[np.bool_]) -> Self:
        """Return other values of the same trials."""
        return replace(self, values=np.asarray(values, dtype=np.float64))

    def ranked(self, missing: str | float | None) -> Self:
        """Return the sample in which trials without a value rank as ``missing`` says: at the worst
        end, at the best, at a number, or with None not at all.
        """
        if missing is None or not np.isnan(self.values).any():
            return self
        if isinstance(missing, str):
            below = (missing == "worst") == (self.better == "high")
            missing = -np.inf if below else np.inf
        return replace(self, values=np.where(np.isnan(self.values), missing, self.values))

    @cached_property
    def valid(self) -> Floats:
        """The values that are not NaN."""
        bad = np.isnan(self.values)
        return self.values[~bad] if bad.any() else self.values

    @cached_property
    def valid_weights(self) -> Floats | None:
        """The weights of the valid trials, 1 on average; None where all weigh alike."""
        if self.weights is None:
            return None
        weights = self.weights[~np.isnan(self.values)]
        total = float(weights.sum())
        return weights * (len(weights) / total) if total > 0 else weights

    @cached_property
    def block_starts(self) -> NDArray[np.int64]:
        """The first valid trial of each block that has one, as a position in their order by block,
        and after them their number.
        """
        if len(self.valid) == len(self.values):
            return self.bounds
        values = self.values if self.dealt is None else self.values[self.dealt]
        before = np.concatenate([[0], np.cumsum(~np.isnan(values))])
        return np.unique(before[self.bounds])

    @cached_property
    def _dealt_valid(self) -> NDArray[np.int64] | None:
        """The positions in ``valid`` in the order of the blocks."""
        if self.dealt is None or self.count == len(self.values):
            return self.dealt
        is_valid = ~np.isnan(self.values)
        positions = np.cumsum(is_valid) - 1
        return positions[self.dealt[is_valid[self.dealt]]]

    def in_blocks(self, terms: NDArray[Any]) -> NDArray[Any]:
        """Return terms, one for each valid trial, in the order of the blocks."""
        return terms if self._dealt_valid is None else terms[self._dealt_valid]

    @cached_property
    def sorted(self) -> Floats:
        """The valid values in order."""
        return np.sort(self.valid)

    @cached_property
    def _weight_below(self) -> Floats:
        """What the first 0, 1, ... valid values in order weigh together."""
        if self.valid_weights is None:
            return np.arange(self.count + 1, dtype=np.float64)
        order = np.argsort(self.valid, kind="stable")
        return np.concatenate([[0.0], np.cumsum(self.valid_weights[order])])

    @property
    def count(self) -> int:
        """How many trials have a value."""
        return len(self.valid)

    @property
    def weighted(self) -> bool:
        """Whether trials weigh differently."""
        return self.weights is not None

    @cached_property
    def effective_count(self) -> float:
        """How many independent trials of equal weight say as much: the square of the sum of the
        weights over the sum of their squares (Kish, Survey Sampling, 1965, section 11.2).
        """
        return float(self.count) if self.valid_weights is None else _kish(self.valid_weights)

    @property
    def share_with_a_value(self) -> float:
        """Which share of all trials has a value."""
        return self.hits(None, None, None).mean if self.count < len(self.values) else 1.0

    def cumulative(self, points: int) -> tuple[Floats, Floats]:
        """Return values in order, evenly spaced ones of many, and the share of all trials at or
        below each; the first is there twice, since no trial lies below it.
        """
        picked = np.linspace(0, self.count - 1, min(self.count, points)).astype(int)
        values = self.sorted[np.append(picked[:1], picked)]
        shares = self.share_with_a_value * self.share_below(values, upto=True)
        shares[:1] = 0.0
        return values, shares

    @property
    def blocks(self) -> int:
        """How many blocks have a trial with a value."""
        return len(self.block_starts) - 1

    @property
    def why_no_error(self) -> str:
        """Why weights leave too few trials for an error; nothing where they do not."""
        if self.weights is None or self.effective_count >= FEWEST or self.count < FEWEST:
            return ""
        return f"the weights leave {self.effective_count:.0f} effective trials; {FEWEST} are needed"

    @property
    def student(self) -> float:
        """Student's t for the blocks, or the normal point where independent trials have weights
        and the variance is that of their influence.
        """
        return Z if self.independent and self.weights is not None else super().student

    def by_block(self, terms: Floats | NDArray[np.bool_]) -> Floats:
        """Return the sum of terms (a number, or whether it is a hit, for each valid trial) in each
        block.
        """
        terms = self.in_blocks(terms)
        if terms.dtype == np.bool_:  # as whole numbers of a byte, which is the quickest
            counts = np.add.reduceat(
                np.ascontiguousarray(terms).view(np.uint8), self.block_starts[:-1], dtype=np.int64
            )
            return counts.astype(np.float64)
        sums: Floats = np.add.reduceat(terms, self.block_starts[:-1], dtype=np.float64)
        return sums

    def variance_of_mean(self, terms: Floats | NDArray[np.bool_]) -> float:
        """Return the variance of the mean of terms, one for each valid trial, from the spread
        between blocks.
        """
        return variance_by_blocks(self.by_block(terms), np.diff(self.block_starts))

    def reach_below(self, value: float) -> float:
        """Return the half-width of the interval of the share of trials at or below a value."""
        independent = self.independent and self.weights is not None
        return self.student * self.up_to(value).deviation(independent)

    def effective_beyond(self, level: float) -> float:
        """Return how many trials of equal weight say as much as those on the thinner side of the
        quantile at a level, by their own weights.
        """
        if self.valid_weights is None:
            return super().effective_beyond(level)
        value = self.quantile(level)
        beyond = self.valid > value if level > 0.5 else self.valid < value
        return _kish(self.valid_weights[beyond])

    def position(self, level: float) -> float:
        """Return the position in order, from 0, at which the quantile of a level lies.

        A value has the level at which the share of the weight of all others lies below it.
        """
        if self.valid_weights is None:
            return level * (self.count - 1)
        below = self._weight_below
        others = below[-1] - np.diff(below)
        return float(np.interp(level, below[:-1] / others, np.arange(self.count)))

    def ordered(self, position: int) -> float:
        """Return a value by its position in order, from 0, or from the end with -1, -2, ..."""
        return float(self.sorted[position])

    def reached(self, level: float) -> float:
        """Return the smallest value at or below which the share of a level lies: the quantile that
        is one of the values.
        """
        if self.valid_weights is None:
            return super().reached(level)
        weight = self._weight_below[1:]
        position = int(np.searchsorted(weight, level * weight[-1] * (1 - ROUNDING)))
        return self.ordered(min(position, self.count - 1))

    @property
    def mean(self) -> float:
        """The mean of the trials with a value."""
        if self.valid_weights is None:
            return float(self.valid.mean())
        return float(np.average(self.valid, weights=self.valid_weights))

    @property
    def sd(self) -> float:
        """Their standard deviation: less the first value, so that a constant has none by
        rounding.
        """
        if self.valid_weights is None:
            return float((self.valid - self.valid[0]).std(ddof=1))
        gaps = self.valid - self.mean
        unbiased = 1 - 1 / self.effective_count
        variance = float(np.average(gaps * gaps, weights=self.valid_weights))
        return math.sqrt(variance / unbiased) if unbiased > 0 else math.nan

    def standardized(self, power: int) -> float:
        """Return the mean power of the distances from the mean in standard deviations; 0 where all
        are equal.
        """
        gaps = self.valid - self.mean
        gaps /= max(float(np.abs(gaps).max()), np.finfo(float).tiny)  # no power leaves the floats
        second = float(np.average(gaps**2, weights=self.valid_weights))
        moment = float(np.average(gaps**power, weights=self.valid_weights))
        return moment / math.sqrt(second) ** power if second > 0 else 0.0

    def terms(self, values: Floats) -> Terms:
        """Return terms, one for each valid trial."""
        count = len(values)
        if self.valid_weights is None:
            variance = float(values.var(ddof=1)) / count if count > 1 else math.nan
            sizes = np.diff(self.block_starts)
            return Terms(
                sizes, self.by_block(values), variance, count, lambda: _skewness(values), count
            )
        weights = self.valid_weights
        sizes, sums = self.by_block(weights), self.by_block(weights * values)
        influence = weights * (values - sums.sum() / sizes.sum())
        variance = float((influence**2).sum()) / float(sizes.sum()) ** 2
        return Terms(
            sizes, sums, variance, self.effective_count, lambda: _skewness(influence), count
        )

    def distances(self) -> Terms:
        """Return the distances from the mean."""
        return self.terms(self.valid - self.mean)

    def distances_below(self, value: float) -> Terms:
        """Return how far trials lie below a value, 0 above it."""
        with np.errstate(invalid="ignore"):  # an infinite value lies below itself by nothing
            return self.terms(np.where(self.valid < value, value - self.valid, 0.0))

    def farthest_share(self, few: int) -> float:
        """Return what share of the variance the few farthest trials hold, 0 of an infinite one."""
        squares = (self.valid - self.mean) ** 2
        if self.valid_weights is not None:
            squares *= self.valid_weights
        total = float(squares.sum())
        if not 0 < total < math.inf:
            return 0.0
        return float(np.partition(squares, self.count - few)[self.count - few :].sum()) / total

    def hits(self, above: float | None, below: float | None, at: float | None) -> Terms:
        """Return which trials are above and below values, or at one, as terms over all trials:
        those without a value are no hits.
        """
        hit = self.is_hit(above, below, at)
        return replace(self, values=np.broadcast_to(0.0, len(hit)))._shares(hit)

    def is_hit(
        self, above: float | None, below: float | None, at: float | None
    ) -> NDArray[np.bool_]:
        """Return for each trial whether it is above and below values, or at one; with none stated,
        whether it has a value.
        """
        with np.errstate(invalid="ignore"):
            hit = self.values == at if at is not None else ~np.isnan(self.values)
            if above is not None:
                hit = hit & (self.values > above)
            if below is not None:
                hit = hit & (self.values < below)
        return np.asarray(hit)

    def _shares(self, hit: NDArray[Any]) -> Terms:
        """Return whether each valid trial is a hit (or half of one), as terms; with weights, their
        effective count is that of as many independent trials as have the variance of their share.
        """
        if self.valid_weights is None:
            share, count = float(hit.mean()), len(hit)
            variance, sizes = share * (1 - share) / count, np.diff(self.block_starts)
            return Terms(sizes, self.by_block(hit), variance, count, lambda: 0.0, count)
        terms = self.terms(hit.astype(np.float64))
        share, effective_count = terms.mean, self.effective_count
        if ROUNDING < share < 1 - ROUNDING:  # of all or none the variance is that of rounding
            effective_count = share * (1 - share) / terms.variance
        sides = [_kish(self.valid_weights[side]) for side in (hit > 0, hit < 1)]
        return replace(terms, effective_count=effective_count, rarer=min(sides))

    def lying_below(self, x: float) -> Terms:
        """Return which trials with a value lie below another, those at it by half, as terms."""
        return self._shares((self.valid < x) + 0.5 * (self.valid == x))

    def up_to(self, value: float) -> Terms:
        """Return which trials with a value lie at or below another, as terms."""
        return self._shares(self.valid <= value)

    def share_below(self, values: Floats, upto: bool = False) -> Floats:
        """Return the share of the valid trials below each of some values, those at it by half, or
        ``upto`` them wholly.
        """
        weight = self._weight_below
        last = weight[np.searchsorted(self.sorted, values, "right")]
        first = last if upto else weight[np.searchsorted(self.sorted, values, "left")]
        return np.asarray((first + last) / (2 * weight[-1]))

    def histogram(self, edges: Floats) -> Floats:
        """Return the share of all trials between each two edges."""
        if self.weights is None:
            return np.histogram(self.valid, edges)[0] / len(self.values)
        weights = self.weights[~np.isnan(self.values)]
        return np.asarray(np.histogram(self.valid, edges, weights=weights)[0] / self.weights.sum())

    def left_out(self, powers: int) -> list[Floats]:
        """Return the sums of the powers 0, 1, ... of the distances from the mean with each block
        left out.
        """
        gaps = self.valid - self.mean
        terms = np.ones_like(gaps) if self.valid_weights is None else self.valid_weights
        sums = []
        for _ in range(powers + 1):
            by_block = self.by_block(terms)
            sums.append(by_block.sum() - by_block)
            terms = terms * gaps
        return sums


def _kish(weights: Floats) -> float:
    squares = float((weights**2).sum())
    return float(weights.sum()) ** 2 / squares if squares > 0 else 0.0


def _skewness(terms: Floats) -> float:
    """Return the skewness of terms; see ``AnySample.standardized``."""
    return Sample.of(terms).standardized(3)
