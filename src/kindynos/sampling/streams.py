"""Random streams: each is keyed by what it is for, so no draw depends on order, on workers or on
other streams.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from hashlib import blake2b
from typing import Any

import numpy as np
from numpy.random.bit_generator import ISeedSequence
from numpy.typing import DTypeLike, NDArray

from kindynos.validate import check_integer, invalid_argument

LARGEST_SEED = 2**64 - 1


class _Key(ISeedSequence):
    """Words of state taken from a hash; NumPy's bit generators ask it for their seed."""

    def __init__(self, digest: bytes) -> None:
        self.digest = digest

    def generate_state(self, n_words: int, dtype: DTypeLike = np.uint32) -> NDArray[Any]:
        return np.frombuffer(self.digest, dtype=dtype, count=n_words)


def stream(seed: int, *fields: str | int) -> np.random.Generator:
    """Return the generator for a seed and the fields that say what it is for.

    The fields are hashed with their lengths, so ``("ab", "c")`` and ``("a", "bc")`` differ.

    >>> bool(stream(1, "load", 0).random() == stream(1, "load", 0).random())
    True
    """
    digest = blake2b(digest_size=64)
    for field in (seed, *fields):
        data = str(field).encode()
        digest.update(len(data).to_bytes(8, "little"))
        digest.update(data)
    # any seed sequence serves, though NumPy's types name one class
    key: Any = _Key(digest.digest())
    return np.random.Generator(np.random.SFC64(key))


Seed = int | np.random.Generator | None


CHOSEN: ContextVar[list[int] | None] = ContextVar("CHOSEN", default=None)


@contextmanager
def seeds_chosen() -> Iterator[list[int]]:
    """Yield the seeds that are chosen since none was given, as they come, so that a command can say
    how its result is made again.
    """
    seeds: list[int] = []
    token = CHOSEN.set(seeds)
    try:
        yield seeds
    finally:
        CHOSEN.reset(token)


def checked_seed(seed: Seed) -> int:
    """Return a seed: the one given, one drawn from a generator, or for None a fresh one of nine
    digits, so that a person can write it down. Raises ParameterError for anything else.

    >>> checked_seed(7), checked_seed(np.random.default_rng(1)) == checked_seed(None)
    (7, False)
    """
    if seed is None:
        chosen = secrets.randbelow(10**9)
        noted = CHOSEN.get()
        if noted is not None:
            noted.append(chosen)
        return chosen
    if isinstance(seed, np.random.Generator):
        return int(seed.integers(2**63))
    if check_integer("seed", seed, least=0) > LARGEST_SEED:
        raise invalid_argument("seed", "below 2**64", seed)
    return int(seed)
