"""Drawing shocks block by block, on all processors."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.estimate import Estimate
from kindynos.sampling.streams import stream

if TYPE_CHECKING:
    from kindynos.processes.base import Process

Floats = NDArray[np.float64]

BLOCK = 2_097_152  # shocks of one block at most, which bounds the memory
WIDEST = 16_384  # trials of one block at most: rows that stay in the cache, and are long enough for threads to pay
SHARES = 2  # blocks, at least, where there are trials enough, so that all processors have something to do
CONFIDENCE = 1.959963984540054


@dataclass(frozen=True)
class Draws:
    """How many paths are drawn, of what length, and how their shocks are laid out."""

    periods: int
    trials: int
    seed: int
    dt: float
    antithetic: bool = False
    matching: bool = False
    uncertain: bool = False

    def parts(self, rows: int) -> list[slice]:
        """Return the blocks of trials for so many shocks a trial; an even number in each, so that pairs stay together."""
        size = min(max(64, BLOCK // rows), WIDEST, max(-(-self.trials // SHARES), 64)) // 2 * 2
        return [slice(begin, min(begin + size, self.trials)) for begin in range(0, self.trials, size)]

    def normals(self, rows: int, part: slice, block: int) -> Floats:
        """Return the shocks of a block, ``(rows, trials)``."""
        trials = part.stop - part.start
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

    def rows(self, part: slice, block: int) -> Iterator[Floats]:
        """Give the same shocks row by row, where one row a period is enough and may be overwritten."""
        trials = part.stop - part.start
        generator = stream(self.seed, "paths", block)
        half = -(-trials // 2) if self.antithetic else trials
        row: Floats = np.empty(trials)
        for _ in range(self.periods):
            row[:half] = generator.standard_normal(half)
            np.negative(row[: trials - half], out=row[half:])
            yield row


def each_block(process: Process, draws: Draws, fill: Callable[[slice, Floats], None]) -> None:
    """Work out every block of paths and hand it to ``fill`` with the trials it is."""
    rows = process.shocks * draws.periods
    shape = (process.shocks, draws.periods, -1)

    def work(block: int, part: slice) -> None:
        shocks = draws.normals(rows, part, block).reshape(shape)
        at = drawn_parameters(process, draws, part, block) if draws.uncertain else process
        with np.errstate(over="ignore", under="ignore"):
            fill(part, process.evolve(shocks, draws.dt, at))

    on_all(work, draws.parts(rows))


def on_all(work: Callable[[int, slice], None], parts: list[slice]) -> None:
    """Call ``work(block, part)`` for every part, on all processors."""
    if len(parts) == 1:
        work(0, parts[0])
        return
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(work, range(len(parts)), parts))


def drawn_parameters(process: Process, draws: Draws, part: slice, block: int) -> Any:
    """Return a fitted process's parameters drawn from their sampling distribution, one set a trial."""
    assert process.fitted is not None
    shape = (len(process.fitted.theta), part.stop - part.start)
    return process.parameters_at(stream(draws.seed, "parameters", block).standard_normal(shape))


def share_of(hits: NDArray[Any]) -> Estimate:
    """Return a share of independent trials (hits, or the chance of one in each) with its 95 % interval by Wilson's formula."""
    count, share = hits.size, float(hits.mean())
    variance = float(hits.var()) / max(count - 1, 1)
    effective = share * (1 - share) / variance if variance > 0 else float(count)
    weight = CONFIDENCE**2 / effective
    centre = (share + weight / 2) / (1 + weight)
    half = np.sqrt(share * (1 - share) * weight + weight**2 / 4) / (1 + weight)
    return Estimate(share, max(centre - half, 0.0), min(centre + half, 1.0))
