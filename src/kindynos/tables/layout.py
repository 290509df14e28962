"""How a table of text is laid out: what separates its columns, which rows are titles, which holds
the names and which the units, and which sign marks decimals.
"""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from kindynos.errors import FileError
from kindynos.printable import is_unseen
from kindynos.tables.cells import is_missing, number_in
from kindynos.tables.files import MOST_COLUMNS
from kindynos.validate import check_integer, instance, one_of

SEPARATORS = (",", ";", "\t", "|")
SAMPLE = 200  # records in which the layout is looked for
HEAD = 2**20  # characters that hold them
NO_HEADER = "write the names of the columns above, or say header=0"

Record = list[str]


@dataclass(frozen=True)
class TableFormat:
    """How a file is to be read, where that is not to be found out.

    ``sheet`` is the name of a workbook's sheet, ``header`` the row that holds the names of the
    columns (from 1; 0: there is none), ``encoding`` that of a text file, ``decimal`` its decimal
    sign, and ``missing`` further words for a missing value.
    """

    sheet: str | None = None
    header: int | None = None
    encoding: str | None = None
    decimal: str | None = None
    missing: tuple[str, ...] = ()

    @classmethod
    def checked(
        cls,
        sheet: Any = None,
        header: Any = None,
        encoding: Any = None,
        decimal: Any = None,
        missing: Any = (),
    ) -> TableFormat:
        """Return a format of checked parts; raises ParameterError for one that cannot be."""
        for name, value in (("sheet", sheet), ("encoding", encoding)):
            if value is not None:
                instance(name, value, str, "a text")
        if header is not None:
            check_integer("header", header, least=0)
        if decimal is not None:
            one_of("decimal", decimal, (".", ","))
        words = [missing] if isinstance(missing, str) else missing
        instance("missing", words, (list, tuple, set, frozenset), "a word, or a list of them")
        for label in words:
            instance("missing", label, str, "a word, or a list of them")
        return cls(sheet, header, encoding, decimal, tuple(words))


@dataclass(frozen=True)
class Layout:
    """Where the names are (row, from 0; -1 for none), where the records begin, and what was found
    on the way.
    """

    names: tuple[str, ...]
    begin: int
    units: dict[str, str]
    notes: tuple[str, ...]


def separator_of(text: str) -> str:
    """Return what separates the columns of a text: the sign that gives the most columns in the
    rows that have the usual number of them.
    """

    def score(separator: str) -> tuple[int, int]:
        widths = [len(record) for record in records_in(text, separator) if any(record)]
        usual = max(set(widths), key=lambda width: (widths.count(width), width), default=0)
        return (widths.count(usual) if usual > 1 else 0, usual)

    occurring = [separator for separator in SEPARATORS if separator in text]
    most = max(occurring or SEPARATORS, key=score)
    return "\t" if most == "," and _one_column(text) else most


def _one_column(text: str) -> bool:
    """Return whether the commas of a text belong to the numbers of its only column: all lines below
    the last without a number are numbers, and no comma is above them.
    """
    lines = [line.strip().strip('"') for line in text.splitlines()[:SAMPLE] if line.strip()]
    if not lines or ("," in lines[0] and not _is_number(lines[0])):  # as most tables have it
        return False
    first = next((position for position, line in enumerate(lines) if _is_number(line)), 0)
    above, below = lines[:first], lines[first:]
    return (
        bool(above)
        and not any("," in line for line in above)
        and any("," in line for line in below)
        and all(_is_number(line) for line in below)
    )


def records_in(text: str, separator: str) -> list[Record]:
    """Return the first records of a text; a line break inside quotes belongs to its cell."""
    lines = csv.reader(io.StringIO(text[:HEAD], newline=""), delimiter=separator)
    try:
        return [list(record) for record in itertools.islice(lines, SAMPLE)]
    except csv.Error:  # a cell longer than the module takes, or a quote that is not closed
        return []


def decimal_of(records: Sequence[Record], separator: str, file: str) -> str:
    """Return the decimal sign of cells; raises FileError where both signs are, or may be, one."""
    cells = [cell for record in records for cell in record]
    with_comma = [cell for cell in cells if "," in cell]
    if separator == "," and not with_comma:
        return "."
    with_point = [cell for cell in cells if "." in cell]
    point = next((c for c in (*with_point, *with_comma) if _only(c, ".", ",")), None)
    comma = next((c for c in (*with_comma, *with_point) if _only(c, ",", ".")), None)
    if point and comma:
        raise FileError(
            f"has decimal points and decimal commas, {point!r:.40} and {comma!r:.40}", file=file
        )
    if point or comma:
        return "." if point else ","
    either = [c for c in (*with_comma, *with_point) if number_in(c, ".") and number_in(c, ",")]
    if separator == "," or not either:
        return "."
    if all("," in cell for cell in either) and separator == ";":
        return ","  # where columns are separated by semicolons, commas are decimal
    raise FileError(
        f"{either[0]!r:.40} may be {number_in(either[0], '.')[0]:g} or "  # type: ignore[index]
        f"{number_in(either[0], ',')[0]:g}; say decimal='.' or decimal=','",  # type: ignore[index]
        file=file,
    )


