"""A report as a page: one file that opens without a network. It renders the sections that the
terminal prints, with live pictures of the outcomes of a run.
"""

from __future__ import annotations

import base64
import hashlib
import tempfile
from collections.abc import Iterator, Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from kindynos import __version__
from kindynos.atomic import check_folder, replacing
from kindynos.decisions.solve import Solution
from kindynos.errors import FileError
from kindynos.markets.allocation.frontier import Frontier
from kindynos.printable import visible
from kindynos.reports import text as texts
from kindynos.reports.allocation import Allocated
from kindynos.reports.page.fans import Fan, fan, rows_of, sheet_of
from kindynos.reports.page.live import (
    MOST_VALUES,
    Live,
    axis_of,
    drivers_looked_at,
    drivers_of,
    live,
)
from kindynos.reports.page.pictures import Curve, curve, densities, maps, tree
from kindynos.reports.report import Report, Section
from kindynos.reports.showing import report_of
from kindynos.reports.tables import FigureTable
from kindynos.results.read_trials import ReadTrials
from kindynos.results.run import Run
from kindynos.studies.comparison import Comparison, ReportedMean
from kindynos.studies.sweep import Sweep
from kindynos.validate import path_of

MOST_PAGE_VALUES = 150_000  # of all outcomes of a page; of more, counts on steps
LARGEST_DRAWING = 100_000  # bytes of a still picture as lines
MOST_LIVE = 20  # outcomes that are drawn; all are in the tables
ENDINGS = (".html", ".htm")


def write_page(result: Any, path: str | Path) -> None:
    """Write the page of a result; see Run.report. Raises FileError for a path that cannot be
    written, and without Jinja2.
    """
    write_report(report_of(result), path)


def write_report(report: Report, path: str | Path) -> None:
    """Write a report as a page."""
    target = path_of("path", path)
    if target.suffix.lower() not in ENDINGS:
        raise FileError("a page must be named .html", file=str(target))
    text = page_of(report)
    check_folder(target.parent)
    target.parent.mkdir(parents=True, exist_ok=True)
    with replacing(target) as part:
        part.write_text(text, encoding="utf-8")


def page_of(report: Report) -> str:
    """Return the page of a report as text."""
    result = report.result
    try:
        from jinja2 import Environment
    except ImportError:
        raise FileError("a page needs Jinja2: pip install 'kindynos[report]'") from None
    folder = files("kindynos.reports.page")
    style, script, template = (
        folder.joinpath(name).read_text(encoding="utf-8")
        for name in ("page.css", "page.js", "page.html.j2")
    )
    lives = list(_lives(result))
    environment = Environment(autoescape=True, trim_blocks=True)
    return environment.from_string(template).render(
        title=visible(_title(result, report)),
        answer=[visible(line) for line in report.answer],
        lives=lives,
        fans=list(_fans(report)),
        index=list(map(visible, result.outcomes)) if _is_long(result) else [],
        drivers=drivers_looked_at(result) if lives and not _is_compared(result) else "[]",
        maps=maps(result) if isinstance(result, Sweep) else [],
        curve=_curve(result),
        tree=tree(result) if isinstance(result, Solution) else None,
        densities=densities(result) if isinstance(result, Run) else [],
        sections=[*_stated(result), *map(_section, report.sections[bool(report.answer) :])],
        pictures=list(_pictures(report, lives, result)),
        made=_made(result),
        style=_raw(style),
        script=_raw(script),
        style_hash=_hash(style),
        script_hash=_hash(script),
    )


def _is_long(result: Any) -> bool:
    return isinstance(result, Run | ReadTrials) and len(result.outcomes) > MOST_LIVE


def _is_compared(result: Any) -> bool:
    return isinstance(result, Comparison)


def _curve(result: Any) -> Curve | None:
    if isinstance(result, Frontier):
        return curve(result)
    if isinstance(result, Allocated):
        return curve(result.frontier, result.allocation.weights)
    return None


def _raw(text: str) -> Any:
    from markupsafe import Markup

    return Markup(text)  # our own file, without any text from a user


