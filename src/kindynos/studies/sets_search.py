"""The best of decisions that take one of several values each: yes or no, whole numbers, lists.

Where all sets of values fit the evaluations, all are tried. Else a regression on the sets tried so
far, of each decision alone and each two together, says which others promise most; these are tried
and the regression is fitted again, until the allowance is spent. So an exchange of two decisions,
which no change of a single one shows, is found as well.
"""

from __future__ import annotations

import math
from itertools import combinations, product

import numpy as np

from kindynos.arrays import Floats
from kindynos.sampling.streams import stream
from kindynos.studies.search import DecisionSearch

EACH_TIME = 8  # sets that are tried before the regression is fitted again
MOST_SETS = 200_000  # that are looked at; of more a part at random, and those near the best
RIDGE = 1e-3  # of the regression, on standardized terms
MARGIN = 0.02  # of what was seen of a constraint, by which a set may seem to break it and be tried


def sets_in_reach(search: DecisionSearch) -> int | None:
    """Return how many sets of values there are; None where some decision has a range."""
    if not all(choice.values for choice in search.choices):
        return None
    return math.prod(len(choice.values) for choice in search.choices)


def try_all(search: DecisionSearch) -> None:
    """Try every set of values."""
    search.evaluate(product(*(choice.values for choice in search.choices)))


def try_promising(search: DecisionSearch, reserve: int = 0) -> None:
    """Try the sets of values that promise most, until the evaluations but a reserve are spent;
    decisions with a range stay at their best values.
    """
    free = [position for position, choice in enumerate(search.choices) if choice.values]
    if not free:
        return
    while search.left > reserve:
        sets = _others(search, free)
        if not len(sets):
            return
        promise = _promise(search, free, sets)
        order = np.argsort(-promise, kind="stable")[: min(EACH_TIME, search.left - reserve)]
        search.evaluate([tuple(map(float, row)) for row in sets[order]])


def _others(search: DecisionSearch, free: list[int]) -> Floats:
    """Return sets that were not tried: all, or neighbours of the best and others at random."""
    values = [np.array(search.choices[position].values) for position in free]
    best = np.array(search.best)
    count = math.prod(map(len, values))
    if count <= MOST_SETS:
        rows = np.array(list(product(*values)))
    else:
        generator = stream(0, "sets of decisions", len(search.tried))
        drawn = [generator.choice(own, MOST_SETS // 10) for own in values]
        rows = np.concatenate([_exchanges(best[free], values), np.column_stack(drawn)])
    sets = np.repeat(best[None], len(rows), axis=0)
    sets[:, free] = rows
    is_new = [tuple(row) not in search.tried for row in sets.tolist()]
    return sets[is_new]


def _exchanges(best: Floats, values: list[Floats]) -> Floats:
    """Return the sets that differ from the best in one decision or in two."""
    rows = []
    places = range(len(values))
    for changed in [(place,) for place in places] + list(combinations(places, 2)):
        for replaced in product(*(values[place] for place in changed)):
            row = best.copy()
            row[list(changed)] = replaced
            rows.append(row)
    return np.array(rows)


def _promise(search: DecisionSearch, free: list[int], sets: Floats) -> Floats:
    """Return what sets promise: the worth that the regression expects, less what it expects them
    to exceed the limits by.
    """
    tried = list(search.tried.items())
    points = np.array([point for point, _ in tried])[:, free]
    worths = np.array([one.worth for _, one in tried])
    finite = np.isfinite(worths)
    if not finite.any():
        return np.zeros(len(sets))
    terms, of_sets = _terms(points, sets[:, free])
    promise = _expected(terms[finite], worths[finite], of_sets) / (search.spread or 1.0)
    for position in range(len(search.constraints)):
        excess = np.array([one.excess[position] for _, one in tried])
        kept = np.isfinite(excess)
        if not kept.any():
            continue
        scale = float(np.ptp(excess[kept])) or 1.0
        over = _expected(terms[kept], excess[kept], of_sets) / scale - MARGIN
        promise = promise - 1e3 * np.maximum(over, 0.0)
    return promise


def _terms(known: Floats, sets: Floats) -> tuple[Floats, Floats]:
    """Return the terms of the regression of the sets tried and of others: each decision, its square
    where it has more than two values, and each two together.
    """
    centre, spread = known.mean(axis=0), known.std(axis=0)
    spread = np.where(spread > 0, spread, 1.0)
    squared = [k for k in range(known.shape[1]) if len(np.unique(known[:, k])) > 2]

    def terms(rows: Floats) -> Floats:
        scaled = (rows - centre) / spread
        together = [scaled[:, i] * scaled[:, j] for i, j in combinations(range(rows.shape[1]), 2)]
        squares = [scaled[:, k] ** 2 for k in squared]
        return np.column_stack([np.ones(len(rows)), scaled, *squares, *together])

    return terms(known), terms(sets)


def _expected(terms: Floats, values: Floats, others: Floats) -> Floats:
    """Return what a ridge regression expects of others."""
    mean = float(values.mean())
    ridge = RIDGE * len(terms) * np.eye(terms.shape[1])
    slopes = np.linalg.solve(terms.T @ terms + ridge, terms.T @ (values - mean))
    return np.asarray(mean + others @ slopes)


def tried_all(search: DecisionSearch) -> bool:
    """Whether every set of values was tried, so that the best is the best of all."""
    count = sets_in_reach(search)
    return count is not None and len(search.tried) >= count
