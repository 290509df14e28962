"""The best decisions of a model: a coarse search over all that may be chosen, then a local one, all
on the same draws.

Since the draws are the same, a figure moves as smoothly with the decisions as the model does. The
local search is Powell's by linear approximations (Advances in Optimization and Numerical Analysis,
1994, 51-67), from the best coarse points that lie in different places; whole numbers and lists are
searched neighbour by neighbour.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import GoalError, ParameterError
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.studies.aims import constraint_of, figure_of
from kindynos.studies.choices import DecisionRange, choices_of, coarse_points
from kindynos.studies.optimum_error import Slopes, slopes_around
from kindynos.studies.points import Point, Points
from kindynos.studies.search import DecisionSearch, Tried
from kindynos.studies.sets_search import sets_in_reach, try_all, try_promising
from kindynos.validate import check_integer, listed, names_in

FIRST_STEP, LAST_STEP = 0.1, 2e-5  # of the local search, as a share of each range
CLOSE = 0.002  # of what was seen of a constraint, within which it is kept closely enough
CLOSING = 14  # halvings of the way from the best allowed point to a better one that is not
EVALUATIONS = 200
RESERVE = 0.35  # of the evaluations, for neighbours and the slopes at the end
POLISHING = 3  # steps by the slopes around the best point


@dataclass(frozen=True)
class OptimumRequest:
    """What is to be found; see Model.optimize."""

    decisions: Any
    maximize: Any = None
    minimize: Any = None
    subject_to: Any = ()
    evaluations: int = EVALUATIONS


def search_for(
    statement: Statement, optimum_request: OptimumRequest, settings: SimulationOptions
) -> DecisionSearch:
    """Return the search that a request states; raises ParameterError or ModelError for what cannot
    be sought.
    """
    if (optimum_request.maximize is None) == (optimum_request.minimize is None):
        raise ParameterError("say one of maximize='mean net_value' and minimize=")
    figure = figure_of(
        statement,
        optimum_request.maximize if optimum_request.minimize is None else optimum_request.minimize,
    )
    limits = listed(optimum_request.subject_to)
    texts = names_in("subject_to", limits) if limits else []
    constraints = tuple(constraint_of(statement, text) for text in texts)
    choices = choices_of(statement, optimum_request.decisions)
    outcomes = tuple(dict.fromkeys([figure.outcome, *(c.figure.outcome for c in constraints)]))
    points = Points(statement, tuple(choice.name for choice in choices), outcomes, settings)
    most = check_integer("evaluations", optimum_request.evaluations, least=10)
    return DecisionSearch(
        points,
        choices,
        figure,
        1.0 if optimum_request.minimize is None else -1.0,
        constraints,
        most,
        settings.progress,
    )


def run_search(search: DecisionSearch) -> Point:
    """Return the best point; raises GoalError, with what comes nearest, where no point keeps the
    constraints.
    """
    sets = sets_in_reach(search)
    if sets is not None and sets <= search.most:
        try_all(search)
    else:
        coarse = coarse_points(search.choices, max(search.most // 3, 5))
        search.evaluate([tuple(map(float, row)) for row in coarse])
        _seek_allowed(search)
    search.set_scales()
    if sets is not None:
        try_promising(search)
    else:
        _search_ranges(search)
    if not search.tried[search.best].allowed:
        raise GoalError(_unmet(search, search.best))
    if search.tried[search.best].worth == -math.inf:
        figure = float(search.tried[search.best].objective)
        what = "has no value" if math.isnan(figure) else "is infinite"
        raise GoalError(
            f"the {search.figure.label} {what} at every point that was tried; another statistic, "
            "such as the median or a chance, can be compared"
        )
    return _settled(search) if search.rough and sets is None else search.best


def _search_ranges(search: DecisionSearch) -> None:
    """Search ranges locally from the best coarse points, and values in between."""
    starts = search.starts()
    for position, start in enumerate(starts):
        if search.left <= 0:
            break
        share = max(int((search.left - RESERVE * search.most) / (len(starts) - position)), 8)
        _local(search, start, min(share, search.left))
    for _ in range(3):
        before = search.best
        _neighbours(search)
        try_promising(search, reserve=search.left - search.left // 3)
        if search.best == before:
            break
        _local(search, search.best, max(search.left // 4, 4), first=0.02)


def _seek_allowed(search: DecisionSearch) -> None:
    """Where no coarse point keeps the constraints, look around the nearest one ever more closely:
    the region that keeps them may lie between the coarse points.
    """
    share = 1.0
    while not search.tried[search.best].allowed and search.left > search.most // 3:
        share /= 2
        around = [
            choice
            if choice.values
            else replace(
                choice,
                low=choice.near(value - share / 2 * choice.width),
                high=choice.near(value + share / 2 * choice.width),
            )
            for choice, value in zip(search.choices, search.best, strict=True)
        ]
        points = [tuple(map(float, row)) for row in coarse_points(around, search.most // 12)]
        if not search.new(points) or share < LAST_STEP:
            return
        search.evaluate(points)


def _settled(search: DecisionSearch) -> Point:
    """Return the point to which slopes lead that are taken over a part of each range, just inside
    the constraints.

    A chance or a percentile jumps from trial to trial. The best of all points tried would be one
    where these jumps happen to fall well; slopes over some distance are free of that.
    """
    point = search.best
    for _ in range(POLISHING):
        slopes = slopes_around(search, point) if search.left > 0 else None
        kept = None if slopes is None else _kept(search, slopes)
        if slopes is None or kept is None or kept == point:
            break
        if slopes.far and search.tried[kept].worth < search.tried[point].worth:
            break  # the slopes of a surface that is nearly flat may point anywhere
        point = kept
    return point


def _kept(search: DecisionSearch, slopes: Slopes) -> Point | None:
    """Return the summit, moved across the constraints that bind until they are just kept; None
    where that fails.
    """
    point, kept, room = slopes.summit, None, math.inf
    for _ in range(CLOSING):
        if search.left <= 0:
            break
        tried = search.evaluate([point])[0]
        units = np.array([search.scales[k] for k in slopes.binding])
        excess = np.array([tried.excess[k] for k in slopes.binding]) / units
        if tried.allowed:
            inside = float(-excess.max(initial=-math.inf)) if len(excess) else 0.0
            if inside < room:
                kept, room = point, inside
            if not len(excess) or room < CLOSE:
                return kept
        aim = excess + CLOSE / 2  # just inside
        values = np.array(point) + sum(
            e * change for e, change in zip(aim, slopes.inward, strict=True)
        )
        point = tuple(
            choice.near(float(x)) for choice, x in zip(search.choices, values, strict=True)
        )
        if point in search.tried:
            break
    return kept


def _local(search: DecisionSearch, start: Point, budget: int, first: float = FIRST_STEP) -> None:
    """Improve a point over its ranges, with listed values held, within a number of evaluations."""
    from scipy.optimize import minimize

    free = [
        position
        for position, choice in enumerate(search.choices)
        if not choice.listed and choice.width > 0
    ]
    if not free or budget < 3:
        return
    begun = len(search.tried)

    def point_of(x: Floats) -> Point:
        values = list(start)
        for position, share in zip(free, x, strict=True):
            choice = search.choices[position]
            values[position] = choice.near(choice.low + float(share) * choice.width)
        return tuple(values)

    def tried(x: Floats) -> Tried:
        if search.left <= 0 or len(search.tried) - begun >= budget:
            return search.tried.get(point_of(x), search.tried[start])  # the search ends of itself
        return search.evaluate([point_of(x)])[0]

    def objective(x: Floats) -> float:
        worth = tried(x).worth
        return 1e6 if worth == -math.inf else -worth / search.spread

    def room(x: Floats) -> Floats:
        bounds = np.concatenate([x, 1 - x])
        kept = [-min(e, 1e6 * s) / s for e, s in zip(tried(x).excess, search.scales, strict=True)]
        return np.concatenate([bounds, kept])

    x0 = np.array([(start[p] - search.choices[p].low) / search.choices[p].width for p in free])
    minimize(
        objective,
        x0,
        method="COBYLA",
        constraints=[{"type": "ineq", "fun": room}],
        options={"rhobeg": first, "tol": LAST_STEP, "maxiter": max(budget, len(free) + 2)},
    )
    _close_in(search)


def _close_in(search: DecisionSearch) -> None:
    """Go from the best allowed point towards the nearest better one that is not allowed, as far as
    is allowed.
    """
    best = search.best
    if not search.tried[best].allowed or not search.constraints:
        return
    beyond = [
        point
        for point, tried in search.tried.items()
        if not tried.allowed
        and tried.worth > search.tried[best].worth
        and _same_lists(search.choices, point, best)
    ]
    if not beyond:
        return
    inside, outside = (
        np.array(best),
        np.array(min(beyond, key=lambda p: float(np.abs(np.array(p) - best).max()))),
    )
    widths = np.array([choice.width or 1.0 for choice in search.choices])
    for _ in range(CLOSING):
        if search.left <= 0 or np.abs((outside - inside) / widths).max() < LAST_STEP:
            return
        middle = tuple(
            c.near(float(x)) for c, x in zip(search.choices, (inside + outside) / 2, strict=True)
        )
        if middle in search.tried and (middle in (tuple(inside), tuple(outside))):
            return
        evaluated = search.evaluate([middle])[0]
        if evaluated.allowed:
            inside = np.array(middle)
        else:
            outside = np.array(middle)


def _same_lists(choices: Sequence[DecisionRange], point: Point, other: Point) -> bool:
    return all(a == b for choice, a, b in zip(choices, point, other, strict=True) if choice.listed)


def _neighbours(search: DecisionSearch) -> None:
    """Try the neighbours of the best point in its listed values, as long as one is better."""
    while search.left > 0:
        best = search.best
        around = []
        for position, choice in enumerate(search.choices):
            if choice.values:
                around += [
                    (*best[:position], value, *best[position + 1 :])
                    for value in choice.steps(best[position])
                ]
        if not around:
            return
        search.evaluate(around)
        if search.best == best:
            return


def _unmet(search: DecisionSearch, nearest: Point) -> str:
    """Return in words that no decisions keep the constraints, and which come nearest."""
    tried = search.tried[nearest]
    values = ", ".join(f"{c.name}={x:.6g}" for c, x in zip(search.choices, nearest, strict=True))
    broken = [
        f"{constraint.label} (there it is {float(figure):.4g})"
        for constraint, figure, excess in zip(
            search.constraints, tried.figures, tried.excess, strict=True
        )
        if excess > 0
    ]
    return (
        f"no decisions keep {' and '.join(broken)}; the nearest of "
        f"{len(search.tried)} tried are {values}"
    )


def evaluations_table(search: DecisionSearch) -> pd.DataFrame:
    """Return one row per point tried: the decisions, the objective, each constraint's figure, and
    whether all are kept.
    """
    rows = [
        (*point, float(t.objective), *map(float, t.figures), t.allowed)
        for point, t in search.tried.items()
    ]
    names = [choice.name for choice in search.choices]
    figures = [search.figure.label, *(constraint.figure.label for constraint in search.constraints)]
    return pd.DataFrame(rows, columns=[*names, *figures, "allowed"])
