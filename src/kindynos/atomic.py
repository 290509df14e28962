"""Files are written whole or not at all: under a temporary name in the same folder, and then moved
into place.

A temporary name tells which machine and process writes it. So what a killed process left behind is
known as such, and the next one that writes into the folder clears it away.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from platform import node
from uuid import uuid4
from zlib import crc32

from kindynos.errors import FileError

_MARK = re.compile(r"^\.kindynos-([0-9a-f]{8})-(\d+)-[0-9a-f]{32}$")
# what this process is writing, and the topmost folder that it made for it
_unfinished: dict[Path, Path | None] = {}


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a temporary path beside ``path`` and move what was written there into its place; on an
    error nothing is left.

    Raises FileError where it cannot be written.
    """
    part = _part(path)
    try:
        _clear_leftovers(path.parent)
        _unfinished[part] = None
        yield part
        _settle(part)
        os.replace(part, path)
    except (OSError, UnicodeError) as error:
        raise _unwritable(path, error) from None
    finally:
        _unfinished.pop(part, None)
        with suppress(OSError, UnicodeError):
            part.unlink(missing_ok=True)


@contextmanager
def staged(folder: Path) -> Iterator[Path]:
    """Give a temporary folder whose files are moved into ``folder`` at the end, and dropped on an
    error.

    Raises FileError where the folder cannot be made or written.
    """
    made = None
    stage = _temporary(folder)
    try:
        made = _first_missing(folder)
        _unfinished[stage] = made
        folder.mkdir(parents=True, exist_ok=True)
        _clear_leftovers(folder)
        stage.mkdir()
    except (OSError, UnicodeError) as error:
        _unfinished.pop(stage, None)
        raise _unwritable(folder, error) from None
    moved: list[Path] = []
    finished = False
    try:
        yield stage
        for file in sorted(stage.iterdir()):
            _settle(file)
            os.replace(file, folder / file.name)
            moved.append(folder / file.name)
        finished = True
    except OSError as error:
        raise _unwritable(folder, error) from None
    finally:
        _unfinished.pop(stage, None)
        shutil.rmtree(stage, ignore_errors=True)
        if not finished and made is not None:
            for file in moved:
                file.unlink(missing_ok=True)
            _remove_empty(folder, made)


class _TrialEndError(Exception):
    """Ends an attempt to write into a folder."""


def check_folder(folder: Path) -> None:
    """Raise FileError where ``staged`` could not write; for the time before work that would be
    lost.
    """
    with suppress(_TrialEndError), staged(folder):
        raise _TrialEndError


def check_writable(path: Path) -> None:
    """Raise FileError where ``replacing`` could not write; for the time before work that would be
    lost.
    """
    part = _part(path)
    try:
        part.touch()
        part.unlink()
    except (OSError, UnicodeError) as error:
        raise _unwritable(path, error) from None


def remove_unfinished() -> None:
    """Remove whatever this process was writing; for a program that is about to end."""
    for path, made in list(_unfinished.items()):
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            with suppress(OSError):
                path.unlink(missing_ok=True)
        if made is not None:
            _remove_empty(path.parent, made)


def _part(path: Path) -> Path:
    """Return the temporary path for a file; raises FileError for the name of a folder."""
    if not path.name or path.is_dir():
        raise FileError(
            "is not a name for a file; say one such as results/run.parquet", file=str(path)
        )
    return _temporary(path.parent)


def _temporary(folder: Path) -> Path:
    return folder / f".kindynos-{_machine()}-{os.getpid()}-{uuid4().hex}"


def _machine() -> str:
    return f"{crc32(node().encode()):08x}"


def _settle(path: Path) -> None:
    """Have a file on the disk before it takes the place of another."""
    with path.open("rb+") as file:
        os.fsync(file.fileno())


def _unwritable(path: Path, error: Exception) -> FileError:
    reason = "its name cannot be written here"
    if isinstance(error, OSError):
        # of pyarrow, which wraps it
        reason = error.strerror or re.sub(r".*Detail: \[errno \d+\] ", "", str(error))
    return FileError(
        f"cannot be written: {reason}", file=str(path).encode("utf-8", "replace").decode()
    )


def _clear_leftovers(folder: Path) -> None:
    """Remove what processes of this machine that are gone left in a folder."""
    with suppress(OSError):
        for path in folder.iterdir():
            found = _MARK.match(path.name)
            if found is None or found[1] != _machine() or _is_running(int(found[2])):
                continue
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)


def _is_running(process: int) -> bool:
    if os.name == "nt":  # where signal 0 would end it
        return True
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True


def _remove_empty(folder: Path, made: Path) -> None:
    """Remove the folders that were made, unless another program has put something there."""
    with suppress(OSError):
        while True:
            folder.rmdir()
            if folder == made:
                break
            folder = folder.parent


def _first_missing(folder: Path) -> Path | None:
    """Return the topmost folder that would have to be made, None when all are there."""
    missing = None
    while not folder.exists():
        missing, folder = folder, folder.parent
    return missing
