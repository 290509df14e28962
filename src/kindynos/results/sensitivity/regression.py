"""Sensitivity by a linear model of the outcome in the drivers."""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import FitWarning, RunError
from kindynos.inference.intervals import jackknife_error
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome
from kindynos.results.trials import SimulatedTrials

GROUPS = 20  # of blocks, left out one at a time
FEWEST, FEWEST_GROUPS = 200, 5  # trials and groups below which no error is given
LINEAR = 0.8  # share explained below which a model is called far from linear


def regression_sensitivity(
    run: SimulatedTrials, outcome: str, by_period: bool = False
) -> pd.DataFrame:
    """Return standardized regression coefficients: by how many sd the outcome moves when a driver
    moves by one.

    ``share of r squared`` is coefficient times correlation (Pratt, Proceedings of the Second
    International Tampere Conference in Statistics, 1987, 245-260); the shares add up to R², which
    is in ``attrs["r squared"]``. A FitWarning says so when it is below 0.8, the model then being
    far from linear. The periods of a driver are joined as the root of the sum of squares. Errors
    leave out one group of blocks at a time, and so hold for curved and uneven models too. Raises
    RunError with fewer trials than drivers.
    """
    values, has_value = valid_outcome(run, outcome)
    inputs = inputs_of(run, outcome, by_period)
    rows = [entry.rows(run)[:, has_value] for entry in inputs]
    x = np.concatenate(rows)
    y = _standardised(values[has_value][None])[0]
    x = _standardised(x)
    trials, count = x.shape[1], x.shape[0]
    if trials <= count + 2:
        raise RunError(
            f"regression on {count} inputs needs more than {count + 2} trials, not {trials}"
        )
    ends = [0, *np.cumsum([len(row) for row in rows])]
    sums = _sums_by_group(np.concatenate([x, y[None]]), run.drawing.blocks.bounds, has_value)
    total = sums.sum(axis=0)
    coefficients, shares, explained = _fitted(total, ends)
    errors = np.full(len(coefficients), np.nan)
    if len(sums) >= FEWEST_GROUPS and trials >= FEWEST:
        errors = np.array(
            [
                jackknife_error(c)
                for c in np.transpose([_fitted(total - row, ends)[0] for row in sums])
            ]
        )
    frame = pd.DataFrame(
        {"coefficient": coefficients, "error": errors, "share of r squared": shares}
    )
    frame.index = pd.Index([entry.label for entry in inputs], name="driver")
    frame.attrs["r squared"] = explained
    if explained < LINEAR:
        text = (
            f"regression explains {100 * explained:.0f} % of the variance of {outcome}: the "
            "model is far from linear"
        )
        warnings.warn(f"{text}; see the methods rank, sobol and shapley", FitWarning, stacklevel=4)
    return frame.sort_values("coefficient", key=np.abs, ascending=False, kind="stable")


def _sums_by_group(rows: Floats, bounds: NDArray[np.int64], has_value: NDArray[np.bool_]) -> Floats:
    """Return the sums of products of rows, with a row of ones first, over each of up to 20 groups
    of blocks.
    """
    bounds = np.unique(np.concatenate([[0], np.cumsum(has_value)])[bounds])
    cuts = bounds[
        np.linspace(0, len(bounds) - 1, min(GROUPS, len(bounds) - 1) + 1).astype(np.int64)
    ]
    parts = [np.vstack([np.ones(end - begin), rows[:, begin:end]]) for begin, end in pairwise(cuts)]
    return np.array([part @ part.T for part in parts])


def _fitted(sums: Floats, ends: Sequence[int]) -> tuple[Floats, Floats, float]:
    """Return each driver's standardized coefficient, its share of R², and R², from sums of
    products.
    """
    means = sums[0, 1:] / sums[0, 0]
    moments = sums[1:, 1:] / sums[0, 0] - np.outer(means, means)
    spread = np.sqrt(np.maximum(np.diag(moments), 0.0))
    moments = moments / np.outer(*[np.where(spread > 0, spread, 1.0)] * 2)
    joint = moments[:-1, -1]
    beta, *_ = np.linalg.lstsq(moments[:-1, :-1], joint, rcond=None)
    coefficients, shares = [], []
    for begin, end in pairwise(ends):
        slopes = beta[begin:end]
        coefficients.append(math.copysign(math.sqrt(float(slopes @ slopes)), slopes.sum()))
        shares.append(float(slopes @ joint[begin:end]))
    return np.array(coefficients), np.array(shares), float(beta @ joint)


def _standardised(rows: np.ndarray) -> np.ndarray:
    gaps = rows - rows.mean(axis=1, keepdims=True)
    spread = np.sqrt((gaps**2).mean(axis=1, keepdims=True))
    return np.asarray(gaps / np.where(spread > 0, spread, 1.0))
