"""Processes driven by one Brownian motion: a price that grows, a walk that adds, and one that returns to its level."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import LogNormal, Normal
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.finance.drawdowns import deepest_drop
from kindynos.processes.base import Fitted, Process, accumulate, observed
from kindynos.processes.drawing import Draws
from kindynos.processes.likelihood import at_the_peak
from kindynos.validate import array_of, finite, positive
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
        direct + math.exp(min(2 * drift * gap / volatility**2, 700.0)) * float(ndtr((-gap - drift * time) / spread)), 1.0
    )


@dataclass(frozen=True)
class GeometricBrownianMotion(Process):
    """A price that moves by independent, normal log returns; it stays above 0.

    ``drift`` and ``volatility`` are per unit of time. **The expected price grows as exp(drift t)**; the mean of log returns is
    ``log_drift`` = drift - volatility² / 2, less than the drift, and it is the median that grows by it.

    Source: Samuelson, Industrial Management Review 6 (1965), 13-31.

    >>> process = GeometricBrownianMotion(start=100.0, drift=0.05, volatility=0.2)
    >>> round(float(process.expected(1.0)), 4), round(process.log_drift, 4)
    (105.1271, 0.03)
    """

    start: float
    drift: float
    volatility: float

    label = "geometric brownian motion"
    use = "a price with steady volatility, such as a share's over a year"
    rules = {"start": positive, "drift": finite, "volatility": a_volatility}

    @property
    def log_drift(self) -> float:
        """The mean of log returns per unit of time."""
        return self.drift - self.volatility**2 / 2

    def logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        return self._summed(shocks, dt, at, 0.0)

    def _summed(self, shocks: Floats, dt: float, at: Any, start: float) -> Floats:
        steps: Floats = shocks[0]
        steps *= at.volatility * math.sqrt(dt)
        steps += (at.drift - at.volatility**2 / 2) * dt
        steps[0] += start
        return accumulate(steps)

    def evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps = self._summed(shocks, dt, at, math.log(self.start))
        return np.exp(steps, out=steps)

    def drawdowns(self, draws: Draws, part: slice, block: int, at: Any) -> Floats:
        spread, shift = at.volatility * math.sqrt(draws.dt), (at.drift - at.volatility**2 / 2) * draws.dt
        level = np.zeros(part.stop - part.start)

        def levels() -> Iterator[Floats]:
            for shock in draws.rows(part, block):  # in logs, with no row kept
                np.multiply(shock, spread, out=shock)
                np.add(shock, shift, out=shock)
                np.add(level, shock, out=level)
                yield level

        return deepest_drop(levels(), np.zeros(len(level)), np.subtract)

    def expected(self, time: ArrayLike) -> Any:
        with np.errstate(over="ignore", invalid="ignore"):
            return self.start * np.exp(self.drift * array_of(type(self).__name__, "time", time))

    def closed_form_at(self, time: float) -> Distribution | None:
        return LogNormal.from_log(math.log(self.start) + self.log_drift * time, self.volatility * math.sqrt(time))

    def closed_hit_probability(self, level: float, within: float) -> float | None:
        return reflected(math.log(level / self.start), self.log_drift, self.volatility, within)

    def bridge(self, dt: float) -> float:
        return self.volatility * math.sqrt(dt)

    @classmethod
    def fit(cls, series: ArrayLike, dt: float = 1.0, mean: bool = True) -> Self:
        """Return the process learned from prices ``dt`` apart, with standard errors in ``fitted``.

        ``mean=False`` drops the mean of the log returns and sets the drift to 0, as a short history says little about it.
        Raises ParameterError for prices that cannot be used.
        """
        values, step = observed(f"{cls.__name__}.fit", series, dt, above_zero=True)
        returns = np.diff(np.log(values))
        count = len(returns)
        centre = float(returns.mean()) if mean else 0.0
        spread = math.sqrt(float(((returns - centre) ** 2).sum()) / (count - 1 if mean else count))
        volatility = spread / math.sqrt(step)
        drift = centre / step + volatility**2 / 2 if mean else 0.0
        of_mean, of_log = (volatility**2 / (count * step) if mean else 0.0), 1 / (2 * count)
        errors = {
            "drift": math.sqrt(of_mean + volatility**4 * of_log) if mean else 0.0,
            "volatility": volatility * math.sqrt(of_log),
        }
        description = (
            f"the mean of {count} log returns"
            if mean
            else f"no mean: the drift is set to 0; volatility from {count} log returns"
        )
        covariance = ((of_mean, 0.0), (0.0, of_log))
        fitted = Fitted(count, step, errors, (centre / step, math.log(volatility)), covariance, description)
        return cls(float(values[-1]), drift, volatility, fitted=fitted)

    def drawn(self, theta: Floats) -> Any:
        """Return drifts and volatilities: the mean of log returns is normal, the log of the volatility nearly so."""
        volatility = np.exp(theta[1])
        assert self.fitted is not None
        drift = theta[0] + volatility**2 / 2 if self.fitted.covariance[0][0] > 0 else np.zeros_like(volatility)
        return SimpleNamespace(drift=drift, volatility=volatility)


@dataclass(frozen=True)
class RandomWalk(Process):
    """A value that moves by independent normal steps that add up; it may become negative.

    ``drift`` and ``volatility`` are per unit of time, in the units of the value. Source: Bachelier's thesis (1900).

    >>> RandomWalk(start=10.0, drift=0.5, volatility=2.0).distribution_at(4.0)
    Normal(mean=12, sd=4)
    """

    start: float
    drift: float
    volatility: float

    label = "random walk"
    use = "a level without limit that moves by amounts, not by shares: a spread, a temperature"
    multiplies = False
    rules = {"start": finite, "drift": finite, "volatility": a_volatility}

    def evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        steps: Floats = shocks[0]
        steps *= at.volatility * math.sqrt(dt)
        steps += at.drift * dt
        steps[0] += self.start
        return accumulate(steps)

    def expected(self, time: ArrayLike) -> Any:
        with np.errstate(over="ignore", invalid="ignore"):
            return self.start + self.drift * array_of(type(self).__name__, "time", time)

    def closed_form_at(self, time: float) -> Distribution | None:
        return Normal(self.start + self.drift * time, self.volatility * math.sqrt(time))

    def closed_hit_probability(self, level: float, within: float) -> float | None:
        return reflected(level - self.start, self.drift, self.volatility, within)

    def bridge(self, dt: float) -> float:
        return self.volatility * math.sqrt(dt)

    @classmethod
    def fit(cls, series: ArrayLike, dt: float = 1.0, mean: bool = True) -> Self:
        """Return the process learned from values ``dt`` apart, with standard errors in ``fitted``.

        ``mean=False`` drops the drift. Raises ParameterError for values that cannot be used.
        """
        values, step = observed(f"{cls.__name__}.fit", series, dt, above_zero=False)
        changes = np.diff(values)
        count = len(changes)
        centre = float(changes.mean()) if mean else 0.0
        volatility = math.sqrt(float(((changes - centre) ** 2).sum()) / (count - 1 if mean else count) / step)
        of_mean, of_log = (volatility**2 / (count * step) if mean else 0.0), 1 / (2 * count)
        errors = {"drift": math.sqrt(of_mean), "volatility": volatility * math.sqrt(of_log)}
        description = (
            f"the mean of {count} changes" if mean else f"no mean: the drift is set to 0; volatility from {count} changes"
        )
        theta, covariance = (centre / step, math.log(volatility)), ((of_mean, 0.0), (0.0, of_log))
        return cls(
            float(values[-1]), centre / step, volatility, fitted=Fitted(count, step, errors, theta, covariance, description)
        )

    def drawn(self, theta: Floats) -> Any:
        """Return drifts and volatilities."""
        return SimpleNamespace(drift=theta[0], volatility=np.exp(theta[1]))


@dataclass(frozen=True)
class MeanReverting(Process):
    """A value, or with ``log=True`` its logarithm, that is drawn back to a level.

    ``speed`` is per unit of time: half of a gap is gone after ln 2 / speed. ``volatility`` is per unit of time, of the value
    or of its logarithm. With ``log`` the value stays above 0 and ``level`` is its long-run median. Steps are exact for any
    ``dt``.

    Source: Uhlenbeck and Ornstein, Physical Review 36 (1930), 823-841; Schwartz, Journal of Finance 52 (1997), 923-973.

    >>> round(float(MeanReverting(start=0.14, level=0.16, speed=0.4, volatility=0.03).expected(1.0)), 6)
    0.146594
    """

    start: float
    level: float
    speed: float
    volatility: float
    log: bool = False

    label = "mean reverting"
    use = "a price or rate that returns to a level: energy, interest, a spread"
    rules = {"start": finite, "level": finite, "speed": positive, "volatility": a_volatility}

    def __post_init__(self) -> None:
        super().__post_init__()
        if not isinstance(self.log, bool):
            raise ParameterError(f"log must be True or False, not {self.log!r}", owner="MeanReverting")
        if self.log:
            positive("MeanReverting with log=True", "start", self.start)
            positive("MeanReverting with log=True", "level", self.level)

    @property
    def multiplies(self) -> bool:  # type: ignore[override]
        """Whether it is the logarithm that reverts."""
        return self.log

    @property
    def _scaled(self) -> tuple[float, float]:
        """Start and level on the scale that reverts."""
        return (math.log(self.start), math.log(self.level)) if self.log else (self.start, self.level)

    def evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        gaps: Floats = shocks[0]
        kept = np.exp(-at.speed * dt)
        gaps *= at.volatility * np.sqrt(-np.expm1(-2 * at.speed * dt) / (2 * at.speed))
        level = np.log(at.level) if self.log else at.level
        gaps[0] += (self._scaled[0] - level) * kept
        for t in range(1, len(gaps)):
            gaps[t] += gaps[t - 1] * kept
        gaps += level
        return np.exp(gaps, out=gaps) if self.log else gaps

    def _moments(self, time: Any) -> tuple[Any, Any]:
        """Return mean and variance after a time, on the scale that reverts."""
        start, level = self._scaled
        passed = array_of(type(self).__name__, "time", time)
        mean = level + (start - level) * np.exp(-self.speed * passed)
        return mean, self.volatility**2 * -np.expm1(-2 * self.speed * passed) / (2 * self.speed)

    def expected(self, time: ArrayLike) -> Any:
        mean, variance = self._moments(time)
        return np.exp(mean + variance / 2) if self.log else mean

    def closed_form_at(self, time: float) -> Distribution | None:
        mean, variance = (float(value) for value in self._moments(time))
        return LogNormal.from_log(mean, math.sqrt(variance)) if self.log else Normal(mean, math.sqrt(variance))

    def bridge(self, dt: float) -> float:
        return self.volatility * math.sqrt(dt)

    @classmethod
    def fit(cls, series: ArrayLike, dt: float = 1.0, log: bool = False) -> Self:
        """Return the process learned from values ``dt`` apart by maximum likelihood, with standard errors in ``fitted``.

        Raises ParameterError for values that cannot be used, or that show no return to a level.
        """
        values, step = observed(f"{cls.__name__}.fit", series, dt, above_zero=log)
        x = np.log(values) if log else values
        before, after = x[:-1], x[1:]
        slope, cut = np.polyfit(before, after, 1)
        if not 0 < slope < 1:
            raise ParameterError(
                f"{cls.__name__}.fit: the series shows no return to a level (each value is {slope:.3g} times the one before); "
                f"fit {'GeometricBrownianMotion' if log else 'RandomWalk'}, or give more history"
            )
        speed = -math.log(slope) / step
        level = cut / (1 - slope)
        rest = float(((after - cut - slope * before) ** 2).mean())
        volatility = math.sqrt(rest * 2 * speed / -math.expm1(-2 * speed * step))

        def cost(theta: Floats) -> float:
            pull, spread = math.exp(theta[1]), math.exp(theta[2])
            kept = math.exp(-pull * step)
            variance = spread**2 * -math.expm1(-2 * pull * step) / (2 * pull)
            gaps = after - theta[0] - (before - theta[0]) * kept
            return float(0.5 * len(gaps) * math.log(variance) + 0.5 * (gaps @ gaps) / variance)

        theta, covariance = at_the_peak(cost, [level, math.log(speed), math.log(volatility)])
        sd = np.sqrt(np.diag(covariance))
        middle = math.exp(level) if log else level
        errors = {"level": float(sd[0]) * (middle if log else 1.0), "speed": speed * sd[1], "volatility": volatility * sd[2]}
        description = f"its own level, from {len(after)} steps{' of the logarithm' if log else ''}"
        fitted = Fitted(len(after), step, {k: float(v) for k, v in errors.items()}, theta, covariance, description)
        return cls(float(values[-1]), middle, speed, volatility, log, fitted=fitted)

    def drawn(self, theta: Floats) -> Any:
        """Return levels, speeds and volatilities."""
        level = np.exp(theta[0]) if self.log else theta[0]
        return SimpleNamespace(level=level, speed=np.exp(theta[1]), volatility=np.exp(theta[2]))
