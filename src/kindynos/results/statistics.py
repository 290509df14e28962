"""Statistics of one number over the trials, each with its 95 % interval.

Estimates come from the whole sample; the spread between blocks, each a replicate of the sampling plan, gives their variance
(Student's t with blocks - 1 degrees of freedom). Averaging each block's own percentile instead would be badly wrong in the
tails. NaN marks a failed trial: statistics are over the valid trials, a chance is a share of all.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri, stdtrit

from kindynos.errors import KindynosError, ParameterError, nearest
from kindynos.estimate import Estimate
from kindynos.validate import finite, share, wrong

Floats = NDArray[np.float64]

FEWEST = 200  # trials below which no error is given
FEWEST_BLOCKS = 5  # blocks below which their spread says too little
TAIL = 50  # trials beyond a level below which its expected shortfall is marked rough
CONFIDENCE = 0.975  # the upper end of a 95 % interval


@dataclass(frozen=True)
class Sample:
    """The values of one number over all trials, with the first trial of each block and the number of trials as ``bounds``.

    ``independent`` says whether trials within a block are independent of each other, as under the random plan.
    """

    values: Floats
    bounds: NDArray[np.int64]
    independent: bool = False

    @cached_property
    def valid(self) -> Floats:
        """The values that are not NaN."""
        bad = np.isnan(self.values)
        return self.values[~bad] if bad.any() else self.values

    @cached_property
    def starts(self) -> NDArray[np.int64]:
        """The first valid trial of each block that has one, as a place in ``valid``, and after them their number."""
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
        return len(self.starts) - 1

    @property
    def has_error(self) -> bool:
        """Whether there are enough trials to give an error."""
        return self.count >= FEWEST and self.blocks >= FEWEST_BLOCKS

    @property
    def student(self) -> float:
        """Student's t at 97.5 % for the blocks."""
        return float(stdtrit(self.blocks - 1, CONFIDENCE))

    def by_block(self, terms: Floats | NDArray[np.bool_]) -> Floats:
        """Return the sum of terms (a number, or whether it is a hit, for each valid trial) in each block."""
        if terms.dtype == np.bool_:
            parts = zip(self.starts[:-1], self.starts[1:], strict=True)
            return np.array([np.count_nonzero(terms[begin:end]) for begin, end in parts], dtype=np.float64)
        sums: Floats = np.add.reduceat(terms, self.starts[:-1], dtype=np.float64)
        return sums

    def variance_of_mean(self, terms: Floats | NDArray[np.bool_]) -> float:
        """Return the variance of the mean of terms, one for each valid trial, from the spread between blocks."""
        sizes, sums = np.diff(self.starts), self.by_block(terms)
        gaps = sums - sizes * (sums.sum() / len(terms))
        return float(np.sum(gaps**2) / len(terms) ** 2 * len(sizes) / (len(sizes) - 1))

    def quantile(self, level: Any) -> Any:
        """Return the value at a level, interpolated between neighbours in order."""
        place = np.asarray(level) * (self.count - 1)
        below = np.floor(place).astype(np.int64)
        above = np.minimum(below + 1, self.count - 1)
        low, high = self.sorted[below], self.sorted[above]
        weight = place - below
        with np.errstate(invalid="ignore"):
            return np.where((weight == 0) | (low == high), low, low + (high - low) * weight)


def mean(sample: Sample) -> Estimate:
    """Mean: block means; the pooled sample under the random plan."""
    if not sample.count:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore"):
        value = float(sample.valid.mean())
        if not sample.has_error:
            return Estimate(value)
        if sample.independent:
            reach = float(stdtrit(sample.count - 1, CONFIDENCE) * sample.valid.std(ddof=1) / math.sqrt(sample.count))
        else:
            reach = sample.student * math.sqrt(sample.variance_of_mean(sample.valid))
    return Estimate(value, value - reach, value + reach)


def sd(sample: Sample) -> Estimate:
    """Standard deviation: the jackknife that leaves out one block at a time."""
    if sample.count < 2:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore"):  # infinite values have no spread
        value = float(sample.valid.std(ddof=1))
    if not sample.has_error or not math.isfinite(value):
        return Estimate(value)
    left = _left_out(sample, 2)
    count = left[0]
    values = np.sqrt(np.maximum(left[2] - left[1] ** 2 / count, 0) / (count - 1))
    reach = _jackknife(sample, values)
    return Estimate(value, max(value - reach, 0.0), value + reach)


