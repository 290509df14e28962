"""Which decisions are efficient: those to which no other is better in one figure and at least as
good in another.

All sets of listed values are tried where they fit the evaluations; otherwise points spread over all
that may be chosen, and then between and beside the efficient ones. These are judged on fresh draws,
which had no part in the choice. Source: Markowitz, Journal of Finance 7 (1952), 77-91; Steuer,
Multiple Criteria Optimization (1986).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import GoalError, ParameterError
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.sampling.streams import stream
from kindynos.studies.aims import Constraint, Figure, figure_of
from kindynos.studies.choices import DecisionRange, coarse_points
from kindynos.studies.optimizing import OptimumRequest, search_for
from kindynos.studies.optimum import FRESH
from kindynos.studies.points import Point
from kindynos.studies.search import DecisionSearch
from kindynos.studies.sets_search import sets_in_reach, try_all

MOST_SHOWN = 12  # efficient points, evenly spread over both figures
BESIDE = 0.5  # of a range, the first steps beside efficient points, halved each time
LOSSES = ("value_at_risk", "expected_shortfall")
SPREAD = ("sd", "coefficient of variation")


@dataclass(frozen=True, eq=False)
class ModelFrontier(Reported):
    """The efficient decisions of a model for two figures.

    ``table`` has them in order of the first figure: the decisions, both figures on fresh draws with
    their errors. ``dominated`` has the others that were tried, and by which efficient point they
    are beaten. ``more`` says of each figure whether more of it is better.
    """

    what: str
    against: str
    more: tuple[bool, bool]
    units: tuple[str | None, str | None]
    table: pd.DataFrame
    dominated: pd.DataFrame
    decisions: tuple[str, ...]
    tried_all: bool
    trials: int
    seed: int

    def __repr__(self) -> str:
        return f"<{len(self.table)} efficient decisions, {self.what} against {self.against}>"

    @delegated_to("kindynos.plots", "efficient_decisions")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the efficient decisions with their errors, and those that they dominate."""


