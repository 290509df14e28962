"""Cutting trials into blocks, and blocks into batches."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

LARGEST = 4_096  # trials in a block
MOST_TRIALS = 10_000_000_000  # of a run whose single trials are asked for
FEWEST = 20  # blocks: their spread gives the variance of an estimate
# trials worked on at a time: enough that threads do not wait for each other, few enough for the
# cache
BATCH = 16_384
# values of one row worked on at a time, so that memory stays bounded with many periods
BATCH_VALUES = 262_144
# batches, at least, where there are as many blocks, so that several workers have something to do
SHARES = 4


@dataclass(frozen=True)
class Blocks:
    """The trials 0 to ``trials`` - 1 in ``count`` blocks of nearly equal length, evaluated
    ``together`` at a time.

    A block is a replicate of the sampling plan; a batch of neighbouring blocks is what one worker
    works out in one go. Neither depends on the number of workers.
    """

    trials: int
    count: int
    blocks_per_batch: int = 1
    # trials and blocks that set the bounds, where these are the first of more
    planned: tuple[int, int] | None = None

    @classmethod
    def cut(
        cls, trials: int, periods: int = 0, powers_of_two: bool = False, shares: int = SHARES
    ) -> Blocks:
        """Return the blocks for a number of trials, which alone decides them; the periods bear on
        the batches.

        With ``powers_of_two`` every block has such a size, and the trials are rounded up to fill
        the last one. There are at least as many batches as ``shares``.

        >>> Blocks.cut(100_000).count, Blocks.cut(100_000, powers_of_two=True).trials
        (25, 102400)
        """
        count = min(trials, max(FEWEST, -(-trials // LARGEST)))
        if powers_of_two:
            size = min(2 ** (max(trials // FEWEST, 1).bit_length() - 1), LARGEST)
            count = -(-trials // size)
            trials = count * size
        width = min(BATCH, BATCH_VALUES // max(periods, 1)) * count // trials
        return cls(trials, count, max(1, min(width, count // shares)))

    @classmethod
    def for_rounds(cls, trials: int, periods: int, powers_of_two: bool, fewest: int) -> Blocks:
        """Return blocks as ``cut`` makes them, but at least ``fewest`` and all of one size, for a
        run that grows by rounds.
        """
        cut = cls.cut(trials, periods, powers_of_two)
        size = max(1, cut.trials // max(cut.count, fewest))
        if powers_of_two:
            size = 2 ** (size.bit_length() - 1)
        return cls(size * fewest, fewest, max(1, cut.blocks_per_batch * cut.size(0) // size))

    def first(self, trials: int) -> Blocks:
        """Return the blocks that the first N trials fill; they must fill whole blocks."""
        if trials == self.trials:
            return self
        count = int(np.searchsorted(self.bounds, trials))
        return Blocks(
            trials, count, self.blocks_per_batch, self.planned or (self.trials, self.count)
        )

    def with_more(self, trials: int) -> Blocks:
        """Return these blocks and further ones of their size, which hold at least a number of
        trials more. Batches stay as they are, where these blocks fill them.
        """
        total, count = self.planned or (self.trials, self.count)
        blocks = -(-(self.trials + trials) * count // total)
        whole = self.count % self.blocks_per_batch == 0
        per_batch = self.blocks_per_batch if whole else 1
        return Blocks(blocks * total // count, blocks, per_batch, (total, count))

    def leading(self, trials: int) -> Blocks:
        """Return the first blocks: about that many trials, but at least as many blocks as an error
        needs.
        """
        count = min(
            self.count,
            max(FEWEST // 2, int(np.searchsorted(self.bounds, trials, side="right")) - 1),
        )
        return self.first(int(self.bounds[count]))

    @property
    def bounds(self) -> NDArray[np.int64]:
        """The first trial of each block, and after them the number of trials: ``(count + 1,)``."""
        trials, count = self.planned or (self.trials, self.count)
        return np.arange(self.count + 1) * trials // count

    @property
    def batches(self) -> int:
        """The number of batches."""
        return -(-self.count // self.blocks_per_batch)

    def in_batch(self, batch: int) -> range:
        """The blocks of a batch."""
        return range(
            batch * self.blocks_per_batch, min((batch + 1) * self.blocks_per_batch, self.count)
        )

    def size(self, block: int) -> int:
        """How many trials a block has."""
        return self._first(block + 1) - self._first(block)

    def part(self, batch: int) -> slice:
        """The trials of a batch."""
        blocks = self.in_batch(batch)
        return slice(self._first(blocks.start), self._first(blocks.stop))

    def find(self, trial: int) -> tuple[int, int]:
        """The batch that a trial lies in, and its place there."""
        block = int(np.searchsorted(self.bounds, trial, side="right")) - 1
        batch = block // self.blocks_per_batch
        return batch, trial - self.part(batch).start

    def _first(self, block: int) -> int:
        trials, count = self.planned or (self.trials, self.count)
        return block * trials // count
