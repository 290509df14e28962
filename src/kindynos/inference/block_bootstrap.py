"""Histories drawn again from one, in blocks, so that what follows each other stays together."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def block_positions(
    generator: np.random.Generator, histories: int, count: int, length: float
) -> NDArray[np.int64]:
    """Return positions in a history of ``count`` values ``(histories, count)``, in stretches of
    ``length`` on average that go round at its end.

    The stationary bootstrap of Politis and Romano, Journal of the American Statistical Association
    89 (1994), 1303-1313.

    >>> block_positions(np.random.default_rng(1), 1, 6, 1e9)  # one stretch
    array([[2, 3, 4, 5, 0, 1]])
    """
    starts = generator.integers(0, count, (histories, count))
    begins = generator.random((histories, count)) < 1 / max(length, 1.0)
    begins[:, 0] = True
    steps = np.arange(count)
    begun = np.maximum.accumulate(np.where(begins, steps, 0), axis=1)
    first = np.take_along_axis(starts, begun, axis=1)
    return np.asarray((first + steps - begun) % count)