def frontier(
    statement: Statement, request: OptimumRequest, against: Any, settings: SimulationOptions
) -> ModelFrontier:
    """Return the efficient decisions of a model; see ``Model.frontier``."""
    second = figure_of(statement, against)
    if figure_of(statement, request.maximize).label == second.label:
        raise ParameterError(f"the {second.label} is set against itself; name another figure")
    settings = replace(settings, seed=settings.checked_seed())
    search = search_for(statement, replace(request, subject_to=()), settings)
    search.constraints = (Constraint(second, math.inf, most=True),)
    outcomes = tuple(dict.fromkeys([search.figure.outcome, second.outcome]))
    search.points = replace(search.points, outcomes=outcomes)
    more = more_is_better(statement, search.figure), more_is_better(statement, second)
    sets = sets_in_reach(search)
    everything = sets is not None and sets <= search.most
    if everything:
        try_all(search)
    else:
        coarse = coarse_points(search.choices, max(search.most // 2, 5))
        search.evaluate([tuple(map(float, row)) for row in coarse])
        _refined(search, more)
    points, values = _tried(search, more)
    efficient = efficient_of(values)
    names, labels = [choice.name for choice in search.choices], (search.figure.label, second.label)
    judged = _on_fresh_draws(search, second, points, settings)
    turned = judged[:, [0, 2]] * _signs(more)
    kept = [place for place in efficient if place in set(efficient_of(turned, efficient))]
    kept = _spread_over(turned, kept)
    table = pd.DataFrame(np.column_stack([np.array(points), judged])[kept])
    table.columns = [*names, labels[0], "error", labels[1], f"error of {labels[1]}"]
    return ModelFrontier(
        *labels,
        more,
        (_unit(statement, search.figure), _unit(statement, second)),
        table,
        _dominated(np.array(points), turned, efficient, kept, [*names, *labels], more),
        tuple(names),
        everything,
        settings.trials,
        settings.checked_seed(),
    )


def more_is_better(statement: Statement, figure: Figure) -> bool:
    """Return whether more of a figure is better: of a loss, a spread and the chance of the wrong
    side it is not.
    """
    high = getattr(statement.quantities[figure.outcome], "better", "high") != "low"
    name = figure.statistic.name
    if name in LOSSES or name in SPREAD:
        return False
    if name == "chance":
        return high == ("above" in figure.statistic.options)
    return high


def _unit(statement: Statement, figure: Figure) -> str | None:
    if figure.statistic.name == "chance":
        return "%"
    unit: str | None = getattr(statement.quantities[figure.outcome], "unit", None)
    return unit


def _tried(search: DecisionSearch, more: tuple[bool, bool]) -> tuple[list[Point], Floats]:
    """Return the points that have both figures, and these, turned so that more is better."""
    signs = _signs(more)
    points, rows = [], []
    for point, tried in search.tried.items():
        row = [signs[0] * float(tried.objective), signs[1] * float(tried.figures[0])]
        if all(map(math.isfinite, row)):
            points.append(point)
            rows.append(row)
    if not points:
        raise GoalError("no point that was tried has a value of both figures")
    return points, np.array(rows)


def _on_fresh_draws(
    search: DecisionSearch, second: Figure, points: list[Point], settings: SimulationOptions
) -> Floats:
    """Return both figures at points with their errors ``(points, 4)``, on draws that had no part in
    the search.
    """
    seed = settings.checked_seed() ^ FRESH
    fresh = replace(search.points, settings=replace(settings, seed=seed, progress=None))
    rows = []
    for results in fresh.at(points):
        first = search.figure.read(results[search.figure.outcome])
        other = second.read(results[second.outcome])
        rows.append((float(first), first.error, float(other), other.error))
    return np.array(rows)


def efficient_of(values: Floats, among: Sequence[int] | None = None) -> list[int]:
    """Return the places of the efficient ones among values ``(points, 2)``, where more is
    better, in order of the first; ``among`` some of the places.

    >>> efficient_of(np.array([[1.0, 3.0], [2.0, 2.0], [1.5, 1.5], [3.0, 1.0]]))
    [0, 1, 3]
    """
    places = np.arange(len(values)) if among is None else np.array(among)
    order = places[np.lexsort((values[places, 1], values[places, 0]))][::-1]
    best, efficient = -math.inf, []
    for place in order.tolist():
        if values[place, 1] > best:
            best = float(values[place, 1])
            efficient.append(place)
    return efficient[::-1]


def _refined(search: DecisionSearch, more: tuple[bool, bool]) -> None:
    """Try points between neighbours on the frontier and beside them, ever more closely."""
    share = BESIDE
    while search.left > 0:
        points, values = _tried(search, more)
        front = [points[place] for place in efficient_of(values)]
        ends = np.array(front)
        middle = [tuple(row) for row in ((ends[:-1] + ends[1:]) / 2).tolist()]
        generator = stream(0, "beside the frontier", len(search.tried))
        widths = np.array([choice.width for choice in search.choices])
        moves = generator.uniform(-share, share, (4 * len(front), len(widths))) * widths
        beside = [tuple(row) for row in (np.repeat(ends, 4, axis=0) + moves).tolist()]
        near = [_allowed(search.choices, point) for point in [*middle, *beside]]
        exchanged = [_exchanged(search.choices, point, generator) for point in front * 2]
        before = len(search.tried)
        search.evaluate([*near, *exchanged])
        if len(search.tried) == before or share < 1e-4:
            return
        share /= 2


def _allowed(choices: list[DecisionRange], point: Point) -> Point:
    return tuple(choice.near(float(x)) for choice, x in zip(choices, point, strict=True))


def _exchanged(choices: list[DecisionRange], point: Point, generator: Any) -> Point:
    """Return a point with up to two of its listed values replaced."""
    listed = [place for place, choice in enumerate(choices) if choice.values]
    values = list(point)
    for place in generator.permutation(listed)[:2] if listed else ():
        values[place] = float(generator.choice(choices[place].values))
    return tuple(values)


def _spread_over(values: Floats, efficient: list[int]) -> list[int]:
    """Return as many efficient ones as are shown, evenly over both figures."""
    if len(efficient) <= MOST_SHOWN:
        return efficient
    front = values[efficient]
    steps = np.abs(np.diff(front, axis=0)) / np.maximum(np.ptp(front, axis=0), 1e-300)
    reached = np.concatenate([[0.0], np.cumsum(steps.sum(axis=1))])
    wanted = np.linspace(0, reached[-1], MOST_SHOWN)
    places = dict.fromkeys(int(np.abs(reached - at).argmin()) for at in wanted)
    return [efficient[place] for place in places]


def _dominated(
    points: Floats, values: Floats, efficient: list[int], kept: list[int], columns: list[str],
    more: tuple[bool, bool],
) -> pd.DataFrame:  # fmt: skip
    """Return the points that are not efficient, the nearest to it first, with the efficient one
    that beats them by most on fresh draws; "" where none does: only the draws of the search tell.
    """
    spread = np.maximum(np.ptp(values, axis=0), 1e-300)
    rows = []
    for place in range(len(points)):
        gaps = (values[kept] - values[place]) / spread
        ahead = np.where((gaps >= 0).all(axis=1), gaps.sum(axis=1), -1.0)
        if place in kept or (place in efficient and ahead.max() < 0):
            continue  # shown, or between those that are
        best = points[kept[int(ahead.argmax())]]
        named = ", ".join(f"{name} {x:.4g}" for name, x in zip(columns, best, strict=False))
        figures = _signs(more) * values[place]
        rows.append((*points[place], *figures, named if ahead.max() >= 0 else "", ahead.max()))
    frame = pd.DataFrame(rows, columns=[*columns, "dominated by", "gap"])
    nearest = frame.sort_values("gap", kind="stable", ignore_index=True)
    return nearest.drop(columns="gap")


def _signs(more: tuple[bool, bool]) -> Floats:
    return np.where(np.array(more), 1.0, -1.0)
