"""Tables as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kindynos.errors import FileError

if TYPE_CHECKING:
    import pandas as pd


def write_table(table: pd.DataFrame, path: Path) -> None:
    """Write a table as CSV, or as Parquet by the file's name; raises FileError without what Parquet
    needs.
    """
    if path.suffix != ".parquet":
        table.to_csv(path)
        return
    try:
        table.to_parquet(path)
    except ImportError:
        raise FileError("trials as Parquet need pyarrow: pip install 'kindynos[parquet]'") from None
