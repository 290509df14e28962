"""Prices whose distribution changes suddenly: by jumps, or by moving between a calm and a wild regime."""

from __future__ import annotations

import math
from dataclasses import dataclass
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.special import gammaln, ndtr, ndtri, pdtr, xlogy
from kindynos.processes.base import Fitted, Process, accumulate, observed
from kindynos.processes.likelihood import at_the_peak, lowest
from kindynos.validate import array_of, finite, positive, whole, wrong
from kindynos.validate import volatility as a_volatility

MOST_JUMPS = 40  # in one period that a likelihood counts


@dataclass(frozen=True)
class JumpDiffusion(Process):
    """A price that moves like geometric Brownian motion and now and then jumps, by a normal log return.

    ``rate`` is how many jumps come per unit of time; ``jump_mean`` and ``jump_sd`` are of the log return of one jump. The
    expected price grows as exp(drift t), jumps included.

    Source: Merton, Journal of Financial Economics 3 (1976), 125-144.

    >>> round(float(JumpDiffusion(100.0, 0.05, 0.2, rate=2.0, jump_mean=-0.1, jump_sd=0.1).expected(1.0)), 4)
    105.1271
    """

    start: float
    drift: float
    volatility: float
    rate: float
    jump_mean: float
    jump_sd: float

    label = "jump diffusion"
    use = "a price with sudden moves, such as fuel"
    shocks = 3  # the diffusion, how many jumps, and their sizes
    rules = {
        "start": positive, "drift": finite, "volatility": a_volatility,
        "rate": positive, "jump_mean": finite, "jump_sd": a_volatility,
    }  # fmt: skip

    def logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps, counts = shocks[0], poisson_quantile(ndtr(shocks[1]), np.asarray(at.rate * dt))
        growth = np.expm1(at.jump_mean + at.jump_sd**2 / 2)
        steps *= at.volatility * math.sqrt(dt)
        steps += (at.drift - at.volatility**2 / 2 - at.rate * growth) * dt
        jumped = counts > 0
        steps += np.where(jumped, counts * at.jump_mean + np.sqrt(counts) * at.jump_sd * shocks[2], 0.0)
        return accumulate(steps)

    def evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        values = self.logs(shocks, dt, at)
        return np.multiply(np.exp(values, out=values), self.start, out=values)

    def expected(self, time: ArrayLike) -> Any:
        with np.errstate(over="ignore", invalid="ignore"):
            return self.start * np.exp(self.drift * array_of(type(self).__name__, "time", time))

    def log_variance(self, time: float) -> float:
        """Return the variance of the log of the value after a time."""
        return time * (self.volatility**2 + self.rate * (self.jump_mean**2 + self.jump_sd**2))

    def bridge(self, dt: float) -> float:
        return self.volatility * math.sqrt(dt)

    @classmethod
    def fit(cls, series: ArrayLike, dt: float = 1.0) -> Self:
        """Return the process learned from prices ``dt`` apart by maximum likelihood, with standard errors in ``fitted``.

        Raises ParameterError for prices that cannot be used.
        """
        values, step = observed(f"{cls.__name__}.fit", series, dt, above_zero=True)
        returns = np.diff(np.log(values))
        mean, sd = float(returns.mean()), float(returns.std())

        def cost(theta: Floats) -> float:
            return -float(np.log(np.maximum(_mixture(returns, step, *_natural(theta)), 1e-300)).sum())

        tail = max(float(np.mean(np.abs(returns - mean) > 2.5 * sd)), 0.5 / len(returns))
        starts = [
            [mean / step, math.log(share * sd / math.sqrt(step)), math.log(often / step), side * sd, math.log(2 * sd)]
            for share, often, side in ((0.8, tail, 0.0), (0.6, 5 * tail, -0.5), (0.9, tail, -1.0))
        ]
        theta, covariance = at_the_peak(cost, list(map(float, lowest(cost, starts))))
        shift, volatility, rate, jump_mean, jump_sd = _natural(np.array(theta))
        drift = shift + volatility**2 / 2 + rate * math.expm1(jump_mean + jump_sd**2 / 2)
        deviations = np.sqrt(np.diag(np.array(covariance)))
        errors = dict(
            zip(
                ("log shift", "volatility", "rate", "jump_mean", "jump_sd"),
                deviations * [1, volatility, rate, 1, jump_sd],
                strict=True,
            )
        )
        description = f"the mean of {len(returns)} log returns; jumps and volatility by maximum likelihood"
        fitted = Fitted(len(returns), step, {k: float(v) for k, v in errors.items()}, theta, covariance, description)
        return cls(float(values[-1]), drift, volatility, rate, jump_mean, jump_sd, fitted=fitted)

    def drawn(self, theta: Floats) -> Any:
        """Return drifts, volatilities, rates and jumps."""
        volatility, rate, jump_mean, jump_sd = np.exp(theta[1]), np.exp(theta[2]), theta[3], np.exp(theta[4])
        drift = theta[0] + volatility**2 / 2 + rate * np.expm1(jump_mean + jump_sd**2 / 2)
        return SimpleNamespace(drift=drift, volatility=volatility, rate=rate, jump_mean=jump_mean, jump_sd=jump_sd)


