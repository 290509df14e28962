"""Trials in a file: finding the header, and turning cells into numbers, or saying which one is
none.
"""

from __future__ import annotations

import csv
import io
import re
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import FileError
from kindynos.table_files import read_table

HEAD = 65_536  # bytes in which the header is looked for
SEPARATORS = (",", ";", "\t")
PLAIN_ENDINGS = (".csv", ".txt", ".tsv")
EMPTY = ["", "nan", "NaN"]
LISTED = 5  # rows that a note names


@dataclass(frozen=True)
class Columns:
    """Columns of numbers ``(trials,)`` by name, in order, and what is to be said of what was left
    out.
    """

    numbers: dict[str, Floats]
    notes: tuple[str, ...]


def columns_of(source: Any, decimal: str) -> Columns:
    """Return the columns of a file or a DataFrame; raises FileError naming the column and the row
    of what is not a number.
    """
    if isinstance(source, pd.DataFrame):
        doubled = source.columns[source.columns.duplicated()]
        if len(doubled):
            raise FileError(f"two columns are named {str(doubled[0])!r}", file="DataFrame")
        return _as_numbers(source, 0, "DataFrame", decimal)
    path = Path(source)
    if path.suffix.lower() not in PLAIN_ENDINGS:
        return _as_numbers(read_table(path), 2, str(path), decimal)
    try:
        with path.open("rb") as stream:
            head = stream.read(HEAD).decode("utf-8-sig", errors="replace")
    except OSError as error:
        raise FileError(f"cannot be read: {error.strerror or error}", file=str(path)) from None
    row, separator = _header(head, str(path), decimal)
    try:
        # of text, which is told below
        with warnings.catch_warnings(action="ignore", category=pd.errors.DtypeWarning):
            frame = pd.read_csv(
                path,
                sep=separator,
                skiprows=row,
                decimal=decimal,
                skip_blank_lines=False,
                keep_default_na=False,
                na_values=EMPTY,
                encoding="utf-8-sig",
            )
    except Exception as error:  # pandas has several, and all mean that this is no table
        reason = next(iter(str(error).splitlines()), "") or type(error).__name__
        raise FileError(f"cannot be read as a table: {reason}", file=str(path)) from None
    return _as_numbers(frame, row + 2, str(path), decimal)


def _header(head: str, file: str, decimal: str) -> tuple[int, str]:
    """Return the row of the column names, counted from 0, and what separates columns.

    Raises FileError for an empty file, a table without names, and names that are missing or there
    twice.
    """
    lines = head.splitlines()
    filled = [place for place, line in enumerate(lines) if line.strip()]
    if not filled:
        raise FileError("is empty", file=file)
    sample = lines[filled[min(len(filled) - 1, 3)]]
    separators = [s for s in SEPARATORS if s != decimal]
    separator = max(separators, key=lambda s: (sample.count(s), lines[filled[0]].count(s)))
    for place, following in zip(filled, [*filled[1:], None], strict=True):
        cells = _cells(lines[place], separator)
        if any(_looks_like_number(cell, decimal) for cell in cells):
            raise FileError(
                "has no header: its first row of the table holds numbers; write the column "
                "names above",
                file=file,
                row=place + 1,
            )
        if following is None:
            break
        below = _cells(lines[following], separator)
        if len(below) == len(cells) and any(_looks_like_number(cell, decimal) for cell in below):
            _check_names(cells, file, place + 1)
            return place, separator
    if len(filled) == 1:
        raise FileError("has column names and no trials", file=file)
    _check_names(_cells(lines[filled[0]], separator), file, filled[0] + 1)
    return filled[0], separator


def _cells(line: str, separator: str) -> list[str]:
    return [cell.strip() for cell in next(csv.reader(io.StringIO(line), delimiter=separator), [])]


def _looks_like_number(cell: str, decimal: str) -> bool:
    try:
        float(cell.rstrip("%").strip().replace(decimal, "."))
    except ValueError:
        return bool(_grouped(decimal).fullmatch(cell.rstrip("%").strip()))
    return True


