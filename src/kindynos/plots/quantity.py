"""One quantity of a run, whichever it is."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from matplotlib.axes import Axes

from kindynos.plots.distribution import distribution
from kindynos.plots.fan import fan
from kindynos.plots.style import NEW, framed_picture


@framed_picture
def quantity(run: Mapping[str, Any], name: str, ax: Axes = NEW) -> None:
    """Draw a quantity of a run or of trials read: how it is distributed, or of a row its fan over
    the periods.
    """
    result = run[name]
    draw = fan if result.is_row else distribution
    draw(result, ax=ax)
