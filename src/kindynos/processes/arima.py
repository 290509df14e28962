"""Series that move with their own past: autoregressive, differenced, moving-average, with a
season.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import LogNormal, Normal
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.inference.later import Later
from kindynos.processes.arima_fit import ArimaLikelihood, OpenParameters, Orders
from kindynos.processes.arma import is_stationary, multiplied, polynomial, psi_weights
from kindynos.processes.base import Process
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.regressors import aligned, contribution, effects_of, exog_values
from kindynos.processes.series import InPeriods, known_length, logs_of, same_process, series_values
from kindynos.validate import (
    check_integer,
    checked,
    checked_init,
    finite,
    instance,
    listed,
    positive,
)

COEFFICIENTS = ("ar", "ma", "seasonal_ar", "seasonal_ma")
MOST_DIFFERENCES, MOST_ORDER = 2, 12


def _coefficients(name: str, values: Any) -> tuple[float, ...]:
    return tuple(finite(f"{name}[{i}]", value) for i, value in enumerate(listed(values)))


def _count(name: str, value: Any) -> int:
    return check_integer(name, value, least=0)


@checked_init
@dataclass(frozen=True)
class Arima(InPeriods):
    """A series that moves with its own past, in steps of one period.

    The value (or its log), differenced ``differences`` times and ``seasonal_differences`` times
    over the ``season``, less its mean ``constant``, is w_t = ar_1 w_{t-1} + ... + e_t + ma_1
    e_{t-1} + ..., with normal shocks e of the given ``sd``; the seasonal parts multiply it: (1 -
    ar_1 B - ...)(1 - seasonal_ar_1 B^season - ...) w = (1 + ma_1 B + ...)(1 + seasonal_ma_1
    B^season + ...) e, where B is the value before. ``history`` are the values so far, the last one
    last, from which simulation goes on; without it the series starts at rest: at its mean, or at 0
    where it is differenced.

    With regressors it is the value (or its log) less the sum of each one's value times its effect
    that moves so. ``exog`` has the values of each regressor by name, from the first value of the
    history on and as far ahead as the series is forecast; ``effects`` what one unit of each adds.

    Source: Box and Jenkins, Time Series Analysis (1970), chapters 4 and 9.

    >>> growth = Arima(ar=[0.5], constant=2.0, sd=1.0, history=[3.0])
    >>> growth.expected([1, 2, 3]).tolist()
    [2.5, 2.25, 2.125]
    """

    ar: Sequence[float] = ()
    ma: Sequence[float] = ()
    sd: float = 1.0
    constant: float = 0.0
    differences: int = 0
    seasonal_ar: Sequence[float] = ()
    seasonal_ma: Sequence[float] = ()
    seasonal_differences: int = 0
    season: int = 1
    log: bool = False
    history: Sequence[float] = field(default=(), repr=False)
    exog: Mapping[str, Sequence[float]] = field(default_factory=dict, repr=False)
    effects: Mapping[str, float] = field(default_factory=dict)

    label = "arima"
    formula = (
        "x(t) = sum of ar x(t - i) + e(t) + sum of ma e(t - i), for the differenced series "
        "less its mean"
    )
    use = "a monthly or yearly figure that moves with its own past, with a trend and a season"
    rules = {
        "ar": _coefficients,
        "ma": _coefficients,
        "sd": positive,
        "constant": finite,
        "differences": _count,
        "seasonal_ar": _coefficients,
        "seasonal_ma": _coefficients,
        "seasonal_differences": _count,
        "season": _count,
        "exog": exog_values,
        "effects": effects_of,
    }

    def __post_init__(self) -> None:
        instance("log", self.log, bool, "True or False")
        object.__setattr__(self, "history", series_values("history", self.history, self.log))
        super().__post_init__()
        if (self.seasonal_ar or self.seasonal_ma or self.seasonal_differences) and self.season < 2:
            raise ParameterError(
                "seasonal parts need season=, the periods of one season, such as 12"
            )
        for name, what in (
            ("ar", "stationary"),
            ("seasonal_ar", "stationary"),
            ("ma", "invertible"),
            ("seasonal_ma", "invertible"),
        ):
            sign = 1.0 if what == "stationary" else -1.0
            if not is_stationary([sign * value for value in getattr(self, name)]):
                raise ParameterError(
                    f"{name} = {list(getattr(self, name))} is not {what}: the roots of its "
                    "polynomial must lie outside the "
                    "unit circle"
                )
        if set(self.exog) != set(self.effects):
            lacking = sorted(set(self.exog) ^ set(self.effects))[0]
            raise ParameterError(
                f"each regressor has values in exog and a number in effects; {lacking!r} has one "
                "of the two"
            )
        if self.exog and self.known_ahead < 0:
            raise ParameterError(f"exog has {-self.known_ahead} values less than the history")
        if self.history and len(self.known) <= self.orders.lost:
            raise ParameterError(
                f"history has {len(self.known)} values, and differencing needs more than "
                f"{self.orders.lost}"
            )

    @cached_property
    def orders(self) -> Orders:
        """The number of parameters of each sort."""
        return Orders(
            len(self.ar),
            self.differences,
            len(self.ma),
            len(self.seasonal_ar),
            self.seasonal_differences,
            len(self.seasonal_ma),
            max(self.season, 1),
        )

    @property
    def multiplies(self) -> bool:  # type: ignore[override]
        """Whether its values stay above 0."""
        return self.log

    @property
    def start_value(self) -> float:
        if self.known:
            return float(self.known[-1])
        level = 0.0 if self.orders.lost else self.constant
        return math.exp(level) if self.log else level

    def _recursion(self, at: Any) -> tuple[list[Any], list[Any], Any]:
        """Return the weights of earlier values and of earlier shocks, and what is added each
        period; numbers or one per trial.
        """
        own = multiplied(
            polynomial(at.ar, -1.0), polynomial(at.seasonal_ar, -1.0, self.orders.season)
        )
        steady = sum(own[1:], own[0])
        for _ in range(self.differences):
            own = multiplied(own, [1.0, -1.0])
        for _ in range(self.seasonal_differences):
            own = multiplied(own, polynomial([1.0], -1.0, self.orders.season))
        moving = multiplied(
            polynomial(at.ma, 1.0), polynomial(at.seasonal_ma, 1.0, self.orders.season)
        )
        return [-value for value in own[1:]], moving[1:], at.constant * steady

    @property
    def known_ahead(self) -> int:
        """The number of periods after the history for which regressors are known; 0 without
        any.
        """
        lengths = [len(values) for values in self.exog.values()]
        return lengths[0] - len(self.history) if lengths else 0

    def _explained(self, effects: Mapping[str, Any]) -> Any:
        """Return what regressors add over the known history, ``(values, 1)`` or one per trial."""
        return contribution(effects, self.exog, slice(len(self.known)))

    def _added(self, effects: Mapping[str, Any], periods: int) -> Any:
        """Return what regressors add in the periods after the known history."""
        if self.exog and periods > self.gap + self.known_ahead:
            raise ParameterError(
                f"its regressors are known {self.known_ahead} periods ahead, and "
                f"{periods - self.gap} are asked for; give exog more rows"
            )
        begin = len(self.known)
        return contribution(effects, self.exog, slice(begin, begin + periods))

    @cached_property
    def _filled(self) -> Floats:
        """The history, in logs where it is of logs, with missing values at their best guess."""
        values = logs_of(self.known) if self.log else np.array(self.known, dtype=np.float64)
        lost = np.isnan(values)
        if lost.any():
            explained = np.broadcast_to(self._explained(self.effects), (len(values), 1))[:, 0]
            unexplained = ArimaLikelihood(values - explained, self.orders, self._has_constant)
            values[lost] = unexplained.at(vars(self)).missing + explained[lost]
        return values

    @property
    def _has_constant(self) -> bool:
        return self.constant != 0 or not self.orders.lost

    def _past(self, at: Any, count: int, shocks: int, trials: int) -> tuple[Floats, Any]:
        """Return the last ``count`` values, and the last ``shocks`` shocks, one set or one per
        trial; the newest last.
        """
        level = 0.0 if self.orders.lost or self.history else at.constant
        values = np.zeros((count, trials)) + level
        whole = self._filled[:, None] - self._explained(at.effects)
        kept = whole[-count:] if count else whole[:0]
        values[count - len(kept) :] = kept
        if not self.history or not shocks:
            return values, np.zeros((shocks, 1))
        every = getattr(at, "innovations", None)
        if every is None:
            every = self._innovations[:, None]
        before = np.zeros((shocks, every.shape[1]))
        kept = every[-shocks:]
        before[shocks - len(kept) :] = kept
        return values, before

    @cached_property
    def _innovations(self) -> Floats:
        """What the history did beyond its forecasts, one period ahead."""
        unexplained = self._filled - np.ravel(self._explained(self.effects))
        return ArimaLikelihood(unexplained, self.orders, False).innovations(
            vars(self), self.constant
        )

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        self._whole_steps(dt)
        own, moving, added = self._recursion(at)
        steps: Floats = shocks[0]
        steps *= at.sd
        periods, trials = steps.shape
        values, before = self._past(at, len(own), len(moving), trials)
        path = np.concatenate([values, np.empty((periods, trials))])
        every = (
            np.concatenate([np.broadcast_to(before, (len(moving), trials)), steps])
            if moving
            else steps
        )
        weights = [(i, value) for i, value in enumerate(own, start=1) if np.any(value)]
        shifted = [(i, value) for i, value in enumerate(moving, start=1) if np.any(value)]
        for t in range(periods):
            now, shock = len(own) + t, len(moving) + t
            row = path[now]
            np.add(every[shock], added, out=row)
            for i, value in weights:
                row += value * path[now - i]
            for i, value in shifted:
                row += value * every[shock - i]
        evolved = path[len(own) :]
        evolved += self._added(at.effects, periods)
        return np.exp(evolved, out=evolved) if self.log else evolved

    def _moments(self, periods: int) -> tuple[Floats, Floats]:
        """Return mean and variance ``(periods,)`` of the value, or of its log, in each period from
        now.
        """
        own, moving, _ = self._recursion(self)
        periods += self.gap
        weights = psi_weights([float(w) for w in own], [float(w) for w in moving], periods)
        flat = SimpleNamespace(**{**vars(self), "log": False})
        bare = (
            Arima(**{**self.parameters, "log": False, "history": tuple(self._filled.tolist())})
            if self.log
            else self
        )
        means = bare._evolve(np.zeros((1, periods, 1)), 1.0, flat)[:, 0]
        return means[self.gap :], self.sd**2 * np.cumsum(weights**2)[self.gap :]

    def _expected_values(self, periods: int, dt: float) -> Floats:
        self._whole_steps(dt)
        mean, variance = self._moments(periods)
        return np.exp(mean + variance / 2) if self.log else mean

    def _closed_form_at(self, time: float) -> Distribution | None:
        mean, variance = (float(values[-1]) for values in self._moments(self._periods_of(time, 1)))
        return (
            LogNormal.from_log(mean, math.sqrt(variance))
            if self.log
            else Normal(mean, math.sqrt(variance))
        )

    @checked
    def residuals(self) -> Floats:
        """Return what the history did beyond its forecasts, one period ahead, in units of ``sd``;
        NaN where it is missing.
        """
        if not self.history:
            raise ParameterError("needs a history to have residuals")
        return np.where(
            np.isnan(np.array(self.known)[self.orders.lost :]), np.nan, self._innovations / self.sd
        )

    @classmethod
    @checked
    def fit(
        cls,
        series: ArrayLike,
        order: Sequence[int] = (1, 0, 0),
        seasonal: Sequence[int] = (0, 0, 0, 0),
        log: bool = False,
        constant: bool | None = None,
        near: Process | None = None,
        exog: Any = None,
    ) -> Self:
        """Return the process fitted to a series by exact maximum likelihood, with standard
        errors in ``fitted``.

        ``order`` is (p, d, q): autoregressive terms, differences, moving-average terms;
        ``seasonal`` (P, D, Q, season) the same over a season. With ``log`` it is of the logs.
        ``constant`` is the mean of what is differenced, or with one difference the drift; it is
        fitted unless the series is differenced. NaN stands for a missing value.
        ``fitted.log_likelihood`` is that of the values as they are modelled: of the logs, with
        ``log``. The search begins at the process ``near``, if one of the same form is given that
        was fitted to a part of the series, and is quicker.

        ``exog`` are regressors that are known ahead: a DataFrame, a mapping from names to values,
        or an array ``(periods, regressors)``, with a row for each period of the series and one for
        each period to forecast; rows are matched by date where both have dates. Their effects are
        estimated together with the rest, by generalized least squares at the best coefficients.
        Raises ParameterError for a series, or regressors, that cannot be used. Source of the
        regression: Hamilton, Time Series Analysis (1994), section 8.3.

        >>> made = Arima(ar=[0.6], sd=1.0).paths(periods=300, trials=1, seed=3)[1:, 0]
        >>> round(Arima.fit(made, order=(1, 0, 0)).ar[0], 1)
        0.6
        >>> campaign = np.arange(312) % 7 == 0
        >>> found = Arima.fit(made + 5 * campaign[:300], exog={"campaign": campaign})
        >>> round(found.effects["campaign"]), found.known_ahead
        (5, 12)
        """
        orders = _orders(order, seasonal)
        near_theta = _theta_of(near, orders)
        regressors = aligned(exog, series)
        return cls._fit(series, order, seasonal, log, constant, near_theta, regressors)

    @classmethod
    def _fit(
        cls,
        series: ArrayLike,
        order: Sequence[int],
        seasonal: Sequence[int],
        log: bool,
        constant: bool | None,
        near: Floats | None,
        exog: Mapping[str, Sequence[float]],
    ) -> Self:
        orders = _orders(order, seasonal)
        instance("log", log, bool, "True or False")
        values = series_values("series", series, log, least=max(8, orders.lost + orders.free + 4))
        if constant is None:
            constant = not orders.lost
        instance("constant", constant, bool, "True or False")
        history, values = values, values[: known_length(values)]
        if 2 * orders.season > len(values) and orders.season > 1:
            raise ParameterError(
                f"a season of {orders.season} is longer than half the series, which has "
                f"{len(values)} values"
            )
        modelled = logs_of(values) if log else np.array(values)
        by_name = {name: np.array(column[: len(values)]) for name, column in exog.items()}
        model = ArimaLikelihood(modelled, orders, constant, by_name)
        _check_left(model)
        best = model.best(near)
        coefficients = orders.coefficients(best.theta)
        solved = model.at(coefficients)
        jacobian = -float(np.nansum(modelled[orders.lost :])) if log else 0.0
        at_bound = model.at_bound(best)
        estimated = OpenParameters(model, best)
        fitted = FittedSeries(
            model.observations,
            1.0,
            model.errors(best),
            (0.0,),
            ((1.0,),),
            _description(model, log, at_bound),
            intervals=Later(estimated, "intervals"),
            estimated=estimated,
            log_likelihood=solved.log_likelihood,
            jacobian=jacobian,
            parameter_count=orders.free + model.fixed + 1,
            at_bound=dict.fromkeys(at_bound, "on the border"),
        )
        return cls(
            **coefficients,
            sd=solved.sd,
            constant=solved.constant,
            differences=orders.differences,
            seasonal_differences=orders.seasonal_differences,
            season=orders.season,
            log=log,
            history=history,
            exog=exog,
            effects=solved.effects,
            fitted=fitted,
        )

    def refit(self) -> Self:
        o = self.orders
        order, seasonal = (
            (o.ar, o.differences, o.ma),
            (o.seasonal_ar, o.seasonal_differences, o.seasonal_ma, o.season),
        )
        if not any(seasonal[:3]):
            seasonal = (0, 0, 0, 0)
        begin = o.theta_of(vars(self))
        estimated = type(self)._fit(
            self.history, order, seasonal, self.log, self._has_constant, begin, self.exog
        )
        refitted: Self = same_process(self, estimated, (*COEFFICIENTS, "sd", "constant"))
        return refitted

    def _named_parameters(self, theta: Floats) -> Any:
        """Return parameters picked from those that the series allows, with the shocks that
        they make of the history.
        """
        assert self.fitted is not None
        rows = self.fitted.estimated.rows
        smaller = np.minimum((ndtr(theta[0]) * len(rows)).astype(np.int64), len(rows) - 1)
        parameters: dict[str, Any] = {
            name: _columns(rows, name)[:, smaller]
            for name in (*COEFFICIENTS, "constant", "sd", "innovations")
        }
        for name in COEFFICIENTS:
            parameters[name] = tuple(parameters[name])
        parameters["effects"] = {
            name: np.array([row["effects"][name] for row in rows])[smaller] for name in self.effects
        }
        return SimpleNamespace(
            **{**parameters, "constant": parameters["constant"][0], "sd": parameters["sd"][0]}
        )

    def _redrawn(self, count: int) -> list[Self]:
        if self.fitted is None:
            return []
        rows = self.fitted.estimated.rows
        names = (*COEFFICIENTS, "constant", "sd", "effects")
        return [
            replace(self, fitted=None, **{name: rows[i % len(rows)][name] for name in names})
            for i in range(count)
        ]


def _columns(rows: list[dict[str, Any]], name: str) -> Floats:
    return (
        np.array([np.atleast_1d(np.asarray(row[name], dtype=np.float64)) for row in rows])
        .reshape(len(rows), -1)
        .T
    )


def _theta_of(near: Any, orders: Orders) -> Floats | None:
    """Return the free parameters of a fitted process of the same form, None of any other."""
    estimated = getattr(getattr(near, "fitted", None), "estimated", None)
    same = isinstance(estimated, OpenParameters) and estimated.likelihood.orders == orders
    return np.array(estimated.found.theta) if same and estimated is not None else None


def _orders(order: Sequence[int], seasonal: Sequence[int]) -> Orders:
    if np.shape(order) != (3,):
        raise ParameterError(f"order must be (p, d, q), three whole numbers, not {order!r:.40}")
    if np.shape(seasonal) != (4,):
        raise ParameterError(
            f"seasonal must be (P, D, Q, season), four whole numbers, not {seasonal!r:.40}"
        )
    p, d, q = (
        check_integer(f"order's {name}", value, least=0)
        for name, value in zip("pdq", order, strict=True)
    )
    names = ("P", "D", "Q", "season")
    sp, sd, sq, season = (
        check_integer(f"seasonal's {n}", v, least=0) for n, v in zip(names, seasonal, strict=True)
    )
    for name, value, most in (
        ("d", d, MOST_DIFFERENCES),
        ("D", sd, 1),
        ("p", p, MOST_ORDER),
        ("q", q, MOST_ORDER),
    ):
        if value > most:
            raise ParameterError(f"{name} must be at most {most}, not {value}")
    if (sp or sd or sq) and season < 2:
        raise ParameterError(f"the season must be at least 2 periods, such as 12, not {season}")
    return Orders(p, d, q, sp, sd, sq, season if sp or sd or sq else 1)


def _check_left(model: ArimaLikelihood) -> None:
    left = model.observations - model.orders.free - model.fixed
    if left < 4:
        raise ParameterError(
            f"{left + model.orders.free} values are too few for so large a number of parameters"
        )
    own = model._columns[:, 0]
    if np.ptp(own) <= 1e-12 * max(float(np.abs(own).max()), 1e-300):
        raise ParameterError("the differenced series is constant; there is nothing to estimate")
    told = model.not_told_apart
    if told is not None:
        differenced = " after differencing" if model.orders.lost else ""
        raise ParameterError(
            f"the effect of the regressor {told!r} cannot be told: it is constant, or a sum of "
            f"the others{differenced}"
        )


def _description(model: ArimaLikelihood, log: bool, at_bound: list[str]) -> str:
    o = model.orders
    lost = int(np.isnan(model.series).sum())
    parts = [f"exact maximum likelihood from {len(model.series) - lost} values"]
    if lost:
        parts.append(f"{lost} missing")
    if log:
        parts.append("of the logs")
    if model.exog:
        parts.append(f"with the regressors {', '.join(model.exog)}")
    if o.lost:
        times = f"{o.differences} time{'s' if o.differences > 1 else ''}" if o.differences else ""
        season = f"over {o.season} periods" if o.seasonal_differences else ""
        parts.append(f"differenced {' and '.join(filter(None, (times, season)))}")
    parts += [f"{name} lies on the border of what is stationary or invertible" for name in at_bound]
    return "; ".join(parts)
