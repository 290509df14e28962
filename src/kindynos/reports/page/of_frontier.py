"""What a page shows of a frontier: its points, whose weights follow the pointer."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.formatting import per_cent, spoken
from kindynos.markets.allocation.allocation import Allocation
from kindynos.markets.allocation.before_after import BeforeAfter
from kindynos.markets.allocation.frontier import Frontier
from kindynos.markets.allocation.resampling import Resampled
from kindynos.markets.allocation.walk import WalkForward
from kindynos.reports.page.charts import Bars, Row, bars
from kindynos.reports.page.curves import POINTS, STROKES, Curves, Line, cumulative, curves
from kindynos.reports.page.scale import HEIGHT, LEFT, TOP, WIDTH
from kindynos.reports.page.view import PageView, plain_view
from kindynos.reports.report import Report

FRONTIER_POINTS = 60
LEAST_SHOWN, MOST_SHOWN = 0.01, 8  # of weights along it


def frontier_view(
    report: Report, frontier: Frontier, best: Any = None, charts: Iterable[Any] = ()
) -> PageView:
    """Return what a page shows of a frontier, with the best weights marked where they are given."""
    charts = [*charts, _along(frontier)]
    return plain_view(
        report, curve=curve(frontier, best), charts=charts, drawn=frozenset(report.figures())
    )


def of_allocation(
    allocation: Allocation,
    compared: BeforeAfter | None,
    sure: Resampled | None,
    walked: WalkForward | None,
) -> Iterator[Bars | Curves]:
    """Yield the best weights, and what was asked beside them."""
    table: Any = allocation.contributions()
    for column in table.columns:
        if str(column).endswith(("best", "today")):
            shares = {str(name): float(share) for name, share in table[column].items()}
            rows = [Row(name, 0.0, share, per_cent(share)) for name, share in shares.items()]
            yield bars(str(column)[:1].upper() + str(column)[1:], rows)
    for what, title in (("profit", "profit"), ("max_drawdown", "deepest fall")):
        if compared is not None:
            both = {"today": compared.before[what], "best": compared.after[what]}
            below = {name: one.ranked.cumulative(POINTS) for name, one in both.items()}
            unit = "%" if what == "max_drawdown" else None
            yield cumulative(f"Before and after: {title} over {compared.span}", below, unit)
    if sure is not None:
        weights: Any = sure.table()
        rows = [
            Row(str(name), 0.0, row["weight"], per_cent(row["weight"]), row["low"], row["high"])
            for name, row in weights.iterrows()
        ]
        said = f"The lines hold 95 % of {len(sure.draws):,} histories like this one."
        yield bars("How sure are these weights?", rows, remark=said)
    if walked is not None:
        values: Any = walked.values
        at = np.arange(len(values))
        yield curves(
            "Value of 1 invested, out of sample and after costs",
            [
                Line(at, values[rule], str(rule), kind)
                for rule, kind in zip(values.columns, STROKES, strict=False)
            ],
            (f"weights chosen again every {walked.every}", "value of 1"),
            labels=[str(date)[:10] for date in values.index],
        )


def _along(frontier: Frontier) -> Curves:
    """Return the weights along a frontier, of those that are ever more than a trace."""
    table = frontier.table().sort_values("mean")
    names = [name for name in frontier.request.source.names if name in table.columns]
    shares = table[names].to_numpy(dtype=np.float64)
    shown = [k for k in range(len(names)) if shares[:, k].max() > LEAST_SHOWN]
    return curves(
        "Weights along the frontier",
        [
            Line(table["mean"], shares[:, k], spoken(names[k]), STROKES[place % len(STROKES)])
            for place, k in enumerate(shown[:MOST_SHOWN])
        ],
        ("mean return, %", "weight, %"),
        units=("%", "%"),
        floor=0.0,
    )


@dataclass(frozen=True)
class Curve:
    """A frontier whose points have weights."""

    title: str
    json: str
    points: str
    ticks: list[dict[str, Any]]
    levels: list[dict[str, Any]]
    names: list[str]
    best: tuple[float, float] | None
    words: tuple[str, str]


def curve(frontier: Frontier, best: Any = None) -> Curve:
    """Return a frontier, with the best weights marked where they are given."""
    from matplotlib.ticker import MaxNLocator

    table = frontier.table()
    names = [name for name in frontier.request.source.names if name in table.columns]
    risk, mean = frontier.risk, np.asarray(table["mean"], dtype=np.float64)
    order = np.argsort(mean, kind="stable")
    weights = np.asarray(table[names], dtype=np.float64)[order]
    means = np.linspace(mean.min(), mean.max(), FRONTIER_POINTS)
    between = np.column_stack([np.interp(means, mean[order], weight) for weight in weights.T])
    risks = np.array([frontier.losses.value(risk, weight) for weight in between])
    room = 0.04 * (float(np.ptp(risks)) or 1.0)
    first, last = float(risks.min() - room), float(risks.max() + room)
    lift = 0.05 * (float(np.ptp(means)) or 1.0)
    low, high = float(means.min() - lift), float(means.max() + lift)

    def across(x: float) -> float:
        return round(LEFT + WIDTH * (x - first) / (last - first), 1)

    def up(y: float) -> float:
        return round(TOP + HEIGHT - HEIGHT * (y - low) / (high - low), 1)

    places = [(across(x), up(y)) for x, y in zip(risks.tolist(), means.tolist(), strict=True)]
    label = spoken(risk)
    words = [
        f"mean {per_cent(y, 3)}, {label} {per_cent(x, 3)}"
        for x, y in zip(risks.tolist(), means.tolist(), strict=True)
    ]
    data = {
        "across": [x for x, _ in places],
        "up": [y for _, y in places],
        "weights": np.round(between, 4).tolist(),
        "words": words,
    }
    marked = None
    if best is not None:
        own = np.asarray(best, dtype=np.float64)
        x, y = float(frontier.losses.value(risk, own)), float(frontier.losses.mean(own))
        marked = (across(x), up(y)) if first <= x <= last and low <= y <= high else None
    return Curve(
        f"The frontier of mean and {label}",
        json.dumps(data),
        " ".join(f"{x},{y}" for x, y in places),
        [
            {"x": across(x), "text": per_cent(x, 2)}
            for x in MaxNLocator(6).tick_values(first, last)
            if first <= x <= last
        ],
        [
            {"y": up(y), "text": per_cent(y, 3)}
            for y in MaxNLocator(5).tick_values(low, high)
            if low <= y <= high
        ],
        names,
        marked,
        ("mean", label),
    )
