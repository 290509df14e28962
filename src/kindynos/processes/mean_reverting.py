"""A value, or a price, that is drawn back to a level."""

from __future__ import annotations

import math
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
from kindynos.formatting import p_value
from kindynos.inference.intervals import UPPER, Z
from kindynos.processes.base import Process, observed
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.reversion import LEVELS, Reversion, reversion
from kindynos.validate import array_of, checked, checked_init, finite, instance, positive
from kindynos.validate import volatility as a_volatility

LEAST_PULL = 0.1  # over the whole series, of drawn parameters: below it a level could lie anywhere


@checked_init
@dataclass(frozen=True)
class MeanReverting(Process):
    """A value, or with ``log=True`` its logarithm, that is drawn back to a level.

    ``speed`` is per unit of time: half of a gap is gone after ln 2 / speed. ``volatility`` is per
    unit of time, of the value or of its logarithm. With ``log`` the value stays above 0 and
    ``level`` is its long-run median. Steps are exact for any ``dt``.

    Source: Uhlenbeck and Ornstein, Physical Review 36 (1930), 823-841; Schwartz, Journal of Finance
    52 (1997), 923-973.

    >>> process = MeanReverting(start=0.14, level=0.16, speed=0.4, volatility=0.03)
    >>> round(float(process.expected(1.0)), 6)
    0.146594
    """

    start: float
    level: float
    speed: float
    volatility: float
    log: bool = False

    continuous = True
    label = "mean reverting"
    formula = "dX = speed (level - X) dt + volatility dW, with X the value or its logarithm"
    use = "a price or rate that returns to a level: energy, interest, a spread"
    rules = {"start": finite, "level": finite, "speed": positive, "volatility": a_volatility}

    def __post_init__(self) -> None:
        super().__post_init__()
        if not isinstance(self.log, bool):
            raise ParameterError(f"log must be True or False, not {self.log!r}")
        if self.log:
            positive("start", self.start)
            positive("level", self.level)

    @property
    def multiplies(self) -> bool:  # type: ignore[override]
        """Whether it is the logarithm that reverts."""
        return self.log

    @property
    def _scaled(self) -> tuple[float, float]:
        """Start and level on the scale that reverts."""
        return (
            (math.log(self.start), math.log(self.level)) if self.log else (self.start, self.level)
        )

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
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
        passed = array_of("time", time)
        mean = level + (start - level) * np.exp(-self.speed * passed)
        return mean, self.volatility**2 * -np.expm1(-2 * self.speed * passed) / (2 * self.speed)

    @checked
    def expected(self, time: ArrayLike) -> float | Floats:
        mean, variance = self._moments(time)
        grown: Floats = np.exp(mean + variance / 2) if self.log else mean
        return grown

    def _closed_form_at(self, time: float) -> Distribution | None:
        mean, variance = (float(value) for value in self._moments(time))
        return (
            LogNormal.from_log(mean, math.sqrt(variance))
            if self.log
            else Normal(mean, math.sqrt(variance))
        )

    def _shocks_behind(self, values: Floats, dt: float) -> Floats:
        x = np.log(values) if self.log else values
        shocks: Floats = x[1:] - math.exp(-self.speed * dt) * x[:-1]
        return shocks

    def _bridge(self, shocks: Floats, dt: float) -> Any:
        return self.volatility * math.sqrt(dt)

    @classmethod
    @checked
    def fit(
        cls, series: ArrayLike, dt: float = 1.0, log: bool | None = None, level: float | None = None
    ) -> Self:
        """Return the process fitted to values ``dt`` apart, with the error that so few cause in
        ``fitted``. A ``level`` that is stated, since more is known of it than this history tells,
        is kept, and the speed is that of the return to it.

        Where all values are above 0, the logarithm is fitted if it makes them likelier than the
        values themselves do, whose path may go below 0; ``log`` says which. Least squares finds a
        speed that is far too high in a short history; here it is corrected to be as often too high
        as too low (see ``kindynos.processes.reversion``), and ``fitted.description`` says whether
        the series shows that it returns at all. Raises ParameterError for values that cannot be
        used, or that show no return to a level.
        """
        if log is not None:
            instance("log", log, bool, "True, False or None")
        values, step = observed(series, dt, above_zero=bool(log))
        logged = _logs_are_likelier(values) if log is None else log
        own = None if level is None else _level_stated(level, logged)
        x = np.log(values) if logged else values
        before, after = x[:-1], x[1:]
        steps = len(after)
        slope = _slope(before, after, own)
        _check_slope(slope)
        estimates = reversion(slope, steps, own is not None) if slope < 1 else None
        if estimates is None or not 0 < estimates.median < steps:
            raise ParameterError(
                f"the series shows no return to a level (each value is {slope:.3g} times the one "
                "before); "
                f"fit {'GeometricBrownianMotion' if logged else 'RandomWalk'}, or give more "
                "history"
            )
        estimated = _PullPosterior(
            steps,
            step,
            float(before.mean()),
            float(after.mean()),
            _spread(before, after, estimates.median, own),
            estimates.quantiles,
            own,
        )
        centre, speed, volatility, of_level = map(float, estimated.at(estimates.median))
        ends = [
            -math.log1p(-min(estimates.at(end), steps * 0.999) / steps) / step
            for end in (1 - UPPER, UPPER)
        ]
        middle = math.exp(centre) if logged else centre
        errors = {} if own is not None else {"level": of_level * (middle if logged else 1.0)}
        errors |= {
            "speed": (ends[1] - ends[0]) / 2 / Z,
            "volatility": volatility / math.sqrt(2 * steps),
        }
        description = _in_words(values, steps, logged, log is None, estimates, ends, own)
        fitted = FittedSeries(
            steps,
            step,
            errors,
            (0.0, 0.0, 0.0),
            tuple(map(tuple, np.eye(3).tolist())),
            description,
            intervals={"speed": (ends[0], ends[1])},
            estimated=estimated,
        )
        return cls(float(values[-1]), middle, speed, volatility, logged, fitted=fitted)

    def _named_parameters(self, theta: Floats) -> Any:
        """Return levels, speeds and volatilities from scores: of the level at a speed, of the
        speed, and of the volatility.
        """
        assert self.fitted is not None
        estimated: _PullPosterior = self.fitted.estimated
        pull = np.interp(ndtr(theta[1]), LEVELS, estimated.quantiles)
        level, speed, volatility, spread = estimated.at(
            np.clip(pull, LEAST_PULL, 0.999 * estimated.steps)
        )
        level = level + spread * theta[0]
        return SimpleNamespace(
            level=np.exp(level) if self.log else level,
            speed=speed,
            volatility=volatility * np.exp(theta[2] / math.sqrt(2 * estimated.steps)),
        )


