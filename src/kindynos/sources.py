"""The files that work reads, each with the checksum of its contents when it was read."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path

FINGERPRINT = 12  # digits of a checksum that are printed where there is little room


@dataclass(frozen=True)
class Source:
    """What was read: a file, or a text that came another way, with the SHA-256 of its contents."""

    path: Path
    checksum: str

    @property
    def name(self) -> str:
        """The name without its folder."""
        return self.path.name

    @property
    def short(self) -> str:
        """The first digits of the checksum."""
        return self.checksum[:FINGERPRINT]


_LISTENERS: ContextVar[tuple[list[Source], ...]] = ContextVar("listeners", default=())


@contextmanager
def sources_read() -> Iterator[list[Source]]:
    """Give a list to which everything that is read inside the block is added, once each."""
    read: list[Source] = []
    token = _LISTENERS.set((*_LISTENERS.get(), read))
    try:
        yield read
    finally:
        _LISTENERS.reset(token)


def note_file(path: Path) -> None:
    """Note a file that is about to be read, where somebody listens."""
    if _LISTENERS.get():
        _note(Source(path, checksum(path)))


def note_text(name: str, data: bytes) -> None:
    """Note contents that are not those of a file, such as the standard input."""
    _note(Source(Path(name), hashlib.sha256(data).hexdigest()))


def _note(source: Source) -> None:
    for read in _LISTENERS.get():
        if source not in read:
            read.append(source)


def is_source(path: Path) -> bool:
    """Return whether a file is among those that were read for the work at hand."""
    target = os.path.realpath(path)
    return any(
        os.path.realpath(source.path) == target for read in _LISTENERS.get() for source in read
    )


def checksum(path: Path) -> str:
    """Return the SHA-256 of a file."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
