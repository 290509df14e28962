"""Sensitivity read off the trials of a run: rank correlations, and first-order shares of
variance.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, partial

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import KindynosError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import correlation_by_blocks, jackknifed
from kindynos.program.quantities import DependentDriver
from kindynos.results.reached_correlations import ranks
from kindynos.results.sensitivity.inputs import inputs_of, ranked_outcome, work_out
from kindynos.results.trials import SimulatedTrials
from kindynos.sampling.streams import stream

LARGEST_SQUARED = 1e100  # from which on squares of values, and of their squares, overflow
GROUPS = 20  # of blocks, left out one at a time
FEWEST = 200  # trials below which no error is given
MOST_EXCHANGED = 16_384  # trials that are worked out again with drivers exchanged
EXCHANGES = 3  # times that they are


def rank_sensitivity(run: SimulatedTrials, name: str, by_period: bool = False) -> pd.DataFrame:
    """Return each driver's rank correlation with a quantity, and the share of its variance that the
    driver explains alone.

    ``first-order share`` is the variance of the quantity's mean given the driver, over the
    variance; it finds drivers whose effect is not monotone too. It is estimated from neighbours in
    the order of the driver, whose products average to the square of that mean. A driver with a
    value each period that moves independently of the others is kept as it is while all others are
    exchanged among the trials: what the outcome then has in common is its share. Where the model
    cannot be worked out again, or drivers move together, such a driver counts by the combination of
    its periods' ranks that follows the quantity best, fitted on the other half of the trials.
    ``attrs["interaction"]`` is what the shares leave: interplay of independent drivers, and the
    error of the estimates. ``attrs["correlated"]`` says whether some drivers move together, so that
    their shares overlap; read method "shapley" then.
    Trials in which the quantity is infinite rank last or first, and then all of this is of ranks.
    ``attrs["decides a value"]`` is the driver that explains best which trials have no value.
    Errors are jackknives that leave out one block at a time, those of correlations on Fisher's
    scale.

    Sources: Gamboa, Gremaud, Klein and Lagnoux, Bernoulli 28 (2022), 2345-2374, with several
    neighbours; Janon, Klein, Lagnoux, Nodet and Prieur, ESAIM: Probability and Statistics 18
    (2014), 342-364.
    """
    values, has_value = ranked_outcome(run, name)
    bounds = run.drawing.blocks.bounds
    bounds = np.unique(np.concatenate([[0], np.cumsum(has_value)])[bounds])
    outcome = values[has_value]
    outcome_ranks = ranks(outcome)
    labels, correlations, shares = [], [], []
    exchanges = cache(partial(_exchanges, run, name))  # made once, where a driver needs them
    for entry in inputs_of(run, name, by_period, everyone=True):
        drawn = entry.rows(run)[:, has_value]
        labels.append(entry.label)
        score = _score(drawn, outcome_ranks, bounds)
        if len(drawn) == 1:
            share = first_order_share(score, outcome, bounds)
        else:
            endless = np.isinf(run[name].ranked.values).any()  # whose values have no variance
            exchanged = None if endless else _exchanged_share(run, name, entry.driver, exchanges)
            share = _share_of_halves(score, outcome, bounds) if exchanged is None else exchanged
        correlations.append(correlation_by_blocks(score, outcome_ranks, bounds))
        shares.append(share)
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
    frame.attrs["decides a value"] = _deciding(run, name)
    errors = [figure.error for figure in shares]
    frame.attrs["error of interaction"] = float(np.sqrt(np.sum(np.square(errors))))
    frame.attrs["correlated"] = any(len(group.names) > 1 for group in run.program.groups)
    return frame.sort_values("first-order share", ascending=False, kind="stable")


def rank_correlations(run: SimulatedTrials, name: str) -> dict[str, Estimate]:
    """Return each driver's rank correlation with a quantity, as ``rank_sensitivity`` does, without
    the shares.
    """
    values, has_value = ranked_outcome(run, name)
    bounds = np.unique(np.concatenate([[0], np.cumsum(has_value)])[run.drawing.blocks.bounds])
    outcome = ranks(values[has_value])
    scores = {
        entry.driver: _score(entry.rows(run)[:, has_value], outcome, bounds)
        for entry in inputs_of(run, name, by_period=False)
    }
    return {
        driver: correlation_by_blocks(score, outcome, bounds) for driver, score in scores.items()
    }


def _score(rows: Floats, outcome_ranks: Floats, bounds: NDArray[np.int64]) -> Floats:
    """Return the ranks of a driver, or of what its periods do together."""
    return ranks(rows[0]) if len(rows) == 1 else _combined(rows, outcome_ranks, bounds)


def _deciding(run: SimulatedTrials, name: str) -> str | None:
    """Return the driver that explains best which trials have a value, with the share of it that
    it explains; None where all have one, or no driver of one number explains any.
    """
    lacking = np.isnan(run[name].values).astype(np.float64)
    if not lacking.any():
        return None
    bounds = run.drawing.blocks.bounds
    shares = {
        entry.label: first_order_share(ranks(entry.rows(run)[0]), lacking, bounds)
        for entry in inputs_of(run, name, by_period=False)
        if len(entry.rows(run)) == 1
    }
    if not shares:
        return None
    most = max(shares, key=lambda label: float(shares[label]))
    share = shares[most]
    return f"{most} ({100 * share:.0f} %)" if float(share) > max(share.error, 0.01) else None


def first_order_share(
    score: Floats, outcome: Floats, bounds: NDArray[np.int64], weights: Floats | None = None
) -> Estimate:
    """Return the share of the variance of ``outcome`` ``(trials,)`` that the order of ``score``
    explains, with its interval. ``weights`` are one per trial.
    """
    if len(outcome) < 3:
        return Estimate(0.0)
    largest = float(np.abs(outcome).max())
    if LARGEST_SQUARED < largest < np.inf:
        outcome = outcome / largest
    centre = float(np.average(outcome, weights=weights))
    spread = float(np.average((outcome - centre) ** 2, weights=weights))
    rounding = (1e-12 * float(np.abs(outcome).max(initial=0.0))) ** 2  # of equal values
    if not spread > rounding or np.ptp(score) == 0:
        return Estimate(0.0)
    order = np.argsort(score)
    distinct = bool((np.diff(score[order]) != 0).all())
    if not distinct:  # equal scores stay in the order of their trials
        order = np.argsort(score, kind="stable")
    x, y = score[order], (outcome[order] - centre) / np.sqrt(spread)
    weigh = None if weights is None else weights[order]
    value = _explained(x, y, weigh)
    if len(outcome) < FEWEST or len(bounds) < 6:
        return Estimate(value)
    block = np.searchsorted(bounds, order, side="right") - 1
    groups = min(GROUPS, len(bounds) - 1)
    group = block * groups // (len(bounds) - 1)
    if weigh is None and distinct:
        return jackknifed(value, _explained_without(y, group, groups))
    return jackknifed(
        value,
        np.array(
            [
                _explained(x[kept], y[kept], None if weigh is None else weigh[kept])
                for kept in (group != left_out for left_out in range(groups))
            ]
        ),
    )


def _explained_without(y: Floats, group: NDArray[np.int64], groups: int) -> Floats:
    """Return what the order explains without each group in turn, where no two x are equal; means
    and variances are of sums by group.
    """
    counts, sums, squares = (
        np.bincount(group, weights=weights, minlength=groups) for weights in (None, y, y * y)
    )
    kept = len(y) - counts
    means = (sums.sum() - sums) / kept
    variances = (squares.sum() - squares) / kept - means**2
    products = [_mean_product(y[group != left_out]) for left_out in range(groups)]
    return np.asarray((products - means**2) / variances)


def _exchanges(run: SimulatedTrials, outcome: str) -> list[dict[str, Floats]]:
    """Return the drivers of an outcome with their trials exchanged, the same for all drivers: a few
    times, each row moved by the same permutation.
    """
    trials = min(run.size, MOST_EXCHANGED)
    generator = stream(run.seed, "exchanged")
    needed = run.program.ancestors([outcome])
    names = [name for name in run.program.drivers if name in needed]
    orders = [generator.permutation(trials) for _ in range(EXCHANGES)]
    return [
        {name: run[name].values[..., :trials].take(order, axis=-1) for name in names}
        for order in orders
    ]


def _exchanged_share(
    run: SimulatedTrials,
    outcome: str,
    driver: str,
    exchanges: Callable[[], list[dict[str, Floats]]],
) -> Estimate | None:
    """Return the share of a driver from the outcome worked out again with its rows in their trials
    and all other drivers exchanged among the trials; None where that cannot be done.
    """
    program = run.program
    drivers = {name: program.drivers[name] for name in program.drivers}
    linked = any(driver in group.names and len(group.names) > 1 for group in program.groups)
    if linked or any(isinstance(candidate, DependentDriver) for candidate in drivers.values()):
        return None
    values, trials = run[outcome].values, min(run.size, MOST_EXCHANGED)
    if driver not in program.ancestors([outcome]):
        return Estimate(0.0, 0.0, 0.0)
    again = []
    for exchanged in exchanges():
        drawn = {**exchanged, driver: run[driver].values[..., :trials]}
        try:
            again.append(work_out(run, outcome, drawn, trials))
        except KindynosError:  # a saved run whose functions are gone
            return None
    stacked = np.stack([values[:trials], *again])
    stacked = stacked[:, np.isfinite(stacked).all(axis=0)]
    if stacked.shape[1] < FEWEST:
        return None
    group = np.arange(stacked.shape[1]) * GROUPS // stacked.shape[1]
    return jackknifed(
        _common_share(stacked),
        np.array([_common_share(stacked[:, group != g]) for g in range(GROUPS)]),
    )


def _common_share(correlations: Floats) -> float:
    """Return the covariance of outcomes ``(exchanges, trials)`` of one distribution, over their
    variance: the mean of that of each pair, and the sum over a trial holds all.
    """
    count, gaps = len(correlations), correlations - correlations.mean()
    squares = float((gaps**2).mean())
    pairs = float((gaps.sum(axis=0) ** 2).mean()) - count * squares
    return pairs / (count * (count - 1)) / squares if squares > 0 else 0.0


def _share_of_halves(score: Floats, outcome: Floats, bounds: NDArray[np.int64]) -> Estimate:
    """Return the share of a score whose halves of the blocks were fitted on each other: each half
    alone, since together they would share their outcomes.
    """
    block = np.searchsorted(bounds, np.arange(len(score)), side="right") - 1
    rows = []
    for half in (0, 1):
        inside = block % 2 == half
        if inside.any():
            starts = np.unique(np.concatenate([[0], np.cumsum(inside)])[bounds])
            rows.append(first_order_share(score[inside], outcome[inside], starts))
    value = float(np.mean([float(share) for share in rows])) if rows else 0.0
    error = float(np.sqrt(np.sum([share.error**2 for share in rows]))) / max(len(rows), 1)
    return Estimate(value) if error != error else symmetrical(value, error)


def _explained(x: Floats, y: Floats, weights: Floats | None = None) -> float:
    """Return the mean product of each value and the mean of its neighbours in order of ``x``, over
    the variance.

    Neighbours are the few on either side, as many on the one as on the other, or all that share the
    same ``x``.
    """
    if weights is None and (x[1:] != x[:-1]).all() and len(y) > 2:
        return (_mean_product(y) - float(y.mean()) ** 2) / float(y.var())
    count, position = len(y), np.arange(len(y))
    reach = np.minimum(
        np.minimum(position, count - 1 - position), max(1, int(count ** (1 / 3) / 2))
    )
    low, high = position - reach, position + reach
    low[-1], high[0] = count - 2, 1  # either end has one neighbour
    changes = x[1:] != x[:-1]
    if not changes.all():
        starts = np.concatenate([[0], np.flatnonzero(changes) + 1])
        sizes = np.diff(np.append(starts, count))
        first, last = (np.repeat(ends, sizes) for ends in (starts, starts + sizes - 1))
        tied = last - first > high - low
        low, high = np.where(tied, first, low), np.where(tied, last, high)
    if weights is not None:
        return _explained_weighted(y, weights, low, high)
    sums = np.concatenate([[0.0], np.cumsum(y)])
    neighbours = (sums[high + 1] - sums[low] - y) / (high - low)
    return (float((y * neighbours).mean()) - float(y.mean()) ** 2) / float(y.var())


def _explained_weighted(
    y: Floats, weights: Floats, low: NDArray[np.int64], high: NDArray[np.int64]
) -> float:
    """Return the same of weighted values; a value whose neighbours weigh nothing is left out."""
    weighed, total = (
        np.concatenate([[0.0], np.cumsum(summands)]) for summands in (weights * y, weights)
    )
    beside = total[high + 1] - total[low] - weights
    near = beside > 1e-9 * weights.mean()
    sums = weighed[high + 1] - weighed[low] - weights * y
    y, weights, neighbours = y[near], weights[near], sums[near] / beside[near]
    centre = float(np.average(y, weights=weights))
    variance = float(np.average((y - centre) ** 2, weights=weights))
    return (float(np.average(y * neighbours, weights=weights)) - centre**2) / variance


def _mean_product(y: Floats) -> float:
    """Return the mean product of each value and the mean of its neighbours, where no two x are
    equal: the neighbours are slices of the running sum.
    """
    count = len(y)
    reach = max(1, int(count ** (1 / 3) / 2))
    if count <= 2 * reach + 1:
        reach = max(1, (count - 1) // 2)
    sums = np.empty(count + 1)
    sums[0] = 0.0
    np.cumsum(y, out=sums[1:])
    neighbours = np.empty(count)
    middle = neighbours[reach : count - reach]
    np.subtract(sums[2 * reach + 1 :], sums[: count - 2 * reach], out=middle)
    middle -= y[reach : count - reach]
    middle /= 2 * reach
    for i in range(1, reach):  # towards either end there are fewer
        neighbours[i] = (sums[2 * i + 1] - sums[0] - y[i]) / (2 * i)
        k = count - 1 - i
        neighbours[k] = (sums[count] - sums[k - i] - y[k]) / (2 * i)
    neighbours[0] = sums[2] - sums[0] - y[0]
    neighbours[-1] = sums[count] - sums[count - 2] - y[-1]
    return float(neighbours @ y) / count


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
