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
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from kindynos import __version__
from kindynos.atomic import check_folder, replacing
from kindynos.errors import FileError
from kindynos.extras import require
from kindynos.formatting import heading, spoken, titled
from kindynos.printable import visible
from kindynos.reports.origin import Origin, titles_of
from kindynos.reports.page.figures import Key, tied
from kindynos.reports.page.view import plain_view
from kindynos.reports.report import Report
from kindynos.reports.showing import signed
from kindynos.validate import path_of

LARGEST_DRAWING = 100_000  # bytes of a still picture as lines
ENDINGS = (".html", ".htm")


def write_page(result: Any, path: str | Path, *, author: str = "", note: str = "") -> None:
    """Write the page of a result; see Run.report. Raises FileError for a path that cannot be
    written, and without Jinja2.
    """
    with titled(titles_of(result)):
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
    origin = report.origin or Origin()
    template, style, script = _template(), _own("page.css"), _own("page.js")
    view = report.view(report) if report.view is not None else plain_view(report)
    page: str = template.render(
        **vars(view) | {"title": visible(heading(report.heading) or view.title)},
        first=next(iter(view.outcomes), None),
        further=view.outcomes[1:],
        origin=origin,
        embedded=json.dumps(origin.facts()).replace("<", "\\u003c"),
        answer=[visible(sentence) for sentence in report.answer],
        keys=[Key(*figure) for figure in report.glance()],
        pictures=list(_pictures(report, view.drawn)),
        version=__version__,
        style=_raw(style),
        script=_raw(script),
        style_hash=_hash(style),
        script_hash=_hash(script),
    )
    return page


@cache
def _template() -> Any:
    """The template of a page, compiled once; raises FileError without Jinja2."""
    require("report")
    from jinja2 import Environment

    environment = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.filters |= {"words": heading, "spoken": spoken, "tied": tied}
    return environment.from_string(_own("page.html.j2"))


def _own(name: str) -> str:
    """Return one of our own files."""
    return files("kindynos.reports.page").joinpath(name).read_text(encoding="utf-8")


def _raw(text: str) -> Any:
    from markupsafe import Markup

    return Markup(text)  # our own file, without any text from a user


def _hash(text: str) -> str:
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _pictures(report: Report, drawn: frozenset[str]) -> Iterator[dict[str, str]]:
    """Yield the still pictures of a report, without those that the page draws itself."""
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
