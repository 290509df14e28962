"""Cutting trials into blocks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

LARGEST = 4_096  # trials in a block: its arrays stay in the processor's cache, and memory stays bounded
FEWEST = 20  # blocks: their spread gives the variance of an estimate


@dataclass(frozen=True)
class Blocks:
    """The trials 0 to ``trials`` - 1 in ``count`` runs of nearly equal length."""

    trials: int
    count: int

    @classmethod
    def cut(cls, trials: int) -> Blocks:
        """Return the blocks for a number of trials; nothing else decides them.

        >>> Blocks.cut(100_000).count
        25
        """
        return cls(trials, min(trials, max(FEWEST, -(-trials // LARGEST))))

    @property
    def bounds(self) -> NDArray[np.int64]:
        """The first trial of each block, and after them the number of trials: ``(count + 1,)``."""
        return np.arange(self.count + 1) * self.trials // self.count

    def part(self, block: int) -> slice:
        """The trials of a block."""
        return slice(block * self.trials // self.count, (block + 1) * self.trials // self.count)

    def size(self, block: int) -> int:
        """How many trials a block has."""
        part = self.part(block)
        return int(part.stop - part.start)

    def holding(self, trial: int) -> int:
        """The block that a trial lies in."""
        return int(np.searchsorted(self.bounds, trial, side="right")) - 1
