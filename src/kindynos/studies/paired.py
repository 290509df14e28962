"""Differences of statistics of two results on the same draws, with errors that know that trial i
belongs to trial i.

Each statistic is, to first order, a mean of one term a trial (its influence), so that a difference
is the mean of the differences of terms; blocks tell the error of that mean under any plan.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import paired_difference, t_point
from kindynos.inference.sample import FEWEST, Sample, variance_by_blocks
from kindynos.results.result import Result
from kindynos.results.statistic_text import ParsedStatistic
from kindynos.results.statistics import STATISTICS, chance

# of the root of the number of blocks, in trials: how far a quantile of one driver moves by chance
WITHIN_STRATA = 0.28
MANY = 40  # trials that differ, from which the spread between blocks tells enough


class Paired:
    """Two results on the same draws; every method gives the second's figure less the first's, with
    its 95 % error.
    """

    def __init__(self, first: Result, second: Result) -> None:
        self.first, self.second = first, second
        self._one, self._two = first.sample, second.sample
        self._ranked_one, self._ranked_two = first.ranked, second.ranked

    @property
    def empty(self) -> bool:
        """Whether one of the two has no value at all."""
        return not (self._one.count and self._two.count)

    def without_value(self) -> Estimate:
        """Return the difference of the shares of trials without a value."""
        one, two = (np.isnan(result.values) * 1.0 for result in (self.first, self.second))
        return self._with_score_interval(two - one)

    def mean(self) -> Estimate:
        """Return the difference of the means."""
        return self.statistic("mean")

    def percentile(self, q: float) -> Estimate:
        """Return the difference of a percentile, from 0 to 100."""
        return self.statistic("percentile", q)

    def value_at_risk(self, level: float) -> Estimate:
        """Return the difference of the losses exceeded with a chance of 1 - level; of a cost, of
        what is exceeded so.
        """
        return self.statistic("value_at_risk", level)

    def statistic(self, name: str, *arguments: float, **options: float) -> Estimate:
        """Return the difference of a statistic by its name, from what each trial adds to it;
        that of independent estimates where this is not known.
        """
        statistic = STATISTICS.find(name)
        if statistic.kind == "share":
            return self._difference_of_shares(name, *arguments, **options)
        ranks = statistic.ranks
        one, two = (self._ranked_one, self._ranked_two) if ranks else (self._one, self._two)
        figures = [statistic(sample, *arguments, **options) for sample in (one, two)]
        value = float(figures[1]) - float(figures[0])
        if not math.isfinite(value):
            return Estimate(value)
        terms = [statistic.influence(sample, *arguments, **options) for sample in (one, two)]
        # at a lump a quantile has no density, and so no term for each trial; intervals by order
        # statistics are if anything too long
        lumpy = ranks and any(
            _has_ties(sample, abs(float(figure)))
            for sample, figure in zip((one, two), figures, strict=True)
        )
        if terms[0] is None or terms[1] is None or lumpy:
            return unpaired(*figures)
        return self._with_paired_error(terms[0], terms[1], value, ranks)

    def chance_above(self, x: float) -> Estimate:
        """Return the difference of the chances of ending above a figure, as shares of all
        trials.
        """
        return self.statistic("chance", above=x)

    def chance_below(self, x: float) -> Estimate:
        """Return the difference of the chances of ending below a figure, as shares of all
        trials.
        """
        return self.statistic("chance", below=x)

    def higher(self) -> Estimate:
        """Return the share of all trials in which the second is the higher one; ties, and trials in
        which either has no value, are counted as not.
        """
        higher: Floats = np.where(self._ranked_two.values > self._ranked_one.values, 0.5, -0.5)
        return chance(Sample(higher, self.first._bounds, self.first._together), above=0.0)

    def _with_paired_error(
        self, one: NDArray[Any], two: NDArray[Any], value: float, ranks: bool
    ) -> Estimate:
        """Return a value with the error of the difference of two means of terms, one for each trial
        that has a value.

        Under a stratified plan each block has as many trials below a quantile, and only where they
        lie within their strata is left to chance: for a figure that ``ranks`` trials the error is
        at least that.
        """
        full = influence_of_all(self._two, two) - influence_of_all(self._one, one)
        sample = Sample(full, self.first._bounds, self.first._together)
        if not sample.has_error or min(self._one.count, self._two.count) < FEWEST:
            return Estimate(value)
        variance = (
            float(full.var(ddof=1)) / len(full)
            if self.first._together
            else sample.variance_of_mean(full)
        )
        least = 0.0
        if ranks and not self.first._together:
            least = WITHIN_STRATA * math.sqrt(sample.blocks) * float(np.ptp(full)) / len(full)
        reach = max(sample.student * math.sqrt(variance), least)
        return symmetrical(value, reach)

    def _difference_of_shares(self, name: str, *arguments: float, **options: float) -> Estimate:
        """Return the difference of a share of all trials; those without a value are no
        hits.
        """
        one, two = (
            STATISTICS[name].influence(sample, *arguments, **options)
            for sample in (self._ranked_one, self._ranked_two)
        )
        return self._with_score_interval(np.asarray(two) - np.asarray(one))

    def _with_score_interval(self, changes: NDArray[Any]) -> Estimate:
        """Return a difference of chances by its score interval; by blocks where the plan does
        better and many trials differ.
        """
        value = float(changes.mean())
        gained, lost = int(np.count_nonzero(changes > 0)), int(np.count_nonzero(changes < 0))
        sample = Sample(changes, self.first._bounds, self.first._together)
        if not sample.has_error:
            return Estimate(value)
        reach = sample.student * math.sqrt(sample.variance_of_mean(changes))
        # blocks that are all alike say nothing of how far they may be off
        if not self.first._together and gained + lost >= MANY and reach * len(changes) > 1:
            return symmetrical(value, reach)
        return Estimate(value, *paired_difference(gained, lost, len(changes)))


@dataclass(frozen=True)
class ByBlock:
    """What each block of the trials adds to a figure, so that figures on the same draws can be
    compared when their trials are gone.
    """

    means: Floats
    sizes: NDArray[np.int64]

    @classmethod
    def of(cls, result: Result, requested: ParsedStatistic) -> ByBlock | None:
        """Return what blocks add to a statistic of a result; None where it is not known."""
        entry = STATISTICS.get(requested.name)
        sample = result.ranked if entry is not None and entry.ranks else result.sample
        terms = requested.influence(sample) if sample.has_error else None
        if terms is None or not np.isfinite(terms).all():
            return None
        influence, sizes = influence_of_all(sample, terms), np.diff(sample.bounds)
        return cls(np.add.reduceat(influence, sample.bounds[:-1]) / sizes, sizes)

    def reach(self, other: ByBlock) -> float:
        """Return half the 95 % interval of the difference of two figures."""
        gaps = (self.means - other.means) * self.sizes
        return t_point(len(gaps) - 1) * math.sqrt(variance_by_blocks(gaps, self.sizes))


def influence_of_all(sample: Sample, terms: NDArray[Any]) -> NDArray[Any]:
    """Return the influence of each trial on the mean of terms over the trials that have a value;
    those without one have none.
    """
    if len(terms) == len(sample.values):
        return terms
    full = np.zeros(len(sample.values))
    full[~np.isnan(sample.values)] = (terms - terms.mean()) * len(full) / len(terms)
    return full


def unpaired(first: Estimate, second: Estimate) -> Estimate:
    """Return the difference of independent estimates, each with its own interval (Newcombe's
    combination of limits).
    """
    gap = float(second) - float(first)
    down = math.hypot(float(second) - second.low, first.high - float(first))
    up = math.hypot(second.high - float(second), float(first) - first.low)
    return Estimate(gap, gap - down, gap + up)


def _has_ties(sample: Sample, size: float) -> bool:
    """Return whether many trials have one value (a loss has the other sign), so that the error of a
    quantile there has no density to go by.
    """
    ties = np.count_nonzero(np.abs(sample.valid) == size)
    return bool(ties > max(3.0, 0.1 * math.sqrt(sample.count)))
