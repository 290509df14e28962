"""Fitting exponential smoothing: its errors for many sets of parameters at once, and their least
squares.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import expit, logit
from kindynos.sampling.streams import stream

# beyond them a damped trend is none, or one without damping
LEAST_DAMPING, MOST_DAMPING = (0.8, 0.995)
STEP = 1e-5  # of a difference
MOST_STEPS = 25
LENGTHS = 10.0 ** np.arange(-2, 5)  # of the damping of a step, all tried at once
ENOUGH = 1e-5  # relative gain of the sum of squares
DRAWS = 150
EXACT = 1e-10  # sd of errors that are rounding
PRIOR_SD = 2.0  # sd of a weight on its scale, before any data are seen
FAR = 6.5  # on that scale: a weight of 0.001 or 0.999
Errors = tuple[Floats, Floats]


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
    def weights(self) -> int:
        """The number of weights that are searched for on a scale of their own."""
        return 1 + int(self.trend) + int(self.damped) + int(self.season > 0)

    @property
    def size(self) -> int:
        """The number of parameters: weights and first states."""
        return self.weights + 1 + int(self.trend) + max(self.season - 1, 0)


@dataclass(frozen=True)
class Found:
    """Parameters with the least squares, and the slopes of the errors there ``(values,
    parameters)``.
    """

    theta: Floats
    slopes: Floats


@dataclass(frozen=True)
class SmoothingLikelihood:
    """The errors of a series ``(values,)``, NaN where one is missing, one period ahead.

    States are measured in units of the sd of the first two seasons, which a longer series shares.

    Parameters are columns ``(parameters, columns)``: the weights on the scale of log odds, the
    trend's as a share of the level's and the season's as a share of what that leaves; the first
    level and trend; the first season but for its last period, which makes the season's sum 0 or its
    mean 1.
    """

    series: Floats
    form: Form

    @cached_property
    def unit(self) -> float:
        """The unit of states, so that 1 is a large change."""
        first = self.series[: max(2 * self.form.season, 10)]
        known = first[~np.isnan(first)]
        return (
            float(known.std())
            if len(known) > 1 and np.ptp(known) > 0
            else float(np.nanstd(self.series))
        )

    def weights(self, theta: Floats) -> dict[str, Floats]:
        """Return the weights by name."""
        form, place = self.form, 1
        answer = {"level_weight": expit(theta[0])}
        if form.trend:
            answer["trend_weight"] = answer["level_weight"] * expit(theta[place])
            place += 1
        if form.damped:
            answer["damping"] = LEAST_DAMPING + (MOST_DAMPING - LEAST_DAMPING) * expit(theta[place])
            place += 1
        if form.season:
            answer["season_weight"] = (1 - answer["level_weight"]) * expit(theta[place])
        return answer

    def _first(self, theta: Floats) -> tuple[Floats, Floats, list[Floats]]:
        form, place = self.form, self.form.weights
        level = self.unit * theta[place]
        trend = self.unit * theta[place + 1] if form.trend else np.zeros_like(level)
        place += 1 + int(form.trend)
        free = theta[place:]
        if not form.season:
            return level, trend, []
        if form.multiplicative:
            shares = np.exp(np.concatenate([free, np.zeros((1, free.shape[1]))]))
            return level, trend, list(shares / shares.mean(axis=0))
        season = self.unit * free
        return level, trend, [*season, -season.sum(axis=0)]

    def run(self, theta: Floats) -> tuple[Floats, Floats, Floats, Floats, list[Floats]]:
        """Return errors and forecasts ``(values, columns)``, and the last level, trend and season,
        the next period first.
        """
        form, w = self.form, self.weights(theta)
        level, trend, season = self._first(theta)
        errors, forecasts = np.empty((2, len(self.series), theta.shape[1]))
        damping = w.get("damping", np.ones(theta.shape[1])) if form.trend else np.ones(1)
        slope, seasonal = w.get("trend_weight", 0.0), w.get("season_weight", 0.0)
        for t, seen in enumerate(self.series.tolist()):
            base = level + damping * trend if form.trend else level
            place = t % form.season if form.season else 0
            turn = season[place] if form.season else float(form.multiplicative)
            forecast = base * turn if form.multiplicative else base + turn
            if math.isnan(seen):
                error = np.zeros_like(base)
            else:
                error = (seen - forecast) / forecast if form.multiplicative else seen - forecast
            size = base * error if form.multiplicative else error
            level = base + w["level_weight"] * size
            if form.trend:
                trend = damping * trend + slope * size
            if form.season:
                season[place] = (
                    season[place] * (1 + seasonal * error)
                    if form.multiplicative
                    else season[place] + seasonal * error
                )
            errors[t], forecasts[t] = error, forecast
        last = len(self.series) % form.season if form.season else 0
        return errors, forecasts, level, trend, season[last:] + season[:last]

    @cached_property
    def known(self) -> Floats:
        """Which values are known."""
        return np.asarray(~np.isnan(self.series))

    def scaled(self, theta: Floats) -> Floats:
        """Return the errors whose least squares is the maximum of the likelihood: relative ones
        times the mean forecast.
        """
        with np.errstate(all="ignore"):
            errors, forecasts, *_ = self.run(theta)
            errors = errors[self.known]
            if self.form.multiplicative:
                inside = np.where(forecasts[self.known] > 0, forecasts[self.known], np.nan)
                errors = errors * np.exp(np.log(inside).mean(axis=0))
        return np.where(np.isfinite(errors), errors, 1e6 * self.unit)

    def start(self) -> Floats:
        """Return parameters to begin from: a season by means, a level and a trend by a straight
        line through two seasons.
        """
        form = self.form
        filled = np.interp(
            np.arange(len(self.series)), np.flatnonzero(self.known), self.series[self.known]
        )
        span = min(len(filled), max(2 * form.season, 10))
        slope, level = np.polyfit(np.arange(span), filled[:span], 1)
        line = level + slope * np.arange(span)
        theta: list[Any] = (
            [logit(0.3)]
            + [logit(0.1)] * form.trend
            + [logit(0.8)] * form.damped
            + [logit(0.1)] * (form.season > 0)
        )
        theta += [(level - slope if form.trend else float(filled[:span].mean())) / self.unit]
        theta += [slope / self.unit] * form.trend
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
            theta += means[:-1].tolist()
        return np.array(theta, dtype=np.float64)

    def best(self, start: Floats | None = None) -> Found:
        """Return the least squares, the better of what two starts reach, or what one reaches that
        is given.
        """
        if start is not None:
            return self._descended(start[None])
        first = self.start()
        second = first.copy()
        second[0] = logit(0.85)
        return self._descended(np.stack([first, second]))

    def _descended(self, thetas: Floats) -> Found:
        """Return where the method of Levenberg and Marquardt ends, from starts ``(starts,
        parameters)`` side by side.

        Source: Nocedal and Wright, Numerical Optimization (2006), section 10.3.
        """
        thetas, size = thetas.copy(), self.form.size
        around = np.concatenate([np.zeros((size, 1)), STEP * np.eye(size)], axis=1)
        damping, sums = np.full(len(thetas), 1e-3), np.full(len(thetas), np.inf)
        slopes: list[Floats] = []
        for _ in range(MOST_STEPS):
            found = self.scaled(
                np.concatenate([theta[:, None] + around for theta in thetas], axis=1)
            )
            parts = np.split(found, len(thetas), axis=1)
            slopes = [(part[:, 1:] - part[:, :1]) / STEP for part in parts]
            before = np.array([float(part[:, 0] @ part[:, 0]) for part in parts])
            tried = [
                self._steps(theta, slope, part[:, 0], own)
                for theta, slope, part, own in zip(thetas, slopes, parts, damping, strict=True)
            ]
            after = (
                (self.scaled(np.concatenate(tried, axis=1)) ** 2)
                .sum(axis=0)
                .reshape(len(thetas), -1)
            )
            best = after.argmin(axis=1)
            sums = np.minimum(after.min(axis=1), before)
            better = sums < before * (1 - ENOUGH)
            if not better.any():
                break
            for place in np.flatnonzero(better):
                thetas[place] = tried[place][:, best[place]]
                damping[place] = max(damping[place] * LENGTHS[best[place]] / 10, 1e-9)
        first = int(np.argmin(sums))
        return Found(thetas[first], slopes[first])

    def _steps(self, theta: Floats, slopes: Floats, errors: Floats, damping: float) -> Floats:
        square, pull = slopes.T @ slopes, slopes.T @ errors
        scale = np.diag(np.diag(square) + 1e-9 * max(float(np.trace(square)), 1e-300))
        steps = [np.linalg.solve(square + damping * k * scale, -pull) for k in LENGTHS]
        tried = theta[:, None] + np.clip(np.stack(steps, axis=1), -2.0, 2.0)
        tried[: self.form.weights] = np.clip(tried[: self.form.weights], -FAR - 1, FAR + 1)
        return np.asarray(tried)

    def is_exact(self, theta: Floats) -> bool:
        """Whether nothing but rounding is left of the errors."""
        return bool(
            self.sd(theta[:, None])[0] <= EXACT * (1.0 if self.form.multiplicative else self.unit)
        )

    def sd(self, theta: Floats) -> Floats:
        """Return the sd of the errors ``(columns,)`` that is likeliest."""
        errors = self.run(theta)[0][self.known]
        return np.asarray(np.sqrt((errors**2).mean(axis=0)))

    def errors_of(self, theta: Floats) -> Floats:
        """Return the errors ``(values,)`` at one set of parameters; NaN where a value is
        missing.
        """
        return np.where(self.known, self.run(theta[:, None])[0][:, 0], np.nan)

    def log_likelihood(self, theta: Floats) -> float:
        """Return the log likelihood of the values at one set of parameters, with the best sd."""
        errors, forecasts, *_ = self.run(theta[:, None])
        count = int(self.known.sum())
        variance = float((errors[self.known] ** 2).mean())
        value = -0.5 * count * (math.log(2 * math.pi * variance) + 1)
        return (
            value - float(np.log(forecasts[self.known]).sum())
            if self.form.multiplicative
            else value
        )

    def states(self, theta: Floats) -> dict[str, Floats]:
        """Return weights, sd and last states by name, ``(columns,)``, the season ``(periods,
        columns)``.
        """
        errors, _, level, trend, season = self.run(theta)
        sd = np.sqrt((errors[self.known] ** 2).mean(axis=0))
        answer = {**self.weights(theta), "level": level, "trend": trend, "sd": sd}
        return {**answer, "season": np.array(season)} if season else answer

    def covariance(self, found: Found) -> Floats:
        """Return the covariance of the parameters; weights that the series tells nothing of keep
        their usual spread.
        """
        count = int(self.known.sum())
        variance = float((self.scaled(found.theta[:, None]) ** 2).sum()) / count
        bend = found.slopes.T @ found.slopes / variance
        prior_sd = np.full(self.form.size, 1e-6)
        prior_sd[: self.form.weights] = 1 / PRIOR_SD**2
        return np.asarray(np.linalg.inv(bend + np.diag(prior_sd)), dtype=np.float64)

    def errors(self, found: Found) -> dict[str, float]:
        """Return standard errors of the weights and the sd; infinite for a weight at an end."""
        covariance, size = self.covariance(found), self.form.size
        moved = found.theta[:, None] + np.concatenate(
            [1e-5 * np.eye(size), -1e-5 * np.eye(size)], axis=1
        )
        ends = self.at_bound(found.theta)
        answer = {}
        for name, values in self.weights(moved).items():
            slope = (values[:size] - values[size:]) / 2e-5
            answer[name] = (
                math.inf if name in ends else math.sqrt(float(slope @ covariance @ slope))
            )
        count = int(self.known.sum())
        return {**answer, "sd": float(self.sd(found.theta[:, None])[0]) / math.sqrt(2 * count)}

    def at_bound(self, theta: Floats) -> dict[str, str]:
        """Return the weights that lie at an end, with what it means."""
        names = list(self.weights(theta[:, None]))
        return {
            name: "at an end of its range" for i, name in enumerate(names) if abs(theta[i]) > FAR
        }


@dataclass(frozen=True)
class OpenSmoothing:
    """Draws of states and weights as the series leaves them open; worked out when they are first
    asked for.
    """

    likelihood: SmoothingLikelihood
    found: Found

    @cached_property
    def draws(self) -> dict[str, Floats]:
        """Weights, sd and last states by name ``(draws,)``, normal around the best and picked by
        their likelihood.
        """
        model = self.likelihood
        generator = stream(0, "smoothing", 0)
        values, vectors = np.linalg.eigh(model.covariance(self.found))
        normals = generator.standard_normal((model.form.size, 2 * DRAWS))
        theta = self.found.theta[:, None] + (vectors * np.sqrt(np.maximum(values, 0))) @ normals
        left = max(int(model.known.sum()) - model.form.size, 1)
        sums = (model.scaled(theta) ** 2).sum(axis=0)
        logs = -0.5 * left * np.log(sums) + 0.5 * (normals**2).sum(axis=0)
        logs -= (
            0.5
            * ((theta - self.found.theta[:, None])[: model.form.weights] ** 2).sum(axis=0)
            / PRIOR_SD**2
        )
        shares = np.cumsum(np.exp(logs - logs.max()))
        place = np.searchsorted(shares, (np.arange(DRAWS) + 0.5) / DRAWS * shares[-1])
        answer = model.states(theta[:, np.minimum(place, 2 * DRAWS - 1)])
        answer["sd"] = answer["sd"] * np.sqrt(
            int(model.known.sum()) / generator.chisquare(left, DRAWS)
        )
        return answer
