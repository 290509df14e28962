"""From an aim to weights: which solver serves it.

Mean and sd are read off the exact frontier. Measures over scenarios are solved by linear programs;
where an sd is limited too, the frontier gets a row for each loss it must keep within a limit,
until it does. A value at risk over scenarios is not convex: it is the sum of the k worst losses
less that of the k - 1 worst, where the second is replaced by a line at the weights so far, again
and again (differences of convex functions; Tao and An, Acta Mathematica Vietnamica 22, 1997,
289-355). A drawdown is that of the value, compounded, whose logarithm is replaced by its tangent in
the same way.
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
from kindynos.markets.allocation.exchange import exchanged
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
TANGENTS = 80  # of log growth
CORRECTIONS = 4  # of the limit of a drawdown by a tangent
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
        self._lines: dict[str, Floats] = {}  # what stands in for the smaller sum of a value at risk

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
        if "drawdown" in (self.aim.minimize, *self.limits) and not self.source.in_order:
            raise ParameterError(
                "a drawdown needs a history, returns that follow each other in time"
            )
        self.check_floor()
        for name in self.limits:
            self.check_limit(name)
        try:
            if "drawdown" not in (self.aim.minimize, *self.limits):
                return self._best()
            if self.aim.maximize == "ratio" and self.aim.minimize == "drawdown":
                return self._best_ratio_to_drawdown()
            return self._by_tangents()
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
        if "value_at_risk" in over_scenarios:
            return self._by_lines()
        return self._convex()

    def _by_tangents(self, start: Floats | None = None) -> Floats:
        """Return the best weights where a drawdown is the aim or a limit.

        The log of the value is a concave function of the weights, not a linear one: its growth is
        replaced by the tangent at the weights so far, and the best of those nearby is taken, again
        and again, until none is better. There the tangent is exact, and so is the drawdown. The
        ``start`` keeps the limit of the drawdown; default: the weights of the least one.
        """
        limit, near = self.limits.get("drawdown", math.inf), 1.0
        point = self.least_sd
        if start is not None:
            point = start
        elif limit < math.inf:
            others = {k: v for k, v in self.aim.limits.items() if k == "mean"}
            aim = replace(self.aim, maximize=None, minimize="drawdown", limits=others)
            point = Solver(self.source, self.region, aim).best()
        for _ in range(TANGENTS):
            answer = self._near(point, near, limit)
            figure = 0.0 if answer is None else float(np.abs(answer - point).max())
            if answer is not None and self.worth(answer) < self.worth(point):
                point, near = answer, 2 * near
            else:
                near = min(near, figure or near) / 4
            if near < SETTLED or 0 < figure < SETTLED:
                break
        return point

    def _near(self, point: Floats, near: float, limit: float) -> Floats | None:
        """Return the best weights by the tangent at a point, none further from it than ``near``;
        None where none keep the limit of the drawdown.
        """
        region = replace(
            self.region,
            lower=np.maximum(self.region.lower, point - near),
            upper=np.minimum(self.region.upper, point + near),
        )
        aimed = limit
        for _ in range(CORRECTIONS):
            limits = dict(self.aim.limits)
            if limit < math.inf:
                limits["drawdown"] = aimed
            step = Solver(self.source, region, replace(self.aim, limits=limits))
            step._point = point
            try:
                best = step._best()
            except (RunError, ParameterError, np.linalg.LinAlgError):  # hardly any room is left
                return None
            excess = self.losses.value("drawdown", best) - limit
            if excess <= 0:
                return best
            aimed -= 1.01 * excess + 1e-14  # what the tangent leaves out
        return None

    def _best_ratio_to_drawdown(self) -> Floats:
        """Return the highest ratio of the mean above the rate to the drawdown: of the highest means
        within each drawdown, the best.
        """
        from scipy.optimize import minimize_scalar

        least = Solver(self.source, self.region, replace(self.aim, maximize=None)).best()
        most = Solver(self.source, self.region, replace(self.aim, maximize="mean", minimize=None))
        ends = [self.losses.value("drawdown", weights) for weights in (least, most.best())]
        valid = self.limits.get("drawdown", math.inf)
        by_name: dict[float, Floats] = {ends[0]: least}

        def worth(limit: float) -> float:
            limits = {**self.aim.limits, "drawdown": min(limit, valid)}
            aim = replace(self.aim, maximize="mean", minimize=None, limits=limits)
            by_name[limit] = Solver(self.source, self.region, aim)._by_tangents(least)
            return self.worth(by_name[limit])

        if ends[1] > ends[0]:
            minimize_scalar(
                worth,
                bounds=tuple(ends),
                method="bounded",
                options={"xatol": 1e-4 * (ends[1] - ends[0])},
            )
        best = min(by_name.values(), key=self.worth)
        if self.worth(best) >= 0:
            raise self._below_the_rate(float(self.source.mean @ best))
        return best

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
        if name == "expected_shortfall":
            return WorstMean(returns, (1 - self.aim.level) * len(returns)), 1 / self.unit
        count = self.losses.beyond
        return WorstMean(returns, count, self._lines[name] / count), 1 / (self.unit * count)

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

    def _by_lines(self) -> Floats:
        """Return weights at which no small change is better, where a value at risk is among the
        measures.

        From several starts, since such weights need not be the best of all: the least expected
        shortfalls at this level and others, the least sd, and the highest mean on the frontier that
        keeps the limit.
        """
        level = self.aim.level
        starts = [self.least_sd]
        for other in (level, 1 - 2 * (1 - level), (1 + level) / 2):
            if 0 < other < 1:
                aim = replace(
                    self.aim, maximize=None, minimize="expected_shortfall", limits={}, level=other
                )
                starts.append(Solver(self.source, self.region, aim).best())
        if "value_at_risk" in self.limits:
            limit = self.limits["value_at_risk"]
            least = min(starts, key=lambda w: self.losses.value("value_at_risk", w))
            on_path = self.path.last_where(lambda w: self.losses.value("value_at_risk", w) <= limit)
            starts = [
                self._repeated(least, self._least_value_at_risk),
                *([on_path] if on_path is not None else []),
            ]
        rows = []
        for start in starts:
            try:
                rows.append(self._repeated(start, self._convex))
            except RunError:  # nothing better near this start
                continue
        if not rows:
            raise RunError("no weights were found")
        return exchanged(self.region, min(rows, key=self.worth), self._worths)

    def _worths(self, cases: Floats) -> Floats:
        """Return what the aim makes of weights ``(holdings, cases)``, infinite where a limit is
        broken.
        """
        at_risk = np.quantile(-(self.losses.scenarios @ cases), self.aim.level, axis=0)
        kept = at_risk <= self.limits.get("value_at_risk", math.inf)
        worths = np.full(cases.shape[1], math.inf)
        others = [name for name in self.limits if name != "value_at_risk"]
        for position in np.flatnonzero(kept).tolist():
            weights = cases[:, position]
            if all(self.losses.value(name, weights) <= self.limits[name] for name in others):
                worths[position] = (
                    at_risk[position]
                    if self.aim.minimize == "value_at_risk"
                    else self.worth(weights)
                )
        return worths

    def _least_value_at_risk(self) -> Floats:
        return self.linear(
            LinearAim(np.zeros(self.region.count), 1.0, self._measure("value_at_risk")[0])
        )

    def _repeated(self, start: Floats, step: Callable[[], Floats]) -> Floats:
        repeated, reached = start, math.inf
        for _ in range(ROUNDS):
            self._lines["value_at_risk"] = (
                self.losses.worst_sum_gradient(repeated, self.losses.beyond - 1) / self.unit
            )
            repeated = step()
            worth = self.worth(repeated)
            if worth > reached - 1e-9 * self.unit:
                break
            reached = worth
        return repeated

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
        """Return the least of a measure that can be reached."""
        aim = Aim(
            minimize=name,
            limits={k: v for k, v in self.aim.limits.items() if k == "mean"},
            level=self.aim.level,
        )
        return self.losses.value(name, Solver(self.source, self.region, aim).best())
