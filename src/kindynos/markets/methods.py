"""Value at risk and expected shortfall by several methods. To add one: a function of an Exposure, and its line in METHODS.

Each gives a ``Sample``: losses with weights, of which quantiles and tail means are taken, or figures by a law of the loss.
Losses are positive. Over several days the figure of one day grows with the root of their number (its mean with the number),
except that ``simulated`` draws paths.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.distributions.special import gammaln, ndtri, stdtrit
from kindynos.errors import ParameterError, nearest
from kindynos.estimate import Estimate
from kindynos.fitting import fit_student
from kindynos.markets.returns import covariance
from kindynos.validate import share

Floats = NDArray[np.float64]

CONFIDENCE = 1.959963984540054
AGE_DECAY = 0.98  # of the weight of a return a day older (Boudoukh, Richardson and Whitelaw 1998)
VOLATILITY_DECAY = 0.94  # of the weight in a day's volatility, as is common for daily returns
FOLDS = 20  # blocks left out one at a time for the error of a fitted figure


@dataclass(frozen=True)
class Exposure:
    """Today's holdings in money ``(instruments,)`` and simple returns ``(returns, instruments)``."""

    values: Floats
    returns: Floats
    names: list[str]
    dates: Any  # one for each return
    window: int | None = None
    said: str = ""  # what was done about missing prices

    @cached_property
    def losses(self) -> Floats:
        """The loss of today's holdings under each past return: full revaluation."""
        return np.asarray(-(self.returns @ self.values))


class RiskFigure(Estimate):
    """A loss in money with its 95 % interval: also its ``share`` of the value, and how it was made.

    ``method``, ``level``, ``window``, ``returns`` (their number), ``first`` and ``last`` date, ``horizon`` in
    days; ``said`` puts it in words.
    """

    share: float
    method: str
    level: float
    window: int | None
    returns: int
    first: Any
    last: Any
    horizon: int
    said: str


@dataclass(frozen=True)
class Sample:
    """What a method makes of an exposure: losses of one day with weights that add up to 1, in words ``how``.

    ``figure(measure, level)`` gives the figure with its interval where a law does, and not the losses' order statistics.
    """

    exposure: Exposure
    method: str
    horizon: int
    losses: Floats
    weights: Floats
    how: str
    figure: Callable[[str, float], Estimate] | None = None

    @cached_property
    def ordered(self) -> tuple[Floats, Floats]:
        """The losses in order, and the share of weight up to each (its middle)."""
        order = np.argsort(self.losses, kind="stable")
        weights = self.weights[order]
        return self.losses[order], np.cumsum(weights) - weights / 2

    @property
    def effective(self) -> float:
        """How many equally weighted losses say as much."""
        return float(1 / (self.weights**2).sum())

    def quantile(self, level: float) -> float:
        """The loss at a level, between neighbours in order."""
        losses, places = self.ordered
        if np.ptp(self.weights) == 0:  # the usual definition for equal weights
            return float(np.quantile(losses, level))
        return float(np.interp(level, places, losses))


def measured(sample: Sample, measure: str, level: float, value: float) -> RiskFigure:
    """Return value at risk or expected shortfall of a sample, with its interval, and in words."""
    root = math.sqrt(sample.horizon) if sample.method != "simulated" else 1.0
    found = sample.figure(measure, level) if sample.figure is not None else _of_losses(sample, measure, level)
    figure = RiskFigure(float(found) * root, found.low * root, found.high * root, found.rough)
    exposure = sample.exposure
    figure.share, figure.method, figure.level = float(figure) / value, sample.method, level
    figure.window, figure.returns, figure.horizon = exposure.window, len(exposure.returns), sample.horizon
    figure.first, figure.last = exposure.dates[0], exposure.dates[-1]
    often = 1 / (1 - level)
    unit = "day" if sample.horizon == 1 else f"stretch of {sample.horizon} days"
    what = {
        "value_at_risk": f"a loss exceeded on about 1 {unit} in {often:.3g}",
        "expected_shortfall": f"the mean of the losses on the worst {unit} in {often:.3g}",
    }[measure]
    figure.said = f"{what}; {sample.how}, {len(exposure.returns)} returns, {figure.first:%Y-%m-%d} to {figure.last:%Y-%m-%d}"
    if exposure.said:
        figure.said += f"; {exposure.said}"
    return figure


def _of_losses(sample: Sample, measure: str, level: float) -> Estimate:
    """Return a figure of weighted losses: order statistics for value at risk, the tail mean's spread for the shortfall."""
    count = sample.effective
    q = sample.quantile(level)
    if measure == "value_at_risk":
        reach = CONFIDENCE * math.sqrt(level * (1 - level) / count)
        low, high = sample.quantile(max(level - reach, 0.0)), sample.quantile(min(level + reach, 1.0))
        return Estimate(q, min(low, q), max(high, q), rough=level + reach >= 1)
    terms = q + np.maximum(sample.losses - q, 0) / (1 - level)
    value = float(sample.weights @ terms)
    spread = math.sqrt(float(sample.weights @ (terms - value) ** 2) / max(count - 1, 1))
    return Estimate(value, max(value - CONFIDENCE * spread, q), value + CONFIDENCE * spread, rough=count * (1 - level) < 10)


