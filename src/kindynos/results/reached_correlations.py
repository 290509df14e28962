"""Rank correlations with their errors, and those that a run has reached."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import correlations_by_blocks
from kindynos.program.correlations import Correlation
from kindynos.program.program import Program
from kindynos.program.quantities import DistributionDriver, ProcessDriver
from kindynos.results.trials import SimulatedTrials

COLUMNS = ["first", "second", "copula", "kind", "requested", "reached", "error", "low", "high"]
MOST_TRIALS = 20_000  # looked at
MOST_VALUES = 2_000_000  # held for it at a time


def reached_correlations(run: SimulatedTrials) -> pd.DataFrame:
    """Return a row for each stated pair: drivers, copula, kind, requested, reached, and the error
    of what was reached. Where a parameter of a driver is another quantity, its correlations are
    stated and measured given its parameters.

    Of long runs the first trials are enough: about 20,000 are looked at, or 10 blocks, which the
    error reflects.
    """
    correlations = run.program.correlations
    names = list(dict.fromkeys(name for entry in correlations for name in entry.names))
    mixed = _mixed(correlations, run.program)
    shifted, levels, bounds = _moved(run, names, mixed)
    reached: dict[tuple[str, frozenset[str]], Estimate] = {}
    alike_rows = list(_alike(correlations, shifted))
    for kind, alike in [*alike_rows, *([("rank", levels)] if levels else [])]:
        values = np.stack([_scaled(moves, kind) for moves in alike.values()], axis=1)
        pairs = map(frozenset, combinations(alike, 2))
        reached |= {
            (kind, pair): figure
            for pair, figure in zip(pairs, correlations_by_blocks(values, bounds), strict=True)
            if (kind, pair) not in reached
        }
    rows = []
    for entry in correlations:
        for first, second in combinations(entry.names, 2):
            figure = reached[entry.kind, frozenset((first, second))]
            interval = (float(figure), figure.error, figure.low, figure.high)
            rows.append((first, second, entry.copula, entry.kind, entry.value, *interval))
    return pd.DataFrame(rows, columns=COLUMNS)


def _alike(
    correlations: Sequence[Correlation], shifted: Mapping[str, Floats]
) -> Iterator[tuple[str, dict[str, Floats]]]:
    """Yield each kind of correlation with the moves of the drivers it is stated of, those with
    as many rows together.
    """
    for kind in dict.fromkeys(entry.kind for entry in correlations):
        names = dict.fromkeys(
            name for entry in correlations if entry.kind == kind for name in entry.names
        )
        for rows in dict.fromkeys(len(shifted[name]) for name in names):
            yield kind, {name: shifted[name] for name in names if len(shifted[name]) == rows}


def _mixed(correlations: Sequence[Correlation], program: Program) -> list[str]:
    """Return the drivers of correlations between one number per trial and one each period."""
    rows = {name: driver.each_period for name, driver in program.drivers.items()}
    return list(
        dict.fromkeys(
            name
            for entry in correlations
            if len({rows[name] for name in entry.names}) > 1
            for name in entry.names
        )
    )


def _moved(
    run: SimulatedTrials, names: list[str], mixed: Sequence[str]
) -> tuple[dict[str, Floats], dict[str, Floats], NDArray[np.int64]]:
    """Return what correlations are of, ``(periods, trials)``: values, and of a process its returns;
    the levels ``(1, trials)`` of the ``mixed`` ones, their means over all periods; and the ends of
    the blocks.

    Jumps and regimes of two processes come together as far as the correlation of their returns
    needs; where that is not enough, less is reached than was stated.
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
    kept = {
        name: np.atleast_2d(run[name].values[..., : blocks.trials])
        for name in names
        if name in run.kept and isinstance(program.drivers[name], DistributionDriver)
    }
    by_name: dict[str, list[Floats]] = {name: [] for name in names if name not in kept}
    levels: dict[str, list[Floats]] = {name: [] for name in mixed if name in by_name}
    for block in range(blocks.count if by_name else 0):
        scores = program.scores(run.drawing.plan, run.seed, block, blocks.size(block), set(by_name))
        for name, parts in by_name.items():
            driver = program.drivers[name]
            if name in levels:
                values = np.atleast_2d(driver.values(scores))
                levels[name].append(values.mean(axis=0, keepdims=True))
            if isinstance(driver, ProcessDriver):
                parts.append(driver.changes(scores))
            else:  # of a driver with named parameters its score, given these
                parts.append(np.atleast_2d(driver.values(scores)))
    drawn = {name: np.concatenate(parts, axis=-1) for name, parts in by_name.items()}
    means = {name: np.concatenate(parts, axis=-1) for name, parts in levels.items()}
    means |= {name: kept[name].mean(axis=0, keepdims=True) for name in mixed if name in kept}
    return kept | drawn, means, blocks.bounds


def _scaled(values: Floats, kind: str) -> Floats:
    """Return ranks, or values about their mean."""
    if kind == "linear":
        return np.asarray(values - values.mean(axis=-1, keepdims=True))
    return np.stack([ranks(row) for row in values])


def ranks(values: Floats) -> Floats:
    """Return ranks about their mean, equal values sharing theirs, scaled to a length of 1 (0 where
    all are equal).
    """
    order = np.argsort(values)  # equal values share their rank, in whichever order they come
    ordered = values[order]
    first = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    sizes = np.diff(np.concatenate([first, [len(values)]]))
    centred = np.empty(len(values))
    centred[order] = np.repeat(first + (sizes - 1) / 2, sizes)
    centred -= centred.mean() if len(values) else 0.0
    length = math.sqrt(float(centred @ centred))
    return centred / length if length > 0 else centred


def correlation(a: Floats, b: Floats) -> float:
    """Return the correlation of values about their means, scaled to a length of 1."""
    return float(a @ b)
