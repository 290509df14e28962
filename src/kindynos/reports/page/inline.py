"""A result as a notebook shows it: its answer, the charts of its page and its first tables,
compact, in the colours of the notebook.
"""

from __future__ import annotations

from collections.abc import Iterator
from html import escape
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.formatting import heading, titled
from kindynos.printable import visible
from kindynos.reports.origin import titles_of
from kindynos.reports.page.charts import Bars
from kindynos.reports.page.curves import Curves
from kindynos.reports.page.densities import Density, density_of
from kindynos.reports.page.figures import driven
from kindynos.reports.page.live import Live, live
from kindynos.reports.report import Report, Section
from kindynos.reports.showing import report_of
from kindynos.reports.tables import FigureTable
from kindynos.results.run import Run

MOST_TABLES = 2
MOST_ROWS = 30
# results whose charts are quick to draw
CHARTED = frozenset(
    (
        "bridge",
        "comparison",
        "fit",
        "forecast",
        "frontier",
        "goal",
        "optimum",
        "robustness",
        "sweep",
    )
)
MOST_CHARTS = 2
DASHES = {"second": "9 4", "third": "3 3", "fourth": "12 3 2 3", "fifth": "1 5"}
DASHES |= {"sixth": "16 4", "seventh": "8 3 2 3 2 3", "eighth": "5 2 5 6", "goal": "2 3"}


def inline(result: Any) -> str:
    """Return a result as HTML for a notebook; see ``Run._repr_html_``."""
    with titled(titles_of(result)):
        return _inline(result, report_of(result))


def _inline(result: Any, report: Report) -> str:
    parts = [f"<p><b>{_text(line)}</b></p>" for line in report.answer]
    if isinstance(result, Run):
        parts += _of_run(result)
    elif report.kind in CHARTED and report.view is not None:
        for chart in report.view(report).charts[:MOST_CHARTS]:
            parts += [_bars(chart)] if isinstance(chart, Bars) else []
            parts += [_curves(chart)] if isinstance(chart, Curves) else []
    tables = [table for section in report.sections for table in section.tables]
    parts += [_table(table) for table in tables[:MOST_TABLES]]
    if isinstance(result, Distribution):
        parts.append(_picture(density_of(result)))
    if len(tables) > MOST_TABLES:
        left = len(tables) - MOST_TABLES
        parts.append(f"<p>{left} more tables: <code>.show()</code> prints all.</p>")
    if not parts:
        parts = [f"<p>{_text(line)}</p>" for line in _first(report.sections)]
    return "".join(parts)


def _of_run(run: Run) -> Iterator[str]:
    """Yield the histogram of the first outcome that has one, and what drives it."""
    outcomes = (name for name in run.outcomes if not run[name].is_row)
    for name in outcomes:
        shown = live(run[name], heading(name), [])
        if shown is not None:
            yield _histogram(shown)
            chart = driven(run, name)
            yield _bars(chart) if chart is not None else ""
            return


def _histogram(shown: Live) -> str:
    """Return the histogram of an outcome, dark on the side of its target that nobody wants."""
    bars = []
    for bar in shown.bars:
        side = "low" if bar["x"] < shown.cut else "high"
        place = f'x="{bar["x"]}%" y="{bar["y"] - 24}" width="1.69%" height="{bar["height"]}"'
        bars.append(f'<rect {place} fill-opacity="{0.8 if side == shown.hurts else 0.4}"/>')
    ticks = [
        f'<text x="{tick["x"]}%" y="{26 + shown.tall}" font-size="11" text-anchor="middle">'
        f"{_text(tick['text'])}</text>"
        for tick in shown.ticks
    ]
    sides = f"below {shown.cut_words}: {shown.below}, above: {shown.above}"
    return (
        f"<div><b>{_text(shown.title)}</b>, {_text(sides)}</div>"
        f'<svg style="margin:0 28px" width="480" height="{32 + shown.tall}" overflow="visible" '
        f'fill="currentColor" role="img" aria-label="{_text(shown.label)}">'
        f"{''.join([*bars, *ticks])}</svg>"
    )


