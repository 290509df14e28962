"""Simulating a program: every batch of blocks drawn and evaluated, and what was named kept."""

from __future__ import annotations

import logging
import math
import signal
from collections.abc import Iterable, Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from multiprocessing import get_all_start_methods, get_context

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.available import check_memory
from kindynos.engine.blocks import MOST_TRIALS, Blocks
from kindynos.engine.carrying import by_value
from kindynos.engine.precision import FEWEST_BLOCKS, Precision, as_aims, next_count
from kindynos.engine.simulation import Execution, Progress, SimulationOutput, collect
from kindynos.engine.workers import AHEAD, size_of, usable_cpus
from kindynos.errors import ModelError, ParameterError, RunError, RunInterrupt, StoppedError
from kindynos.program.batch import BatchTask
from kindynos.program.identity import identity
from kindynos.program.program import Program
from kindynos.program.quantities import DistributionDriver
from kindynos.results.held_conditions import raise_broken
from kindynos.results.options import SimulationOptions
from kindynos.results.run import Run
from kindynos.results.trials import Drawing, RunRecord
from kindynos.sampling.plans import PLANS, Plan
from kindynos.validate import check_integer, checked, listed

LOG = logging.getLogger("kindynos")  # for hosts; silent unless they listen
LOG.addHandler(logging.NullHandler())
PATIENCE = 2.0  # seconds of work by single trials from which on processes pay

ROUNDS = 2  # in a row in which an aim must be met
OCCURRED = 10  # how often an event must have happened before an error is believed


@checked
def simulate(program: Program, settings: SimulationOptions) -> Run:
    """Return the run of a program; see Model.simulate for the settings and errors."""
    seed = settings.checked_seed()
    plan = PLANS.find(settings.sampling)
    kept = kept_names(program, settings.keep)
    _check_memory(program, kept, settings.trials)
    LOG.info("start: %s, %d trials, seed %d", program.name, settings.trials, seed)
    if settings.on_start is not None:
        settings.on_start(settings.trials)
    with processes_where_they_pay(program, settings) as (executor, hindered):
        own = replace(settings, executor=executor)
        task = _Simulation(program, plan, seed, kept, own, settings.executor)
        run = task.fixed() if settings.until is None else task.until_precise()
        if hindered:
            run = task.with_record(run, replace(run._record, hindered=hindered))
        elif executor is not settings.executor:
            run = task.with_record(
                run, replace(run._record, processes=settings.workers or usable_cpus())
            )
    if LOG.isEnabledFor(logging.INFO):
        _log_end(run)
    if settings.on_broken == "error":
        raise_broken(run)
    if not isinstance(settings.executor, ThreadPoolExecutor):
        run.executor = settings.executor
    if settings.on_finish is not None:
        settings.on_finish(run)
    return run


def _log_end(run: Run) -> None:
    """Say in the log what a run was, and what some of its trials were warned of."""
    about = run.name, run.size, run.seed, identity(run.program)
    LOG.info("end: %s, %d trials, seed %d, fingerprint %s", *about)
    for name in run.outcomes:
        if run[name].n_failed:
            LOG.warning("%s: %d of %d trials have no value", name, run[name].n_failed, run.size)
        for text, count in run.warnings_of(name).items():
            LOG.warning("%s: %s, in %d of %d trials", name, text, count, run.size)


@contextmanager
def processes_where_they_pay(
    program: Program, settings: SimulationOptions
) -> Iterator[tuple[Executor | None, str]]:
    """Give the executor of the settings; without one, for long work of one trial at a time, a pool
    of processes, or what hinders the model from going there.

    Threads would not help there, since the interpreter runs one at a time. Only where processes can
    be forked: others would run a script without a main guard again.
    """
    workers = settings.workers or usable_cpus()
    if (
        settings.executor is not None
        or program.seconds_a_trial * settings.trials < PATIENCE
        or workers < 2
        or "fork" not in get_all_start_methods()
    ):
        yield settings.executor, ""
        return
    try:
        by_value(program.evaluate)
    except RunError as error:
        yield None, str(error)
        return
    pool = ProcessPoolExecutor(workers, get_context("fork"), _ignore_interrupts)
    try:
        yield pool, ""
    except BaseException:  # an interrupt, for one: what the workers are at is of no use any more
        for process in list((getattr(pool, "_processes", None) or {}).values()):
            process.kill()
        raise
    finally:
        pool.shutdown(cancel_futures=True)


