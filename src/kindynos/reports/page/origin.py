"""Where a page comes from: who made it when, from which files, and the command for it."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

FINGERPRINT = 12  # digits of the checksum that are printed at the head


@dataclass(frozen=True)
class Source:
    """A file that was read, with the checksum of its contents."""

    name: str
    checksum: str

    @property
    def short(self) -> str:
        """The first digits of the checksum."""
        return self.checksum[:FINGERPRINT]


@dataclass(frozen=True)
class Origin:
    """Who and when; ``sources`` are the model file first, then the files that it reads."""

    sources: tuple[Source, ...] = ()
    command: str = ""
    author: str = ""
    note: str = ""

    @property
    def date(self) -> str:
        """When the page is written; SOURCE_DATE_EPOCH stands for it where it is set."""
        epoch = os.environ.get("SOURCE_DATE_EPOCH", "")
        now = datetime.fromtimestamp(int(epoch), UTC) if epoch.isdigit() else datetime.now(UTC)
        return f"{now.day} {now:%B %Y, %H:%M} UTC"


def sources_of(paths: Sequence[Path]) -> tuple[Source, ...]:
    """Return the files that can be read, each once."""
    rows = []
    for path in dict.fromkeys(paths):
        if path.is_file():
            with path.open("rb") as file:
                rows.append(Source(path.name, hashlib.file_digest(file, "sha256").hexdigest()))
    return tuple(rows)
