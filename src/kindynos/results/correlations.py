"""Rank correlations with their errors, and those that a run has reached."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy.special import ndtri

from kindynos.estimate import Estimate
from kindynos.model.links import Link

if TYPE_CHECKING:
    from kindynos.results.run import Run

Floats = NDArray[np.float64]


def reached_correlations(run: Run, links: Sequence[Link]) -> pd.DataFrame:
    """Return a row for each stated pair: drivers, copula, kind, asked, reached, and the error of what was reached."""
    rows: list[dict[str, object]] = []
    for link in links:
        for place, first in enumerate(link.names):
            for second in link.names[place + 1 :]:
                pairs = zip(_moved(run, first), _moved(run, second), strict=True)
                linear = link.kind == "linear"
                found = [correlation(_scaled(a, linear), _scaled(b, linear)) for a, b in pairs]
                figure = with_error(float(np.mean(found)), run.size * len(found))
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


def _moved(run: Run, name: str) -> Floats:
    """Return what a correlation is of, period by period: values, and of a process its shocks (as normal scores)."""
    if run.program.drivers[name].process is None:
        return np.atleast_2d(run[name].values)
    return np.asarray(ndtri(run.shocks(name)))


def _scaled(values: Floats, linear: bool) -> Floats:
    if not linear:
        return ranks(values)
    gaps = values - values.mean()
    return np.asarray(gaps / max(math.sqrt(float(gaps @ gaps)), 1e-300))


def ranks(values: Floats) -> Floats:
    """Return ranks about their mean, equal values sharing theirs, scaled to a length of 1 (0 where all are equal)."""
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


def with_error(value: float, trials: int) -> Estimate:
    """Return a rank correlation with its interval by Fisher's transformation."""
    if trials < 200 or abs(value) >= 1:
        return Estimate(value)
    reach = float(ndtri(0.975)) * math.sqrt((1 + value**2 / 2) / (trials - 3))
    centre = math.atanh(value)
    return Estimate(value, math.tanh(centre - reach), math.tanh(centre + reach))