def _bars(chart: Bars) -> str:
    """Return a chart of bars as a table, dark where nobody wants them."""
    rows = []
    for bar in chart.bars:
        width = 0.6 if bar.kind == "mark" else max(bar.width, 0.4)
        strong = 0.85 if bar.kind in ("hurts", "mark") else 0.4 if bar.kind == "less" else 0.6
        picture = (
            f'<svg width="260" height="14" aria-hidden="true"><rect x="{min(bar.begin, 99.4)}%" '
            f'y="2" width="{width}%" height="10" fill="currentColor" '
            f'fill-opacity="{strong}"/></svg>'
        )
        rows.append(
            f'<tr><td style="text-align:left">{_text(heading(bar.name))}</td><td>{picture}</td>'
            f'<td style="text-align:right">{_text(bar.text)}</td></tr>'
        )
    return f"<table><caption>{_text(chart.title)}</caption><tbody>{''.join(rows)}</tbody></table>"


def _curves(chart: Curves) -> str:
    """Return a chart of curves in the colour of the notebook's text, told apart by dashes."""
    inside = [
        f'<polygon points="{band["points"]}" fill="currentColor" '
        f'fill-opacity="{0.15 if band["kind"] == "wide" else 0.3}"/>'
        for band in chart.bands
    ]
    inside += [
        f'<polyline points="{line["points"]}" fill="none" stroke="currentColor" stroke-width="1.5" '
        f'stroke-dasharray="{DASHES.get(line["kind"], "none")}" '
        'vector-effect="non-scaling-stroke"/>'
        for line in chart.lines
    ]
    around = [
        f'<circle cx="{point["x"]}%" cy="{point["y"]}%" r="{4 if point["kind"] == "best" else 2}"/>'
        for point in chart.points
    ]
    around += [
        f'<text x="{one["x"]}%" y="196" font-size="11" text-anchor="middle">{_text(one["text"])}'
        "</text>"
        for one in chart.ticks
    ]
    around += [
        f'<text x="-6" y="{one["y"]}%" dy="4" font-size="11" text-anchor="end">'
        f"{_text(one['text'])}</text>"
        for one in chart.levels
    ]
    keys = [
        '<svg width="30" height="8" aria-hidden="true"><line x2="26" y1="4" y2="4" '
        f'stroke="currentColor" stroke-width="{7 if key["of"] == "Band" else 1.5}" '
        f'stroke-opacity="{0.3 if key["of"] == "Band" else 1}" '
        f'stroke-dasharray="{DASHES.get(key["kind"], "none")}"/></svg>{_text(key["name"])}'
        for key in chart.keys
    ]
    said = f"{chart.names[1]} over {chart.names[0]}"
    return (
        f"<div><b>{_text(chart.title)}</b>: {_text(said)}</div>"
        f'<svg style="margin:6px 28px 6px 72px" width="480" height="200" overflow="visible" '
        f'fill="currentColor" role="img" aria-label="{_text(chart.label)}">'
        '<svg width="100%" height="180" viewBox="0 0 1000 1000" preserveAspectRatio="none">'
        f'{"".join(inside)}</svg><svg width="100%" height="180" overflow="visible">'
        f"{''.join(around)}</svg></svg><div>{' '.join(keys)}</div>"
    )


def _picture(density: Density) -> str:
    """Return a small density in the colour of the notebook's text."""
    picture = (
        f'<svg viewBox="0 0 160 62" width="320" height="124" role="img" '
        f'aria-label="{_text(density.name)}"><polygon points="{density.points}" '
        'fill="currentColor" fill-opacity="0.45"/></svg>'
    )
    return f"{picture}<div>{_text(density.low)} to {_text(density.high)}</div>"


def _first(sections: tuple[Section, ...]) -> list[str]:
    return sections[0].sentences if sections else []


def _text(text: str) -> str:
    return escape(visible(text))


def _table(table: FigureTable) -> str:
    heads = "".join(
        f'<th style="text-align:{"right" if column.right else "left"}">{_text(column.header)}</th>'
        for column in table.columns
    )
    rows = []
    for cells in list(zip(*(column.cells for column in table.columns), strict=True))[:MOST_ROWS]:
        rows.append(
            "".join(
                f'<td style="text-align:{"right" if column.right else "left"}">{_text(cell)}</td>'
                for column, cell in zip(table.columns, cells, strict=True)
            )
        )
    count = len(table.columns[0].cells)
    more = "" if count <= MOST_ROWS else f"<p>{count - MOST_ROWS} more rows.</p>"
    body = "".join(f"<tr>{row}</tr>" for row in rows)
    caption = f"<caption>{_text(table.title)}</caption>" if table.title else ""
    return f"<table>{caption}<thead><tr>{heads}</tr></thead><tbody>{body}</tbody></table>{more}"
