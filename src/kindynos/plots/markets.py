"""Prices, returns, portfolios and their falls."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap

from kindynos.arrays import Floats
from kindynos.finance.drawdowns import max_drawdown
from kindynos.formatting import number, p_value, spoken
from kindynos.literals import CovarianceMethod
from kindynos.markets.backtesting import Backtest
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.prices import Prices
from kindynos.markets.return_series import Returns
from kindynos.plots.comparison import COLOURS, STROKES
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    MIDDLE,
    NEW,
    bands,
    framed_picture,
    of_paths,
    picture,
    scale_of,
    scaled_ticks,
)

SIGNED = LinearSegmentedColormap.from_list("signed", [ACCENT, "#f7f4ef", DARK])


@picture
def prices_rebased(prices: Prices, ax: Axes = NEW) -> None:
    """Draw all prices from 100 on the first date."""
    frame = prices.frame / prices.frame.iloc[0] * 100
    for position, name in enumerate(frame.columns):
        stroke, colour = STROKES[position % len(STROKES)], COLOURS[position % len(COLOURS)]
        ax.plot(frame.index, frame[name], color=colour, ls=stroke, lw=1.6, label=spoken(str(name)))
    ax.axhline(100, color=INK, lw=0.8)
    ax.set_ylabel("price, 100 on the first date")
    ax.set_title(
        f"Prices rebased, {frame.index[0]:%Y-%m-%d} to {frame.index[-1]:%Y-%m-%d}; "
        f"{prices.description}"
    )
    ax.legend(ncols=3)


@picture
def returns_through_time(returns: Returns, ax: Axes = NEW) -> None:
    """Draw the returns of each instrument through time, one band below the other."""
    frame = returns.frame * 100
    spacing = 1.1 * float(2 * frame.abs().quantile(0.999).max())
    for position, name in enumerate(frame.columns):
        ax.vlines(
            frame.index,
            -position * spacing,
            frame[name] - position * spacing,
            color=COLOURS[position % 3],
            lw=0.7,
        )
        ax.axhline(-position * spacing, color=INK, lw=0.5)
    ax.set_yticks(
        [-position * spacing for position in range(frame.shape[1])],
        [spoken(str(name)) for name in frame.columns],
    )
    ax.set_title(
        f"{returns.kind.capitalize()} returns each {returns.every}; bands are {spacing:.0f} % apart"
    )


@framed_picture
def correlation_map(returns: Returns, method: CovarianceMethod = "sample", ax: Axes = NEW) -> None:
    """Draw the correlation of returns as a map, with its figures."""
    matrix = returns.correlation(method)
    names = [spoken(str(name)) for name in matrix.columns]
    ax.imshow(matrix, cmap=SIGNED, vmin=-1, vmax=1)
    for (row, column), value in np.ndenumerate(matrix.to_numpy()):
        ax.text(
            column,
            row,
            f"{round(value, 2) + 0.0:.2f}",
            ha="center",
            va="center",
            color="white" if abs(value) > 0.6 else INK,
        )
    ax.set_xticks(range(len(names)), names, rotation=20, ha="right")
    ax.set_yticks(range(len(names)), names)
    ax.set_title(f"Correlation of {returns.kind} returns each {returns.every} ({method})")


@picture
def allocation(portfolio: Portfolio, ax: Axes = NEW) -> None:
    """Draw the weights of the holdings today."""
    base, label = portfolio.base
    weights = (portfolio.values / base).sort_values()
    ax.barh(
        [spoken(str(name)) for name in weights.index],
        100 * weights,
        color=[DARK if w < 0 else MIDDLE for w in weights],
    )
    for position, weight in enumerate(weights):
        ax.text(100 * max(weight, 0) + 0.4, position, f"{100 * weight:.1f} %", va="center")
    ax.set_xlabel(f"share of the {label}, per cent")
    ax.set_title(
        f"Holdings on {portfolio.prices.dates[-1]:%Y-%m-%d}, together "
        f"{number(round(portfolio.value))}"
    )
    ax.margins(x=0.12)


@picture
def portfolio_value(portfolio: Portfolio, ax: Axes = NEW) -> None:
    """Draw what the holdings were worth from the day they were bought, each on top of the
    others.
    """
    history = portfolio.history()
    worth = history.drop(columns="value").mul(history["value"], axis=0)
    factor, label = scale_of(history["value"].to_numpy())
    shades = [
        SIGNED(0.45 + 0.55 * (position + 1) / worth.shape[1]) for position in range(worth.shape[1])
    ]
    names = [
        f"{spoken(str(name))}, {100 * weight:.1f} % today"
        for name, weight in portfolio.weights.items()
    ]
    ax.stackplot(worth.index, worth.to_numpy().T, labels=names, colors=shades, ec="white", lw=0.4)
    scaled_ticks(ax.yaxis, factor)
    ax.set_ylabel(f"value ({label.strip()})" if label else "value")
    kept = f"set back {portfolio.rebalance}" if portfolio.rebalance else "left alone"
    ax.set_title(f"Value of holdings bought on {history.index[0]:%Y-%m-%d} and {kept}")
    ax.legend(loc="upper left", ncols=2)
    ax.margins(x=0, y=0.25)


@picture
def backtest(tested: Backtest, ax: Axes = NEW) -> None:
    """Draw profit and loss through time under the forecasts of value at risk, exceptions marked."""
    frame = tested.table()
    factor, label = scale_of(np.concatenate([tested.losses, tested.forecasts]))
    ax.vlines(
        frame.index,
        0,
        -frame["loss"],
        color=MIDDLE,
        lw=0.8,
        label=f"profit or loss of the {tested.unit}",
    )
    ax.plot(
        frame.index,
        -frame["value at risk"],
        color=DARK,
        lw=1.6,
        label=f"value at risk at {100 * tested.level:g} %, as a loss",
    )
    hit = frame[frame["exception"]]
    ax.plot(
        hit.index,
        -hit["loss"],
        "o",
        color=ACCENT,
        mec=INK,
        label=f"exceptions: {tested.exceptions}, {tested.expected:.1f} expected",
    )
    ax.axhline(0, color=INK, lw=0.8)
    low, high = ax.get_ylim()
    ax.set_ylim(low - 0.12 * (high - low), high)
    scaled_ticks(ax.yaxis, factor)
    ax.set_ylabel(f"profit ({label.strip()})" if label else "profit")
    what = f"{tested.method}, window {tested.window}" if tested.window else tested.method
    ax.set_title(
        f"Was it right? {what}: {tested.zone} zone, Kupiec {p_value(tested.kupiec.p_value)}"
    )
    ax.legend(ncols=3, loc="lower left")


@picture
def paths_fan(
    paths: Floats,
    labels: Any = None,
    above: float | None = None,
    below: float | None = None,
    name: str = "price",
    ax: Axes = NEW,
) -> None:
    """Draw simulated paths ``(periods + 1, trials)`` as a fan with three of them, and the levels
    asked about.
    """
    of_paths(paths)
    places = np.arange(len(paths)) if labels is None else labels
    bands(ax, places, lambda q: np.percentile(paths, q, axis=1), "paths")
    for trial in range(min(3, paths.shape[1])):
        ax.plot(
            places,
            paths[:, trial],
            color=INK,
            lw=0.7,
            ls=(0, (1 + 2 * trial, 1)),
            label="paths 0 to 2" if trial == 0 else "_",
        )
    ax.plot(places, np.median(paths, axis=1), color=DARK, lw=2.2, label="median")
    for level, label in ((above, "above"), (below, "below")):
        if level is not None:
            ax.axhline(level, color=ACCENT, lw=1.4, ls="--", label=f"{label} {level:g}?")
    ax.set_xlim(places[0], places[-1])
    ax.set_xlabel("period")
    ax.set_ylabel(spoken(name))
    ax.set_title(f"Where {spoken(name)} may go: {paths.shape[1]:,} simulated paths")
    ax.legend(ncols=3, loc="upper left")
    ax.margins(y=0.15)


@picture
def max_drawdowns(
    drawdowns: Floats,
    seen: float | None = None,
    *,
    periods: int | None = None,
    unit: str = "period",
    ax: Axes = NEW,
) -> None:
    """Draw the distribution of simulated maximum drawdowns, with the one seen in history placed
    inside it.

    ``periods`` is the length of the paths, in a ``unit``, which the title tells; it must be that of
    the history for ``seen`` to compare.
    """
    ax.hist(
        100 * drawdowns,
        bins=60,
        weights=np.full(len(drawdowns), 100 / len(drawdowns)),
        color=MIDDLE,
        ec="white",
        lw=0.4,
    )
    top = ax.get_ylim()[1]
    for q in (50, 95):
        value = 100 * float(np.percentile(drawdowns, q))
        ax.plot([value, value], [0, 1.04 * top], color=INK, lw=1, ls=":")
        ax.text(value, 1.05 * top, f"P{q}\n{value:.1f} %", ha="center", va="bottom")
    if seen is not None:
        figure = 100 * float(np.mean(drawdowns < seen))
        label = f"seen in history {100 * seen:.1f} %, percentile {figure:.0f}"
        ax.plot([100 * seen] * 2, [0, 0.85 * top], color=ACCENT, lw=2, ls="--", label=label)
        ax.legend(loc="upper right")
    ax.set_ylim(0, 1.2 * top)
    ax.set_xlabel("maximum drawdown of a path (below its highest value so far), per cent")
    ax.set_ylabel("share of paths in each bar, per cent")
    ax.set_title(
        f"Maximum drawdown{'' if periods is None else f' over {periods:,} {unit}s'}: "
        f"mean {100 * float(np.mean(drawdowns)):.1f} % of {len(drawdowns):,} paths"
    )


@picture
def growth_against_drawdown(paths: Floats, per_year: float = 252.0, ax: Axes = NEW) -> None:
    """Draw compound growth against the maximum drawdown of each path, with a histogram of each
    along its side.
    """
    from kindynos.finance.drawdowns import compound_growth

    of_paths(paths)
    growth = 100 * np.asarray(compound_growth(paths, per_year))
    drawdowns = 100 * np.asarray(max_drawdown(paths))
    ax.plot(drawdowns, growth, ".", color=DARK, ms=3, alpha=0.25)
    top, side = (
        ax.inset_axes((0, 1.0, 1, 0.16), sharex=ax),
        ax.inset_axes((1.0, 0, 0.16, 1), sharey=ax),
    )
    top.hist(drawdowns, bins=50, color=MIDDLE, ec="white", lw=0.3)
    side.hist(growth, bins=50, orientation="horizontal", color=MIDDLE, ec="white", lw=0.3)
    top.axis("off")
    side.axis("off")
    ax.axhline(0, color=INK, lw=0.8)
    ax.set_xlabel("maximum drawdown, per cent")
    ax.set_ylabel("compound growth a year, per cent")
    ax.set_title(f"Growth against maximum drawdown of {paths.shape[1]:,} paths", y=1.17)


def _with_intervals(
    ax: Axes, frame: pd.DataFrame, name: str, places: Any, end: float, *, marker: str, colour: str
) -> None:
    """Draw a measure of each row with its interval; an arrow where it has no upper bound."""
    value = frame[name].to_numpy()
    low, high = frame[f"{name} low"].to_numpy(), frame[f"{name} high"].to_numpy()
    bounded = np.isfinite(high)
    reach = np.stack([value - low, np.where(bounded, high - value, 0.0)])
    ax.errorbar(
        value,
        places,
        xerr=np.abs(reach),
        fmt=marker,
        color=colour,
        mec=INK,
        capsize=3,
        label=f"{name}, with its 95 % interval",
    )
    for position in np.flatnonzero(~bounded).tolist():
        ax.annotate(
            "",
            (end, places[position]),
            (value[position], places[position]),
            arrowprops={"arrowstyle": "->", "color": colour, "linewidth": 1.5},
        )


@picture
def risk_levels(table: pd.DataFrame, level: float = 0.99, ax: Axes = NEW) -> None:
    """Draw the value at risk and the expected shortfall of every method and window of a risk table
    at one level, with their intervals.
    """
    frame: Any = table.xs(level, level="level")
    names = [
        f"{method}, {'whole history' if window == 'all' else f'last {window}'}"
        for method, window in frame.index
    ]
    places = np.arange(len(frame))
    measures = (("value at risk", -0.13, "o", DARK), ("expected shortfall", 0.13, "D", ACCENT))
    ends = [frame[column].to_numpy() for name, *_ in measures for column in (name, f"{name} high")]
    end = 1.08 * max(float(piece[np.isfinite(piece)].max(initial=0.0)) for piece in ends)
    factor, label = scale_of([end])
    for name, lift, marker, colour in measures:
        _with_intervals(ax, frame, name, places + lift, end, marker=marker, colour=colour)
    if not np.isfinite(np.concatenate(ends)).all():
        ax.plot([], [], color=INK, marker=">", ls="none", label="no upper bound")
    ax.set_yticks(places, names)
    ax.invert_yaxis()
    ax.set_xlim(0, 1.02 * end)
    scaled_ticks(ax.xaxis, factor)
    ax.set_xlabel(f"loss ({label.strip()})" if label else "loss")
    often = 1 / (1 - level)
    unit = table.attrs["spacing"].stretch(table.attrs["horizon"])
    ax.set_title(f"Loss exceeded on about 1 {unit} in {often:.3g}, by method and window", pad=30)
    ax.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=3, borderaxespad=0.2)
