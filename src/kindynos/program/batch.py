"""Drawing and evaluating one batch of blocks, which is what a worker does; and the inputs of a
single trial.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.blocks import MOST_TRIALS, Blocks
from kindynos.engine.progress import part_of_progress
from kindynos.engine.simulation import BatchResult
from kindynos.errors import RunError, TrialError
from kindynos.program.failing import errors_raised
from kindynos.program.program import Notes, Program
from kindynos.sampling.plans import Plan
from kindynos.validate import check_integer, invalid_argument

# values of one row that are worked out at a time: few enough for the memory of many rows
SLICE_VALUES = 262_144
SAME = 1e-9  # of a standard deviation: what the last digits of another processor may differ by


@dataclass(frozen=True)
class BatchTask:
    """Draws and evaluates one batch of blocks, and gives the kept quantities; with ``refuse_bad``
    NaN outcomes are errors.
    """

    program: Program
    plan: Plan
    seed: int
    blocks: Blocks
    keep: tuple[str, ...]
    refuse_bad: bool = False

    def __call__(self, batch: int) -> BatchResult:
        """Evaluate one batch; raises RunError for a trial that fails."""
        sizes = {block: self.blocks.size(block) for block in self.blocks.in_batch(batch)}
        trials = sum(sizes.values())
        drawn = self.program.draw(self.plan, self.seed, sizes, self.program.ancestors(self.keep))
        with errors_raised(self.refuse_bad):
            kept, notes = self._evaluated(batch, drawn, trials)
        if self.refuse_bad:
            self._check(batch, kept)
        return BatchResult(kept, notes)

    def _evaluated(
        self, batch: int, drawn: Mapping[str, Floats], trials: int
    ) -> tuple[dict[str, Floats], Notes]:
        """Return the kept quantities of a batch, worked out by slices of its trials where rows are
        long or events many: what lies between drivers and outcomes then takes the memory of a slice
        alone.
        """
        longest = max(self.program.periods, math.ceil(self.program.events_a_trial), 1)
        width = max(SLICE_VALUES // longest, 1)
        slices = [slice(begin, min(begin + width, trials)) for begin in range(0, trials, width)]
        kept: dict[str, Floats] = {}
        notes: Counter[tuple[str, str]] = Counter()
        for position, cut in enumerate(slices):
            inputs = {name: value[..., cut] for name, value in drawn.items()}
            size = cut.stop - cut.start
            try:
                with part_of_progress(position, len(slices)):
                    values, failures = self.program.evaluate(inputs, size, self.keep)
            except TrialError as error:
                error.trial += cut.start
                raise self._located(batch, error) from error
            notes.update(failures)
            for name in self.keep:
                value = _per_trial(values[name], size)
                if len(slices) == 1:
                    kept[name] = value
                    continue
                if position == 0:
                    kept[name] = np.empty((*value.shape[:-1], trials))
                kept[name][..., cut] = value
        return kept, dict(notes)

    def verify(self, batch: int, batch_result: BatchResult) -> None:
        """Work out the first block of a batch here, and compare it with what a worker gave; raises
        RunError where they differ by more than the last digits.
        """
        block = self.blocks.in_batch(batch).start
        size = self.blocks.size(block)
        ancestors = self.program.ancestors(self.keep)
        drawn = self.program.draw(self.plan, self.seed, {block: size}, ancestors)
        values, _ = self.program.evaluate(drawn, size, self.keep)
        for name in self.keep:
            here = _per_trial(values[name], size)
            position = first_difference(here, batch_result.values[name][..., :size])
            if position is not None:
                there = batch_result.values[name].reshape(-1, batch_result.values[name].shape[-1])
                row, trial = position
                raise RunError(
                    f"the workers give other values than this process: {name} is "
                    f"{there[row, trial]:.6g} in trial {self.blocks.part(batch).start + trial:,}, "
                    f"and {here.reshape(-1, size)[row, trial]:.6g} here; a function was edited "
                    "after they had started, or they read other files: start them again"
                )

    def _located(self, batch: int, error: TrialError) -> RunError:
        """Return the error of a trial with its number in the run, and how to run it alone."""
        number = self.blocks.part(batch).start + error.trial
        again = (
            f"model.inputs({number}, trials={self.blocks.trials}, seed={self.seed}, "
            f"sampling={self.plan.label!r})"
        )
        return RunError(
            f"{error.reason}; with {error.inputs}. To run it alone: f(**{again})",
            owner=f"trial {number}",
        )

    def _check(self, batch: int, values: dict[str, Floats]) -> None:
        for name in self.program.outcomes:
            failed = np.isnan(values[name])
            if not failed.any():
                continue
            position = int(np.argmax(failed.reshape(-1, failed.shape[-1]).any(axis=0)))
            drivers = {n: v for n, v in values.items() if n in self.program.drivers and v.ndim == 1}
            drawn = ", ".join(
                f"{driver}={value[position]:.6g}" for driver, value in drivers.items()
            )
            trial = self.blocks.part(batch).start + position
            raise RunError(
                f"is not a number in trial {trial} ({drawn}); seed {self.seed}",
                owner=f"outcome {name!r}",
            )


def first_difference(one: Floats, other: Floats) -> tuple[int, int] | None:
    """Return the row and the trial of the first values that differ by more than 1e-9 of the
    standard deviation, which is no matter of the last digits; None where there is none.
    """
    rows, others = (array.reshape(-1, array.shape[-1]) for array in (one, other))
    for position, (here, there) in enumerate(zip(rows, others, strict=True)):
        if np.array_equal(here, there, equal_nan=True):
            continue
        finite = here[np.isfinite(here)]
        spread = float(finite.std()) if len(finite) else 0.0
        allowed = SAME * max(spread, float(np.abs(finite).max(initial=0.0)) * 1e-3)
        with np.errstate(invalid="ignore"):
            same = (here == there) | (np.abs(here - there) <= allowed)
        same |= np.isnan(here) & np.isnan(there)
        if not same.all():
            return position, int(np.argmin(same))
    return None


def inputs_of_trial(
    program: Program, plan: Plan, trial: int, trials: int, seed: int
) -> dict[str, Any]:
    """Return the drivers and given figures of one trial of a run: floats, and rows ``(periods,)``;
    see Model.inputs.
    """
    blocks = Blocks.cut(
        check_integer("trials", trials, least=1, most=MOST_TRIALS),
        program.periods,
        plan.powers_of_two,
        program.shares,
    )
    if check_integer("trial", trial, least=0) >= blocks.trials:
        raise invalid_argument("trial", f"from 0 to {blocks.trials - 1}", trial)
    batch, position = blocks.find(trial)
    drawn = program.draw(
        plan, seed, {block: blocks.size(block) for block in blocks.in_batch(batch)}
    )
    inputs, _ = (
        program.evaluate(drawn, max(value.shape[-1] for value in drawn.values()), drawn)
        if drawn
        else ({}, {})
    )
    values = {name: inputs[name][..., position] for name in drawn}
    values |= {
        name: program.constants[name][..., 0] if given.shape.row else program.constants[name]
        for name, given in program.givens.items()
    }
    return {name: value if value.ndim else float(value) for name, value in values.items()}


def _per_trial(value: Floats, trials: int) -> Floats:
    """Return a value with all the batch's trials, also where they are alike."""
    if value.shape and value.shape[-1] == trials:
        return value
    return np.broadcast_to(value, (*value.shape[:-1], trials))
