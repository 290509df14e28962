"""The manifest of a folder of results: how they were made, and the checksum of each file.

A folder that holds files of two runs, or files that were changed since, is seen by it.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kindynos.errors import FileError
from kindynos.reports.origin import is_origin
from kindynos.sources import checksum

NAME = "run.json"
MOST_BYTES = 2**24  # of a manifest


def write_manifest(stage: Path, folder: Path, about: Mapping[str, Any]) -> None:
    """Write the manifest of the files in a stage: how they were made (``about``), by which version
    and from which seed, and the checksum of each.

    What earlier commands wrote into the same folder, and these files do not replace, stays listed
    under ``earlier``.
    """
    from kindynos import __version__

    files = {path.name: checksum(path) for path in sorted(stage.iterdir()) if path.is_file()}
    entry = {"kindynos": __version__, **about, "seed": _seed(stage), "files": files}
    earlier = []
    for made in _entries(folder):
        left = {name: digest for name, digest in made["files"].items() if name not in files}
        if left:
            earlier.append({**made, "files": left})
    text = json.dumps({**entry, "earlier": earlier}, indent=1, default=str, ensure_ascii=False)
    (stage / NAME).write_text(text + "\n", encoding="utf-8")


def not_ours(stage: Path, folder: Path) -> list[str]:
    """Return which files of a folder those of a stage would replace that no manifest there
    lists.
    """
    made = _entries(folder)
    listed = {NAME: made, **{name: made for entry in made for name in entry["files"]}}
    names = [path.name for path in sorted(stage.iterdir())] + [NAME]
    return [name for name in names if not listed.get(name) and (folder / name).exists()]


def _seed(stage: Path) -> Any:
    """Return the seed that the summary of results names, which may be one that was drawn."""
    try:
        return json.loads((stage / "summary.json").read_text(encoding="utf-8")).get("seed")
    except (OSError, ValueError, AttributeError):
        return None


def read_manifest(folder: Path) -> list[dict[str, Any]]:
    """Return how the files of a folder were made, the latest command first; raises FileError for a
    folder without a manifest, or one that cannot be read.
    """
    if not (folder / NAME).is_file():
        raise FileError(f"holds no {NAME}, which --out writes", file=str(folder))
    manifest = _entries(folder)
    if not manifest:
        raise FileError("is not a manifest of kindynos", file=str(folder / NAME))
    return manifest


def differences(folder: Path) -> list[str]:
    """Return what in a folder is not as its manifest has it: files that are missing, were changed,
    or are not listed.
    """
    listed = {
        name: digest for made in read_manifest(folder) for name, digest in made["files"].items()
    }
    problems = []
    for name, expected in listed.items():
        path = folder / name
        if not path.is_file():
            problems.append(f"{name} is missing")
        elif checksum(path) != expected:
            problems.append(f"{name} was changed, or is of another run")
    for path in sorted(folder.iterdir()):
        if path.is_file() and path.name != NAME and path.name not in listed:
            problems.append(f"{path.name} is not of these runs")
    return problems


def _entries(folder: Path) -> list[dict[str, Any]]:
    """Return the entries of a folder's manifest; none where it has none of ours."""
    try:
        if (folder / NAME).stat().st_size > MOST_BYTES:
            return []
        manifest = json.loads((folder / NAME).read_text(encoding="utf-8"))
        entries = [manifest, *manifest.get("earlier", [])]
        return [
            {key: value for key, value in made.items() if key != "earlier"}
            for made in entries
            if all(isinstance(item, str) for pair in made["files"].items() for item in pair)
            and not any("/" in name or "\\" in name for name in made["files"])
            and ("origin" not in made or is_origin(made["origin"]))
        ]
    except (OSError, ValueError, TypeError, KeyError, AttributeError):
        return []
