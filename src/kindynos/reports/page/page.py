"""A report as a page: one file that opens without a network. It begins with the answer, the figures
at a glance and the picture of the first outcome; all else follows below, folded where it is long.
"""

from __future__ import annotations

import base64
import hashlib
import json
import tempfile
import warnings
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from kindynos import __version__
from kindynos.atomic import check_folder, replacing
from kindynos.decisions.solve import Solution
from kindynos.errors import FileError
from kindynos.extras import require
from kindynos.markets.allocation.frontier import Frontier
from kindynos.printable import visible
from kindynos.reports import lumps
from kindynos.reports.allocation import Allocated
from kindynos.reports.how_made import advice_lines, made_lines
from kindynos.reports.model_tables import drivers_table, givens_table
from kindynos.reports.origin import Origin
from kindynos.reports.page.fans import Fan, fan, rows_of, sheet_of
from kindynos.reports.page.figures import (
    Key,
    added,
    alternatives,
    driven,
    in_sentence,
    in_words,
    keys,
    line,
    scenarios,
    tied,
)
from kindynos.reports.page.live import (
    MOST_VALUES,
    Live,
    axis_of,
    cut_of,
    drivers_looked_at,
    drivers_of,
    live,
)
from kindynos.reports.page.pictures import Curve, curve, densities, maps, tree
from kindynos.reports.report import Report, Section
from kindynos.reports.showing import signed
from kindynos.reports.tables import CODE, FigureTable
from kindynos.results.read_trials import ReadTrials
from kindynos.results.run import Run
from kindynos.studies.comparison import Comparison, ReportedMean
from kindynos.studies.sweep import Sweep
from kindynos.tables.table import counted
from kindynos.validate import path_of

MOST_PAGE_VALUES = 150_000  # of all outcomes of a page; of more, counts on steps
LARGEST_DRAWING = 100_000  # bytes of a still picture as lines
MOST_LIVE = 20  # outcomes that are drawn; all are in the tables
ENDINGS = (".html", ".htm")


def write_page(result: Any, path: str | Path, *, author: str = "", note: str = "") -> None:
    """Write the page of a result; see Run.report. Raises FileError for a path that cannot be
    written, and without Jinja2.
    """
    write_report(signed(result, author, note), path)


def write_report(report: Report, path: str | Path) -> None:
    """Write a report as a page."""
    target = path_of("path", path)
    if target.suffix.lower() not in ENDINGS:
        raise FileError("a page must be named .html", file=str(target))
    # of infinite values, which lie off the axes
    with (
        np.errstate(all="ignore"),
        warnings.catch_warnings(action="ignore", category=RuntimeWarning),
    ):
        text = page_of(report)
    check_folder(target.parent)
    target.parent.mkdir(parents=True, exist_ok=True)
    with replacing(target) as temporary:
        temporary.write_text(text, encoding="utf-8")


def page_of(report: Report) -> str:
    """Return the page of a report as text."""
    result, origin = report.result, report.origin or Origin()
    require("report")
    from jinja2 import Environment

    folder = files("kindynos.reports.page")
    style, script, template = (
        folder.joinpath(name).read_text(encoding="utf-8")
        for name in ("page.css", "page.js", "page.html.j2")
    )
    lives = {} if _is_compared(result) else {live.name: live for live in _lives(result)}
    outcomes = _outcomes(report, lives)
    first, further = next(iter(outcomes), None), outcomes[1:]
    environment = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.filters["words"] = in_words
    environment.filters["tied"] = tied
    return environment.from_string(template).render(
        title=visible(_title(result, report)),
        origin=origin,
        embedded=json.dumps(origin.facts()).replace("<", "\\u003c"),
        facts=_facts(result),
        answer=[visible(sentence) for sentence in report.answer],
        first=first,
        keys=[Key(*live) for live in report.glance()],
        added=added(report.adds()),
        beside=alternatives(result) if isinstance(result, Solution) else None,
        further=further,
        groups=_groups(report) if _is_compared(result) else [],
        fans=list(_fans(report)),
        drivers=drivers_looked_at(result) if lives else "[]",
        maps=maps(result) if isinstance(result, Sweep) else [],
        curve=_curve(result),
        tree=tree(result) if isinstance(result, Solution) else None,
        assumed=_assumed(result),
        given=_given(result),
        formulas=_formulas(result),
        sections=_others(report),
        pictures=list(_pictures(report, lives, result)),
        made=made_lines(result) if isinstance(result, Run) else [],
        advice=advice_lines(result) if isinstance(result, Run) else [],
        version=__version__,
        versions=_versions(result),
        style=_raw(style),
        script=_raw(script),
        style_hash=_hash(style),
        script_hash=_hash(script),
    )


