"""Prices whose volatility clusters."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from types import SimpleNamespace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.real_line import StudentT
from kindynos.distributions.special import expit, gammaln, logit, ndtr, stdtrit
from kindynos.errors import ParameterError
from kindynos.inference.later import Later
from kindynos.processes.base import check_moves, observed
from kindynos.processes.fading import fading_sum
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.likelihood import (
    REJECTED,
    LikelihoodOptimum,
    likelihood_optimum,
    likely_intervals,
    lowest,
    picked,
    resampled,
)
from kindynos.processes.series import InPeriods
from kindynos.validate import (
    checked,
    checked_init,
    finite,
    fraction,
    invalid_argument,
    one_of,
    positive,
)

FEWEST = 50  # returns
STICKY = 0.2  # the power of 1 - persistence in what is known before: 1 where all are alike
MOST_PERSISTENT = 0.9995
MOST_DF = 200.0  # where Student's t is the normal distribution for all that returns can tell
SHOCKS = ("normal", "t")


def _below_one(name: str, value: Any) -> float:
    number = fraction(name, value)
    if number == 1:
        raise invalid_argument(name, "below 1, where the variance has a long-run value", number)
    return number


def _inside(name: str, value: Any) -> float:
    number = finite(name, value)
    if not abs(number) < 1:
        raise invalid_argument(name, "between -1 and 1", number)
    return number


def _df(name: str, value: Any) -> float | None:
    if value is None:
        return None
    number = finite(name, value)
    if not number > 2:
        raise invalid_argument(name, "above 2, where shocks have a variance", number)
    return number


@checked_init
@dataclass(frozen=True)
class Garch(InPeriods):
    """A price whose log returns have a volatility that clusters, in steps of one period:
    GARCH(1,1).

    The variance of the next log return is (1 - persistence) volatility² + reaction e² +
    (persistence - reaction) x the variance before, where e is the last shock; ``volatility`` is the
    long-run sd a period and ``today`` that of the next period (default: the long-run one). Log
    returns are mean + ar (last return - mean) + e, where e is normal or, with ``df``, of Student's
    t. ``last`` is the last log return.

    Source: Bollerslev, Journal of Econometrics 31 (1986), 307-327; with Student's t, Review of
    Economics and Statistics 69 (1987).

    >>> made = Garch(start=100.0, volatility=0.01, reaction=0.1, persistence=0.95)
    >>> round(made.kurtosis, 2)
    3.77
    """

    start: float
    volatility: float
    reaction: float
    persistence: float
    mean: float = 0.0
    ar: float = 0.0
    df: float | None = None
    today: float | None = None
    last: float | None = None

    label = "garch"
    formula = (
        "variance(t + 1) = (1 - persistence) volatility^2 + reaction e(t)^2 + (persistence - "
        "reaction) variance(t)"
    )
    use = "a daily price with calm and stormy times"
    multiplies = True
    rules = {
        "start": positive,
        "volatility": positive,
        "reaction": fraction,
        "persistence": _below_one,
        "mean": finite,
        "ar": _inside,
        "df": _df,
    }

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.reaction > self.persistence:
            raise invalid_argument(
                "reaction",
                f"at most persistence ({self.persistence:g}), which includes it",
                self.reaction,
            )
        for name, rule in (("today", positive), ("last", finite)):
            if getattr(self, name) is not None:
                object.__setattr__(self, name, rule(name, getattr(self, name)))

    @property
    def kurtosis(self) -> float:
        """The kurtosis of the shocks of a long stretch; infinite where the fourth moment does not
        exist.
        """
        own = (
            3.0
            if self.df is None
            else (3 * (self.df - 2) / (self.df - 4) if self.df > 4 else math.inf)
        )
        a, b = self.reaction, self.persistence - self.reaction
        left = 1 - own * a * a - 2 * a * b - b * b
        return (
            own * (1 - self.persistence**2) / left if left > 0 and math.isfinite(own) else math.inf
        )

    def _logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        self._whole_steps(dt)
        steps = _student(shocks[0], at.df)
        long_run = at.volatility**2
        shape = steps.shape[1:]
        variance = np.broadcast_to(long_run if at.today is None else at.today**2, shape).astype(
            np.float64
        )
        gap = np.broadcast_to(0.0 if at.last is None else at.last - at.mean, shape)
        level = np.zeros(shape)
        for row in steps:
            shock = np.sqrt(variance) * row
            gap = at.ar * gap + shock
            level = level + at.mean + gap
            row[...] = level
            variance = (
                (1 - at.persistence) * long_run
                + at.reaction * shock**2
                + (at.persistence - at.reaction) * variance
            )
        return steps

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        values = self._logs(shocks, dt, at)
        return np.multiply(np.exp(values, out=values), self.start, out=values)

    @checked
    def forecast(self, periods: int) -> Floats:
        """Return the sd of the shock of each of the next periods, ``(periods,)``, which goes to the
        long-run one.
        """
        today = self.volatility if self.today is None else self.today
        gap = today**2 - self.volatility**2
        return np.asarray(
            np.sqrt(self.volatility**2 + gap * self.persistence ** np.arange(periods))
        )

    def _expected_values(self, periods: int, dt: float) -> Floats:
        """Return the prices without shocks, ``(periods,)``, which are near the median; the mean has
        no closed form.
        """
        self._whole_steps(dt)
        steady = Garch(**{**self.parameters, "df": None})
        return steady._evolve(np.zeros((1, periods, 1)), 1.0, steady)[:, 0]

    @classmethod
    @checked
    def fit(cls, series: ArrayLike, shocks: str = "t", mean: str = "constant") -> Self:
        """Return the process fitted to prices, one per period, by maximum likelihood, with
        standard errors in ``fitted``.

        ``shocks`` are ``"normal"`` or ``"t"``; ``mean`` is ``"constant"`` or ``"ar"``, with which a
        return leans on the one before. Raises ParameterError for prices that cannot be used, and
        fewer than 50 returns.

        >>> made = Garch(100.0, 0.01, 0.1, 0.9).paths(periods=1500, trials=1, seed=2)[:, 0]
        >>> abs(Garch.fit(made, shocks="normal").persistence - 0.9) < 0.1
        True
        """
        one_of("shocks", shocks, SHOCKS)
        one_of("mean", mean, ("constant", "ar"))
        values, _ = observed(series, 1.0, above_zero=True)
        returns = np.diff(np.log(values))
        if len(returns) < FEWEST:
            raise ParameterError(f"needs at least {FEWEST} returns, and there are {len(returns)}")
        check_moves(returns, float(returns.std()), "grows by the same share")
        model = GarchLikelihood(returns, shocks == "t", mean == "ar")
        best = model.best()
        named = model.named(best.theta)
        today, _ = model.path(best.theta)
        at_bound = model.at_bound(best.theta)
        errors = {
            name: math.inf if name in at_bound else error
            for name, error in best.errors(model.named).items()
        }
        estimated = OpenGarch(model, best)
        fitted = FittedSeries(
            len(returns),
            1.0,
            errors,
            (0.0,),
            ((1.0,),),
            model.description(at_bound),
            intervals=Later(estimated, "intervals"),
            estimated=estimated,
            log_likelihood=-model.cost(best.theta),
            jacobian=-float(np.log(values[1:]).sum()),
            parameter_count=len(best.theta),
            at_bound=at_bound,
        )
        return cls(float(values[-1]), **named, today=today, last=float(returns[-1]), fitted=fitted)

    @checked
    def residuals(self) -> Floats:
        """Return the shocks of the returns it was fitted to, in units of their volatility."""
        if self.fitted is None:
            raise ParameterError("needs a fit to have residuals")
        estimated: OpenGarch = self.fitted.estimated
        return estimated.likelihood.path(estimated.found.theta)[1]

    def _named_parameters(self, theta: Floats) -> Any:
        """Return parameters picked from those that the series allows, with the volatility they
        give the next period.
        """
        assert self.fitted is not None
        estimated: OpenGarch = self.fitted.estimated
        rows = picked(estimated.rows, theta[0])
        names = estimated.names
        parameters = dict(zip(names, rows, strict=True))
        last = np.full(rows.shape[1], self.last or 0.0)
        base = {"ar": np.zeros(rows.shape[1]), "df": None, **parameters, "last": last}
        return SimpleNamespace(**base)


def _student(scores: Floats, df: Any) -> Floats:
    """Return shocks with variance 1 from standard normals ``(periods, trials)``: the same, or
    Student's t.
    """
    if df is None:
        return scores
    u = ndtr(scores)
    if np.ndim(df) == 0:
        return StudentT(float(df), 0.0, 1.0)._quantile(u)
    return np.asarray(stdtrit(df, u) * np.sqrt((df - 2) / df))


def conditional_variances(
    squares: Floats, long_run: Any, reaction: float, persistence: float
) -> Floats:
    """Return the variance of each period and of the next one, ``(..., periods + 1)``, from squared
    shocks ``(..., periods)``; the first period has the long-run one, a number or one per row.
    """
    start = np.expand_dims(long_run, -1)
    news = start * (1 - persistence) + reaction * np.concatenate([start, squares], axis=-1)
    news[..., :1] = start
    return fading_sum(news, persistence - reaction)


@dataclass(frozen=True)
class GarchLikelihood:
    """The likelihood of log returns ``(returns,)`` by free parameters: mean, log volatility,
    persistence, its share, ar, df.
    """

    returns: Floats
    student: bool
    autoregressive: bool

    @cached_property
    def unit(self) -> float:
        """The sd of the returns."""
        return float(self.returns.std())

    @property
    def prior_sd(self) -> list[float]:
        """The sds within which the parameters lie before any returns are seen."""
        return [1.0, 0.7, 1.5, 1.5, *([0.5] * self.autoregressive), *([1.0] * self.student)]

    def draws(self, generator: np.random.Generator, count: int) -> Floats:
        """Return parameters ``(parameters, count)`` as they are before any returns are seen:
        persistences rather near 1, as in most markets, and all shares of it that are the reaction's
        alike.
        """
        normals = np.array(self.prior_sd)[:, None] * generator.standard_normal(
            (len(self.prior_sd), count)
        )
        normals[2] = -logit(generator.random(count) ** (1 / STICKY))
        normals[3] = logit(generator.random(count))
        return normals + self._centre[:, None]

    def logs(self, thetas: Floats) -> Floats:
        """Return the logs of the density ``(count,)`` of those."""
        sds = np.array(self.prior_sd)[:, None]
        normal = -0.5 * ((thetas - self._centre[:, None]) / sds) ** 2 - np.log(sds)
        logs = normal - 0.5 * math.log(2 * math.pi)
        up, down = -np.logaddexp(0, -thetas[2:4]), -np.logaddexp(0, thetas[2:4])
        logs[2] = math.log(STICKY) + up[0] + STICKY * down[0]
        logs[3] = up[1] + down[1]
        return np.asarray(logs.sum(axis=0))

    @property
    def _centre(self) -> Floats:
        last = [0.0] * self.autoregressive + [math.log(4.0)] * self.student
        return np.array([float(self.returns.mean()) / self.unit, 0.0, 0.0, 0.0, *last])

    def named(self, theta: Floats) -> dict[str, float]:
        """Return the parameters by name."""
        free = iter(np.asarray(theta).tolist())
        mean, log_volatility = self.unit * next(free), min(max(next(free), -10.0), 10.0)
        persistence = MOST_PERSISTENT * float(expit(next(free)))
        parameters = {
            "volatility": self.unit * math.exp(log_volatility),
            "reaction": persistence * float(expit(next(free))),
            "persistence": persistence,
            "mean": mean,
        }
        if self.autoregressive:
            parameters["ar"] = math.tanh(next(free))
        if self.student:
            parameters["df"] = 2 + math.exp(min(max(next(free), -30.0), math.log(MOST_DF - 2)))
        return parameters

    def shocks(self, parameters: Mapping[str, float]) -> Floats:
        """Return what the returns leave when their mean is taken off."""
        gaps = self.returns - parameters["mean"]
        return gaps - parameters.get("ar", 0.0) * np.concatenate([[0.0], gaps[:-1]])

    def variances(self, parameters: Mapping[str, float], squares: Floats) -> Floats:
        """Return the variance of each period and of the next one."""
        path = conditional_variances(
            squares,
            parameters["volatility"] ** 2,
            parameters["reaction"],
            parameters["persistence"],
        )
        return np.maximum(path, 1e-12 * self.unit**2)

    def volatilities(self, theta: Floats) -> Floats:
        """Return the volatility of each period and of the next one, ``(returns + 1,)``."""
        named = self.named(theta)
        return np.sqrt(self.variances(named, self.shocks(named) ** 2))

    def path(self, theta: Floats) -> tuple[float, Floats]:
        """Return the volatility of the next period, and the shocks so far in units of theirs."""
        spread = self.volatilities(theta)
        return float(spread[-1]), self.shocks(self.named(theta)) / spread[:-1]

    def cost(self, theta: Floats) -> float:
        """Return the negative log likelihood of the returns."""
        named = self.named(theta)
        squares = self.shocks(named) ** 2
        variance = self.variances(named, squares)[:-1]
        if not self.student:
            return float(0.5 * (np.log(2 * math.pi * variance) + squares / variance).sum())
        df = named["df"]
        constant = float(gammaln((df + 1) / 2) - gammaln(df / 2)) - 0.5 * math.log(
            (df - 2) * math.pi
        )
        logs = 0.5 * np.log(variance) + (df + 1) / 2 * np.log1p(squares / (variance * (df - 2)))
        return float(logs.sum()) - len(squares) * constant

    def calm(self) -> float:
        """Return the least negative log likelihood without a reaction."""
        calm = [float(self.returns.mean()) / self.unit, 0.0, 0.0, -30.0]
        last = [0.0] * self.autoregressive + [math.log(4.0)] * self.student
        places = [0, 1, *range(4, 4 + len(last))]
        start = np.array([*calm, *last])

        def cost(free: Floats) -> float:
            theta = start.copy()
            theta[places] = free
            return self.cost(theta)

        return cost(lowest(cost, [start[places].tolist()]))

    def best(self) -> LikelihoodOptimum:
        """Return the maximum, from calm and from lively starts."""
        mean = float(self.returns.mean()) / self.unit
        last = [0.0] * self.autoregressive + [math.log(4.0)] * self.student
        starts = [[mean, 0.0, 3.0, -2.0, *last], [mean, 0.0, 0.0, -0.5, *last]]
        return likelihood_optimum(self.cost, lowest(self.cost, starts).tolist())

    def at_bound(self, theta: Floats) -> dict[str, str]:
        """Return what lies at an end, with what it means."""
        named = self.named(theta)
        bounds = {}
        if named["reaction"] < 1e-3:
            bounds["reaction"] = "nothing in the returns points to volatility that clusters"
            bounds["persistence"] = "means nothing without a reaction"
        elif named["persistence"] > 0.999:
            bounds["persistence"] = "the volatility has no long-run level that the returns tell"
        if named.get("df", 0.0) > 0.95 * MOST_DF:
            bounds["df"] = "the shocks are no more heavy-tailed than normal ones"
        return bounds

    def description(self, at_bound: dict[str, str]) -> str:
        """Return how it was fitted."""
        shocks = "Student's t" if self.student else "normal"
        lean = ", leaning on the return before" if self.autoregressive else ""
        return "; ".join(
            [
                f"maximum likelihood from {len(self.returns)} log returns with {shocks} "
                f"shocks{lean}",
                *at_bound.values(),
            ]
        )


@dataclass(frozen=True)
class OpenGarch:
    """Draws of the parameters as the returns leave them open; worked out when they are first asked
    for.
    """

    likelihood: GarchLikelihood
    found: LikelihoodOptimum

    @property
    def names(self) -> list[str]:
        """The names of the rows."""
        return [*self.likelihood.named(self.found.theta), "today"]

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """95 % intervals of the parameters by name. Where the likelihood allows that there is no
        reaction, the returns do not tell the persistence.
        """
        model = self.likelihood
        by_name = likely_intervals(model.cost, self.found, model.prior_sd, model.named, model)
        if model.calm() - model.cost(self.found.theta) < REJECTED:
            by_name["reaction"] = (0.0, by_name["reaction"][1])
            by_name["persistence"] = (0.0, MOST_PERSISTENT)
        return by_name

    @cached_property
    def rows(self) -> tuple[tuple[float, ...], ...]:
        """The parameters, and the volatility of the next period, ``(parameters, draws)``."""
        model = self.likelihood
        thetas = np.array(resampled(model.cost, self.found, model.prior_sd, model)).T
        values = [[*model.named(theta).values(), model.path(theta)[0]] for theta in thetas]
        return tuple(map(tuple, np.array(values).T.tolist()))
