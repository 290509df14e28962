"""Reading a table: CSV, plain or packed, a workbook, a Parquet file or a DataFrame.

Nothing is guessed where two readings are possible, and nothing is left out without a note.
"""

from __future__ import annotations

import csv
import datetime
import io
import re
import warnings
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.errors import FileError
from kindynos.tables.cells import MISSING
from kindynos.tables.files import (
    MOST_CELLS,
    check_file,
    check_shape,
    check_size,
    check_zip,
    contents,
)
from kindynos.tables.layout import (
    HEAD,
    SAMPLE,
    Layout,
    TableFormat,
    decimal_of,
    layout_of,
    records_in,
    separator_of,
)
from kindynos.tables.table import Cells, Table, counted, listed, text_of
from kindynos.validate import path_of

DEFAULT = TableFormat()
WORKBOOKS = (".xlsx", ".xlsm")
MOST_UNNAMED = 2_000  # rows of a table whose first column, without a name, is kept as texts
UNNAMED_INDEX = "__index_level_0__"  # as Parquet files name the index of a DataFrame
PART = 1 << 18  # bytes
# the default of pandas 3, and an option before
EXACT: dict[str, Any] = {} if pd.__version__ >= "3" else {"float_precision": "round_trip"}
WORDS = sorted(
    {form for word in MISSING for form in (word, word.upper(), word.capitalize(), "NaN")}
)


def read_table(source: str | Path | pd.DataFrame, form: TableFormat = DEFAULT) -> Table:
    """Return the table in a file or a DataFrame.

    Separator, decimal sign, encoding, rows of titles, the row of names and one of units below it
    are found, or stated by ``form``. Raises FileError for a file that cannot be read, is too large,
    has no names above its columns or the same name twice, or could be read in two ways.
    """
    if isinstance(source, pd.DataFrame):
        return _from_frame(source, "DataFrame", form)
    path = path_of("table", source)
    ending = path.suffix.lower()
    check_file(path)
    try:
        if ending == ".parquet":
            return _from_parquet(path, form)
        if ending in WORKBOOKS:
            return _from_workbook(path, form)
        if ending == ".xls":
            raise FileError("is a workbook of the old kind; save it as .xlsx", file=str(path))
        if form.sheet is not None:
            raise FileError("has no sheets: it is not a workbook", file=str(path))
        return _from_text(path, form)
    except FileError:
        raise
    except ImportError:
        extra = "parquet" if ending == ".parquet" else "excel"
        raise FileError(
            f"reading this kind of file needs pip install 'kindynos[{extra}]'", file=str(path)
        ) from None
    except OSError as error:
        raise FileError(f"cannot be read: {error.strerror or error}", file=str(path)) from None
    # each kind of file has its own errors, and all mean that this one holds no table
    except Exception as error:
        reason = next(iter(str(error).splitlines()), "") or type(error).__name__
        raise FileError(f"cannot be read as a table: {reason:.200}", file=str(path)) from None


def _from_frame(frame: pd.DataFrame, file: str, form: TableFormat) -> Table:
    names = [str(name).strip() for name in frame.columns]
    for position, name in enumerate(names):
        if name in names[:position]:
            raise FileError(f"two columns are named {name!r:.60}", file=file)
    columns = {name: _cells(frame.iloc[:, position]) for position, name in enumerate(names)}
    rows = np.arange(len(frame)) + (0 if file == "DataFrame" else 2)
    return Table(file, columns, rows, missing=frozenset(form.missing))


def _cells(column: pd.Series) -> Cells:
    if isinstance(column.dtype, pd.DatetimeTZDtype):
        column = column.dt.tz_localize(None)
    if column.dtype.kind in "fiub" and isinstance(column.dtype, np.dtype):
        return column.to_numpy().astype(np.float64)
    if column.dtype.kind in "fiub":  # of a kind that may lack values
        return column.to_numpy(dtype=np.float64, na_value=np.nan)
    if column.dtype.kind in "mM":
        return column.to_numpy()
    return column.astype(object).to_numpy()


