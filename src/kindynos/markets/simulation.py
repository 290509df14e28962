"""Losses of a portfolio simulated by the library's own engine."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import Normal
from kindynos.engine.progress import forwarded_progress
from kindynos.errors import ParameterError
from kindynos.fitting.student import fit_student
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import ends_of_draws
from kindynos.inference.rows import loss_tail
from kindynos.markets.exposure import Exposure
from kindynos.markets.held_model import rank_correlations, still
from kindynos.markets.joint_fit import likely_copula, refit_returns
from kindynos.markets.method import MEASURES, Method
from kindynos.markets.profits import ProfitOf
from kindynos.markets.volatility import DECAY, weighted_volatility
from kindynos.memory import remembered
from kindynos.processes.clustering import fit_garch
from kindynos.program.correlations import checked_correlation
from kindynos.program.quantities import DistributionDriver, Line, Quantity
from kindynos.program.statement import Statement
from kindynos.program.timeline import Timeline
from kindynos.registry import Registry
from kindynos.results.options import SimulationOptions
from kindynos.results.run import Run
from kindynos.results.simulate import simulate
from kindynos.validate import checked, one_of

COPULAS: Registry[None] = Registry("copula", {"gaussian": None, "t": None})
NEAR = 0.005  # of the trials on each side of the value at risk, whose holdings' losses explain it


@dataclass(frozen=True, kw_only=True)
class Simulated(Method):
    """Losses of simulated days: a distribution of each instrument's returns, joined by a copula,
    over paths of several days.

    ``marginals`` are distributions by instrument, or "student" (the default) or "normal" to fit
    them; ``copula`` and ``df`` as in ``Model.correlate``, with the rank correlations of the window;
    default: a Gaussian copula, or the t copula that makes the window likelier.
    ``volatility`` "weighted" or "garch" rescales the returns to today's volatility first, and
    follows its forecast day by day; without it the window's is taken. The interval is that of
    fits of margins and copula to histories drawn from the window again in blocks, with the sampling
    error of the trials.
    """

    trials: int = 20_000
    seed: int = 0
    marginals: Any = None
    copula: str | None = None
    df: float | None = None
    volatility: str | None = None

    label = "simulated"
    use = "simulated days: a distribution for each instrument, joined by a copula"
    rolling = False

    @checked
    def __post_init__(self) -> None:
        if self.copula is not None:
            COPULAS.find(self.copula)
        if self.volatility is not None:
            one_of("volatility", self.volatility, ("weighted", "garch"))

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        raise ParameterError(
            "simulating again for every day is not offered; take historical, filtered or student"
        )

    def profits(self, exposure: Exposure, horizon: int) -> Run:
        """Return the run whose outcome is the ``profit`` of all that is held."""
        return self._run(exposure, horizon)[0]

    def _run(self, exposure: Exposure, horizon: int) -> tuple[Run, ProfitOf]:
        """Return the run, and its function from the moves of the columns to profits."""
        today, scales = self._rescaled(exposure, horizon)
        drivers = tuple(_marginals(today, self.marginals))
        pairs = _rank_correlations(today.returns)
        joined = self._joined(today)
        profit = _profit_of(today, scales, horizon)
        return _run(profit, drivers, pairs, horizon, self.trials, self.seed, joined), profit

    def _joined(self, exposure: Exposure) -> tuple[str, float | None]:
        """Return the copula and its degrees of freedom: stated, or the likelier ones."""
        if self.copula is not None:
            return self.copula, self.df
        df = likely_copula(exposure.returns).df
        return ("gaussian", None) if df is None else ("t", df)

    def figure(self, exposure: Exposure, measure: str, level: float, horizon: int) -> float:
        return float(self._sampled(exposure, measure, level, horizon))

    def _sampled(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        return _statistic(self.profits(exposure, horizon), measure, level)

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        sampled = self._sampled(exposure, measure, level, horizon)
        if isinstance(self.marginals, Mapping):
            note = "the distributions were given, so that only sampling error is counted"
            return Estimate(float(sampled), sampled.low, sampled.high, sampled.rough, note)
        today, scales = self._rescaled(exposure, horizon)
        df = self._joined(today)[1]
        profit = _profit_of(today, scales, horizon)
        losses = _refit_losses(profit, today.returns, self.marginals or "student", df, horizon)
        figures = _tails(losses, level)[MEASURES.index(measure)]
        value, gaps = float(sampled), figures[1:] - figures[0]
        # a figure of few trials may lie apart from that of many; what refits change is in
        # proportion
        factor = value / figures[0] if figures[0] * value > 0 else 1.0
        low, high = ends_of_draws(factor * gaps)
        centre, half = value + (low + high) / 2, math.hypot((high - low) / 2, sampled.error)
        return Estimate(value, centre - half, centre + half, sampled.rough)

    def stretched(self, exposure: Exposure, horizon: int) -> tuple[Exposure, int]:
        return exposure, horizon  # paths are drawn

    def sampling_error(self, exposure: Exposure, measure: str, level: float, horizon: int) -> float:
        return self._sampled(exposure, measure, level, horizon).error

    def shares(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Floats:
        """Return what each thing held adds, in proportion to its losses in the trials beyond the
        value at risk, or near it.
        """
        run, profit = self._run(exposure, horizon)
        figure = self.figure(exposure, measure, level, horizon)
        losses = -np.asarray(run["profit"].values)
        drawn = {name: run[name].values for name in profit.names}
        own = -profit.book.profits(profit.moves(**drawn), profit.days)
        order = np.argsort(losses)
        position = level * len(losses)
        reach = max(NEAR * len(losses), 10.0)
        first = position - reach if measure == "value_at_risk" else position
        last = position + reach if measure == "value_at_risk" else len(losses)
        means = own[:, order[max(int(first), 0) : max(int(last), int(first) + 1)]].mean(axis=1)
        return np.asarray(means / means.sum() * figure)

    def doubt(self, exposure: Exposure) -> str:
        text = "" if self.volatility else super().doubt(exposure)
        likely = likely_copula(exposure.returns)
        if self.copula == "gaussian" and likely.df is not None:
            joint = (
                "large moves come together more often than a Gaussian copula has it (a t copula "
                f"with {likely.df:g} degrees of freedom is likelier)"
            )
            text = f"{text}; {joint}" if text else joint
        return text

    def description(self, exposure: Exposure, horizon: int) -> str:
        model = {
            "weighted": ", from today's volatility",
            "garch": ", from the volatility that GARCH(1,1) forecasts",
        }
        followed = model.get(self.volatility or "", "")
        copula, df = self._joined(exposure)
        joined = (
            f"t copula with {df:g} degrees of freedom" if df is not None else f"{copula} copula"
        )
        return (
            f"{self.trials:,} simulated paths of {exposure.spacing.span(horizon)}{followed}, "
            f"{joined}, seed {self.seed}"
        )

    def _rescaled(
        self, exposure: Exposure, horizon: int
    ) -> tuple[Exposure, tuple[tuple[float, ...], ...] | None]:
        """Return the returns rescaled to the day to come, and each instrument's volatility on each
        day over that.
        """
        if self.volatility is None:
            return exposure, None
        if self.volatility == "weighted":
            path = weighted_volatility(exposure.returns.T, DECAY)
            scales = None
        else:
            models = [fit_garch(column) for column in exposure.returns.T]
            path = np.stack([model.volatility for model in models])
            scales = tuple(
                tuple((f / f[0]).tolist()) for f in (model.forecast(horizon) for model in models)
            )
        return exposure.with_returns(exposure.returns * (path[:, -1:] / path[:, :-1]).T), scales


def _profit_of(
    exposure: Exposure, scales: tuple[tuple[float, ...], ...] | None, horizon: int
) -> ProfitOf:
    names = tuple(f"r{position}" for position in range(len(exposure.names)))
    absolute = tuple(exposure.differences.tolist())
    return ProfitOf(exposure.book, scales, absolute, exposure.days * horizon, names)


@remembered
def _run(
    profit: ProfitOf,
    marginals: tuple[Distribution, ...],
    pairs: tuple[tuple[int, int, float], ...],
    horizon: int,
    trials: int,
    seed: int,
    joined: tuple[str, float | None],
) -> Run:
    names = profit.names
    quantities: dict[str, Quantity] = {
        name: DistributionDriver(name, base=0.0, distribution=marginal, each="period")
        for name, marginal in zip(names, marginals, strict=True)
    }
    copula, df = joined
    entries = tuple(
        checked_correlation((names[a], names[b]), value, copula=copula, df=df, repair=True)
        for a, b, value in pairs
    )
    quantities["profit"] = Line("profit", profit, outcome=True)
    statement = Statement("portfolio", Timeline(periods=horizon), quantities, entries)
    return simulate(
        statement.program, SimulationOptions(trials, seed, "random", progress=forwarded_progress())
    )


def _statistic(run: Run, measure: str, level: float) -> Estimate:
    result = run["profit"]
    return (
        result.value_at_risk(level)
        if measure == "value_at_risk"
        else result.expected_shortfall(level)
    )


@remembered
def _rank_correlations(returns: Floats) -> tuple[tuple[int, int, float], ...]:
    """Return the rank correlation of each pair of instruments, from their returns ``(returns,
    instruments)``.
    """
    matrix, count = rank_correlations(returns), returns.shape[1]
    return tuple((j, i, float(matrix[i, j])) for i in range(count) for j in range(i))


_fitted_student = remembered(fit_student)


@remembered
def _refit_losses(
    profit: ProfitOf, returns: Floats, marginals: str, df: float | None, horizon: int
) -> tuple[Floats, ...]:
    """Return the losses that each fit to a history drawn again simulates, the fit to the whole
    window first.
    """
    drawn = refit_returns(returns, marginals, df, horizon)
    return tuple(-profit(**dict(zip(profit.names, rows, strict=True))) for rows in drawn)


def _tails(losses: tuple[Floats, ...], level: float) -> Floats:
    """Return value at risk and expected shortfall of each row of losses, ``(2, rows)``."""
    return np.array([[part[0] for part in loss_tail(row[None], level)] for row in losses]).T


def _marginals(exposure: Exposure, marginals: Any) -> list[Distribution]:
    if marginals in (None, "student"):
        return [still(column) or _fitted_student(column) for column in exposure.returns.T]
    if marginals == "normal":
        return [
            still(column) or Normal(float(column.mean()), float(column.std(ddof=1)))
            for column in exposure.returns.T
        ]
    if not isinstance(marginals, Mapping):
        raise ParameterError(
            "marginals must be 'student', 'normal', or distributions by instrument, not "
            f"{marginals!r:.60}"
        )
    for name in exposure.names:
        if not isinstance(marginals.get(name), Distribution):
            raise ParameterError(f"marginals need a distribution for {name!r}")
    return [marginals[name] for name in exposure.names]
