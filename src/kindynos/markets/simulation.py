"""Losses of a portfolio simulated by the library's own engine."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import Normal
from kindynos.errors import ParameterError
from kindynos.finance.ledger import grow
from kindynos.fitting.student import fit_student
from kindynos.markets.exposure import Exposure
from kindynos.program.correlations import checked_correlation
from kindynos.program.quantities import DistributionDriver, Line, Quantity
from kindynos.program.statement import Statement
from kindynos.program.timeline import Timeline
from kindynos.registry import Registry
from kindynos.results.reached_correlations import correlation, ranks
from kindynos.results.result import Result
from kindynos.results.simulate import Settings, simulate

COPULAS: Registry[None] = Registry("copula", {"gaussian": None, "t": None})
STRONGEST = 0.999  # rank correlation that a copula is given


@dataclass(frozen=True)
class _Profit:
    """The profit of holdings in money, from the simple returns of each instrument by day, ``(days, trials)``."""

    values: tuple[float, ...]
    __signature__: Any = field(compare=False)

    def __call__(self, **returns: Floats) -> Floats:
        return np.asarray(sum(value * (grow(row)[-1] - 1) for value, row in zip(self.values, returns.values(), strict=True)))


def simulated_losses(
    exposure: Exposure, horizon: int, trials: int, seed: int, marginals: Any, copula: str, df: float | None
) -> Result:
    """Return the profit of simulated paths (a loss is below 0); see ``methods.Simulated``."""
    COPULAS.find(copula, "simulated")
    drivers = tuple(_marginals(exposure, marginals))
    scaled = [ranks(column) for column in exposure.returns.T]
    pairs = tuple(
        (j, i, float(np.clip(correlation(scaled[i], scaled[j]), -STRONGEST, STRONGEST)))
        for i in range(len(drivers))
        for j in range(i)
    )
    return _profit(tuple(map(float, exposure.values)), drivers, pairs, horizon, trials, seed, copula, df)


@lru_cache(maxsize=8)  # value at risk and expected shortfall at several levels are read off the same trials
def _profit(
    values: tuple[float, ...],
    marginals: tuple[Distribution, ...],
    pairs: tuple[tuple[int, int, float], ...],
    horizon: int,
    trials: int,
    seed: int,
    copula: str,
    df: float | None,
) -> Result:
    names = [f"r{place}" for place in range(len(marginals))]
    drivers = [
        DistributionDriver(name, base=0.0, distribution=marginal, each="period")
        for name, marginal in zip(names, marginals, strict=True)
    ]
    entries = tuple(
        checked_correlation((names[a], names[b]), value, copula=copula, df=df, repair=True) for a, b, value in pairs
    )
    profit = Line("profit", _Profit(values, _signature(names)), outcome=True)
    quantities: dict[str, Quantity] = {driver.name: driver for driver in drivers}
    quantities[profit.name] = profit
    statement = Statement("portfolio", Timeline(periods=horizon), quantities, entries)
    return simulate(statement.program, Settings(trials, seed, "random"))["profit"]


def _signature(names: list[str]) -> Any:
    from inspect import Parameter, Signature

    return Signature([Parameter(name, Parameter.KEYWORD_ONLY) for name in names])


@lru_cache(maxsize=256)  # one window's returns are asked about at several levels
def _fitted(returns: bytes) -> Distribution:
    return fit_student(np.frombuffer(returns))


def _marginals(exposure: Exposure, marginals: Any) -> list[Distribution]:
    if marginals in (None, "student"):
        return [_fitted(column.tobytes()) for column in exposure.returns.T]
    if marginals == "normal":
        return [Normal(float(c.mean()), float(c.std(ddof=1))) for c in exposure.returns.T]
    if not isinstance(marginals, Mapping):
        raise ParameterError(
            f"marginals must be 'student', 'normal', or distributions by instrument, not {marginals!r:.60}", owner="simulated"
        )
    for name in exposure.names:
        if not isinstance(marginals.get(name), Distribution):
            raise ParameterError(f"marginals need a distribution for {name!r}", owner="simulated")
    return [marginals[name] for name in exposure.names]
