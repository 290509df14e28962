"""What simulated paths of a fitted price tell: where it may end, chances, and drawdowns, each with
the error of the fit.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.finance.drawdowns import max_drawdown
from kindynos.processes.base import Process
from kindynos.processes.estimation import FEW_TRIALS, open_intervals

ENDS = (5, 25, 50, 75, 95)
BATCHES = 20  # of the paths, whose spread is the sampling error


@dataclass(frozen=True)
class Outlook:
    """What paths of a fitted price tell: figures by name, their intervals, and the drawdown of the
    history among like ones.

    ``shares`` are the names of figures that are shares, and ``how`` says of chances how they were
    found. ``seen`` is the maximum drawdown of the history, and ``as_long`` those of paths of the
    same length; both None for values that may be negative.
    """

    figures: dict[str, float]
    intervals: dict[str, tuple[float, float]]
    shares: tuple[str, ...]
    how: dict[str, str]
    seen: float | None
    as_long: Floats | None

    @property
    def place(self) -> float | None:
        """The percentile of the history's maximum drawdown among those of paths as long."""
        return (
            None
            if self.seen is None or self.as_long is None
            else 100 * float((self.as_long < self.seen).mean())
        )

    def data(self) -> dict[str, Any]:
        """Return the same for JSON: where the price ends, chances, and drawdowns, each with its
        interval.
        """
        rows = {row["what"]: row for row in self.rows()}
        chances = [
            {
                "what": name,
                "chance": row["value"],
                "low": row["low"],
                "high": row["high"],
                "how": row.get("how", ""),
            }
            for name, row in rows.items()
            if name.startswith(("ending", "ever"))
        ]
        ends = ["mean", *(f"P{q}" for q in ENDS)]
        drawdown = None
        if self.seen is not None:
            row = rows["maximum drawdown, mean"]
            drawdown = {
                "mean": row["value"],
                "low": row["low"],
                "high": row["high"],
                "seen": self.seen,
                "percentile": self.place,
            }
        return {
            "end": {name: rows[name]["value"] for name in ends},
            "end intervals": {name: [rows[name]["low"], rows[name]["high"]] for name in ends},
            "chances": chances,
            "max drawdown": drawdown,
        }

    def rows(self) -> list[dict[str, Any]]:
        """Return a row for each figure: what, value, low, high, how."""
        missing = (math.nan, math.nan)
        return [
            {
                "what": name,
                "value": value,
                **dict(zip(("low", "high"), self.intervals.get(name, missing), strict=True)),
            }
            | ({"how": self.how[name]} if name in self.how else {})
            for name, value in self.figures.items()
        ]


def _how(
    process: Process, goals: Sequence[tuple[float, str]], horizon: float, unit: str
) -> dict[str, str]:
    """Return how the chances of ending beyond each level, and of ever being so, are known."""
    by_name = {}
    for level, label in goals:
        closed = process._closed_form_at(horizon) is not None
        by_name[f"ending {label} {level:g}"] = "closed form" if closed else "of the paths"
        closed = process._closed_hit_probability(level, horizon) is not None
        by_name[f"ever {label} {level:g}"] = (
            "at any moment, closed form" if closed else f"at the end of some {unit}, of the paths"
        )
    return by_name


def outlook(
    process: Process,
    made: Floats,
    history: Floats,
    dt: float,
    above: float | None,
    below: float | None,
    seed: int,
    uncertain: bool,
    unit: str = "period",
) -> Outlook:
    """Return what paths ``(periods + 1, trials)`` of a process fitted to a history tell."""
    periods, positive = len(made) - 1, process.multiplies and bool(made.min() > 0)
    goals = [
        (level, label) for level, label in ((above, "above"), (below, "below")) if level is not None
    ]

    def of(process: Process, paths: Floats) -> dict[str, float]:
        by_name = {"mean": float(paths[-1].mean())} | {
            f"P{q}": float(np.percentile(paths[-1], q)) for q in ENDS
        }
        for level, label in goals:
            by_name |= _chances(process, paths, periods * dt, level, label, uncertain)
        if positive:
            drawdowns = np.asarray(max_drawdown(np.maximum(paths, 1e-300)))
            by_name |= {"maximum drawdown, mean": float(drawdowns.mean())}
            by_name |= {"maximum drawdown, P95": float(np.percentile(drawdowns, 95))}
        return by_name

    figures = of(process, made)
    few = seed + 1  # of paths that only refits share, apart from those that are shown
    ends = (
        {}
        if uncertain
        else open_intervals(
            process,
            figures,
            lambda item: of(item, item.paths(periods, FEW_TRIALS, few, dt)),
            [of(process, some) for some in np.array_split(made, BATCHES, axis=1)],
        )
    )
    ends_by_figure = {
        name: ends[name] if name not in of_shares(figures) else as_shares(ends[name])
        for name in ends
    }
    how = {} if uncertain else _how(process, goals, periods * dt, unit)
    shares = of_shares(figures)
    as_long = (
        process.max_drawdowns(len(history) - 1, made.shape[1], seed, dt, uncertain=uncertain)
        if positive
        else None
    )
    seen = float(np.asarray(max_drawdown(history))) if positive else None
    return Outlook(figures, ends_by_figure, shares, how, seen, as_long)


def of_shares(figures: dict[str, float]) -> tuple[str, ...]:
    """Return the names of figures that are shares, from 0 to 1."""
    return tuple(name for name in figures if name.startswith(("ending", "ever", "maximum")))


def as_shares(ends: tuple[float, float]) -> tuple[float, float]:
    """Return ends of an interval of a share, which lies from 0 to 1."""
    return max(ends[0], 0.0), min(ends[1], 1.0)


def _chances(
    process: Process, made: Floats, time: float, level: float, label: str, uncertain: bool
) -> dict[str, float]:
    """Return the chances of ending beyond a price, and of being there at any time before."""
    beyond = made > level if label == "above" else made < level
    closed = None if uncertain else process._closed_form_at(time)
    hit = None if uncertain else process._closed_hit_probability(level, time)
    if beyond[0].all():  # today's price is there already, and the closed form is of touching it
        hit = 1.0
    return {
        f"ending {label} {level:g}": float(beyond[-1].mean())
        if closed is None
        else float(closed.chance(**{label: level})),
        f"ever {label} {level:g}": float(beyond.any(axis=0).mean()) if hit is None else hit,
    }
