"""Risk, correlation and drawdowns as they were through time."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from matplotlib.axes import Axes

from kindynos.finance.drawdowns import drawdown
from kindynos.formatting import spoken
from kindynos.plots.style import ACCENT, DARK, INK, LIGHT, NEW, picture, scale_of, scaled_ticks


@picture
def rolling_risk(table: pd.DataFrame, ax: Axes = NEW) -> None:
    """Draw the value at risk and expected shortfall of ``Portfolio.rolling`` through time."""
    factor, label = scale_of(table.to_numpy())
    ax.plot(table.index, table["value at risk"], color=DARK, lw=1.6, label="value at risk")
    ax.plot(
        table.index,
        table["expected shortfall"],
        color=ACCENT,
        lw=1.6,
        ls="--",
        label="expected shortfall",
    )
    ax.set_ylim(bottom=0)
    scaled_ticks(ax.yaxis, factor)
    facts = table.attrs
    what = f"loss over 1 {facts['unit']}"
    ax.set_ylabel(f"{what} ({label.strip()})" if label else what)
    often = (
        f"1 {facts['unit']} in {1 / (1 - facts['level']):.3g}, {facts['method']}, from the "
        f"{facts['window']} returns before"
    )
    ax.set_title(f"What today's holdings might have lost: {often}")
    ax.legend(loc="upper left")


@picture
def rolling_correlation(series: pd.Series, ax: Axes = NEW) -> None:
    """Draw the correlation of ``Returns.rolling_correlation`` through time, with that which chance
    alone would give.
    """
    ax.plot(series.index, series, color=DARK, lw=1.6)
    window = series.attrs.get("window")
    if window:
        low, high = np.tanh(np.array([-1.96, 1.96]) / np.sqrt(window - 3))
        ax.axhspan(low, high, color=LIGHT, label="what chance gives without any", zorder=0)
        ax.legend(loc="upper left")
    ax.axhline(0, color=INK, lw=0.8)
    ax.set_ylim(-1, 1)
    ax.set_ylabel("correlation of returns")
    over = f" over {window} returns" if window else ""
    ax.set_title(f"{spoken(str(series.name))}: correlation{over}, by the last of them")


@picture
def underwater(values: pd.Series, ax: Axes = NEW) -> None:
    """Draw how far values through time, such as ``Portfolio.history()["value"]``, lay below the
    highest before.
    """
    depths = -100 * np.asarray(drawdown(values.to_numpy(dtype=np.float64)))
    ax.fill_between(values.index, depths, 0, color=LIGHT)
    ax.plot(values.index, depths, color=DARK, lw=1.2)
    position = int(depths.argmin())
    date: Any = values.index[position]
    ax.plot([date], [depths[position]], "o", color=ACCENT, mec=INK)
    late = position > 0.7 * len(depths)
    ax.annotate(
        f"{depths[position]:.1f} % on {date:%Y-%m-%d}",
        (date, depths[position]),
        (-8 if late else 8, -2),
        textcoords="offset points",
        va="top",
        ha="right" if late else "left",
    )
    ax.set_ylim(1.15 * depths[position] - 0.1, 0)
    ax.set_ylabel("below the highest value before, per cent")
    ax.set_title("Drawdown through time")
