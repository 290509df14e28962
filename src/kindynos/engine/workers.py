"""Running batches of blocks on several workers."""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from itertools import islice
from typing import TypeVar

Answer = TypeVar("Answer")

AHEAD = 2  # batches handed out per worker before one comes back: enough to keep it busy, few enough to bound memory


def available() -> int:
    """Return how many workers this process can use at a time."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:  # not on this system
        return os.cpu_count() or 1


def each(task: Callable[[int], Answer], batches: Iterable[int], workers: int) -> Generator[tuple[int, Answer], None, None]:
    """Yield ``(batch, task(batch))`` as batches are done, in any order; closing the iterator stops what has not begun."""
    if workers == 1:
        for batch in batches:
            yield batch, task(batch)
        return
    queue = iter(batches)
    pool = ThreadPoolExecutor(workers, thread_name_prefix="kindynos")
    running: dict[Future[Answer], int] = {}
    try:
        while True:
            for batch in islice(queue, workers * AHEAD - len(running)):
                running[pool.submit(task, batch)] = batch
            if not running:
                return
            for future in wait(running, return_when=FIRST_COMPLETED).done:
                yield running.pop(future), future.result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
