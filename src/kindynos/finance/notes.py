"""Saying something about some trials without stopping the others.

A calculation calls ``note("no IRR", count)``; whoever runs it may listen with ``listening()`` and
gets the counts. Without a listener nothing happens. The listener is a context variable, so that
workers do not hear each other.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_listener: ContextVar[Counter[tuple[str, str]] | None] = ContextVar("listener", default=None)


def note(text: str, trials: int, line: str = "") -> None:
    """Tell the listener, if there is one, in how many trials ``text`` holds, of a named line where
    several are worked out together.
    """
    counts = _listener.get()
    if counts is not None and trials:
        counts[line, text] += trials


@contextmanager
def listening() -> Iterator[Counter[tuple[str, str]]]:
    """Collect the notes made inside the block."""
    counts: Counter[tuple[str, str]] = Counter()
    token = _listener.set(counts)
    try:
        yield counts
    finally:
        _listener.reset(token)
