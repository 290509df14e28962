"""Exponential smoothing in state-space form: a level, a trend and a season that follow the series
by weights.

Source: Hyndman, Koehler, Ord and Snyder, Forecasting with Exponential Smoothing: the State Space
Approach (2008), chapters 2, 5, 6.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import Normal
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.inference.later import Later
from kindynos.processes.base import Process
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.series import InPeriods, known_length, same_process, series_values
from kindynos.processes.smoothing_fit import Form, Found, OpenSmoothing, SmoothingLikelihood
from kindynos.validate import (
    check_integer,
    checked,
    checked_init,
    finite,
    fraction,
    invalid_argument,
    one_of,
    positive,
)

SEASONS = ("additive", "multiplicative")


def _weight(name: str, value: Any) -> float | None:
    return None if value is None else fraction(name, value)


def _seasonal(name: str, values: Any) -> tuple[float, ...]:
    if not isinstance(values, Sequence | np.ndarray) or isinstance(values, str):
        raise invalid_argument(name, "the states of one season", values)
    return tuple(finite(f"{name}[{i}]", value) for i, value in enumerate(values))


@checked_init
@dataclass(frozen=True)
class ExponentialSmoothing(InPeriods):
    """A series around a level, with a trend and a season that are smoothed exponentially, in steps
    of one period.

    With level l, trend b and season s before a period, its value is y = l + damping b + s + e, and
    after it l = l + damping b + level_weight e, b = damping b + trend_weight e, s = s +
    season_weight e, with normal shocks e of the given ``sd``. With ``season_kind="multiplicative"``
    it is y = (l + damping b) s (1 + e), and the states grow by shares. ``season`` holds the states
    of the next periods of one season, the next one first; ``history`` are the values it was fitted
    from.

    >>> made = ExponentialSmoothing(
    ...     level=100.0, level_weight=0.3, sd=2.0, trend=1.0, trend_weight=0.1
    ... )
    >>> made.expected([1, 2]).tolist()
    [101.0, 102.0]
    """

    level: float
    level_weight: float
    sd: float
    trend: float = 0.0
    trend_weight: float | None = None
    damping: float = 1.0
    season: Sequence[float] = field(default=(), repr=False)
    season_weight: float | None = None
    season_kind: str = "additive"
    history: Sequence[float] = field(default=(), repr=False)

    label = "exponential smoothing"
    formula = "x(t) = level + trend + season + e(t); each of the three takes up its weight of e(t)"
    use = "a monthly or yearly figure whose level, trend and season change slowly"
    rules = {
        "level": finite,
        "level_weight": fraction,
        "sd": positive,
        "trend": finite,
        "trend_weight": _weight,
        "damping": fraction,
        "season": _seasonal,
        "season_weight": _weight,
    }

    def __post_init__(self) -> None:
        super().__post_init__()
        one_of("season_kind", self.season_kind, SEASONS)
        values = series_values("history", self.history, self.season_kind == "multiplicative")
        object.__setattr__(self, "history", values)
        if len(self.season) == 1:
            raise ParameterError("a season has at least 2 periods")
        if self.season and self.season_weight is None:
            raise ParameterError("season needs season_weight=")
        if self.season_kind == "multiplicative" and any(value <= 0 for value in self.season):
            raise ParameterError("the factors of a multiplicative season must be above 0")

    @property
    def form(self) -> Form:
        """Which states there are."""
        return Form(
            self.trend_weight is not None,
            self.damping < 1,
            len(self.season) if self.season else 0,
            bool(self.season) and self.season_kind == "multiplicative",
        )

    @property
    def start_value(self) -> float:
        return self.level if not self.known else float(self.known[-1])

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        self._whole_steps(dt)
        steps: Floats = shocks[0]
        steps *= at.sd
        shape = steps.shape[1:]
        level, trend = np.broadcast_to(at.level, shape), np.broadcast_to(at.trend, shape)
        season = [np.broadcast_to(value, shape) for value in at.season]
        trending = self.trend_weight is not None or self.trend != 0
        slope = at.trend_weight if self.trend_weight is not None else 0.0
        seasonal = at.season_weight if self.season else 0.0
        times = self.form.multiplicative
        for t in range(len(steps)):
            shock = steps[t].copy()
            base = level + at.damping * trend if trending else level
            size = base * shock if times else shock
            if not season:
                steps[t], level = base + size, base + at.level_weight * size
            else:
                position = t % len(season)
                if times:
                    steps[t] = (base + size) * season[position]
                    season[position] = season[position] * (1 + seasonal * shock)
                else:
                    steps[t] = base + season[position] + shock
                    season[position] = season[position] + seasonal * shock
                level = base + at.level_weight * size
            if trending:
                trend = at.damping * trend + slope * size
        return steps

    def _expected_values(self, periods: int, dt: float) -> Floats:
        """Return the values ``(periods,)`` without shocks: the means, up to terms in sd squared
        where the season multiplies.
        """
        self._whole_steps(dt)
        return self._ahead(np.zeros((1, self.gap + periods, 1)), 1.0, self)[:, 0]

    def _closed_form_at(self, time: float) -> Distribution | None:
        periods = self._periods_of(time, 1)
        if self.form.multiplicative:
            return None
        ahead = np.arange(1, self.gap + periods)
        damped = np.cumsum(self.damping**ahead)
        weights = self.level_weight + (self.trend_weight or 0.0) * damped
        if self.season:
            weights = weights + (self.season_weight or 0.0) * (ahead % len(self.season) == 0)
        variance = self.sd**2 * (1 + float((weights**2).sum()))
        return Normal(float(self._expected_values(periods, 1.0)[-1]), math.sqrt(variance))

    @classmethod
    @checked
    def fit(
        cls,
        series: ArrayLike,
        trend: bool | str = False,
        season: int = 0,
        season_kind: str = "additive",
        near: Process | None = None,
    ) -> Self:
        """Return the process fitted to a series by maximum likelihood, with standard errors and
        95 % intervals in ``fitted``.

        The first states are fitted too, and missing values are integrated out; ``sd`` is that of
        the errors over the values less all parameters. Intervals and ``uncertain=True`` draw
        weights and states by the likelihood, since few values leave it far from normal.

        ``trend`` is True, or "damped" for one that levels off; ``season`` is how many periods a
        season has, 0 for none; the season adds or, with ``season_kind="multiplicative"``,
        multiplies. The search begins at the process ``near``, if one of the same form is given that
        was fitted to a series with the same beginning. NaN stands for a missing value. Raises
        ParameterError for a series that cannot be used.

        >>> level = ExponentialSmoothing.fit([5.0, 6.1, 5.4, 4.8, 5.2, 6.0, 5.5, 5.1, 5.6, 4.9])
        >>> level.level_weight < 0.2
        True
        """
        if not isinstance(trend, bool | str) or trend not in (True, False, "damped"):
            raise ParameterError(f'trend must be True, False or "damped", not {trend!r:.40}')
        one_of("season_kind", season_kind, SEASONS)
        length = check_integer("season", season, least=0)
        if length == 1:
            raise ParameterError("a season has at least 2 periods; 0 stands for none")
        times = bool(length) and season_kind == "multiplicative"
        form = Form(bool(trend), trend == "damped", length, times)
        values = series_values("series", series, times, least=8)
        history, values = values, values[: known_length(values)]
        if 2 * length > len(values):
            raise ParameterError(
                f"a season of {length} is longer than half the series, which has "
                f"{len(values)} values"
            )
        series_values("series", values, times, least=form.size + 3)
        model = SmoothingLikelihood(np.array(values), form)
        best = model.best(_found_of(near, form))
        if model.is_exact(best):
            raise ParameterError(
                "the series follows its trend and season exactly; there is nothing random to fit"
            )
        ends = model.at(best.theta[:, None], best.hidden[:, None]).states[:, :, 0]
        named = {
            name: value[..., 0] for name, value in model.named(best.theta[:, None], ends).items()
        } | {"sd": np.float64(model.sd(best))}
        estimated = OpenSmoothing(model, best)
        lost = int(np.isnan(values).sum())
        fitted = FittedSeries(
            len(values) - lost,
            1.0,
            Later(estimated, "errors"),
            (0.0,),
            ((1.0,),),
            f"maximum likelihood from {len(values) - lost} values"
            + (f"; {lost} missing" if lost else ""),
            intervals=Later(estimated, "intervals"),
            estimated=estimated,
            log_likelihood=model.log_likelihood(best),
            parameter_count=form.size + 1,
            at_bound=model.at_bound(best.theta),
        )
        return cls(**_fields(named, form), season_kind=season_kind, history=history, fitted=fitted)

    def refit(self) -> Self:
        if not self.history:
            raise ParameterError("keeps no history from which its parameters could be refitted")
        form = self.form
        trend: bool | str = "damped" if form.damped else form.trend
        estimated = type(self).fit(self.history, trend, form.season, self.season_kind)
        refitted: Self = same_process(self, estimated, ("level", "level_weight", "sd"))
        return refitted

    @checked
    def residuals(self) -> Floats:
        """Return what the series it was fitted to did beyond its forecasts, in units of ``sd``;
        NaN where it is missing.
        """
        if self.fitted is None:
            raise ParameterError("needs a fit to have residuals")
        estimated: OpenSmoothing = self.fitted.estimated
        return estimated.likelihood.errors_of(estimated.found) / self.sd

    def _named_parameters(self, theta: Floats) -> Any:
        """Return states and weights picked from those that the series allows."""
        assert self.fitted is not None
        draws = self.fitted.estimated.draws
        smaller = np.minimum(
            (ndtr(theta[0]) * len(draws["sd"])).astype(np.int64), len(draws["sd"]) - 1
        )
        return SimpleNamespace(
            **_fields({name: value[..., smaller] for name, value in draws.items()}, self.form)
        )


def _found_of(near: Any, form: Form) -> Found | None:
    """Return the parameters of a fitted process of the same form, None of any other."""
    estimated = getattr(getattr(near, "fitted", None), "estimated", None)
    same = isinstance(estimated, OpenSmoothing) and estimated.likelihood.form == form
    return estimated.found if same and estimated is not None else None


def _fields(named: dict[str, Any], form: Form) -> dict[str, Any]:
    """Return the fields of the process from what its likelihood calls its states and weights;
    numbers, or one per trial.
    """
    parameters = {name: named[name] for name in ("level", "level_weight", "sd")}
    parameters["trend"] = named["trend"] if form.trend else np.zeros_like(named["level"])
    if form.trend:
        parameters["trend_weight"] = named["trend_weight"]
    parameters["damping"] = named["damping"] if form.damped else np.ones_like(named["level"])
    if form.season:
        parameters["season_weight"] = named["season_weight"]
    parameters["season"] = tuple(named["season"]) if form.season else ()
    if np.ndim(parameters["level"]):
        return parameters
    return {
        name: tuple(map(float, v)) if isinstance(v, tuple) else float(v)
        for name, v in parameters.items()
    }
