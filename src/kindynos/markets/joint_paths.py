"""Paths of the prices of several instruments together, with or without the error of a history."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.inference.block_bootstrap import block_positions
from kindynos.processes.bootstrap import BootstrapReturns
from kindynos.processes.brownian import GeometricBrownianMotion
from kindynos.processes.pathset import PathSet
from kindynos.sampling.streams import stream

GROUPS = 100  # of trials, each with a history of its own


def paths_together(prices: pd.DataFrame, process: str, block: float | None) -> PathSet:
    """Return the process fitted to the prices of instruments, a column each."""
    if process == "bootstrap returns":
        return BootstrapReturns.fit(prices, block=block)
    moves = pd.DataFrame(np.diff(np.log(prices.to_numpy()), axis=0))
    fitted = {
        str(name): GeometricBrownianMotion.fit(prices[name].to_numpy()) for name in prices.columns
    }
    return PathSet(fitted, moves.corr().to_numpy())


def uncertain_paths(
    prices: pd.DataFrame, process: str, block: float | None, periods: int, trials: int, seed: int
) -> Floats:
    """Return paths ``(instruments, periods + 1, trials)`` of processes fitted to histories that are
    drawn again from the one at hand, in blocks, and end at its last prices.
    """
    logs = np.log(prices.to_numpy())
    moves = np.diff(logs, axis=0)
    count = len(moves)
    bounds = np.linspace(0, trials, min(GROUPS, trials) + 1).astype(int)
    pieces = []
    for group, (first, last) in enumerate(pairwise(bounds)):
        generator = stream(seed, "history of paths", group)
        drawn = moves[block_positions(generator, 1, count, count ** (1 / 3))[0]]
        history = np.vstack([np.zeros(logs.shape[1]), np.cumsum(drawn, axis=0)])
        shifted = np.exp(history - history[-1] + logs[-1])
        shifted[-1] = prices.to_numpy()[-1]  # to the bit
        frame = pd.DataFrame(shifted, prices.index, prices.columns)
        own_seed = int(generator.integers(2**62))
        pieces.append(
            paths_together(frame, process, block).paths(periods, int(last - first), own_seed)
        )
    return np.concatenate(pieces, axis=2)