def _kinds(types: Any) -> Sequence[Callable[[Any], bool]]:
    """Return what tells the types of columns that a table may have: numbers, times and texts."""
    return (
        types.is_integer,
        types.is_floating,
        types.is_boolean,
        types.is_decimal,
        types.is_temporal,
        types.is_null,
        types.is_string,
        types.is_large_string,
        lambda kind: types.is_dictionary(kind) and not types.is_nested(kind.value_type),
    )


def _from_parquet(path: Path, form: TableFormat) -> Table:
    import pyarrow
    from pyarrow import parquet

    about = parquet.read_metadata(path)
    check_shape(path, about.num_rows, about.num_columns)
    check_size(path, sum(about.row_group(i).total_byte_size for i in range(about.num_row_groups)))
    schema, names = parquet.read_schema(path), about.schema.names
    for field in schema:
        if not any(is_kind(field.type) for is_kind in _kinds(pyarrow.types)):
            raise FileError(
                f"column {field.name!r:.60} holds {field.type}, which no table does", file=str(path)
            )
    doubled = next((name for k, name in enumerate(names) if name in names[:k]), None)
    if doubled is not None:
        raise FileError(f"two columns are named {doubled!r:.60}", file=str(path))
    # texts stay a dictionary of the different ones, however often each is repeated
    texts = [
        field.name
        for field in schema
        if pyarrow.types.is_string(field.type) or pyarrow.types.is_large_string(field.type)
    ]
    with parquet.ParquetFile(path, read_dictionary=texts) as file:
        frame = file.read().to_pandas(ignore_metadata=True)
    index = frame.get(UNNAMED_INDEX)
    if index is not None and index.dtype.kind == "M":
        frame = frame.rename(columns={UNNAMED_INDEX: "date"})
    elif index is not None:
        frame = frame.drop(columns=UNNAMED_INDEX)
    return _from_frame(frame, str(path), form)


def _from_workbook(path: Path, form: TableFormat) -> Table:
    import openpyxl

    check_zip(path)
    with warnings.catch_warnings(action="ignore"):  # of parts of the file that hold no cells
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
        try:
            titles = [sheet.title for sheet in book.worksheets]
            if form.sheet is not None and form.sheet not in titles:
                raise FileError(
                    f"no sheet {form.sheet!r}", file=str(path), unknown=form.sheet, known=titles
                )
            sheet = book[form.sheet] if form.sheet is not None else book.worksheets[0]
            records = list(_sheet_rows(sheet, path))
        finally:
            book.close()
    while records and not any(cell is not None for cell in records[-1]):
        records.pop()

    notes = (
        [f"sheet {sheet.title!r} of {len(titles)}"]
        if form.sheet is None and len(titles) > 1
        else []
    )
    texts = [["" if c is None else _as_text(c) for c in record] for record in records[:SAMPLE]]
    typed = [[c for c in record if isinstance(c, str)] for record in records[:SAMPLE]]
    decimal = form.decimal or decimal_of(typed, ",", str(path))
    layout = layout_of(texts, form, decimal, str(path))
    width = len(layout.names)
    body = records[layout.begin :]
    for position, record in enumerate(body):
        _check_width(len(_filled(record)), width, layout.begin + position + 1, str(path))
    cells = np.full((len(body), width), None, dtype=object)
    for position, record in enumerate(body):
        cells[position, : min(width, len(record))] = record[:width]
    columns = [_typed(cells[:, position]) for position in range(width)]
    blank = np.array([all(cell is None for cell in row) for row in cells.tolist()], dtype=bool)
    return _finished(str(path), layout, columns, blank, decimal, form, notes)


def _sheet_rows(sheet: Any, path: Path) -> Iterator[Sequence[Any]]:
    count = 0
    for row in sheet.iter_rows(values_only=True):
        record = _filled(row)
        count += len(record)
        if count > MOST_CELLS // 10:
            raise FileError(
                f"has more than {MOST_CELLS // 10:,} cells, the most that is read of a workbook",
                file=str(path),
            )
        yield record


def _filled(record: Sequence[Any]) -> Sequence[Any]:
    """Return a row without the empty cells at its end."""
    end = len(record)
    while end and record[end - 1] in (None, ""):
        end -= 1
    return record[:end]


def _as_text(cell: Any) -> str:
    if isinstance(cell, bool | int | float):
        return repr(float(cell))
    return str(cell.isoformat()) if isinstance(cell, datetime.date) else str(cell)


