"""How an estimate settles as trials are added."""

from __future__ import annotations

from typing import Any

from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import (
    DARK,
    INK,
    LIGHT,
    NEW,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.results.run import Run


@picture
def convergence(
    run: Run, name: str, statistic: str = "mean", *arguments: Any, ax: Axes = NEW, **options: Any
) -> None:
    """Draw a statistic of an outcome against the number of trials, with its 95 % error as a
    band.
    """
    frame = run.convergence(name, statistic, *arguments, **options)
    with_error = frame.dropna(subset=["error"])
    unit = frame.attrs["unit"]
    factor, label = scale_of((with_error if len(with_error) else frame)["value"].to_numpy(), unit)
    ax.fill_between(
        with_error.index,
        with_error["low"],
        with_error["high"],
        color=LIGHT,
        label="95 % interval of the estimate (from 5 blocks of trials on)",
    )
    ax.plot(frame.index, frame["value"], color=DARK, lw=2, label="estimate")
    ax.axhline(
        float(frame["value"].iloc[-1]),
        color=INK,
        lw=0.8,
        ls=":",
        label=f"after all {run.size:,} trials",
    )
    ax.set_xlim(0, run.size)
    ax.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    scaled_ticks(ax.yaxis, factor)
    description = " ".join(
        [
            spoken(statistic),
            *map(str, arguments),
            *(f"{key} {value}" for key, value in options.items()),
        ]
    )
    ax.set_xlabel("trials")
    ax.set_ylabel(quantity_label(f"{description} of {name}", unit, label))
    ax.set_title(f"Were these enough trials? {description} of {spoken(name)}")
    ax.legend()
