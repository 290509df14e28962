"""The made-up data of Larkholm Ferries, an invented company."""

from __future__ import annotations

from pathlib import Path

from kindynos.errors import FileError
from kindynos.validate import checked


@checked
def demo_file(name: str) -> Path:
    """Return the path of a demo file, such as ``"night_ferry.toml"``; raises FileError, with the
    nearest spelling.

    >>> demo_file("berths.toml").name
    'berths.toml'
    """
    folder = Path(__file__).parent
    names = [path.name for path in folder.iterdir() if path.suffix in (".toml", ".csv", ".xlsx")]
    if not isinstance(name, str) or name not in names:
        raise FileError(f"no demo file {name!r}", unknown=name, known=names)
    return folder / name
