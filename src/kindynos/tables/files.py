"""Opening files of tables within limits: only regular files, and never more than a table may hold,
packed or not.
"""

from __future__ import annotations

import bz2
import gzip
import lzma
import stat
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from kindynos.errors import FileError, closest
from kindynos.sources import note_file

MOST_BYTES = 512 * 2**20  # of a file, and of what a packed file unpacks to
PIECE = 2**20  # bytes that are unpacked at a time
SAFE_SIZE = 32 * 2**20  # bytes that anything may unpack to
MOST_RATIO = 400  # of what larger tables unpack to
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
        with zipfile.ZipFile(path) as packed:
            names = packed.namelist()
            if len(names) != 1:
                raise FileError(f"must hold one file, and has {len(names)}", file=str(path))
            return b"".join(_pieces_of(packed, packed.infolist()[0], path))
    opened: Callable[..., Any] = PACKED.get(ending, open)
    with opened(path, "rb") as stream:
        size = path.stat().st_size if ending in PACKED else None
        return b"".join(_pieces(stream, path, size))


def check_zip(path: Path) -> None:
    """Raise FileError for a zip file, or a workbook, that unpacks to too much: what is stated of
    its parts is not believed.
    """
    with zipfile.ZipFile(path) as packed:
        total = 0
        for entry in packed.infolist():
            for chunk in _pieces_of(packed, entry, path):
                total += len(chunk)
                check_size(path, total)


def _pieces_of(packed: zipfile.ZipFile, entry: zipfile.ZipInfo, path: Path) -> Iterator[bytes]:
    if entry.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
        raise FileError(
            "is packed in a way that is not read; pack it as a common zip file", file=str(path)
        )
    with packed.open(entry) as stream:
        yield from _pieces(stream, path, entry.compress_size)


def _pieces(stream: Any, path: Path, packed_size: int | None) -> Iterator[bytes]:
    """Yield what a stream unpacks to, piece by piece; raises FileError for more than is read, and
    for far more than a table packs to.
    """
    total = 0
    while chunk := stream.read(PIECE):
        total += len(chunk)
        check_size(path, total, "unpacks to more" if packed_size is not None else "is larger")
        if packed_size is not None and total > max(SAFE_SIZE, MOST_RATIO * packed_size):
            raise FileError(
                f"unpacks to more than {total // 2**20:,} MB from "
                f"{max(packed_size // 1024, 1):,} kB, which no table does",
                file=str(path),
            )
        yield chunk
