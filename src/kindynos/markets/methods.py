"""Value at risk and expected shortfall by several methods. To add one: a subclass of Method, and its place in METHODS.

A method is stated once, for rows of losses: the figure of today is that of one row, a rolling backtest that of a row for each
day. Losses are positive. Over several days the figure of one day grows with the root of their number (its mean with the
number), except that ``simulated`` draws paths. A method's options are its fields.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, ClassVar

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import gammaln, ndtri, stdtrit
from kindynos.errors import ParameterError
from kindynos.fitting.student import student_degrees
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z, jackknife_error
from kindynos.inference.weighted import even_tail, weighted_tail
from kindynos.markets.exposure import Exposure, RiskFigure
from kindynos.markets.simulation import simulated_losses
from kindynos.registry import Registry, check_options, declared_options
from kindynos.validate import proper_fraction

AGE_DECAY = 0.98  # of the weight of a return a day older (Boudoukh, Richardson and Whitelaw 1998)
VOLATILITY_DECAY = 0.94  # of the weight in a day's volatility, as is common for daily returns
FOLDS = 20  # blocks left out one at a time for the error of a fitted figure
FEWEST_DF = 2.1
NODES, WEIGHTS = np.polynomial.legendre.leggauss(32)  # for the mean of quantiles beyond a level
MEASURES = ("value_at_risk", "expected_shortfall")


@dataclass(frozen=True, kw_only=True)
class Method(ABC):
    """A way from past losses to a figure of risk."""

    label: ClassVar[str]
    use: ClassVar[str]
    rolling: ClassVar[bool] = True  # whether a figure of every day's window can be had at once

    @abstractmethod
    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        """Return value at risk and expected shortfall of each row of losses ``(rows, losses)``."""

    def behind(self, losses: Floats) -> tuple[Floats, Floats]:
        """Return the losses that quantiles are taken of, and their weights, which add up to 1."""
        return losses, np.full(len(losses), 1 / len(losses))

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        """Return a figure with its interval: order statistics, or the spread of the tail mean, of the weighted losses."""
        losses, weights = self.behind(exposure.losses)
        count = float(1 / (weights**2).sum())  # how many equally weighted losses say as much
        root = math.sqrt(horizon)
        q, shortfall = (float(figure[0]) for figure in self.tail(exposure.losses[None], level))
        if measure == "value_at_risk":
            reach = Z * math.sqrt(level * (1 - level) / count)
            ends = [self._quantile(exposure.losses, min(max(level + side * reach, 0.0), 1.0)) for side in (-1, 1)]
            return Estimate(q * root, min(ends[0], q) * root, max(ends[1], q) * root, rough=level + reach >= 1)
        terms = q + np.maximum(losses - q, 0) / (1 - level)
        spread = math.sqrt(float(weights @ (terms - shortfall) ** 2) / max(count - 1, 1))
        low, high = max(shortfall - Z * spread, q), shortfall + Z * spread
        return Estimate(shortfall * root, low * root, high * root, rough=count * (1 - level) < 10)

    def _quantile(self, losses: Floats, level: float) -> float:
        if level in (0.0, 1.0):
            behind, _ = self.behind(losses)
            return float(behind.min() if level == 0 else behind.max())
        return float(self.tail(losses[None], level)[0][0])

    @abstractmethod
    def description(self, exposure: Exposure, horizon: int) -> str:
        """Return how a figure was made, in words."""


@dataclass(frozen=True, kw_only=True)
class Historical(Method):
    """Losses of today's holdings under each past return, equally weighted."""

    label = "historical"
    use = "the past returns as they are, all alike"

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        q, shortfall = even_tail(rows, level)
        return q * math.sqrt(horizon), shortfall * math.sqrt(horizon)

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"historical{_scaled(horizon)}"


@dataclass(frozen=True, kw_only=True)
class Weighted(Method):
    """Past losses with weights that fade with age.

    Source: Boudoukh, Richardson and Whitelaw, Risk 11 (1998), 64-67.
    """

    decay: float = AGE_DECAY

    label = "weighted"
    use = "the past returns, the recent ones counting more"

    def __post_init__(self) -> None:
        proper_fraction("weighted", "decay", self.decay)

    def behind(self, losses: Floats) -> tuple[Floats, Floats]:
        weights = self.decay ** np.arange(len(losses) - 1, -1, -1.0)
        return losses, weights / weights.sum()

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        _, weights = self.behind(rows[0])
        q, shortfall = weighted_tail(rows, weights, level)
        return q * math.sqrt(horizon), shortfall * math.sqrt(horizon)

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"age-weighted by {self.decay:g} a day{_scaled(horizon)}"


