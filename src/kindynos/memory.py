"""Intermediate results that are kept as long as the object that they belong to, and no longer.

Value at risk and expected shortfall at several levels rest on the same fits of the same losses. A
function marked ``remembered`` computes each of them once per object: the object's methods, marked
``with_memory``, open the memory in which its results are found again. Outside of such a method it
computes again, so that nothing is kept once the object is gone. What an object is asked for first
is given up where its results would take more than a quarter of a gigabyte.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import wraps
from typing import Any, ParamSpec, TypeVar

import numpy as np

Arguments = ParamSpec("Arguments")
Answer = TypeVar("Answer")

MOST = 256_000_000  # bytes of the results of one object, with what they are found by


class _Memory(dict[Hashable, Any]):
    """Results by what they are of; the oldest give way."""

    size = 0

    def keep(self, key: Hashable, result: Any) -> None:
        """Keep a result, and as many of the earlier ones as there is room for."""
        self[key] = result
        self.size += _size(key) + _size(result)
        while self.size > MOST and len(self) > 1:
            oldest = next(iter(self))
            self.size -= _size(oldest) + _size(self.pop(oldest))


def _size(value: Any, deep: int = 4) -> int:
    """Return about how many bytes a value takes: those of its arrays and texts, so ``deep``."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, bytes | str):
        return len(value)
    inside: Iterable[Any] = value if isinstance(value, tuple | list) else ()
    if hasattr(value, "__dict__"):
        inside = vars(value).values()
    return 8 + (sum(_size(part, deep - 1) for part in inside) if deep else 0)


_open: ContextVar[_Memory | None] = ContextVar("open", default=None)


def with_memory(method: Callable[Arguments, Answer]) -> Callable[Arguments, Answer]:
    """Let a method of an object find what earlier calls of its methods have computed."""

    @wraps(method)
    def call(*arguments: Arguments.args, **options: Arguments.kwargs) -> Answer:
        memory = vars(arguments[0]).setdefault("_memory", _Memory())
        token = _open.set(memory)
        try:
            return method(*arguments, **options)
        finally:
            _open.reset(token)

    return call


@contextmanager
def remembering() -> Iterator[None]:
    """Keep what remembered functions compute until the end of a block."""
    token = _open.set(_Memory())
    try:
        yield
    finally:
        _open.reset(token)


def remembered(function: Callable[Arguments, Answer]) -> Callable[Arguments, Answer]:
    """Compute an answer once for the same arguments, arrays included, of the object at work."""

    @wraps(function)
    def call(*arguments: Arguments.args, **options: Arguments.kwargs) -> Answer:
        memory = _open.get()
        if memory is None:
            return function(*arguments, **options)
        key = (function, *map(_key, arguments), *((k, _key(v)) for k, v in options.items()))
        if key in memory:
            remembered: Answer = memory[key]
            return remembered
        result = function(*arguments, **options)
        memory.keep(key, result)
        return result

    return call


def _key(value: Any) -> Hashable:
    return (value.shape, value.tobytes()) if isinstance(value, np.ndarray) else value
