"""Fitting exponential smoothing: the errors of a series one period ahead, the weights and first
states that make the series likeliest, and their errors.

Given the weights, the errors are linear in the first states and in the shocks of missing values, so
that these are solved for, and the search is over the weights alone. Source: Golub and Pereyra, SIAM
Journal on Numerical Analysis 10 (1973), 413-432.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.processes.descent import descend
from kindynos.processes.likelihood import (
    FEWEST_EFFECTIVE,
    REJECTED,
    Around,
    Prior,
    adapted,
    likely_interval,
    likely_places,
)
from kindynos.sampling.streams import stream

# beyond them a damped trend is none, or one without damping
LEAST_DAMPING, MOST_DAMPING = (0.8, 0.995)
AT_END = 0.002  # of a weight between 0 and 1
INSIDE = 1e-4  # where the search of a weight at an end begins
STARTS = {
    "level_weight": (0.03, 0.3, 0.6, 0.95),
    "trend_weight": (0.03, 0.5, 1.0),
    "damping": (0.3, 0.9),
    "season_weight": (0.05, 0.6),
}
KEPT = 2  # starts of the search that are taken to its end; with a trend, twice as many
STEP = 1e-6  # of a difference
ENOUGH = 1e-9  # relative gain of a sum of squares
NEARLY = 1e-5  # enough to say how likely a set of weights is
ROUNDS = 12  # of solving for the first states of a season that multiplies
EXACT = 1e-10  # sd of errors that are rounding
PROPOSALS, FEWEST_PROPOSALS, DRAWS = 1_000, 200, 400
WORK = 100_000_000  # numbers to work out, beyond which fewer sets of weights are proposed
AT_ONCE = 2_000_000  # numbers in one batch of sets of weights
RANGES = {"level_weight": (0.0, 1.0), "damping": (LEAST_DAMPING, MOST_DAMPING)}
FAILED = 1e3  # an error, in units of the series, of weights with which there is no forecast


@dataclass(frozen=True)
class Form:
    """Which states there are: a trend, damped or not, and a season of that many periods that adds
    or multiplies.
    """

    trend: bool = False
    damped: bool = False
    season: int = 0
    multiplicative: bool = False

    @property
    def weights(self) -> tuple[str, ...]:
        """The names of the weights, in the order in which they are searched for."""
        asked = {
            "level_weight": True,
            "trend_weight": self.trend,
            "damping": self.damped,
            "season_weight": self.season > 0,
        }
        return tuple(name for name, present in asked.items() if present)

    @property
    def first_states(self) -> int:
        """The number of first states that are free."""
        return 1 + int(self.trend) + max(self.season - 1, 0)

    @property
    def states(self) -> int:
        """The number of states: level, trend, season."""
        return 1 + int(self.trend) + self.season

    @property
    def size(self) -> int:
        """The number of parameters: weights and first states."""
        return len(self.weights) + self.first_states


@dataclass(frozen=True)
class Found:
    """Weights ``(weights,)`` and hidden values ``(hidden,)`` that make a series likeliest, and
    the squares that the likelihood goes by.
    """

    theta: Floats
    hidden: Floats
    squares: float


@dataclass(frozen=True)
class FilteredStates:
    """What a series leaves after its forecasts one period ahead, for ``sets`` of weights and
    ``columns`` of hidden values.
    """

    errors: Floats  # (values, sets, columns), of a missing value the shock that it is given
    log_scale: Floats  # (sets, columns): the mean log of what a shock is multiplied by
    states: Floats  # (states, sets, columns) at the end; the season's next period first


@dataclass(frozen=True)
class SmoothingSolved:
    """For sets of weights, the hidden values that make the series likeliest, and the errors times
    the scale of shocks.
    """

    hidden: Floats  # (hidden, sets)
    scaled: Floats  # (values, sets)
    slopes: Floats  # (sets, values, hidden)
    log_scale: Floats  # (sets,)

    def of(self, sets: NDArray[np.int64]) -> SmoothingSolved:
        """Return it for some of the sets."""
        return SmoothingSolved(
            self.hidden[:, sets], self.scaled[:, sets], self.slopes[sets], self.log_scale[sets]
        )

    @property
    def crossed(self) -> Floats:
        """The products of the slopes ``(sets, hidden, hidden)``."""
        return np.asarray(self.slopes.transpose(0, 2, 1) @ self.slopes)


@dataclass(frozen=True)
class SmoothingLikelihood:
    """The likelihood of a series ``(values,)``, NaN where one is missing, by the weights ``theta``
    ``(weights, sets)`` from 0 to 1: the trend's as a share of the level's, and the
    season's as a share of what that leaves.

    The first states and the shocks of missing values are the hidden values ``(hidden, sets)``. The
    shocks are normal like all others, and are integrated out: exactly where the season adds, and by
    Laplace's approximation where it multiplies. Source: Hyndman et al. (2008), chapter 5.
    """

    series: Floats
    form: Form

    @cached_property
    def unit(self) -> float:
        """The unit of first states, so that 1 is a large change."""
        first = self.series[: max(2 * self.form.season, 10)]
        moves = first[~np.isnan(first)]
        return (
            float(moves.std())
            if len(moves) > 1 and np.ptp(moves) > 0
            else float(np.nanstd(self.series))
        )

    @cached_property
    def known(self) -> Floats:
        """Which values are known."""
        return np.asarray(~np.isnan(self.series))

    @cached_property
    def count(self) -> int:
        """The number of values that are known."""
        return int(self.known.sum())

    @property
    def hidden(self) -> int:
        """The number of hidden values: first states, then shocks of missing values."""
        return self.form.first_states + len(self.series) - self.count

    @property
    def left(self) -> int:
        """The values known, less the first states: what is left to tell the weights and the sd."""
        return max(self.count - self.form.first_states, 1)

    def weights(self, theta: Floats) -> dict[str, Floats]:
        """Return the weights by name ``(sets,)``."""
        scale = dict(zip(self.form.weights, theta, strict=True))
        by_name = {"level_weight": scale["level_weight"]}
        if self.form.trend:
            by_name["trend_weight"] = by_name["level_weight"] * scale["trend_weight"]
        if self.form.damped:
            by_name["damping"] = LEAST_DAMPING + (MOST_DAMPING - LEAST_DAMPING) * scale["damping"]
        if self.form.season:
            by_name["season_weight"] = (1 - by_name["level_weight"]) * scale["season_weight"]
        return by_name

    def _first_states(self, first: Floats) -> Floats:
        """Return the states ``(states, ...)`` before the first value from what is free of them: the
        season's last period makes its sum 0 or its mean 1.
        """
        form, begin = self.form, 1 + int(self.form.trend)
        if not form.season:
            return self.unit * first
        free, rest = first[begin:], np.zeros((1, *first.shape[1:]))
        if form.multiplicative:
            shares = np.exp(np.concatenate([free, rest]))
            season = shares / shares.mean(axis=0)
        else:
            season = self.unit * np.concatenate([free, rest - free.sum(axis=0)])
        return np.concatenate([self.unit * first[:begin], season])

    def filtered(self, theta: Floats, hidden: Floats) -> FilteredStates:
        """Return errors and last states of weights ``(weights, sets)`` and hidden values ``(hidden,
        sets, columns)``.
        """
        form, times = self.form, self.form.multiplicative
        own = {name: value[:, None] for name, value in self.weights(theta).items()}
        damping = own.get("damping", np.ones((1, 1)))
        states = list(self._first_states(hidden[: form.first_states]))
        shocks = iter(hidden[form.first_states :] * self._shock_unit)
        errors = np.empty((len(self.series), *hidden.shape[1:]))
        scales: list[Floats] = []
        for t, seen in enumerate(self.series.tolist()):
            carried = damping * states[1] if form.trend else 0.0
            base = states[0] + carried
            at = form.states - form.season + t % form.season if form.season else 0
            turn = states[at] if form.season else 0.0
            forecast = base * turn if times else base + turn
            if math.isnan(seen):
                shock = next(shocks)
            else:
                shock = seen / forecast - 1 if times else seen - forecast
                scales += [forecast] if times else []
            shifted = base * shock if times else shock
            states[0] = base + own["level_weight"] * shifted
            if form.trend:
                states[1] = carried + own["trend_weight"] * shifted
            if form.season:
                states[at] = turn + own["season_weight"] * (turn * shock if times else shock)
            errors[t] = shock
        # a forecast below 0 has no log, and so is refused
        log_scale = np.log(scales).mean(axis=0) if times else np.zeros(hidden.shape[1:])
        ends = np.array(np.broadcast_arrays(*states))[self._order]
        return FilteredStates(errors, log_scale, ends)

    @property
    def _shock_unit(self) -> float:
        """The unit in which the shocks of missing values are searched for."""
        return 1.0 if self.form.multiplicative else self.unit

    @cached_property
    def _order(self) -> Any:
        """The places of the states at the end, the season's next period first."""
        begin = self.form.states - self.form.season
        turned = len(self.series) % self.form.season if self.form.season else 0
        season = np.roll(np.arange(begin, self.form.states), -turned)
        return np.concatenate([np.arange(begin), season]).astype(np.int64)

    def solved(
        self, theta: Floats, hidden: Floats, nearby: bool = False, enough: float = ENOUGH
    ) -> SmoothingSolved:
        """Return the hidden values that are best with weights ``(weights, sets)``, sought from
        ``hidden`` ``(hidden, sets)``; those of a season that multiplies in several steps, until one
        would gain no more than a part ``enough``, or in one where they are known to be ``nearby``.
        """
        linear = self._linear(theta, np.broadcast_to(hidden, (self.hidden, theta.shape[1])))
        moves = _least_squares_moves(linear)
        if self.form.multiplicative and not nearby:
            self._settle(theta, linear, moves, enough)
        left = linear.scaled + np.einsum("snz,zs->ns", linear.slopes, moves)
        return SmoothingSolved(linear.hidden + moves, left, linear.slopes, linear.log_scale)

    def _settle(self, theta: Floats, linear: SmoothingSolved, moves: Floats, enough: float) -> None:
        """Take steps from what is ``linear`` in the hidden values only near by, for each set until
        the next of the ``moves`` gains too little to be checked; both are changed in place.
        """
        length = np.ones(theta.shape[1])
        for _ in range(ROUNDS):
            before = _sums(linear.scaled)
            gain = before - _sums(linear.scaled + np.einsum("snz,zs->ns", linear.slopes, moves))
            going = np.flatnonzero(gain > enough * before)
            if not len(going):
                break
            step = length[going] * np.clip(moves[:, going], -5.0, 5.0)
            tried = self._linear(theta[:, going], linear.hidden[:, going] + step)
            better = _sums(tried.scaled) < before[going]
            length[going] = np.where(better, np.minimum(2 * length[going], 1.0), length[going] / 4)
            taken = going[better]
            linear.hidden[:, taken] = tried.hidden[:, better]
            linear.scaled[:, taken] = tried.scaled[:, better]
            linear.slopes[taken] = tried.slopes[better]
            linear.log_scale[taken] = tried.log_scale[better]
            moves[:, going] = _least_squares_moves(linear.of(going))
        else:
            moves[:, going] = 0.0  # of sets that are not settled, a move is no more than a guess

    def _linear(self, theta: Floats, hidden: Floats) -> SmoothingSolved:
        """Return the errors with hidden values ``(hidden, sets)`` and their slopes there."""
        step = STEP if self.form.multiplicative else 1.0
        around = np.concatenate([np.zeros((self.hidden, 1)), step * np.eye(self.hidden)], axis=1)
        with np.errstate(all="ignore"):
            filtered = self.filtered(theta, hidden[:, :, None] + around[:, None])
            scaled = filtered.errors * np.exp(filtered.log_scale)
        scaled = np.where(np.isfinite(scaled), scaled, FAILED * self.unit)
        slopes = (scaled[..., 1:] - scaled[..., :1]) / step
        return SmoothingSolved(
            hidden.copy(), scaled[..., 0], slopes.transpose(1, 0, 2), filtered.log_scale[:, 0]
        )

    def gaps(self, smoothing_solved: SmoothingSolved) -> Floats:
        """Return the log determinants ``(sets,)`` by which missing values take from the likelihood,
        twice: of the precision of their shocks, where a shock's own is 1.
        """
        begin = self.form.first_states
        if self.hidden == begin:
            return np.zeros(len(smoothing_solved.slopes))
        of_shocks = smoothing_solved.crossed[:, begin:, begin:]
        unit = 2 * (smoothing_solved.log_scale + math.log(self._shock_unit))
        return np.asarray(np.linalg.slogdet(of_shocks)[1] - (self.hidden - begin) * unit)

    def likely(self, smoothing_solved: SmoothingSolved) -> Floats:
        """Return the errors ``(values, sets)`` on the scale on which their sum of squares is least
        where the likelihood is greatest.
        """
        return np.asarray(
            smoothing_solved.scaled * np.exp(self.gaps(smoothing_solved) / (2 * self.count))
        )

    def start(self) -> Floats:
        """Return first states to begin from: a season by means, a level and a trend by a straight
        line through two seasons.
        """
        form = self.form
        filled = np.interp(
            np.arange(len(self.series)), np.flatnonzero(self.known), self.series[self.known]
        )
        span = min(len(filled), max(2 * form.season, 10))
        slope, level = np.polyfit(np.arange(span), filled[:span], 1)
        line = level + slope * np.arange(span)
        first = [(level - slope if form.trend else float(filled[:span].mean())) / self.unit]
        first += [slope / self.unit] * form.trend
        if form.season:
            gaps = (
                filled[:span] / line if form.multiplicative else (filled[:span] - line) / self.unit
            )
            means = np.array([gaps[i :: form.season].mean() for i in range(form.season)])
            means = (
                np.log(np.maximum(means, 0.05)) - np.log(max(means[-1], 0.05))
                if form.multiplicative
                else means - means.mean()
            )
            first += means[:-1].tolist()
        return np.array(first + [0.0] * (self.hidden - form.first_states), dtype=np.float64)

    def best(self, near: Found | None = None) -> Found:
        """Return the maximum of the likelihood, the best of what several starts reach, or what one
        reaches that is given.
        """
        hidden = self.start()
        if near is not None:
            shared = min(len(hidden), len(near.hidden))
            hidden[:shared] = near.hidden[:shared]
            return self.descended(near.theta[:, None], hidden[:, None])
        starts = np.array(list(product(*(STARTS[name] for name in self.form.weights)))).T
        solved = self.solved_in_parts(starts, hidden)
        squares = np.concatenate([_sums(self.likely(part)) for part in solved])
        hiddens = np.concatenate([part.hidden for part in solved], axis=1)
        kept = np.argsort(squares, kind="stable")[: KEPT * (1 + int(self.form.trend))]
        return self.descended(starts[:, kept], hiddens[:, kept])

    def descended(self, theta: Floats, hidden: Floats, fixed: int | None = None) -> Found:
        """Return where the sum of squares is least, sought from starts ``(weights, starts)`` with
        hidden values ``(hidden, starts)``; ``fixed`` is a weight that is held.
        """
        size = len(theta)
        nearest, reached = hidden.copy(), theta.copy()
        rises = np.zeros((*hidden.shape, size))  # of the hidden values with each weight
        steps = STEP * np.concatenate([np.eye(size), -np.eye(size)])

        def risen(values: Floats, starts: int) -> Floats:
            up, down = np.split(values.reshape(len(values), starts, -1), 2, axis=2)
            return np.asarray((up - down) / (2 * STEP))

        def sloped(weights: Floats, places: NDArray[np.int64]) -> tuple[Floats, Floats]:
            change = np.einsum("hsw,ws->hs", rises[:, places], weights - reached[:, places])
            solved = self.solved(weights, nearest[:, places] + change)
            around = (weights.T[:, None] + steps).reshape(-1, size).T
            beside = self.solved(around, np.repeat(solved.hidden, len(steps), axis=1), nearby=True)
            nearest[:, places], reached[:, places] = solved.hidden, weights
            rises[:, places] = risen(beside.hidden, len(places))
            return self.likely(solved), risen(self.likely(beside), len(places)).transpose(1, 0, 2)

        held = np.arange(size) == fixed
        begin = np.where(held[:, None], theta, np.clip(theta, INSIDE, 1 - INSIDE))
        least = descend(sloped, begin, 0.0, 1.0, held=held)
        best = slice(least.best, least.best + 1)
        theta = np.where(least.theta[:, best] < AT_END / 1e3, 0.0, least.theta[:, best])
        theta = np.where(theta > 1 - AT_END / 1e3, 1.0, theta)
        at = self.solved(theta, nearest[:, best])
        return Found(theta[:, 0], at.hidden[:, 0], float(_sums(self.likely(at))[0]))

    def solved_in_parts(self, theta: Floats, hidden: Floats) -> list[SmoothingSolved]:
        """Return what is nearly best with many sets of weights, in parts that memory can hold."""
        numbers = len(self.series) * (self.hidden + 1)
        return [
            self.solved(theta[:, sets], hidden[:, None], enough=NEARLY)
            for sets in _parts(theta.shape[1], max(AT_ONCE // numbers, 1))
        ]

    def log_likelihood(self, optimum: Found) -> float:
        """Return the log likelihood of the values, with the sd that is likeliest."""
        return -0.5 * self.count * (math.log(2 * math.pi * optimum.squares / self.count) + 1)

    def is_exact(self, optimum: Found) -> bool:
        """Whether nothing but rounding is left of the errors."""
        size = float(np.nanmean(np.abs(self.series))) if self.form.multiplicative else self.unit
        return math.sqrt(optimum.squares / self.count) <= EXACT * size

    def at(self, theta: Floats, hidden: Floats) -> FilteredStates:
        """Return errors and last states of sets of parameters, one column each."""
        return self.filtered(theta, hidden[:, :, None])

    def sd(self, optimum: Found) -> float:
        """Return the sd of a shock, the squares over what the parameters leave of the values."""
        errors = self.at(optimum.theta[:, None], optimum.hidden[:, None]).errors
        return math.sqrt(float((errors**2).sum()) / (self.count - self.form.size))

    def errors_of(self, optimum: Found) -> Floats:
        """Return the errors ``(values,)`` in the unit of ``sd``; NaN where a value is missing."""
        errors = self.at(optimum.theta[:, None], optimum.hidden[:, None]).errors[:, 0, 0]
        return np.where(self.known, errors, np.nan)

    def named(self, theta: Floats, states: Floats) -> dict[str, Floats]:
        """Return weights ``(sets,)`` and last states ``(sets,)``, the season ``(periods, sets)``,
        by name.
        """
        begin = 1 + int(self.form.trend)
        parameters = {**self.weights(theta), "level": states[0]}
        parameters["trend"] = states[1] if self.form.trend else np.zeros_like(states[0])
        return {**parameters, "season": states[begin:]} if self.form.season else parameters

    def covariance(self, optimum: Found) -> Floats:
        """Return the covariance of the weights on the scale of the search, by the slopes of the
        errors; bounded by the spread of an unknown weight.
        """
        size = len(optimum.theta)
        steps = 1e-4 * np.where(optimum.theta > 0.5, -1.0, 1.0)
        joined = np.concatenate([np.zeros((size, 1)), np.diag(steps)], axis=1)
        around = self.solved(optimum.theta[:, None] + joined, optimum.hidden[:, None], nearby=True)
        scaled = self.likely(around)
        slopes = (scaled[:, 1:] - scaled[:, :1]) / steps
        variance = optimum.squares / (self.count - self.form.size)
        bend = slopes.T @ slopes / variance
        return np.asarray(np.linalg.inv(bend + 12 * np.eye(size)), dtype=np.float64)

    def at_bound(self, theta: Floats) -> dict[str, str]:
        """Return the weights that lie at an end, with what it means."""
        return {
            name: "at an end of its range"
            for name, value in zip(self.form.weights, theta.tolist(), strict=True)
            if not AT_END < value < 1 - AT_END
        }


@dataclass(frozen=True)
class AnyWeights:
    """Weights from 0 to 1, all alike before any data are seen."""

    size: int

    def draws(self, generator: np.random.Generator, count: int) -> Floats:
        """Return draws ``(weights, count)``."""
        return generator.random((self.size, count))

    def logs(self, thetas: Floats) -> Floats:
        """Return the logs of their density ``(count,)``."""
        return np.where(_in_range(thetas), 0.0, -np.inf)


def _in_range(thetas: Floats) -> NDArray[np.bool_]:
    """Return which sets of weights lie within their range."""
    return np.asarray(((thetas > 0) & (thetas < 1)).all(axis=0))


@dataclass(frozen=True)
class TriedStart:
    """Sets of weights ``(weights, sets)``, the hidden values that are best with each ``(hidden,
    sets)``, the products of their slopes, and for each set the sum of its squared errors, the
    squares that the likelihood goes by, and the log of its weight as a draw.
    """

    thetas: Floats
    hidden: Floats
    crossed: Floats
    sums: Floats
    squares: Floats
    logs: Floats


@dataclass(frozen=True)
class OpenSmoothing:
    """Draws of states and weights as the series leaves them open, and intervals; worked out when
    they are first asked for.
    """

    likelihood: SmoothingLikelihood
    found: Found

    @cached_property
    def _tried(self) -> TriedStart:
        """Sets of weights with what is best beside them, and how likely each is.

        They are proposed around the best and over all of their range, as many from each.
        """
        model, size = self.likelihood, len(self.found.theta)
        parts: list[SmoothingSolved] = []

        def posterior(thetas: Floats) -> Floats:
            inside, logs = _in_range(thetas), np.full(thetas.shape[1], -np.inf)
            if inside.any():
                solved = model.solved_in_parts(thetas[:, inside], self.found.hidden)
                parts.extend(solved)
                logs[inside] = np.concatenate([self._posterior(part) for part in solved])
            return logs

        numbers = len(model.series) * (model.hidden + 1)
        count = int(np.clip(WORK // numbers, FEWEST_PROPOSALS, PROPOSALS)) // 2
        spread = model.covariance(self.found)
        sources: list[Prior] = [Around(self.found.theta, spread), AnyWeights(size)]
        generator = stream(0, "smoothing weights", 0)
        thetas, logs = adapted(posterior, sources, spread, generator, count, FEWEST_EFFECTIVE)
        inside = _in_range(thetas)
        return TriedStart(
            thetas[:, inside],
            np.concatenate([part.hidden for part in parts], axis=1),
            np.concatenate([part.crossed for part in parts]),
            np.concatenate([_sums(part.scaled) for part in parts]),
            np.concatenate([_sums(model.likely(part)) for part in parts]),
            logs[inside],
        )

    def _posterior(self, solved: SmoothingSolved) -> Floats:
        """Return how likely sets of weights are, in logs, when the first states and the sd are
        integrated out, with all weights alike before any data are seen.
        """
        model = self.likelihood
        precision = np.linalg.slogdet(solved.crossed)[1]
        precision -= 2 * (model.hidden - model.form.first_states) * solved.log_scale
        return np.asarray(-0.5 * model.left * np.log(_sums(solved.scaled)) - 0.5 * precision)

    @cached_property
    def draws(self) -> dict[str, Floats]:
        """Weights, sd and last states by name ``(draws,)``.

        Weights are picked from those tried by how likely they are. Source: Rubin, in Bayesian
        Statistics 3 (1988), 395-402.
        """
        model, tried, generator = self.likelihood, self._tried, stream(0, "smoothing", 0)
        picked = likely_places(tried.logs, DRAWS)
        thetas = tried.thetas[:, picked]
        sds = np.sqrt(tried.sums[picked] / generator.chisquare(model.left, DRAWS))
        roots = np.linalg.cholesky(tried.crossed[picked]).transpose(0, 2, 1)
        normals = generator.standard_normal((DRAWS, model.hidden, 1))
        around = np.linalg.solve(roots, normals)[..., 0].T
        ends = model.at(thetas, tried.hidden[:, picked] + sds * around)
        named = model.named(thetas, ends.states[:, :, 0])
        return {**named, "sd": sds * np.exp(-ends.log_scale[:, 0])}

    @cached_property
    def errors(self) -> dict[str, float]:
        """Standard errors of the weights and the sd: how far the draws are from the estimate;
        infinite for a weight at an end.
        """
        model, result = self.likelihood, self.found
        best = {name: float(value) for name, value in model.weights(result.theta).items()}
        best["sd"] = model.sd(result)
        by_name = {
            name: math.sqrt(float(((self.draws[name] - value) ** 2).mean()))
            for name, value in best.items()
        }
        return by_name | dict.fromkeys(model.at_bound(result.theta), math.inf)

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """95 % intervals of the sd, by its draws, and of the weights: by theirs and by what the
        profile likelihood allows, whichever goes further, since few values may leave a likelihood
        with two peaks.
        """
        model, tried = self.likelihood, self._tried
        allowed = self._lost(tried.squares) < REJECTED
        by_name = {"sd": likely_interval(self.draws["sd"], np.empty(0))}
        own, result = model.weights(tried.thetas), model.weights(self.found.theta)
        for position, name in enumerate(model.form.weights):
            low, high = likely_interval(
                self.draws[name], np.append(own[name][allowed], result[name])
            )
            least, most = RANGES.get(name, (0.0, high))
            by_name[name] = (
                least if self._allows(position, 0.0) else low,
                most if self._allows(position, 1.0) else high,
            )
        return by_name

    def _allows(self, position: int, end: float) -> bool:
        """Whether the profile likelihood allows a weight to lie at an end of its range."""
        theta = self.found.theta.copy()
        theta[position] = end
        hidden = self.found.hidden[:, None]
        there = self.likelihood.descended(theta[:, None], hidden, fixed=position)
        return bool(self._lost(np.array(there.squares)) < REJECTED)

    def _lost(self, squares: Floats) -> Floats:
        """Return by how much log likelihoods are below the greatest."""
        return 0.5 * self.likelihood.left * np.log(squares / self.found.squares)


def _parts(count: int, size: int) -> Iterator[slice]:
    """Return slices of at most ``size`` that make up ``count``."""
    return (slice(begin, min(begin + size, count)) for begin in range(0, count, size))


def _sums(errors: Floats) -> Floats:
    """Return the sums of squares ``(sets,)`` of errors ``(values, sets)``."""
    return np.asarray((errors**2).sum(axis=0))


def _least_squares_moves(smoothing_solved: SmoothingSolved) -> Floats:
    """Return by how much hidden values ``(hidden, sets)`` have to move to where errors that
    are linear in them are least.
    """
    pull = np.einsum("snz,ns->sz", smoothing_solved.slopes, smoothing_solved.scaled)
    crossed = smoothing_solved.crossed
    trace = np.trace(crossed, axis1=1, axis2=2)[:, None, None]
    ridge = 1e-13 * trace + (trace == 0)
    whole = crossed + ridge * np.eye(crossed.shape[1])
    return np.asarray(-np.linalg.solve(whole, pull[..., None])[..., 0].T)