def _check_names(names: Sequence[str], file: str, row: int) -> None:
    for place, name in enumerate(names):
        if not name and place:
            raise FileError(f"column {place + 1} has no name", file=file, row=row)
        if name in names[:place]:
            raise FileError(f"two columns are named {name!r}", file=file, row=row)


def _as_numbers(frame: pd.DataFrame, first_row: int, file: str, decimal: str) -> Columns:
    blank = frame.isna().all(axis=1).to_numpy()
    notes = []
    if blank.any():
        rows = (np.flatnonzero(blank) + first_row).tolist()
        if np.flatnonzero(~blank).size and rows[0] < first_row + int(np.flatnonzero(~blank)[-1]):
            notes.append(f"{_counted(len(rows), 'blank row')} left out: {_listed(rows)}")
        frame = frame.loc[~blank]
    if not len(frame):
        raise FileError("holds no trials", file=file)
    rows_of = np.flatnonzero(~blank) + first_row
    numbers: dict[str, Floats] = {}
    for place, name in enumerate(frame.columns):
        column = frame.iloc[:, place]
        label = str(name).strip()
        if place == 0 and (not label or label.startswith("Unnamed:")):
            continue  # an index written beside the table
        found = _column(column, label, rows_of, file, decimal)
        if found is None:
            notes.append(f"column {label!r} left out: it holds no numbers")
            continue
        missing = np.flatnonzero(np.isnan(found))
        if len(missing):
            rows = rows_of[missing].tolist()
            notes.append(f"column {label!r}: {_counted(len(rows), 'empty cell')}, {_listed(rows)}")
        numbers[label] = found
    if not numbers:
        raise FileError("no column holds numbers", file=file)
    return Columns(numbers, tuple(notes))


def _counted(count: int, what: str) -> str:
    return f"{count:,} {what}{'s' if count > 1 else ''}"


def _listed(rows: list[int]) -> str:
    more = f" and {len(rows) - LISTED:,} more" if len(rows) > LISTED else ""
    return f"row{'s' if len(rows) > 1 else ''} {', '.join(map(str, rows[:LISTED]))}{more}"


def _column(column: Any, name: str, rows: Any, file: str, decimal: str) -> Floats | None:
    """Return a column as numbers, None where it holds none."""
    if column.dtype.kind in "fiub":
        return np.asarray(column, dtype=np.float64)
    if column.dtype.kind in "mM":
        return None
    texts = [
        ("" if value is None or value != value else str(value)).strip() for value in column.tolist()
    ]
    percent = np.array([text.endswith("%") for text in texts])
    values, bad = np.full(len(texts), np.nan), []
    for place, text in enumerate(texts):
        if text in EMPTY:
            continue
        try:
            values[place] = _number(text, decimal)
        except ValueError:
            bad.append(place)
    known = ~np.isnan(values)
    if not known.any():
        return None
    if bad:
        more = f", and {len(bad) - 1:,} more such cells" if len(bad) > 1 else ""
        raise FileError(
            f"column {name!r} holds {texts[bad[0]]!r:.40}, which is not a number{more}",
            file=file,
            row=int(rows[bad[0]]),
        )
    plain = known & ~percent
    if percent.any() and plain.any():
        first = int(np.argmax(plain))
        raise FileError(
            f"column {name!r} mixes percentages and plain numbers: "
            f"{texts[int(np.argmax(percent))]!r} and {texts[first]!r}",
            file=file,
            row=int(rows[first]),
        )
    return values / 100 if percent.any() else values


def _grouped(decimal: str) -> re.Pattern[str]:
    group = r"[\s']|\." if decimal == "," else r"[\s',]"
    return re.compile(rf"[+-]?\d{{1,3}}(?:(?:{group})\d{{3}})+(?:{re.escape(decimal)}\d*)?")


def _number(text: str, decimal: str) -> float:
    text = text.removesuffix("%").strip()
    if _grouped(decimal).fullmatch(text):
        text = re.sub(r"[\s'.]" if decimal == "," else r"[\s',]", "", text)
    elif decimal == "," and "." in text:
        raise ValueError(text)
    return float(text.replace(decimal, "."))
