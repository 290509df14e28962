"""Where a result comes from: who made it when, from which files, and the command for it. Pages,
workbooks, plain data and the manifest of a folder say the same.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from kindynos.errors import FileError
from kindynos.model.model import Model
from kindynos.program.identity import identity
from kindynos.program.program import Program
from kindynos.sources import FINGERPRINT, Source, checksum
from kindynos.tables.files import check_file

MOST_BYTES = 2**26  # of a result that is checked
EMBEDDED = re.compile(r'<script type="application/json" id="origin">(.*?)</script>', re.DOTALL)


def now() -> datetime:
    """Return the time; SOURCE_DATE_EPOCH stands for it where it is set."""
    try:
        return datetime.fromtimestamp(int(os.environ.get("SOURCE_DATE_EPOCH", "")), UTC)
    except (ValueError, OverflowError, OSError):
        return datetime.now(UTC)


@dataclass(frozen=True)
class Origin:
    """Who and when; ``sources`` are the files that were read, the model first, and ``model`` is
    the fingerprint of what the model states as it ran, changes by options included.
    """

    sources: tuple[Source, ...] = ()
    command: str = ""
    author: str = ""
    note: str = ""
    model: str = ""
    time: datetime = field(default_factory=now)

    @property
    def date(self) -> str:
        """When the result was made."""
        return f"{self.time.day} {self.time:%B %Y, %H:%M} UTC"

    def facts(self) -> dict[str, Any]:
        """Return it as plain data."""
        return {
            "date": self.time.strftime("%Y-%m-%d %H:%M:%S"),
            "author": self.author,
            "note": self.note,
            "command": self.command,
            "model": self.model,
            "files": {str(source.path): source.checksum for source in self.sources},
        }


def model_of(result: Any) -> str:
    """Return the fingerprint of the model that a result is of; "" for one that is of none."""
    program = _program_of(result)
    return "" if program is None else identity(program)


def titles_of(result: Any) -> dict[str, str]:
    """Return what people call the quantities of the model that a result is of, by name."""
    program = _program_of(result)
    return {} if program is None else dict(program.titles)


def _program_of(result: Any) -> Program | None:
    runs = getattr(result, "runs", None)
    first = next(iter(runs.values()), None) if isinstance(runs, Mapping) else result
    program = first.compiled() if isinstance(first, Model) else getattr(first, "program", None)
    return program if isinstance(program, Program) else None


def origin_in(result: Path) -> dict[str, Any]:
    """Return the origin in a summary of results or a page; raises FileError where there is none."""
    check_file(result, MOST_BYTES)
    text = result.read_text(encoding="utf-8", errors="replace")
    if result.suffix.lower() != ".json":
        match = EMBEDDED.search(text)
        text = match[1] if match else "{}"
    try:
        content = json.loads(text)
        origin = content.get("origin", content)
    except (ValueError, RecursionError, AttributeError):
        origin = None
    if not is_origin(origin):
        raise FileError(
            "is not a result of kindynos that says where it comes from", file=str(result)
        )
    return dict(origin)


def is_origin(value: Any) -> bool:
    """Return whether plain data are an origin: texts, and files with their checksums."""
    if not isinstance(value, dict) or not isinstance(value.get("files"), dict):
        return False
    texts = [text for key, text in value.items() if key != "files"]
    return all(isinstance(text, str) for text in [*texts, *value["files"].values()])


def changes(origin: Mapping[str, Any], folders: Sequence[Path]) -> tuple[list[str], list[str]]:
    """Return what is to be said of the files of an origin that are no longer as they were read, and
    the names of those that are in none of the folders, in which each is looked for in turn. Nothing
    outside them is read, whatever a stranger's results name.
    """
    changed, missing = [], []
    for name, expected in origin.get("files", {}).items():
        places = (folder / part for folder in folders for part in (name, Path(name).name))
        path = next((place for place in places if _is_below(place, folders)), None)
        if path is None:
            missing.append(name)
            continue
        reached = checksum(path)
        if reached != expected:
            changed.append(
                f"{path} was edited since: its fingerprint was {expected[:FINGERPRINT]} and "
                f"is {reached[:FINGERPRINT]}"
            )
    return changed, missing


def _is_below(path: Path, folders: Sequence[Path]) -> bool:
    """Return whether a path is a file that lies, links followed, in one of the folders or below."""
    try:
        real = path.resolve()
        homes = [folder.resolve() for folder in folders]
        below = any(real.is_relative_to(home) for home in homes if home != home.parent)
        return below and real.is_file()
    except (OSError, ValueError, RuntimeError):
        return False
