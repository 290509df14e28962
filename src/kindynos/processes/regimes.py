"""A price that moves between a calm and a wild regime."""

from __future__ import annotations

import math
from dataclasses import dataclass
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtri
from kindynos.processes.base import Process, accumulate, observed
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.likelihood import likelihood_optimum, picked, resampled
from kindynos.processes.regime_filter import climbed, filtered
from kindynos.validate import (
    array_of,
    check_integer,
    checked,
    checked_init,
    finite,
    invalid_argument,
    positive,
)
from kindynos.validate import volatility as a_volatility


@checked_init
@dataclass(frozen=True)
class RegimeSwitching(Process):
    """A price that moves between two regimes, each with its own drift and volatility, at random
    times.

    ``drifts`` and ``volatilities`` are of regime 0 and 1 per unit of time; ``rates`` are how often,
    per unit of time, each is left; ``first`` is the regime at the start. Within a period the regime
    is that at its beginning.

    Source: Hamilton, Econometrica 57 (1989), 357-384.

    >>> process = RegimeSwitching(
    ...     100.0, drifts=(0.08, -0.1), volatilities=(0.1, 0.35), rates=(1.0, 4.0)
    ... )
    >>> round(process.share_in(1), 2)
    0.2
    """

    start: float
    drifts: tuple[float, float]
    volatilities: tuple[float, float]
    rates: tuple[float, float]
    first: int = 0

    label = "regime switching"
    formula = "dS = drifts[i] S dt + volatilities[i] S dW, with i a chain left at rates[i]"
    use = "a price with calm and wild spells"
    shocks = 2  # the diffusion, and whether the regime is left

    def __post_init__(self) -> None:
        positive("start", self.start)
        for name, rule in (("drifts", finite), ("volatilities", a_volatility), ("rates", positive)):
            pair = getattr(self, name)
            if isinstance(pair, str) or not hasattr(pair, "__len__") or len(pair) != 2:
                raise invalid_argument(name, "a pair, one for each regime", pair)
            object.__setattr__(
                self, name, tuple(rule(f"{name}[{i}]", value) for i, value in enumerate(pair))
            )
        if check_integer("first", self.first) not in (0, 1):
            raise invalid_argument("first", "0 or 1", self.first)
        self._keep_fit()

    @checked
    def share_in(self, regime: int) -> float:
        """Return the share of time spent in a regime in the long run."""
        return self.rates[1 - regime] / sum(self.rates)

    def _leaving(self, dt: float) -> tuple[float, float]:
        """Return the chances that a period in regime 0, or 1, is followed by one in the other."""
        out, back = leaving(self.rates, dt)
        return float(out), float(back)

    def _regimes(self, levels: Floats, dt: float, at: Any) -> NDArray[np.bool_]:
        """Return whether regime 1 rules in each period, ``(periods, trials)``."""
        stay = [-ndtri(chance) for chance in leaving(at.rates, dt)]
        wild = np.empty(levels.shape, dtype=bool)
        now = np.full(levels.shape[1], self.first == 1)
        for t, level in enumerate(levels):
            wild[t] = now
            now = now ^ (level > np.where(now, stay[1], stay[0]))
        return wild

    def _logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps, levels = shocks
        shift = [(d - v**2 / 2) * dt for d, v in zip(at.drifts, at.volatilities, strict=True)]
        spread = [v * math.sqrt(dt) for v in at.volatilities]
        for t, wild in enumerate(self._regimes(levels, dt, at)):
            steps[t] = steps[t] * np.where(wild, spread[1], spread[0]) + np.where(
                wild, shift[1], shift[0]
            )
        return accumulate(steps)

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        values = self._logs(shocks, dt, at)
        return np.multiply(np.exp(values, out=values), self.start, out=values)

    def _bridge(self, shocks: Floats, dt: float) -> Floats:
        wild = self._regimes(shocks[1], dt, self)
        return np.where(wild, self.volatilities[1], self.volatilities[0]) * math.sqrt(dt)

    @checked
    def expected(self, time: ArrayLike) -> float | Floats:
        """Return the expected value, with a regime that may be left at any moment.

        It is start x the sum of a row of exp(time x (Q + D)), with Q the rates at which regimes are
        left and D the drifts.
        """
        from scipy.linalg import expm

        out, back = self.rates
        growth = np.array([[-out, out], [back, -back]]) + np.diag(self.drifts)
        times = array_of("time", time)
        grown: Floats = expm(times[..., None, None] * growth)[..., self.first, :].sum(axis=-1)
        return self.start * grown

    def _expected_values(self, periods: int, dt: float) -> Floats:
        """Return the means in closed form, from the part of the expected value that is in each
        regime.
        """
        leave = self._leaving(dt)
        move = np.diag(np.exp(np.array(self.drifts) * dt)) @ np.array(
            [[1 - leave[0], leave[0]], [leave[1], 1 - leave[1]]]
        )
        parts = [self.start * np.eye(2)[self.first]]
        for _ in range(periods):
            parts.append(parts[-1] @ move)
        return np.asarray(np.sum(parts[1:], axis=1))

    @classmethod
    @checked
    def fit(cls, series: ArrayLike, dt: float = 1.0) -> Self:
        """Return the process fitted to prices ``dt`` apart by maximum likelihood, with standard
        errors in ``fitted``.

        The likelihood is that of Hamilton's filter; its peak is climbed by expectation and
        maximization, from two starts. Regime 0 is the calmer; the start is in the regime that is
        likelier at the end of the series. Raises ParameterError for prices that cannot be used.
        """
        values, step = observed(series, dt, above_zero=True)
        returns = np.diff(np.log(values))

        def cost(theta: Floats) -> float:
            return -filtered(returns, theta)[0]

        theta = climbed(returns)
        optimum = likelihood_optimum(cost, list(map(float, theta)))
        prior_sd = (*(2 * float(returns.std()),) * 2, 0.5, 0.5, 1.5, 1.5)
        named = _named(np.array(theta), step)
        description = f"the mean of {len(returns)} log returns in each regime"
        errors = optimum.errors(lambda at: _named(at, step))
        return cls(
            float(values[-1]),
            (named["drifts[0]"], named["drifts[1]"]),
            (named["volatilities[0]"], named["volatilities[1]"]),
            (named["rates[0]"], named["rates[1]"]),
            int(filtered(returns, np.array(theta))[1] > 0.5),
            fitted=FittedSeries(
                len(returns),
                step,
                errors,
                (0.0,),
                ((1.0,),),
                description,
                estimated=resampled(cost, optimum, prior_sd),
            ),
        )

    def _named_parameters(self, theta: Floats) -> Any:
        """Return drifts, volatilities and rates of both regimes."""
        assert self.fitted is not None
        step, theta = self.fitted.dt, picked(self.fitted.estimated, theta[0])
        volatilities = tuple(np.exp(theta[i]) / math.sqrt(step) for i in (2, 3))
        drifts = tuple(theta[i] / step + v**2 / 2 for i, v in enumerate(volatilities))
        out, back = (1 / (1 + np.exp(-theta[i])) for i in (4, 5))
        total = -np.log1p(-np.minimum(out + back, 1 - 1e-9)) / step
        rates = (total * out / (out + back), total * back / (out + back))
        return SimpleNamespace(drifts=drifts, volatilities=volatilities, rates=rates)


def _named(theta: Floats, step: float) -> dict[str, float]:
    """Return drifts, volatilities and rates from the parameters of the fit: means and log sds of a
    period, and logits of the chances of leaving.
    """
    sds = (math.exp(theta[2]), math.exp(theta[3]))
    leave = [1 / (1 + math.exp(-value)) for value in theta[4:].tolist()]
    total = -math.log1p(-min(sum(leave), 1 - 1e-9)) / step  # at which both together are left
    named = {f"drifts[{i}]": float(theta[i]) / step + sd**2 / step / 2 for i, sd in enumerate(sds)}
    named |= {f"volatilities[{i}]": sd / math.sqrt(step) for i, sd in enumerate(sds)}
    return named | {f"rates[{i}]": total * chance / sum(leave) for i, chance in enumerate(leave)}


def leaving(rates: tuple[Any, Any], dt: float) -> tuple[Any, Any]:
    """Return the chances that a period in regime 0, or 1, is followed by one in the other; rates
    may be one per trial.
    """
    total = rates[0] + rates[1]
    gone = -np.expm1(-total * dt)
    return rates[0] / total * gone, rates[1] / total * gone