@dataclass(frozen=True)
class _PullPosterior:
    """What a series tells: its steps, the means before and after them, the sd of what is left, and
    quantiles of the pull.
    """

    steps: int
    dt: float
    before: float
    after: float
    spread: float
    quantiles: tuple[float, ...]
    level: float | None = None  # the one that is stated, on the scale that reverts

    def at(self, pull: Any) -> tuple[Any, Any, Any, Any]:
        """Return level, speed, volatility and the standard error of the level for a pull over the
        series, or several.
        """
        slope = 1 - pull / self.steps
        speed = -np.log(slope) / self.dt
        volatility = self.spread * np.sqrt(2 * speed / (1 - slope**2))
        if self.level is not None:
            return self.level + 0.0 * slope, speed, volatility, 0.0 * slope
        level = (self.after - slope * self.before) / (1 - slope)
        return level, speed, volatility, self.spread / (1 - slope) / math.sqrt(self.steps)


def _in_words(
    values: Floats,
    steps: int,
    logged: bool,
    selected: bool,
    reversion: Reversion,
    ends: list[float],
    own: float | None,
) -> str:
    """Return how a level and a speed were found, and which scale made the values likelier."""
    shown = (
        "it returns to its level"
        if reversion.p_value < 0.05
        else "the series does not show that it returns to a level"
    )
    scale = ""
    if selected and values.min() > 0:
        scale = f"; {'the logarithm makes' if logged else 'the values themselves make'} it likelier"
    whose = "its own" if own is None else "a stated"
    return (
        f"{whose} level, from {steps} steps{' of the logarithm' if logged else ''}; {shown} "
        f"({p_value(reversion.p_value)}), its speed may be {ends[0]:.2g} to {ends[1]:.2g}{scale}"
    )


def _logs_are_likelier(values: Floats) -> bool:
    """Return whether normal steps of the logarithm make values likelier than normal steps of the
    values: the density of a value is that of its logarithm over the value.
    """
    if values.min() <= 0:
        return False
    likelihoods = []
    for x, jacobian in ((values, 0.0), (np.log(values), float(np.log(values[1:]).sum()))):
        slope, level = np.polyfit(x[:-1], x[1:], 1)
        rest = float(((x[1:] - level - slope * x[:-1]) ** 2).mean())
        likelihoods.append(-len(x[1:]) / 2 * math.log(max(rest, 1e-300)) - jacobian)
    return likelihoods[1] > likelihoods[0]


def _check_slope(slope: float) -> None:
    """Raise ParameterError for a series in which nothing is left after a period."""
    if slope <= 0:
        raise ParameterError(
            f"the series returns to its level within a period (each value is {slope:.3g} times the "
            "one before); draw it again each period instead, such as model.driver(..., "
            'Normal(...), each="period")'
        )


def _level_stated(level: float, logged: bool) -> float:
    """Return a stated level on the scale that reverts."""
    return math.log(positive("level", level)) if logged else finite("level", level)


def _slope(before: Floats, after: Floats, level: float | None) -> float:
    """Return least squares' slope on the value before, through a level where it is stated."""
    if level is None:
        return float(np.polyfit(before, after, 1)[0])
    return float((before - level) @ (after - level) / ((before - level) @ (before - level)))


def _spread(before: Floats, after: Floats, pull: float, level: float | None) -> float:
    """Return the sd of what a pull leaves unexplained of each step."""
    slope = 1 - pull / len(after)
    if level is not None:
        return float(np.sqrt(((after - level - slope * (before - level)) ** 2).mean()))
    return float((after - slope * before).std())
