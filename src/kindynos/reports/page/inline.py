"""A result as a notebook shows it: its answer and its first tables, compact, in the colours of the
notebook.
"""

from __future__ import annotations

from html import escape
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.printable import visible
from kindynos.reports.page.densities import Density, density_of
from kindynos.reports.report import Section
from kindynos.reports.showing import report_of
from kindynos.reports.tables import FigureTable

MOST_TABLES = 2
MOST_ROWS = 30


def inline(result: Any) -> str:
    """Return a result as HTML for a notebook; see ``Run._repr_html_``."""
    report = report_of(result)
    parts = [f"<p><b>{_text(line)}</b></p>" for line in report.answer]
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
