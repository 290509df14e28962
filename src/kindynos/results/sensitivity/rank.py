"""Sensitivity by rank correlation."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.results.correlations import correlation, ranks, with_error
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome

if TYPE_CHECKING:
    from kindynos.results.run import Run

Floats = NDArray[np.float64]


def rank_sensitivity(run: Run, name: str, by_period: bool = False) -> pd.DataFrame:
    """Return Spearman's rank correlation of each driver with a quantity, and each driver's share of variance.

    The share is the square of the correlation over the sum of these squares. A driver with a value each period has as its
    correlation the multiple rank correlation of all its periods with the quantity, signed like their joint effect. Errors
    are by Fisher's transformation with the variance of Bonett and Wright, Psychometrika 65 (2000), 23-28.
    """
    values, valid = valid_outcome(run, name, fewest=0)
    outcome = ranks(values[valid])
    rows = []
    for entry in inputs_of(run, name, by_period, everyone=True):
        drawn = entry.rows(run)[:, valid]
        figure = correlation(ranks(drawn[0]), outcome) if len(drawn) == 1 else _multiple(drawn, outcome)
        rows.append((entry.label, figure))
    squares = np.array([value**2 for _, value in rows])
    total = squares.sum()
    figures = [with_error(value, len(outcome)) for _, value in rows]
    frame = pd.DataFrame(
        {
            "rank correlation": [float(figure) for figure in figures],
            "error": [figure.error for figure in figures],
            "share of variance": squares / total if total > 0 else squares,
        },
        index=pd.Index([driver for driver, _ in rows], name="driver"),
    )
    return frame.sort_values("share of variance", ascending=False, kind="stable")


def _multiple(rows: Floats, outcome: Floats) -> float:
    """Return the multiple correlation of the rows' ranks with the outcome's, corrected for the number of rows."""
    ranked = np.stack([ranks(row) for row in rows])
    joint = ranked @ outcome
    coefficients, *_ = np.linalg.lstsq(ranked @ ranked.T, joint, rcond=None)
    explained = float(coefficients @ joint)
    trials, count = len(outcome), len(rows)
    if trials > count + 1:
        explained = max(1 - (1 - explained) * (trials - 1) / (trials - count - 1), 0.0)
    return math.copysign(math.sqrt(min(explained, 1.0)), joint.sum())