def _outcomes(report: Report, lives: dict[str, Live]) -> list[dict[str, Any]]:
    """Return the outcomes of a run, the first one that is drawn before all others: its figures at
    a glance, its picture, what drives it, and its tables.
    """
    result = report.result
    if not isinstance(result, Run | ReadTrials):
        return []
    numbers = [name for name in result.outcomes if not result[name].is_row]
    first = next((name for name in numbers if name in lives), None)
    ordered = sorted(numbers, key=lambda name: name != first)
    about: dict[str, list[Section]] = {}
    for section in report.sections:
        about.setdefault(section.about, []).append(section)
    outcomes = []
    for position, name in enumerate(ordered):
        picture = lives.get(name)
        outcomes.append(
            {
                "id": f"outcome-{position + 1}",
                "line": line(result[name], name),
                "keys": keys(result[name], _is_awaited(result, name)) if picture else [],
                "live": picture,
                "driven": driven(result, name) if picture else None,
                "sections": [_section(item) for item in about.get(name, [])],
            }
        )
    return outcomes


def _is_awaited(result: Run | ReadTrials, name: str) -> bool:
    """Whether infinity means that an outcome never happens."""
    return isinstance(result, Run) and lumps.may_be_never(result, name)


def _others(report: Report) -> list[dict[str, Any]]:
    """Return the sections that are of no single outcome: of a run without what the page says in
    other places.
    """
    sections = report.sections[bool(report.answer) :]
    result = report.result
    if isinstance(result, Run):
        sections = tuple(
            section
            for section in sections
            if section.tables and (not section.about or result[section.about].is_row)
        )
    return [_section(section) for section in sections]


def _groups(report: Report) -> list[dict[str, Any]]:
    """Return the outcomes of scenarios, each with the pictures of all scenarios on one axis."""
    groups: dict[str, list[Live]] = {}
    for picture in _lives(report.result):
        groups.setdefault(picture.group, []).append(picture)
    return [
        {
            "title": name,
            "unit": ones[0].unit,
            "lives": ones,
            "beside": scenarios(report.result, name),
        }
        for name, ones in groups.items()
    ]


def _facts(result: Any) -> list[str]:
    """Return how many trials there were, by which plan and from which seed."""
    if isinstance(result, Comparison):
        result = next(iter(result.runs.values()))
    if isinstance(result, Solution):
        return [f"{result.trials:,} trials", f"seed {result.draws.seed}"]
    if not isinstance(result, Run):
        return []
    return [f"{result.size:,} trials", f"{result.facts()['sampling']} plan", f"seed {result.seed}"]


def _versions(result: Any) -> str:
    by_name = result.facts()["versions"] if isinstance(result, Run) else {"kindynos": __version__}
    return ", ".join(f"{in_words(name)} {version}" for name, version in by_name.items())


