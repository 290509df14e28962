"""A column of records in a file: values, with their dates if there are any."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, get_args

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import FileError, ParameterError
from kindynos.fitting.dates import check_dates, with_missing_dates
from kindynos.literals import Spacing
from kindynos.processes.series import known_length
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from kindynos.tables.table import Table, counted
from kindynos.validate import checked, instance, one_of

MOST_NAMED = 5

if TYPE_CHECKING:
    import pandas as pd


@checked
def read_series(
    source: str | Path,
    column: str | None = None,
    dates: str | None = None,
    every: str | None = None,
    *,
    sheet: str | None = None,
    header: int | None = None,
    encoding: str | None = None,
    decimal: str | None = None,
    missing: Iterable[str] = (),
) -> pd.Series:
    """Return a column of a CSV, Parquet or Excel file as a pandas Series, NaN where a value is
    missing, also where a date between others has no row.

    Its index are the ``dates`` of the column named, or of the first that holds such, all written in
    one way: 2027-12-31 (also with a time), 31.12.2027, 2027-12, 2027-Q4 or 2027; a file without any
    gives numbers from 1. ``every`` states their spacing ("month"), which is found otherwise.
    ``column`` may be left out where there is one. The other arguments are those of ``read_trials``.
    Raises FileError naming the row of what cannot be read, and of dates that are doubled or not
    evenly spaced.

    >>> from kindynos import demo_file, read_series
    >>> passengers = read_series(demo_file("passengers.csv"))
    >>> passengers.name, float(passengers.iloc[0])
    ('passengers', 18630.0)
    """
    if every is not None:
        one_of("every", every, get_args(Spacing))
    form = TableFormat.checked(sheet, header, encoding, decimal, missing)
    return series_and_notes(source, column, dates, every, form)[0]


def series_and_notes(
    source: str | Path, column: str | None, dates: str | None, every: str | None, form: TableFormat
) -> tuple[pd.Series, list[str]]:
    """Return a series as ``read_series`` does, and notes on how it was read."""
    values, _, notes = series_and_regressors(source, column, dates, every, form, ())
    return values, notes


def series_and_regressors(
    source: str | Path,
    column: str | None,
    dates: str | None,
    every: str | None,
    form: TableFormat,
    exog: Sequence[str],
) -> tuple[pd.Series, pd.DataFrame | None, list[str]]:
    """Return a series, the columns that are regressors, and notes on how it was read.

    With regressors the series ends at its last value, and rows after it give them for the periods
    to forecast.
    """
    table = _records(source, form)
    dated = table.date_column() if dates is None else table.named(dates)
    others = [table.named(name) for name in exog]
    selected = _column(table, column, dated, others)
    if selected in others:
        raise FileError(f"the column {selected!r} cannot explain itself", file=table.file)
    frame, notes = _dated_frame(table, [selected, *others], dated, every)
    notes = [*_notes(table, selected), *notes]
    values = frame[selected]
    if not others:
        return values, None, notes
    _check_regressors(table, frame, others, dated)
    end = known_length(values.to_numpy())
    later = len(values) - end
    if not later:
        raise FileError(
            f"regressors must be known for the periods to forecast: add rows after the last value "
            f"of {selected!r} that leave it empty",
            file=table.file,
        )
    notes.append(
        f"{counted(later, 'row')} after the last value of {selected!r} give regressors ahead"
    )
    return values.iloc[:end], frame[others], notes


def _check_regressors(
    table: Table, frame: pd.DataFrame, names: Sequence[str], dated: str | None
) -> None:
    """Raise FileError for a cell of a regressor that is empty, by its row in the file, and for a
    period that has no row.
    """
    for name in names:
        empty = np.flatnonzero(np.isnan(table.numbers(name)))
        if len(empty):
            raise FileError(
                f"the regressor {name!r} has no number; a regressor is known in every period",
                file=table.file,
                row=int(table.rows[empty[0]]),
            )
    if len(frame) > len(table) and dated is not None:
        absent = frame.index[~frame.index.isin(table.dates(dated))]
        raise FileError(
            f"the period {absent[0]:%Y-%m-%d} has no row, and a regressor, such as {names[0]!r}, "
            "is known in every period",
            file=table.file,
        )


def _dated_frame(
    table: Table, names: list[str], dated: str | None, every: str | None
) -> tuple[pd.DataFrame, list[str]]:
    """Return columns by their dates, in order, with rows for dates that are missing, and notes."""
    import pandas as pd

    frame = pd.DataFrame({name: table.numbers(name) for name in names})
    notes: list[str] = []
    if dated is None or dated == names[0]:
        return frame.set_axis(pd.RangeIndex(1, len(frame) + 1)), notes
    index = table.dates(dated)
    order = np.argsort(index.to_numpy(), kind="stable")
    index = index[order]
    frame = frame.iloc[order].set_axis(index)
    whole = with_missing_dates(index, every)
    if len(whole) > len(index):
        absent = whole[~whole.isin(index)]
        named = ", ".join(f"{date:%Y-%m-%d}" for date in absent[:MOST_NAMED])
        more = f" and {len(absent) - MOST_NAMED} more" if len(absent) > MOST_NAMED else ""
        notes.append(
            f"{len(absent)} period{'s' if len(absent) > 1 else ''} without a row in the file "
            f"count{'' if len(absent) > 1 else 's'} as missing ({named}{more})"
        )
        if not index.duplicated().any():
            frame = frame.reindex(whole)
    try:
        check_dates(frame.index, every)
    except ParameterError as error:
        raise FileError(str(error).removeprefix(": "), file=table.file) from None
    return frame, notes


@checked
def read_values(
    source: str | Path,
    column: str | None = None,
    *,
    sheet: str | None = None,
    header: int | None = None,
    encoding: str | None = None,
    decimal: str | None = None,
    missing: Iterable[str] = (),
) -> Floats:
    """Return a column of numbers of a file ``(rows,)``, NaN where a value is missing; arguments and
    errors are those of ``read_series``.

    >>> from kindynos import demo_file, read_values
    >>> read_values(demo_file("repair_bills.csv"), "bill").shape
    (40,)
    """
    form = TableFormat.checked(sheet, header, encoding, decimal, missing)
    return values_and_notes(source, column, form)[0]


def values_and_notes(
    source: str | Path, column: str | None, form: TableFormat
) -> tuple[Floats, list[str]]:
    """Return a column of numbers as ``read_values`` does, and notes on how it was read."""
    table = _records(source, form)
    selected = _column(table, column, table.date_column())
    return table.numbers(selected), _notes(table, selected)


def _notes(table: Table, column: str) -> list[str]:
    missing = table.missing_note(column, table.numbers(column))
    return [*table.notes, *([missing] if missing else [])]


def _records(source: str | Path, form: TableFormat) -> Table:
    instance("source", source, (str, Path), "the path of a file")
    table = read_table(source, form)
    if not len(table):
        raise FileError("holds no records", file=table.file)
    return table


def _column(table: Table, column: str | None, dated: str | None, exog: Sequence[str] = ()) -> str:
    """Return the column that is asked for; it may be left out where there is one beside the dates
    and the regressors.
    """
    if column is not None:
        return table.named(column)
    others = [name for name in table.names if name != dated and name not in exog] or table.names
    if len(others) != 1:
        raise FileError(f"say which column: {', '.join(others)[:400]}", file=table.file)
    return others[0]
