"""A table as it was read: columns by name, as numbers, texts or dates, each cell with its row in
the file.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import FileError
from kindynos.tables.cells import CODES, ERRORS, LONGEST, PARTED, is_missing, number_in
from kindynos.tables.dates import NAMES, dates_in, looks_like_dates

if TYPE_CHECKING:
    import pandas as pd

LISTED = 5  # rows that a note names
Cells = NDArray[Any]  # of one column: floats, dates, or texts and other objects


@dataclass(frozen=True, eq=False)
class Table:
    """Columns of a file or a DataFrame, one cell per record.

    ``rows`` says where in the file each record is, the first row being 1; ``units`` are by column,
    where the file has a row of them; ``notes`` say what was left out or read in a special way.
    ``written`` returns the texts of a column of a text file as they are written there.
    """

    file: str
    columns: dict[str, Cells]
    rows: NDArray[np.int64]
    units: dict[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    decimal: str = "."
    missing: frozenset[str] = frozenset()
    written: Callable[[str], Sequence[str]] | None = None
    unnamed: tuple[str, ...] = ()  # the texts of a first column without a name, which is left out

    @property
    def names(self) -> list[str]:
        """The names of the columns."""
        return list(self.columns)

    def __len__(self) -> int:
        return len(self.rows)

    def named(self, name: str) -> str:
        """Return a column's name as the table has it; raises FileError, with the nearest spelling,
        for one that is not there.
        """
        if name not in self.columns:
            raise FileError(
                f"no column {name!r:.60}", file=self.file, unknown=str(name), known=self.names
            )
        return name

    def headings(self, also: Mapping[str, Sequence[str]]) -> dict[str, str]:
        """Return the names of the columns by heading, in lower case with blanks for underscores;
        ``also`` has other words for a heading.
        """
        columns = {name.lower().replace("_", " ").strip(): name for name in self.names}
        for heading, others in also.items():
            other = next((other for other in others if other in columns), None)
            if heading not in columns and other is not None:
                columns[heading] = columns.pop(other)
        return columns

    def texts(self, name: str) -> list[str]:
        """Return a column as texts without spaces around them, "" where a cell is empty."""
        cells = self.columns[self.named(name)]
        if self.written is not None:
            return [text.strip() for text in self.written(name)]
        return [text_of(cell) for cell in cells.tolist()]

    def numbers(self, name: str) -> Floats:
        """Return a column as numbers ``(records,)``, NaN where a value is missing.

        Percentages become fractions. Raises FileError with the row for a text that is not a number,
        and where percentages and plain numbers, or two currencies, are mixed.
        """
        values, bad = self._numbers(name)
        if bad is not None:
            raise self._not_a_number(name, bad)
        return values

    def holds_numbers(self, name: str) -> bool:
        """Return whether at least one cell of a column holds a number."""
        return bool((~np.isnan(self._numbers(name)[0])).any())

    def _numbers(self, name: str) -> tuple[Floats, int | None]:
        """Return the numbers of a column and the place of the first text that is none."""
        cells = self.columns[self.named(name)]
        if cells.dtype.kind in "fiub":
            return cells.astype(np.float64), None
        values = np.full(len(cells), np.nan)
        if cells.dtype.kind in "mM":
            return values, 0 if len(cells) else None

        bad = None
        seen: dict[tuple[bool, str], int] = {}  # ways of writing, and where each is met first
        for position, cell in enumerate(cells.tolist()):
            if isinstance(cell, float | int):
                values[position] = cell
                continue
            text = text_of(cell)
            # a file may hold very many dates, or very long texts
            dated = len(text) <= LONGEST and PARTED.search(text) is not None
            if text in self.missing if dated else is_missing(text, self.missing):
                continue
            number = None if dated else number_in(text, self.decimal)
            if number is None:
                bad = position if bad is None else bad
                continue
            values[position] = number.value
            seen.setdefault((number.percent, CODES.get(number.currency, number.currency)), position)
        if len(seen) > 1:
            raise self._mixed(
                name, [cells[position] for position in seen.values()], [*seen.values()]
            )
        return values, bad

    def _mixed(self, name: str, cells: Sequence[Any], places: Sequence[int]) -> FileError:
        percent = sum(str(cell).strip().endswith("%") for cell in cells[:2]) == 1
        what = "percentages and plain numbers" if percent else "currencies"
        return FileError(
            f"column {name!r} mixes {what}: {text_of(cells[0])!r:.40} and "
            f"{text_of(cells[1])!r:.40}",
            file=self.file,
            row=int(self.rows[places[1]]),
        )

    def _not_a_number(self, name: str, position: int) -> FileError:
        text = self.texts(name)[position]
        other = "," if self.decimal == "." else "."
        advice = f"; say decimal={other!r}" if number_in(text, other) is not None else ""
        return FileError(
            f"column {name!r} holds {text!r:.40}, which is not a number{advice}",
            file=self.file,
            row=int(self.rows[position]),
        )

    def dates(self, name: str) -> pd.DatetimeIndex:
        """Return a column as days; raises FileError with the row for what is not a date."""
        import pandas as pd

        cells = self.columns[self.named(name)]
        if cells.dtype.kind != "M":
            return dates_in(self.texts(name), self.rows.tolist(), name, self.file)
        if np.isnat(cells).any():
            row = int(self.rows[int(np.isnat(cells).argmax())])
            raise FileError(f"a date is missing in column {name!r}", file=self.file, row=row)
        return pd.DatetimeIndex(cells).normalize()

    def date_column(self) -> str | None:
        """Return the first column that holds dates, or is named after them; None where there is
        none.
        """
        for name, cells in self.columns.items():
            if cells.dtype.kind == "M":
                return name
            if cells.dtype.kind == "O" and looks_like_dates([text_of(c) for c in cells[:20]]):
                return name
        return next((name for name in self.columns if name.lower() in NAMES), None)

    def without(self, *names: str) -> Table:
        """Return the table without some columns."""
        kept = {name: cells for name, cells in self.columns.items() if name not in names}
        return Table(
            self.file, kept, self.rows, self.units, self.notes, self.decimal, self.missing,
            self.written,
        )  # fmt: skip

    def missing_note(self, name: str, values: Floats) -> str | None:
        """Return what is to be said of a column's missing values, None where there are none."""
        places = np.flatnonzero(np.isnan(values))
        if not len(places):
            return None
        rows = self.rows[places].tolist()
        texts = self.texts(name)
        errors = sorted(
            {texts[position] for position in places if texts[position].upper() in ERRORS}
        )
        what = f"{', '.join(errors)} or empty cell" if errors else "empty cell"
        return f"column {name!r}: {counted(len(rows), what)}, {listed(rows)}"


def text_of(cell: Any) -> str:
    """Return a cell as a text without spaces around it, "" where it is empty."""
    if cell is None or cell != cell:
        return ""
    if hasattr(cell, "isoformat"):
        return str(cell.isoformat()).removesuffix("T00:00:00")
    return str(cell).strip()


def counted(count: int, what: str) -> str:
    """Return a count with its noun."""
    return f"{count:,} {what}{'s' if count > 1 else ''}"


def listed(rows: Sequence[int]) -> str:
    """Return the first rows of several, and how many more there are."""
    more = f" and {len(rows) - LISTED:,} more" if len(rows) > LISTED else ""
    return f"row{'s' if len(rows) > 1 else ''} {', '.join(map(str, rows[:LISTED]))}{more}"
