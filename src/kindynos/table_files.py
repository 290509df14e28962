"""Reading a file as a table of text: CSV, also packed, Parquet or Excel. What it holds is checked
elsewhere.
"""

from __future__ import annotations

import bz2
import csv
import gzip
import io
import lzma
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.errors import FileError

MOST_UNPACKED = 256 * 2**20  # bytes that a packed file may unpack to
UNPACKED: dict[str, Callable[[Path], Any]] = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}


def read_table(path: Path) -> pd.DataFrame:
    """Return the table in a file; raises FileError for one that cannot be read, whatever the
    reason.
    """
    ending = path.suffix.lower()
    try:
        if ending == ".parquet":
            _check_size(path, _parquet_size(path))
            return pd.read_parquet(path)
        if ending in (".xlsx", ".xls"):
            if zipfile.is_zipfile(path):
                _check_size(path, _zip_size(path))
            return pd.read_excel(path)
        source = _unpacked(path) if ending in (*UNPACKED, ".zip") else path.read_bytes()
        return _with_header(source.decode("utf-8-sig"), path)
    except FileError:
        raise
    except ImportError:
        extra = "parquet" if ending == ".parquet" else "excel"
        raise FileError(
            f"reading this kind of file needs pip install 'kindynos[{extra}]'", file=str(path)
        ) from None
    except OSError as error:
        raise FileError(f"cannot be read: {error.strerror or error}", file=str(path)) from None
    # each kind of file has its own errors, and all mean that this one is none
    except Exception as error:
        reason = next(iter(str(error).splitlines()), "") or type(error).__name__
        raise FileError(f"cannot be read as a table: {reason}", file=str(path)) from None


def _unpacked(path: Path) -> bytes:
    """Return what a packed file holds, up to the limit."""
    if path.suffix.lower() == ".zip":
        _check_size(path, _zip_size(path))
        with zipfile.ZipFile(path) as packed:
            if len(packed.namelist()) != 1:
                raise FileError(
                    f"must hold one file, and has {len(packed.namelist())}", file=str(path)
                )
            return packed.read(packed.namelist()[0])
    with UNPACKED[path.suffix.lower()](path) as packed:
        data: bytes = packed.read(MOST_UNPACKED + 1)
    _check_size(path, len(data))
    return data


def _zip_size(path: Path) -> int:
    with zipfile.ZipFile(path) as packed:
        return sum(entry.file_size for entry in packed.infolist())


def _parquet_size(path: Path) -> int:
    from pyarrow import parquet

    about = parquet.read_metadata(path)
    bytes_said: int = sum(about.row_group(i).total_byte_size for i in range(about.num_row_groups))
    # a column of equal values takes hardly a byte
    return max(bytes_said, int(about.num_rows * about.num_columns))


def _check_size(path: Path, size: int) -> None:
    if size > MOST_UNPACKED:
        raise FileError(
            f"unpacks to more than {MOST_UNPACKED // 2**20} MB; unpack it yourself if that "
            "is right",
            file=str(path),
        )


def _with_header(text: str, path: Path) -> pd.DataFrame:
    """Return the table in comma-separated text, whose first row are its column names.

    Raises FileError for a name that is missing or there twice, and for a row that is longer than
    the first.
    """
    rows = [
        row
        for row in csv.reader(io.StringIO(text, newline=""), skipinitialspace=True, strict=True)
        if row
    ]
    if not rows:
        raise FileError("cannot be read as a table: it is empty", file=str(path))
    names = [name.strip() for name in rows[0]]
    if len(names) == 1 and ";" in names[0]:
        raise FileError(
            "its columns are separated by semicolons; save it with commas, and with decimal points",
            file=str(path),
        )
    for place, name in enumerate(names):
        if not name:
            raise FileError(f"column {place + 1} has no name", file=str(path), row=1)
    if len(set(names)) < len(names):
        again = next(name for place, name in enumerate(names) if name in names[:place])
        raise FileError(f"two columns are named {again!r}", file=str(path), row=1)
    for place, row in enumerate(rows):
        if len(row) > len(names):
            raise FileError(
                f"has {len(row)} values, and there are {len(names)} columns",
                file=str(path),
                row=place + 1,
            )
        row.extend([""] * (len(names) - len(row)))
    return pd.DataFrame(
        np.array(rows[1:], dtype=object).reshape(-1, len(names)), columns=names, dtype=object
    )
