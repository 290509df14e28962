"""Best weights: the frontier, weights along it, before and after, and how sure they are."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
from matplotlib.axes import Axes

from kindynos.arrays import Floats
from kindynos.formatting import number, spoken
from kindynos.markets.allocation.allocation import Allocation
from kindynos.markets.allocation.before_after import BeforeAfter
from kindynos.markets.allocation.frontier import Frontier
from kindynos.markets.allocation.resampling import Resampled
from kindynos.markets.allocation.walk import WalkForward
from kindynos.plots.comparison import COLOURS, STROKES
from kindynos.plots.style import ACCENT, DARK, INK, LIGHT, MIDDLE, NEW, picture, scale_of
from kindynos.validate import one_of

POINTS = 200  # along a frontier of means and sds
HATCHES = ("", "///", "...", "\\\\\\", "xxx", "+++", "ooo")  # so that areas differ in grey too
WORDS = {"sd": "sd", "expected_shortfall": "expected shortfall"}


@picture
def frontier(
    curve: Frontier,
    selected: Allocation | None = None,
    ax: Axes = NEW,
    *,
    sure: Resampled | None = None,
) -> None:
    """Draw the frontier, single holdings and today's weights as points, and a chosen allocation
    marked; with ``sure`` the frontiers of resampled histories as a band.
    """
    source, losses = curve.request.source, curve.losses
    risks, means = _curve(curve)
    if sure is not None and curve.risk == "sd":
        band = 100 * sure.frontier
        ax.fill_between(
            band["sd"],
            band["mean low"],
            band["mean high"],
            color=LIGHT,
            alpha=0.6,
            lw=0,
            label="the frontiers of 97 % of histories like this one",
        )
    ax.plot(
        100 * risks,
        100 * means,
        color=DARK,
        lw=2.4,
        label="frontier: the highest mean for each risk",
    )
    singles = np.eye(len(source.names))
    places = np.array([(losses.value(curve.risk, w), losses.mean(w)) for w in singles])
    ax.plot(*(100 * places.T), "o", color=MIDDLE, mec=INK, ms=7, ls="none", label="single holdings")
    for name, (x, y) in zip(source.names, 100 * places, strict=True):
        ax.annotate(spoken(name), (x, y), (8, 6), textcoords="offset points", fontsize=10)
    if source.today is not None:
        _mark(ax, curve, source.today, "D", "today's weights", color="white", ms=9)
    if selected is not None:
        weights = selected.weights.to_numpy()
        _mark(ax, curve, weights, "*", f"chosen: {selected.wanted}", color=ACCENT, ms=17)
    ax.axhline(0, color=INK, lw=0.8)
    ax.set_xlim(left=0)
    level = "" if curve.risk == "sd" else f" at {100 * curve.request.aim.level:g} %"
    ax.set_xlabel(f"{WORDS[curve.risk]}{level} of the return each {source.period}, per cent")
    ax.set_ylabel(f"mean return each {source.period}, per cent")
    ax.set_title(f"Mean and {WORDS[curve.risk]}: the frontier, single holdings and today's weights")
    ax.margins(0.12)
    ax.set_xlim(left=0)
    ax.legend(loc="upper left", bbox_to_anchor=(0, -0.1), ncols=2)


def _mark(ax: Any, curve: Frontier, weights: Floats, marker: str, label: str, **style: Any) -> None:
    """Draw weights as a point, after what it costs to trade to them."""
    risk = curve.losses.value(curve.risk, weights)
    mean = curve.losses.mean(weights) - curve.request.region.charge(weights)
    style |= {"mec": INK, "mew": 1.4, "ls": "none", "zorder": 5}
    ax.plot(100 * risk, 100 * mean, marker, label=label, **style)


def _curve(curve: Frontier) -> tuple[Any, Any]:
    """Return risks and means along the frontier; between corners of mean and sd it is no straight
    line.
    """
    table = curve.table()
    if curve.risk != "sd" or len(table) < 2:
        return table[curve.risk].to_numpy(), table["mean"].to_numpy()
    weights = table[curve.request.source.names].to_numpy()
    shares = np.linspace(0, 1, max(POINTS // len(weights), 4))
    between = np.concatenate([a + shares[:, None] * (b - a) for a, b in pairwise(weights)])
    sds = np.array([curve.losses.sd(w) for w in between])
    return sds, np.array([curve.losses.mean(w) - curve.request.region.charge(w) for w in between])


@picture
def frontier_weights(curve: Frontier, ax: Axes = NEW) -> None:
    """Draw the weights along the frontier as areas, from the least risk to the highest mean."""
    table = curve.table()
    names = curve.request.source.names
    below = np.zeros(len(table))
    for position, name in enumerate(names):
        top = below + 100 * table[name].to_numpy()
        ax.fill_between(
            100 * table["mean"],
            below,
            top,
            label=spoken(name),
            ec="white",
            lw=0.6,
            color=(LIGHT, MIDDLE, DARK, "#f0c79a", ACCENT, "#8a8a8a")[position % 6],
            hatch=HATCHES[position // 6 % len(HATCHES)],
        )
        below = top
    ax.set_xlim(100 * table["mean"].min(), 100 * table["mean"].max())
    ax.set_ylim(min(0.0, float(below.min())), max(100.0, float(below.max())))
    ax.set_xlabel(f"mean return each {curve.request.source.period}, per cent")
    ax.set_ylabel("weight, per cent")
    ax.set_title("Weights along the frontier, from the least risk to the highest mean")
    ax.legend(ncols=6, loc="upper center", bbox_to_anchor=(0.5, -0.09))


@picture
def best_weights(allocation: Allocation, ax: Axes = NEW) -> None:
    """Draw the best weights beside today's, with each holding's share of the variance."""
    table = allocation.contributions()
    names = [spoken(str(name)) for name in table.index]
    kinds = [
        ("weight, today", LIGHT, ""),
        ("weight, best", DARK, ""),
        ("share of risk, today", "#f7dcc0", "///"),
        ("share of risk, best", ACCENT, "///"),
    ]
    shown = [kind for kind in kinds if kind[0] in table]
    height = 0.8 / len(shown)
    for position, (column, colour, hatch) in enumerate(shown):
        y = np.arange(len(names)) + (position - (len(shown) - 1) / 2) * height
        values = 100 * table[column].to_numpy()
        ax.barh(y, values, height * 0.9, color=colour, hatch=hatch, ec=INK, lw=0.4, label=column)
        for at, value in zip(y, values, strict=True):
            ax.text(max(value, 0) + 0.6, at, f"{value:.1f} %", va="center", fontsize=9)
    ax.set_yticks(range(len(names)), names)
    ax.invert_yaxis()
    ax.set_xlabel("per cent")
    ax.set_title(f"Weights and shares of the variance: {allocation.wanted}")
    ax.margins(x=0.1)
    low, high = ax.get_xlim()
    ax.set_xlim(low, low + 1.25 * (high - low))
    ax.legend(loc="lower right")


@picture
def before_after(compared: BeforeAfter, what: str = "profit", ax: Axes = NEW) -> None:
    """Draw the distribution of the "profit" or the "max_drawdown" of today's holdings and of the
    best, on the same draws.
    """
    one_of("what", what, ("profit", "max_drawdown"))
    one, two = compared.before[what], compared.after[what]
    ends = np.percentile(np.concatenate([one.values, two.values]), [0.2, 99.8])
    factor, term = (0.01, "per cent ") if what == "max_drawdown" else scale_of(ends)
    edges = np.linspace(float(ends[0]), float(ends[1]), 61)
    shares = []
    for result, colour, label in ((one, MIDDLE, "today"), (two, ACCENT, "best")):
        share = 100 * np.histogram(result.values, edges)[0] / result.size
        shares.append(share)
        mean = f"{label}, mean {number(float(f'{result.mean / factor:.3g}'))} {term}".strip()
        ax.stairs(share, edges / factor, fill=label == "today", color=colour, lw=2.2, label=mean)
    top = 1.25 * max(share.max() for share in shares)
    if what == "profit":
        for result, colour, stroke in ((one, DARK, ":"), (two, ACCENT, "--")):
            value = -float(result.value_at_risk(compared.level))
            ax.axvline(value / factor, 0, 0.8, color=colour, ls=stroke, lw=1.8)
        ax.plot(
            [],
            [],
            color=INK,
            ls="--",
            label=f"value at risk {100 * compared.level:g} %, today dotted, best dashed",
        )
        ax.axvline(0, color=INK, lw=0.8)
    ax.set_ylim(0, top)
    ax.set_xlabel(f"{spoken(what)} over {compared.span} ({term.strip()})" if term else spoken(what))
    ax.set_ylabel("share of trials in each bar, per cent")
    name = spoken(what)
    ax.set_title(
        f"Before and after: {name} over {compared.span}, {one.size:,} draws, the same for both"
    )
    ax.legend(loc="upper left")


@picture
def resampled_weights(resampled: Resampled, ax: Axes = NEW) -> None:
    """Draw the range of each weight over resampled histories, with the weight itself and the
    average.
    """
    table = 100 * resampled.table()
    y = np.arange(len(table))
    ax.hlines(y, table["low"], table["high"], color=MIDDLE, lw=7, label="95 % interval")
    draws = 100 * resampled.draws
    ax.hlines(
        y,
        draws.quantile(0.25),
        draws.quantile(0.75),
        color=DARK,
        lw=7,
        label="half of the histories",
    )
    ax.plot(table["average"], y, "D", color="white", mec=INK, ms=8, label="their average")
    ax.plot(table["weight"], y, "*", color=ACCENT, mec=INK, ms=15, label="best for this history")
    ax.set_yticks(y, [spoken(str(name)) for name in table.index])
    ax.invert_yaxis()
    ax.set_xlabel("weight, per cent")
    ax.set_title(
        f"How sure are these weights? {len(resampled.draws):,} histories like this one", pad=30
    )
    ax.legend(loc="lower right", bbox_to_anchor=(1, 1), ncols=4, borderaxespad=0.2)
    ax.margins(0.08)


@picture
def walk_forward(walk: WalkForward, ax: Axes = NEW) -> None:
    """Draw the value of 1 invested under the rule, buy and hold and equal weights, out of sample
    and after costs.
    """
    for position, rule in enumerate(walk.values.columns):
        stroke, colour = STROKES[position], COLOURS[(1, 0, 3)[position]]
        label = f"{rule}, {100 * (walk.values[rule].iloc[-1] - 1):+.1f} %"
        ax.plot(walk.values.index, walk.values[rule], color=colour, ls=stroke, lw=2, label=label)
    for date in walk.weights.index:
        ax.axvline(date, 0, 0.03, color=INK, lw=1)
    ax.axhline(1, color=INK, lw=0.8)
    ax.set_ylabel("value of 1 invested at the start")
    ax.set_xlabel(
        f"weights are chosen again at the marks, every {walk.every}, from the {walk.window} "
        "returns before"
    )
    ax.set_title(
        f"Out of sample, after trades that cost {100 * walk.cost:g} % of what is bought and sold"
    )
    ax.legend()
