"""Building many small objects that stay, without a search for garbage among them."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def uncollected() -> Iterator[None]:
    """Leave garbage in circles alone inside the block, or the function that it decorates: Python
    looks through all objects again each time their number has grown by a quarter, which for the
    cells of a large workbook takes longer than to make them.
    """
    enabled = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if enabled:
            gc.enable()
