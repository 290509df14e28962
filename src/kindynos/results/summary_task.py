"""The work of a run that keeps only summaries: a batch is drawn and evaluated as ever, and
reduced where that is done, so that kilobytes travel.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.accumulate import BlockSums, Wanted, gather
from kindynos.engine.simulation import BatchResult
from kindynos.errors import RunError
from kindynos.program.batch import BatchTask
from kindynos.results.held_conditions import broken_periods


@dataclass(frozen=True)
class SummaryTask:
    """Works out a batch and gathers what is wanted of each outcome, by its name, and its products
    with drivers that are one number; of conditions that must hold, in which trials they do.
    """

    task: BatchTask
    wanted: Mapping[str, Wanted]
    drivers: tuple[str, ...] = ()
    checks: frozenset[str] = frozenset()

    def __call__(self, batch: int) -> BatchResult:
        """Evaluate one batch; raises RunError for a trial that fails."""
        task = self.task(batch)
        blocks = self.task.blocks
        first = blocks.part(batch).start
        inside = blocks.in_batch(batch)
        bounds = [0]
        for block in inside:
            bounds.append(bounds[-1] + blocks.size(block))
        assert first + bounds[-1] == blocks.part(batch).stop
        drawn = np.array([task.values[name] for name in self.drivers]).reshape(-1, bounds[-1])
        sums = {
            name: gather(self._values(name, task.values[name]), bounds, requested, drawn)
            for name, requested in self.wanted.items()
        }
        return BatchResult(sums, task.notes)

    def _values(self, name: str, values: Floats) -> Floats:
        """Return the values of an outcome; of a condition 1 in each trial in which it holds, and
        none in the others.
        """
        if name not in self.checks:
            return np.asarray(values)
        return np.where(broken_periods(values) == 0, 1.0, np.nan)

    def verify(self, batch: int, batch_result: BatchResult) -> None:
        """Work out a batch here, and compare it with what a worker gave; raises RunError where they
        differ by more than the last digits.
        """
        here = self(batch)
        for name in self.wanted:
            mine: BlockSums = here.values[name]
            other: BlockSums = batch_result.values[name]
            same = np.array_equal(mine.valid, other.valid) and np.allclose(
                mine.powers, other.powers, rtol=1e-9, atol=0, equal_nan=True
            )
            if not same:
                raise RunError(
                    f"the workers give other values of {name!r} than this process; a function was "
                    "edited after they had started, or they read other files: start them again"
                )