def _typed(cells: Cells) -> Cells:
    """Return a column of a sheet as numbers or dates where all its cells are."""
    values = [cell for cell in cells.tolist() if cell is not None]
    if values and all(isinstance(cell, bool | int | float) for cell in values):
        return np.array([np.nan if c is None else float(c) for c in cells.tolist()])
    if (
        values
        and len(values) == len(cells)
        and all(isinstance(c, datetime.datetime) for c in values)
    ):
        return np.array(values, dtype="datetime64[us]")
    return cells


@dataclass(frozen=True)
class _Body:
    """The records of a text file as they are written, in UTF-8, all of a certain width."""

    data: bytes
    separator: str
    width: int

    @classmethod
    def after(cls, text: str, begin: int, separator: str, width: int) -> _Body:
        """Return the records of a text from one on, without empty lines at its end."""
        body = text[_offset(text, begin, separator) :].encode("utf-8")
        if not re.search(rb"[^ \n%s]" % re.escape(separator.encode()), body):
            body = b""
        elif body.endswith(b"\n\n") or not body.endswith(b"\n"):
            body = body.rstrip(b"\n") + b"\n"
        return cls(body, separator, width)

    @property
    def records(self) -> int:
        """How many lines there are."""
        return self.data.count(b"\n")

    @property
    def widths(self) -> NDArray[np.int64]:
        """How many cells each record has."""
        if b'"' in self.data:
            text = io.StringIO(self.data.decode("utf-8"), newline="")
            lines = csv.reader(text, delimiter=self.separator)
            return np.array([len(record) for record in lines], dtype=np.int64)
        signs = [np.zeros(0, dtype=np.bool_)]  # of separators and ends of lines, which are ends
        for begin in range(0, len(self.data), PART):
            part = np.frombuffer(self.data[begin : begin + PART], dtype=np.uint8)
            ends = part == ord("\n")
            signs.append(ends[ends | (part == ord(self.separator))])
        return np.diff(np.flatnonzero(np.concatenate(signs)), prepend=-1)

    def cells(self, columns: Sequence[int], **options: Any) -> pd.DataFrame:
        """Return some columns, by their place."""
        if not self.data:
            return pd.DataFrame({column: pd.Series(dtype=object) for column in columns})
        csv: pd.DataFrame = pd.read_csv(
            io.BytesIO(self.data),
            sep=self.separator,
            header=None,
            names=list(range(self.width)),
            usecols=list(columns),
            index_col=False,
            keep_default_na=False,
            skip_blank_lines=False,
            skipinitialspace=True,
            low_memory=False,
            **options,
        )
        return csv

    def written(self, position: int) -> list[str]:
        """Return the texts of a column."""
        values: list[str] = self.cells([position], dtype=str, na_filter=False)[position].tolist()
        return values

    def columns(self, decimal: str, missing: Sequence[str]) -> list[Cells]:
        """Return every column as numbers, NaN for missing values, or else as texts."""
        frame = self.cells(
            range(self.width), decimal=decimal, na_values=[*WORDS, *missing], **EXACT
        )
        return [self._column(frame[position], position) for position in range(self.width)]

    def _column(self, cells: pd.Series, position: int) -> Cells:
        if cells.dtype.kind != "O":
            return cells.to_numpy().astype(np.float64)
        # words that stand for missing values are read again as they are written
        return np.array(self.written(position) if cells.isna().any() else cells, dtype=object)

    def blank(self, columns: Sequence[Cells]) -> Any:
        """Return which records hold nothing; an empty line of a single column is a missing
        value.
        """
        if self.width == 1:
            return np.zeros(len(columns[0]), dtype=bool)
        lacking = [
            np.array([not cell.strip() for cell in column], dtype=bool)
            if column.dtype.kind == "O"
            else np.isnan(column)
            for column in columns
        ]
        holds = np.all(lacking, axis=0)
        if holds.any():  # which may be words such as n/a
            empty = [[not cell.strip() for cell in self.written(k)] for k in range(self.width)]
            holds &= np.all(empty, axis=0)
        return holds


