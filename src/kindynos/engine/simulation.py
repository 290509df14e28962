"""Working out all batches of blocks and putting their answers side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from numpy.typing import NDArray

from kindynos.engine.blocks import Blocks
from kindynos.engine.workers import available, each
from kindynos.errors import StoppedError

Floats = NDArray[np.float64]
Progress = Callable[[int, int], object]
Note = tuple[str, str]  # the line, and what is to be said of some of its trials


@dataclass(frozen=True)
class BatchAnswer:
    """What one batch gives: arrays with the batch's trials last, and counts of trials with something to be said."""

    values: Mapping[str, Floats]
    notes: Mapping[Note, int] = field(default_factory=dict)


@dataclass
class Collected:
    """All batches side by side: arrays with all trials last, the counts added up, and how many trials are complete."""

    values: dict[str, Floats]
    notes: Counter[Note]
    done: int = 0


@dataclass(frozen=True)
class Crew:
    """Who works: so many threads, or an executor; and who is told of the progress."""

    workers: int | None = None
    executor: Executor | None = None
    progress: Progress | None = None


def collect(task: Callable[[int], BatchAnswer], blocks: Blocks, crew: Crew, begin: int = 0) -> Collected:
    """Run ``task`` for every batch from ``begin`` on and join the answers; earlier trials are left empty.

    ``progress(done, total)`` counts trials and is called from the calling thread after each batch; when it returns False the
    work stops, and ``done`` says how many trials, from the first on, are complete. Raises StoppedError, which says how many
    were done, on an interrupt from the keyboard; an error in a task is raised as it is.
    """
    _keep_freed_memory()
    values: dict[str, Floats] = {}
    notes: Counter[Note] = Counter()
    done, stop = blocks.part(begin).start if begin < blocks.batches else blocks.trials, None
    answers = each(task, range(begin, blocks.batches), crew.workers or available(), crew.executor)
    try:
        while True:
            try:
                batch, answer = answers.send(stop)
            except StopIteration:
                break
            for name, part in answer.values.items():
                if name not in values:
                    values[name] = np.empty((*part.shape[:-1], blocks.trials))
                values[name][..., blocks.part(batch)] = part
            notes.update(answer.notes)
            done += blocks.part(batch).stop - blocks.part(batch).start
            stop = crew.progress is not None and crew.progress(done, blocks.trials) is False
    except KeyboardInterrupt:
        raise StoppedError(done, blocks.trials) from None
    finally:
        answers.close()
    return Collected(values, notes, done)


@cache
def _keep_freed_memory() -> None:
    """Let the C library keep freed arrays for the next ones instead of handing every page back to the system.

    glibc does so up to the size of the largest block freed so far; without this, arrays of a few hundred kilobytes cost more
    in page faults than in arithmetic. The block is never touched, so it costs nothing. Elsewhere this does no harm.
    """
    np.empty(4_000_000)  # just under glibc's largest threshold, 32 MiB
