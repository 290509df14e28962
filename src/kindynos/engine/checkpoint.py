"""What a long run has done so far, in a file: written whole or not at all, and read again only for
the same run.
"""

from __future__ import annotations

import json
import time
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.atomic import check_writable, replacing
from kindynos.errors import FileError
from kindynos.sealing import seal_of_arrays

EVERY = 10.0  # seconds between two checkpoints
FORMAT = 2


class Checkpoint:
    """A file with the arrays of a run, by what it is a run of (``about``)."""

    def __init__(self, path: Path, about: Mapping[str, Any]) -> None:
        self.path = path
        self.about = json.loads(json.dumps({"format": FORMAT, **about}))
        self.written = time.monotonic()
        check_writable(path)

    def read(self) -> dict[str, NDArray[Any]] | None:
        """Return the arrays, None where there is no file yet. Raises FileError for a file that is
        none, or of another run, saying in what it differs.
        """
        if not self.path.exists():
            return None
        try:
            with zipfile.ZipFile(self.path) as file:  # packed, it could be as large as it likes
                if any(entry.compress_type != zipfile.ZIP_STORED for entry in file.infolist()):
                    raise zipfile.BadZipFile
            with np.load(self.path, allow_pickle=False) as stored:
                arrays = {name: stored[name] for name in stored.files}
            seal = str(arrays.pop("seal"))
            sealed = seal == seal_of_arrays(arrays)
            about = json.loads(str(arrays.pop("about")))
        # whatever a damaged file makes its readers raise
        except Exception:
            raise FileError("is damaged, or no checkpoint", file=str(self.path)) from None
        if not sealed or not isinstance(about, dict):
            raise FileError("was changed since it was written", file=str(self.path))
        for name, value in self.about.items():
            if about.get(name) != value:
                raise FileError(
                    f"is of another run: its {name} is {about.get(name)!r:.60}, and this one's "
                    f"{value!r:.60}; give another file, or remove it",
                    file=str(self.path),
                )
        return arrays

    def due(self) -> bool:
        """Whether it is time to write again."""
        return time.monotonic() - self.written > EVERY

    def write(self, arrays: Mapping[str, NDArray[Any]]) -> None:
        """Write the arrays."""
        with replacing(self.path) as temporary, temporary.open("wb") as file:
            by_name: dict[str, Any] = {**arrays, "about": np.array(json.dumps(self.about))}
            np.savez(file, **by_name, seal=np.array(seal_of_arrays(by_name)))
        self.written = time.monotonic()
