"""Running batches of blocks on several workers: threads of our own, or any executor."""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import (
    FIRST_COMPLETED,
    BrokenExecutor,
    Executor,
    Future,
    ThreadPoolExecutor,
    wait,
)
from functools import lru_cache
from itertools import islice
from threading import get_ident
from typing import Any, TypeVar

from kindynos.errors import RunError

Answer = TypeVar("Answer")

PULSE = 0.2  # seconds after which a caller who waits hears that the work goes on
# batches handed out per worker before one comes back: enough to keep it busy, few enough to bound
# memory
AHEAD = 2


def usable_cpus() -> int:
    """Return how many workers this process can use at a time."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:  # not on this system
        return os.cpu_count() or 1


def on_threads(work: Callable[[Any], object], items: Iterable[Any]) -> None:
    """Call ``work`` for every item, on as many threads as this process may use; an error in one is
    raised here.
    """
    listed = list(items)
    workers = min(len(listed), usable_cpus())
    if workers < 2:
        for item in listed:
            work(item)
        return
    with ThreadPoolExecutor(workers, thread_name_prefix="kindynos") as pool:
        list(pool.map(work, listed))


def run_batches(
    task: Callable[[int], Answer],
    batches: Iterable[int],
    workers: int,
    executor: Executor | None = None,
) -> Generator[tuple[int, Answer] | None, bool | None, None]:
    """Yield ``(batch, task(batch))`` as batches are done, in any order, and None at least every
    PULSE seconds in between.

    Sending True stops: those begun before the last one yielded are finished and yielded, all others
    are dropped. An executor gets the task by value; if its workers are lost, their batches are run
    again here.
    """
    if executor is None and workers == 1:
        for batch in batches:
            if (yield batch, task(batch)):
                return
    elif executor is None:
        with ThreadPoolExecutor(workers, thread_name_prefix="kindynos") as pool:
            yield from _spread(pool, task, task, batches, workers)
    else:
        run = task if isinstance(executor, ThreadPoolExecutor) else by_value(task)
        yield from _spread(executor, run, task, batches, workers)


def _spread(
    pool: Executor,
    run: Callable[[int], Answer],
    task: Callable[[int], Answer],
    batches: Iterable[int],
    workers: int,
) -> Generator[tuple[int, Answer] | None, bool | None, None]:
    """Hand batches to a pool, a few ahead of those that come back; ``task`` does here what the pool
    loses of ``run``.
    """
    queue = iter(batches)
    running: dict[Future[Answer], int] = {}
    latest = -1
    try:
        while True:
            for batch in islice(queue, workers * AHEAD - len(running)):
                running[_submit(pool, run, task, batch)] = batch
            if not running:
                return
            done = wait(running, PULSE, return_when=FIRST_COMPLETED).done
            found = [(running.pop(future), future) for future in done]
            stop = False if found else bool((yield None))
            for batch, future in found:
                latest = max(latest, batch)
                stop = bool((yield batch, _answer(future, task, batch))) or stop
            if stop:
                queue = iter(())
                running = {
                    future: batch
                    for future, batch in running.items()
                    if not future.cancel() and batch < latest
                }
    finally:
        for future in running:
            future.cancel()


def _submit(
    pool: Executor, run: Callable[[int], Answer], task: Callable[[int], Answer], batch: int
) -> Future[Answer]:
    try:
        return pool.submit(run, batch)
    except BrokenExecutor:
        future: Future[Answer] = Future()
        future.set_result(task(batch))
        return future
    except RuntimeError as error:  # it was shut down
        raise RunError(f"the executor takes no work: {error}") from None


def _answer(future: Future[Answer], task: Callable[[int], Answer], batch: int) -> Answer:
    try:
        return future.result()
    except BrokenExecutor:
        return task(batch)  # the worker was lost, and with it nothing but this batch


def by_value(task: Callable[..., Any]) -> Callable[[int], Any]:
    """Return the task as something any process can call; raises RunError without cloudpickle.

    The model travels with its functions as they are now, also those of a notebook or a script.
    """
    try:
        import cloudpickle
    except ImportError:
        raise RunError(
            "running in other processes needs cloudpickle: pip install 'kindynos[cluster]'"
        ) from None
    try:
        return _Carried(cloudpickle.dumps(task))
    # a lock, an open file, a connection: objects may refuse to be copied in any way
    except Exception as error:
        raise RunError(f"the model cannot be sent to other processes: {error}") from error


class _Carried:
    """A task as bytes, unpacked once in each thread of a process."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def __call__(self, batch: int) -> Any:
        return _unpacked(self.data, get_ident())(batch)


@lru_cache(maxsize=16)
def _unpacked(data: bytes, thread: int) -> Callable[[int], Any]:
    """Return the task for a thread, of which each has its own: the functions in it may keep
    state.
    """
    import cloudpickle

    task: Callable[[int], Any] = cloudpickle.loads(data)
    return task
