"""Which drivers matter: measures of how much each moves an outcome."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy.special import ndtri

from kindynos.errors import RunError
from kindynos.model.links import Link
from kindynos.results.estimate import Estimate

if TYPE_CHECKING:
    from kindynos.results.run import Run

Floats = NDArray[np.float64]


def rank_sensitivity(run: Run, name: str, by_period: bool = False) -> pd.DataFrame:
    """Return Spearman's rank correlation of each driver with a quantity, and each driver's share of variance.

    The share is the square of the correlation over the sum of these squares. A driver with a value each period has as its
    correlation the multiple rank correlation of all its periods with the quantity, signed like their joint effect. Errors
    are by Fisher's transformation with the variance of Bonett and Wright, Psychometrika 65 (2000), 23-28.
    """
    result = run[name]
    if result.is_row:
        raise RunError(f"sensitivity: {name!r} is a row; ask for a quantity with one number a trial, such as total({name})")
    valid = np.isfinite(result.values)
    outcome = _ranks(result.values[valid])
    rows = []
    for driver in run.drivers:
        if driver == name:
            continue
        drawn = run[driver]
        if not drawn.is_row:
            rows.append((driver, _correlation(_ranks(drawn.values[valid]), outcome)))
        elif by_period:
            for label, values in zip(run.labels, drawn.values, strict=True):
                rows.append((f"{driver} {label}", _correlation(_ranks(values[valid]), outcome)))
        else:
            rows.append((driver, _multiple(drawn.values[:, valid], outcome)))
    squares = np.array([value**2 for _, value in rows])
    total = squares.sum()
    figures = [_with_error(value, len(outcome)) for _, value in rows]
    frame = pd.DataFrame(
        {
            "rank correlation": [float(figure) for figure in figures],
            "error": [figure.error for figure in figures],
            "share of variance": squares / total if total > 0 else squares,
        },
        index=pd.Index([driver for driver, _ in rows], name="driver"),
    )
    return frame.sort_values("share of variance", ascending=False, kind="stable")


def reached_correlations(run: Run, links: Sequence[Link]) -> pd.DataFrame:
    """Return a row for each stated pair: drivers, copula, kind, asked, reached, and the error of what was reached."""
    rows: list[dict[str, object]] = []
    for link in links:
        for place, first in enumerate(link.names):
            for second in link.names[place + 1 :]:
                pairs = zip(np.atleast_2d(run[first].values), np.atleast_2d(run[second].values), strict=True)
                linear = link.kind == "linear"
                found = [_correlation(_scaled(a, linear), _scaled(b, linear)) for a, b in pairs]
                figure = _with_error(float(np.mean(found)), run.size * len(found))
                rows.append(
                    {
                        "first": first,
                        "second": second,
                        "copula": link.copula,
                        "kind": link.kind,
                        "asked": link.figure,
                        "reached": float(figure),
                        "error": figure.error,
                    }
                )
    return pd.DataFrame(rows, columns=["first", "second", "copula", "kind", "asked", "reached", "error"])


def _scaled(values: Floats, linear: bool) -> Floats:
    if not linear:
        return _ranks(values)
    gaps = values - values.mean()
    return np.asarray(gaps / max(math.sqrt(float(gaps @ gaps)), 1e-300))


def _ranks(values: Floats) -> Floats:
    """Return ranks about their mean, equal values sharing theirs, scaled to a length of 1 (0 where all are equal)."""
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    first = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    sizes = np.diff(np.concatenate([first, [len(values)]]))
    ranks = np.empty(len(values))
    ranks[order] = np.repeat(first + (sizes - 1) / 2, sizes)
    ranks -= ranks.mean() if len(values) else 0.0
    length = math.sqrt(float(ranks @ ranks))
    return ranks / length if length > 0 else ranks


def _correlation(a: Floats, b: Floats) -> float:
    return float(a @ b)


def _multiple(rows: Floats, outcome: Floats) -> float:
    """Return the multiple correlation of the rows' ranks with the outcome's, corrected for the number of rows."""
    ranks = np.stack([_ranks(row) for row in rows])
    joint = ranks @ outcome
    coefficients, *_ = np.linalg.lstsq(ranks @ ranks.T, joint, rcond=None)
    explained = float(coefficients @ joint)
    trials, count = len(outcome), len(rows)
    if trials > count + 1:
        explained = max(1 - (1 - explained) * (trials - 1) / (trials - count - 1), 0.0)
    return math.copysign(math.sqrt(min(explained, 1.0)), joint.sum())


def _with_error(correlation: float, trials: int) -> Estimate:
    if trials < 200 or abs(correlation) >= 1:
        return Estimate(correlation)
    reach = float(ndtri(0.975)) * math.sqrt((1 + correlation**2 / 2) / (trials - 3))
    centre = math.atanh(correlation)
    return Estimate(correlation, math.tanh(centre - reach), math.tanh(centre + reach))