def _even(count: int) -> Floats:
    return np.full(count, 1 / count)


def historical(exposure: Exposure, horizon: int) -> Sample:
    """Losses of today's holdings under each past return, equally weighted."""
    losses = exposure.losses
    return Sample(exposure, "historical", horizon, losses, _even(len(losses)), f"historical{_scaled(horizon)}")


def weighted(exposure: Exposure, horizon: int, decay: float = AGE_DECAY) -> Sample:
    """Past losses with weights that fade with age.

    Source: Boudoukh, Richardson and Whitelaw, Risk 11 (1998), 64-67.
    """
    share("weighted", "decay", decay, closed=False)
    losses = exposure.losses
    weights = decay ** np.arange(len(losses) - 1, -1, -1.0)
    return Sample(
        exposure, "weighted", horizon, losses, weights / weights.sum(), f"age-weighted by {decay:g} a day{_scaled(horizon)}"
    )


def filtered(exposure: Exposure, horizon: int, decay: float = VOLATILITY_DECAY) -> Sample:
    """Past losses rescaled from the volatility of their day to today's.

    Source: Hull and White, Journal of Risk 1 (1998), 5-19, with an exponentially weighted volatility.
    """
    share("filtered", "decay", decay, closed=False)
    losses = exposure.losses
    volatility = ewma_volatility(losses, decay)
    scaled = losses * (volatility[-1] / volatility[:-1])
    return Sample(
        exposure, "filtered", horizon, scaled, _even(len(losses)), f"rescaled to today's volatility{_scaled(horizon)}"
    )


def ewma_volatility(losses: Floats, decay: float) -> Floats:
    """Return the volatility known before each loss, and after the last, ``(losses + 1,)``; it starts with that of all."""
    from scipy.signal import lfilter

    first = float((losses**2).mean())
    squares, _ = lfilter([1 - decay], [1, -decay], losses**2, zi=[decay * first])
    return np.asarray(np.sqrt(np.maximum(np.concatenate([[first], squares]), first * 1e-12)))


def normal(exposure: Exposure, horizon: int, mean: bool = True) -> Sample:
    """The normal law of the mean and the covariance of the window; ``mean=False`` leaves the mean out."""
    centre, spread = _moments(exposure, horizon, mean)
    count = len(exposure.returns)

    def figure(measure: str, level: float) -> Estimate:
        z = float(ndtri(level))
        reached = z if measure == "value_at_risk" else math.exp(-z * z / 2) / math.sqrt(2 * math.pi) / (1 - level)
        value = centre + reached * spread
        error = CONFIDENCE * spread * math.sqrt((1 if mean else 0) / count + reached**2 / (2 * count))
        return Estimate(value, value - error, value + error)

    said = f"normal, with {'the mean' if mean else 'no mean'} and covariance of the window{_scaled(horizon)}"
    return Sample(exposure, "normal", horizon, exposure.losses, _even(count), said, figure)


def student(exposure: Exposure, horizon: int, mean: bool = True) -> Sample:
    """Student's t with the window's mean and covariance, and degrees of freedom fitted to the holdings' losses."""
    centre, spread = _moments(exposure, horizon, mean)
    count = len(exposure.returns)
    df = max(fit_student(exposure.losses).df, 2.1)

    def figure(measure: str, level: float) -> Estimate:
        reached = float(student_reach(np.array([df]), level)[0 if measure == "value_at_risk" else 1][0])
        value = centre + reached * spread
        fat = 1 + 1.5 / max(df - 4, 0.5)  # a quarter of the kurtosis excess, 6 / (df - 4), widens the error of the sd
        error = CONFIDENCE * spread * math.sqrt((1 if mean else 0) / count + reached**2 * fat / (2 * count))
        return Estimate(value, value - error, value + error, rough=True)

    centred = "the mean" if mean else "no mean"
    said = f"Student's t with {df:.3g} degrees of freedom, {centred} and covariance of the window{_scaled(horizon)}"
    return Sample(exposure, "student", horizon, exposure.losses, _even(count), said, figure)


def student_reach(df: Floats, level: float) -> tuple[Floats, Floats]:
    """Return the quantile of a t law with sd 1, and its mean beyond (McNeil, Frey and Embrechts 2005, section 2.2.4)."""
    t = np.asarray(stdtrit(df, level))
    density = np.exp(gammaln((df + 1) / 2) - gammaln(df / 2) - (df + 1) / 2 * np.log1p(t**2 / df)) / np.sqrt(df * math.pi)
    scale = np.sqrt((df - 2) / df)
    return t * scale, scale * density / (1 - level) * (df + t**2) / (df - 1)


