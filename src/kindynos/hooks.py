"""Calling what lies in a higher layer, by name.

Arrows between layers go down only, and yet ``distribution.plot()`` is where a user looks for a picture. What draws registers
its place here as text; it is loaded when first called.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

DRAWN_BY = dict.fromkeys(("law", "comparison", "sweep", "goal", "returns_through_time", "backtest"), "kindynos.plots")


def draw(what: str, *arguments: Any, **options: Any) -> Any:
    """Call the function of that name in the module that draws it."""
    return getattr(import_module(DRAWN_BY[what]), what)(*arguments, **options)
