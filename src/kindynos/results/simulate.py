"""Simulating a program: every batch of blocks drawn and worked out, and what was asked for kept."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kindynos.engine.blocks import Blocks
from kindynos.engine.simulation import BatchAnswer, Progress, collect
from kindynos.errors import ModelError, RunError, nearest
from kindynos.model.program import Program
from kindynos.results.run import Run
from kindynos.sampling.plans import Plan, plan_named
from kindynos.sampling.streams import LARGEST_SEED, fresh_seed
from kindynos.validate import one_of, whole, wrong

Floats = NDArray[np.float64]


def simulate(
    program: Program,
    *,
    trials: int,
    seed: int | None,
    sampling: str,
    workers: int | None,
    progress: Progress | None,
    keep: Iterable[str] | None,
    on_bad: str,
) -> Run:
    """Return the run of a program; see Model.simulate for the arguments and errors."""
    whole("simulate", "trials", trials, least=1)
    seed = fresh_seed() if seed is None else whole("simulate", "seed", seed, least=0)
    if seed > LARGEST_SEED:
        raise wrong("simulate", "seed", "below 2**64", seed)
    if workers is not None:
        whole("simulate", "workers", workers, least=1)
    one_of("simulate", "on_bad", on_bad, ("count", "error"))
    plan = plan_named(sampling)
    kept = _kept(program, keep)
    blocks = Blocks.cut(trials, program.periods, plan.powers_of_two)
    task = BatchTask(program, plan, seed, blocks, tuple(kept))
    checked = _refusing_bad(task) if on_bad == "error" else task
    collected = collect(checked, blocks, workers=workers, progress=progress)
    return Run(program, plan, seed, blocks, collected.values, dict(collected.notes))


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
        values, notes = self.program.evaluate(drawn, trials, self.keep)
        kept = {name: _per_trial(values[name], trials) for name in self.keep}
        return BatchAnswer(kept, notes)


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
