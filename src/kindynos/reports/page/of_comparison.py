"""What a page shows of scenarios: each outcome with the pictures of all scenarios on one axis."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from kindynos.formatting import heading
from kindynos.inference.estimates import Estimate
from kindynos.reports.page.curves import Band, Curves, Line, curves, of_results
from kindynos.reports.page.figures import line, rounded
from kindynos.reports.page.live import Live, axis_of, cut_of, live
from kindynos.reports.page.of_trials import MOST_LIVE, MOST_PAGE_VALUES
from kindynos.reports.page.view import PageView, plain_view
from kindynos.reports.report import Report
from kindynos.studies.comparison import Comparison, ReportedMean
from kindynos.tables.table import counted

MOST_CURVES = 4  # outcomes with a chart of all scenarios


def comparison_view(report: Report, compared: Comparison) -> PageView:
    """Return what a page shows of scenarios."""
    first: Any = next(iter(compared.runs.values()))
    facts = []
    if not isinstance(first, ReportedMean):
        plan = first.facts()["sampling"]
        facts = [f"{first.size:,} trials", f"{plan} plan", f"seed {first.seed}"]
    groups: dict[str, list[Live]] = {}
    for picture in _side_by_side(compared):
        groups.setdefault(picture.group, []).append(picture)
    return plain_view(
        report,
        f"{first.name}: {counted(len(compared.scenarios), 'scenario')}",
        facts=facts,
        charts=[*_cumulative(compared), *_fans(compared)],
        drawn=frozenset(report.figures()) | {f"{name}-fans" for name in compared.rows},
        groups=[
            {
                "title": name,
                "unit": pictures[0].unit,
                "lives": pictures,
                "beside": _lines(compared, name),
            }
            for name, pictures in groups.items()
        ],
    )


def _cumulative(compared: Comparison) -> Iterator[Curves]:
    """Yield the share of trials at or below each value of the first outcomes, by scenario."""
    runs = {name: run for name, run in compared.runs.items() if not isinstance(run, ReportedMean)}
    for outcome in compared.outcomes[:MOST_CURVES]:
        results = {name: compared.result(name, outcome) for name in runs}
        if any(np.isfinite(one.values).any() for one in results.values()):
            yield of_results(f"{heading(outcome)}: trials at or below a value", results)


def _fans(compared: Comparison) -> Iterator[Curves]:
    """Yield each row outcome over the periods, by scenario."""
    for outcome in compared.rows:
        for scenario, row in compared.rows_of(outcome).items():
            at = np.arange(len(row.labels))
            low, first, last, high = np.asarray(row.percentile([5, 25, 75, 95]))
            yield curves(
                f"{heading(outcome)} over the periods: {scenario}",
                [
                    Band(at, low, high, "nine tenths of the trials"),
                    Band(at, first, last, "the middle half", "narrow"),
                    Line(at, np.asarray(row.median), "median"),
                ],
                ("period", row.unit or ""),
                units=(None, row.unit),
                labels=[str(label) for label in row.labels],
            )


def _side_by_side(compared: Comparison) -> Iterator[Live]:
    """Yield the pictures of each outcome, of one after the other, on an axis in common."""
    runs = {name: run for name, run in compared.runs.items() if not isinstance(run, ReportedMean)}
    boxes = len(runs) * len(compared.outcomes)
    most = MOST_PAGE_VALUES // max(boxes, 1)
    for outcome in compared.outcomes[: max(MOST_LIVE // len(runs), 1)]:
        values = np.concatenate([np.asarray(run[outcome].values) for run in runs.values()])
        value = values[np.isfinite(values)]
        if not len(value) or np.ptp(value) == 0:
            continue
        axis, cut = axis_of(value), cut_of(next(iter(runs.values()))[outcome])
        for scenario, run in runs.items():
            picture = live(
                run[outcome], scenario, [], axis=axis, cut=cut, group=outcome, most_values=most
            )
            if picture is not None:
                yield picture


def _lines(compared: Comparison, outcome: str) -> dict[str, Any]:
    """Return the lines of scenarios of an outcome, each with its difference from the first."""
    rows = compared.differences().xs((outcome, "mean"), level=("outcome", "statistic"))
    rows_of_cells, unit = [], None
    for scenario, run in compared.runs.items():
        if isinstance(run, ReportedMean):
            rows_of_cells.append([scenario, rounded(run.estimate, unit), "", "", "", ""])
            continue
        unit = run[outcome].unit
        cells = line(run[outcome], scenario).cells
        change = ""
        if scenario in rows.index:
            row: Any = rows.loc[scenario]
            gap = Estimate(float(row["difference"]), float(row["low"]), float(row["high"]))
            sign = "+" if float(gap) > 0 else ""
            change = f"{sign}{rounded(gap, unit)}" if row["low"] > 0 or row["high"] < 0 else "none"
        rows_of_cells.append([scenario, cells[0], change, cells[1], cells[3], cells[4]])
    heads = ["scenario", "mean", f"from {compared.scenarios[0]}", "P5", "P95", "misses"]
    if not any(cells[-1] for cells in rows_of_cells):  # no target to miss
        heads, rows_of_cells = heads[:-1], [cells[:-1] for cells in rows_of_cells]
    return {"title": "Side by side", "heads": heads, "rows": rows_of_cells}
