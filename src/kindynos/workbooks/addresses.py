"""Addresses of cells: columns by letters, cells, and areas on a sheet."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

LAST_ROW, LAST_COLUMN = 1_048_576, 16_384
CELL = re.compile(r"\$?([A-Za-z]{1,3})\$?(\d{1,7})")
PLAIN_SHEET = re.compile(r"[^\W\d][\w.]*")


class Cell(NamedTuple):
    """A cell: its sheet, its row and its column, both from 1."""

    sheet: str
    row: int
    column: int

    def __str__(self) -> str:
        return f"{quoted(self.sheet)}!{letters(self.column)}{self.row}"

    @property
    def short(self) -> str:
        """The address without the sheet."""
        return f"{letters(self.column)}{self.row}"


class Area(NamedTuple):
    """A rectangle of cells on a sheet, both ends included."""

    sheet: str
    top: int
    left: int
    bottom: int
    right: int

    def __str__(self) -> str:
        first, last = Cell(self.sheet, self.top, self.left), Cell("", self.bottom, self.right)
        return str(first) if self.single else f"{first}:{last.short}"

    @property
    def single(self) -> bool:
        """Whether it is one cell."""
        return self.top == self.bottom and self.left == self.right

    @property
    def rows(self) -> int:
        """The number of rows."""
        return self.bottom - self.top + 1

    @property
    def columns(self) -> int:
        """The number of columns."""
        return self.right - self.left + 1

    @property
    def first(self) -> Cell:
        """The cell at the top left."""
        return Cell(self.sheet, self.top, self.left)

    def cells(self) -> Iterator[Cell]:
        """Yield the cells, row by row."""
        for row in range(self.top, self.bottom + 1):
            for column in range(self.left, self.right + 1):
                yield Cell(self.sheet, row, column)

    def within(self, bottom: int, right: int) -> Area:
        """Return the part that lies within a sheet's used rows and columns, at least one cell."""
        return self._replace(
            bottom=max(min(self.bottom, bottom), self.top),
            right=max(min(self.right, right), self.left),
        )


def hull(first: Area | None, last: Area | None) -> Area | None:
    """Return the smallest area that holds two areas of a sheet; None where one is none."""
    if first is None or last is None or first.sheet != last.sheet:
        return None
    return Area(
        first.sheet,
        min(first.top, last.top),
        min(first.left, last.left),
        max(first.bottom, last.bottom),
        max(first.right, last.right),
    )


def letters(column: int) -> str:
    """Return the letters of a column.

    >>> letters(1), letters(28)
    ('A', 'AB')
    """
    text = ""
    while column:
        column, rest = divmod(column - 1, 26)
        text = chr(65 + rest) + text
    return text


@lru_cache(maxsize=20_000)
def column_of(text: str) -> int:
    """Return the number of a column from its letters.

    >>> column_of("AB")
    28
    """
    number = 0
    for letter in text.upper():
        number = 26 * number + ord(letter) - 64
    return number


def quoted(sheet: str) -> str:
    """Return the name of a sheet as formulas write it."""
    if PLAIN_SHEET.fullmatch(sheet) and not CELL.fullmatch(sheet):
        return sheet
    return "'" + sheet.replace("'", "''") + "'"


def sheet_and_rest(text: str) -> tuple[str | None, str]:
    """Return the sheet that a text names before a "!", None where it names none, and the rest."""
    sheet, mark, rest = text.rpartition("!")
    if not mark:
        return None, text
    sheet = sheet.strip()
    if len(sheet) > 1 and sheet[0] == sheet[-1] == "'":
        sheet = sheet[1:-1].replace("''", "'")
    return sheet, rest


def area_in(text: str, sheet: str) -> Area | None:
    """Return the area that a text such as "B2:B9" stands for on a sheet, None where it is none."""
    parts = [CELL.fullmatch(corner.strip()) for corner in text.split(":")]
    if not 1 <= len(parts) <= 2 or None in parts:
        return None
    places = [(int(corner[2]), column_of(corner[1])) for corner in parts if corner is not None]
    rows, columns = [row for row, _ in places], [column for _, column in places]
    if not (min(rows) >= 1 and max(rows) <= LAST_ROW and max(columns) <= LAST_COLUMN):
        return None
    return Area(sheet, min(rows), min(columns), max(rows), max(columns))
