"""A number over trials that are not held: its figures from the sums by block that are, the same as
from the trials themselves, percentiles and their intervals to the bit.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.engine.accumulate import BlockSums, Wanted
from kindynos.errors import RunError
from kindynos.inference.sample import AnySample, Terms


class MissedError(RunError):
    """A figure lies where nothing was gathered; one more pass with another bracket finds it."""


@dataclass(frozen=True)
class SummarySample(AnySample):
    """Trials that are not held: what ``Sample`` is of trials that are."""

    sums: BlockSums
    wanted: Wanted
    sizes: NDArray[np.int64]  # trials of each block, those without a value too
    together: int
    better: str = "high"
    constant: bool = False

    @property
    def count(self) -> int:
        """How many trials have a value."""
        return int(self.sums.valid.sum())

    @property
    def trials(self) -> int:
        """How many trials there are."""
        return int(self.sizes.sum())

    @property
    def blocks(self) -> int:
        """How many blocks have a trial with a value."""
        return int(np.count_nonzero(self.sums.valid))

    @cached_property
    def _inside(self) -> list[tuple[Floats, NDArray[np.int64], NDArray[np.int64]]]:
        """For each bracket the values inside, their numbers and their blocks, in order of the
        blocks.
        """
        brackets = self.sums.distinct.shape[1]
        owner = np.repeat(
            np.arange(self.sums.distinct.size), self.sums.distinct.reshape(-1)
        )  # block x brackets + bracket
        inside = []
        for position in range(brackets):
            mine = owner % brackets == position
            blocks = owner[mine] // brackets
            inside.append((self.sums.values[mine], self.sums.counts[mine], blocks))
        return inside

    @cached_property
    def _ordered(self) -> list[tuple[Floats, NDArray[np.int64]]]:
        """For each bracket the values inside in order, and how many trials are at or below each of
        them.
        """
        ordered = []
        totals = self.sums.below.sum(axis=0)
        for position, (values, counts, _) in enumerate(self._inside):
            order = np.argsort(values, kind="stable")
            ordered.append((values[order], int(totals[position]) + np.cumsum(counts[order])))
        return ordered

    def ordered(self, position: int) -> float:
        """Return a value by its place in order, from 0, or from the end with -1, -2, ...; raises
        MissedError where it lies outside what was gathered.
        """
        rank = position if position >= 0 else self.count + position
        totals = self.sums.below.sum(axis=0)
        for bracket, (values, upper) in enumerate(self._ordered):
            if len(values) and totals[bracket] <= rank < upper[-1]:
                return float(values[int(np.searchsorted(upper, rank, side="right"))])
        for ends, first in ((self.sums.farthest, 0), (self.sums.farthest[::-1], 1)):
            near = rank if first == 0 else self.count - 1 - rank
            if 0 <= near < min(len(ends) / 2, 10):
                return float(ends[near])
        raise MissedError(f"the value at place {rank:,} was not gathered")

    @property
    def values(self) -> Floats:
        """Raises RunError: the trials are not held."""
        raise RunError("the trials are not held; read their figures, run.trial(n) or run.pilot")

    def up_to(self, value: float) -> Terms:
        """Return which trials with a value lie at or below another, as terms."""
        position = self._bracket_of(value)
        values, counts, blocks = self._inside[position]
        hit = values <= value
        inside = np.bincount(blocks[hit], weights=counts[hit], minlength=len(self.sizes))
        has_value = self.sums.valid > 0
        hits = self.sums.below[:, position] + inside
        return _shares(hits[has_value].astype(np.float64), self.sums.valid[has_value])

    def _bracket_of(self, value: float) -> int:
        """Return the bracket that holds a value."""
        for position, (low, high) in enumerate(self.wanted.brackets.tolist()):
            if low <= value <= high:
                return position
        raise MissedError(f"the trials below {value:g} were not gathered")

    # powers

    @cached_property
    def powers(self) -> Floats:
        """The sums of the powers 0 to 4 of the distance from the mean in each block that has a
        trial with a value, ``(5, blocks)``.
        """
        has_value = self.sums.valid > 0
        count = self.sums.valid[has_value].astype(np.float64)
        one, two, three, four = self.sums.powers[has_value].T
        with np.errstate(invalid="ignore"):  # infinite values have no spread
            shift = float(one.sum() / count.sum())  # of the mean from the centre
            return np.stack(
                [
                    count,
                    one - shift * count,
                    two - 2 * shift * one + shift**2 * count,
                    three - 3 * shift * two + 3 * shift**2 * one - shift**3 * count,
                    four
                    - 4 * shift * three
                    + 6 * shift**2 * two
                    - 4 * shift**3 * one
                    + shift**4 * count,
                ]
            )

    @property
    def mean(self) -> float:
        """The mean of the trials with a value."""
        return self.wanted.centre + float(self.sums.powers[:, 0].sum()) / self.count

    @property
    def sd(self) -> float:
        """Their standard deviation."""
        return math.sqrt(float(self.powers[2].sum()) / (self.count - 1))

    def standardized(self, power: int) -> float:
        """Return the mean power of the distances from the mean in standard deviations; 0 where all
        are equal.
        """
        count, _, second, *_ = totals = self.powers.sum(axis=1)
        if not second > 0:
            return 0.0
        return float(totals[power] / count / (second / count) ** (power / 2))

    def distances(self) -> Terms:
        """Return the distances from the mean."""
        _, _, two, three, _ = self.powers.sum(axis=1).tolist()
        return _terms(self.powers[0], self.powers[1], two, three)

    def farthest_share(self, few: int) -> float:
        """Return what share of the variance the few farthest trials hold."""
        total = float(self.powers[2].sum())
        if not 0 < total < math.inf:
            return 0.0
        return float(np.sort((self.sums.farthest - self.mean) ** 2)[-few:].sum()) / total

    def hits(self, above: float | None, below: float | None, at: float | None) -> Terms:
        """Return which trials are above and below values, or at one, as terms over all trials:
        those without a value are no hits.
        """
        if at is not None:
            counts = self._cut(at)[1]
        else:
            counts = self.sums.valid if below is None else self._cut(below)[0]
            if above is not None:
                counts = np.maximum(counts - sum(self._cut(above)), 0)
        return _shares(counts.astype(np.float64), self.sizes)

    def lying_below(self, x: float) -> Terms:
        """Return which of the valid trials lie below a value, those at it by half, as terms."""
        below, at = self._cut(x)
        inside = self.sums.valid > 0
        return _shares((below + 0.5 * at)[inside], self.sums.valid[inside])

    def _cut(self, value: float) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return how many trials of each block are below a value and at it."""
        places = np.flatnonzero(self.wanted.cuts == value)
        if not len(places):
            raise MissedError(f"the chance at {value:g} was not gathered")
        return self.sums.cut_below[:, places[0]], self.sums.cut_at[:, places[0]]

    def left_out(self, powers: int) -> list[Floats]:
        """Return the sums of the powers 0, 1, ... of the distance from the mean with each block
        left out.
        """
        return [row.sum() - row for row in self.powers[: powers + 1]]

    @property
    def negated(self) -> SummarySample:
        """The same trials with the opposite sign, and so with the other end wanted."""
        sums, shape = self.sums, self.sums.distinct.shape
        inside = np.zeros(shape)
        inside_sums = np.zeros(shape)
        tails = np.zeros((shape[1], 2))
        for position, (values, counts, blocks) in enumerate(self._inside):
            gaps = values - self.wanted.centre
            inside[:, position] = np.bincount(blocks, counts, len(self.sizes))
            inside_sums[:, position] = np.bincount(blocks, gaps * counts, len(self.sizes))
            tails[position] = (gaps**2 * counts).sum(), (gaps**3 * counts).sum()
        whole = sums.powers[:, 0][:, None]
        totals = sums.powers.sum(axis=0)
        second = totals[1] - sums.tail_powers[:, 0] - tails[:, 0]
        third = -(totals[2] - sums.tail_powers[:, 1] - tails[:, 1])
        mirrored = BlockSums(
            valid=sums.valid,
            powers=sums.powers * np.array([-1.0, 1.0, -1.0, 1.0]),
            below=sums.valid[:, None] - sums.below - inside.astype(np.int64),
            sums_below=-(whole - sums.sums_below - inside_sums),
            distinct=sums.distinct,
            cut_below=sums.valid[:, None] - sums.cut_below - sums.cut_at,
            cut_at=sums.cut_at,
            companions=sums.companions * np.array([1.0, 1.0, -1.0]),
            tail_powers=np.column_stack([second, third]),
            farthest=-sums.farthest[::-1],
            values=-sums.values,
            counts=sums.counts,
        )
        requested = Wanted(-self.wanted.centre, -self.wanted.brackets[:, ::-1], -self.wanted.cuts)
        better = "high" if self.better == "low" else "low"
        return replace(self, sums=mirrored, wanted=requested, better=better)

    def distances_below(self, value: float) -> Terms:
        """Return how far trials lie below a value, 0 above it."""
        position = self._bracket_of(value)
        has_value = self.sums.valid > 0
        reach = value - self.wanted.centre
        below = self.sums.below[:, position].astype(np.float64)
        sums = below * reach - self.sums.sums_below[:, position]
        values, counts, blocks = self._inside[position]
        gaps = np.where(values < value, value - values, 0.0)
        inside = np.bincount(blocks, weights=gaps * counts, minlength=len(self.sizes))
        n, first = float(below.sum()), float(self.sums.sums_below[:, position].sum())
        second_below, third_below = self.sums.tail_powers[position].tolist()
        second = n * reach**2 - 2 * reach * first + second_below
        third = n * reach**3 - 3 * reach**2 * first + 3 * reach * second_below - third_below
        second += float((gaps**2 * counts).sum())
        third += float((gaps**3 * counts).sum())
        return _terms(self.sums.valid[has_value], (sums + inside)[has_value], second, third)


def _shares(hits: Floats, sizes: NDArray[np.int64]) -> Terms:
    """Return hits by block as terms."""
    count = float(sizes.sum())
    share = float(hits.sum()) / count
    return Terms(sizes, hits, share * (1 - share) / count, count, lambda: 0.0, count)


def _terms(sizes: Floats | NDArray[np.int64], sums: Floats, second: float, third: float) -> Terms:
    """Return terms from their sums by block, and those of their second and third powers."""
    count = float(sizes.sum())
    mean = float(sums.sum()) / count
    variance = second / count - mean**2
    cubed = third / count - 3 * mean * second / count + 2 * mean**3
    skewness = cubed / variance**1.5 if variance > 0 else 0.0
    return Terms(sizes, sums, variance / (count - 1), count, lambda: skewness, count)
