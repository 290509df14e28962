"""Processes driven by one Brownian motion: a price that grows, and a walk that adds."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import LogNormal, Normal
from kindynos.distributions.special import ndtr
from kindynos.finance.drawdowns import deepest_drop
from kindynos.processes.base import Process, accumulate, check_moves, observed
from kindynos.processes.clustering import log_sd_variance
from kindynos.processes.drawing import PathDraws
from kindynos.processes.fitted import FittedSeries
from kindynos.validate import array_of, checked, checked_init, finite, positive
from kindynos.validate import volatility as a_volatility


def reflected(gap: float, drift: float, volatility: float, time: float) -> float:
    """Return the chance that Brownian motion with drift covers a gap, up or down, before a time.

    Source: Karatzas and Shreve, Brownian Motion and Stochastic Calculus (1991), section 3.5.C.
    """
    if gap == 0:
        return 1.0
    side = math.copysign(1.0, gap)
    gap, drift, spread = abs(gap), side * drift, volatility * math.sqrt(time)
    direct = float(ndtr((drift * time - gap) / spread))
    return min(
        direct
        + math.exp(min(2 * drift * gap / volatility**2, 700.0))
        * float(ndtr((-gap - drift * time) / spread)),
        1.0,
    )


@checked_init
@dataclass(frozen=True)
class GeometricBrownianMotion(Process):
    """A price that moves by independent, normal log returns; it stays above 0.

    ``drift`` and ``volatility`` are per unit of time. **The expected price grows as exp(drift t)**;
    the mean of log returns is ``log_drift`` = drift - volatility² / 2, less than the drift, and it
    is the median that grows by it.

    Source: Samuelson, Industrial Management Review 6 (1965), 13-31.

    >>> process = GeometricBrownianMotion(start=100.0, drift=0.05, volatility=0.2)
    >>> round(float(process.expected(1.0)), 4), round(process.log_drift, 4)
    (105.1271, 0.03)
    """

    start: float
    drift: float
    volatility: float
    risk_neutral_rate: float | None = field(default=None, kw_only=True, repr=False, compare=False)

    continuous = True
    label = "geometric brownian motion"
    formula = "dS = drift S dt + volatility S dW"
    use = "a price with steady volatility, such as a share's over a year"
    rules = {"start": positive, "drift": finite, "volatility": a_volatility}

    @property
    def log_drift(self) -> float:
        """The mean of log returns per unit of time."""
        return self.drift - self.volatility**2 / 2

    @checked
    def risk_neutral(self, rate: float, income: float = 0.0) -> Self:
        """Return the process under which prices are valued: it grows by the riskless ``rate``, less
        what holding it pays.

        Both are continuously compounded, per unit of time. Chances under it are not those of the
        real world, in which investors are paid for risk; it serves to value what depends on the
        price. Source: Harrison and Kreps, Journal of Economic Theory 20 (1979), 381-408. Raises
        ParameterError for rates that are not finite.

        >>> process = GeometricBrownianMotion(100.0, drift=0.08, volatility=0.2)
        >>> process.risk_neutral(0.03, income=0.01).drift
        0.02
        """
        growth = round(finite("rate", rate) - finite("income", income), 15)
        made = replace(self, drift=growth, risk_neutral_rate=float(rate), fitted=None)
        if self.fitted is None:
            return made
        (_, _), (_, of_log) = self.fitted.covariance
        description = (
            f"a riskless rate of {100 * rate:.3g} %; volatility from "
            f"{self.fitted.observations} log returns"
        )
        errors = {**self.fitted.standard_errors, "drift": 0.0}
        kept = replace(
            self.fitted,
            standard_errors=errors,
            covariance=((0.0, 0.0), (0.0, of_log)),
            description=description,
            estimated=growth,
            of=None,
        )
        return replace(made, fitted=kept)

    @property
    def basis(self) -> str:
        if self.risk_neutral_rate is None:
            return super().basis
        rate = f"a riskless rate of {100 * self.risk_neutral_rate:.3g} %"
        return (
            f"risk-neutral, at {rate}: the expected price grows by {100 * self.drift:.3g} % "
            "per unit of time"
        )

    def _logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        return self._summed(shocks, dt, at, 0.0)

    def _summed(self, shocks: Floats, dt: float, at: Any, start: float) -> Floats:
        steps: Floats = shocks[0]
        steps *= at.volatility * math.sqrt(dt)
        steps += (at.drift - at.volatility**2 / 2) * dt
        steps[0] += start
        return accumulate(steps)

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps = self._summed(shocks, dt, at, math.log(self.start))
        return np.exp(steps, out=steps)

    def _drawdowns(self, draws: PathDraws, span: slice, block: int, at: Any) -> Floats:
        spread, shift = (
            at.volatility * math.sqrt(draws.dt),
            (at.drift - at.volatility**2 / 2) * draws.dt,
        )
        level = np.zeros(span.stop - span.start)

        def levels() -> Iterator[Floats]:
            for shock in draws.rows(span, block):  # in logs, with no row kept
                np.multiply(shock, spread, out=shock)
                np.add(shock, shift, out=shock)
                np.add(level, shock, out=level)
                yield level

        return deepest_drop(levels(), np.zeros(len(level)), np.subtract)

    @checked
    def expected(self, time: ArrayLike) -> float | Floats:
        with np.errstate(over="ignore", invalid="ignore"):
            return self.start * np.exp(self.drift * array_of("time", time))

    def _closed_form_at(self, time: float) -> Distribution | None:
        return LogNormal.from_log(
            math.log(self.start) + self.log_drift * time, self.volatility * math.sqrt(time)
        )

    def _closed_hit_probability(self, level: float, within: float) -> float | None:
        return reflected(math.log(level / self.start), self.log_drift, self.volatility, within)

    def _bridge(self, shocks: Floats, dt: float) -> Any:
        return self.volatility * math.sqrt(dt)

    @classmethod
    @checked
    def fit(cls, series: ArrayLike, dt: float = 1.0, mean: bool = True) -> Self:
        """Return the process fitted to prices ``dt`` apart, with standard errors in ``fitted``.

        ``mean=False`` drops the mean of the log returns and sets the drift to 0, as a short history
        says little about it. Raises ParameterError for prices that cannot be used.
        """
        values, step = observed(series, dt, above_zero=True)
        returns = np.diff(np.log(values))
        count = len(returns)
        centre = float(returns.mean()) if mean else 0.0
        spread = math.sqrt(float(((returns - centre) ** 2).sum()) / (count - 1 if mean else count))
        volatility = spread / math.sqrt(step)
        check_moves(returns, volatility, "grows by the same share")
        drift = centre / step + volatility**2 / 2 if mean else 0.0
        of_mean = volatility**2 / (count * step) if mean else 0.0
        of_log, clusters = log_sd_variance(returns)
        errors = {
            "drift": math.sqrt(of_mean + volatility**4 * of_log) if mean else 0.0,
            "volatility": volatility * math.sqrt(of_log),
        }
        description = (
            f"the mean of {count} log returns"
            if mean
            else f"no mean: the drift is set to 0; volatility from {count} log returns"
        )
        description += f"; {clusters}, which widens the intervals" if clusters else ""
        covariance = ((of_mean, 0.0), (0.0, of_log))
        fitted = FittedSeries(
            count, step, errors, (centre / step, math.log(volatility)), covariance, description
        )
        return cls(float(values[-1]), drift, volatility, fitted=fitted)

    def _named_parameters(self, theta: Floats) -> Any:
        """Return drifts and volatilities: the mean of log returns is normal, the log of the
        volatility nearly so.
        """
        volatility = np.exp(theta[1])
        assert self.fitted is not None
        estimated = 0.0 if self.fitted.estimated is None else self.fitted.estimated
        drift = (
            theta[0] + volatility**2 / 2
            if self.fitted.covariance[0][0] > 0
            else np.full_like(volatility, estimated)
        )
        return SimpleNamespace(drift=drift, volatility=volatility)


@checked_init
@dataclass(frozen=True)
class RandomWalk(Process):
    """A value that moves by independent normal steps that add up; it may become negative.

    ``drift`` and ``volatility`` are per unit of time, in the units of the value. Source:
    Bachelier's thesis (1900).

    >>> RandomWalk(start=10.0, drift=0.5, volatility=2.0).distribution_at(4.0)
    Normal(mean=12, sd=4)
    """

    start: float
    drift: float
    volatility: float

    continuous = True
    label = "random walk"
    formula = "dX = drift dt + volatility dW"
    use = "a level without limit that moves by amounts, not by shares: a spread, a temperature"
    multiplies = False
    rules = {"start": finite, "drift": finite, "volatility": a_volatility}

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps: Floats = shocks[0]
        steps *= at.volatility * math.sqrt(dt)
        steps += at.drift * dt
        steps[0] += self.start
        return accumulate(steps)

    @checked
    def expected(self, time: ArrayLike) -> float | Floats:
        with np.errstate(over="ignore", invalid="ignore"):
            return self.start + self.drift * array_of("time", time)

    def _closed_form_at(self, time: float) -> Distribution | None:
        return Normal(self.start + self.drift * time, self.volatility * math.sqrt(time))

    def _closed_hit_probability(self, level: float, within: float) -> float | None:
        return reflected(level - self.start, self.drift, self.volatility, within)

    def _bridge(self, shocks: Floats, dt: float) -> Any:
        return self.volatility * math.sqrt(dt)

    @classmethod
    @checked
    def fit(cls, series: ArrayLike, dt: float = 1.0, mean: bool = True) -> Self:
        """Return the process fitted to values ``dt`` apart, with standard errors in ``fitted``.

        ``mean=False`` drops the drift. Raises ParameterError for values that cannot be used.
        """
        values, step = observed(series, dt, above_zero=False)
        changes = np.diff(values)
        count = len(changes)
        centre = float(changes.mean()) if mean else 0.0
        volatility = math.sqrt(
            float(((changes - centre) ** 2).sum()) / (count - 1 if mean else count) / step
        )
        check_moves(changes, volatility, "changes by the same amount")
        of_mean = volatility**2 / (count * step) if mean else 0.0
        of_log, clusters = log_sd_variance(changes)
        errors = {"drift": math.sqrt(of_mean), "volatility": volatility * math.sqrt(of_log)}
        description = (
            f"the mean of {count} changes"
            if mean
            else f"no mean: the drift is set to 0; volatility from {count} changes"
        )
        description += f"; {clusters}, which widens the intervals" if clusters else ""
        theta, covariance = (centre / step, math.log(volatility)), ((of_mean, 0.0), (0.0, of_log))
        return cls(
            float(values[-1]),
            centre / step,
            volatility,
            fitted=FittedSeries(count, step, errors, theta, covariance, description),
        )

    def _named_parameters(self, theta: Floats) -> Any:
        """Return drifts and volatilities."""
        return SimpleNamespace(drift=theta[0], volatility=np.exp(theta[1]))
