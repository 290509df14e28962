"""Rank correlations with their errors, and those that a run has reached."""

from __future__ import annotations

import math

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.intervals import correlation_by_blocks
from kindynos.program.quantities import DistributionDriver, ProcessDriver
from kindynos.results.trials import SimulatedTrials

COLUMNS = ["first", "second", "copula", "kind", "requested", "reached", "error", "low", "high"]
MOST_TRIALS = 20_000  # looked at
MOST_VALUES = 2_000_000  # held for it at a time


def reached_correlations(run: SimulatedTrials) -> pd.DataFrame:
    """Return a row for each stated pair: drivers, copula, kind, requested, reached, and the error
    of what was reached.

    Of long runs the first trials are enough: about 20,000 are looked at, or 10 blocks, which the
    error reflects.
    """
    correlations = run.program.correlations
    names = list(dict.fromkeys(name for entry in correlations for name in entry.names))
    moved, bounds = _moved(run, names)
    scaled: dict[str, dict[str, Floats]] = {name: {} for name in names}
    rows = []
    for entry in correlations:
        for place, first in enumerate(entry.names):
            for second in entry.names[place + 1 :]:
                a, b = (_scaled(scaled[name], moved[name], entry.kind) for name in (first, second))
                figure = correlation_by_blocks(a, b, bounds)
                rows.append(
                    (
                        first,
                        second,
                        entry.copula,
                        entry.kind,
                        entry.value,
                        float(figure),
                        figure.error,
                        figure.low,
                        figure.high,
                    )
                )
    return pd.DataFrame(rows, columns=COLUMNS)


def _moved(run: SimulatedTrials, names: list[str]) -> tuple[dict[str, Floats], NDArray[np.int64]]:
    """Return what correlations are of, ``(periods, trials)``: values, and of a process its returns.

    Jumps and regimes of two processes are independent, so that their returns move less together
    than their shocks.
    """
    program = run.program
    rows = (
        max((program.periods if program.drivers[name].shape.row else 1) for name in names)
        if names
        else 1
    )
    blocks = run.drawing.blocks.leading(
        min(MOST_TRIALS, MOST_VALUES // (rows * max(len(names), 1)))
    )
    found: dict[str, list[Floats]] = {name: [] for name in names}
    for block in range(blocks.count):
        scores = program.scores(run.drawing.plan, run.seed, block, blocks.size(block), set(names))
        for name in names:
            driver = program.drivers[name]
            if isinstance(driver, DistributionDriver):
                found[name].append(np.atleast_2d(driver.values(scores)))
            else:
                assert isinstance(driver, ProcessDriver)
                found[name].append(driver.changes(scores))
    return {name: np.concatenate(parts, axis=-1) for name, parts in found.items()}, blocks.bounds


def _scaled(known: dict[str, Floats], values: Floats, kind: str) -> Floats:
    """Return ranks, or values about their mean, computed once for each driver."""
    if kind not in known:
        known[kind] = (
            values - values.mean(axis=-1, keepdims=True)
            if kind == "linear"
            else np.stack([ranks(v) for v in values])
        )
    return known[kind]


def ranks(values: Floats) -> Floats:
    """Return ranks about their mean, equal values sharing theirs, scaled to a length of 1 (0 where
    all are equal).
    """
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    first = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    sizes = np.diff(np.concatenate([first, [len(values)]]))
    found = np.empty(len(values))
    found[order] = np.repeat(first + (sizes - 1) / 2, sizes)
    found -= found.mean() if len(values) else 0.0
    length = math.sqrt(float(found @ found))
    return found / length if length > 0 else found


def correlation(a: Floats, b: Floats) -> float:
    """Return the correlation of values about their means, scaled to a length of 1."""
    return float(a @ b)
