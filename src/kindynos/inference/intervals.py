"""Points of the normal and of Student's t, and intervals that are made from them. All are
two-sided, at 95 %.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import bdtr, ndtri, stdtrit

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate, symmetrical

UPPER = 0.975  # the level of the upper end
Z = float(ndtri(UPPER))  # the normal point, 1.96
CLAIMED = 1.15  # 95 % errors beyond which a difference is claimed: falsely in 2.4 % of cases
FEWEST_FOR_FISHER = 200  # values below which no error of a correlation is given


def is_claimed(difference: float, error: float) -> bool:
    """Return whether a sentence may say that a difference with a 95 % error is there. At the error
    itself such claims were false in 5 to 8 % of 200 records; at most 5 % may be.

    >>> is_claimed(2.0, 1.8), is_claimed(-2.0, 1.7)
    (False, True)
    """
    return abs(difference) > CLAIMED * error


def t_point(degrees: float) -> float:
    """Return Student's t at 97.5 %.

    >>> round(t_point(19), 3)
    2.093
    """
    return float(stdtrit(degrees, UPPER))


def wilson(share: float, count: float, point: float = Z) -> tuple[float, float]:
    """Return the interval of a share of ``count`` independent trials (a fraction where they are
    effective ones).

    Source: Wilson, Journal of the American Statistical Association 22 (1927), 209-212.

    >>> tuple(round(end, 4) for end in wilson(0.1, 100))
    (0.0552, 0.1744)
    """
    weight = point**2 / count
    centre = (share + weight / 2) / (1 + weight)
    half = point / (1 + weight) * math.sqrt(share * (1 - share) / count + weight / (4 * count))
    return max(centre - half, 0.0), min(centre + half, 1.0)


def paired_difference(gained: int, lost: int, count: int) -> tuple[float, float]:
    """Return the interval of the difference of two shares of the same ``count`` independent trials:
    Tango's score interval.

    ``gained`` trials are hits of the second only, ``lost`` of the first only. It holds where few or
    no trials differ. Source: Tango, Statistics in Medicine 17 (1998), 891-908.

    >>> tuple(round(end, 4) for end in paired_difference(12, 2, 100))
    (0.031, 0.1819)
    """

    def statistic(difference: float) -> float:
        b = (2 * count - gained + lost) * difference - gained - lost
        q = (math.sqrt(max(b**2 + 8 * count * lost * difference * (1 - difference), 0.0)) - b) / (
            4 * count
        )
        variance = count * (2 * q + difference * (1 - difference))
        gap = gained - lost - count * difference
        if variance > 0:
            return gap / math.sqrt(variance)
        return math.copysign(math.inf, gap) if gap else 0.0

    from scipy.optimize import brentq

    value = (gained - lost) / count

    def end(point: float, outer: float) -> float:
        def beyond(difference: float) -> float:
            return min(max(statistic(difference), -1e3), 1e3) - point

        if beyond(value) * beyond(outer) >= 0:  # the interval reaches as far as it can
            return outer
        return float(brentq(beyond, value, outer, xtol=1e-14))

    return end(Z, -1.0), end(-Z, 1.0)


def order_places(count: int, tail: float) -> tuple[int, int]:
    """Return how many of ``count`` independent values, from the end, the ends of a quantile's
    interval are: inner, outer.

    ``tail`` is the chance beyond the quantile. The outer place is 0 where no value lies beyond it
    with 97.5 %. Source: David and Nagaraja, Order Statistics (2003), section 7.1.

    >>> order_places(250, 0.01), order_places(1000, 0.01)
    ((7, 0), (18, 4))
    """
    # the chance that at most that many values lie beyond the true quantile
    at_most = bdtr(np.arange(count), count, tail)
    return int(np.searchsorted(at_most, UPPER)) + 1, int(np.count_nonzero(at_most <= 1 - UPPER))


def ends_of_draws(draws: ArrayLike) -> tuple[float, float]:
    """Return the ends of the 95 % interval of a figure from draws of it.

    >>> [round(end, 6) for end in ends_of_draws(range(401))]
    [10.0, 390.0]
    """
    low, high = np.quantile(np.asarray(draws, dtype=np.float64), [1 - UPPER, UPPER]).tolist()
    return low, high


def proportion(hits: NDArray[Any]) -> Estimate:
    """Return the share of independent trials with a hit, or the mean of the chance of one in each,
    by Wilson's interval.
    """
    count, share = hits.size, float(hits.mean())
    variance = float(hits.var()) / max(count - 1, 1)
    effective = share * (1 - share) / variance if variance > 0 else float(count)
    return Estimate(share, *wilson(share, effective))


def jackknife_error(left_out: Floats, point: float | None = None) -> float:
    """Return the half-width of the interval of a figure, from its values with one group left out at
    a time, ``(groups,)``.

    Source: Efron and Stein, Annals of Statistics 9 (1981), 586-596.
    """
    groups = len(left_out)
    variance = (groups - 1) / groups * float(((left_out - left_out.mean()) ** 2).sum())
    return (t_point(groups - 1) if point is None else point) * math.sqrt(variance)


def jackknifed(value: float, left_out: Floats) -> Estimate:
    """Return a figure with the interval of ``jackknife_error``."""
    return symmetrical(value, jackknife_error(left_out))


def correlation_by_blocks(
    first: Floats, second: Floats, bounds: NDArray[np.int64], weights: Floats | None = None
) -> Estimate:
    """Return the correlation of two rows of values ``(trials,)``, or its mean over ``(rows,
    trials)``, with its interval.

    ``bounds`` are the first trial of each block and the number of trials. The interval is the
    jackknife that leaves out one block at a time, on Fisher's scale; there is none for fewer than
    200 trials or 5 blocks, or for a correlation of 1. ``weights`` are one per trial.
    """
    rows = [np.atleast_2d(values)[:, None] for values in (first, second)]
    return correlations_by_blocks(np.concatenate(rows, axis=1), bounds, weights)[0]


def correlations_by_blocks(
    values: Floats, bounds: NDArray[np.int64], weights: Floats | None = None
) -> list[Estimate]:
    """Return the correlation of each pair of quantities ``(rows, quantities, trials)``, the first
    with all after it, then the second, as ``correlation_by_blocks`` does for one pair.
    """
    quantities, trials = values.shape[1:]
    first, second = np.triu_indices(quantities, 1)
    if trials == 0 or len(bounds) < 2:
        return [Estimate(0.0)] * len(first)
    parts = [values[..., begin:end] for begin, end in pairwise(bounds.tolist())]
    sizes = np.diff(bounds).astype(np.float64)
    weighted = parts
    if weights is not None:
        by_block = [weights[begin:end] for begin, end in pairwise(bounds.tolist())]
        sizes = np.array([part.sum() for part in by_block])
        weighted = [part * weight for part, weight in zip(parts, by_block, strict=True)]
    products = np.stack(
        [one @ np.swapaxes(part, -1, -2) for one, part in zip(weighted, parts, strict=True)]
    )
    single = np.stack([part.sum(axis=-1) for part in weighted])
    squares = np.diagonal(products, axis1=-2, axis2=-1)
    # each (blocks, rows, pairs)
    sums = [
        sizes[:, None, None],
        single[..., first],
        single[..., second],
        squares[..., first],
        squares[..., second],
        products[..., first, second],
    ]
    totals = [part.sum(axis=0, keepdims=True) for part in sums]
    mean = _correlation(totals)[0].mean(axis=0)
    if trials < FEWEST_FOR_FISHER or len(bounds) < 6:
        return [Estimate(float(value)) for value in mean]
    left_out = _correlation([total - part for total, part in zip(totals, sums, strict=True)])
    on_scale = np.arctanh(np.clip(left_out.mean(axis=1), -1 + 1e-15, 1 - 1e-15))
    groups = len(on_scale)
    squares_of = ((on_scale - on_scale.mean(axis=0)) ** 2).sum(axis=0)  # as in jackknife_error
    reach = t_point(groups - 1) * np.sqrt((groups - 1) / groups * squares_of)
    return list(map(_on_fishers_scale, mean.tolist(), reach.tolist()))


def _on_fishers_scale(value: float, reach: float) -> Estimate:
    if not abs(value) < 1 - 1e-12:
        return Estimate(value)
    centre = math.atanh(value)
    return Estimate(value, math.tanh(centre - reach), math.tanh(centre + reach))


def _correlation(sums: list[Floats]) -> Floats:
    count, a, b, aa, bb, ab = sums
    # no trials, or all of them alike: no correlation
    with np.errstate(divide="ignore", invalid="ignore"):
        spread = np.sqrt(np.maximum((aa - a * a / count) * (bb - b * b / count), 0.0))
        return np.where(spread > 0, (ab - a * b / count) / spread, 0.0)


def hall(t: float, skewness: float, count: float) -> float:
    """Return the level of a t statistic of a mean of skewed terms that stands for ``t``.

    Source: Hall, Journal of the Royal Statistical Society B 54 (1992), 221-228: the cubic
    transformation.
    """
    a = skewness / (3 * math.sqrt(count))
    return float((np.cbrt(1 + 3 * a * (t - a / 2)) - 1) / a) if abs(a) > 1e-9 else t
