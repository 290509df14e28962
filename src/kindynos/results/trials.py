"""The trials of a simulation, by quantity: kept in memory, or drawn again from the seed."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field
from functools import cached_property
from types import MappingProxyType
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.blocks import Blocks
from kindynos.engine.fingerprint import processor
from kindynos.engine.precision import Precision
from kindynos.engine.simulation import BatchResult, Execution, collect
from kindynos.errors import DataWarning, RunError
from kindynos.program.batch import SAME, BatchTask, first_difference
from kindynos.program.program import Program
from kindynos.program.steps import read_only
from kindynos.results.result import Result, RowResult
from kindynos.sampling.plans import Plan
from kindynos.validate import checked, shown


@dataclass(frozen=True)
class Drawing:
    """How the trials of a run were drawn: two runs in which it is equal share the draws of drivers
    of one name.
    """

    plan: Plan
    seed: int
    blocks: Blocks

    @property
    def key(self) -> tuple[str, int, tuple[int, ...]]:
        """What decides the draws: how blocks are gathered into batches does not."""
        return self.plan.label, self.seed, tuple(self.blocks.bounds.tolist())


@dataclass(frozen=True)
class RunRecord:
    """What is remembered of how a run came about: the trials requested, before rounding up, and the
    aims of precision.
    """

    requested: int
    rounded_from: int | None = None
    aims: tuple[tuple[Precision, bool], ...] = ()
    # by line and text, with the number of trials
    notes: Mapping[tuple[str, str], int] = field(default_factory=dict)
    processes: int = 0  # among which single trials were spread
    hindered: str = ""  # why they were not, though that would have been quicker
    base: Mapping[str, Floats] | None = None  # of a saved run whose functions are gone
    processors: tuple[str, ...] = ()  # kinds of processors that worked it out


class SimulatedTrials(Mapping[str, Result]):
    """The trials of a simulation: a mapping of quantities by name.

    Outcomes and drivers with one number per trial are kept in memory, and what was named with
    ``keep=``. Anything else is calculated again from the seed when it is read, and compared with
    what was kept.
    """

    def __init__(
        self, program: Program, drawing: Drawing, values: Mapping[str, Floats], record: RunRecord
    ) -> None:
        self._program, self._drawing, self._record = program, drawing, record
        self._plan, self._blocks = drawing.plan, drawing.blocks
        self._values = dict(values)
        self._kept = tuple(values)
        self.executor: Executor | None = None  # that draws again what is not kept, as it drew
        self._results: dict[str, Result | RowResult] = {}

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "executor": None}  # of this process alone

    @property
    def program(self) -> Program:
        """The model as it was run."""
        return self._program

    @property
    def drawing(self) -> Drawing:
        """How the trials were drawn."""
        return self._drawing

    @property
    def provenance(self) -> RunRecord:
        """What is remembered of how the run came about."""
        return self._record

    @property
    def seed(self) -> int:
        """The seed of the draws."""
        return self._drawing.seed

    @property
    def requested(self) -> int:
        """The number of trials that were to be done."""
        return self._record.requested

    @property
    def aims(self) -> list[tuple[Precision, bool]]:
        """The aims of precision, and whether each was met."""
        return list(self._record.aims)

    @property
    def size(self) -> int:
        """The number of trials."""
        return self._blocks.trials

    @property
    def partial(self) -> bool:
        """Whether the run was stopped before all its trials were done."""
        return self.size < self.requested

    @property
    def name(self) -> str:
        """The model's name."""
        return self._program.name

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes."""
        return self._program.outcomes

    @property
    def kept(self) -> list[str]:
        """The names of the quantities held in memory."""
        return list(self._kept)

    @property
    def drivers(self) -> list[str]:
        """The names of the drivers."""
        return list(self._program.drivers)

    @property
    def labels(self) -> list[str]:
        """The labels of the periods."""
        return self._program.timeline.labels

    def __repr__(self) -> str:
        return (
            f"<run of {self.name!r}: {self.size:,} trials, {self._plan.label} plan, seed "
            f"{self.seed}>"
        )

    def __iter__(self) -> Iterator[str]:
        return iter(self._program.quantities)

    def __len__(self) -> int:
        return len(self._program.quantities)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self._program.is_quantity(name)

    __eq__ = object.__eq__  # runs are compared by kd.compare
    __hash__ = object.__hash__

    def __getitem__(self, name: str) -> Result:
        """Return a quantity of the run; raises RunError, with the nearest spelling, for an unknown
        one.

        For a quantity with a value each period the object is a RowResult, as ``row`` returns it.
        """
        result: Any = self._result(name)
        of_name: Result = result
        return of_name

    @checked
    def row(self, name: str) -> RowResult:
        """Return a quantity with a value each period; raises RunError for one without."""
        result = self._result(name)
        if not isinstance(result, RowResult):
            raise RunError(f"{name!r} has one number per trial; read run[{name!r}]", name=name)
        return result

    def _result(self, name: str) -> Result | RowResult:
        if self._known(name) not in self._results:
            if name not in self._values:
                self._values.update(self._redrawn([name]))
            program, row, base = self._program, self._program.shapes[name].row, self.base[name]
            kind: type[Result] | type[RowResult] = RowResult if row else Result
            self._results[name] = kind(
                name,
                self._values[name],
                self._blocks.bounds,
                self._plan.together,
                unit=program.unit(name),
                target=program.lines[name].target if name in program.lines else None,
                better=program.lines[name].better if name in program.lines else "high",
                missing=program.lines[name].missing if name in program.lines else None,
                base=base[:, 0] if base.ndim == 2 else float(base.reshape(-1)[0]),
                labels=tuple(self.labels) if row else (),
                constant=not program.shapes[name].random,
            )
        return self._results[name]

    def _known(self, name: Any) -> str:
        """Return the name of a quantity; raises RunError, with the nearest spelling, for what is
        none.
        """
        if not isinstance(name, str) or not self._program.is_quantity(name):
            raise RunError(
                f"the run has no quantity {shown(name)}",
                unknown=name if isinstance(name, str) else shown(name),
                known=self._program.quantities,
            )
        return name

    @property
    def base(self) -> Mapping[str, Floats]:
        """Every quantity in the base case, as one trial."""
        return MappingProxyType(self._base)

    @cached_property
    def _base(self) -> dict[str, Floats]:
        base = self._record.base
        if base is None:
            base = self._program.evaluate(self._program.base_values(), 1, lenient=True)[0]
        return read_only({name: np.asarray(value) for name, value in base.items()})

    def batch(self, batch: int, names: Iterable[str] | None = None) -> dict[str, Floats]:
        """Return quantities of a batch, drawn again from the seed; raises RunError if outcomes
        differ from those kept by more than the last digits, which another kind of processor may
        give.
        """
        quantities = self._program.quantities if names is None else list(names)
        task = BatchTask(
            self._program, self._plan, self.seed, self._blocks, self._with_checks(quantities)
        )
        values = dict(task(batch).values)
        self._check_again(values, self._blocks.part(batch))
        return {name: values[name] for name in quantities}

    def _with_checks(self, requested: Iterable[str]) -> tuple[str, ...]:
        """Return names, and where lines are among them the kept outcomes, by which it is seen
        whether they are still the same.
        """
        names = list(requested)
        lines = any(name in self._program.lines for name in names)
        checks = [name for name in self.outcomes if name in self._values] if lines else []
        return tuple(dict.fromkeys([*names, *checks]))

    def _check_again(self, values: Mapping[str, Floats], span: slice) -> None:
        """Raise RunError where outcomes that were drawn again are not those kept; say so where they
        differ in their last digits.
        """
        for name in self.outcomes:
            if name not in values or name not in self._values:
                continue
            kept = self._values[name][..., span]
            if first_difference(kept, values[name]) is not None:
                raise RunError(
                    f"outcome {name!r} gives other values now than in the run; a function or what "
                    "it reads has changed"
                )
            if not np.array_equal(values[name], kept, equal_nan=True):
                self._note_processors(name)

    def _note_processors(self, name: str) -> None:
        """Say that trials drawn again differ from those kept in their last digits."""
        made = " and ".join(self._record.processors) or "another processor"
        warnings.warn(
            f"{name!r} drawn again differs from the run in its last digits (less than {SAME:g} of "
            f"its standard deviation): it was worked out on {made}, and this is {processor()}",
            DataWarning,
            stacklevel=2,
        )

    @checked
    def shocks(self, name: str) -> Floats:
        """Return the scores from which a driver was drawn, drawn again from the seed: those that
        its correlations are of.
        """
        if self._known(name) not in self._program.drivers:
            raise RunError(f"{name!r} is not a driver", unknown=name, known=self._program.drivers)
        parts = [
            self._program.scores(self._plan, self.seed, block, self._blocks.size(block), {name})[
                name
            ]
            for block in range(self._blocks.count)
        ]
        return np.concatenate(parts, axis=-1)

    def _redrawn(self, names: Iterable[str]) -> dict[str, Floats]:
        """Return quantities of all trials, drawn again by the executor of the run while it works,
        and else here.
        """
        requested = list(names)
        if self.executor is not None:
            task = BatchTask(
                self._program, self._plan, self.seed, self._blocks, self._with_checks(requested)
            )
            try:
                values = collect(task, self._blocks, Execution(None, self.executor)).values
            except RunError:  # it was shut down
                self.executor = None
            else:
                self._check_again(values, slice(None))
                return {name: values[name] for name in requested}
        execution = Execution(1 if self._program.one_thread else None)
        return collect(
            lambda batch: BatchResult(self.batch(batch, requested)), self._blocks, execution
        ).values

    @checked
    def warnings_of(self, name: str) -> dict[str, int]:
        """Return the warnings about some trials of a quantity, or of what it is calculated from,
        with their number.
        """
        upstream = self._program.ancestors([self._known(name)])
        warnings: dict[str, int] = {}
        for (line, text), count in self._record.notes.items():
            if line in upstream:
                label = text if line == name else f"{text} in {line}"
                warnings[label] = warnings.get(label, 0) + count
        return warnings

    def first_failed(self) -> dict[str, str]:
        """Return for each outcome with failed trials the first such trial and the line where it
        began.
        """
        by_name = {}
        for name in self.outcomes:
            result = self._result(name)
            if not result.n_failed:
                continue
            failed = np.isnan(result.values).reshape(-1, self.size).any(axis=0)
            number = int(np.argmax(failed))
            batch, position = self._blocks.find(number)
            values = self.batch(batch)
            upstream = self._program.ancestors([name])
            order = [line for line in values if line in upstream]
            began = next(line for line in order if np.isnan(values[line][..., position]).any())
            by_name[name] = f"trial {number}, first in {began!r}"
        return by_name