def skewness(sample: Sample) -> Estimate:
    """Skewness: the same jackknife; marked rough, since single trials far out decide it."""
    if sample.count < 3:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        gaps = sample.valid - sample.valid.mean()
        value = float((gaps**3).mean() / (gaps**2).mean() ** 1.5)
        if not sample.has_error or not math.isfinite(value):
            return Estimate(value, rough=True)
        count, one, two, three = _left_out(sample, 3)
        centre = one / count
        second = two / count - centre**2
        third = three / count - 3 * centre * two / count + 2 * centre**3
        reach = _jackknife(sample, third / second**1.5)
    return Estimate(value, value - reach, value + reach, rough=True)


def _left_out(sample: Sample, powers: int) -> list[Floats]:
    """Return the sums of the powers 0, 1, ... of the centred values with each block left out."""
    gaps = sample.valid - sample.valid.mean()
    terms = np.ones_like(gaps)
    sums = []
    for _ in range(powers + 1):
        by_block = sample.by_block(terms)
        sums.append(by_block.sum() - by_block)
        terms = terms * gaps
    return sums


def _jackknife(sample: Sample, values: Floats) -> float:
    blocks = len(values)
    variance = (blocks - 1) / blocks * np.sum((values - values.mean()) ** 2)
    return float(sample.student * math.sqrt(variance))


def percentile(sample: Sample, q: float) -> Estimate:
    """Percentile ``q``: whole-sample order statistics at the level, plus and minus the spread of the share below it."""
    level = _level("percentile", q / 100 if isinstance(q, int | float) else q)
    if not sample.count:
        return Estimate(math.nan)
    value = float(sample.quantile(level))
    if not sample.has_error:
        return Estimate(value)
    reach = max(_spread_below(sample, value), 1 / sample.count)
    low, high = sample.quantile(np.clip([level - reach, level + reach], 0, 1))
    return Estimate(value, min(low, value), max(high, value))


def _spread_below(sample: Sample, value: float) -> float:
    """Return the reach of the share of trials at or below a value."""
    return sample.student * math.sqrt(sample.variance_of_mean(sample.valid <= value))


def _level(name: str, level: Any) -> float:
    number = finite(name, "a percentile" if name == "percentile" else "level", level)
    if not 0 <= number <= 1:
        rule = "from 0 to 100" if name == "percentile" else "from 0 to 1"
        raise wrong(
            name,
            "a percentile" if name == "percentile" else "level",
            rule,
            number * (100 if name == "percentile" else 1),
        )
    return number


def chance(sample: Sample, above: float | None = None, below: float | None = None, at: float | None = None) -> Estimate:
    """Chance of being strictly above, strictly below, between the two, or at a value, as a share of all trials."""
    if at is not None and (above is not None or below is not None):
        raise KindynosError("chance: at cannot be combined with above or below")
    if at is None and above is None and below is None:
        raise KindynosError("chance: say above=, below= or at=")
    with np.errstate(invalid="ignore"):
        hits = sample.values == at if at is not None else np.ones(len(sample.values), dtype=bool)
        if above is not None:
            hits = hits & (sample.values > finite("chance", "above", above))
        if below is not None:
            hits = hits & (sample.values < finite("chance", "below", below))
    return _share(hits, sample)


def _share(hits: Floats | NDArray[np.bool_], sample: Sample) -> Estimate:
    """Wilson's interval with the effective number of trials, p(1 - p) / variance; all trials where that is 0."""
    p = float(hits.mean())
    everyone = Sample(np.broadcast_to(0.0, len(hits)), sample.bounds)  # failed trials count too: a share is of all
    if not everyone.has_error:
        return Estimate(p)
    variance = everyone.variance_of_mean(hits)
    count, reach = float(len(hits)), float(ndtri(CONFIDENCE))
    if variance > 0 and not sample.independent:
        count, reach = p * (1 - p) / variance, everyone.student
    centre = (p + reach**2 / (2 * count)) / (1 + reach**2 / count)
    half = reach / (1 + reach**2 / count) * math.sqrt(p * (1 - p) / count + reach**2 / (4 * count**2))
    return Estimate(p, max(centre - half, 0.0), min(centre + half, 1.0))


def percentile_of(sample: Sample, x: float) -> Estimate:
    """Percentile at which a value lies among the valid trials: those below it and half of those at it."""
    if not sample.count or math.isnan(x):
        return Estimate(math.nan)
    valid = Sample(sample.valid, sample.starts, sample.independent)
    below = _share((valid.values < x) + 0.5 * (valid.values == x), valid)
    return Estimate(100 * below, 100 * below.low, 100 * below.high)


