"""Pictures. Every function draws on ``ax``, or on a new one, and returns it."""

from __future__ import annotations

from kindynos.plots.distribution import distribution
from kindynos.plots.drivers import driver_ranking
from kindynos.plots.fan import fan
from kindynos.plots.style import save_figure

__all__ = ["distribution", "driver_ranking", "fan", "save_figure"]
