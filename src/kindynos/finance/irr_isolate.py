"""Isolating every positive root of many polynomials, for flows that change sign more than once.

A root x in (0, 1) is a rate above 0; the roots above 1 are those of the reversed flows. On an
interval a polynomial is held by its Bernstein coefficients, whose sign changes bound the roots
inside (Descartes, Bernstein); an interval with more than one change is cut by de Casteljau's rule
until none is left. Source: Mourrain, Rouillier and Roy, Bernstein's basis and real root isolation
(2005). All intervals of all trials are worked on together.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats, product
from kindynos.finance import irr_long

Evaluate = Callable[[Floats, Floats], tuple[Floats, Floats]]
Ints = NDArray[np.int64]

# an interval this short beside its distance from 0 holds, if anything, a double root
NARROW = 2.0**-22
# not the half: a double root at an end, at a rate of 100 %, would be seen on neither side
CUT = irr_long.CUT
LONG = 64  # more flows are cut into pieces of a low degree first
LEAST = 1e-250  # roots of x below this, rates beyond 1e250, are not sought
ROUNDING = 2e-16  # flows whose sum is this small beside their sizes, for each flow, sum to 0
TOUCHES = 1e-13  # a value this small beside the sum of its terms counts as zero at a double root
STEPS = 1000
FEW_COLUMNS = 8  # up to which plain floats are quicker than arrays
NEAR = 1e-11  # a last Newton step this short leaves an error of its square
SAME = 1e-6  # two rates closer than this, relative to 1 + rate, count as one


def all_rates(flows: Floats) -> list[Floats]:
    """Return for each column of ``(periods, trials)`` all its rates above -1, lowest first."""
    trials = flows.shape[1]
    roots, owners = _all_roots(flows)
    order = np.lexsort((roots, owners))
    roots, owners = roots[order], owners[order]
    keep = np.ones(len(roots), dtype=bool)
    keep[1:] = (np.diff(owners) != 0) | (np.diff(roots) > SAME * (1 + roots[1:]))
    roots, owners = roots[keep], owners[keep]
    return np.split(roots, np.searchsorted(owners, np.arange(1, trials))) if trials else []


def only_rate(flows: Floats) -> Floats:
    """Return the rate of each column of flows that are known to have exactly one."""
    rate = np.full(flows.shape[1], np.nan)
    above = np.sign(first_nonzero(flows)) * flows.sum(axis=0) < 0
    for side, ordered in ((above, flows), (~above, flows[::-1])):
        larger = ordered[:, side] / np.maximum(
            np.abs(ordered[:, side]).max(axis=0), np.finfo(float).tiny
        )
        with np.errstate(over="ignore", divide="ignore"):  # a rate beyond the floats is infinite
            x = bisect(
                larger,
                np.zeros(larger.shape[1]),
                np.ones(larger.shape[1]),
                np.sign(first_nonzero(larger)),
            )
            rate[side] = 1 / x - 1 if ordered is flows else x - 1
    return rate


def first_nonzero(flows: Floats) -> Floats:
    """Return the first flow of each column that is not zero."""
    if flows[0].all():
        return np.asarray(flows[0])
    first = np.argmax(flows != 0, axis=0)
    return np.asarray(flows[first, np.arange(flows.shape[1])])


def _all_roots(flows: Floats) -> tuple[Floats, Ints]:
    """Return rates and the trial of each, in no order, near-doubles included."""
    if not flows.shape[1]:
        return np.empty(0), np.empty(0, dtype=np.int64)
    nonzero = flows != 0
    ends = np.stack([np.argmax(nonzero, axis=0), len(flows) - np.argmax(nonzero[::-1], axis=0)])
    rates: list[Floats] = []
    owners: list[Ints] = []
    for first, last in np.unique(ends, axis=1).T:
        trials = np.flatnonzero((ends[0] == first) & (ends[1] == last))
        inner = flows[first:last, trials]
        for columns, flows_left in _without_rate_zero(
            inner / np.abs(inner).max(axis=0), trials, rates, owners
        ):
            for ordered, backwards in ((flows_left, False), (flows_left[::-1], True)):
                roots, places = _roots_below_one(ordered)
                roots, places = roots[roots > LEAST], places[roots > LEAST]
                rates.append(roots - 1 if backwards else 1 / roots - 1)
                owners.append(columns[places])
    return np.concatenate(rates), np.concatenate(owners)


def _without_rate_zero(
    flows: Floats, trials: Ints, rates: list[Floats], owners: list[Ints]
) -> list[tuple[Ints, Floats]]:
    """Return trials and flows without a rate of 0, which is taken down; dividing by 1 - x leaves
    the running totals.

    x = 1 is the end of both intervals, where rounding would decide on which side a root is found,
    or whether at all.
    """
    parts = []
    while trials.size and len(flows) > 1:
        zero = np.abs(flows.sum(axis=0)) <= ROUNDING * len(flows) * np.abs(flows).sum(axis=0)
        rates.append(np.zeros(np.count_nonzero(zero)))
        owners.append(trials[zero])
        parts.append((trials[~zero], flows[:, ~zero]))
        flows, trials = np.cumsum(flows[:, zero], axis=0)[:-1], trials[zero]
    return parts


def _roots_below_one(flows: Floats) -> tuple[Floats, Ints]:
    """Return the roots in (0, 1] of each column's polynomial, and the column of each.

    A coefficient of zero at the end of an interval counts as positive on both sides, so a root
    there is found once.
    """
    column = np.flatnonzero((flows > 0).any(axis=0) & (flows < 0).any(axis=0))
    if len(flows) > LONG:
        coefficients, position, low, width = irr_long.pieces(flows[:, column])
        column = column[position]
    else:
        coefficients, low, width = (
            _bernstein(flows[:, column]),
            np.zeros(len(column)),
            np.ones(len(column)),
        )
    single: list[tuple[Any, ...]] = [(column[:0], low[:0], width[:0], low[:0], coefficients[:, :0])]
    double: list[tuple[Any, ...]] = [(column[:0], low[:0], width[:0])]
    while column.size:
        positive = coefficients >= 0
        changes = np.count_nonzero(positive[1:] != positive[:-1], axis=0)
        single_change = changes == 1
        single.append(
            (
                column[single_change],
                low[single_change],
                width[single_change],
                np.where(positive[0, single_change], 1.0, -1.0),
                coefficients[:, single_change],
            )
        )
        narrow = (changes > 1) & ((width <= NARROW * low) | (width < LEAST))
        double.append((column[narrow], low[narrow], width[narrow]))
        wide = (changes > 1) & ~narrow
        left, right = _cut(coefficients[:, wide])
        coefficients = np.concatenate([left, right], axis=1)
        column = np.concatenate([column[wide]] * 2)
        low = np.concatenate([low[wide], low[wide] + CUT * width[wide]])
        width = np.concatenate([CUT * width[wide], (1 - CUT) * width[wide]])
    owner, low, width, sign, pieces = (
        np.concatenate(arrays, axis=-1) for arrays in zip(*single, strict=True)
    )
    if len(flows) > LONG:
        inside = bisect(
            pieces, np.zeros(len(owner)), np.ones(len(owner)), sign, irr_long.value_and_slope
        )
        roots = _polished(flows[:, owner], low + width * inside, width)
    else:
        roots = bisect(flows[:, owner], low, low + width, sign)
    position, low, width = (np.concatenate(arrays) for arrays in zip(*double, strict=True))
    doubles, touched = _touching(flows[:, position], low, width, position)
    return np.concatenate([roots, doubles]), np.concatenate([owner, touched])


def _polished(flows: Floats, x: Floats, width: Floats) -> Floats:
    """Return roots of pieces after Newton's step on the whole polynomial."""
    value, slope = value_and_slope(flows, x)
    with np.errstate(divide="ignore", invalid="ignore"):
        step = value / slope
    return np.where(np.abs(step) < 1e-6 * width, x - step, x)


