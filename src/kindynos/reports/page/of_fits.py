"""What a page shows of fits: densities over the values, values against quantiles, the coming
periods of a series, and the drawdowns of simulated paths.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.finance.drawdowns import max_drawdown
from kindynos.fitting.diagnostics import Diagnostics
from kindynos.fitting.forecast import Forecast
from kindynos.fitting.jointly import JointFit
from kindynos.fitting.ordered import density_of, edges_of, ordered
from kindynos.fitting.ranking import Ranking
from kindynos.fitting.series import SeriesRanking
from kindynos.fitting.track_record import TrackRecord, outcomes_by_part
from kindynos.reports.page.charts import DAY, MONTH
from kindynos.reports.page.curves import STROKES, Band, Curves, Line, Points, curves, histogram

BEST, POINTS, SHOWN = 3, 300, 3  # of densities, and horizons of the history beside a forecast
CLOUD = 400  # paths
BARS = 41
BY_MONTH = ("month", "quarter", "year")


def of_ranking(ranking: Ranking, shown: Distribution, name: str) -> Iterator[Curves]:
    """Yield the densities of the best few over the values, and one's quantiles against them."""
    values, thresholds = ranking.data.values, ranking.data.thresholds
    best = list(ranking)[:BEST]
    parts: list[Any]
    if best[0].discrete:
        k = np.arange(values.min(), values.max() + 1)
        seen = [(values == one).mean() for one in k]
        parts = [Points(k, seen, "values", kind="best")]
        parts += [
            Line(k, one.pmf(k), one.label, kind) for one, kind in zip(best, STROKES, strict=False)
        ]
        up = "share of the values"
    else:
        edges = edges_of(values)
        across, heights = histogram(values, edges)
        width = np.repeat(np.diff(edges), 2)
        heights[1:-1] /= width
        x = np.linspace(edges[0], edges[-1], POINTS)
        parts = [Line(across, heights, "values", "step")]
        parts += [
            Line(x, density_of(one, x, thresholds), one.label, kind)
            for one, kind in zip(best, STROKES, strict=False)
        ]
        up = "density"
    title = f"{len(values):,} values and the distributions that fit them best"
    yield curves(title, parts, (name, up), floor=0.0)
    one = ordered(shown, values, thresholds)
    ends = [float(one.expected[0]), float(one.expected[-1])]
    yield curves(
        f"The values in order against quantiles of the {shown.label}",
        [
            Band(one.expected, one.low, one.high, "95 % of values of this distribution"),
            Line(ends, ends, "equal", "goal"),
            Points(one.expected, one.values, "values"),
        ],
        (f"quantile of the {shown.label}", name),
    )


def of_forecast(forecast: Forecast) -> Curves:
    """Return the end of the history and the fan of the coming periods."""
    return of_series(forecast.ranking, forecast.process_name, forecast.table())


def of_series(ranking: SeriesRanking, name: str, coming: pd.DataFrame) -> Curves:
    """Return the end of a series and the fan of its ``coming`` periods, from their percentiles."""
    series, ahead = ranking.series, len(coming)
    kept = min(len(series.values), SHOWN * max(ahead, 12))
    before, after = np.arange(kept), np.arange(kept, kept + ahead)
    low, first, median, last, high = (coming[f"P{level}"] for level in (5, 25, 50, 75, 95))
    dates = None if series.dates is None else [str(date) for date in series.dates[-kept:]]
    labels = dates or [str(k + 1) for k in range(len(series.values) - kept, len(series.values))]
    labels += [str(date) for date in series.after(ahead)]
    label = str(series.name or "value").replace("_", " ")
    return curves(
        f"{label[:1].upper()}{label[1:]}: what was, and the next {ahead} periods",
        [
            Band(after, low, high, "nine tenths of the paths"),
            Band(after, first, last, "the middle half", "narrow"),
            Line(before, series.values[-kept:], "history", "third"),
            Line(after, median, "median"),
        ],
        (series.every or "period", label),
        labels=[one[: MONTH if (series.every or "") in BY_MONTH else DAY] for one in labels],
        remark=f"By {name}, its parameters drawn too.",
    )


