"""Signs of life from long work in the calling thread: who shows progress, or may stop the work, is
asked between two trials.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from kindynos.engine.workers import PULSE

_listener: ContextVar[Callable[[float], None] | None] = ContextVar("listener", default=None)
_next: ContextVar[float] = ContextVar("next", default=0.0)


@contextmanager
def progress_listener(listener: Callable[[float], None] | None) -> Iterator[None]:
    """Have ``report_progress`` call the listener, which may raise, while the context lasts."""
    token = _listener.set(listener)
    _next.set(time.monotonic() + PULSE)
    try:
        yield
    finally:
        _listener.reset(token)


@contextmanager
def part_of_progress(position: int, parts: int) -> Iterator[None]:
    """Have shares of the work in the context told as shares of one of several equal parts."""
    listener = _listener.get()
    if listener is None or parts == 1:
        yield
        return
    token = _listener.set(lambda share: listener((position + share) / parts))
    try:
        yield
    finally:
        _listener.reset(token)


def forwarded_progress() -> Callable[[int, int], None] | None:
    """Return a progress of trials for a simulation inside other work, whose listener it tells; None
    where nobody listens.
    """
    listener = _listener.get()
    if listener is None:
        return None

    def tell(done: int, total: int) -> None:
        listener(done / total)

    return tell


def report_progress(share: float) -> None:
    """Tell the listener, if PULSE seconds have passed since it was last told, which share of the
    work at hand is done.
    """
    listener = _listener.get()
    if listener is not None and time.monotonic() >= _next.get():
        listener(share)
        _next.set(time.monotonic() + PULSE)
