"""A price that jumps now and then."""

from __future__ import annotations

import math
from dataclasses import dataclass
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.special import gammaln, ndtr, ndtri, pdtr, xlogy
from kindynos.processes.base import Process, accumulate, observed
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.likelihood import likelihood_optimum, lowest, picked, resampled
from kindynos.validate import array_of, checked, checked_init, finite, positive
from kindynos.validate import volatility as a_volatility

MOST_JUMPS = 40  # in one period that a likelihood counts
TELLING = 4.0  # log likelihood that three more parameters gain by chance once in 20 samples, nearly


@checked_init
@dataclass(frozen=True)
class JumpDiffusion(Process):
    """A price that moves like geometric Brownian motion and now and then jumps, by a normal log
    return.

    ``rate`` is how many jumps come per unit of time; ``jump_mean`` and ``jump_sd`` are of the log
    return of one jump. The expected price grows as exp(drift t), jumps included.

    Source: Merton, Journal of Financial Economics 3 (1976), 125-144.

    >>> process = JumpDiffusion(100.0, 0.05, 0.2, rate=2.0, jump_mean=-0.1, jump_sd=0.1)
    >>> round(float(process.expected(1.0)), 4)
    105.1271
    """

    start: float
    drift: float
    volatility: float
    rate: float
    jump_mean: float
    jump_sd: float

    continuous = True
    label = "jump diffusion"
    formula = "dS / S = (drift - rate k) dt + volatility dW + jumps, with k the mean relative jump"
    use = "a price with sudden moves, such as fuel"
    shocks = 3  # the diffusion, how many jumps, and their sizes
    rules = {
        "start": positive,
        "drift": finite,
        "volatility": a_volatility,
        "rate": positive,
        "jump_mean": finite,
        "jump_sd": a_volatility,
    }

    def _logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps, counts = shocks[0], poisson_quantile(ndtr(shocks[1]), np.asarray(at.rate * dt))
        growth = np.expm1(at.jump_mean + at.jump_sd**2 / 2)
        steps *= at.volatility * math.sqrt(dt)
        steps += (at.drift - at.volatility**2 / 2 - at.rate * growth) * dt
        jumped = counts > 0
        steps += np.where(
            jumped, counts * at.jump_mean + np.sqrt(counts) * at.jump_sd * shocks[2], 0.0
        )
        return accumulate(steps)

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        values = self._logs(shocks, dt, at)
        return np.multiply(np.exp(values, out=values), self.start, out=values)

    @checked
    def expected(self, time: ArrayLike) -> float | Floats:
        with np.errstate(over="ignore", invalid="ignore"):
            return self.start * np.exp(self.drift * array_of("time", time))

    @checked
    def log_variance(self, time: float) -> float:
        """Return the variance of the log of the value after a time."""
        return time * (self.volatility**2 + self.rate * (self.jump_mean**2 + self.jump_sd**2))

    def _bridge(self, shocks: Floats, dt: float) -> Any:
        return self.volatility * math.sqrt(dt)

    @classmethod
    @checked
    def fit(cls, series: ArrayLike, dt: float = 1.0) -> Self:
        """Return the process fitted to prices ``dt`` apart by maximum likelihood, with standard
        errors in ``fitted``.

        Raises ParameterError for prices that cannot be used.
        """
        values, step = observed(series, dt, above_zero=True)
        returns = np.diff(np.log(values))
        mean, sd = float(returns.mean()), float(returns.std())

        def cost(theta: Floats) -> float:
            return -float(
                np.log(np.maximum(_mixture(returns, step, *_natural(theta)), 1e-300)).sum()
            )

        tail = max(float(np.mean(np.abs(returns - mean) > 2.5 * sd)), 0.5 / len(returns))
        starts = [
            [
                mean / step,
                math.log(share * sd / math.sqrt(step)),
                math.log(often / step),
                side * sd,
                math.log(2 * sd),
            ]
            for share, often, side in ((0.8, tail, 0.0), (0.6, 5 * tail, -0.5), (0.9, tail, -1.0))
        ]
        optimum = likelihood_optimum(cost, list(map(float, lowest(cost, starts))))
        gain = _normal_cost(returns) - cost(optimum.theta)
        jumps = "jumps and volatility by maximum likelihood"
        if gain < TELLING:
            jumps += (
                ", and nothing in the series points to jumps "
                f"(they add only {max(gain, 0.0):.1f} to the log likelihood)"
            )
        description = f"the mean of {len(returns)} log returns; {jumps}"
        prior_sd = (sd / math.sqrt(len(returns)) / step, 0.5, 1.5, 3 * sd, 1.0)
        named = _named(optimum.theta)
        fitted = FittedSeries(
            len(returns),
            step,
            optimum.errors(_named),
            (0.0,),
            ((1.0,),),
            description,
            estimated=resampled(cost, optimum, prior_sd),
        )
        return cls(float(values[-1]), **named, fitted=fitted)

    def _named_parameters(self, theta: Floats) -> Any:
        """Return drifts, volatilities, rates and jumps."""
        assert self.fitted is not None
        theta = picked(self.fitted.estimated, theta[0])
        volatility, rate, jump_mean, jump_sd = (
            np.exp(theta[1]),
            np.exp(theta[2]),
            theta[3],
            np.exp(theta[4]),
        )
        drift = theta[0] + volatility**2 / 2 + rate * np.expm1(jump_mean + jump_sd**2 / 2)
        return SimpleNamespace(
            drift=drift, volatility=volatility, rate=rate, jump_mean=jump_mean, jump_sd=jump_sd
        )