@dataclass(frozen=True, kw_only=True)
class Filtered(Historical):
    """Past losses rescaled from the volatility of their day to today's.

    Source: Hull and White, Journal of Risk 1 (1998), 5-19, with an exponentially weighted volatility.
    """

    decay: float = VOLATILITY_DECAY

    label = "filtered"
    use = "the past returns, rescaled to today's volatility"

    def __post_init__(self) -> None:
        proper_fraction("filtered", "decay", self.decay)

    def _rescaled(self, rows: Floats) -> Floats:
        """Return each row's losses times today's volatility over that of their day; the first is that of all the losses."""
        squares = (rows**2).mean(axis=1)
        least = 1e-6 * np.sqrt(squares)
        volatility = np.empty((len(rows), rows.shape[1] + 1))
        volatility[:, 0] = np.sqrt(squares)
        for t in range(rows.shape[1]):
            squares = self.decay * squares + (1 - self.decay) * rows[:, t] ** 2
            volatility[:, t + 1] = np.sqrt(squares)
        volatility = np.maximum(volatility, least[:, None])
        return np.asarray(rows * (volatility[:, -1:] / volatility[:, :-1]))

    def behind(self, losses: Floats) -> tuple[Floats, Floats]:
        return self._rescaled(losses[None])[0], np.full(len(losses), 1 / len(losses))

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        return super().tail(self._rescaled(rows), level, horizon)

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"rescaled to today's volatility{_scaled(horizon)}"


@dataclass(frozen=True, kw_only=True)
class ByMoments(Method):
    """A distribution with the mean and the sd of the losses; ``mean=False`` leaves the mean out."""

    mean: bool = True

    @abstractmethod
    def reach(self, rows: Floats, level: float) -> tuple[Floats, Floats]:
        """Return how many sd above the mean the quantile lies, and the mean beyond it, for each row."""

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        centre = rows.mean(axis=1) * horizon if self.mean else np.zeros(len(rows))
        spread = rows.std(axis=1, ddof=1) * math.sqrt(horizon)
        q, beyond = self.reach(rows, level)
        return centre + q * spread, centre + beyond * spread

    @abstractmethod
    def fatness(self, losses: Floats) -> float:
        """Return how many times the variance of the sd is that of normal losses."""

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        losses, place = exposure.losses, MEASURES.index(measure)
        count = len(losses)
        value = float(self.tail(losses[None], level, horizon)[place][0])
        reach = float(self.reach(losses[None], level)[place][0])
        spread = float(losses.std(ddof=1)) * math.sqrt(horizon)
        of_mean = 1 / count if self.mean else 0.0
        error = Z * spread * math.sqrt(of_mean + reach**2 * self.fatness(losses) / (2 * count))
        return Estimate(value, value - error, value + error, rough=self.fatness(losses) > 1)

    def _centred(self) -> str:
        return "with the mean" if self.mean else "with no mean"


@dataclass(frozen=True, kw_only=True)
class Normal(ByMoments):
    """The normal distribution with the mean and the covariance of the window."""

    label = "normal"
    use = "normal returns with the window's mean and covariance"

    def reach(self, rows: Floats, level: float) -> tuple[Floats, Floats]:
        z = float(ndtri(level))
        beyond = math.exp(-z * z / 2) / math.sqrt(2 * math.pi) / (1 - level)
        return np.full(len(rows), z), np.full(len(rows), beyond)

    def fatness(self, losses: Floats) -> float:
        return 1.0

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"normal, {self._centred()} and covariance of the window{_scaled(horizon)}"


@dataclass(frozen=True, kw_only=True)
class Student(ByMoments):
    """Student's t with the window's mean and covariance, and degrees of freedom fitted to the holdings' losses."""

    label = "student"
    use = "fat-tailed returns: Student's t with the window's mean and covariance"

    def reach(self, rows: Floats, level: float) -> tuple[Floats, Floats]:
        df = np.maximum(student_degrees(rows), FEWEST_DF) if len(rows) > 1 else np.array([_degrees_of(rows.tobytes())])
        t = np.asarray(stdtrit(df, level))
        density = np.exp(gammaln((df + 1) / 2) - gammaln(df / 2) - (df + 1) / 2 * np.log1p(t**2 / df)) / np.sqrt(df * math.pi)
        scale = np.sqrt((df - 2) / df)
        # The mean beyond: McNeil, Frey and Embrechts, Quantitative Risk Management (2005), section 2.2.4.
        return t * scale, scale * density / (1 - level) * (df + t**2) / (df - 1)

    def fatness(self, losses: Floats) -> float:
        df = _degrees_of(losses.tobytes())
        return 1 + 1.5 / max(df - 4, 0.5)  # a quarter of the kurtosis excess, 6 / (df - 4), widens the error of the sd

    def description(self, exposure: Exposure, horizon: int) -> str:
        df = _degrees_of(exposure.losses.tobytes())
        return f"Student's t with {df:.3g} degrees of freedom, {self._centred()} and covariance of the window{_scaled(horizon)}"


@lru_cache(maxsize=64)  # one window's losses are asked about at several levels
def _degrees_of(losses: bytes) -> float:
    return max(float(student_degrees(np.frombuffer(losses)[None])[0]), FEWEST_DF)


