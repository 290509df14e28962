"""What a page shows of a result beside the titles, tables and pictures of its report, as data. A
kind of result that has more to show has a function here that fills a ``PageView``, which its report
names.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from kindynos import __version__
from kindynos.formatting import heading
from kindynos.printable import visible
from kindynos.reports.page.fans import Fan, fan
from kindynos.reports.report import Report, Section
from kindynos.reports.tables import CODE, FigureTable


@dataclass(frozen=True)
class PageView:
    """What the template of a page takes; each part is empty where a result has none."""

    title: str
    sections: Sequence[dict[str, Any]]  # the sections of its report that are shown below
    drawn: frozenset[str] = frozenset()  # pictures that need no still one, since the page has them
    facts: Sequence[str] = ()  # how many trials there were, by which plan and from which seed
    versions: Mapping[str, str] = field(default_factory=lambda: {"kindynos": __version__})
    outcomes: Sequence[dict[str, Any]] = ()  # the first one is shown above all others
    drivers: str = "[]"  # where drivers lay in the first trials, for the script
    groups: Sequence[dict[str, Any]] = ()  # outcomes of scenarios, side by side
    fans: Sequence[Fan] = ()  # rows over time
    beside: dict[str, Any] | None = None  # the lines beside the first picture
    charts: Sequence[Any] = ()  # of kindynos.reports.page.charts, below the answer
    tree: Any = None
    maps: Sequence[Any] = ()
    curve: Any = None
    assumed: Sequence[dict[str, Any]] = ()  # what is uncertain
    given: dict[str, Any] | None = None  # what is known
    departures: Sequence[dict[str, Any]] = ()  # what the assumptions are worth, by outcome
    formulas: Sequence[dict[str, str]] = ()
    made: Sequence[str] = ()  # how it was made, a sentence each
    advice: Sequence[str] = ()  # for the analyst, a sentence each


def plain_view(report: Report, title: str = "", **shown: Any) -> PageView:
    """Return the view of a report of sections and rows, and of what else is given."""
    name = getattr(report.result, "name", None)
    own = str(name) if isinstance(name, str) and name else heading(report.title)
    fans = [fan(row) for row in report.rows()]
    shown.setdefault("drawn", frozenset(row.name for row in report.rows()))
    return PageView(
        title or own,
        [section_parts(section) for section in sections_below(report)],
        fans=[drawn for drawn in fans if drawn is not None],
        **shown,
    )


def charts_view(report: Report, *charts: Any) -> PageView:
    """Return the view of a report whose pictures a page draws as charts, without still ones."""
    return plain_view(report, charts=charts, drawn=frozenset(report.figures()))


def sections_below(report: Report) -> tuple[Section, ...]:
    """Return the sections of a report without its answer."""
    return report.sections[bool(report.answer) :]


def section_parts(section: Section) -> dict[str, Any]:
    """Return the title of a section and its tables, texts and code; a first sentence that is its
    title is left out.
    """
    parts: list[dict[str, Any]] = []
    for part in section.parts:
        if isinstance(part, FigureTable):
            cells = [column.cells for column in part.columns]
            rows = [[visible(cell) for cell in row] for row in zip(*cells, strict=True)]
            parts.append({"table": part, "rows": rows})
            continue
        lines = [visible(line) for line in part.plain.splitlines()]
        if part.style == CODE:
            parts.append({"code": "\n".join(lines)})
        else:
            parts += [{"text": line} for line in lines if line]
    is_title = not section.tables and bool(parts) and parts[0].get("text") == section.title
    return {"title": visible(section.title), "parts": parts[1:] if is_title else parts}
