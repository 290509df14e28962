"""Tables as files."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kindynos.errors import FileError
from kindynos.printable import visible
from kindynos.tables.cells import number_in

if TYPE_CHECKING:
    import pandas as pd


FORMULA = ("=", "+", "-", "@", "\t")  # what a text begins with that a spreadsheet calculates


def as_text(cell: Any, decimal: str = ".") -> Any:
    """Return a cell; a text that a spreadsheet would calculate has an apostrophe before it, and
    what does not print is written as an escape.

    >>> as_text("=1+1"), as_text("-12.5"), as_text(-12.5)
    ("'=1+1", '-12.5', -12.5)
    """
    if isinstance(cell, float) and decimal != ".":  # among texts, where pandas leaves it alone
        return repr(cell).replace(".", decimal) if math.isfinite(cell) else cell
    if not isinstance(cell, str):
        return cell
    text = visible(cell)
    return f"'{text}" if text.startswith(FORMULA) and number_in(text) is None else text


def _as_texts(table: pd.DataFrame, decimal: str) -> pd.DataFrame:
    """Return a table whose names and cells no spreadsheet takes for formulas."""
    safe = table.copy()
    for position, kind in enumerate(safe.dtypes):
        if kind.kind == "O":
            column: Any = safe.iloc[:, position]
            safe.isetitem(position, column.map(partial(as_text, decimal=decimal)))
    return safe.set_axis(_safe_labels(safe.index)).set_axis(_safe_labels(safe.columns), axis=1)


def _safe_labels(labels: pd.Index) -> pd.Index:
    names = [as_text(name) for name in labels.names]
    if labels.nlevels > 1:
        return labels.map(lambda label: tuple(as_text(piece) for piece in label)).set_names(names)
    safe = labels.map(as_text) if labels.dtype.kind == "O" else labels
    return safe.set_names(names)


@dataclass(frozen=True)
class CsvForm:
    """How CSV files are written: the decimal sign, and what separates the cells, by default a
    semicolon beside a decimal comma and else a comma.

    >>> CsvForm(",").separator, CsvForm().separator
    (';', ',')
    """

    decimal: str = "."
    chosen: str | None = None

    def __post_init__(self) -> None:
        if len(self.separator) != 1 or self.separator.isalnum() or self.separator in "\"'-+.\n":
            raise FileError(
                f"the separator must be one sign such as ';', or a tab, not {self.chosen!r}"
            )
        if self.separator == self.decimal:
            raise FileError(
                f"the separator and the decimal sign are both {self.decimal!r}; choose another "
                "separator, such as ';'"
            )

    @property
    def separator(self) -> str:
        """What separates the cells."""
        selected = "\t" if self.chosen == "tab" else self.chosen
        return selected or (";" if self.decimal == "," else ",")


PLAIN = CsvForm()


def write_table(table: pd.DataFrame, path: Path, form: CsvForm = PLAIN) -> None:
    """Write a table as CSV, or as Parquet by the file's name; raises FileError without what Parquet
    needs.
    """
    if path.suffix != ".parquet":
        _as_texts(table, form.decimal).to_csv(path, sep=form.separator, decimal=form.decimal)
        return
    try:
        table.to_parquet(path)
    except ImportError:
        raise FileError("trials as Parquet need pyarrow: pip install 'kindynos[parquet]'") from None