def _ignore_interrupts() -> None:
    """Leave Ctrl-C, which a terminal sends to all processes, to the one that waits for the
    workers.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)


@dataclass(frozen=True)
class _Simulation:
    """A simulation about to be done: what, how it is drawn, and what is kept."""

    program: Program
    plan: Plan
    seed: int
    kept: list[str]
    settings: SimulationOptions
    foreign: Executor | None = None  # workers that may have other code than this process

    def fixed(self) -> Run:
        """Return a run of the number of trials that the settings name."""
        trials = self.settings.trials
        program = self.program
        shares, executor = program.shares, self.settings.executor
        if executor is not None and shares > 1:  # something to do for each of its workers
            shares = max(shares, AHEAD * size_of(executor))
        blocks = Blocks.cut(trials, program.periods, self.plan.powers_of_two, shares)
        # nothing is gained by larger batches, and progress and stopping come sooner
        if program.one_thread:
            blocks = replace(blocks, blocks_per_batch=1)
        run = self._round(blocks)
        rounded = trials if blocks.trials > trials else None
        return self.with_record(run, replace(run._record, rounded_from=rounded))

    def until_precise(self) -> Run:
        """Return a run that has grown by rounds of equal blocks until all aims are met, or
        ``max_trials`` trials are reached.
        """
        aims = as_aims(self.settings.until)
        for aim in aims:
            if aim.outcome not in self.kept:
                raise ModelError(
                    f"until= aims at {aim.outcome!r}, which is not an outcome",
                    unknown=aim.outcome,
                    known=self.program.outcomes,
                )
        first = Blocks.for_rounds(
            self.settings.trials, self.program.periods, self.plan.powers_of_two, FEWEST_BLOCKS
        )
        size, per_batch = first.size(0), first.blocks_per_batch
        most = max(self.settings.max_trials // size, FEWEST_BLOCKS)
        count, run, rounds_met = FEWEST_BLOCKS, None, 0
        while True:
            count = min(-(-count // per_batch) * per_batch, most)
            run = self._round(Blocks(size * count, count, per_batch), run)
            missing = max(_missing(run, aim) for aim in aims)
            rounds_met = rounds_met + 1 if missing <= 1 else 0
            if rounds_met == ROUNDS or run.partial or count >= most:
                met = tuple((aim, _missing(run, aim) <= 1) for aim in aims)
                return self.with_record(run, replace(run._record, aims=met))
            count = next_count(count, missing) if missing > 1 else math.ceil(1.2 * count)

    def _round(self, blocks: Blocks, earlier: Run | None = None) -> Run:
        """Return a run of the blocks; an earlier run may have the first."""
        settings = self.settings
        task = BatchTask(
            self.program, self.plan, self.seed, blocks, tuple(self.kept), settings.on_bad == "error"
        )
        workers, executor = settings.workers, settings.executor
        if self.program.one_thread and (
            executor is None or isinstance(executor, ThreadPoolExecutor)
        ):
            workers, executor = 1, None
        execution = Execution(workers, executor, settings.progress)
        begin = earlier._blocks.batches if earlier else 0
        others = executor is not None and not isinstance(executor, ThreadPoolExecutor)
        verify = task.verify if others and executor is self.foreign else None
        try:
            outputs = collect(task, blocks, execution, begin, verify)
        except RunInterrupt as stopped:
            if stopped.output.done:
                stopped.run = self._run_of(stopped.output, blocks, earlier)
            raise
        return self._run_of(outputs, blocks, earlier)

    def _run_of(
        self, simulation_output: SimulationOutput, blocks: Blocks, earlier: Run | None
    ) -> Run:
        """Return the run of the batches that were done, and of those of an earlier run."""
        values, notes = simulation_output.values, simulation_output.notes
        if earlier is not None:
            for name in self.kept:
                before: Floats = earlier._values[name]
                if name not in values:  # stopped before the first batch of this round
                    values[name] = np.empty((*before.shape[:-1], blocks.trials))
                values[name][..., : earlier.size] = before
            notes.update(earlier._record.notes)
        if simulation_output.done < blocks.trials:
            if simulation_output.done == 0:
                raise StoppedError(0, blocks.trials)
            values = {name: value[..., : simulation_output.done] for name, value in values.items()}
        drawing = Drawing(self.plan, self.seed, blocks.first(simulation_output.done))
        made = {*simulation_output.processors, *(earlier._record.processors if earlier else ())}
        record = RunRecord(blocks.trials, notes=dict(notes), processors=tuple(sorted(made)))
        return Run(self.program, drawing, values, record)

    def with_record(self, run: Run, record: RunRecord) -> Run:
        """Return a run with more to remember of how it came about."""
        return Run(self.program, run._drawing, run._values, record)


def extended(
    run: Run,
    trials: int | None = None,
    *,
    workers: int | None = None,
    progress: Progress | None = None,
    executor: Executor | None = None,
) -> Run:
    """Return a run with more trials; see Run.extend."""
    drawing = run.drawing
    blocks = drawing.blocks
    if trials is None:
        if blocks.planned is None or not run.partial:
            raise ParameterError(
                f"the run has all of its {run.size:,} trials; say how many more, as in "
                "extend(20_000)"
            )
        more = Blocks(*blocks.planned, blocks.blocks_per_batch)
    else:
        added = check_integer("trials", trials, least=1, most=MOST_TRIALS)
        more = blocks.with_more(added)
        if more.blocks_per_batch != blocks.blocks_per_batch:
            parted = replace(drawing, blocks=replace(blocks, blocks_per_batch=1))
            run = Run(run.program, parted, run._values, run._record)
    plan = drawing.plan.label
    settings = SimulationOptions(
        more.trials, run.seed, plan, workers=workers, executor=executor, progress=progress
    )
    settings.checked_seed()
    _check_memory(run.program, list(run.kept), more.trials)
    simulation = _Simulation(
        run.program, drawing.plan, run.seed, list(run.kept), settings, executor
    )
    return simulation._round(more, run)


def _missing(run: Run, aim: Precision) -> float:
    """Return by how much an aim is missed; NaN where nothing can be said yet: as long as an event
    that reaches the outcome has hardly occurred, the spread between trials tells nothing of it.
    """
    result = run[aim.outcome]
    if result.is_row:
        raise ModelError(f"{aim.outcome!r} is a row; aim at a number, such as last({aim.outcome})")
    if any(count < OCCURRED for count in _occurred(run, aim.outcome).values()):
        return math.nan
    figure = result.statistic(aim.statistic, *aim.arguments, **aim.options)
    return aim.missing(float(figure), figure.error)


def _occurred(run: Run, outcome: str) -> dict[str, int]:
    """Return how often each event that reaches an outcome has occurred: a driver of one number
    that mostly has one value.
    """
    counts = {}
    reaching = run.program.ancestors([outcome])
    for name, driver in run.program.drivers.items():
        if name not in reaching or not isinstance(driver, DistributionDriver) or driver.each:
            continue
        usual = float(driver.distribution.quantile(0.5))
        if driver.distribution.chance(at=usual) > 0.5:
            counts[name] = int(np.count_nonzero(run[name].values != usual))
    return counts


def _check_memory(program: Program, kept: list[str], trials: int) -> None:
    """Raise ParameterError for a run whose kept figures would not fit into memory."""
    figures = sum(program.periods if program.shapes[name].row else 1 for name in kept)
    check_memory(f"{figures:,} figures kept of each of {trials:,} trials", 8.0 * figures * trials)


def kept_names(program: Program, keep: Iterable[str] | None) -> list[str]:
    """Return what a run holds: drivers of one number, outcomes, and what is named besides."""
    names = [name for name, driver in program.drivers.items() if not driver.shape.row]
    names += [*program.outcomes, *program.checks]
    for name in listed(() if keep is None else keep):
        if name not in program.quantities:
            raise ModelError(
                f"keep= names {name!r}, which is not a driver, line or outcome",
                unknown=name,
                known=program.quantities,
            )
        if name not in names:
            names.append(name)
    return names
