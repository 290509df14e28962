"""Pictures. Every function draws on ``ax``, or on a new one, and returns it."""

from __future__ import annotations

from kindynos.plots.comparison import comparison
from kindynos.plots.convergence import convergence
from kindynos.plots.distribution import distribution
from kindynos.plots.fan import fan
from kindynos.plots.law import law
from kindynos.plots.sensitivity import sensitivity
from kindynos.plots.style import save_figure
from kindynos.plots.survival import survival
from kindynos.plots.sweep import goal, sweep

__all__ = [
    "comparison",
    "convergence",
    "distribution",
    "fan",
    "goal",
    "law",
    "save_figure",
    "sensitivity",
    "survival",
    "sweep",
]