def _from_text(path: Path, form: TableFormat) -> Table:
    text, notes = _decoded(contents(path), form, str(path))
    if "\r" in text:
        text = text.replace("\r\n", "\n").replace("\r", "\n")
    if "\0" in text[:HEAD]:
        raise FileError("cannot be read as a table: it is not a text", file=str(path))

    separator = separator_of(text[:HEAD])
    records = records_in(text, separator)
    if not records and text.strip():
        raise FileError("cannot be read as a table: a quote is not closed", file=str(path))
    decimal = form.decimal or decimal_of(records, separator, str(path))
    layout = layout_of(records, form, decimal, str(path))

    width = len(layout.names)
    body = _Body.after(text, layout.begin, separator, width)
    _check_widths(body, layout.begin, str(path))
    check_shape(path, body.records, width)
    columns = body.columns(decimal, form.missing)
    blank = body.blank(columns)

    table = _finished(str(path), layout, columns, blank, decimal, form, notes)
    places = {name: position for position, name in enumerate(layout.names)}
    kept = np.flatnonzero(~blank)

    def texts(name: str) -> list[str]:
        cells = columns[places[name]]
        written = cells if cells.dtype.kind == "O" else body.written(places[name])
        return [written[position] for position in kept]

    return replace(table, written=texts)


def _decoded(data: bytes, form: TableFormat, file: str) -> tuple[str, list[str]]:
    """Return the text of a file, with a note on an encoding that was found out."""
    encoding = form.encoding
    if encoding is None and data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        encoding = "utf-16"
    try:
        return data.decode(encoding or "utf-8-sig"), []
    except LookupError:
        raise FileError(f"no encoding {encoding!r}", file=file) from None
    except UnicodeDecodeError:
        if encoding is not None:
            raise FileError(f"cannot be read as {encoding}", file=file) from None
    try:
        return data.decode("cp1252"), ["read as Windows-1252, since it is not UTF-8"]
    except UnicodeDecodeError:
        raise FileError(
            "cannot be read as text in UTF-8 or Windows-1252; state its encoding", file=file
        ) from None


def _offset(text: str, begin: int, separator: str) -> int:
    """Return where the record ``begin`` starts in a text."""
    reader = csv.reader(io.StringIO(text[:HEAD], newline=""), delimiter=separator)
    for _ in range(begin):
        next(reader, None)
    position = 0
    for _ in range(reader.line_num):
        following = text.find("\n", position)
        position = following + 1 if following >= 0 else len(text)
    return position


def _check_widths(body: _Body, begin: int, file: str) -> None:
    """Raise FileError for the first row that is longer than the row of names."""
    widths = body.widths
    longer = np.flatnonzero(widths > body.width)
    if len(longer):
        position = int(longer[0])
        _check_width(int(widths[position]), body.width, begin + position + 1, file)


def _check_width(columns: int, width: int, row: int, file: str) -> None:
    if columns > width:
        raise FileError(
            f"has {columns:,} values, and there are {width:,} columns", file=file, row=row
        )


def _finished(
    file: str,
    layout: Layout,
    columns: Sequence[Cells],
    blank: Any,
    decimal: str,
    form: TableFormat,
    notes: Sequence[str],
) -> Table:
    """Return the table without blank rows and a column without a name, and with notes on them."""
    rows = np.arange(len(blank)) + layout.begin + 1
    said = [*notes, *layout.notes]
    filled = np.flatnonzero(~blank)
    between = rows[blank & (np.arange(len(blank)) < (filled[-1] if len(filled) else 0))]
    if len(between):
        said.append(f"{counted(len(between), 'blank row')} left out: {listed(between.tolist())}")
    kept = {name: cells[~blank] for name, cells in zip(layout.names, columns, strict=True) if name}
    unnamed: tuple[str, ...] = ()
    if "" in layout.names:
        said.append("the first column left out: it has no name")
        cells = columns[layout.names.index("")][~blank]
        unnamed = (
            tuple(text_of(cell) for cell in cells.tolist()) if len(cells) <= MOST_UNNAMED else ()
        )
    return Table(
        file,
        kept,
        rows[~blank],
        layout.units,
        tuple(said),
        decimal,
        frozenset(form.missing),
        unnamed=unnamed,
    )
