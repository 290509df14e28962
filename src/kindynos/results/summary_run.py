"""A run of more trials than memory holds: its figures are exact, and its trials are drawn again
from the seed where they are asked for.

A pilot of a few million trials brackets each wanted percentile by six standard deviations of its
rank; one pass over all trials then counts by block what lies below each bracket, and keeps what
lies inside. A figure that was not asked for takes one more pass, which is said.
"""

from __future__ import annotations

import math
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.arrays import Floats
from kindynos.delegation import Reported
from kindynos.engine.accumulate import Accumulator, Wanted
from kindynos.engine.available import available_memory
from kindynos.engine.blocks import Blocks
from kindynos.engine.checkpoint import Checkpoint
from kindynos.engine.fingerprint import processor, versions
from kindynos.engine.simulation import BatchResult, Execution, collect
from kindynos.errors import DataWarning, FileError, ParameterError, RunError
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import jackknife_error
from kindynos.program.batch import BatchTask
from kindynos.program.identity import identity
from kindynos.program.program import Program
from kindynos.results.figures import PERCENTILES, FigureTables, chance_of_one
from kindynos.results.held_conditions import broken_periods
from kindynos.results.options import SimulationOptions
from kindynos.results.result import NumberStatistics
from kindynos.results.run import Run
from kindynos.results.sheet import sheet
from kindynos.results.simulate import kept_names, simulate
from kindynos.results.statistic_text import parse_statistic
from kindynos.results.statistics import STATISTICS, Needs, trials_held
from kindynos.results.summary_sample import MissedError, SummarySample
from kindynos.results.summary_task import SummaryTask
from kindynos.results.trials import Drawing
from kindynos.sampling.plans import PLANS
from kindynos.validate import check_integer, checked, finite

if TYPE_CHECKING:
    import pandas as pd

LARGEST_PILOT = 4_000_000
LEAST_PILOT = 20_000
PILOT_SHARE = 40  # as many times the pilot are all trials, where they are many
PILOT_MEMORY = 0.1  # of what is available
SMALLEST = 100_000  # trials of a run; of fewer all are held
HIGHEST = 1 - 1e-12  # a correlation whose Fisher transform is finite
RANKS = 6.0  # standard deviations of a rank that a bracket reaches to either side


