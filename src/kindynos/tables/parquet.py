"""The library of Parquet files, which is optional."""

from __future__ import annotations

from typing import Any

from kindynos.errors import FileError


def parquet_of() -> tuple[Any, Any]:
    """Return pyarrow and its Parquet module; raises FileError without them."""
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise FileError(
            "saving and opening runs needs pyarrow: pip install 'kindynos[parquet]'"
        ) from None
    return pyarrow, pyarrow.parquet
