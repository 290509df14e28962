"""Pictures. Every function draws on ``ax``, or on a new one, and returns it."""

from __future__ import annotations

from kindynos.plots.comparison import comparison
from kindynos.plots.convergence import convergence
from kindynos.plots.distribution import distribution
from kindynos.plots.fan import fan
from kindynos.plots.law import law
from kindynos.plots.markets import (
    allocation,
    backtest,
    correlation_map,
    growth_against_fall,
    paths_fan,
    portfolio_value,
    prices_rebased,
    returns_through_time,
    risk_levels,
    worst_falls,
)
from kindynos.plots.sensitivity import sensitivity
from kindynos.plots.style import save_figure
from kindynos.plots.survival import survival
from kindynos.plots.sweep import goal, sweep

__all__ = [
    "allocation",
    "backtest",
    "comparison",
    "convergence",
    "correlation_map",
    "distribution",
    "fan",
    "goal",
    "growth_against_fall",
    "law",
    "paths_fan",
    "portfolio_value",
    "prices_rebased",
    "returns_through_time",
    "risk_levels",
    "save_figure",
    "sensitivity",
    "survival",
    "sweep",
    "worst_falls",
]
