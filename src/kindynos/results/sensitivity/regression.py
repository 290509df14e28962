"""Sensitivity by a linear model of the outcome in the drivers."""

from __future__ import annotations

import math
import warnings
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy.special import ndtri

from kindynos.errors import FitWarning, RunError
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome

if TYPE_CHECKING:
    from kindynos.results.run import Run

LINEAR = 0.8  # share explained below which a model is called far from linear


def regression_sensitivity(run: Run, outcome: str, by_period: bool = False) -> pd.DataFrame:
    """Return standardised regression coefficients: by how many sd the outcome moves when a driver moves by one.

    ``share of variance`` is coefficient times correlation (Pratt, Proceedings of the Second International Tampere Conference in
    Statistics, 1987, 245-260); the shares add up to R², which is in ``attrs["r squared"]``. A FitWarning says so when it is
    below 0.8, the model then being far from linear. The periods of a driver are joined as the root of the sum of squares.
    Raises RunError with fewer trials than drivers.
    """
    values, valid = valid_outcome(run, outcome)
    inputs = inputs_of(run, outcome, by_period)
    rows = [entry.rows(run)[:, valid] for entry in inputs]
    x = np.concatenate(rows)
    y = _standardised(values[valid][None])[0]
    x = _standardised(x)
    trials, count = x.shape[1], x.shape[0]
    if trials <= count + 2:
        raise RunError(f"sensitivity: regression on {count} inputs needs more than {count + 2} trials, not {trials}")
    moments = x @ x.T / trials
    joint = x @ y / trials
    coefficients, *_ = np.linalg.lstsq(moments, joint, rcond=None)
    explained = float(coefficients @ joint)
    spread = max(1 - explained, 0.0) / (trials - count - 1)
    errors = float(ndtri(0.975)) * np.sqrt(spread * np.maximum(np.diag(np.linalg.pinv(moments)), 0))
    ends = np.cumsum([len(part) for part in rows])
    records = []
    for begin, end in zip([0, *ends[:-1]], ends, strict=True):
        beta, error = coefficients[begin:end], errors[begin:end]
        size = math.sqrt(float(beta @ beta))
        joined = float(np.sqrt(np.sum((beta * error) ** 2)) / size) if size > 0 else float(error.max())
        records.append((math.copysign(size, beta.sum()), joined, float(beta @ joint[begin:end])))
    frame = pd.DataFrame(records, columns=["coefficient", "error", "share of variance"])
    frame.index = pd.Index([entry.label for entry in inputs], name="driver")
    frame.attrs["r squared"] = explained
    if explained < LINEAR:
        text = f"regression explains {100 * explained:.0f} % of the variance of {outcome}: the model is far from linear"
        warnings.warn(f"{text}; see the methods rank, sobol and shapley", FitWarning, stacklevel=4)
    return frame.sort_values("coefficient", key=np.abs, ascending=False, kind="stable")


def _standardised(rows: np.ndarray) -> np.ndarray:
    gaps = rows - rows.mean(axis=1, keepdims=True)
    spread = np.sqrt((gaps**2).mean(axis=1, keepdims=True))
    return np.asarray(gaps / np.where(spread > 0, spread, 1.0))
