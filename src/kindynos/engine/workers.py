"""Running batches of blocks on several workers: threads of our own, or any executor.

What an executor loses is worked out here, so that nothing that is finished is lost.
"""

from __future__ import annotations

import os
import time
import warnings
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import (
    FIRST_COMPLETED,
    BrokenExecutor,
    CancelledError,
    Executor,
    Future,
    ProcessPoolExecutor,
    ThreadPoolExecutor,
    wait,
)
from itertools import chain, islice
from typing import Any, Generic, TypeVar

from kindynos.engine.carrying import by_value, handed_out
from kindynos.errors import DataWarning, KindynosError, RunError

Answer = TypeVar("Answer")

PULSE = 0.2  # seconds after which a caller who waits hears that the work goes on
# batches handed out per worker before one comes back: enough to keep it busy, few enough to bound
# memory
AHEAD = 2
SILENT = 60.0  # seconds without an answer after which that is said
MOST_LOST = 3  # answers of an executor, after which the rest is worked out here
# errors by which a cluster says that it lost work, by name, since its package may be missing here
LOST = ("CommClosedError", "FutureCancelledError", "TimeoutError", "SchedulerStillAlive")


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
        for argument in listed:
            work(argument)
        return
    with ThreadPoolExecutor(workers, thread_name_prefix="kindynos") as pool:
        list(pool.map(work, listed))


def size_of(executor: Executor) -> int:
    """Return how many workers an executor has, as far as it tells; raises RunError for a cluster
    without any.
    """
    client = getattr(executor, "_client", None)
    if client is not None and hasattr(client, "nthreads"):
        size = sum(client.nthreads().values())
        if size == 0:
            raise RunError("the cluster has no workers; start some, and try again")
        return int(size)
    workers = getattr(executor, "_max_workers", None)
    return workers if isinstance(workers, int) and workers > 0 else usable_cpus()


def run_batches(
    task: Callable[[int], Answer],
    batches: Iterable[int],
    workers: int,
    executor: Executor | None = None,
) -> Generator[tuple[int, Answer] | None, bool | None, None]:
    """Yield ``(batch, task(batch))`` as batches are done, in any order, and None at least every
    PULSE seconds in between.

    Sending True stops: those begun before the last one yielded are finished and yielded, all others
    are dropped. An executor gets the task by value, once for each worker where it can; if its
    workers are lost, their batches are run again here.
    """
    if executor is None and workers == 1:
        for batch in batches:
            if (yield batch, task(batch)):
                return
    elif executor is None:
        with ThreadPoolExecutor(workers, thread_name_prefix="kindynos") as pool:
            yield from _Spread(lambda item: pool.submit(task, item), task, workers).run(batches)
    elif isinstance(executor, ThreadPoolExecutor):
        size, threads = size_of(executor), executor
        yield from _Spread(lambda item: threads.submit(task, item), task, size).run(batches)
    else:
        size = size_of(executor)
        with handed_out(executor, by_value(task)) as submit:
            yield from _Spread(submit, task, size, elsewhere=True).run(batches)


class _Spread(Generic[Answer]):
    """Batches handed to a pool, a few ahead of those that come back. ``task`` does here what the
    pool loses, and all the rest of a pool that has lost several.
    """

    def __init__(
        self,
        submit: Callable[[int], Future[Answer]],
        task: Callable[[int], Answer],
        workers: int,
        elsewhere: bool = False,
    ) -> None:
        self.submit, self.task, self.workers = submit, task, workers
        self.elsewhere = elsewhere
        self.running: dict[Future[Answer], int] = {}
        self.lost = 0
        self.heard, self.warned = time.monotonic(), False

    def run(
        self, batches: Iterable[int]
    ) -> Generator[tuple[int, Answer] | None, bool | None, None]:
        """Yield as ``run_batches`` does."""
        queue, latest = iter(batches), -1
        try:
            while self.lost < MOST_LOST:
                for batch in islice(queue, self.workers * AHEAD - len(self.running)):
                    self.running[self._submitted(batch)] = batch
                if not self.running:
                    return
                finished = self._finished()
                stop = False if finished else bool((yield None))
                for batch, future in finished:
                    latest = max(latest, batch)
                    stop = bool((yield batch, self._answer(future, batch))) or stop
                if stop:
                    queue = iter(())
                    self._drop_after(latest)
            rest = chain(sorted(self.running.values()), queue)
            self._cancel()
            yield from run_batches(self.task, rest, usable_cpus())
        finally:
            self._cancel()

    def _submitted(self, batch: int) -> Future[Answer]:
        """Return the future of a batch; one that is lost where the executor is broken."""
        try:
            return self.submit(batch)
        except BrokenExecutor as error:
            future: Future[Answer] = Future()
            future.set_exception(error)
            return future
        except RuntimeError as error:  # it was shut down
            raise RunError(f"the executor takes no work: {error}") from None

    def _finished(self) -> list[tuple[int, Future[Answer]]]:
        """Return the batches that are done, after PULSE seconds at the most; says so when none has
        come back from elsewhere for long.
        """
        done = wait(self.running, PULSE, return_when=FIRST_COMPLETED).done
        done |= {future for future in self.running if future.cancelled()}  # unseen by wait
        now = time.monotonic()
        if done:
            self.heard = now
        elif self.elsewhere and not self.warned and now - self.heard > SILENT:
            self.warned = True
            warnings.warn(
                f"none of {len(self.running)} batches has come back for {SILENT:.0f} s from an "
                f"executor of {self.workers} workers; are they still connected? The run goes on "
                "waiting, and an interrupt keeps what is done",
                DataWarning,
                stacklevel=2,
            )
        return [(self.running.pop(future), future) for future in done]

    def _drop_after(self, latest: int) -> None:
        """Cancel what has not begun, and forget what comes after the latest batch."""
        self.running = {
            future: batch
            for future, batch in self.running.items()
            if not future.cancel() and batch < latest
        }

    def _cancel(self) -> None:
        for future in self.running:
            future.cancel()
        self.running = {}

    def _answer(self, future: Future[Answer], batch: int) -> Answer:
        """Return what a batch gave; where its worker was lost it is worked out here."""
        try:
            return future.result()
        except (BrokenExecutor, CancelledError):
            self.lost += 1
            return self.task(batch)  # with the worker nothing but this batch was lost
        except Exception as error:
            if not self.elsewhere or isinstance(error, KindynosError):
                raise
            return self._after(error, batch)

    def _after(self, error: Exception, batch: int) -> Answer:
        """Return a batch after an error of a worker elsewhere, or raise what it means."""
        kind = type(error).__name__
        if kind in LOST:
            self.lost += 1
            return self.task(batch)
        if kind == "KilledWorker":
            return _in_a_process(self.task, batch)
        if isinstance(error, ImportError):
            raise RunError(
                f"a worker cannot load what the run needs ({error}); install kindynos there, and "
                "the packages of the model"
            ) from None
        if "deserializ" in str(error).lower():
            raise RunError(
                "a worker cannot read what was sent; install the same versions of kindynos, "
                "cloudpickle and Python there"
            ) from None
        raise error


def _in_a_process(task: Callable[[int], Answer], batch: int) -> Answer:
    """Return a batch that killed its workers, worked out in a process of its own, so that this one
    lives; raises RunError where it is killed too.
    """
    with ProcessPoolExecutor(1) as pool:
        try:
            returned: Answer = pool.submit(by_value(task), batch).result()
        except BrokenExecutor:
            raise RunError(
                f"batch {batch} killed each worker that had it, and a process here as well: a "
                "function crashes, or takes more memory than there is"
            ) from None
    return returned
