"""Statistics of one number over the trials, each with its 95 % interval.

Estimates come from the whole sample; the spread between blocks, each a replicate of the sampling
plan, gives their variance (Student's t with blocks - 1 degrees of freedom). Averaging each block's
own percentile instead would be badly wrong in the tails. NaN marks a failed trial: statistics are
over the valid trials, a chance is a share of all.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError, RunError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z, hall, jackknife_error, order_places, t_point, wilson
from kindynos.inference.sample import (
    FEWEST,
    FEWEST_BLOCKS,
    ROUNDING,
    AnySample,
    Sample,
    Terms,
    variance_by_blocks,
)
from kindynos.literals import Kind
from kindynos.registry import Registry
from kindynos.results import influence
from kindynos.results.shape_statistics import kurtosis, mode, skewness
from kindynos.validate import (
    Finite,
    Level,
    chance_bounds,
    checked,
    confidence_level,
    finite,
    invalid_argument,
    threshold,
)

FEW_BEYOND = 10  # trials beyond a percentile below which its interval is that of order statistics
FEW_DECIDE = 0.1  # share of the variance that few trials may hold
FEW_DECIDE_SD = 0.15  # the same share above which more trials may find a larger sd
FEW_DECIDE_WEIGHTED = 0.08  # the same share, of a mean or an sd, from which weights leave it rough
FEW_HITS = 30  # effective trials beyond a figure below which weights leave a rough interval
TAIL = 50  # trials beyond a level below which its expected shortfall is marked rough


def mean(sample: AnySample) -> Estimate:
    """Mean: block means; the pooled sample under the random plan."""
    if not sample.count:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore", over="ignore"):
        value = sample.mean
        if not sample.has_error:
            return Estimate(value, note=sample.why_no_error)
        terms, t = sample.distances(), _student(sample, sample.effective_count)
        deviation = terms.deviation(sample.independent)
        if not deviation > 0:
            return _without_spread(sample, value)
        ends = (value - deviation * t, value + deviation * t)
        note = decided_by_few(sample)
        if not note:
            return Estimate(value, *ends)
        by_trial = sample.independent
        skew = terms.skewness() if by_trial else Sample.of(terms.sums).standardized(3)
        count = sample.effective_count if by_trial else len(terms.sums)
        low, high = (value - deviation * hall(side * t, skew, count) for side in (1, -1))
    return Estimate(value, min(low, ends[0]), max(high, ends[1]), rough=True, note=note)


def _without_spread(sample: AnySample, value: float) -> Estimate:
    """Return a mean that is the same in each block. Where all trials are equal, nothing says how
    far it may be off, unless the quantity is constant by construction. Where blocks have as many
    hits each, as stratified ones have of a rare event, others may have one more or less in 3 of as
    many blocks, with a chance of 95 % (the rule of three).
    """
    if sample.constant:
        return Estimate(value, value, value)
    low, first, last, high = (float(sample.quantile(level)) for level in (0.0, 0.25, 0.75, 1.0))
    if low == high:
        return Estimate(value, note=f"the same in all {sample.count:,} trials drawn")
    if first < last:  # no rare event, but the plan is exact, as antithetic pairs are of sums
        return Estimate(value, value, value)
    draws = sample.effective_count / max(sample.together, 1)
    reach = 3 * max(value - low, high - value) / draws
    return symmetrical(value, reach, rough=True)


def _student(sample: AnySample, terms: float) -> float:
    return t_point(max(terms - 1, 1)) if sample.independent else sample.student


def decided_by_few(sample: AnySample) -> str:
    """Return a note where ten trials (of fewer than 2,000 one in two hundred) hold a tenth of the
    variance, or nothing.
    """
    few, share = _few(sample), _share_of_few(sample)
    if share < (FEW_DECIDE_WEIGHTED if sample.weighted else FEW_DECIDE):
        return ""
    which = f"the {few} farthest trials hold" if few > 1 else "a single trial holds"
    return f"{which} {100 * share:.0f} % of the variance; the median says more"


def _few(sample: AnySample) -> int:
    return min(10, max(int(sample.effective_count) // 200, 1))


def _share_of_few(sample: AnySample) -> float:
    """Return what share of the variance the few farthest trials hold."""
    with np.errstate(all="ignore"):
        return sample.farthest_share(_few(sample))


def sd(sample: AnySample) -> Estimate:
    """Standard deviation: the jackknife that leaves out one block at a time.

    Where few trials decide it, more of them would make it larger, and only the lower end is given.
    """
    if sample.count < 2:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore"):  # infinite values have no spread
        value = sample.sd
    if not sample.has_error or not math.isfinite(value):
        return Estimate(value, note=sample.why_no_error)
    if value == 0 and not sample.constant:
        return Estimate(value, note=f"the same in all {sample.count:,} trials drawn")
    low, high = _ends_of_sd(sample, value)
    few = _share_of_few(sample)
    if few > FEW_DECIDE_SD:
        note = "few trials decide it; more of them may find it larger"
        return Estimate(value, low, math.inf, rough=True, note=note)
    if sample.weighted and few > FEW_DECIDE_WEIGHTED:
        return Estimate(value, low, high, rough=True, note="few trials decide it")
    return Estimate(value, low, high)


def _ends_of_sd(sample: AnySample, value: float) -> tuple[float, float]:
    """Return the ends of an sd: of weighted trials from the squared distances, corrected for their
    skewness as a mean is.
    """
    if isinstance(sample, Sample) and sample.weighted and sample.independent:
        squares = sample.terms((sample.valid - sample.mean) ** 2)
        deviation, skew = squares.deviation(True), squares.skewness()
        ends = (squares.mean - deviation * hall(side * Z, skew, sample.count) for side in (1, -1))
        low, high = (value * math.sqrt(max(end, 0.0) / squares.mean) for end in ends)
        return low, high
    count, total, squares_left = sample.left_out(2)
    variances = np.maximum(squares_left - total**2 / count, 0) / (count - 1)
    reach = jackknife_error(np.sqrt(variances))
    return max(value - reach, 0.0), value + reach


def percentile(sample: AnySample, q: float) -> Estimate:
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
        return Estimate(value, note=sample.why_no_error)
    if level in (0, 1):
        return Estimate(
            value, note=f"the {'highest' if level else 'lowest'} of {sample.count:,} trials"
        )
    beyond = sample.effective_beyond(level)
    if beyond < FEW_BEYOND:
        if sample.weighted:
            return Estimate(value, note=_weights_leave(beyond))
        return _far_out(sample, level, value)
    reach = max(sample.reach_below(value), 1 / sample.effective_count)
    low = sample.quantile(max(level - reach, 0.0))
    high = sample.quantile(min(level + reach, 1.0))
    if sample.weighted and beyond < FEW_HITS:
        return Estimate(value, low, high, rough=True, note=_weights_leave(beyond))
    return Estimate(value, low, high)


def _weights_leave(effective: float) -> str:
    """Return why weighted trials give no interval, or only a rough one."""
    return f"the weights leave {effective:.0f} effective trials that decide it"


def _far_out(sample: AnySample, level: float, value: float) -> Estimate:
    """Return a percentile with the binomial interval of its order statistics, an infinite end where
    there is none.
    """
    inner, outer = order_places(int(sample.effective_count), min(level, 1 - level))
    places = [sample.ordered(-k if level > 0.5 else k - 1) for k in (inner, max(outer, 1))]
    note = "" if outer else f"fewer than {FEW_BEYOND} trials lie beyond, which give one bound only"
    near, far = places[0], places[1] if outer else math.inf if level > 0.5 else -math.inf
    return Estimate(value, min(near, far), max(near, far), note=note)


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
    sample: AnySample,
    above: float | None = None,
    below: float | None = None,
    at: float | None = None,
) -> Estimate:
    """Chance of being strictly above, strictly below, between the two, or at a value, as a share of
    all trials.
    """
    return _share(sample.hits(*chance_bounds(above, below, at)), sample)


def survival(sample: AnySample, x: float) -> Estimate:
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
    low = -math.inf if above is None else threshold("above", above)
    high = math.inf if below is None else threshold("below", below)
    return mean(sample.only((sample.values > low) & (sample.values < high)))


def _share(hits: Terms, sample: AnySample) -> Estimate:
    """Return a share from terms: Wilson's interval with the effective number of trials, p(1 - p) /
    variance; where nothing varied between the blocks, with the number of draws that are independent
    of each other, such as of pairs.
    """
    p = hits.mean
    if not gives_an_error(hits, sample):
        reason = _weights_leave(hits.rarer) if hits.rarer < FEW_BEYOND else ""
        return Estimate(p, note=sample.why_no_error or reason)
    count, point = effective_trials(hits, sample.together)
    few = hits.rarer < FEW_HITS
    note = _weights_leave(hits.rarer) if few else ""
    return Estimate(p, *wilson(p, count, point), rough=few, note=note)


def gives_an_error(hits: Terms, sample: AnySample) -> bool:
    """Return whether there are enough trials for the interval of a share, and enough hits where
    trials have weights.
    """
    enough = hits.count >= FEWEST and len(hits.sizes) >= FEWEST_BLOCKS
    return enough and not sample.why_no_error and hits.rarer >= FEW_BEYOND


def effective_trials(hits: Terms, together: int) -> tuple[float, float]:
    """Return how many independent trials have the variance of a share, and the point of Student's t
    or of the normal that goes with them.
    """
    p, blocks = hits.mean, len(hits.sizes)
    if together != 1:
        variance = variance_by_blocks(hits.sums, hits.sizes)
        if variance > 0 and ROUNDING < p < 1 - ROUNDING:
            return p * (1 - p) / variance, t_point(blocks - 1)
    return hits.effective_count / max(together, 1), Z


@checked
def percentile_of(sample: AnySample, x: float) -> Estimate:
    """Percentile at which a value lies among the valid trials: those below it and half of those at
    it.
    """
    x = threshold("x", x)
    if math.isnan(x) or not sample.count:
        return Estimate(math.nan)
    below = _share(sample.lying_below(x), sample)
    return Estimate(100 * below, 100 * below.low, 100 * below.high)


@checked
def value_at_risk(sample: AnySample, level: float, reference: float = 0.0) -> Estimate:
    """Loss against ``reference`` that is exceeded with a chance of 1 - level; positive is a loss.
    Of a cost, which is better low, what it exceeds the reference by.
    """
    level, reference = (confidence_level("level", level), finite("reference", reference))
    if sample.better == "low":
        return value_at_risk(sample.negated, level, -reference)
    threshold = percentile(sample, 100 * (1 - level))
    return Estimate(reference - threshold, reference - threshold.high, reference - threshold.low)


@checked
def expected_shortfall(sample: AnySample, level: Level, reference: Finite = 0.0) -> Estimate:
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
        return expected_shortfall(sample.negated, level, -reference)
    tail = 1 - level
    quantile, terms = sample.shortfalls(tail)
    q = reference - quantile
    value = q + terms.mean / tail
    rough = sample.effective_count * tail < TAIL
    if not sample.has_error:
        return Estimate(value, rough=rough, note=sample.why_no_error)
    deviation = terms.deviation(sample.independent) / tail
    t, skew = _student(sample, sample.effective_count * tail), terms.skewness()
    low, high = (
        value - deviation * hall(side * t, skew, sample.effective_count) for side in (1, -1)
    )
    return Estimate(value, max(low, q), high, rough=rough)


def median(sample: AnySample) -> Estimate:
    """The 50th percentile."""
    return percentile(sample, 50.0)


def lowest(sample: AnySample) -> Estimate:
    """The lowest of the trials drawn; others could be lower."""
    return _extreme(sample, 0.0, "lowest")


def highest(sample: AnySample) -> Estimate:
    """The highest of the trials drawn; others could be higher."""
    return _extreme(sample, 1.0, "highest")


def _extreme(sample: AnySample, level: float, label: str) -> Estimate:
    value = float(sample.quantile(level)) if sample.count else math.nan
    return Estimate(value, note=f"the {label} of {sample.count:,} trials")


@dataclass(frozen=True)
class Needs:
    """What a summary of trials that are not held must have gathered: levels of quantiles, and
    figures below and at which trials are counted.
    """

    levels: tuple[float, ...] = ()
    cuts: tuple[float, ...] = ()


def _tail_level(better: str, level: float, reference: float = 0.0) -> Needs:
    return Needs((1 - level if better == "high" else level,))


def _percentile_level(better: str, q: float) -> Needs:
    return Needs((q / 100,))


def _cuts(better: str, *stated: float | None, **sides: float | None) -> Needs:
    cuts = (*stated, *sides.values())
    return Needs(cuts=tuple(float(cut) for cut in cuts if cut is not None))


def trials_held(better: str, *stated: Any, **sides: Any) -> Needs:
    """Stand for what needs the trials themselves, which no summary holds."""
    raise RunError("the trials are not held")


@dataclass(frozen=True)
class Statistic:
    """A statistic: how it is worked out of a sample, and all that others must know of it.

    ``kind`` says what its value is: an amount in the unit of the quantity, a share of the trials, a
    percentile from 0 to 100, or a plain number. ``ranks`` statistics heed how trials without a
    value rank. ``needs`` is what it needs of a summary, by which end is wanted and its arguments;
    ``influence`` what each trial adds to it, by which it is paired and optimized.
    """

    compute: Callable[..., Estimate]
    kind: Kind = "amount"
    ranks: bool = False
    needs: Callable[..., Needs] = trials_held
    influence: Callable[..., Floats | None] = influence.none

    def __call__(self, sample: Any, *arguments: Any, **options: Any) -> Estimate:
        """Return the statistic of a sample."""
        with np.errstate(all="ignore"):  # of infinite values, and of values whose squares are
            return checked(self.compute)(sample, *arguments, **options)


def _of_sums(better: str) -> Needs:
    return Needs()


# The one list of statistics: an entry here is known to runs, summaries, weighted trials, pairs,
# comparisons, sweeps, the command line, pages, workbooks, JSON and CSV.
STATISTICS: Registry[Statistic] = Registry(
    "statistic",
    {
        "mean": Statistic(mean, needs=_of_sums, influence=influence.mean_terms),
        "median": Statistic(
            median, ranks=True, needs=lambda better: Needs((0.5,)), influence=influence.median_terms
        ),
        "mode": Statistic(mode),
        "sd": Statistic(sd, needs=_of_sums, influence=influence.sd_terms),
        "skewness": Statistic(skewness, "number", needs=_of_sums),
        "kurtosis": Statistic(kurtosis, "number", needs=_of_sums),
        "lowest": Statistic(lowest, needs=_of_sums),
        "highest": Statistic(highest, needs=_of_sums),
        "percentile": Statistic(
            percentile, ranks=True, needs=_percentile_level, influence=influence.percentile_terms
        ),
        "percentile_of": Statistic(percentile_of, "percentile", ranks=True, needs=_cuts),
        "chance": Statistic(
            chance, "share", ranks=True, needs=_cuts, influence=influence.chance_terms
        ),
        "survival": Statistic(
            survival, "share", ranks=True, needs=_cuts, influence=influence.survival_terms
        ),
        "conditional_mean": Statistic(conditional_mean, influence=influence.conditional_terms),
        "value_at_risk": Statistic(
            value_at_risk, ranks=True, needs=_tail_level, influence=influence.risk_terms
        ),
        "expected_shortfall": Statistic(
            expected_shortfall, needs=_tail_level, influence=influence.shortfall_terms
        ),
    },
)
