"""From an aim to weights: which solver serves it.

Mean and sd are read off the exact frontier. Measures over scenarios are solved by linear programs;
where an sd is limited too, the frontier gets a row for each loss it must keep within a limit,
until it does. Two measures can be limits alone, each kept by a convex one: a value at risk by a
limit on the expected shortfall, moved until the value at risk is at its own; and a drawdown, which
is that of the value, compounded, by the tangent of its logarithm at the weights so far.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError, RunError
from kindynos.markets.allocation.critical_line import least_variance, vertex
from kindynos.markets.allocation.linear import LinearAim, best_linear
from kindynos.markets.allocation.losses import (
    MaxDrawdown,
    Measure,
    WorstMean,
    log_fall,
    log_tangent,
)
from kindynos.markets.allocation.measures import Losses
from kindynos.markets.allocation.parity import equal_contributions
from kindynos.markets.allocation.path import Path, path_of
from kindynos.markets.allocation.region import Region
from kindynos.markets.allocation.source import Source

CUTS = 500
LOSS = "a loss within its limit"  # what the rows are called that keep measures within limits
KEPT = 1e-11  # by which a loss may pass its limit, in units of a holding's sd
NEAR = 1e-6  # the same while a level is sought whose least sd is a limit
MOST_ROWS = 40  # losses that are remembered from one such level to the next
TANGENTS = 40  # of log growth
HALVINGS = 40  # of where a stand-in keeps a limit
SETTLED = 1e-7  # of a weight, between two of them
ROUNDS = 60  # of replacing a difference of convex functions by a line
SCENARIO_MEASURES = ("expected_shortfall", "value_at_risk", "drawdown")


@dataclass(frozen=True, eq=False)
class Aim:
    """What is wanted: the highest mean or ratio, or the least of a measure, with limits on
    others.
    """

    maximize: str | None = None
    minimize: str | None = None
    limits: dict[str, float] = field(default_factory=dict)
    level: float = 0.95
    rate: float = 0.0

    @property
    def needs_covariance(self) -> bool:
        """Whether it rests on the covariance, and not on the returns alone."""
        of_returns = ("expected_shortfall", "value_at_risk", "drawdown")
        measures = [name for name in (self.minimize, *self.limits) if name not in (None, "mean")]
        if any(name not in of_returns for name in measures):
            return True
        return not measures and self.maximize != "mean"


class Solver:
    """Finds the best weights of a region for a source."""

    def __init__(self, source: Source, region: Region, aim: Aim) -> None:
        self.source, self.aim = source, aim
        self.losses = Losses(source, aim.level)
        self.limits = {name: limit for name, limit in aim.limits.items() if name != "mean"}
        if "mean" in aim.limits:
            region = replace(region, floor=(source.mean, aim.limits["mean"]))
        self.region = region
        self.unit = float(source.moments.sd.mean())
        self._point = np.full(region.count, 1 / region.count)  # where the log of a value is touched
        self._least: dict[str, Floats] = {}

    @cached_property
    def path(self) -> Path:
        """The frontier of the region."""
        return path_of(self.region, self.source.mean, self.source.covariance)

    @cached_property
    def least_sd(self) -> Floats:
        """The weights of the least sd."""
        return least_variance(self.region.system(), self.source.covariance)

    def best(self) -> Floats:
        """Return the best weights; raises ParameterError for limits that cannot be met, each told
        with what can be.
        """
        if "parity" in (self.aim.maximize, self.aim.minimize):
            return equal_contributions(self.region, self.source.covariance)
        if "drawdown" in self.limits and not self.source.in_order:
            raise ParameterError(
                "a drawdown needs a history, returns that follow each other in time"
            )
        self.check_floor()
        for name in self.limits:
            self.check_limit(name)
        try:
            return self._best()
        except RunError as error:
            stated = " and ".join(f"{name} {limit:g}" for name, limit in self.aim.limits.items())
            raise ParameterError(
                f"the limits {stated} cannot be met together ({error.problem})"
            ) from None

    def _best(self) -> Floats:
        over_scenarios = [
            name for name in SCENARIO_MEASURES if name in self.limits or name == self.aim.minimize
        ]
        if not over_scenarios or self.losses.normal:
            if self.aim.minimize == "sd" and not self.limits:
                return self.least_sd
            return self._on_normal_path() if over_scenarios else self._chosen(self.path)
        if "value_at_risk" in self.limits:
            return self._within_value_at_risk()
        return self._within_drawdown() if "drawdown" in self.limits else self._convex()

    def _with_limits(self, aim: Aim, **limits: float) -> Solver:
        """Return the solver of an aim with other limits than those on value at risk or drawdown."""
        others = {
            name: limit
            for name, limit in self.aim.limits.items()
            if name not in ("value_at_risk", "drawdown")
        }
        return Solver(self.source, self.region, replace(aim, limits={**others, **limits}))

    def _within_value_at_risk(self) -> Floats:
        """Return the best weights within the widest limit on the expected shortfall that keeps the
        value at risk within its own.
        """
        limit = self.limits["value_at_risk"]
        drawdown = {name: x for name, x in self.limits.items() if name == "drawdown"}

        def weights_within(shortfall: float) -> Floats:
            most = min(shortfall, self.limits.get("expected_shortfall", math.inf))
            return self._with_limits(self.aim, expected_shortfall=most, **drawdown)._best()

        kept = self._least_weights("value_at_risk")
        least, most = (
            self.losses.value("expected_shortfall", weights)
            for weights in (kept, self._with_limits(self.aim, **drawdown)._best())
        )
        for _ in range(HALVINGS):
            shortfall = (least + most) / 2
            weights = weights_within(shortfall)
            if self.losses.value("value_at_risk", weights) <= limit:
                kept, least = weights, shortfall
            else:
                most = shortfall
        return kept

    def _within_drawdown(self) -> Floats:
        """Return the best weights by the tangent at themselves, moved towards those of the least
        drawdown found as far as the limit asks for.
        """
        limit = self.limits["drawdown"]
        least = self._point = self._least_weights("drawdown")
        for _ in range(TANGENTS):
            before, self._point = self._point, self._convex()
            if np.abs(self._point - before).max() < SETTLED:
                break
        kept, broken = 1.0, 0.0  # the part of the least
        if self.losses.value("drawdown", self._point) <= limit:
            return self._point
        for _ in range(HALVINGS):
            part = (kept + broken) / 2
            if self.losses.value("drawdown", part * least + (1 - part) * self._point) <= limit:
                kept = part
            else:
                broken = part
        return kept * least + (1 - kept) * self._point

    def _least_weights(self, name: str) -> Floats:
        """Return the weights of the least of a measure, which are sought once."""
        if name not in self._least:
            self._least[name] = self._sought_least(name)
        return self._least[name]

    def _sought_least(self, name: str) -> Floats:
        """Return the weights of the least of a measure; of a value at risk, those of the least
        expected shortfall, and of a drawdown the least by the tangents met.
        """
        floor = {name: x for name, x in self.aim.limits.items() if name == "mean"}
        aim = Aim(minimize=name, limits=floor, level=self.aim.level)
        if name == "value_at_risk" and self.losses.normal:
            return self.path.least(self.losses.multiples[name])
        if name == "value_at_risk":
            aim = replace(aim, minimize="expected_shortfall")
        solver = Solver(self.source, self.region, aim)
        if name != "drawdown":
            return solver.best()
        solver._point = self.least_sd
        candidates = [solver.least_sd]
        for _ in range(TANGENTS):
            solver._point = solver._convex()
            candidates.append(solver._point)
            if np.abs(candidates[-1] - candidates[-2]).max() < SETTLED:
                break
        return min(candidates, key=lambda weights: self.losses.value(name, weights))

    def _chosen(self, path: Path) -> Floats:
        """Return the point of a frontier that the aim names, as far as means and sds go."""
        limit = self.limits.get("sd", math.inf)
        if self.aim.maximize == "mean":
            return path.of_sd(limit)
        if self.aim.maximize == "ratio":
            if path.means[-1] <= self.aim.rate:
                raise self._below_the_rate(path.means[-1])
            best_ratio = path.best_ratio(
                self.aim.rate, self.losses.multiples.get(self.aim.minimize or "sd")
            )
            return best_ratio if self.losses.sd(best_ratio) <= limit else path.of_sd(limit)
        return np.asarray(path.corners[0])

    def _below_the_rate(self, highest: float) -> ParameterError:
        return ParameterError(
            f"no weights have a mean above the rate {self.aim.rate:g}; the highest is {highest:.6g}"
        )

    def _on_normal_path(self) -> Floats:
        """Return the weights where losses are normal, so that every measure is a number of sds less
        the mean.
        """
        most = self._chosen(self.path)
        if self.aim.maximize is None and self.aim.minimize in self.losses.multiples:
            most = self.path.least(self.losses.multiples[self.aim.minimize])
        ends = [
            self.path.most_with(self.losses.multiples[n], limit)
            for n, limit in self.limits.items()
            if n != "sd"
        ]
        ends += [self.path.of_sd(self.limits["sd"])] if "sd" in self.limits else []
        starts = [
            self.path.first_with(self.losses.multiples[n], limit)
            for n, limit in self.limits.items()
            if n != "sd"
        ]
        last = min(ends, key=self.losses.sd, default=most)
        first = max(starts, key=self.losses.sd, default=most)
        if self.losses.sd(first) > self.losses.sd(last) * (1 + 1e-9):
            raise RunError("each alone can")
        most = max(most, first, key=self.losses.sd) if starts else most
        return min(most, last, key=self.losses.sd)

    def _measure(self, name: str) -> tuple[Measure, float]:
        """Return the convex measure of a name, in units, and what one unit of the name is in it."""
        returns = self.losses.scenarios / self.unit
        if name == "drawdown":
            tangent = log_tangent(self.losses.scenarios, self._point)
            return MaxDrawdown(tangent / self.unit), 1 / self.unit
        return WorstMean(returns, (1 - self.aim.level) * len(returns)), 1 / self.unit

    def _convex(self) -> Floats:
        """Return the best weights where every measure is convex."""
        measured = [
            (*self._measure(name), limit) for name, limit in self.limits.items() if name != "sd"
        ]
        bounded = tuple(
            (m, (log_fall(limit) if isinstance(m, MaxDrawdown) else limit) * factor)
            for m, factor, limit in measured
        )
        if self.aim.minimize == "sd":
            return self._least_sd_within(bounded)
        by_sd = self.aim.maximize == "ratio" and self.aim.minimize is None
        if by_sd or (self.aim.maximize == "mean" and "sd" in self.limits):
            return self._on_path_within(bounded, self._chosen)
        if self.aim.maximize == "ratio":
            if "sd" in self.limits:
                raise ParameterError(
                    f"a ratio to {str(self.aim.minimize).replace('_', ' ')} over scenarios knows "
                    "no limit on the sd"
                )
            return self._best_ratio(bounded)
        if self.aim.maximize == "mean":
            return self.linear(LinearAim(self.source.mean / self.unit, limits=bounded))
        assert self.aim.minimize is not None
        measure, _ = self._measure(self.aim.minimize)
        convex = self.linear(LinearAim(np.zeros(self.region.count), 1.0, measure, bounded))
        if self.losses.sd(convex) <= self.limits.get("sd", math.inf):
            return convex
        return self._least_within_sd(measure, bounded, convex)

    def linear(self, aim: LinearAim) -> Floats:
        """Return the best weights of a linear aim, in units."""
        return best_linear(self._scaled, aim, self.least_sd)

    @cached_property
    def _scaled(self) -> Region:
        return replace(self.region, cost=self.region.cost / self.unit)

    def _on_path_within(
        self, limits: tuple[tuple[Measure, float], ...], choose: Callable[[Path], Floats]
    ) -> Floats:
        """Return the weights chosen on the frontier of those that keep measures within limits."""

        def chosen(region: Region) -> Floats:
            path = path_of(region, self.source.mean, self.source.covariance)
            if self.losses.sd(path.corners[0]) > self.limits.get("sd", math.inf) * (1 + 1e-9):
                raise RunError("each alone can")
            return choose(path)

        return self._cut(limits, chosen)

    def _cut(
        self,
        limits: tuple[tuple[Measure, float], ...],
        choose: Callable[[Region], Floats],
        start: Region | None = None,
        rows: list[Floats] | None = None,
    ) -> Floats:
        """Return the weights chosen in the region, which gets a row for each loss until measures
        keep their limits.
        """
        region = self.region if start is None else start
        for _ in range(CUTS):
            cut = choose(region)
            kept = KEPT if rows is None else NEAR
            passed = [(m, limit) for m, limit in limits if m.value(cut) > limit + kept]
            if not passed:
                return cut
            # Rows that do not bind here are let go of: what was chosen stays the best without them.
            bind = tuple(
                row
                for row in region.rows
                if row.label != LOSS or row.coefficients @ cut > row.high - 1e-7
            )
            region = replace(region, rows=bind)
            for measure, limit in passed:
                gradient = measure.gradient(cut)
                region = region.with_row(LOSS, gradient, high=limit)
                if rows is not None and measure is limits[0][0]:
                    rows.append(gradient)
        raise RunError(f"the frontier was not settled after {CUTS} steps")

    def _least_within_sd(
        self, measure: Measure, limits: tuple[tuple[Measure, float], ...], lowest: Floats
    ) -> Floats:
        """Return the least of a measure with an sd at its limit: the level of the measure whose
        least sd that is.
        """
        from scipy.optimize import brentq

        rows: list[Floats] = []  # losses that had to be kept within a level, for all levels

        def least_sd(level: float) -> Floats:
            start = self.region
            del rows[:-MOST_ROWS]
            for gradient in rows:
                start = start.with_row(LOSS, gradient, high=level)
            return self._least_sd_within(((measure, level), *limits), start, rows)

        limit, highest = self.limits["sd"], self._least_sd_within(limits)
        ends = {
            measure.value(lowest): self.losses.sd(lowest),
            measure.value(highest): self.losses.sd(highest),
        }

        def excess(level: float) -> float:
            return (ends[level] if level in ends else self.losses.sd(least_sd(level))) - limit

        level = float(brentq(excess, *sorted(ends), xtol=NEAR, rtol=1e-9))
        return least_sd(level + 2 * NEAR)  # on the side where the sd keeps its limit

    def _least_sd_within(
        self,
        limits: tuple[tuple[Measure, float], ...],
        start: Region | None = None,
        rows: list[Floats] | None = None,
    ) -> Floats:
        """Return the least sd of weights that keep measures within limits; ``rows`` gets the
        gradients of the first.
        """
        return self._cut(
            limits,
            lambda region: least_variance(region.system(), self.source.covariance),
            start,
            rows,
        )

    def _best_ratio(self, limits: tuple[tuple[Measure, float], ...]) -> Floats:
        """Return the highest ratio of the mean above the rate to a measure.

        Source: Dinkelbach, Management Science 13 (1967), 492-498.
        """
        assert self.aim.minimize is not None
        measure, _ = self._measure(self.aim.minimize)
        gain = self.source.mean / self.unit
        best_ratio = self.linear(LinearAim(gain, limits=limits))
        for _ in range(ROUNDS):
            risk = measure.value(best_ratio)
            if risk <= 0:
                raise RunError(
                    f"some weights have no {self.aim.minimize.replace('_', ' ')}, so that the "
                    "ratio has no end"
                )
            ratio = (
                float(gain @ best_ratio)
                - self._scaled.charge(best_ratio)
                - self.aim.rate / self.unit
            ) / risk
            if ratio <= 0:
                raise self._below_the_rate(float(gain @ best_ratio) * self.unit)
            better = self.linear(LinearAim(gain, ratio, measure, limits))
            if np.abs(better - best_ratio).max() < 1e-12:
                break
            best_ratio = better
        return best_ratio

    def worth(self, weights: Floats) -> float:
        """Return what the aim makes of weights; less is better."""
        return self.losses.aimed(
            self.aim.maximize, self.aim.minimize, weights, self.region, self.aim.rate
        )

    def check_floor(self) -> None:
        """Raise ParameterError for a mean that no weights reach."""
        if self.region.floor is None:
            return
        system = replace(self.region, floor=None).system()
        gain = -system.cost
        gain[: self.region.count] += self.source.mean
        best = float(gain @ vertex(system, gain))
        if self.region.floor[1] > best + 1e-12:
            raise ParameterError(
                f"limit mean {self.region.floor[1]:g} is above the highest reachable, {best:.6g}"
            )

    def check_limit(self, name: str) -> None:
        """Raise ParameterError for a limit below the least that can be reached."""
        least = self.least(name)
        if self.limits[name] < least - 1e-9 * abs(least) - 1e-13:
            floor = (
                f" with a mean of at least {self.aim.limits['mean']:g}"
                if "mean" in self.aim.limits
                else ""
            )
            raise ParameterError(
                f"limit {name} {self.limits[name]:g} is below the least reachable{floor}, "
                f"{least:.6g}",
                name=name,
            )

    def least(self, name: str) -> float:
        """Return the least of a measure that can be reached, as far as it was found."""
        return self.losses.value(name, self._least_weights(name))
