"""A search for the best decisions under way: the choices, the aim, and all that was tried."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

import numpy as np

from kindynos.errors import RunError, StoppedError
from kindynos.formatting import per_cent
from kindynos.inference.estimates import Estimate
from kindynos.results.result import Result
from kindynos.studies.aims import Constraint, Figure
from kindynos.studies.choices import DecisionRange
from kindynos.studies.points import Point, Points

STARTS = 3  # coarse points from which the local search sets out

TOLD_APART = 4  # trials without a value by which two points on the same draws differ for certain


@dataclass(frozen=True)
class Tried:
    """The figures at a point: the objective, turned so that more is better, and each constraint's
    excess and figure.
    """

    objective: Estimate
    sign: float
    figures: tuple[Estimate, ...]
    excess: tuple[float, ...]
    nearness: float = 0.0  # to keeping the limits, where their figures do not show it

    @property
    def worth(self) -> float:
        """The objective, such that more is better; minus infinity where it is not a finite
        number, which nothing can be better than.
        """
        worth = self.sign * float(self.objective)
        return worth if math.isfinite(worth) else -math.inf

    @property
    def allowed(self) -> bool:
        """Whether every constraint is kept."""
        return all(excess <= 0 for excess in self.excess)


@dataclass(eq=False)
class DecisionSearch:
    """A search under way: the choices, the aim, and all that was tried."""

    points: Points
    choices: list[DecisionRange]
    figure: Figure
    sign: float
    constraints: tuple[Constraint, ...]
    most: int
    progress: Callable[[int, int], object] | None = None
    tried: dict[Point, Tried] = field(default_factory=dict)
    scales: tuple[float, ...] = ()  # how far the constraints' figures differ among what was tried
    spread: float = 1.0  # the same of the objective
    # by outcome, the share of trials without a value at the first point tried
    without_value: dict[str, float] = field(default_factory=dict)

    def evaluate(self, points: Iterable[Point]) -> list[Tried]:
        """Return the figures at points, working out those that are new, as far as evaluations are
        left.
        """
        listed = list(points)
        new = self.new(listed)[: self.left]
        for point, results in zip(new, self.points.at(new), strict=True):
            self._record(point, results)
        return [self.tried[point] for point in listed if point in self.tried]

    def new(self, points: Iterable[Point]) -> list[Point]:
        """Return the points that were not tried yet."""
        return [point for point in dict.fromkeys(points) if point not in self.tried]

    def results(self, points: list[Point]) -> list[dict[str, Result]]:
        """Return the outcomes themselves at points, which count as evaluations; raises RunError
        where too few are left.
        """
        if sum(point not in self.tried for point in points) > self.left:
            raise RunError("too few evaluations are left")
        figures = list(self.points.at(points))
        for point, results in zip(points, figures, strict=True):
            self._record(point, results)
        return figures

    def _record(self, point: Point, results: dict[str, Result]) -> None:
        for figure in (self.figure, *(constraint.figure for constraint in self.constraints)):
            self._check_ranked(figure, results[figure.outcome])
        figures = tuple(c.figure.read(results[c.figure.outcome]) for c in self.constraints)
        excess = tuple(
            math.inf if math.isnan(f) else c.excess(float(f))
            for c, f in zip(self.constraints, figures, strict=True)
        )
        nearness = sum(
            c.nearness(results[c.figure.outcome])
            for c, e in zip(self.constraints, excess, strict=True)
            if e > 0
        )
        self.tried[point] = Tried(
            self.figure.read(results[self.figure.outcome]), self.sign, figures, excess, nearness
        )
        if self.progress is not None and self.progress(len(self.tried), self.most) is False:
            raise StoppedError(len(self.tried), self.most)

    def _check_ranked(self, figure: Figure, result: Result) -> None:
        """Raise RunError where points differ in how many trials have no value: a figure over the
        others alone cannot choose between them.
        """
        if figure.statistic.label.startswith("chance"):  # which is of all trials
            return
        share, name = result.unranked, figure.outcome
        first_share = self.without_value.setdefault(name, share)
        if abs(share - first_share) * result.size >= TOLD_APART:
            low, high = sorted((first_share, share))
            raise RunError(
                f"between {per_cent(low)} and {per_cent(high)} of the trials have no value of "
                f"{name!r}, so that the {figure.statistic.label} of the others cannot choose; "
                'missing="worst" (or "best", or a number) on the outcome says how they rank'
            )

    @property
    def rough(self) -> bool:
        """Whether some figure jumps from trial to trial, so that the best of all tried was the best
        by luck as well.
        """
        figures = [self.figure, *(constraint.figure for constraint in self.constraints)]
        return any(figure.jumps for figure in figures)

    @property
    def left(self) -> int:
        """How many evaluations are left."""
        return self.most - len(self.tried)

    def key(self, point: Point) -> tuple[bool, float, float]:
        """Return what orders points: allowed ones first by worth, others by how much they exceed
        the limits, and equal ones by how near they are to keeping them.
        """
        tried = self.tried[point]
        if tried.allowed:
            return True, tried.worth, 0.0
        scales = self.scales or (1.0,) * len(self.constraints)
        excess = sum(max(e, 0.0) / s for e, s in zip(tried.excess, scales, strict=True))
        return False, -excess, tried.nearness

    @property
    def best(self) -> Point:
        """The best point so far."""
        return max(self.tried, key=self.key)

    def set_scales(self) -> None:
        """Estimate from what was tried how large differences of the figures are."""
        worths = np.array([t.worth for t in self.tried.values() if math.isfinite(t.worth)])
        self.spread = float(np.ptp(worths)) or 1.0 if len(worths) else 1.0
        columns = (
            np.array([t.excess[k] for t in self.tried.values()])
            for k in range(len(self.constraints))
        )
        finite = [column[np.isfinite(column)] for column in columns]
        self.scales = tuple(
            float(np.ptp(column)) or 1.0 if len(column) else 1.0 for column in finite
        )

    def starts(self) -> list[Point]:
        """Return the best points tried that have no better neighbour, at most a few."""
        ranked = sorted(self.tried, key=self.key, reverse=True)
        places = np.array([self._scaled(point) for point in ranked])
        reach = 1.5 / max(len(ranked) ** (1 / max(len(self.choices), 1)) - 1, 1)
        rows: list[int] = []
        for position in range(len(ranked)):
            better = places[:position]
            if not len(better) or np.abs(better - places[position]).max(axis=1).min() > reach:
                rows.append(position)
            if len(rows) == STARTS:
                break
        return [ranked[position] for position in rows]

    def _scaled(self, point: Point) -> list[float]:
        """Return a point in the unit cube; values of a short list lie far apart, since neither
        says about the other.
        """
        return [
            3.0 * c.values.index(x) if c.listed else (x - c.low) / (c.width or 1.0)
            for c, x in zip(self.choices, point, strict=True)
        ]
