"""Opening files of tables within limits: only regular files, and never more than a table may hold,
packed or not.
"""

from __future__ import annotations

import bz2
import gzip
import lzma
import stat
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kindynos.errors import FileError, closest
from kindynos.sources import note_file

MOST_BYTES = 512 * 2**20  # of a file, and of what a packed file unpacks to
MOST_COLUMNS = 16_384  # as in a sheet of a workbook
MOST_CELLS = 100_000_000
PACKED: dict[str, Callable[..., Any]] = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}


def check_file(path: Path, most: float | None = None) -> None:
    """Raise FileError for a path that is not a regular file of a size that can be read, and note
    it among the sources of the work.
    """
    try:
        about = path.stat()
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise FileError(f"cannot be read: {reason}{_nearest(path)}", file=str(path)) from None
    if stat.S_ISDIR(about.st_mode):
        raise FileError("cannot be read: it is a folder", file=str(path))
    if not stat.S_ISREG(about.st_mode):
        raise FileError("cannot be read: it is a device or a pipe, not a file", file=str(path))
    check_size(path, about.st_size, "is larger", most)
    note_file(path)


def _nearest(path: Path) -> str:
    """Return the file of the same folder that is likely meant, in words; "" for none."""
    try:
        if path.exists() or not path.parent.is_dir():
            return ""
        near = closest(path.name, (other.name for other in path.parent.iterdir()))
    except (OSError, ValueError):
        return ""
    return f"; did you mean {near!r}?" if near else ""


def check_size(
    path: Path, size: int, what: str = "unpacks to more", most: float | None = None
) -> None:
    """Raise FileError for more bytes than are read; ``most`` for other files than tables."""
    most = MOST_BYTES if most is None else most
    if size > most:
        raise FileError(f"{what} than {most // 2**20:g} MB, the most that is read", file=str(path))


def check_shape(path: Path, rows: int, columns: int) -> None:
    """Raise FileError for more columns or cells than are read."""
    if columns > MOST_COLUMNS:
        raise FileError(
            f"has {columns:,} columns, and at most {MOST_COLUMNS:,} are read", file=str(path)
        )
    if rows * columns > MOST_CELLS:
        raise FileError(
            f"has {rows:,} rows of {columns:,} columns, and at most {MOST_CELLS:,} cells are read",
            file=str(path),
        )


def contents(path: Path) -> bytes:
    """Return what a file of text holds, unpacked where it is packed (.gz, .bz2, .xz, .zip)."""
    ending = path.suffix.lower()
    if ending == ".zip":
        check_zip(path)
        with zipfile.ZipFile(path) as packed:
            names = packed.namelist()
            if len(names) != 1:
                raise FileError(f"must hold one file, and has {len(names)}", file=str(path))
            return packed.read(names[0])
    opened: Callable[..., Any] = PACKED.get(ending, open)
    with opened(path, "rb") as stream:
        data: bytes = stream.read(MOST_BYTES + 1)
    check_size(path, len(data))
    return data


def check_zip(path: Path) -> None:
    """Raise FileError for a zip file, or a workbook, that unpacks to too much."""
    with zipfile.ZipFile(path) as packed:
        check_size(path, sum(entry.file_size for entry in packed.infolist()))
