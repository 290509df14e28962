"""Tests of forecasts of value at risk whose p-values are exact or resampled, since few exceptions
decide them: with two or three, a chi-square distribution is far from that of the statistic.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import gammaln, stdtrit, xlogy
from kindynos.formatting import p_value
from kindynos.sampling.streams import stream

Counts = NDArray[np.int_]

TIES = 1e-9  # relative difference up to which two chances or statistics count as the same
RARE = 1e-12  # chance of a number of exceptions that is left out
RESAMPLES, TAIL_POINTS = 9_999, 4_096
HEAVIEST, NORMAL_DF = 2.05, 1e4


@dataclass(frozen=True)
class Verdict:
    """A test: its statistic and the chance of one as large if the forecasts are right."""

    statistic: float
    p_value: float

    def __repr__(self) -> str:
        return f"{self.statistic:.4g} ({p_value(self.p_value)})"


def number_of_exceptions(exceptions: int, days: int, chance: float) -> Verdict:
    """Return whether there are too many or too few exceptions: the likelihood ratio of Kupiec
    (Journal of Derivatives 3, 1995, 73-84), with the exact chance of a number that is as unlikely.
    """
    chances = binomial(days, chance)
    p_value = float(chances[chances <= chances[exceptions] * (1 + TIES)].sum())
    return Verdict(_coverage_ratio(exceptions, days, chance), min(p_value, 1.0))


def chance_of_rejection(days: int, chance: float, true_chance: float, size: float) -> float:
    """Return how often the test of the number of exceptions rejects forecasts at a ``size``, such
    as 0.05, when exceptions have the ``true_chance``: the size it really has where that is right,
    else its power.
    """
    chances = binomial(days, chance)
    order = np.argsort(chances, kind="stable")
    p_values = np.empty(days + 1)
    p_values[order] = np.cumsum(chances[order])
    return float(binomial(days, true_chance)[p_values < size].sum())


def clustering(hits: NDArray[np.bool_]) -> Verdict:
    """Return whether an exception makes one on the next day likelier or rarer: the likelihood ratio
    of Christoffersen (International Economic Review 39, 1998), with its exact distribution over all
    orders of as many exceptions.
    """
    days, exceptions = len(hits), int(hits.sum())
    statistics, chances = _orders(days, exceptions)
    own = _own_ratio(hits)
    larger = float(chances[statistics > own * (1 + TIES) + TIES].sum())
    equal = float(chances[np.abs(statistics - own) <= own * TIES + TIES].sum())
    # of a statistic with few values half the chance of its own one, so that the test has its size
    return Verdict(own, min(larger + equal / 2, 1.0))


def number_and_clustering(hits: NDArray[np.bool_], chance: float) -> Verdict:
    """Return both tests together, with the exact distribution of the sum of their statistics."""
    days, exceptions = len(hits), int(hits.sum())
    own = _coverage_ratio(exceptions, days, chance) + _own_ratio(hits)
    counts = binomial(days, chance)
    larger = equal = 0.0
    for count in np.flatnonzero(counts > RARE).tolist():
        statistics, chances = _orders(days, count)
        sums = statistics + _coverage_ratio(count, days, chance)
        larger += counts[count] * float(chances[sums > own * (1 + TIES) + TIES].sum())
        equal += counts[count] * float(chances[np.abs(sums - own) <= own * TIES + TIES].sum())
    return Verdict(own, min(larger + equal / 2, 1.0))


def size_of_exceptions(reached: float, count: int, df: float, level: float) -> Verdict:
    """Return whether ``count`` losses beyond the value at risk were larger than forecast,
    one-sided, from their sum over that of the expected shortfalls, which is 1 if they are right.

    Its distribution is that of the tail of a Student's t with ``df`` degrees of freedom: resamples
    of a few losses say nothing of larger ones.
    """
    drawn = _drawn_sizes(count, df, level)
    larger = len(drawn) - int(np.searchsorted(drawn, reached))
    return Verdict(reached, (1 + larger) / (len(drawn) + 1))


def chance_of_seeing_size(count: int, df: float, level: float, times: float, size: float) -> float:
    """Return how often that test, at a ``size`` such as 0.05, rejects forecasts when losses are so
    many ``times`` as far beyond the value at risk as they say.
    """
    drawn = _drawn_sizes(count, df, level)
    start = 1 / tail_ratio(df, level)  # value at risk over expected shortfall
    critical = drawn[-max(int(size * (len(drawn) + 1)) - 1, 1)]
    return float(np.mean(start + times * (drawn - start) >= critical))


@lru_cache(maxsize=64)
def _drawn_sizes(count: int, df: float, level: float) -> Floats:
    """Return means of ``count`` losses beyond the value at risk over their expected shortfall, in
    order.
    """
    tail = stdtrit(df, 1 - (1 - level) * (np.arange(TAIL_POINTS) + 0.5) / TAIL_POINTS)
    generator = stream(0, "size of exceptions", count)
    picked = generator.integers(0, TAIL_POINTS, (count, RESAMPLES))
    return np.sort(tail[picked].mean(axis=0) / tail.mean())


def df_of_tail(ratio: float, level: float) -> float:
    """Return the degrees of freedom of a Student's t whose expected shortfall is ``ratio`` times
    its value at risk, to two digits, within those of a tail that has a variance and a nearly normal
    one.
    """
    from scipy.optimize import brentq

    if ratio >= tail_ratio(HEAVIEST, level):
        return HEAVIEST
    if ratio <= tail_ratio(NORMAL_DF, level):
        return NORMAL_DF
    ends = np.log([HEAVIEST, NORMAL_DF])
    return float(
        f"{math.exp(brentq(lambda log: tail_ratio(math.exp(log), level) - ratio, *ends)):.3g}"
    )


def tail_ratio(df: float, level: float) -> float:
    """Return expected shortfall over value at risk of a Student's t (McNeil, Frey and Embrechts,
    Quantitative Risk Management, 2015, section 2.3.4).
    """
    q = float(stdtrit(df, level))
    log_density = gammaln((df + 1) / 2) - gammaln(df / 2) - (df + 1) / 2 * math.log1p(q * q / df)
    density = math.exp(float(log_density)) / math.sqrt(df * math.pi)
    return density / (1 - level) * (df + q * q) / (df - 1) / q


def binomial(count: int, chance: float) -> Floats:
    """Return the chances of 0 to ``count`` hits."""
    k = np.arange(count + 1)
    logs = gammaln(count + 1) - gammaln(k + 1) - gammaln(count - k + 1)
    return np.asarray(np.exp(logs + xlogy(k, chance) + (count - k) * math.log1p(-chance)))


def _coverage_ratio(x: int, n: int, p: float) -> float:
    """Return twice the log of the likelihood of the share that was seen over that of ``p``."""
    ratio = xlogy(x, p) + xlogy(n - x, 1 - p) - xlogy(x, x / n) - xlogy(n - x, 1 - x / n)
    return max(float(-2 * ratio), 0.0)


def _own_ratio(hits: NDArray[np.bool_]) -> float:
    """Return the likelihood ratio of clustering of a record."""
    before, after = hits[:-1], hits[1:]
    pairs = (~before & ~after, ~before & after, before & ~after, before & after)
    return float(independence_ratio(*(np.array(pair.sum()) for pair in pairs)))


def independence_ratio(n00: Counts, n01: Counts, n10: Counts, n11: Counts) -> Floats:
    """Return twice the log of the likelihood with two chances of a hit over that with one."""
    calm, hit = n01 / np.maximum(n00 + n01, 1), n11 / np.maximum(n10 + n11, 1)
    both = (n01 + n11) / np.maximum(n00 + n01 + n10 + n11, 1)
    alike = xlogy(n00 + n10, 1 - both) + xlogy(n01 + n11, both)
    apart = xlogy(n00, 1 - calm) + xlogy(n01, calm) + xlogy(n10, 1 - hit) + xlogy(n11, hit)
    return np.maximum(-2 * (alike - apart), 0.0)


@lru_cache(maxsize=1024)
def _orders(days: int, exceptions: int) -> tuple[Floats, Floats]:
    """Return the values of the statistic of clustering over all orders of some exceptions among
    days, each order being as likely, and their chances.

    An order has r runs of exceptions and z of other days between and around them, in C(x - 1, r -
    1) C(n - x - 1, z - 1) ways; whether it begins and ends with an exception decides z.
    """
    others = days - exceptions
    if exceptions == 0 or others == 0:
        return np.zeros(1), np.ones(1)
    runs, begins, ends = (
        axis.ravel() for axis in np.meshgrid(np.arange(1, exceptions + 1), (0, 1), (0, 1))
    )
    gaps = runs + 1 - begins - ends
    possible = (gaps >= 1) & (gaps <= others)
    runs, begins, ends, gaps = (axis[possible] for axis in (runs, begins, ends, gaps))
    statistics = independence_ratio(others - gaps, runs - begins, runs - ends, exceptions - runs)
    ways = _log_ways(exceptions - 1, runs - 1) + _log_ways(others - 1, gaps - 1)
    return statistics, np.exp(ways - _log_ways(days, np.array(exceptions)))


def _log_ways(n: int, k: Counts) -> Floats:
    return np.asarray(gammaln(n + 1) - gammaln(k + 1) - gammaln(n - k + 1))
