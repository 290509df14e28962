"""Tables as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from kindynos.errors import FileError
from kindynos.printable import visible
from kindynos.tables.cells import number_in

if TYPE_CHECKING:
    import pandas as pd


FORMULA = ("=", "+", "-", "@", "\t")  # what a text begins with that a spreadsheet calculates


def as_text(cell: Any) -> Any:
    """Return a cell; a text that a spreadsheet would calculate has an apostrophe before it, and
    what does not print is written as an escape.

    >>> as_text("=1+1"), as_text("-12.5"), as_text(-12.5)
    ("'=1+1", '-12.5', -12.5)
    """
    if not isinstance(cell, str):
        return cell
    text = visible(cell)
    return f"'{text}" if text.startswith(FORMULA) and number_in(text) is None else text


def _as_texts(table: pd.DataFrame) -> pd.DataFrame:
    """Return a table whose names and cells no spreadsheet takes for formulas."""
    safe = table.copy()
    for place, kind in enumerate(safe.dtypes):
        if kind.kind == "O":
            column: Any = safe.iloc[:, place]
            safe.isetitem(place, column.map(as_text))
    return safe.set_axis(_safe_labels(safe.index)).set_axis(_safe_labels(safe.columns), axis=1)


def _safe_labels(labels: pd.Index) -> pd.Index:
    names = [as_text(name) for name in labels.names]
    if labels.nlevels > 1:
        return labels.map(lambda label: tuple(as_text(part) for part in label)).set_names(names)
    found = labels.map(as_text) if labels.dtype.kind == "O" else labels
    return found.set_names(names)


def write_table(table: pd.DataFrame, path: Path) -> None:
    """Write a table as CSV, or as Parquet by the file's name; raises FileError without what Parquet
    needs.
    """
    if path.suffix != ".parquet":
        _as_texts(table).to_csv(path)
        return
    try:
        table.to_parquet(path)
    except ImportError:
        raise FileError("trials as Parquet need pyarrow: pip install 'kindynos[parquet]'") from None
