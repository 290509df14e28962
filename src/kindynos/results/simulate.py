"""Simulating a program: every batch of blocks drawn and worked out, and what was asked for kept."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Executor, ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from dataclasses import replace as replaced
from multiprocessing import get_all_start_methods, get_context

import numpy as np
from numpy.typing import NDArray

from kindynos.engine.blocks import Blocks
from kindynos.engine.precision import FEWEST_BLOCKS, Precision, as_aims, next_count
from kindynos.engine.simulation import BatchAnswer, Crew, Progress, collect
from kindynos.engine.workers import available
from kindynos.errors import ModelError, RunError, StoppedError, TrialError, nearest
from kindynos.model.program import Program
from kindynos.results.run import Run
from kindynos.sampling.plans import Plan, plan_named
from kindynos.sampling.streams import LARGEST_SEED, fresh_seed
from kindynos.validate import one_of, whole, wrong

Floats = NDArray[np.float64]

PATIENCE = 2.0  # seconds of work by single trials from which on processes pay


@dataclass(frozen=True)
class Settings:
    """How to simulate; see Model.simulate."""

    trials: int = 10_000
    seed: int | None = None
    sampling: str = "latin"
    workers: int | None = None
    executor: Executor | None = None
    progress: Progress | None = None
    keep: Iterable[str] | None = None
    on_bad: str = "count"
    until: Precision | Sequence[Precision] | None = None
    at_most: int = 10_000_000
    on_start: Callable[[int], object] | None = None
    on_finish: Callable[[Run], object] | None = None

    def checked_seed(self) -> int:
        """Return the seed, or one chosen; raises ParameterError for a wrong one, and for every other wrong setting."""
        whole("simulate", "trials", self.trials, least=1)
        whole("simulate", "at_most", self.at_most, least=1)
        if self.workers is not None:
            whole("simulate", "workers", self.workers, least=1)
        one_of("simulate", "on_bad", self.on_bad, ("count", "error"))
        if self.executor is not None and not isinstance(self.executor, Executor):
            raise wrong("simulate", "executor", "a concurrent.futures.Executor", self.executor)
        seed = fresh_seed() if self.seed is None else whole("simulate", "seed", self.seed, least=0)
        if seed > LARGEST_SEED:
            raise wrong("simulate", "seed", "below 2**64", seed)
        return seed


def simulate(program: Program, settings: Settings) -> Run:
    """Return the run of a program; see Model.simulate for the settings and errors."""
    seed = settings.checked_seed()
    plan = plan_named(settings.sampling)
    kept = _kept(program, settings.keep)
    if settings.on_start is not None:
        settings.on_start(settings.trials)
    with processes_where_they_pay(program.seconds_a_trial * settings.trials, settings) as executor:
        run = _run(program, plan, seed, kept, replaced(settings, executor=executor))
    if settings.on_finish is not None:
        settings.on_finish(run)
    return run


@contextmanager
def processes_where_they_pay(seconds: float, settings: Settings) -> Iterator[Executor | None]:
    """Give the executor of the settings; without one, for long work of one trial at a time, a pool of processes.

    Threads would not help there, since the interpreter runs one at a time. Only where processes can be forked: others would run
    a script without a main guard again.
    """
    workers = settings.workers or available()
    if settings.executor is not None or seconds < PATIENCE or workers < 2 or "fork" not in get_all_start_methods():
        yield settings.executor
        return
    with ProcessPoolExecutor(workers, get_context("fork")) as pool:
        yield pool


def _run(program: Program, plan: Plan, seed: int, kept: list[str], settings: Settings) -> Run:
    if settings.until is None:
        blocks = Blocks.cut(settings.trials, program.periods, plan.powers_of_two)
        run = _fresh(program, plan, seed, blocks, kept, settings)
        run.rounded_from = settings.trials if blocks.trials > settings.trials else None
    else:
        run = _until(program, plan, seed, kept, settings)
    return run


def _fresh(
    program: Program, plan: Plan, seed: int, blocks: Blocks, kept: list[str], settings: Settings, old: Run | None = None
) -> Run:
    """Return a run of the blocks, of which an earlier run may have the first."""
    task = BatchTask(program, plan, seed, blocks, tuple(kept))
    checked = _refusing_bad(task) if settings.on_bad == "error" else task
    begin = old.blocks.batches if old else 0
    found = collect(checked, blocks, Crew(settings.workers, settings.executor, settings.progress), begin)
    values, notes = found.values, found.notes
    if old is not None:
        for name in kept:
            before = old[name].values
            if name not in values:  # stopped before the first batch of this round
                values[name] = np.empty((*before.shape[:-1], blocks.trials))
            values[name][..., : old.size] = before
        notes.update(old.all_notes)
    if found.done < blocks.trials:
        if found.done == 0:
            raise StoppedError(0, blocks.trials)
        values = {name: value[..., : found.done] for name, value in values.items()}
    return Run(program, plan, seed, blocks.first(found.done), values, dict(notes), asked=blocks.trials)


def _until(program: Program, plan: Plan, seed: int, kept: list[str], settings: Settings) -> Run:
    """Return a run that has grown by rounds of equal blocks until all aims are met, or ``at_most`` trials are reached."""
    aims = as_aims(settings.until)
    for aim in aims:
        if aim.outcome not in kept:
            raise ModelError(f"until: {aim.outcome!r} is no outcome{nearest(aim.outcome, program.outcomes)}")
    first = Blocks.cut(settings.trials, program.periods, plan.powers_of_two)
    size = max(1, first.trials // max(first.count, FEWEST_BLOCKS))
    if plan.powers_of_two:
        size = 2 ** (size.bit_length() - 1)
    together = max(1, first.together * first.size(0) // size)
    most = max(settings.at_most // size, FEWEST_BLOCKS)
    count, run = FEWEST_BLOCKS, None
    while True:
        count = min(-(-count // together) * together, most)
        run = _fresh(program, plan, seed, Blocks(size * count, count, together), kept, settings, run)
        missing = max(_missing(run, aim) for aim in aims)
        if missing <= 1 or run.partial or count >= most:
            run.aims = [(aim, _missing(run, aim) <= 1) for aim in aims]
            return run
        count = next_count(count, missing)


def _missing(run: Run, aim: Precision) -> float:
    result = run[aim.outcome]
    if result.is_row:
        raise ModelError(f"until: {aim.outcome!r} is a row; aim at a number, such as last({aim.outcome})")
    figure = result.figure(aim.statistic, *aim.arguments, **aim.options)
    return aim.missing(float(figure), figure.error)


def _kept(program: Program, keep: Iterable[str] | None) -> list[str]:
    names = [name for name, driver in program.drivers.items() if driver.each is None] + program.outcomes
    for name in [keep] if isinstance(keep, str) else keep or ():
        if name not in program.kinds or program.kinds[name].table:
            raise ModelError(f"keep: {name!r} is no driver, line or outcome{nearest(name, program.kinds)}")
        if name not in names:
            names.append(name)
    return names


@dataclass(frozen=True)
class BatchTask:
    """Draws and works out one batch of blocks, and gives the kept quantities."""

    program: Program
    plan: Plan
    seed: int
    blocks: Blocks
    keep: tuple[str, ...]

    def __call__(self, batch: int) -> BatchAnswer:
        """Work out one batch."""
        sizes = {block: self.blocks.size(block) for block in self.blocks.in_batch(batch)}
        trials = sum(sizes.values())
        drawn = self.program.draw(self.plan, self.seed, sizes, self.program.ancestors(self.keep))
        try:
            values, notes = self.program.evaluate(drawn, trials, self.keep)
        except TrialError as error:
            raise self._located(batch, error) from error
        kept = {name: _per_trial(values[name], trials) for name in self.keep}
        return BatchAnswer(kept, notes)

    def _located(self, batch: int, error: TrialError) -> RunError:
        """Return the error of a trial with its number in the run, and how to run it alone."""
        number = self.blocks.part(batch).start + error.place
        again = f"model.inputs({number}, trials={self.blocks.trials}, seed={self.seed}, sampling={self.plan.label!r})"
        return RunError(f"trial {number} failed: {error.reason}; with {error.inputs}. To run it alone: f(**{again})")


def _per_trial(value: Floats, trials: int) -> Floats:
    """Return a value with all the batch's trials, also where they are alike."""
    if value.shape and value.shape[-1] == trials:
        return value
    return np.broadcast_to(value, (*value.shape[:-1], trials))


def _refusing_bad(task: BatchTask) -> Callable[[int], BatchAnswer]:
    """Return the task with an error, instead of a count, for an outcome that is NaN."""

    def checked(batch: int) -> BatchAnswer:
        answer = task(batch)
        for name in task.program.outcomes:
            failed = np.isnan(answer.values[name])
            if failed.any():
                place = int(np.argmax(failed.reshape(-1, failed.shape[-1]).any(axis=0)))
                drawn = ", ".join(
                    f"{driver}={value[place]:.6g}"
                    for driver, value in answer.values.items()
                    if driver in task.program.drivers and value.ndim == 1
                )
                trial = task.blocks.part(batch).start + place
                raise RunError(f"outcome {name!r} is not a number in trial {trial} ({drawn}); seed {task.seed}")
        return answer

    return checked
