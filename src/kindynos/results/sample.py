"""The values of one number over the trials of a run, and their blocks: what statistics are
estimated from.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.intervals import skewness_of, t_point

FEWEST = 200  # trials below which no error is given
FEWEST_BLOCKS = 5  # blocks below which their spread says too little


@dataclass(frozen=True)
class Terms:
    """Terms whose mean is wanted: their number and sums by block, and their variance and skewness
    over the trials.
    """

    sizes: Floats | NDArray[np.int64]
    sums: Floats
    variance: float
    skewness: Callable[[], float]

    @property
    def mean(self) -> float:
        """Their mean."""
        return float(self.sums.sum() / self.sizes.sum())

    def deviation(self, independent: bool) -> float:
        """Return the standard deviation of their mean, from the spread between blocks where trials
        within one depend on each other.
        """
        count = float(self.sizes.sum())
        return math.sqrt(self.variance / count if independent else spread(self.sums, self.sizes))


def spread(sums: Floats, sizes: Floats | NDArray[np.int64]) -> float:
    """Return the variance of a mean from the sums and numbers of its terms by block."""
    count, blocks = sizes.sum(), len(sizes)
    gaps = (count * sums - sizes * sums.sum()) / count  # exact for whole numbers: equal blocks
    return float(np.sum(gaps**2) / float(count) ** 2 * blocks / (blocks - 1))


class Ordered(Protocol):
    """What statistics need of trials, whether they are held or only their sums by block."""

    @property
    def better(self) -> str: ...  # noqa: D102  # as of Sample

    @property
    def count(self) -> int: ...  # noqa: D102

    @property
    def has_error(self) -> bool: ...  # noqa: D102

    @property
    def student(self) -> float: ...  # noqa: D102

    @property
    def turned(self) -> Ordered: ...  # noqa: D102

    @property
    def independent(self) -> bool: ...  # noqa: D102

    @property
    def middle(self) -> float: ...  # noqa: D102

    @property
    def spread(self) -> float: ...  # noqa: D102

    @property
    def peakedness(self) -> float: ...  # noqa: D102

    def left_out(self, powers: int) -> list[Floats]: ...  # noqa: D102

    def distances(self) -> Terms: ...  # noqa: D102

    def shortfalls(self, level: float) -> tuple[float, Terms]: ...  # noqa: D102

    def farthest_share(self, few: int) -> float: ...  # noqa: D102

    def hits(  # noqa: D102
        self, above: float | None, below: float | None, at: float | None
    ) -> tuple[Floats, NDArray[np.int64]]: ...

    def ordered(self, place: int) -> float: ...  # noqa: D102

    def quantile(self, level: Any) -> Any: ...  # noqa: D102

    def variance_below(self, value: float) -> float: ...  # noqa: D102


@dataclass(frozen=True)
class Sample:
    """The values of one number over all trials, with the first trial of each block and the number
    of trials as ``bounds``.

    ``independent`` says whether trials within a block are independent of each other, as under the
    random plan; ``better`` which end of the values is wanted.
    """

    values: Floats
    bounds: NDArray[np.int64]
    independent: bool = False
    better: str = "high"

    @property
    def turned(self) -> Sample:
        """The same trials with the opposite sign, and so with the other end wanted."""
        better = "high" if self.better == "low" else "low"
        return replace(self, values=-self.values, better=better)

    def ranked(self, missing: str | float | None) -> Sample:
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
    def blocks(self) -> int:
        """How many blocks have a valid trial."""
        return len(self.block_starts) - 1

    @property
    def has_error(self) -> bool:
        """Whether there are enough trials to give an error."""
        return self.count >= FEWEST and self.blocks >= FEWEST_BLOCKS

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

    def variance_below(self, value: float) -> float:
        """Return the variance of the share of trials at or below a value."""
        return self.variance_of_mean(self.valid <= value)

    def ordered(self, place: int) -> float:
        """Return a value by its place in order, from 0, or from the end with -1, -2, ..."""
        return float(self.sorted[place])

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
    def peakedness(self) -> float:
        """The mean fourth power of the distances in standard deviations."""
        value = self.spread
        squares = ((self.valid - self.valid.mean()) / value) ** 2
        return float((squares * squares).mean()) if value > 0 else 0.0

    def _terms(self, values: Floats) -> Terms:
        sizes, variance = np.diff(self.block_starts), float(values.var(ddof=1))
        return Terms(sizes, self.by_block(values), variance, lambda: skewness_of(values))

    def distances(self) -> Terms:
        """Return the distances from the mean."""
        return self._terms(self.valid - self.valid.mean())

    def shortfalls(self, level: float) -> tuple[float, Terms]:
        """Return the quantile at a level and the distances below it, 0 above it."""
        q = float(self.quantile(level))
        return q, self._terms(np.maximum(q - self.valid, 0))

    def farthest_share(self, few: int) -> float:
        """Return what share of the variance the few farthest trials hold, 0 of an infinite one."""
        squares = (self.valid - self.valid.mean()) ** 2
        total = float(squares.sum())
        if not 0 < total < math.inf:
            return 0.0
        return float(np.partition(squares, self.count - few)[self.count - few :].sum()) / total

    def hits(
        self, above: float | None, below: float | None, at: float | None
    ) -> tuple[Floats, NDArray[np.int64]]:
        """Return how many trials of each block are above and below values, or at one, and how many
        it has, those without a value too.
        """
        with np.errstate(invalid="ignore"):
            found = self.values == at if at is not None else np.ones(len(self.values), dtype=bool)
            if above is not None:
                found = found & (self.values > above)
            if below is not None:
                found = found & (self.values < below)
        everyone = Sample(np.broadcast_to(0.0, len(found)), self.bounds)
        return everyone.by_block(found), np.diff(self.bounds)

    def left_out(self, powers: int) -> list[Floats]:
        """Return the sums of the powers 0, 1, ... of the centred values with each block left
        out.
        """
        gaps = self.valid - self.valid.mean()
        terms = np.ones_like(gaps)
        sums = []
        for _ in range(powers + 1):
            by_block = self.by_block(terms)
            sums.append(by_block.sum() - by_block)
            terms = terms * gaps
        return sums

    def quantile(self, level: Any) -> Any:
        """Return the value at a level, interpolated between neighbours in order."""
        place = np.asarray(level) * (self.count - 1)
        below = np.floor(place).astype(np.int64)
        above = np.minimum(below + 1, self.count - 1)
        low, high = self.sorted[below], self.sorted[above]
        weight = place - below
        with np.errstate(invalid="ignore"):
            return np.where((weight == 0) | (low == high), low, low + (high - low) * weight)
