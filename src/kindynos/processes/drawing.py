"""Drawing shocks block by block, on all processors."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.workers import on_threads
from kindynos.sampling.streams import stream
from kindynos.validate import checked, instance

BLOCK = 2_097_152  # shocks of one block at most, which bounds the memory
# trials of one block at most: rows that stay in the cache, and are long enough for threads to pay
WIDEST = 16_384
SMALLEST = 64  # trials of one block at least
COPIES = 4  # of the shocks of a block that are held at a time while it is worked out
# blocks, at least, where there are trials enough, so that all processors have something to do
SHARES = 2


@dataclass(frozen=True)
class PathDraws:
    """How many paths are drawn, of what length, and how their shocks are laid out."""

    periods: int
    trials: int
    seed: int
    dt: float
    antithetic: bool = False
    matching: bool = False
    uncertain: bool = False

    @checked
    def __post_init__(self) -> None:
        for name, value in (("antithetic", self.antithetic), ("moment_matching", self.matching)):
            instance(name, value, bool, "True or False")

    def parts(self, rows: int) -> list[slice]:
        """Return the blocks of trials for that many shocks a trial; an even number in each, so that
        pairs stay together.
        """
        size = max(SMALLEST, min(BLOCK // rows, WIDEST, -(-self.trials // SHARES))) // 2 * 2
        return [
            slice(begin, min(begin + size, self.trials)) for begin in range(0, self.trials, size)
        ]

    def normals(self, rows: int, span: slice, block: int) -> Floats:
        """Return the shocks of a block, ``(rows, trials)``."""
        trials = span.stop - span.start
        generator = stream(self.seed, "paths", block)
        if not self.antithetic:
            shocks = generator.standard_normal((rows, trials))
        else:
            half = -(-trials // 2)
            shocks = np.empty((rows, trials))
            shocks[:, :half] = generator.standard_normal((rows, half))
            np.negative(shocks[:, : trials - half], out=shocks[:, half:])
        if self.matching and trials > 2:
            shocks -= shocks.mean(axis=1, keepdims=True)
            shocks /= shocks.std(axis=1, keepdims=True)
        return shocks

    def rows(self, span: slice, block: int) -> Iterator[Floats]:
        """Give the same shocks row by row, where one row per period is enough and may be
        overwritten.
        """
        trials = span.stop - span.start
        generator = stream(self.seed, "paths", block)
        half = -(-trials // 2) if self.antithetic else trials
        row: Floats = np.empty(trials)
        for _ in range(self.periods):
            if not self.antithetic:
                generator.standard_normal(out=row)
                yield row
                continue
            row[:half] = generator.standard_normal(half)
            np.negative(row[: trials - half], out=row[half:])
            yield row


class Evolving(Protocol):
    """What drawing needs of a process; see ``Process``."""

    @property
    def shocks(self) -> int:
        """Standard normals a period."""

    @property
    def gap(self) -> int:
        """The periods before the first one that are drawn too."""

    @property
    def fitted(self) -> Any:
        """How it was fitted to a series."""

    def _ahead(self, shocks: Floats, dt: float, at: Any) -> Floats:
        """Return the values after each period, from shocks that begin in the gap."""

    def _parameters_at(self, scores: Floats) -> Any:
        """Return parameters, one set per trial, from standard normal scores."""


def each_block(process: Evolving, draws: PathDraws, fill: Callable[[slice, Floats], None]) -> None:
    """Work out every block of paths and hand it to ``fill`` with the trials it is."""
    shape = (process.shocks, process.gap + draws.periods, -1)
    rows = process.shocks * (process.gap + draws.periods)

    def work(block: int, span: slice) -> None:
        shocks = draws.normals(rows, span, block).reshape(shape)
        at = drawn_parameters(process, draws, span, block) if draws.uncertain else process
        with np.errstate(over="ignore", under="ignore"):
            fill(span, process._ahead(shocks, draws.dt, at))

    each_part(work, draws.parts(rows))


def each_part(work: Callable[[int, slice], None], parts: list[slice]) -> None:
    """Call ``work(block, part)`` for every part, on as many threads as this process may use."""
    on_threads(lambda block: work(block, parts[block]), range(len(parts)))


def drawn_parameters(process: Evolving, draws: PathDraws, span: slice, block: int) -> Any:
    """Return a fitted process's parameters drawn from their sampling distribution, one set per
    trial.
    """
    assert process.fitted is not None
    shape = (len(process.fitted.theta), span.stop - span.start)
    return process._parameters_at(stream(draws.seed, "parameters", block).standard_normal(shape))
