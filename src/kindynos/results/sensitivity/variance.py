"""Shares of variance of independent drivers, first-order and total, by evaluating the model at
exchanged drivers.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.dependence.scores import Scores
from kindynos.errors import RunError
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import jackknifed
from kindynos.program.correlations import serial_of
from kindynos.results.sensitivity.inputs import Input, inputs_of, valid_outcome, work_out
from kindynos.results.trials import SimulatedTrials
from kindynos.sampling.plans import ScoreRequest, SobolInOrder
from kindynos.validate import check_integer

# independent replicates, whose spread gives the error; more would be too small for Sobol' points to
# pay
BLOCKS = 8
AGAIN = " again"  # names the second, independent draw of a driver


def sobol_sensitivity(
    run: SimulatedTrials, outcome: str, by_period: bool = False, *, evaluations: int = 65_536
) -> pd.DataFrame:
    """Return each driver's first-order and total share of the outcome's variance, with 95 % errors.

    First-order is what the driver explains alone, total what is lost when it is exchanged, its
    interplay included; drivers must be independent. ``evaluations`` of the model are made at most,
    at Sobol' points in 8 independent replicates. Raises RunError for drivers that move together
    (see "shapley") and for too few evaluations.

    Source: Sobol', Mathematics and Computers in Simulation 55 (2001), 271-280, with the estimator
    of Janon, Klein, Lagnoux, Nodet and Prieur, ESAIM: Probability and Statistics 18 (2014),
    342-364.
    """
    valid_outcome(run, outcome)
    linked = [name for group in run.program.groups if len(group.names) > 1 for name in group.names]
    if linked:
        raise RunError(
            f"sobol needs independent drivers, and {', '.join(linked)} move together; see "
            "method='shapley'"
        )
    inputs = inputs_of(run, outcome, by_period)
    chained = [
        entry.driver for entry in inputs if entry.period is not None and _serial(run, entry.driver)
    ]
    if chained:
        raise RunError(
            f"the periods of {chained[0]!r} depend on each other; sobol takes them together only"
        )
    size = check_integer("evaluations", evaluations, least=1) // (BLOCKS * (len(inputs) + 2))
    if size < 16:
        raise RunError(
            f"sobol of {len(inputs)} inputs needs {BLOCKS * 16 * (len(inputs) + 2):,} evaluations "
            "or more"
        )
    size = 2 ** (size.bit_length() - 1)
    sums = np.stack([_block(run, outcome, inputs, block, size) for block in range(BLOCKS)])
    records = []
    for position in range(len(inputs)):
        first = jackknifed_share(sums[:, position], lambda s: _share(s[:4]))
        total = jackknifed_share(sums[:, position], lambda s: 1 - _share(s[4:]))
        records.append((float(first), first.error, float(total), total.error))
    frame = pd.DataFrame(records, columns=["first order", "error", "total", "error of total"])
    frame.index = pd.Index([entry.label for entry in inputs], name="driver")
    frame.attrs["evaluations"] = BLOCKS * size * (len(inputs) + 2)
    return frame.sort_values("total", ascending=False, kind="stable")


def _serial(run: SimulatedTrials, name: str) -> bool:
    return serial_of(run.program.drivers[name]) is not None


def two_draws(
    run: SimulatedTrials, block: int, trials: int, names: list[str]
) -> tuple[dict[str, Floats], dict[str, Floats]]:
    """Return two independent sets of scores of the named drivers, ``(trials,)`` or ``(periods,
    trials)``, at Sobol' points.
    """
    requested = [
        request
        for name in names
        for request in run.program.drivers[name].requests(run.program.periods)
    ]
    again = [ScoreRequest(request.name + AGAIN, request.rows) for request in requested]
    scores = SobolInOrder().scores([*requested, *again], run.seed, block, trials)
    return {r.name: scores[r.name] for r in requested}, {
        r.name: scores[r.name + AGAIN] for r in requested
    }


def values_at(run: SimulatedTrials, scores: dict[str, Floats]) -> dict[str, Floats]:
    """Return the drivers' values at independent scores; those that follow their own past do so."""
    replaced = Scores(scores)
    for group in run.program.groups:
        if len(group.names) == 1 and group.names[0] in replaced:
            replaced = replaced.replaced(group.apply(replaced, False))
    with np.errstate(all="ignore"):
        return {
            name: run.program.drivers[name].values(replaced)
            for name in replaced
            if name in run.program.drivers
        }


def _block(
    run: SimulatedTrials, outcome: str, inputs: list[Input], block: int, size: int
) -> Floats:
    """Return the sums over one replicate that the shares are made of, ``(inputs, 8)``."""
    names = list(dict.fromkeys(entry.driver for entry in inputs))
    one, two = (values_at(run, scores) for scores in two_draws(run, block, size, names))
    cases = [one, two]
    for entry in inputs:
        mixed = one[entry.driver].copy()
        rows = slice(None) if entry.period is None else entry.period
        mixed[rows] = two[entry.driver][rows]
        cases.append({**one, entry.driver: mixed})
    side_by_side = {name: np.concatenate([case[name] for case in cases], axis=-1) for name in names}
    figures = work_out(run, outcome, side_by_side, size * len(cases)).reshape(len(cases), size)
    return np.array(
        [[*_sums(figures[1], mixed), *_sums(figures[0], mixed)] for mixed in figures[2:]]
    )


def _sums(a: Floats, b: Floats) -> tuple[float, float, float, float]:
    """Return what a correlation of pairs is made of: count, sums of products, of halves, and of
    half squares.
    """
    finite = np.isfinite(a) & np.isfinite(b)
    a, b = a[finite], b[finite]
    return float(len(a)), float(a @ b), float(a.sum() + b.sum()) / 2, float(a @ a + b @ b) / 2


def _share(sums: Floats) -> float:
    """Return the correlation of pairs that have the same distribution."""
    count, products, halves, squares = sums
    variance = squares / count - (halves / count) ** 2
    return (
        float((products / count - (halves / count) ** 2) / variance) if variance > 0 else math.nan
    )


def jackknifed_share(sums: Floats, share: Callable[[Floats], float]) -> Estimate:
    """Return a figure made of sums over all replicates ``(blocks, sums)``, with its error by
    leaving out one at a time.
    """
    total = sums.sum(axis=0)
    return jackknifed(share(total), np.array([share(total - part) for part in sums]))