def _assumed(result: Any) -> list[dict[str, Any]]:
    """Return what is uncertain in a run: each driver with a small density, how it is stated, its
    figures and its source.
    """
    if not isinstance(result, Run) or not result.program.drivers:
        return []
    small = {density.name: density for density in densities(result)}
    table = drivers_table(result.program)
    assumed = []
    for cells in zip(*(column.cells for column in table.columns), strict=True):
        row = dict(zip((column.header for column in table.columns), cells, strict=True))
        each = row.pop("each")
        stated = in_sentence(row.pop("distribution"))
        assumed.append(
            {
                "name": row.pop("driver"),
                "unit": row.pop("unit"),
                "source": row.pop("source"),
                "stated": f"{stated}, again each {each}" if each not in ("", "trial") else stated,
                "figures": row,
            }
        )
        assumed[-1]["density"] = small.get(assumed[-1]["name"])
    return assumed


def _given(result: Any) -> dict[str, Any] | None:
    if not isinstance(result, Run) or not result.program.givens:
        return None
    return dict(_section(Section((givens_table(result.program),)))["parts"][0])


def _formulas(result: Any) -> list[dict[str, str]]:
    """Return the lines and outcomes with their formulas, in the order in which they are stated."""
    if not isinstance(result, Run):
        return []
    formulas = []
    for name, stated in result.program.lines.items():
        formula = stated.formula or ("a function" if stated.function else "")
        if formula:
            what = "outcome" if stated.outcome else ""
            formulas.append(
                {"name": name, "formula": formula, "unit": stated.unit or "", "what": what}
            )
    return formulas


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
            beside = [driver for driver in drivers if driver != name]
            answer = live(result[name], name, beside, most_values=most)
            if isinstance(result, Run) and lumps.is_condition(result, name):
                continue
            if answer is not None:
                yield answer
    elif isinstance(result, Comparison):
        yield from _side_by_side(result)


def _side_by_side(compared: Comparison) -> Iterator[Live]:
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
            result = run[outcome]
            answer = live(result, scenario, [], axis=axis, cut=cut, group=outcome, most_values=most)
            if answer is not None:
                yield answer


def _fans(report: Report) -> Iterator[Fan]:
    result = report.result
    sheet = sheet_of(result) if isinstance(result, Run) else None
    for row in rows_of(result) if isinstance(result, Run) else report.rows():
        answer = fan(row, sheet)
        if answer is not None:
            yield answer


def _section(section: Section) -> dict[str, Any]:
    parts = []
    for piece in section.parts:
        if isinstance(piece, FigureTable):
            cells = [column.cells for column in piece.columns]
            rows = [[visible(cell) for cell in row] for row in zip(*cells, strict=True)]
            parts.append({"table": piece, "rows": rows})
        else:
            lines = [visible(line) for line in piece.plain.splitlines()]
            if piece.style == CODE:
                parts.append({"code": "\n".join(lines)})
            else:
                parts += [{"text": line} for line in lines if line]
    return {"title": visible(section.title), "parts": _without_title(parts, section)}


def _without_title(parts: list[dict[str, Any]], section: Section) -> list[dict[str, Any]]:
    """Return the parts of a section without a first sentence that is its title."""
    is_title = not section.tables and bool(parts) and parts[0].get("text") == section.title
    return parts[1:] if is_title else parts


def _pictures(report: Report, lives: Any, result: Any) -> Iterator[dict[str, str]]:
    """Yield the still pictures of a report; those of outcomes that are drawn live are left out."""
    drawn: set[str] = {row.name for row in report.rows()}
    if isinstance(result, Run | ReadTrials):
        drawn = {*drawn, *result.outcomes[:MOST_LIVE], *(f"{name}-drivers" for name in lives)}
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
    if report.heading:
        return in_words(report.heading)
    if isinstance(result, Comparison):
        run: Any = next(iter(result.runs.values()))
        return f"{run.name}: {counted(len(result.scenarios), 'scenario')}"
    if isinstance(result, Solution):
        return f"{result.decision.name}: the decision"
    name = getattr(result, "name", None)
    return str(name) if isinstance(name, str) and name else report.title
