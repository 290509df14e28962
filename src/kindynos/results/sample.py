"""The values of one number over the trials of a run, and their blocks: what statistics are
estimated from.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Protocol, Self

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.intervals import skewness_of, t_point

FEWEST = 200  # trials below which no error is given
FEWEST_BLOCKS = 5  # blocks below which their spread says too little


@dataclass(frozen=True)
class Terms:
    """Terms whose mean is estimated: their weight (their number, where all weigh alike) and their
    sums by block.

    ``variance`` is that of their mean if trials are independent, ``worth`` how many independent
    trials of equal weight say as much of a share, and ``skewness`` that of the terms.
    """

    sizes: Floats | NDArray[np.int64]
    sums: Floats
    variance: float
    worth: float
    skewness: Callable[[], float]

    @property
    def mean(self) -> float:
        """Their mean."""
        return float(self.sums.sum() / self.sizes.sum())

    def deviation(self, independent: bool) -> float:
        """Return the standard deviation of their mean, from the spread between blocks where trials
        within one depend on each other.
        """
        return math.sqrt(self.variance if independent else spread(self.sums, self.sizes))


def spread(sums: Floats, sizes: Floats | NDArray[np.int64]) -> float:
    """Return the variance of a mean from the sums and numbers of its terms by block."""
    count, blocks = sizes.sum(), len(sizes)
    gaps = (count * sums - sizes * sums.sum()) / count  # exact for whole numbers: equal blocks
    return float(np.sum(gaps**2) / float(count) ** 2 * blocks / (blocks - 1))


class AnySample(Protocol):
    """What statistics need of trials: held alike or with weights, or only as sums by block."""

    @property
    def better(self) -> str: ...  # noqa: D102  # as of Sample

    @property
    def count(self) -> int: ...  # noqa: D102

    @property
    def has_error(self) -> bool: ...  # noqa: D102

    @property
    def student(self) -> float: ...  # noqa: D102

    @property
    def turned(self) -> AnySample: ...  # noqa: D102

    @property
    def worth(self) -> float: ...  # noqa: D102

    @property
    def together(self) -> int: ...  # noqa: D102

    @property
    def independent(self) -> bool: ...  # noqa: D102

    @property
    def constant(self) -> bool: ...  # noqa: D102

    @property
    def middle(self) -> float: ...  # noqa: D102

    @property
    def spread(self) -> float: ...  # noqa: D102

    @property
    def asymmetry(self) -> float: ...  # noqa: D102

    @property
    def peakedness(self) -> float: ...  # noqa: D102

    def left_out(self, powers: int) -> list[Floats]: ...  # noqa: D102

    def distances(self) -> Terms: ...  # noqa: D102

    def shortfalls(self, level: float) -> tuple[float, Terms]: ...  # noqa: D102

    def farthest_share(self, few: int) -> float: ...  # noqa: D102

    def hits(  # noqa: D102
        self, above: float | None, below: float | None, at: float | None
    ) -> Terms: ...

    def lying_below(self, x: float) -> Terms: ...  # noqa: D102

    def ordered(self, position: int) -> float: ...  # noqa: D102

    def quantile(self, level: Any) -> Any: ...  # noqa: D102

    def reach_below(self, value: float) -> float: ...  # noqa: D102


@dataclass(frozen=True)
class Sample:
    """The values of one number over all trials, with the first trial of each block and the number
    of trials as ``bounds``.

    ``together`` says how many trials of a block depend on each other, as the plan has it: 1 where
    they are independent, 2 in antithetic pairs, 0 where all of them do. ``better`` says which end
    of the values is wanted, ``constant`` that no draw reaches them.
    """

    values: Floats
    bounds: NDArray[np.int64]
    together: int = 0
    better: str = "high"
    constant: bool = False

    @property
    def independent(self) -> bool:
        """Whether trials within a block are independent of each other."""
        return self.together == 1

    @property
    def turned(self) -> Self:
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
    def block_starts(self) -> NDArray[np.int64]:
        """The first valid trial of each block that has one, as a place in ``valid``, and after them
        their number.
        """
        if len(self.valid) == len(self.values):
            return self.bounds
        before = np.concatenate([[0], np.cumsum(~np.isnan(self.values))])
        return np.unique(before[self.bounds])

    @cached_property
    def sorted(self) -> Floats:
        """The valid values in order."""
        return np.sort(self.valid)

    @property
    def count(self) -> int:
        """How many trials are valid."""
        return len(self.valid)

    @property
    def worth(self) -> float:
        """How many independent trials of equal weight say as much."""
        return float(self.count)

    @property
    def valid_weights(self) -> Floats | None:
        """The weights of the valid trials; None where all weigh alike."""
        return None

    @property
    def share_with_a_value(self) -> float:
        """Which share of all trials is valid."""
        return self.count / len(self.values)

    @property
    def blocks(self) -> int:
        """How many blocks have a valid trial."""
        return len(self.block_starts) - 1

    @property
    def has_error(self) -> bool:
        """Whether there are enough trials to give an error."""
        return self.worth >= FEWEST and self.blocks >= FEWEST_BLOCKS

    @property
    def student(self) -> float:
        """Student's t at 97.5 % for the blocks."""
        return t_point(self.blocks - 1)

    def by_block(self, terms: Floats | NDArray[np.bool_]) -> Floats:
        """Return the sum of terms (a number, or whether it is a hit, for each valid trial) in each
        block.
        """
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
        return spread(self.by_block(terms), np.diff(self.block_starts))

    def reach_below(self, value: float) -> float:
        """Return the half-width of the interval of the share of trials at or below a value."""
        return self.student * math.sqrt(self.variance_of_mean(self.valid <= value))

    def ordered(self, position: int) -> float:
        """Return a value by its place in order, from 0, or from the end with -1, -2, ..."""
        return float(self.sorted[position])

    @property
    def middle(self) -> float:
        """The mean of the valid values."""
        return float(self.valid.mean())

    @property
    def spread(self) -> float:
        """Their standard deviation: less the first value, so that a constant has none by
        rounding.
        """
        return float((self.valid - self.valid[0]).std(ddof=1))

    @property
    def asymmetry(self) -> float:
        """The mean third power of the distances in standard deviations; 0 where all are equal."""
        return skewness_of(self.valid)

    @property
    def peakedness(self) -> float:
        """The mean fourth power of the distances in standard deviations; 0 where all are equal."""
        squares = (self.valid - self.middle) ** 2
        second = float(squares.mean())
        return float((squares / second * (squares / second)).mean()) if second > 0 else 0.0

    def terms(self, values: Floats) -> Terms:
        """Return terms, one for each valid trial."""
        count = len(values)
        variance = float(values.var(ddof=1)) / count if count > 1 else math.nan
        sizes = np.diff(self.block_starts)
        return Terms(sizes, self.by_block(values), variance, count, lambda: skewness_of(values))

    def distances(self) -> Terms:
        """Return the distances from the mean."""
        return self.terms(self.valid - self.middle)

    def shortfalls(self, level: float) -> tuple[float, Terms]:
        """Return the quantile at a level and the distances below it, 0 above it."""
        q = float(self.quantile(level))
        return q, self.terms(np.maximum(q - self.valid, 0))

    def farthest_share(self, few: int) -> float:
        """Return what share of the variance the few farthest trials hold, 0 of an infinite one."""
        squares = (self.valid - self.valid.mean()) ** 2
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
        """Return for each trial whether it is above and below values, or at one."""
        with np.errstate(invalid="ignore"):
            hit = self.values == at if at is not None else np.ones(len(self.values), dtype=bool)
            if above is not None:
                hit = hit & (self.values > above)
            if below is not None:
                hit = hit & (self.values < below)
        return np.asarray(hit)

    def _shares(self, hit: NDArray[Any]) -> Terms:
        """Return whether each valid trial is a hit (or half of one), as terms."""
        share, count = float(hit.mean()), len(hit)
        variance, sizes = share * (1 - share) / count, np.diff(self.block_starts)
        return Terms(sizes, self.by_block(hit), variance, count, lambda: 0.0)

    def lying_below(self, x: float) -> Terms:
        """Return which of the valid trials lie below a value, those at it by half, as terms."""
        return self._shares((self.valid < x) + 0.5 * (self.valid == x))

    def share_below(self, values: Floats, upto: bool = False) -> Floats:
        """Return the share of the valid trials below each of some values, those at it by half, or
        ``upto`` them wholly.
        """
        last = np.searchsorted(self.sorted, values, "right")
        first = last if upto else np.searchsorted(self.sorted, values, "left")
        return np.asarray((first + last) / (2 * self.count))

    def histogram(self, edges: Floats) -> Floats:
        """Return the share of all trials between each two edges."""
        return np.histogram(self.valid, edges)[0] / len(self.values)

    def left_out(self, powers: int) -> list[Floats]:
        """Return the sums of the powers 0, 1, ... of the centred values with each block left
        out.
        """
        gaps = self.valid - self.middle
        terms = np.ones_like(gaps)
        sums = []
        for _ in range(powers + 1):
            by_block = self.by_block(terms)
            sums.append(by_block.sum() - by_block)
            terms = terms * gaps
        return sums

    def _quantile_at(self, level: float) -> float:
        """Return the value at one level, as ``quantile``, without arrays."""
        place = level * (self.count - 1)
        below = math.floor(place)
        low, high = (float(self.sorted[k]) for k in (below, min(below + 1, self.count - 1)))
        weight = place - below
        return low if weight == 0 or low == high else low + (high - low) * weight

    def quantile(self, level: Any) -> Any:
        """Return the value at a level, interpolated between neighbours in order."""
        if type(level) is float:
            return self._quantile_at(level)
        values = np.asarray(level) * (self.count - 1)
        below = np.floor(values).astype(np.int64)
        above = np.minimum(below + 1, self.count - 1)
        low, high = self.sorted[below], self.sorted[above]
        weight = values - below
        with np.errstate(invalid="ignore"):
            return np.where((weight == 0) | (low == high), low, low + (high - low) * weight)
