"""Packages that only some outputs need, which are asked for before work begins."""

from __future__ import annotations

from importlib.util import find_spec

from kindynos.errors import FileError

# extra: the package to import, and what it is for
NEEDED = {
    "excel": ("xlsxwriter", "a workbook needs XlsxWriter"),
    "report": ("jinja2", "a page needs Jinja2"),
    "parquet": ("pyarrow", "a Parquet file needs pyarrow"),
}


def require(extra: str) -> None:
    """Raise FileError, with the command that installs it, where the package of an extra is
    missing.
    """
    package, purpose = NEEDED[extra]
    try:
        is_there = find_spec(package) is not None
    except (ImportError, ValueError):
        is_there = False
    if not is_there:
        raise FileError(f"{purpose}: pip install 'kindynos[{extra}]'")
