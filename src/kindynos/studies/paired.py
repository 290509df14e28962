"""Differences of statistics of two results on the same draws, with errors that know that trial i
belongs to trial i.

Each statistic is, to first order, a mean of one term a trial (its influence), so that a difference
is the mean of the differences of terms; blocks tell the error of that mean under any plan.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import paired_difference
from kindynos.results.result import Result
from kindynos.results.sample import Sample
from kindynos.results.statistics import chance, percentile
from kindynos.studies.influence import quantile_terms, sd_terms, shortfall_terms

MANY = 40  # trials that differ, from which the spread between blocks tells enough


class Paired:
    """Two results on the same draws; every method gives the second's figure less the first's, with
    its 95 % error.
    """

    def __init__(self, first: Result, second: Result) -> None:
        self.first, self.second = first, second
        self.both: NDArray[np.bool_] = ~(np.isnan(first.values) | np.isnan(second.values))
        self._one, self._two = (
            Sample(np.where(self.both, r.values, np.nan), r._bounds, r._independent)
            for r in (first, second)
        )

    @property
    def empty(self) -> bool:
        """Whether no trial has both values."""
        return not self.both.any()

    def mean(self) -> Estimate:
        """Return the difference of the means."""
        with np.errstate(invalid="ignore"):  # infinite less infinite
            return self._of((self.second.values - self.first.values)[self.both])

    def sd(self) -> Estimate:
        """Return the difference of the sds."""
        (one, a), (two, b) = sd_terms(self._one.valid), sd_terms(self._two.valid)
        return self._of(two - one, b - a)

    def percentile(self, q: float) -> Estimate:
        """Return the difference of a percentile, from 0 to 100."""
        level = q / 100
        value = float(self._two.quantile(level)) - float(self._one.quantile(level))
        if _has_ties(self._one, level) or _has_ties(self._two, level):
            return unpaired(percentile(self._one, q), percentile(self._two, q))
        (terms, slope), (others, other_slope) = (
            quantile_terms(self._two, level),
            quantile_terms(self._one, level),
        )
        return self._of(terms - others, value, least=abs(slope - other_slope) / self._one.count)

    def value_at_risk(self, level: float) -> Estimate:
        """Return the difference of the losses exceeded with a chance of 1 - level."""
        found = self.percentile(100 * (1 - level))
        return Estimate(-float(found), -found.high, -found.low, found.rough)

    def expected_shortfall(self, level: float) -> Estimate:
        """Return the difference of the means of the losses beyond the value at risk."""
        one, two = shortfall_terms(self._one.valid, level), shortfall_terms(self._two.valid, level)
        return self._of(two - one)

    def chance_above(self, x: float) -> Estimate:
        """Return the difference of the chances of ending above a figure."""
        changes = (self._two.valid > x) * 1.0 - (self._one.valid > x)
        return self._rarely(changes)

    def chance_below(self, x: float) -> Estimate:
        """Return the difference of the chances of ending below a figure."""
        return self._rarely((self._two.valid < x) * 1.0 - (self._one.valid < x))

    def higher(self) -> Estimate:
        """Return the chance that the second is the higher one in a trial, ties counted as not."""
        higher = np.where(self.both, (self.second.values > self.first.values) - 0.5, np.nan)
        sample = Sample(higher, self.first._bounds, self.first._independent)
        return chance(Sample(sample.valid, sample.block_starts, sample.independent), above=0.0)

    def _of(self, terms: NDArray[Any], value: float | None = None, least: float = 0.0) -> Estimate:
        """Return the mean of one term a trial, or a value, with the error of that mean."""
        full = np.full(len(self.both), np.nan)
        full[self.both] = terms
        sample = Sample(full, self.first._bounds, self.first._independent)
        centre = float(terms.mean()) if value is None else value
        if not sample.has_error:
            return Estimate(centre)
        variance = (
            float(terms.var(ddof=1)) / len(terms)
            if self.first._independent
            else sample.variance_of_mean(terms)
        )
        reach = max(sample.student * math.sqrt(variance), least)
        return Estimate(centre, centre - reach, centre + reach)

    def _rarely(self, changes: NDArray[Any]) -> Estimate:
        """Return a difference of chances by its score interval; by blocks where the plan does
        better and many trials differ.
        """
        by_blocks = self._of(changes)
        gained, lost = int(np.count_nonzero(changes > 0)), int(np.count_nonzero(changes < 0))
        if math.isnan(by_blocks.error) or (not self.first._independent and gained + lost >= MANY):
            return by_blocks
        return Estimate(float(by_blocks), *paired_difference(gained, lost, len(changes)))


def unpaired(first: Estimate, second: Estimate) -> Estimate:
    """Return the difference of independent estimates, each with its own interval (Newcombe's
    combination of limits).
    """
    gap = float(second) - float(first)
    down = math.hypot(float(second) - second.low, first.high - float(first))
    up = math.hypot(second.high - float(second), float(first) - first.low)
    return Estimate(gap, gap - down, gap + up)


def _has_ties(sample: Sample, level: float) -> bool:
    """Return whether many trials have the same value at a quantile, so that its error has no
    density to go by.

    The difference then has the interval of independent estimates, each by its order statistics,
    which is if anything too long.
    """
    value = float(sample.quantile(level))
    return bool(np.count_nonzero(sample.valid == value) > max(3.0, 0.1 * math.sqrt(sample.count)))