def _bernstein(flows: Floats) -> Floats:
    """Return the Bernstein coefficients on [0, 1]: b_i = sum over j of C(i, j) / C(n, j) x
    flow_j.
    """
    degree = len(flows) - 1
    weights = np.zeros((degree + 1, degree + 1))
    for j in range(degree + 1):
        i = np.arange(j, degree + 1)
        # C(i, j) / C(n, j) as a product of ratios below 1, so that nothing overflows.
        ratios = (i[:, None] - np.arange(j)) / (degree - np.arange(j))
        weights[j:, j] = ratios.prod(axis=1)
    return product(weights, flows, ordered=True)


def _cut(coefficients: Floats) -> tuple[Floats, Floats]:
    """Return the coefficients on the left and the right part (de Casteljau)."""
    right = coefficients.copy()
    left = np.empty_like(right)
    left[0] = right[0]
    for i in range(1, len(right)):
        right[: len(right) - i] += CUT * (right[1 : len(right) - i + 1] - right[: len(right) - i])
        left[i] = right[0]
    return left, right


def _touching(flows: Floats, low: Floats, width: Floats, column: Ints) -> tuple[Floats, Ints]:
    """Return where a polynomial touches zero inside a narrow interval: at its extremum, if it is
    zero there.
    """
    x = low + width / 2
    for _ in range(4):  # Newton's method for a root of the slope
        _, slope, curve = _derivatives(flows, x)
        with np.errstate(divide="ignore", invalid="ignore"):
            step = np.where(curve != 0, slope / curve, 0.0)
        x = np.clip(x - step, low - width, low + 2 * width)
    value, _, _ = _derivatives(flows, x)
    size, _, _ = _derivatives(np.abs(flows), x)
    zero = np.abs(value) <= TOUCHES * size
    return x[zero], column[zero]