def cornish_fisher(exposure: Exposure, horizon: int) -> Sample:
    """The normal quantile corrected for the skewness and kurtosis of the holdings' losses.

    Source: Cornish and Fisher, Revue de l'Institut International de Statistique 5 (1938), 307-320.
    """
    losses = exposure.losses
    count = len(losses)

    def value(sample: Floats, measure: str, level: float) -> float:
        centre, spread = float(sample.mean()), float(sample.std(ddof=1))
        gaps = (sample - sample.mean()) / sample.std()
        skew, excess = float((gaps**3).mean()), float((gaps**4).mean() - 3)
        if measure == "value_at_risk":
            return centre / math.sqrt(horizon) * horizon + spread * float(expanded(np.array(level), skew, excess))
        nodes, weights = np.polynomial.legendre.leggauss(32)
        tail = level + (1 - level) * (nodes + 1) / 2
        return centre / math.sqrt(horizon) * horizon + spread * float((weights / 2) @ expanded(tail, skew, excess))

    def figure(measure: str, level: float) -> Estimate:
        whole = value(losses, measure, level)
        folds = np.array_split(np.arange(count), FOLDS)
        left = np.array([value(np.delete(losses, fold), measure, level) for fold in folds])
        error = CONFIDENCE * math.sqrt((FOLDS - 1) / FOLDS * float(((left - left.mean()) ** 2).sum()))
        return Estimate(whole, whole - error, whole + error, rough=True)

    said = f"Cornish and Fisher's correction for skewness and kurtosis{_scaled(horizon)}"
    return Sample(exposure, "cornish fisher", horizon, losses, _even(count), said, figure)


def expanded(level: Floats, skew: float, excess: float) -> Floats:
    """Return Cornish and Fisher's quantile of a law with mean 0 and sd 1."""
    z = ndtri(level)
    first, second, third = (z**2 - 1) * skew / 6, (z**3 - 3 * z) * excess / 24, (2 * z**3 - 5 * z) * skew**2 / 36
    return np.asarray(z + first + second - third)


def simulated(
    exposure: Exposure,
    horizon: int,
    trials: int = 20_000,
    seed: int = 0,
    marginals: Any = None,
    copula: str = "gaussian",
    df: float | None = None,
) -> Sample:
    """Losses of simulated days: a law of each instrument's returns, joined by a copula, over paths of ``horizon`` days.

    ``marginals`` are distributions by instrument, or "student" (the default) or "normal" to fit them; ``copula`` and ``df`` as
    in ``Model.correlate``, with the rank correlations of the window.
    """
    from kindynos.markets.simulation import simulated_losses

    result = simulated_losses(exposure, horizon, trials, seed, marginals, copula, df)

    def figure(measure: str, level: float) -> Estimate:
        found: Estimate = result.value_at_risk(level) if measure == "value_at_risk" else result.expected_shortfall(level)
        return found

    said = f"{trials:,} simulated paths of {horizon} day{'' if horizon == 1 else 's'}, {copula} copula, seed {seed}"
    losses = -result.values
    return Sample(exposure, "simulated", horizon, losses, _even(len(losses)), said, figure)


def _moments(exposure: Exposure, horizon: int, mean: bool) -> tuple[float, float]:
    """Return mean and sd of the loss of one day, the mean so that the root of the horizon makes it that of the horizon."""
    centre = -float(exposure.returns.mean(axis=0) @ exposure.values) if mean else 0.0
    matrix = covariance(exposure.returns)
    return centre * math.sqrt(horizon), math.sqrt(max(float(exposure.values @ matrix @ exposure.values), 0.0))


def _scaled(horizon: int) -> str:
    return "" if horizon == 1 else f", one day times the root of {horizon}"


METHODS: dict[str, Callable[..., Sample]] = {
    "historical": historical,
    "weighted": weighted,
    "filtered": filtered,
    "normal": normal,
    "student": student,
    "cornish fisher": cornish_fisher,
    "simulated": simulated,
}


def options_of(name: str, options: dict[str, Any], strict: bool = True) -> dict[str, Any]:
    """Return the options that a method knows; raises ParameterError for others, unless they may be for another method."""
    function = method_named(name)
    known = function.__code__.co_varnames[2 : function.__code__.co_argcount]
    for option in options:
        everyone = {word for f in METHODS.values() for word in f.__code__.co_varnames[2 : f.__code__.co_argcount]}
        if option not in (known if strict else everyone):
            raise ParameterError(f"method {name!r} has no option {option!r}{nearest(option, known if strict else everyone)}")
    return {option: value for option, value in options.items() if option in known}


def method_named(name: str) -> Callable[..., Sample]:
    """Return the method of that name; raises ParameterError, with the nearest spelling, when there is none."""
    if name not in METHODS:
        raise ParameterError(f"method must be one of {', '.join(METHODS)}, not {name!r}{nearest(str(name), METHODS)}")
    return METHODS[name]
