"""Tables that fit the width there is: words wrap, numbers never do.

A table that is too wide first wraps its headers and its columns of words, then shows large amounts
in thousands or millions where its columns hold one kind of figure, and is at last cut into tables
below each other, each with the first column.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from textwrap import wrap
from typing import Any

from rich import box
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from kindynos.cells import Cell, amounts_of
from kindynos.formatting import number
from kindynos.printable import visible

CODE = "default"  # the style of the lines of a file, which stay as they are
HURTS, DOUBT = "red", "yellow"  # of what nobody wants, and of what is to be checked
GAP = 3  # between columns
NARROWEST = 12  # a column of words
WIDEST_KEY = 30  # a first column that is not wrapped
# from which amount on, its digits, and the word
SCALES = ((1e7, 6, "millions"), (1e4, 3, "thousands"))


@dataclass
class Column:
    """A header, its side, and the texts below it."""

    header: str
    right: bool
    cells: list[str] = field(default_factory=list)
    scale: str | None = None

    @property
    def widest(self) -> int:
        """The width without wrapping."""
        return max(map(_width, [self.header, *self.cells]))

    @property
    def least(self) -> int:
        """The width below which it cannot be shown: that of its widest number, or of its longest
        word.
        """
        words = [
            label
            for text in ([self.header] if self.right else [self.header, *self.cells])
            for label in text.split()
        ]
        longest = max(map(_width, words), default=0)
        if self.right:
            return max([longest, *map(_width, self.cells)])
        return min(self.widest, max(longest, NARROWEST))

    def scaled(self) -> Column:
        """Return a column of large amounts in thousands or millions; others as they are."""
        amounts = [abs(figure.value) for figure in amounts_of(self.cells)]
        for least, digits, label in SCALES:
            if self.right and max(amounts, default=0.0) >= least:
                cells = [
                    cell.divided(digits) if isinstance(cell, Cell) else cell for cell in self.cells
                ]
                return Column(self.header, True, cells, label)
        return self

    def saying_so(self) -> Column:
        """Return the column with its scale in its header."""
        return Column(f"{self.header}, {self.scale}", self.right, self.cells, self.scale)


@dataclass
class FigureTable:
    """A table with a title, whose first ``keys`` columns say what its rows are.

    With ``scalable`` each further column holds amounts of one kind. ``together`` columns of them
    are best seen side by side. Rows in ``hurting`` are on the side that nobody wants, and a
    terminal shows them in colour.
    """

    title: str
    columns: list[Column]
    keys: int = 1
    scalable: bool = False
    together: int = 1
    hurting: set[int] = field(default_factory=set)
    about: str = ""  # the outcome that it is of

    def add_row(self, *cells: str, hurts: bool = False) -> None:
        """Add a row; missing cells at its end are empty."""
        if hurts:
            self.hurting.add(len(self.columns[0].cells))
        for position, column in enumerate(self.columns):
            column.cells.append(cells[position] if position < len(cells) else "")

    def first(self, count: int) -> FigureTable:
        """Return the table without the rows beyond a count, which the title then gives."""
        rows = len(self.columns[0].cells)
        if rows <= count:
            return self
        columns = [replace(column, cells=column.cells[:count]) for column in self.columns]
        title = f"{self.title}; {count:,} of {rows:,} rows, --whole shows all"
        return replace(self, title=title, columns=columns)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        width, title = options.max_width, self.title
        keys, rest = self.columns[: self.keys], self.columns[self.keys :]
        if (
            self.scalable
            and _needed([*map(_key_width, keys), *(column.least for column in rest)]) > width
        ):
            scaled = [column.scaled() for column in rest]
            words = {column.scale for column in scaled}
            title += f", in {words.pop()}" if len(words) == 1 and None not in words else ""
            rest = [
                column if title != self.title or not column.scale else column.saying_so()
                for column in scaled
            ]
        yield Text(title, style="bold")
        for position, part in enumerate(self._parts(keys, rest, width)):
            lines = console.render_lines(part, options, pad=False)
            for line in lines[1 if position else 0 :]:  # one empty line between parts
                yield from line
                yield Segment.line()

    def _parts(self, keys: Sequence[Column], rest: Sequence[Column], width: int) -> Iterator[Table]:
        widths, cut = [_key_width(column) for column in keys], False
        while rest:
            count = 0
            while (
                count < len(rest)
                and _needed([*widths, *(column.least for column in rest[: count + 1])]) <= width
            ):
                count += 1
            if count < len(rest) and count > self.together:
                count -= count % self.together
            count = max(count, 1)
            shown = [*keys, *rest[:count]]
            yield _rich_table(shown, width, len(keys) if cut else None, self.hurting)
            rest, cut = rest[count:], True


class Words(str):
    """The header of a column that holds words, and so stands left."""


def table_of(
    title: str,
    *headers: str,
    keys: int = 1,
    numbers_first: bool = False,
    scalable: bool = False,
    together: int = 1,
) -> FigureTable:
    """Return an empty table. Numbers stand right; the first ``keys`` columns, unless they are
    ``numbers_first``, and those whose header is ``Words(...)`` stand left.
    """
    columns = [
        Column(header, not isinstance(header, Words) and (position >= keys or numbers_first))
        for position, header in enumerate(headers)
    ]
    return FigureTable(title, columns, keys, scalable, together)


def table_from(
    title: str, rows: Any, columns: Mapping[str, str | Callable[[Any], str]], **layout: Any
) -> FigureTable:
    """Return a table of a frame, or of records. Each column has its header and how a row shows
    there: a name of what the row holds, for words, or a function of the row, for a figure.
    """
    heads = [Words(head) if isinstance(how, str) else head for head, how in columns.items()]
    table = table_of(title, *heads, **layout)
    for row in rows.reset_index().to_dict("records") if hasattr(rows, "columns") else rows:
        shown = (str(row[how]) if isinstance(how, str) else how(row) for how in columns.values())
        table.add_row(*shown)
    return table


def whole(name: str) -> Callable[[Any], str]:
    """Show an amount of a row without decimals."""
    return lambda row: number(round(row[name]))


def decimals(name: str, count: int) -> Callable[[Any], str]:
    """Show a figure of a row with ``count`` decimals, a small one as less than the last of them,
    and nothing where there is none.
    """

    def shown(row: Any) -> str:
        value, least = float(row[name]), 10.0**-count
        if math.isnan(value):
            return ""
        return f"<{least:.{count}f}" if 0 < value < least else f"{value:.{count}f}"

    return shown


class Trimmed:
    """What is shown of parts, without blanks at the ends of lines."""

    def __init__(self, parts: Sequence[RenderableType]) -> None:
        self.parts = Group(*parts)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        empty = False
        for line in console.render_lines(self.parts, options, pad=False):
            kept = [Segment(visible(part.text), part.style) for part in line]
            while kept and not kept[-1].text.strip():
                kept.pop()
            if kept:
                kept[-1] = Segment(kept[-1].text.rstrip(), kept[-1].style)
            if kept or not empty:  # never two empty lines
                yield from kept
                yield Segment.line()
            empty = not kept


def _rich_table(
    columns: Sequence[Column], width: int, keys: int | None, hurting: Container[int]
) -> Table:
    """Return the table of some columns; with a number of ``keys`` without the rows that are empty
    beyond these.
    """
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    tight = _needed([column.widest for column in columns]) > width
    for column in columns:
        header = column.header
        if tight and column.right:
            header = "\n".join(wrap(header, column.least, break_long_words=False)) or header
        table.add_column(
            Text(header),
            justify="right" if column.right else "left",
            no_wrap=column.right,
            overflow="fold",
        )
    for position, row in enumerate(zip(*(column.cells for column in columns), strict=True)):
        if keys is None or any(row[keys:]):
            # names and units are text, whatever they hold
            table.add_row(*map(Text, row), style=HURTS if position in hurting else None)
    return table


def _needed(widths: Sequence[int]) -> int:
    return sum(widths) + GAP * (len(widths) - 1) + 2


def _width(text: str) -> int:
    return cell_len(text)


def _key_width(column: Column) -> int:
    return column.widest if column.widest <= WIDEST_KEY else column.least
