"""What a page shows of a frontier: its points, whose weights follow the pointer."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.formatting import per_cent, spoken
from kindynos.markets.allocation.frontier import Frontier
from kindynos.reports.page.scale import HEIGHT, LEFT, TOP, WIDTH
from kindynos.reports.page.view import PageView, plain_view
from kindynos.reports.report import Report

FRONTIER_POINTS = 60


def frontier_view(report: Report, frontier: Frontier, best: Any = None) -> PageView:
    """Return what a page shows of a frontier, with the best weights marked where they are given."""
    return plain_view(report, curve=curve(frontier, best))


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
