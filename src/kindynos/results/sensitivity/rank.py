"""Sensitivity read off the trials of a run: rank correlations, and first-order shares of
variance.
"""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import correlation_by_blocks, jackknifed
from kindynos.results.reached_correlations import ranks
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome
from kindynos.results.trials import SimulatedTrials

GROUPS = 20  # of blocks, of which one at a time is left out
FEWEST = 200  # trials below which no error is given


def rank_sensitivity(run: SimulatedTrials, name: str, by_period: bool = False) -> pd.DataFrame:
    """Return each driver's rank correlation with a quantity, and the share of its variance that the
    driver explains alone.

    ``first-order share`` is the variance of the quantity's mean given the driver, over the
    variance; it finds drivers whose effect is not monotone too. It is estimated from neighbours in
    the order of the driver, whose products average to the square of that mean. A driver with a
    value each period counts by the combination of its periods' ranks that follows the quantity
    best, fitted on the other half of the trials. ``attrs["interaction"]`` is what the shares leave:
    interplay of independent drivers, and the error of the estimates. ``attrs["correlated"]`` says
    whether some drivers move together, so that their shares overlap; read method "shapley" then.
    Errors are jackknives that leave out one block at a time, those of correlations on Fisher's
    scale.

    Source: Gamboa, Gremaud, Klein and Lagnoux, Bernoulli 28 (2022), 2345-2374, with several
    neighbours.
    """
    values, valid = valid_outcome(run, name, fewest=0)
    bounds = run.drawing.blocks.bounds
    bounds = np.unique(np.concatenate([[0], np.cumsum(valid)])[bounds])
    outcome = values[valid]
    outcome_ranks = ranks(outcome)
    labels, correlations, shares = [], [], []
    for entry in inputs_of(run, name, by_period, everyone=True):
        drawn = entry.rows(run)[:, valid]
        score = ranks(drawn[0]) if len(drawn) == 1 else _combined(drawn, outcome_ranks, bounds)
        labels.append(entry.label)
        correlations.append(correlation_by_blocks(score, outcome_ranks, bounds))
        shares.append(first_order_share(score, outcome, bounds))
    frame = pd.DataFrame(
        {
            "rank correlation": [float(figure) for figure in correlations],
            "error": [figure.error for figure in correlations],
            "first-order share": [float(figure) for figure in shares],
            "error of share": [figure.error for figure in shares],
        },
        index=pd.Index(labels, name="driver"),
    )
    frame.attrs["interaction"] = 1 - float(frame["first-order share"].sum())
    frame.attrs["correlated"] = any(len(group.names) > 1 for group in run.program.groups)
    return frame.sort_values("first-order share", ascending=False, kind="stable")


def first_order_share(score: Floats, outcome: Floats, bounds: NDArray[np.int64]) -> Estimate:
    """Return the share of the variance of ``outcome`` ``(trials,)`` that the order of ``score``
    explains, with its interval.
    """
    spread = float(outcome.var()) if len(outcome) else 0.0
    if not spread > 0 or len(outcome) < 3 or np.ptp(score) == 0:
        return Estimate(0.0)
    order = np.argsort(score, kind="stable")
    x, y = score[order], (outcome[order] - outcome.mean()) / np.sqrt(spread)
    value = _explained(x, y)
    if len(outcome) < FEWEST or len(bounds) < 6:
        return Estimate(value)
    block = np.searchsorted(bounds, order, side="right") - 1
    groups = min(GROUPS, len(bounds) - 1)
    group = block * groups // (len(bounds) - 1)
    return jackknifed(
        value, np.array([_explained(x[group != one], y[group != one]) for one in range(groups)])
    )


def _explained(x: Floats, y: Floats) -> float:
    """Return the mean product of each value and the mean of its neighbours in order of ``x``, over
    the variance.

    Neighbours are the few on either side, as many on the one as on the other, or all that share the
    same ``x``.
    """
    count, place = len(y), np.arange(len(y))
    reach = np.minimum(np.minimum(place, count - 1 - place), max(1, int(count ** (1 / 3) / 2)))
    low, high = place - reach, place + reach
    low[-1], high[0] = count - 2, 1  # either end has one neighbour
    first, last = np.searchsorted(x, x, side="left"), np.searchsorted(x, x, side="right") - 1
    tied = last - first > high - low
    low, high = np.where(tied, first, low), np.where(tied, last, high)
    sums = np.concatenate([[0.0], np.cumsum(y)])
    neighbours = (sums[high + 1] - sums[low] - y) / (high - low)
    return (float((y * neighbours).mean()) - float(y.mean()) ** 2) / float(y.var())


def _combined(rows: Floats, outcome: Floats, bounds: NDArray[np.int64]) -> Floats:
    """Return the combination of the rows' ranks that follows the outcome's best, fitted on the
    other half of the blocks.
    """
    ranked = np.stack([ranks(row) for row in rows])
    block = np.searchsorted(bounds, np.arange(ranked.shape[1]), side="right") - 1
    score: Floats = np.empty(ranked.shape[1])
    for half in (0, 1):
        here, there = block % 2 == half, block % 2 != half
        if not here.any():
            continue
        fitted = ranked[:, there] if there.any() else ranked
        target = outcome[there] if there.any() else outcome
        coefficients, *_ = np.linalg.lstsq(fitted @ fitted.T, fitted @ target, rcond=None)
        score[here] = coefficients @ ranked[:, here]
    return score if (ranked @ outcome).sum() >= 0 else -score  # signed like the joint effect