def _derivatives(flows: Floats, x: Floats) -> tuple[Floats, Floats, Floats]:
    """Return the polynomial, its slope and its second derivative at ``x``, one per column."""
    value, slope, half_curve = np.zeros_like(x), np.zeros_like(x), np.zeros_like(x)
    for row in flows[::-1]:
        half_curve = half_curve * x + slope
        slope = slope * x + value
        value = value * x + row
    return value, slope, 2 * half_curve


def bisect(
    flows: Floats,
    low: Floats,
    high: Floats,
    sign_at_low: Floats,
    evaluate: Evaluate | None = None,
    least: float = 0.0,
) -> Floats:
    """Return the one root between ``low`` and ``high`` in each column: Newton's steps, or a halving
    where they leave.

    ``evaluate(flows, x)`` gives value and slope (default: of the polynomial); roots are exact
    relative to their size, or to ``least`` where that is larger.
    """
    evaluate = evaluate or value_and_slope
    low, high, sign = low.copy(), high.copy(), sign_at_low
    root = 0.5 * (low + high)
    active, x, still = np.arange(len(root)), root.copy(), np.zeros(len(root), dtype=bool)
    for _ in range(STEPS):
        value, slope = evaluate(flows, x)
        left = value * sign > 0
        low, high = np.where(left, x, low), np.where(left, high, x)
        with np.errstate(divide="ignore", invalid="ignore"):
            newton = x - value / slope
        inside = (newton > low) & (newton < high)
        values = np.where(value == 0, x, np.where(inside, newton, 0.5 * (low + high)))
        # a root that has settled does not depend on how long others take
        values = np.where(still, x, values)
        still |= ~(np.abs(values - x) > NEAR * np.maximum(np.abs(x), least))
        root[active] = x = values
        if still.all():
            break
        if np.count_nonzero(still) > 0.5 * still.size:
            going = ~still
            active, x, flows = active[going], x[going], flows[:, going]
            low, high, sign, still = low[going], high[going], sign[going], still[going]
    return root


def _at_one_point(column: Sequence[float], x: float) -> tuple[float, float]:
    """Return a polynomial and its slope in plain floats, which are quicker for a few columns."""
    value, slope = column[-1], 0.0
    for coefficient in column[-2::-1]:
        slope = slope * x + value
        value = value * x + coefficient
    return value, slope


def value_and_slope(flows: Floats, x: Floats) -> tuple[Floats, Floats]:
    """Return the polynomial and its slope at ``x``, one per column."""
    if x.size <= FEW_COLUMNS:
        columns = zip(flows.T.tolist(), x.tolist(), strict=True)
        pairs = np.array([_at_one_point(*column) for column in columns]).reshape(-1, 2)
        return pairs[:, 0], pairs[:, 1]
    value, slope = flows[-1].copy(), np.zeros_like(x)
    for row in flows[-2::-1]:
        slope *= x
        slope += value
        value *= x
        value += row
    return value, slope