def _natural(theta: Floats) -> tuple[float, float, float, float, float]:
    shift, volatility, rate, jump_mean, jump_sd = map(float, theta)
    return shift, math.exp(min(volatility, 50)), math.exp(min(rate, 50)), jump_mean, math.exp(min(jump_sd, 50))


def _mixture(
    returns: Floats, dt: float, shift: float, volatility: float, rate: float, jump_mean: float, jump_sd: float
) -> Floats:
    """Return the density of log returns: normal distributions by the number of jumps, weighted by its Poisson chance."""
    counts = np.arange(int(min(MOST_JUMPS, 4 + 3 * rate * dt)))[:, None]
    weights = np.exp(counts * math.log(max(rate * dt, 1e-300)) - rate * dt - gammaln(counts + 1))
    variance = volatility**2 * dt + counts * jump_sd**2
    gaps = returns - shift * dt - counts * jump_mean
    density: Floats = (weights * np.exp(-0.5 * gaps**2 / variance) / np.sqrt(2 * math.pi * variance)).sum(axis=0)
    return density


def poisson_quantile(levels: Floats, mean: Floats) -> Floats:
    """Return the Poisson quantile of levels ``(..., trials)``; the mean is a number or one a trial.

    The masses are summed from 9 sds below the mean. Above a mean of 10,000 the normal quantile with its corrections for
    skewness and kurtosis is exact to a hundredth of a count. Source: Cornish and Fisher, Revue de l'Institut International de
    Statistique 5 (1938), 307-320.
    """
    most = float(np.max(mean))
    if most > 10_000:
        z, sd = ndtri(levels), np.sqrt(mean)
        corrected = mean + sd * z + (z**2 - 1) / 6 - (z**3 - z) / (72 * np.maximum(sd, 1.0))
        return np.asarray(np.maximum(np.ceil(corrected - 0.5), 0.0))
    number = np.maximum(np.floor(mean - 9 * np.sqrt(mean)), 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        chance = np.exp(xlogy(number, mean) - mean - gammaln(number + 1))
    total, count = pdtr(number, mean), np.broadcast_to(number, levels.shape).copy()
    left = levels > total
    last = most + 9 * math.sqrt(most) + 40
    while left.any() and np.min(number) < last:
        number = number + 1
        count += left
        chance = chance * mean / number
        total = total + chance
        left = levels > total
    return count


@dataclass(frozen=True)
class RegimeSwitching(Process):
    """A price that moves between two regimes, each with its own drift and volatility, at random times.

    ``drifts`` and ``volatilities`` are of regime 0 and 1 per unit of time; ``rates`` are how often, per unit of time, each is
    left; ``first`` is the regime at the start. Within a period the regime is that at its beginning.

    Source: Hamilton, Econometrica 57 (1989), 357-384.

    >>> process = RegimeSwitching(100.0, drifts=(0.08, -0.1), volatilities=(0.1, 0.35), rates=(1.0, 4.0))
    >>> round(process.share_in(1), 2)
    0.2
    """

    start: float
    drifts: tuple[float, float]
    volatilities: tuple[float, float]
    rates: tuple[float, float]
    first: int = 0

    label = "regime switching"
    use = "a price with calm and wild spells"
    shocks = 2  # the diffusion, and whether the regime is left

    def __post_init__(self) -> None:
        positive("RegimeSwitching", "start", self.start)
        for name, rule in (("drifts", finite), ("volatilities", a_volatility), ("rates", positive)):
            pair = getattr(self, name)
            if isinstance(pair, str) or not hasattr(pair, "__len__") or len(pair) != 2:
                raise wrong("RegimeSwitching", name, "a pair, one for each regime", pair)
            object.__setattr__(
                self, name, tuple(rule("RegimeSwitching", f"{name}[{i}]", value) for i, value in enumerate(pair))
            )
        if whole("RegimeSwitching", "first", self.first) not in (0, 1):
            raise wrong("RegimeSwitching", "first", "0 or 1", self.first)

    def share_in(self, regime: int) -> float:
        """Return the share of time spent in a regime in the long run."""
        return self.rates[1 - regime] / sum(self.rates)

    def _leaving(self, dt: float) -> tuple[float, float]:
        """Return the chances that a period in regime 0, or 1, is followed by one in the other."""
        out, back = leaving(self.rates, dt)
        return float(out), float(back)

    def logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps, levels = shocks
        stay = [-ndtri(chance) for chance in leaving(at.rates, dt)]
        shift = [(d - v**2 / 2) * dt for d, v in zip(at.drifts, at.volatilities, strict=True)]
        spread = [v * math.sqrt(dt) for v in at.volatilities]
        wild = np.full(steps.shape[1], self.first == 1)
        for t, level in enumerate(levels):
            steps[t] = steps[t] * np.where(wild, spread[1], spread[0]) + np.where(wild, shift[1], shift[0])
            wild ^= level > np.where(wild, stay[1], stay[0])
        return accumulate(steps)

    def evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        values = self.logs(shocks, dt, at)
        return np.multiply(np.exp(values, out=values), self.start, out=values)

    def expected_values(self, periods: int, dt: float) -> Floats:
        """Return the means in closed form, from the part of the expected value that is in each regime."""
        leave = self._leaving(dt)
        move = np.diag(np.exp(np.array(self.drifts) * dt)) @ np.array([[1 - leave[0], leave[0]], [leave[1], 1 - leave[1]]])
        parts = [self.start * np.eye(2)[self.first]]
        for _ in range(periods):
            parts.append(parts[-1] @ move)
        return np.asarray(np.sum(parts[1:], axis=1))

    @classmethod
    def fit(cls, series: ArrayLike, dt: float = 1.0) -> Self:
        """Return the process learned from prices ``dt`` apart by maximum likelihood (Hamilton's filter), with standard errors.

        Regime 0 is the calmer; the start is in the regime that is likelier at the end of the series. Raises ParameterError for
        prices that cannot be used.
        """
        values, step = observed(f"{cls.__name__}.fit", series, dt, above_zero=True)
        returns = np.diff(np.log(values))
        mean, sd = float(returns.mean()), float(returns.std())

        def cost(theta: Floats) -> float:
            return -_filtered(returns, theta)[0]

        starts = [[mean, mean, math.log(0.7 * sd), math.log(1.6 * sd), out, back] for out, back in ((-3.0, -2.0), (-2.0, -1.0))]
        best = lowest(cost, starts)
        if best[2] > best[3]:
            best = best[[1, 0, 3, 2, 5, 4]]
        theta, covariance = at_the_peak(cost, list(map(float, best)))
        sds = (math.exp(theta[2]), math.exp(theta[3]))
        leave = tuple(1 / (1 + math.exp(-value)) for value in theta[4:])
        gone = min(sum(leave), 1 - 1e-9)
        total = -math.log1p(-gone) / step
        deviations = np.sqrt(np.diag(np.array(covariance)))
        names = ("log mean 0", "log mean 1", "volatility 0", "volatility 1", "leaving 0", "leaving 1")
        scale = [
            1 / step,
            1 / step,
            sds[0] / step**0.5,
            sds[1] / step**0.5,
            leave[0] * (1 - leave[0]),
            leave[1] * (1 - leave[1]),
        ]
        errors = {name: float(value) for name, value in zip(names, deviations * scale, strict=True)}
        description = f"the mean of {len(returns)} log returns in each regime"
        return cls(
            float(values[-1]),
            (theta[0] / step + sds[0] ** 2 / step / 2, theta[1] / step + sds[1] ** 2 / step / 2),
            (sds[0] / math.sqrt(step), sds[1] / math.sqrt(step)),
            (total * leave[0] / sum(leave), total * leave[1] / sum(leave)),
            int(_filtered(returns, np.array(theta))[1] > 0.5),
            fitted=Fitted(len(returns), step, errors, theta, covariance, description),
        )

    def drawn(self, theta: Floats) -> Any:
        """Return drifts, volatilities and rates of both regimes."""
        assert self.fitted is not None
        step = self.fitted.dt
        volatilities = tuple(np.exp(theta[i]) / math.sqrt(step) for i in (2, 3))
        drifts = tuple(theta[i] / step + v**2 / 2 for i, v in enumerate(volatilities))
        out, back = (1 / (1 + np.exp(-theta[i])) for i in (4, 5))
        total = -np.log1p(-np.minimum(out + back, 1 - 1e-9)) / step
        rates = (total * out / (out + back), total * back / (out + back))
        return SimpleNamespace(drifts=drifts, volatilities=volatilities, rates=rates)


def leaving(rates: tuple[Any, Any], dt: float) -> tuple[Any, Any]:
    """Return the chances that a period in regime 0, or 1, is followed by one in the other; rates may be one a trial."""
    total = rates[0] + rates[1]
    gone = -np.expm1(-total * dt)
    return rates[0] / total * gone, rates[1] / total * gone


def _filtered(returns: Floats, theta: Floats) -> tuple[float, float]:
    """Return the log likelihood of log returns and the chance of regime 1 after the last."""
    centre, sd = theta[:2], np.exp(np.clip(theta[2:4], -50, 50))
    leave = 1 / (1 + np.exp(-np.clip(theta[4:], -30, 30)))
    density = np.exp(-0.5 * ((returns[:, None] - centre) / sd) ** 2) / sd + 1e-300
    wild = float(leave[0] / leave.sum())
    out, back, logs = float(leave[0]), float(leave[1]), 0.0
    for calm_density, wild_density in density.tolist():
        both = (1 - wild) * calm_density + wild * wild_density
        logs += math.log(both)
        wild = wild * wild_density / both
        wild = wild * (1 - back) + (1 - wild) * out
    return logs - 0.9189385332046727 * len(returns), wild
