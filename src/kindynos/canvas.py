"""What pictures are drawn on, for the annotations of methods below the layer that draws: Matplotlib
is loaded at the first picture.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes as Axes
    from matplotlib.figure import Figure as Figure
else:
    Axes = Figure = Any