def _hash(text: str) -> str:
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _lives(result: Any) -> Iterator[Live]:
    """Yield the outcomes that are drawn live: of scenarios side by side, on one axis."""
    if isinstance(result, Run | ReadTrials):
        drivers = drivers_of(result)
        names = result.outcomes[:MOST_LIVE]
        most = min(MOST_PAGE_VALUES // len(names), MOST_VALUES) if names else 0
        for name in names:
            beside = [one for one in drivers if one != name]
            found = live(result[name], name, beside, most_values=most)
            if found is not None:
                yield found
    elif isinstance(result, Comparison):
        yield from _side_by_side(result)


def _side_by_side(compared: Comparison) -> Iterator[Live]:
    runs = {name: run for name, run in compared.runs.items() if not isinstance(run, ReportedMean)}
    boxes = len(runs) * len(compared.outcomes)
    most = MOST_PAGE_VALUES // max(boxes, 1)
    for outcome in compared.outcomes[: max(MOST_LIVE // len(runs), 1)]:
        values = np.concatenate([np.asarray(run[outcome].values) for run in runs.values()])
        known = values[np.isfinite(values)]
        if not len(known) or np.ptp(known) == 0:
            continue
        axis = axis_of(known)
        for scenario, run in runs.items():
            found = live(run[outcome], scenario, [], axis=axis, group=outcome, most_values=most)
            if found is not None:
                yield found


def _fans(report: Report) -> Iterator[Fan]:
    result = report.result
    sheet = sheet_of(result) if isinstance(result, Run) else None
    for row in rows_of(result) if isinstance(result, Run) else report.rows():
        found = fan(row, sheet)
        if found is not None:
            yield found


def _stated(result: Any) -> list[dict[str, Any]]:
    """Return what is known and what is uncertain in a run."""
    if not isinstance(result, Run):
        return []
    program = result.program
    tables = [("What is known", texts.givens_table(program))] if program.givens else []
    tables += [("What is uncertain", texts.drivers_table(program))] if program.drivers else []
    return [{**_section(Section((table,))), "title": title} for title, table in tables]


def _section(section: Section) -> dict[str, Any]:
    parts = []
    for part in section.parts:
        if isinstance(part, FigureTable):
            cells = [column.cells for column in part.columns]
            rows = [[visible(cell) for cell in row] for row in zip(*cells, strict=True)]
            parts.append({"table": part, "rows": rows})
        else:
            parts += [{"text": visible(line)} for line in part.plain.splitlines() if line]
    return {"title": visible(section.title), "parts": _without_title(parts, section)}


def _without_title(parts: list[dict[str, Any]], section: Section) -> list[dict[str, Any]]:
    """Return the parts of a section without a first sentence that is its title."""
    is_title = not section.tables and bool(parts) and parts[0].get("text") == section.title
    return parts[1:] if is_title else parts


def _pictures(report: Report, lives: Sequence[Live], result: Any) -> Iterator[dict[str, str]]:
    """Yield the still pictures of a report; those of outcomes that are drawn live are left out."""
    drawn: set[str] = {row.name for row in report.rows()}
    if isinstance(result, Run | ReadTrials):
        drawn = {*drawn, *result.outcomes[:MOST_LIVE]}
    if isinstance(result, Run):
        beyond = result.outcomes[MOST_LIVE:]
        drawn = {*drawn, *result.kept, *beyond, *(f"{name}-drivers" for name in beyond)}
    for draws, whole in ((report.figures(), False), (report.pages(), True)):
        for name, draw in draws.items():
            if name not in drawn:
                yield {"source": _as_image(draw, whole), "alt": name.replace("-", " ")}


def _as_image(draw: Any, whole: bool) -> str:
    from kindynos.plots import save_figure

    with tempfile.TemporaryDirectory() as folder:
        path, kind = Path(folder, "picture.svg"), "svg+xml"
        save_figure(path, draw, page=whole)
        if path.stat().st_size > LARGEST_DRAWING:  # of very many points, pixels are smaller
            path, kind = Path(folder, "picture.png"), "png"
            save_figure(path, draw, page=whole)
        return f"data:image/{kind};base64," + base64.b64encode(path.read_bytes()).decode()


def _title(result: Any, report: Report) -> str:
    if isinstance(result, Comparison):
        return f"Scenarios: {', '.join(result.scenarios)}"
    name = getattr(result, "name", None)
    return str(name) if isinstance(name, str) and name else report.title


def _made(result: Any) -> str:
    """Return how a result was made, in a sentence."""
    words = [f"Kindynos {__version__}"]
    if isinstance(result, Run):
        facts = result.facts()
        words.append(f"{result.size:,} trials, {facts['sampling']} plan, seed {result.seed}")
        failed = sum(
            result[name].n_failed > 0 for name in result.outcomes if not result[name].is_row
        )
        words.append(
            f"{failed} outcomes have trials without a value" if failed else "no failed trial"
        )
    return "; ".join(words) + (
        ". An error is half a 95 % interval: how far a figure may be off because trials are drawn "
        "at random. More trials shrink it; the risk stays."
    )
