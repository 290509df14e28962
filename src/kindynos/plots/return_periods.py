"""Return periods: what is reached once in N years."""

from __future__ import annotations

from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import DARK, LIGHT, NEW, picture, quantity_label, scale_of, scaled_ticks
from kindynos.results.result import RETURN_PERIODS, Result


@picture
def return_periods(result: Result, ax: Axes = NEW) -> None:
    """Draw what an outcome reaches once in 2, 5, ... 200 trials on its bad side, with 95 %
    intervals; where a trial is a year, these are its return periods.
    """
    frame = result.return_periods()
    factor, label = scale_of(frame["value"].to_numpy(), result.unit)
    ax.fill_between(frame.index, frame["low"], frame["high"], color=LIGHT, label="95 % interval")
    ax.plot(frame.index, frame["value"], color=DARK, lw=2, marker="o", ms=4, label=result.name)
    ax.set_xscale("log")
    ax.set_xticks(RETURN_PERIODS, [f"{years:g}" for years in RETURN_PERIODS])
    ax.minorticks_off()
    scaled_ticks(ax.yaxis, factor)
    ax.set_xlabel("once in N trials")
    ax.set_ylabel(quantity_label(result.name, result.unit, label))
    ax.set_title(f"How bad, and how often: {spoken(result.name)}")
    ax.legend(loc="best")
