"""Pictures. Every function draws on ``ax``, or on a new one, and returns it."""

from __future__ import annotations

from kindynos.plots.allocation import (
    before_after,
    best_weights,
    frontier,
    frontier_weights,
    resampled_weights,
    walk_forward,
)
from kindynos.plots.bridge import bridge
from kindynos.plots.cohorts import cohort
from kindynos.plots.comparison import comparison
from kindynos.plots.convergence import convergence
from kindynos.plots.decision import decision
from kindynos.plots.density import density
from kindynos.plots.distribution import distribution
from kindynos.plots.efficient import efficient_decisions
from kindynos.plots.fan import fan
from kindynos.plots.fans import fans
from kindynos.plots.fits import fitted_distributions, normality
from kindynos.plots.markets import (
    allocation,
    backtest,
    correlation_map,
    growth_against_drawdown,
    max_drawdowns,
    paths_fan,
    portfolio_value,
    prices_rebased,
    returns_through_time,
    risk_levels,
)
from kindynos.plots.optimum import optimum
from kindynos.plots.policy import policy
from kindynos.plots.quantity import quantity
from kindynos.plots.return_periods import return_periods
from kindynos.plots.robustness import robustness
from kindynos.plots.scatter import scatter, scatter_of
from kindynos.plots.sensitivity import sensitivity
from kindynos.plots.series import diagnostics, series_fan
from kindynos.plots.style import save_figure
from kindynos.plots.survival import survival
from kindynos.plots.sweep import goal, sweep
from kindynos.plots.through_time import rolling_correlation, rolling_risk, underwater
from kindynos.plots.track_record import track_record

__all__ = [
    "allocation",
    "backtest",
    "before_after",
    "best_weights",
    "bridge",
    "cohort",
    "comparison",
    "convergence",
    "correlation_map",
    "decision",
    "density",
    "diagnostics",
    "distribution",
    "efficient_decisions",
    "fan",
    "fans",
    "fitted_distributions",
    "frontier",
    "frontier_weights",
    "goal",
    "growth_against_drawdown",
    "max_drawdowns",
    "normality",
    "optimum",
    "paths_fan",
    "policy",
    "portfolio_value",
    "prices_rebased",
    "quantity",
    "resampled_weights",
    "return_periods",
    "returns_through_time",
    "risk_levels",
    "robustness",
    "rolling_correlation",
    "rolling_risk",
    "save_figure",
    "scatter",
    "scatter_of",
    "sensitivity",
    "series_fan",
    "survival",
    "sweep",
    "track_record",
    "underwater",
    "walk_forward",
]
