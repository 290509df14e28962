"""Statistics of one number over the trials, each with its 95 % interval.

Estimates come from the whole sample; the spread between blocks, each a replicate of the sampling
plan, gives their variance (Student's t with blocks - 1 degrees of freedom). Averaging each block's
own percentile instead would be badly wrong in the tails. NaN marks a failed trial: statistics are
over the valid trials, a chance is a share of all.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import KindynosError
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import (
    Z,
    jackknife_error,
    order_places,
    skewness_corrected,
    t_point,
    wilson,
)
from kindynos.registry import Registry
from kindynos.results.sample import Ordered, Sample
from kindynos.results.shape_statistics import kurtosis, mode, skewness
from kindynos.validate import (
    Finite,
    Level,
    chance_bounds,
    checked,
    confidence_level,
    finite,
    invalid_argument,
    number,
)

FEW_BEYOND = 10  # trials beyond a percentile below which its interval is that of order statistics
FEW_DECIDE = 0.1  # share of the variance that few trials may hold
# squared relative error of a variance above which the interval of an sd is marked rough
UNSURE = 0.02
TAIL = 50  # trials beyond a level below which its expected shortfall is marked rough


def mean(sample: Sample) -> Estimate:
    """Mean: block means; the pooled sample under the random plan."""
    if not sample.count:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore", over="ignore"):
        value = float(sample.valid.mean())
        if not sample.has_error:
            return Estimate(value)
        if sample.independent:
            deviation, t = (
                float(sample.valid.std(ddof=1)) / math.sqrt(sample.count),
                t_point(sample.count - 1),
            )
        else:
            deviation, t = math.sqrt(sample.variance_of_mean(sample.valid)), sample.student
        note = decided_by_few(sample)
        if not note:
            return Estimate(value, value - deviation * t, value + deviation * t)
        terms = sample.valid if sample.independent else sample.by_block(sample.valid - value)
        low, high = (value - deviation * skewness_corrected(side * t, terms) for side in (1, -1))
    return Estimate(
        value,
        min(low, value - deviation * t),
        max(high, value + deviation * t),
        rough=True,
        note=note,
    )


def decided_by_few(sample: Sample) -> str:
    """Return a note where ten trials (of fewer than 2,000 one in two hundred) hold a tenth of the
    variance, or nothing.
    """
    few = min(10, max(sample.count // 200, 1))
    squares = (sample.valid - sample.valid.mean()) ** 2
    total = float(squares.sum())
    if not 0 < total < math.inf:
        return ""
    share = float(np.partition(squares, sample.count - few)[sample.count - few :].sum()) / total
    if share < FEW_DECIDE:
        return ""
    which = f"the {few} farthest trials hold" if few > 1 else "a single trial holds"
    return f"{which} {100 * share:.0f} % of the variance; the median says more"


def sd(sample: Sample) -> Estimate:
    """Standard deviation: the jackknife that leaves out one block at a time.

    Where few trials decide it, more of them would make it larger, and only the lower end is told.
    """
    if sample.count < 2:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore"):  # infinite values have no spread
        # less the first value, so that a constant has no spread by rounding
        value = float((sample.valid - sample.valid[0]).std(ddof=1))
    if not sample.has_error or not math.isfinite(value):
        return Estimate(value)
    left = sample.left_out(2)
    count = left[0]
    values = np.sqrt(np.maximum(left[2] - left[1] ** 2 / count, 0) / (count - 1))
    reach = jackknife_error(values)
    with np.errstate(all="ignore"):
        squares = ((sample.valid - sample.valid.mean()) / value) ** 2
        kurtosis = float((squares * squares).mean()) if value > 0 else 0.0
    low = max(value - reach, 0.0)
    if (kurtosis - 1) / sample.count > UNSURE:
        note = "few trials decide it; more of them may find it larger"
        return Estimate(value, low, math.inf, rough=True, note=note)
    return Estimate(value, low, value + reach)


def percentile(sample: Ordered, q: float) -> Estimate:
    """Percentile ``q``: whole-sample order statistics at the level, plus and minus the spread of
    the share below it.

    Where fewer than ten trials lie beyond it, the ends are the order statistics of independent
    trials, which need no assumption (David and Nagaraja, Order Statistics, 2003, section 7.1); the
    outer one does not exist where fewer than four lie beyond, and the interval is one-sided.
    Percentiles 0 and 100 are the extreme trials and have none.
    """
    level = _level("percentile", q / 100 if isinstance(q, int | float) else q)
    if not sample.count:
        return Estimate(math.nan)
    value = float(sample.quantile(level))
    if not sample.has_error:
        return Estimate(value)
    if level in (0, 1):
        return Estimate(
            value, note=f"the {'highest' if level else 'lowest'} of {sample.count:,} trials"
        )
    if sample.count * min(level, 1 - level) < FEW_BEYOND:
        return _far_out(sample, level, value)
    reach = max(_spread_below(sample, value), 1 / sample.count)
    low, high = sample.quantile(np.clip([level - reach, level + reach], 0, 1))
    return Estimate(value, low, high)


def _far_out(sample: Ordered, level: float, value: float) -> Estimate:
    """Return a percentile with the binomial interval of its order statistics, an infinite end where
    there is none.
    """
    inner, outer = order_places(sample.count, min(level, 1 - level))
    places = [sample.ordered(-k if level > 0.5 else k - 1) for k in (inner, max(outer, 1))]
    note = "" if outer else f"fewer than {FEW_BEYOND} trials lie beyond, which give one bound only"
    near, far = places[0], places[1] if outer else math.inf if level > 0.5 else -math.inf
    return Estimate(value, min(near, far), max(near, far), note=note)


def _spread_below(sample: Ordered, value: float) -> float:
    """Return the reach of the share of trials at or below a value."""
    return sample.student * math.sqrt(sample.variance_below(value))


def _level(name: str, level: Any) -> float:
    of_percentile = name == "percentile"
    called = "a percentile" if of_percentile else "level"
    share = finite(called, level)
    if not 0 <= share <= 1:
        rule = "from 0 to 100" if of_percentile else "from 0 to 1"
        raise invalid_argument(called, rule, share * (100 if of_percentile else 1))
    return share


@checked
def chance(
    sample: Sample, above: float | None = None, below: float | None = None, at: float | None = None
) -> Estimate:
    """Chance of being strictly above, strictly below, between the two, or at a value, as a share of
    all trials.
    """
    above, below, at = chance_bounds(above, below, at)
    with np.errstate(invalid="ignore"):
        hits = sample.values == at if at is not None else np.ones(len(sample.values), dtype=bool)
        if above is not None:
            hits = hits & (sample.values > above)
        if below is not None:
            hits = hits & (sample.values < below)
    return _share(hits, sample)


def survival(sample: Sample, x: float) -> Estimate:
    """Chance of more than a value, as a share of all trials."""
    return chance(sample, above=x)


def conditional_mean(
    sample: Sample, above: float | None = None, below: float | None = None
) -> Estimate:
    """Mean of the trials that end strictly above a value, strictly below one, or between the two;
    NaN where none does.
    """
    if above is None and below is None:
        raise KindynosError("say above= or below=")
    low = -math.inf if above is None else number("above", above)
    high = math.inf if below is None else number("below", below)
    inside = (sample.values > low) & (sample.values < high)
    return mean(Sample(np.where(inside, sample.values, np.nan), sample.bounds, sample.independent))


def _share(hits: Floats | NDArray[np.bool_], sample: Sample) -> Estimate:
    """Wilson's interval with the effective number of trials, p(1 - p) / variance; all trials where
    that is 0.
    """
    p = float(hits.mean())
    # failed trials count too: a share is of all
    everyone = Sample(np.broadcast_to(0.0, len(hits)), sample.bounds)
    if not everyone.has_error:
        return Estimate(p)
    variance = everyone.variance_of_mean(hits)
    return share_with_error(p, len(hits), variance, everyone.student, sample.independent)


def share_with_error(
    p: float, trials: int, variance: float, student: float, independent: bool
) -> Estimate:
    """Return a share of trials with Wilson's interval, by the spread between blocks that its
    variance is from.
    """
    count, point = float(trials), Z
    if variance > 0 and not independent:
        count, point = p * (1 - p) / variance, student
    return Estimate(p, *wilson(p, count, point))


@checked
def percentile_of(sample: Sample, x: float) -> Estimate:
    """Percentile at which a value lies among the valid trials: those below it and half of those at
    it.
    """
    x = number("x", x)
    if math.isnan(x) or not sample.count:
        return Estimate(math.nan)
    valid = Sample(sample.valid, sample.block_starts, sample.independent)
    below = _share((valid.values < x) + 0.5 * (valid.values == x), valid)
    return Estimate(100 * below, 100 * below.low, 100 * below.high)


@checked
def value_at_risk(sample: Ordered, level: float, reference: float = 0.0) -> Estimate:
    """Loss against ``reference`` that is exceeded with a chance of 1 - level; positive is a loss.
    Of a cost, which is better low, what it exceeds the reference by.
    """
    level, reference = (confidence_level("level", level), finite("reference", reference))
    if sample.better == "low":
        return value_at_risk(sample.turned, level, -reference)
    found = percentile(sample, 100 * (1 - level))
    return Estimate(reference - found, reference - found.high, reference - found.low)


@checked
def expected_shortfall(sample: Sample, level: Level, reference: Finite = 0.0) -> Estimate:
    """Mean loss against ``reference`` in the worst 1 - level of the trials; of a cost, which is
    better low, in the dearest.

    The mean of q + (loss - q)+ / (1 - level) over the trials, with q the value at risk (Rockafellar
    and Uryasev, Journal of Risk 2, 2000, 21-41), has the right variance as q is where it is least.
    Its interval is corrected for the skewness of these terms (Hall, Journal of the Royal
    Statistical Society B 54, 1992, 221-228).
    """
    if not sample.count:
        return Estimate(math.nan)
    if sample.better == "low":
        return expected_shortfall(sample.turned, level, -reference)
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
            t_point(max(sample.count * tail - 1, 1)),
        )
    else:
        deviation, t = math.sqrt(sample.variance_of_mean(terms)), sample.student
    low, high = (value - deviation * skewness_corrected(side * t, terms) for side in (1, -1))
    return Estimate(value, max(low, q), high, rough=rough)


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


# those that heed how trials without a value rank
RANKING = ("median", "percentile", "percentile_of", "chance", "survival", "value_at_risk")

STATISTICS: Registry[Callable[..., Estimate]] = Registry(
    "statistic",
    {
        function.__name__: function
        for function in (
            *(
                mean,
                median,
                mode,
                sd,
                skewness,
                kurtosis,
                lowest,
                highest,
                percentile,
                percentile_of,
            ),
            *(chance, survival, conditional_mean, value_at_risk, expected_shortfall),
        )
    },
)
