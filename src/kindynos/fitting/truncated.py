"""Records that are seen only above thresholds: how many are not seen, and whether records that
begin at a round figure are such.

Source: Klugman, Panjer and Willmot, Loss Models (2012), sections 11.2 and 12.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.errors import ParameterError
from kindynos.fitting.search import LikelihoodSearch
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import stream

DIRECTIONS = 24  # and their opposites, in which the likelihood is followed
FIRST, GROWING, STEPS = 0.5, 8, 18  # of a direction: the first reach, doublings, and halvings
WIDEST = 25.0  # variance of a parameter on its scale, beyond which the curvature means nothing
TINY = 1e-12
RUNAWAY = 1_000.0  # times as many unseen as seen, from which the records cannot tell
ROUND = (1.0, 2.0, 2.5, 5.0)  # first figures of a threshold that somebody set
ASKED = 4.0  # gain in log likelihood from which a beginning is asked about
BEGINNING = ("exponential", "lognormal", "gamma", "weibull")


def unseen(search: LikelihoodSearch, best: Floats, covariance: Floats, height: float) -> Estimate:
    """Return how many values lie below the thresholds; see ``Fit.unseen``. ``best`` is theta at the
    summit of the log likelihood, whose ``height`` and ``covariance`` of theta are given.

    Each value seen above a threshold t stands for 1 / S(t) values; the number of those not seen
    varies as the failures before that number of successes do. What the open parameters add is the
    profile likelihood's: the least and the greatest number where the likelihood stays within its
    reach, sought along many directions from the summit.
    """
    mean, variance = _below(search, best)
    if not 0 < mean < RUNAWAY * search.data.total:
        return Estimate(mean, 0.0, math.inf)
    ends = [_below(search, theta)[0] for theta in _as_likely(search, best, covariance, height)]
    own = (Z * math.sqrt(variance) / mean) ** 2
    low, high = (
        math.exp(math.hypot(math.log(max(end, TINY) / mean), math.sqrt(own)))
        for end in (min(ends, default=mean), max(ends, default=mean))
    )
    reach = RUNAWAY * search.data.total
    return Estimate(mean, mean / low, mean * high if max(ends, default=mean) < reach else math.inf)


def _below(search: LikelihoodSearch, theta: Floats) -> tuple[float, float]:
    """Return how many values lie below the thresholds on average at theta, and the variance."""
    counts = search.seen_thresholds[1]
    try:
        with np.errstate(over="ignore"):
            times = np.exp(-search.log_seen(search.made_at(theta)))
    except ParameterError:
        return math.inf, math.inf
    with np.errstate(over="ignore", invalid="ignore"):
        return float(counts @ (times - 1)), float(counts @ ((times - 1) * times))


def _as_likely(
    search: LikelihoodSearch, best: Floats, covariance: Floats, height: float
) -> list[Floats]:
    """Return parameters, as theta, along directions from the best, at which the log likelihood has
    fallen as far as at the end of a 95 % interval; or the end of their range.
    """
    low, high = search.bounds
    lengths, vectors = np.linalg.eigh(np.nan_to_num(covariance, posinf=1.0))
    units = vectors * np.sqrt(np.clip(lengths, 1e-12, WIDEST))
    generator = stream(0, "unseen", 0)
    directions = generator.standard_normal((DIRECTIONS, len(best)))
    directions /= np.linalg.norm(directions, axis=1)[:, None]
    directions = np.vstack([directions, -directions]) @ units.T
    least = height - Z**2 / 2
    near, far = np.zeros(len(directions)), np.full(len(directions), FIRST)
    for step in range(STEPS):
        middle = far if step < GROWING else (near + far) / 2
        points = np.clip(best + middle[:, None] * directions, low, high)
        inside = search.likelihood(points[None], np.array([0]))[0] >= least
        if step < GROWING:
            near = np.where(inside, far, near)
            far = np.where(inside & (near == far), far * 2, far)
        else:
            near, far = np.where(inside, middle, near), np.where(inside, far, middle)
    return list(np.clip(best + near[:, None] * directions, low, high))


def abrupt_beginning(values: Floats) -> float | None:
    """Return the round figure at which records above 0 begin so abruptly that smaller ones seem not
    to be recorded, None where nothing tells so.

    By the gain in log likelihood of the best of four families, if values are recorded only from
    there on: 0 to 1.5 % of samples that are whole have one of 4.
    """
    if not values.min() > 0 or not np.ptp(values) > 0:
        return None
    begin = _round_below(float(values.min()))
    best = [_best(values, threshold) for threshold in (None, begin)]
    return begin if best[1] - best[0] >= ASKED else None


def _best(values: Floats, threshold: float | None) -> float:
    """Return the highest log likelihood of a few families."""
    best_so_far = [-math.inf]
    for name in BEGINNING:
        kind: Any = CATALOGUE.find(name)
        try:
            best_so_far.append(kind.fit(values, truncated_below=threshold).fitted.log_likelihood)
        except ParameterError:
            continue
    return max(best_so_far)


def _round_below(value: float) -> float:
    """Return the largest round figure at or below a value above 0."""
    power = 10.0 ** math.floor(math.log10(value))
    return max(first * power for first in ROUND if first * power <= value * (1 + 1e-12))