def _is_number(cell: str) -> bool:
    return number_in(cell, ".") is not None or number_in(cell, ",") is not None


def _is_unit(cell: str) -> bool:
    """Return whether a text may be a unit, such as EUR/100 km, and is not a misspelt number."""
    letters = sum(c.isalpha() for c in cell)
    return not _is_number(cell) and (letters > 0 or not any(c.isdigit() for c in cell))


def _only(cell: str, decimal: str, other: str) -> bool:
    """Return whether a cell is a number with the one decimal sign, and none with the other."""
    return number_in(cell, decimal) is not None and number_in(cell, other) is None


def layout_of(records: Sequence[Record], form: TableFormat, decimal: str, file: str) -> Layout:
    """Return where the names, the units and the records of a table are; raises FileError for a
    table without names, or with names that are missing or given twice.
    """
    _check_width(max(map(len, records), default=0), file)
    filled = [position for position, record in enumerate(records) if any(c.strip() for c in record)]
    if not filled:
        raise FileError("is empty", file=file)
    if form.header == 0:
        width = max(len(records[position]) for position in filled)
        names = tuple(f"column {k + 1}" for k in range(width))
        return Layout(names, filled[0], {}, ())

    row = _header_row(records, filled, form, decimal, file)
    names = tuple(" ".join(cell.split()) for cell in _trimmed(records[row]))
    _check_names(names, file, row + 1)
    notes = []
    titles = [position for position in filled if position < row]
    if titles:
        notes.append(f"{len(titles)} row{'s' if len(titles) > 1 else ''} above the names left out")
    units_row = _units_row(records, filled, row, names, form, decimal)
    if units_row is None:
        return Layout(names, row + 1, {}, tuple(notes))
    units = {
        name: cell.strip().strip("()[]")
        for name, cell in zip(names, records[units_row], strict=False)
        if cell.strip()
    }
    notes.append(f"row {units_row + 1} read as units")
    return Layout(names, units_row + 1, units, tuple(notes))


def _header_row(
    records: Sequence[Record], filled: Sequence[int], form: TableFormat, decimal: str, file: str
) -> int:
    if form.header is not None:
        if form.header - 1 not in filled:
            raise FileError(f"row {form.header} is to hold the names, and is empty", file=file)
        return form.header - 1
    width = max(len(_trimmed(records[position])) for position in filled)
    for position in filled:
        cells = _trimmed(records[position])
        alone = len(cells) == 1 and width > 1 and position != filled[-1]
        if alone and not _is_number(cells[0]):
            continue  # a title above the table
        named = any(c.isalpha() for cell in cells for c in cell)
        if not named or any(number_in(cell, decimal) is not None for cell in cells):
            raise FileError(
                f"has no header: its first row holds numbers, or no names; {NO_HEADER}",
                file=file,
                row=position + 1,
            )
        return position
    return filled[0]


def _units_row(
    records: Sequence[Record],
    filled: Sequence[int],
    header: int,
    names: Sequence[str],
    form: TableFormat,
    decimal: str,
) -> int | None:
    """Return the row of units: texts under the names, where all below hold numbers; None where
    there is none.
    """
    following = [position for position in filled if position > header]
    if len(following) < 2:
        return None
    words = frozenset(form.missing)
    first, rest = records[following[0]], [records[position] for position in following[1:]]
    if any(_is_value(cell.strip(), decimal, words) for cell in first[: len(names)]):
        return None  # a record whose other cells may be misspelt

    def holds_numbers(column: int) -> bool:
        cells = [r[column].strip() for r in rest if column < len(r)]
        values = [cell for cell in cells if not is_missing(cell, words)]
        return bool(values) and all(number_in(cell, decimal) is not None for cell in values)

    units = 0
    for column, cell in enumerate(map(str.strip, first[: len(names)])):
        if cell and not is_missing(cell, words) and holds_numbers(column):
            if not _is_unit(cell):  # as in most tables; no more needs to be looked at
                return None
            units += 1
    return following[0] if units else None


def _is_value(cell: str, decimal: str, words: frozenset[str]) -> bool:
    """Return whether a cell is a number, a date, or begins with a digit as a misspelt one does."""
    return (
        bool(cell)
        and not is_missing(cell, words)
        and (cell[0].isdigit() or number_in(cell, decimal) is not None)
    )


def _trimmed(record: Record) -> Record:
    cells = [cell.strip() for cell in record]
    while len(cells) > 1 and not cells[-1]:
        cells.pop()
    return cells


def _check_width(width: int, file: str) -> None:
    if width > MOST_COLUMNS:
        raise FileError(f"has {width:,} columns, and at most {MOST_COLUMNS:,} are read", file=file)


def _check_names(names: Sequence[str], file: str, row: int) -> None:
    seen = set()
    for position, name in enumerate(names):
        if not name and position:
            raise FileError(f"column {position + 1} has no name", file=file, row=row)
        if any(is_unseen(c) for c in name):
            raise FileError(f"column {position + 1} has control characters", file=file, row=row)
        if name in seen:
            raise FileError(f"two columns are named {name!r:.60}", file=file, row=row)
        seen.add(name)