def of_diagnostics(diagnosed: Diagnostics) -> Iterator[Curves]:
    """Yield what a process leaves: through time, its autocorrelations, and its distribution."""
    values = diagnosed.values
    about = f"{diagnosed.of[:1].upper()}{diagnosed.of[1:]}"
    yield curves(about, [Line(np.arange(len(values)) + 1, values)], ("period", "value"))
    for rows, title in (
        (diagnosed.autocorrelations, "Autocorrelation"),
        (diagnosed.partial, "Partial autocorrelation"),
    ):
        lags = np.arange(len(rows)) + 1
        ends, band = [1.0, float(len(rows))], [diagnosed.band] * 2
        yield curves(
            f"{title} of the {diagnosed.of}",
            [
                Band(ends, [-diagnosed.band] * 2, band, "95 % of independent values"),
                Line(np.repeat(lags, 3), np.column_stack([0 * rows, rows, 0 * rows]).ravel()),
                Points(lags, rows),
            ],
            ("lag, periods", "correlation"),
        )
    value = values[~np.isnan(values)]
    edges = np.histogram_bin_edges(value, min(30, max(8, len(value) // 6)))
    across, shares = histogram(value, edges)
    x = np.linspace(edges[0], edges[-1], POINTS)
    normal = np.exp(-0.5 * ((x - value.mean()) / value.std(ddof=1)) ** 2)
    height = (edges[1] - edges[0]) / (value.std(ddof=1) * math.sqrt(2 * math.pi))
    yield curves(
        f"{about} against the normal",
        [Line(across, shares, kind="step"), Line(x, height * normal, "normal", "second")],
        ("value", "share of the values, %"),
        units=(None, "%"),
        floor=0.0,
    )


def of_drawdowns(paths: Floats, as_long: Floats, seen: float | None) -> Iterator[Curves]:
    """Yield the drawdowns of paths as long as the history, and growth beside drawdown."""
    edges = np.linspace(float(as_long.min()), float(as_long.max()) or 1.0, BARS)
    across, shares = histogram(as_long, edges)
    parts: list[Any] = [Line(across, shares, kind="step")]
    if seen is not None:
        parts.append(Line([seen, seen], [0.0, float(shares.max())], "of the history", "third"))
    yield curves(
        "The deepest fall of a path as long as the history",
        parts,
        ("maximum drawdown, %", "share of the paths, %"),
        units=("%", "%"),
        floor=0.0,
    )
    some = paths[:, :CLOUD]
    falls, grown = np.asarray(max_drawdown(some)), some[-1] / some[0] - 1
    yield curves(
        "Growth against the deepest fall",
        [Points(falls, grown, f"{some.shape[1]:,} of the paths", kind="faint")],
        ("maximum drawdown, %", "growth over the path, %"),
        units=("%", "%"),
    )


def of_record(record: TrackRecord) -> Curves:
    """Return how many outcomes fell into each part of their forecast, beside what chance allows."""
    edges, counts, (low, high) = outcomes_by_part(record)
    across, heights = np.repeat(100 * edges, 2), np.concatenate([[0], np.repeat(counts, 2), [0]])
    right = len(record.cases) / len(counts)
    return curves(
        "Where outcomes fell in their forecasts",
        [
            Band([0, 100], [low, low], [high, high], "95 % of right forecasts"),
            Line([0, 100], [right, right], "what each part would hold", "goal"),
            Line(across, heights, "outcomes"),
        ],
        ("percentile of the forecast at which the outcome fell", "outcomes"),
        floor=0.0,
    )


def of_joint_fit(fitted: JointFit) -> Curves:
    """Return the ranks of the first two columns against each other, in per cent of the records."""
    ranks = 100 * (fitted.records[:, :2].argsort(axis=0).argsort(axis=0) + 0.5)
    first, second = (name.replace("_", " ") for name in fitted.names[:2])
    across, up = ranks.T / len(fitted.records)
    title = f"{first[:1].upper()}{first[1:]} and {second}: where each record stands among all"
    axes = (f"{first}: records below, %", f"{second}: records below, %")
    return curves(title, [Points(across, up)], axes, floor=0.0)