def _named(theta: Floats) -> dict[str, float]:
    """Return the parameters of the process from those of the fit."""
    shift, volatility, rate, jump_mean, jump_sd = _natural(theta)
    drift = shift + volatility**2 / 2 + rate * math.expm1(jump_mean + jump_sd**2 / 2)
    return {
        "drift": drift,
        "volatility": volatility,
        "rate": rate,
        "jump_mean": jump_mean,
        "jump_sd": jump_sd,
    }


def _normal_cost(returns: Floats) -> float:
    """Return the negative log likelihood of log returns without jumps."""
    return 0.5 * len(returns) * (math.log(2 * math.pi * float(returns.var())) + 1)


def _natural(theta: Floats) -> tuple[float, float, float, float, float]:
    shift, volatility, rate, jump_mean, jump_sd = map(float, theta)
    return (
        shift,
        math.exp(min(volatility, 50)),
        math.exp(min(rate, 50)),
        jump_mean,
        math.exp(min(jump_sd, 50)),
    )


def _mixture(
    returns: Floats,
    dt: float,
    shift: float,
    volatility: float,
    rate: float,
    jump_mean: float,
    jump_sd: float,
) -> Floats:
    """Return the density of log returns: normal distributions by the number of jumps, weighted by
    its Poisson chance.
    """
    counts = np.arange(int(min(MOST_JUMPS, 4 + 3 * rate * dt)))[:, None]
    weights = np.exp(counts * math.log(max(rate * dt, 1e-300)) - rate * dt - gammaln(counts + 1))
    variance = volatility**2 * dt + counts * jump_sd**2
    gaps = returns - shift * dt - counts * jump_mean
    density: Floats = (
        weights * np.exp(-0.5 * gaps**2 / variance) / np.sqrt(2 * math.pi * variance)
    ).sum(axis=0)
    return density


def poisson_quantile(levels: Floats, mean: Floats) -> Floats:
    """Return the Poisson quantile of levels ``(..., trials)``; the mean is a number or one per
    trial.

    The masses are summed from 9 sds below the mean. Above a mean of 10,000 the normal quantile with
    its corrections for skewness and kurtosis is exact to a hundredth of a count. Source: Cornish
    and Fisher, Revue de l'Institut International de Statistique 5 (1938), 307-320.
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