def value_at_risk(sample: Sample, level: float, reference: float = 0.0) -> Estimate:
    """Loss against ``reference`` that is exceeded with a chance of 1 - level; positive is a loss."""
    level = share("value at risk", "level", level, closed=False)
    found = percentile(sample, 100 * (1 - level))
    return Estimate(reference - found, reference - found.high, reference - found.low)


def expected_shortfall(sample: Sample, level: float, reference: float = 0.0) -> Estimate:
    """Mean loss against ``reference`` in the worst 1 - level of the trials.

    The mean of q + (loss - q)+ / (1 - level) over the trials, with q the value at risk (Rockafellar and Uryasev, Journal of
    Risk 2, 2000, 21-41), has the right variance as q is where it is least. Its interval is corrected for the skewness of these
    terms (Hall, Journal of the Royal Statistical Society B 54, 1992, 221-228).
    """
    level = share("expected shortfall", "level", level, closed=False)
    if not sample.count:
        return Estimate(math.nan)
    tail = 1 - level
    losses = reference - sample.valid
    q = reference - float(sample.quantile(tail))
    terms = q + np.maximum(losses - q, 0) / tail
    value = float(terms.mean())
    rough = sample.count * tail < TAIL
    if not sample.has_error:
        return Estimate(value, rough=rough)
    if sample.independent:
        deviation, t = (
            float(terms.std(ddof=1)) / math.sqrt(sample.count),
            float(stdtrit(max(sample.count * tail - 1, 1), CONFIDENCE)),
        )
    else:
        deviation, t = math.sqrt(sample.variance_of_mean(terms)), sample.student
    low, high = (value - deviation * _unskewed(side * t, terms) for side in (1, -1))
    return Estimate(value, max(low, q), high, rough=rough)


def _unskewed(t: float, terms: Floats) -> float:
    """Return the level of a t statistic of a mean of skewed terms that stands for ``t`` (Hall's cubic transformation)."""
    gaps = terms - terms.mean()
    variance = float((gaps**2).mean())
    skew = float((gaps**3).mean()) / variance**1.5 if variance > 0 else 0.0
    a = skew / (3 * math.sqrt(len(terms)))
    return float((np.cbrt(1 + 3 * a * (t - a / 2)) - 1) / a) if abs(a) > 1e-9 else t


def median(sample: Sample) -> Estimate:
    """The 50th percentile."""
    return percentile(sample, 50.0)


def lowest(sample: Sample) -> Estimate:
    """The lowest of the trials drawn; others could be lower."""
    return _extreme(sample, 0, "lowest")


def highest(sample: Sample) -> Estimate:
    """The highest of the trials drawn; others could be higher."""
    return _extreme(sample, -1, "highest")


def _extreme(sample: Sample, place: int, word: str) -> Estimate:
    value = float(sample.sorted[place]) if sample.count else math.nan
    return Estimate(value, note=f"the {word} of {sample.count:,} trials")


def mode(sample: Sample) -> Estimate:
    """The likeliest value: the most frequent where values repeat, else by halving the sample to its densest half.

    The half-sample mode of Robertson and Cryer, Journal of the American Statistical Association 69 (1974), 1012-1016.
    Rough, and without an error.
    """
    values = sample.sorted
    if not len(values):
        return Estimate(math.nan, rough=True)
    distinct, counts = np.unique(values, return_counts=True)
    if len(distinct) <= len(values) / 2:
        return Estimate(float(distinct[counts.argmax()]), rough=True)
    while len(values) > 3:
        half = math.ceil(len(values) / 2)
        widths = values[half - 1 :] - values[: len(values) - half + 1]
        begin = int(widths.argmin())
        values = values[begin : begin + half]
    return Estimate(float(values.mean()), rough=True)


STATISTICS: dict[str, Callable[..., Estimate]] = {
    function.__name__: function
    for function in (
        mean,
        median,
        mode,
        sd,
        skewness,
        lowest,
        highest,
        percentile,
        percentile_of,
        chance,
        value_at_risk,
        expected_shortfall,
    )
}


def statistic(name: str) -> Callable[..., Estimate]:
    """Return the statistic of that name; raises ParameterError, with the nearest spelling, when there is none."""
    if name not in STATISTICS:
        raise ParameterError(f"statistic must be one of {', '.join(STATISTICS)}, not {name!r}{nearest(name, STATISTICS)}")
    return STATISTICS[name]
