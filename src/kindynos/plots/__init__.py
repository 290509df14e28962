"""Pictures. Every function draws on ``ax``, or on a new one, and returns it."""

from __future__ import annotations

from kindynos.plots.convergence import convergence
from kindynos.plots.distribution import distribution
from kindynos.plots.drivers import driver_ranking
from kindynos.plots.fan import fan
from kindynos.plots.law import law
from kindynos.plots.style import save_figure

__all__ = ["convergence", "distribution", "driver_ranking", "fan", "law", "save_figure"]
