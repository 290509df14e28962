"""One description of a result, which the terminal, JSON and folders of files render.

A function of this package turns a result into a ``Report`` once: its sections in the order in which
they are read, its plain data, its whole tables and its pictures. A command reads its arguments,
calls the library and renders; pages and workbooks are further renderers of the same description.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.text import Text

from kindynos.arrays import Floats
from kindynos.atomic import file_name
from kindynos.reports.files import PLAIN, CsvForm, write_table
from kindynos.reports.origin import Origin
from kindynos.reports.summary import as_json, plain_rows, plain_value
from kindynos.reports.tables import FigureTable

if TYPE_CHECKING:
    import pandas as pd

Draw = Callable[..., Any]
Draws = Mapping[str, Draw]
View = Callable[["Report"], Any]  # a PageView of kindynos.reports.page.view
DATA_VERSION = 1  # of the plain data; another one where a key goes or changes its meaning


@dataclass(frozen=True)
class Section:
    """A part of a report: sentences and tables that belong together."""

    parts: tuple[FigureTable | Text, ...]

    @property
    def tables(self) -> list[FigureTable]:
        """Its tables, with their units and errors."""
        return [part for part in self.parts if isinstance(part, FigureTable)]

    @property
    def sentences(self) -> list[str]:
        """Its sentences."""
        return [part.plain for part in self.parts if isinstance(part, Text)]

    @property
    def title(self) -> str:
        """The title of its first table, or its first sentence."""
        return self.tables[0].title if self.tables else next(iter(self.sentences), "")

    @property
    def about(self) -> str:
        """The outcome that it is of; empty where it is of all."""
        return self.tables[0].about if self.tables else ""


@dataclass(frozen=True)
class PeriodTrials:
    """A row over the periods with its trials, ``(periods, trials)``, which a page draws as a fan.

    ``order`` has the trials to step through from the worst to the best, with ``words`` on
    each; without it they are the first ones.
    """

    name: str
    values: Floats
    labels: Sequence[str]
    unit: str | None = None
    order: Sequence[int] = ()
    words: Sequence[str] = ()
    by: str = ""


@dataclass(frozen=True)
class DataTable:
    """A whole table of a result: rows under ``key`` of the plain data, and a file and a sheet;
    None for either leaves it out there.
    """

    frame: pd.DataFrame
    key: str | None
    file: str | None


Tables = Mapping[str, "pd.DataFrame | DataTable"]


def only_files(**frames: pd.DataFrame) -> dict[str, DataTable]:
    """Return tables that are files and sheets but not plain data, whose facts say the same."""
    return {name: DataTable(frame, None, name.replace("_", "-")) for name, frame in frames.items()}


@dataclass(frozen=True)
class Report:
    """All that is said of a result.

    ``kind`` names what its plain data are, as in "kindynos.run/1", whose keys the page on JSON
    outputs describes. ``tables`` are its whole tables, by their key in the plain data; a file and a
    sheet are named alike, with hyphens, unless a ``DataTable`` says otherwise. ``facts`` are the
    plain data beside them. ``figures`` draw a picture on an axis and ``pages`` on a whole figure,
    each by the name of its file; ``rows`` are drawn as fans by pages; ``glance`` has the first
    figures of a page, each with its label, a note, and whether it is on the side that nobody wants,
    and ``view`` what it shows beside all this.
    All are worked out when they are asked for, so that a terminal does not wait for Matplotlib.
    """

    sections: tuple[Section, ...]
    kind: str
    facts: Callable[[], Mapping[str, Any]] = dict
    tables: Callable[[], Tables] = dict
    figures: Callable[[], Draws] = dict
    pages: Callable[[], Draws] = dict
    rows: Callable[[], Iterable[PeriodTrials]] = tuple
    glance: Callable[[], Sequence[tuple[str, str, str, bool]]] = tuple
    heading: str = ""  # what it is of, in a few words: the title of a page
    result: Any = None  # what it is of, for where it comes from
    view: View | None = None  # what a page shows beside all this
    status: int = 0  # the exit status of the command: 3 where a limit is broken
    origin: Origin | None = None  # who made it from what, where that is to be told

    @classmethod
    def of(cls, parts: Iterable[RenderableType | None], kind: str, **rendered: Any) -> Report:
        """Return the report of parts in reading order; ``""`` ends a section."""
        sections: list[list[Any]] = [[]]
        for part in parts:
            if part == "":
                sections.append([])
            elif isinstance(part, Group):
                sections[-1] += part.renderables
            elif part is not None:
                sections[-1].append(part)
        return cls(
            tuple(Section(tuple(section)) for section in sections if section), kind, **rendered
        )

    def __rich__(self) -> Group:
        """Return the report as a terminal shows it: its sections with a blank line between them."""
        parts: list[RenderableType] = []
        for position, section in enumerate(self.sections):
            parts += ["", *section.parts] if position else section.parts
        return Group(*parts)

    @property
    def answer(self) -> list[str]:
        """What it says first: the sentences before its first table."""
        first = self.sections[0] if self.sections else Section(())
        return (
            [] if first.tables else [line for text in first.sentences for line in text.split("\n")]
        )

    @property
    def title(self) -> str:
        """Its heading, or else the title of its first table, or its first sentence."""
        first = next((section for section in self.sections if section.tables), None)
        return self.heading or (first or self.sections[0]).title

    def _data_tables(self) -> list[DataTable]:
        return [
            table
            if isinstance(table, DataTable)
            else DataTable(table, name, name.replace(" ", "-"))
            for name, table in self.tables().items()
        ]

    def data(self) -> dict[str, Any]:
        """Return the plain data: its facts, its tables as rows, and where it comes from."""
        rows = {
            table.key: plain_rows(table.frame)
            for table in self._data_tables()
            if table.key is not None
        }
        origin = {} if self.origin is None else {"origin": self.origin.facts()}
        return {**self.facts(), **rows, **origin}

    def frames(self) -> dict[str, pd.DataFrame]:
        """Return the whole tables by the names of their files."""
        return {table.file: table.frame for table in self._data_tables() if table.file is not None}

    def with_second_section(self, section: Section) -> Report:
        """Return the report with one more section after its answer."""
        first, *others = self.sections
        return replace(self, sections=(first, section, *others))

    def brief(self) -> Text:
        """Return the answer alone; the title of what has none."""
        return Text("\n".join(self.answer or [self.title]))

    def json(self) -> str:
        """Return the plain data as JSON, which say first by which schema they are to be read."""
        schema = f"kindynos.{self.kind}/{DATA_VERSION}"
        return as_json(plain_value({"schema": schema, **self.data()}))

    def write(self, folder: Path, trials: str = "csv", form: CsvForm = PLAIN) -> list[str]:
        """Write tables, data and pictures into a folder and return the names of the files."""
        written: list[str] = []
        for name, frame in self.frames().items():
            ending = trials if name == "trials" else "csv"
            written.append(file_name(name, written, f".{ending}"))
            write_table(frame, folder / written[-1], form)
        (folder / "summary.json").write_text(self.json(), encoding="utf-8")
        written.append("summary.json")
        for draws, page in ((self.figures(), False), (self.pages(), True)):
            for name, draw in draws.items():
                from kindynos.plots import save_figure  # not where there is nothing to draw

                written.append(file_name(name, written, ".png"))
                save_figure(folder / written[-1], draw, page=page)
        return written
