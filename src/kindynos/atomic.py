"""Files are written whole or not at all: under a temporary name in the same folder, and then moved
into place.

Several files of one folder are moved together: what they replace is kept until the last has moved,
and put back on an error. An interrupt or a termination waits for that moment to end. What a killed
process left behind is cleared by the next one that writes into the folder, once it is old.
"""

from __future__ import annotations

import os
import re
import shutil
import signal
import stat
import threading
import time
import unicodedata
from collections import deque
from collections.abc import Collection, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from uuid import uuid4

from kindynos.errors import FileError
from kindynos.sources import is_source

_MARK = re.compile(r"^\.kindynos-[0-9a-f]{32}$")
_RESERVED = frozenset('/\\:*?"<>|')
_LONGEST = 120  # bytes of a name made from data, which leaves room for its ending
_OLD = 24 * 3600.0  # seconds after which a temporary file is left over, whoever wrote it
# what this process is writing, and the topmost folder that it made for it
_unfinished: dict[Path, Path | None] = {}
# the last files that it wrote, for what is said of an interrupt
_written: deque[Path] = deque(maxlen=1000)
_SIGNALS = (signal.SIGINT, signal.SIGTERM)


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a temporary path beside ``path`` and move what was written there into its place; on an
    error nothing is left.

    Missing folders are made. A symbolic link is followed, and the mode of a file that is replaced
    is kept. Raises FileError where it cannot be written, also for a file that is read-only.
    """
    target = _target(path)
    made = _first_missing(target.parent)
    temporary = _temporary(target.parent)
    finished = False
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        _clear_leftovers(target.parent)
        _unfinished[temporary] = made
        yield temporary
        _settle(temporary)
        with _uninterrupted():
            _move([(temporary, target)])
            finished = True
    except (OSError, UnicodeError) as error:
        raise _unwritable(path, error) from None
    finally:
        _unfinished.pop(temporary, None)
        with suppress(OSError, UnicodeError):
            temporary.unlink(missing_ok=True)
        if not finished and made is not None:
            _remove_empty(target.parent, made)


@contextmanager
def staged(folder: Path) -> Iterator[Path]:
    """Give a temporary folder whose files are moved into ``folder`` together at the end, and
    dropped on an error.

    Raises FileError, with the file, where the folder or one of its files cannot be written; then
    the folder holds what it held before.
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
    finished = False
    try:
        yield stage
        parts = sorted(stage.iterdir())
        moves = [(part, _target(folder / part.name)) for part in parts]
        for part in parts:
            _settle(part)
        with _uninterrupted():
            _move(moves)
            finished = True
    except OSError as error:
        raise _unwritable(folder, error) from None
    finally:
        _unfinished.pop(stage, None)
        shutil.rmtree(stage, ignore_errors=True)
        if not finished and made is not None:
            _remove_empty(folder, made)


def _move(moves: list[tuple[Path, Path]]) -> None:
    """Move files to their places, all or none; raises FileError for one that cannot be."""
    kept: list[tuple[Path, Path]] = []  # what was replaced, and its place
    placed: list[Path] = []
    try:
        for part, target in moves:
            try:
                if target.exists():
                    os.chmod(part, stat.S_IMODE(target.stat().st_mode))
                    if len(moves) > 1:
                        old = part.with_name(f"{part.name}.old")
                        _keep(target, old)
                        kept.append((old, target))
                os.replace(part, target)  # at no moment is there no file
                placed.append(target)
            except OSError as error:
                raise _unwritable(target, error) from None
    except FileError:
        for target in placed:
            target.unlink(missing_ok=True)
        for old, target in kept:
            with suppress(FileNotFoundError):
                os.replace(old, target)
        raise
    _written.extend(placed)
    for old, _ in kept:
        with suppress(OSError):
            old.unlink(missing_ok=True)


def _keep(target: Path, old: Path) -> None:
    """Give a file a second name, or where the file system has none, a copy."""
    try:
        os.link(target, old)
    except OSError:
        shutil.copy2(target, old)


def file_name(text: str, taken: Collection[str] = (), end: str = "") -> str:
    """Return a name for a file made from a text that data have, such as a column: without signs
    that separate folders or that some system reserves, not too long, and unlike those ``taken``.

    >>> file_name("/elsewhere/photo", end=".png"), file_name("EUR/USD", {"EUR_USD.csv"}, ".csv")
    ('_elsewhere_photo.png', 'EUR_USD-2.csv')
    """
    plain = "".join(
        "_" if sign in _RESERVED or not sign.isprintable() else sign
        for sign in unicodedata.normalize("NFC", text)
    )
    plain = plain.lstrip(".").strip() or "unnamed"
    while len(plain.encode("utf-8", "replace")) > _LONGEST:
        plain = plain[:-1]
    folded, number, name = {one.casefold() for one in taken}, 1, f"{plain}{end}"
    while name.casefold() in folded:
        number += 1
        name = f"{plain}-{number}{end}"
    return name


@contextmanager
def _uninterrupted() -> Iterator[None]:
    """Hold back an interrupt or a termination until the block has ended, and let it come then."""
    if threading.current_thread() is not threading.main_thread():
        yield  # signals come to the main thread only
        return
    came: list[tuple[int, Any]] = []
    before = {
        number: signal.signal(number, lambda number, frame: came.append((number, frame)))
        for number in _SIGNALS
    }
    try:
        yield
    finally:
        for signal_number, handler in before.items():
            signal.signal(signal_number, signal.SIG_DFL if handler is None else handler)
        for number, _ in came[:1]:
            signal.raise_signal(number)


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
    with suppress(_TrialEndError), replacing(path) as temporary:
        temporary.touch()
        raise _TrialEndError


def written_so_far() -> str:
    """Return what this process has written, in words."""
    if not _written:
        return "nothing was written"
    folders = sorted({str(path.parent) for path in _written})
    count = f"{len(_written)} file{'s' if len(_written) > 1 else ''}"
    return f"{count} had been written before, to {', '.join(folders)}"


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


def _target(path: Path) -> Path:
    """Return the file that a path means, behind symbolic links; raises FileError for a folder or a
    device, for a file that is read-only, and for one that the work at hand has read.
    """
    if not path.name or path.is_dir():
        raise FileError(
            "is not a name for a file; say one such as results/run.parquet", file=str(path)
        )
    target = Path(os.path.realpath(path))
    if target.exists() and not target.is_file():
        raise FileError("is not a regular file", file=str(path))
    if is_source(target):
        raise FileError("is one of the files that were read for this; say another", file=str(path))
    if target.exists() and not target.stat().st_mode & stat.S_IWUSR:
        raise FileError("cannot be written: it is read-only", file=str(path))
    return target


def _temporary(folder: Path) -> Path:
    return folder / f".kindynos-{uuid4().hex}"


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
    """Remove what processes that are long gone left in a folder.

    A process of another machine or container, which may write into the same folder, cannot be asked
    whether it lives; only the age of what it left says so.
    """
    with suppress(OSError):
        for path in folder.iterdir():
            name = path.name.removesuffix(".old")
            if not _MARK.match(name) or time.time() - path.stat().st_mtime < _OLD:
                continue
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)


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
