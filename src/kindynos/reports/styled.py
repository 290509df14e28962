"""Tables with shades, for notebooks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.errors import KindynosError
from kindynos.formatting import brief, spoken
from kindynos.plots.sweep import SHADES
from kindynos.studies.sweep import Sweep

if TYPE_CHECKING:
    from pandas.io.formats.style import Styler


def styled_sweep(
    swept: Sweep, output: str | None = None, number_format: str | None = None
) -> Styler:
    """Return the grid of one output over two inputs as a pandas Styler; see Sweep.styled."""
    name = swept.output(output)
    grid = swept.grid(name)
    try:
        style = grid.style
    except (ImportError, AttributeError):
        raise KindynosError("styled tables need Jinja2: pip install 'kindynos[notebook]'") from None
    values = grid.to_numpy(dtype=float)
    best = (
        np.nan
        if not np.isfinite(values).any()
        else np.nanmax(values)
        if swept.more_is_better(name)
        else np.nanmin(values)
    )
    shown: Any = brief
    style = (
        style.format(number_format or shown, na_rep="-")
        .format_index(shown, axis=0)
        .format_index(shown, axis=1)
    )
    style = style.background_gradient(cmap=SHADES, axis=None).set_table_styles(
        [{"selector": "td", "props": "text-align: right"}]
    )
    style = style.map(
        lambda value: "font-weight: bold; outline: 2px solid" if value == best else ""
    )
    return style.set_caption(f"{spoken(name)} ({swept.statistic}); bold: the best")
