"""Working out all batches of blocks and putting their answers side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.blocks import Blocks
from kindynos.engine.fingerprint import processor
from kindynos.engine.progress import progress_listener
from kindynos.engine.workers import run_batches, usable_cpus
from kindynos.errors import RunError, RunInterrupt

Progress = Callable[[int, int], object]
Note = tuple[str, str]  # the line, and what is to be said of some of its trials


@dataclass(frozen=True)
class BatchResult:
    """What one batch gives: arrays with the batch's trials last, counts of trials with something
    to be said, and the kind of processor that worked it out.
    """

    values: Mapping[str, Any]
    notes: Mapping[Note, int] = field(default_factory=dict)
    processor: str = field(default_factory=processor)


@dataclass
class SimulationOutput:
    """All batches side by side: arrays with all trials last, the counts added up, how many trials
    are complete, and the kinds of processors that worked them out.
    """

    values: dict[str, Floats]
    notes: Counter[Note]
    done: int = 0
    processors: tuple[str, ...] = ()


@dataclass(frozen=True)
class Execution:
    """How the work is carried out: how many threads or which executor, and where progress is
    reported.
    """

    workers: int | None = None
    executor: Executor | None = None
    progress: Progress | None = None


def collect(
    task: Callable[[int], BatchResult],
    blocks: Blocks,
    execution: Execution,
    begin: int = 0,
    verify: Callable[[int, BatchResult], object] | None = None,
    sink: Callable[[int, BatchResult], object] | None = None,
    finished: Collection[int] = (),
) -> SimulationOutput:
    """Run ``task`` for every batch from ``begin`` on and join the answers; earlier trials are left
    empty.

    ``progress(done, total)`` counts trials and is called from the calling thread, after each batch
    and at least every fifth of a second where the work can be watched; when it returns False the
    work stops, and ``done`` says how many trials, from the first on, are complete. Raises
    RunInterrupt, which says how many were done, on an interrupt from the keyboard; an error in a
    task is raised as it is, and RunError where the memory runs out. ``verify`` is called with the
    first batch that comes back. A ``sink`` takes the answers of batches instead of their being
    joined; those that are ``finished`` are left out.
    """
    _keep_freed_memory()
    values: dict[str, Floats] = {}
    notes: Counter[Note] = Counter()
    processors: set[str] = set()
    state = _State(blocks, execution.progress, begin)
    for batch in finished:
        state.finish(batch)
    remaining = (batch for batch in range(begin, blocks.batches) if batch not in finished)
    answers = run_batches(task, remaining, execution.workers or usable_cpus(), execution.executor)
    try:
        with progress_listener(state.listen if execution.progress is not None else None):
            stop = None
            while True:
                outputs = answers.send(stop)
                if outputs is not None:
                    batch, result = outputs
                    if verify is not None and not processors:
                        verify(batch, result)
                    processors.add(result.processor)
                    if sink is None:
                        _join(values, result, blocks, batch)
                    else:
                        sink(batch, result)
                    notes.update(result.notes)
                    state.finish(batch)
                stop = state.stops()
    except (StopIteration, _Stop):
        pass
    except KeyboardInterrupt:
        stopped = RunInterrupt(state.done, blocks.trials)
        stopped.output = SimulationOutput(values, notes, state.leading, tuple(processors))
        raise stopped from None
    except MemoryError:
        raise RunError(
            f"the memory ran out after {state.done:,} of {blocks.trials:,} trials; keep fewer rows "
            '(keep=), use fewer workers=, or store="summary", which keeps no trials'
        ) from None
    finally:
        answers.close()
    return SimulationOutput(values, notes, state.leading, tuple(sorted(processors)))


def _join(values: dict[str, Floats], batch_result: BatchResult, blocks: Blocks, batch: int) -> None:
    """Put the values of a batch in their place among all trials."""
    for name, part in batch_result.values.items():
        if name not in values:
            values[name] = np.empty((*part.shape[:-1], blocks.trials))
        values[name][..., blocks.part(batch)] = part


class _Stop(BaseException):
    """Progress was answered with False in the midst of a batch."""


class _State:
    """Which batches are finished, and who hears of it; the first ``begun`` of them were before."""

    def __init__(self, blocks: Blocks, progress: Progress | None, begun: int) -> None:
        self.blocks, self.progress = blocks, progress
        self.first = begun  # the first batch that is not finished
        self.later: set[int] = set()  # those finished after it
        self.done = blocks.part(begun - 1).stop if begun else 0  # trials that are finished

    def finish(self, batch: int) -> None:
        """Remember that a batch is finished."""
        span = self.blocks.part(batch)
        self.done += span.stop - span.start
        self.later.add(batch)
        while self.first in self.later:
            self.later.remove(self.first)
            self.first += 1

    @property
    def leading(self) -> int:
        """How many trials are finished before the first that is not."""
        if self.first >= self.blocks.batches:
            return self.blocks.trials
        return int(self.blocks.part(self.first).start)

    def stops(self, under_way: int = 0) -> bool:
        """Report how far the work is, and return whether it is to stop."""
        return (
            self.progress is not None
            and self.progress(self.done + under_way, self.blocks.trials) is False
        )

    def listen(self, share: float) -> None:
        """Be told of a share of the batch that is worked on in this thread; raises _Stop."""
        span = self.blocks.part(self.first)
        if self.stops(int(share * (span.stop - span.start))):
            raise _Stop


@cache
def _keep_freed_memory() -> None:
    """Let the C library keep freed arrays for the next ones instead of handing every page back to
    the system.

    glibc does so up to the size of the largest block freed so far; without this, arrays of a few
    hundred kilobytes cost more in page faults than in arithmetic. The block is never touched, so it
    costs nothing. Elsewhere this does no harm.
    """
    np.empty(4_000_000)  # just under glibc's largest threshold, 32 MiB
