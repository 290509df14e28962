"""Working out all blocks and putting their answers side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kindynos.engine.blocks import Blocks
from kindynos.engine.workers import available, each
from kindynos.errors import StoppedError

Floats = NDArray[np.float64]
Progress = Callable[[int, int], object]
Note = tuple[str, str]  # the line, and what is to be said of some of its trials


@dataclass(frozen=True)
class BlockAnswer:
    """What one block gives: arrays with the block's trials last, and counts of trials with something to be said."""

    values: Mapping[str, Floats]
    notes: Mapping[Note, int] = field(default_factory=dict)


@dataclass
class Collected:
    """All blocks side by side: arrays with all trials last, and the counts added up."""

    values: dict[str, Floats]
    notes: Counter[Note]


def collect(
    task: Callable[[int], BlockAnswer],
    blocks: Blocks,
    *,
    workers: int | None = None,
    progress: Progress | None = None,
) -> Collected:
    """Run ``task`` for every block and join the answers.

    ``progress(done, total)`` counts trials and is called from the calling thread after each block. Raises StoppedError,
    which says how many trials were done, on an interrupt from the keyboard; an error in a task is raised as it is.
    """
    values: dict[str, Floats] = {}
    notes: Counter[Note] = Counter()
    done = 0
    answers = each(task, range(blocks.count), workers or available())
    try:
        for block, answer in answers:
            for name, part in answer.values.items():
                if name not in values:
                    values[name] = np.empty((*part.shape[:-1], blocks.trials))
                values[name][..., blocks.part(block)] = part
            notes.update(answer.notes)
            done += blocks.size(block)
            if progress is not None:
                progress(done, blocks.trials)
    except KeyboardInterrupt:
        raise StoppedError(done, blocks.trials) from None
    finally:
        answers.close()
    return Collected(values, notes)