@dataclass(frozen=True, kw_only=True)
class CornishFisher(Method):
    """The normal quantile corrected for the skewness and kurtosis of the holdings' losses.

    Source: Cornish and Fisher, Revue de l'Institut International de Statistique 5 (1938), 307-320.
    """

    label = "cornish fisher"
    use = "the normal quantile, corrected for skewness and kurtosis"

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        centre, spread = rows.mean(axis=1), rows.std(axis=1, ddof=1) * math.sqrt(horizon)
        gaps = (rows - centre[:, None]) / rows.std(axis=1)[:, None]
        skew, excess = (gaps**3).mean(axis=1), (gaps**4).mean(axis=1) - 3
        levels = level + (1 - level) * (NODES[:, None] + 1) / 2
        beyond = (WEIGHTS / 2) @ expansion(levels, skew, excess)
        return centre * horizon + spread * expansion(np.array(level), skew, excess), centre * horizon + spread * beyond

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        losses, place = exposure.losses, MEASURES.index(measure)
        value = float(self.tail(losses[None], level, horizon)[place][0])
        folds = np.array_split(np.arange(len(losses)), FOLDS)
        left = np.array([float(self.tail(np.delete(losses, fold)[None], level, horizon)[place][0]) for fold in folds])
        error = jackknife_error(left, Z)
        return Estimate(value, value - error, value + error, rough=True)

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"Cornish and Fisher's correction for skewness and kurtosis{_scaled(horizon)}"


def expansion(level: Floats, skew: Floats, excess: Floats) -> Floats:
    """Return Cornish and Fisher's quantile of a distribution with mean 0 and sd 1."""
    z = ndtri(level)
    first, second, third = (z**2 - 1) * skew / 6, (z**3 - 3 * z) * excess / 24, (2 * z**3 - 5 * z) * skew**2 / 36
    return np.asarray(z + first + second - third)


@dataclass(frozen=True, kw_only=True)
class Simulated(Method):
    """Losses of simulated days: a distribution of each instrument's returns, joined by a copula, over paths of several days.

    ``marginals`` are distributions by instrument, or "student" (the default) or "normal" to fit them; ``copula`` and ``df`` as
    in ``Model.correlate``, with the rank correlations of the window.
    """

    trials: int = 20_000
    seed: int = 0
    marginals: Any = None
    copula: str = "gaussian"
    df: float | None = None

    label = "simulated"
    use = "simulated days: a distribution for each instrument, joined by a copula"
    rolling = False

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        raise ParameterError("simulating anew for every day is not offered; take historical, filtered or student")

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        result = simulated_losses(exposure, horizon, self.trials, self.seed, self.marginals, self.copula, self.df)
        return result.value_at_risk(level) if measure == "value_at_risk" else result.expected_shortfall(level)

    def description(self, exposure: Exposure, horizon: int) -> str:
        days = "1 day" if horizon == 1 else f"{horizon} days"
        return f"{self.trials:,} simulated paths of {days}, {self.copula} copula, seed {self.seed}"


def _scaled(horizon: int) -> str:
    return "" if horizon == 1 else f", one day times the root of {horizon}"


METHODS: Registry[type[Method]] = Registry(
    "risk method",
    {method.label: method for method in (Historical, Weighted, Filtered, Normal, Student, CornishFisher, Simulated)},
)


def method_of(name: str, options: dict[str, Any], *, all_methods: bool = False) -> Method:
    """Return a method with its options; raises ParameterError for an unknown option.

    With ``all_methods`` the options may be for another method: those are left out.
    """
    kind = METHODS.find(name)
    if not all_methods:
        check_options(f"method {name!r}", kind, options)
        return kind(**options)
    everyone = {option for other in METHODS.values() for option in declared_options(other)}
    for option in options:
        if option not in everyone:
            raise ParameterError(f"no option {option!r} of any method", unknown=option, known=everyone)
    return kind(**{option: value for option, value in options.items() if option in declared_options(kind)})


def measured(method: Method, exposure: Exposure, measure: str, level: float, horizon: int, value: float) -> RiskFigure:
    """Return value at risk or expected shortfall of an exposure by a method, with its interval, and in words."""
    figure = method.interval(exposure, measure, level, horizon)
    unit = "day" if horizon == 1 else f"stretch of {horizon} days"
    often = f"{1 / (1 - level):.3g}"
    what = {
        "value_at_risk": f"a loss exceeded on about 1 {unit} in {often}",
        "expected_shortfall": f"the mean of the losses on the worst {unit} in {often}",
    }[measure]
    first, last = exposure.dates[0], exposure.dates[-1]
    how = method.description(exposure, horizon)
    description = f"{what}; {how}, {len(exposure.returns)} returns, {first:%Y-%m-%d} to {last:%Y-%m-%d}"
    return RiskFigure.of(
        figure,
        fraction=float(figure) / value,
        method=method.label,
        level=level,
        window=exposure.window,
        returns=len(exposure.returns),
        first=first,
        last=last,
        horizon=horizon,
        description=f"{description}; {exposure.description}" if exposure.description else description,
    )
