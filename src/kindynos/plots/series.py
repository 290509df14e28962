"""Series: their history with a fan, and what a process has left in its residuals."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    MIDDLE,
    NEW,
    bands,
    bare,
    page,
    picture,
    scale_of,
    scaled_ticks,
)
from kindynos.validate import check_integer

if TYPE_CHECKING:
    from kindynos.fitting.diagnostics import Diagnostics
    from kindynos.fitting.series import SeriesRanking

TRIALS = 4_000
PATH_STROKES = ("-", (0, (4, 1)), (0, (1, 1)), (0, (5, 1, 1, 1)))
SHOWN = 5  # times as many periods of the history as of the fan


@picture
def series_fan(
    ranking: SeriesRanking,
    name: str | None = None,
    ax: Axes = NEW,
    periods: int | None = None,
    paths: int = 3,
    seed: int = 1,
) -> None:
    """Draw the end of the history, a process's fan from there on, and a few numbered paths inside
    it.

    The fan's parameters are drawn too, as the series leaves them open. Raises ParameterError for an
    unknown name.
    """
    selected = ranking.names[0] if name is None else name
    process, series = ranking[selected], ranking.series
    ahead = ranking.horizon if periods is None else check_integer("periods", periods, least=1)
    ranking._look.update(name=name, periods=periods, seed=seed)
    made = process.paths(ahead, TRIALS, seed, uncertain=True)[1:]
    kept = min(len(series.values), SHOWN * max(ahead, 12))
    before = (
        np.arange(len(series.values) - kept + 1, len(series.values) + 1)
        if series.dates is None
        else series.dates[-kept:]
    )
    after = series.after(ahead)
    factor, term = scale_of(series.values)
    ax.plot(before, series.values[-kept:], color=INK, lw=1.4, marker=".", ms=4, label="history")
    bands(ax, after, lambda q: np.percentile(made, q, axis=1), "paths")
    ax.plot(after, np.median(made, axis=1), color=DARK, lw=2.2, label="median")
    for position in range(min(paths, TRIALS)):
        stroke: Any = PATH_STROKES[position % len(PATH_STROKES)]
        ax.plot(after, made[:, position], color=ACCENT, lw=1, ls=stroke, label=f"path {position}")
    scaled_ticks(ax.yaxis, factor)
    label = (series.name or "value").replace("_", " ")
    ax.set_ylabel(f"{label} ({term.strip()})" if term else label)
    ax.set_xlabel(series.every or "period")
    periods_ahead = f"{ahead} {series.every or 'period'}{'s' if ahead > 1 else ''}"
    ax.set_title(f"{label.capitalize()}: the next {periods_ahead} by {selected}")
    ax.margins(y=0.2)
    ax.legend(ncols=4, loc="upper left")


@page
def diagnostics(diagnosed: Diagnostics, figure: Figure = NEW) -> None:
    """Draw a page on a series or on residuals: values in time, both autocorrelations with their
    band, and a histogram.
    """
    top, left, right, bottom = figure.subplot_mosaic("AA;BC;DD").values()
    values = diagnosed.values
    top.axhline(float(np.nanmean(values)), color=MIDDLE, lw=1)
    top.plot(np.arange(1, len(values) + 1), values, color=DARK, lw=1, marker=".", ms=4)
    top.set_title(
        f"{diagnosed.of[0].upper()}{diagnosed.of[1:]}, {int((~np.isnan(values)).sum())} values"
    )
    top.set_xlabel("period")
    for ax, bars, title in (
        (left, diagnosed.autocorrelations, "Autocorrelation"),
        (right, diagnosed.partial, "Partial autocorrelation"),
    ):
        lags = np.arange(1, len(bars) + 1)
        ax.axhspan(-diagnosed.band, diagnosed.band, color=LIGHT, lw=0)
        ax.bar(
            lags,
            bars,
            width=0.35,
            color=[ACCENT if abs(bar) > diagnosed.band else DARK for bar in bars],
        )
        ax.axhline(0, color=INK, lw=0.8)
        ax.set_title(f"{title}; 95 % of independent values lie in the band", fontsize=11)
        ax.set_xlabel("lag, periods")
        most = max(1.2 * float(np.abs(bars).max()), 1.6 * diagnosed.band)
        ax.set_ylim(-most, most)
    value = values[~np.isnan(values)]
    bottom.hist(value, min(30, max(8, len(value) // 6)), density=True, color=LIGHT, ec="white")
    x = np.linspace(value.min(), value.max(), 300)
    mean, sd = value.mean(), value.std(ddof=1)
    curve = np.exp(-0.5 * ((x - mean) / sd) ** 2) / (sd * np.sqrt(2 * np.pi))
    bottom.plot(x, curve, color=ACCENT, ls="--", lw=2, label="normal")
    bottom.set_yticks([])
    bottom.set_xlabel("value" if diagnosed.of == "series" else "residual, in sd")
    bottom.legend()
    bottom.set_title(
        "; ".join(f"{test.name}: {test.words}" for test in diagnosed.tests), fontsize=10, wrap=True
    )
    for ax in (top, left, right, bottom):
        bare(ax)
