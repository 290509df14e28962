"""A column of records in a file: values, with their dates if there are any."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import FileError, ParameterError
from kindynos.fitting.dates import check_dates
from kindynos.table_files import read_table
from kindynos.validate import instance

if TYPE_CHECKING:
    import pandas as pd


DAY, MONTH, YEAR = (
    re.compile(r"\d{4}-\d{2}-\d{2}"),
    re.compile(r"\d{4}-\d{2}"),
    re.compile(r"\d{4}"),
)
STYLES = ((DAY, "2027-12-31"), (MONTH, "2027-12"), (YEAR, "2027"))


def read_series(
    source: str | Path,
    column: str | None = None,
    dates: str | None = None,
    every: str | None = None,
) -> pd.Series:
    """Return a column of a CSV, Parquet or Excel file as a pandas Series, NaN where a cell is
    empty.

    Its index are the ``dates``, written 2027-12-31, 2027-12 or 2027, of the column named, or of the
    first that holds such; a file without any gives numbers from 1. ``every`` states their spacing
    ("month"), which is found otherwise. ``column`` may be left out where there is one. Raises
    FileError naming the row of what cannot be read, and of dates that are doubled or not evenly
    spaced.
    """
    import pandas as pd

    table, name = _raw_records(source)
    dated = _date_column(table, dates, name)
    if dated is None:
        values = read_values(source, column)
        return pd.Series(values, index=pd.RangeIndex(1, len(values) + 1), name=column)
    chosen = _column(table.drop(columns=dated), column, name)
    values = _numbers(table[chosen], chosen, name)
    index = _dates(table[dated], dated, name)
    order = np.argsort(index.to_numpy(), kind="stable")
    index, values = index[order], values[order]
    try:
        check_dates("", index, every)
    except ParameterError as error:
        raise FileError(str(error).removeprefix(": "), file=name) from None
    return pd.Series(values, index=index, name=chosen)


def read_values(source: str | Path, column: str | None = None) -> Floats:
    """Return a column of numbers of a file ``(rows,)``, NaN where a cell is empty; errors are those
    of ``read_series``.
    """
    table, name = _raw_records(source)
    dated = _date_column(table, None, name)
    chosen = _column(
        table if dated is None or dated == column else table.drop(columns=dated), column, name
    )
    return _numbers(table[chosen], chosen, name)


def _raw_records(source: str | Path) -> tuple[Any, str]:
    instance("read_series", "source", source, (str, Path), "the path of a file")
    table = read_table(Path(source))
    table.columns = [str(column).strip() for column in table.columns]
    if not len(table):
        raise FileError("holds no records", file=str(source))
    return table, str(source)


def _column(table: Any, column: str | None, name: str) -> str:
    known = list(table.columns)
    if column is None:
        if len(known) != 1:
            raise FileError(f"say which column: {', '.join(known)}", file=name)
        return str(known[0])
    if column not in known:
        raise FileError(f"no column {column!r}", file=name, unknown=column, known=known)
    return column


def _date_column(table: Any, dates: str | None, name: str) -> str | None:
    if dates is not None:
        return _column(table, dates, name)
    for column in table.columns:
        kind = table[column].dtype.kind
        if kind == "M":
            return str(column)
        first = str(table[column].iloc[0]).strip()
        if kind not in "fiub" and (DAY.fullmatch(first[:10]) or MONTH.fullmatch(first)):
            return str(column)
    return next(
        (
            column
            for column in table.columns
            if column.lower() in ("date", "month", "quarter", "year")
        ),
        None,
    )


def _dates(column: Any, label: str, name: str) -> Any:
    """Return a column as dates, all written in one way."""
    import pandas as pd

    if column.dtype.kind == "M":
        return pd.DatetimeIndex(column).normalize()
    texts = [
        value.isoformat()[:10] if hasattr(value, "isoformat") else str(value).strip()
        for value in column
    ]
    style = next(((one, shown) for one, shown in STYLES if one.fullmatch(texts[0])), STYLES[0])
    days = []
    for place, text in enumerate(texts):
        if not style[0].fullmatch(text):
            raise FileError(
                f"{text!r:.40} in column {label!r} is not a date; dates must all be written like "
                f"{style[1]}",
                file=name,
                row=place + 2,
            )
        try:
            days.append(pd.Timestamp(text + {10: "", 7: "-01", 4: "-01-01"}[len(text)]))
        except ValueError:
            raise FileError(f"there is no day {text!r}", file=name, row=place + 2) from None
    return pd.DatetimeIndex(days)


def _numbers(column: Any, label: str, name: str) -> Floats:
    if column.dtype.kind in "fiu":
        return np.asarray(column, dtype=np.float64)
    values = np.full(len(column), np.nan)
    for place, cell in enumerate(column.tolist()):
        text = "" if cell is None or cell != cell else str(cell).strip()
        if not text:
            continue
        try:
            values[place] = float(text)
        except ValueError:
            comma = "; a decimal comma must be a point" if re.fullmatch(r"-?\d+,\d+", text) else ""
            raise FileError(
                f"column {label!r} holds {text!r:.40}, which is not a number{comma}",
                file=name,
                row=place + 2,
            ) from None
    return values