class SummaryRun(FigureTables, Mapping[str, "SummaryResult"], Reported):
    """The outcomes of a run that keeps summaries, by name.

    ``run["net_value"].percentile(5)`` is that of all trials, with its interval; ``table()`` has the
    usual figures, ``trial(7)`` draws a trial again, and ``sensitivity`` reads the
    pilot, and ``correlations`` has all trials.
    """

    @checked
    def __init__(
        self,
        program: Program,
        drawing: Drawing,
        pilot: Run,
        options: SimulationOptions,
        resume: Path | None = None,
        percentiles: Sequence[float] = PERCENTILES,
    ) -> None:
        self.program, self.drawing, self.pilot = program, drawing, pilot
        self._options, self._resume = options, resume
        self.names = [name for name in program.outcomes if not program.shapes[name].row]
        if not self.names:
            raise RunError("a summary needs an outcome that is one number")
        levels = tuple(sorted({finite("a percentile", q) / 100 for q in percentiles}))
        self._drivers = tuple(name for name in program.drivers if not program.shapes[name].row)
        self._samples: dict[str, SummarySample] = {}
        self._broken: dict[str, NDArray[np.int64]] = {}
        requests = {name: Needs(levels, self._cuts(name)) for name in self.names}
        self._pass(requests | {name: Needs() for name in program.checks})

    def _cuts(self, name: str) -> tuple[float, ...]:
        """Return the figures at which every table counts the trials of an outcome."""
        line = self.program.lines[name]
        target = 0.0 if line.target is None else float(line.target)
        base = float(self.pilot.base[name].reshape(-1)[0])
        return (target,) if math.isnan(base) else (target, base)

    # what it has

    @property
    def name(self) -> str:
        """The name of the model."""
        return self.program.name

    @property
    def size(self) -> int:
        """The number of trials."""
        return self.drawing.blocks.trials

    @property
    def seed(self) -> int:
        """The seed of the draws."""
        return self.drawing.seed

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes that are one number."""
        return list(self.names)

    def __getitem__(self, name: str) -> SummaryResult:
        if name not in self.names:
            raise RunError(f"no summary of {name!r:.60}", unknown=str(name), known=self.names)
        return SummaryResult(self, name)

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.names)

    def __repr__(self) -> str:
        plan = self.drawing.plan.label
        return f"<summary of {self.name!r}: {self.size:,} trials, {plan} plan, seed {self.seed}>"

    def warnings_of(self, name: str) -> dict[str, int]:
        """Return the warnings about some trials of an outcome: none, since a summary keeps none."""
        return {}

    @checked
    def checks(self) -> pd.DataFrame:
        """Return a row for each condition that must hold: in how many trials it is broken, their
        share and the first of them, None where it always holds.
        """
        import pandas as pd

        rows = {
            name: (int(broken.sum()), int(broken.sum()) / self.size, self._first_broken(name))
            for name, broken in self._broken.items()
        }
        columns = ["broken in", "share", "first trial"]
        table = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        return table.astype({"first trial": "Int64"}).rename_axis("check")

    def _first_broken(self, name: str) -> int | None:
        """Return the first trial that breaks a condition, drawn again with its batch."""
        broken = self._broken[name]
        if not broken.any():
            return None
        blocks = self.drawing.blocks
        begin = int(blocks.bounds[int(np.flatnonzero(broken)[0])])
        batch, position = blocks.find(begin)
        task = BatchTask(self.program, self.drawing.plan, self.seed, blocks, (name,))
        periods = broken_periods(task(batch).values[name])
        return begin - position + int(np.flatnonzero(periods)[0])

    def percentile(self, name: str, q: ArrayLike) -> Any:
        """Return a percentile of an outcome, or several; see ``Run.percentile``."""
        return self[name].percentile(q)

    def joint(self, x: str, y: str, cuts: Any = (None, None)) -> Any:
        """Raise RunError: two quantities together need the trials; the ``pilot`` has some."""
        raise RunError(f"a summary holds no trials; run.pilot.joint({x!r}, {y!r}) is of the pilot")

    def plot(self, name: str, ax: Any = None) -> Any:
        """Raise RunError: a picture needs the trials; the ``pilot`` has some."""
        raise RunError(f"a summary holds no trials; run.pilot.plot({name!r}) draws the pilot")

    @checked
    def chance(self, condition: str) -> Estimate:
        """Return the chance of a condition on one outcome, such as "net_value > 1e6", as a share of
        all trials; see ``Run.chance``. Raises RunError for one on several quantities, which needs
        the trials: ask the ``pilot``.
        """
        side = chance_of_one(condition, self.names)
        if side is None:
            raise RunError(
                f"{condition!r:.80}: a summary holds no trials, and has the chances of single "
                "outcomes, such as 'net_value > 1e6'; run.pilot.chance(...) is of the pilot"
            )
        outcome, statistic = side
        return parse_statistic(statistic).read(self[outcome])

    @checked
    def trial(self, number: int) -> pd.DataFrame:
        """Return the whole sheet of one trial, drawn again from the seed; raises RunError for a
        number that is not a trial of the run.
        """
        check_integer("the number", number, least=0)
        if number >= self.size:
            raise RunError(
                f"there is no trial {number:,}; the run has trials 0 to {self.size - 1:,}"
            )
        blocks = self.drawing.blocks
        batch, position = blocks.find(number)
        names = tuple(self.program.quantities)
        task = BatchTask(self.program, self.drawing.plan, self.seed, blocks, names)
        values = {name: value[..., position] for name, value in task(batch).values.items()}
        return sheet(self.program, values)

    @checked
    def sensitivity(self, name: str, **options: Any) -> pd.DataFrame:
        """Return what drives an outcome, read from the pilot; see Run.sensitivity."""
        return self.pilot.sensitivity(name, **options)

    def linear_correlations(self, name: str) -> pd.DataFrame:
        """Return the linear correlation of an outcome with each driver that is one number, over all
        trials in which it has a value, the strongest first: from the sums of products of all
        blocks. Columns are correlation, error, low and high.
        """
        import pandas as pd

        sums = self[name].sample.sums
        count, one, two = np.column_stack([sums.valid, sums.powers[:, :2]]).T[:, :, None]
        other, square, product = np.moveaxis(sums.companions, 2, 0)
        whole = _correlations(
            *(by_block.sum(axis=0) for by_block in (count, one, two)),
            *(by_block.sum(axis=0) for by_block in (other, square, product)),
        )
        left = _correlations(
            *(
                by_block.sum(axis=0) - by_block
                for by_block in (count, one, two, other, square, product)
            )
        )
        errors = [
            jackknife_error(np.arctanh(np.clip(column, -HIGHEST, HIGHEST))) for column in left.T
        ]
        rows = []
        for value, error in zip(whole.tolist(), errors, strict=True):
            middle = math.atanh(min(max(value, -HIGHEST), HIGHEST))
            low, high = math.tanh(middle - error), math.tanh(middle + error)
            rows.append((value, (high - low) / 2, min(low, value), max(high, value)))
        frame = pd.DataFrame(
            rows,
            index=pd.Index(self._drivers, name="driver"),
            columns=["correlation", "error", "low", "high"],
        )
        return frame.sort_values("correlation", key=np.abs, ascending=False, kind="stable")

    def facts(self) -> dict[str, Any]:
        """Return how the run was made."""
        return {
            "model": self.name,
            "trials": self.size,
            "pilot": self.pilot.size,
            "sampling": self.drawing.plan.label,
            "blocks": self.drawing.blocks.count,
            "seed": self.seed,
            "versions": versions(),
            "processors": [processor()],
        }

    # passes over all trials

    def figure(
        self, name: str, needs: Callable[[], Needs], read: Callable[[SummarySample], Estimate]
    ) -> Estimate:
        """Return a figure of an outcome; where it was not gathered, after one more pass."""
        for attempt in range(4):
            try:
                return read(self._samples[name])
            except MissedError:
                gathered = needs()
                what = [f"percentile {100 * level:g}" for level in gathered.levels]
                what += [f"the chance at {cut:g}" for cut in gathered.cuts]
                warnings.warn(
                    f"{' and '.join(what)} of {name!r} was not asked for; {self.size:,} trials are "
                    "drawn once more",
                    DataWarning,
                    stacklevel=4,
                )
                self._pass({name: gathered}, RANKS * 2.0**attempt)
        raise RunError(f"{what[0]} of {name!r} cannot be bracketed")

    def _pass(self, requests: Mapping[str, Needs], ranks: float = RANKS) -> None:
        """Draw all trials, and gather what is requested of some outcomes."""
        requested = {name: self._wanted(name, request, ranks) for name, request in requests.items()}
        blocks, plan, options = self.drawing.blocks, self.drawing.plan, self._options
        names = tuple(dict.fromkeys([*requested, *self._drivers]))
        drawn = BatchTask(self.program, plan, self.seed, blocks, names, options.on_bad == "error")
        task = SummaryTask(drawn, requested, self._drivers, frozenset(self.program.checks))
        by_name = {
            name: Accumulator(blocks, accumulated) for name, accumulated in requested.items()
        }
        file = self._resume if not self._samples else None
        checkpoint = None if file is None else Checkpoint(file, self._about(requested))
        finished = [] if checkpoint is None else _taken_up(checkpoint, by_name, task)

        def sink(batch: int, batch_result: BatchResult) -> None:
            for name, sums in batch_result.values.items():
                by_name[name].add(batch, sums)
            if checkpoint is not None and checkpoint.due():
                checkpoint.write(_states(by_name))

        try:
            batch_result = collect(
                task,
                blocks,
                self._execution(),
                verify=task.verify if self._is_foreign else None,
                sink=sink,
                finished=finished,
            )
        finally:
            if checkpoint is not None:
                checkpoint.write(_states(by_name))
        if batch_result.done < blocks.trials:
            where = "" if file is None else f"; {file} goes on from here"
            raise RunError(
                f"stopped after {batch_result.done:,} of {blocks.trials:,} trials{where}"
            )
        sizes = np.diff(blocks.bounds)
        for name, accumulated in by_name.items():
            line = self.program.lines[name]
            merged = accumulated.merged()
            if line.check:
                self._broken[name] = sizes - merged.valid
                continue
            self._samples[name] = SummarySample(
                merged,
                accumulated.wanted,
                sizes,
                plan.together,
                line.better,
                not self.program.shapes[name].random,
            )

    @property
    def _is_foreign(self) -> bool:
        executor = self._options.executor
        return executor is not None and not isinstance(executor, ThreadPoolExecutor)

    def _execution(self) -> Execution:
        options = self._options
        if self.program.one_thread and not self._is_foreign:
            return Execution(1, None, options.progress)
        return Execution(options.workers, options.executor, options.progress)

    def _wanted(self, name: str, request: Needs, ranks: float) -> Wanted:
        """Return the brackets of levels, from the pilot; of a condition nothing but its number."""
        if self.program.lines[name].check:
            return Wanted(0.0, np.empty((0, 2)), np.empty(0), np.zeros(len(self._drivers)))
        values = np.sort(self.pilot[name].values)
        values = values[: len(values) - int(np.isnan(values).sum())]  # NaN comes last
        finite_values = values[np.isfinite(values)]
        count = len(values)
        if not count:
            raise RunError(f"{name!r} has no value in the pilot of {self.pilot.size:,} trials")
        brackets = []
        for level in request.levels:
            reach = ranks * math.sqrt(count * level * (1 - level)) + 2
            low, high = (math.floor(level * (count - 1) + side * reach) for side in (-1, 1))
            brackets.append(
                (
                    float(values[low]) if low >= 0 else -math.inf,
                    float(values[high]) if high < count else math.inf,
                )
            )
        return Wanted(
            float(finite_values.mean()) if len(finite_values) else 0.0,
            np.array(brackets, dtype=np.float64).reshape(-1, 2),
            np.array(request.cuts, dtype=np.float64),
            np.array([float(np.mean(self.pilot[driver].values)) for driver in self._drivers]),
        )

    def _about(self, requested: Mapping[str, Wanted]) -> dict[str, Any]:
        """Return what tells this run from another."""
        return {
            "program": identity(self.program),
            "seed": self.seed,
            "plan": self.drawing.plan.label,
            "trials": self.size,
            "blocks": [self.drawing.blocks.count, self.drawing.blocks.blocks_per_batch],
            "versions": versions(),
            "brackets": {
                name: [repr(asked.brackets.tolist()), repr(asked.cuts.tolist())]
                for name, asked in requested.items()
            },
        }


def _correlations(
    count: Floats, one: Floats, two: Floats, other: Floats, square: Floats, product: Floats
) -> Floats:
    """Return correlations from sums over trials: their count, those of a quantity and its squares,
    of others and their squares, and of products.
    """
    with np.errstate(all="ignore"):
        covariance = product - one * other / count
        spreads = (two - one**2 / count) * (square - other**2 / count)
        return np.asarray(covariance / np.sqrt(spreads))


class SummaryResult(NumberStatistics):
    """An outcome of a run that keeps summaries."""

    def __init__(self, run: SummaryRun, name: str) -> None:
        line = run.program.lines[name]
        self.run, self.name = run, name
        self.unit, self.better, self.missing = line.unit, line.better, line.missing
        self.target = None if line.target is None else float(line.target)
        self.base = float(run.pilot.base[name].reshape(-1)[0])
        self.size = run.size

    def __repr__(self) -> str:
        return f"<{self.name}: summary of {self.size:,} trials>"

    @property
    def sample(self) -> SummarySample:
        """Its sums by block, from which statistics are estimated."""
        return self.run._samples[self.name]

    @property
    def values(self) -> Floats:
        """Raises RunError: the trials are not held."""
        raise RunError(
            f"the trials of {self.name!r} are not held; read its figures, run.trial(n) or run.pilot"
        )

    @property
    def is_row(self) -> bool:
        """Whether it has a value for each period: no, a summary is of single numbers."""
        return False

    @property
    def n_failed(self) -> int:
        """How many trials have no value."""
        return self.sample.trials - self.sample.count

    def _statistic(self, name: str, *args: Any, **options: Any) -> Estimate:
        statistic = STATISTICS.find(name)
        if statistic.needs is trials_held:
            raise RunError(
                f"{name} of {self.name!r} needs the trials, which a summary does not hold; "
                f"run.pilot[{self.name!r}] has that of the pilot"
            )
        if self.missing is not None and self.n_failed and statistic.ranks:
            raise RunError(
                f"{self.n_failed:,} trials of {self.name!r} have no value, and a summary cannot "
                f"rank them as {self.missing!r}; hold the trials with store='all'"
            )
        return self.run.figure(
            self.name,
            lambda: statistic.needs(self.better, *args, **options),
            lambda sample: statistic(sample, *args, **options),
        )


def _taken_up(
    checkpoint: Checkpoint, accumulators: Mapping[str, Accumulator], task: SummaryTask
) -> list[int]:
    """Put what a checkpoint has in its place, and return the batches that are done. One of them is
    worked out again: raises FileError where it has other values than the file.
    """
    stored = checkpoint.read()
    if stored is None:
        return []
    try:
        for name, accumulator in accumulators.items():
            accumulator.restore(_of_outcome(stored, name))
    except (KeyError, ValueError, IndexError):
        raise FileError("lacks arrays of this run", file=str(checkpoint.path)) from None
    finished = sorted(next(iter(accumulators.values())).inside)
    if finished:
        sums = task(finished[0]).values
        for name, accumulator in accumulators.items():
            if not accumulator.holds(finished[0], sums[name]):
                raise FileError(
                    f"has other trials of {name!r} than the model draws now: a function, or what "
                    "it reads, was changed; remove the file, or give another",
                    file=str(checkpoint.path),
                )
    return finished


def _states(accumulators: Mapping[str, Accumulator]) -> dict[str, Any]:
    return {
        f"{position} {key}": array
        for position, accumulator in enumerate(accumulators.values())
        for key, array in accumulator.state().items()
    } | {"names": np.array(list(accumulators))}


def _of_outcome(stored: Mapping[str, Any], name: str) -> dict[str, Any]:
    index = stored["names"].tolist().index(name)
    return {
        key.partition(" ")[2]: array for key, array in stored.items() if key.startswith(f"{index} ")
    }


def summarize(
    program: Program,
    options: SimulationOptions,
    resume: Path | None,
    percentiles: Sequence[float] = PERCENTILES,
) -> SummaryRun:
    """Return the summary of a run; see Model.simulate."""
    seed = options.checked_seed()
    plan = PLANS.find(options.sampling)
    if options.trials < SMALLEST:
        raise ParameterError(
            f"store='summary' is for runs of {SMALLEST:,} trials and more; smaller ones are held"
        )
    size = _pilot_size(program, options)
    quick = replace(
        options, trials=size, seed=seed, executor=None, progress=None, on_start=None, on_finish=None
    )
    pilot = simulate(program, quick)
    blocks = Blocks.cut(options.trials, program.periods, plan.powers_of_two, program.shares)
    if program.one_thread:
        blocks = replace(blocks, blocks_per_batch=1)
    return SummaryRun(program, Drawing(plan, seed, blocks), pilot, options, resume, percentiles)


def _pilot_size(program: Program, options: SimulationOptions) -> int:
    """Return the trials of the pilot: a share of all that leaves few of them inside the brackets,
    and no more than a small part of the memory can hold.
    """
    wanted = min(LARGEST_PILOT, max(options.trials // PILOT_SHARE, SMALLEST // 2))
    figures = max(len(kept_names(program, options.keep)), 1)
    fitting = int(PILOT_MEMORY * available_memory() / (8 * figures))
    return max(min(wanted, fitting), LEAST_PILOT)
