"""Out-of-sample coverage: processes refitted to the first part of a series and scored on
what came after.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.fitting.series_candidates import Candidate
from kindynos.processes.base import Process

PATHS = 400  # of a fan
ORIGINS = 4
SEED = 0
BANDS = (0.50, 0.90)


@dataclass(frozen=True)
class ForecastScores:
    """What a process would have done on its own history.

    ``mae`` is the mean absolute error of the median, ``crps`` the continuous ranked probability
    score (both in the units of the series; lower is better), ``inside_50`` and ``inside_90`` the
    shares of later values inside the bands from 25 to 75 and from 5 to 95, over ``values`` values
    from ``origins`` origins.
    """

    mae: float
    crps: float
    inside_50: float
    inside_90: float
    values: int
    origins: int


def origins_of(values: Floats, season: int, horizon: int, count: int = ORIGINS) -> list[int]:
    """Return how many values are known at each origin, evenly from a half of the series to
    ``horizon`` before its end.
    """
    first = max(len(values) // 2, 3 * season if season > 1 else 20)
    last = len(values) - horizon
    if last < first:
        return []
    return sorted(
        {round(position) for position in np.linspace(first, last, min(count, last - first + 1))}
    )


def score(
    candidate: Candidate,
    whole: Process,
    values: Floats,
    origins: list[int],
    horizon: int,
    exog: Mapping[str, Sequence[float]],
) -> ForecastScores:
    """Return the scores of a process that is fitted again at each origin; NaN where none could be.

    Regressors are known ahead, so that each origin knows them too. The search
    begins at the process fitted to the ``whole`` series, which is quicker, and ends
    at its own maximum.
    """
    errors, ranked, inner, outer = [], [], [], []
    origins_used = 0
    for origin in origins:
        try:
            process = candidate.fit(values[:origin], whole, exog)
        except ParameterError:
            continue
        origins_used += 1
        later = values[origin : origin + horizon]
        fan = np.sort(process.paths(len(later), PATHS, SEED, uncertain=True)[1:], axis=1)
        seen = ~np.isnan(later)
        fan, later = fan[seen], later[seen]
        low, inside_low, middle, inside_high, high = np.quantile(
            fan, [0.05, 0.25, 0.5, 0.75, 0.95], axis=1
        )
        errors.append(np.abs(later - middle))
        ranked.append(crps(fan, later))
        inner.append((later >= inside_low) & (later <= inside_high))
        outer.append((later >= low) & (later <= high))
    if not origins_used:
        return ForecastScores(math.nan, math.nan, math.nan, math.nan, 0, 0)
    mae, mean_crps, inside, wide = (
        float(np.concatenate(by_origin).mean()) for by_origin in (errors, ranked, inner, outer)
    )
    return ForecastScores(mae, mean_crps, inside, wide, sum(map(len, errors)), origins_used)


def crps(fan: Floats, seen: Floats) -> Floats:
    """Return the continuous ranked probability score of sorted draws ``(values, draws)`` for each
    value seen.

    It is E|X - x| - E|X - X'| / 2, and falls with both bias and needless width. Source: Gneiting
    and Raftery, Journal of the American Statistical Association 102 (2007), 359-378.
    """
    count = fan.shape[1]
    weights = 2 * np.arange(1, count + 1) - count - 1
    spread = (fan * weights).sum(axis=1) / count**2
    return np.asarray(np.abs(fan - seen[:, None]).mean(axis=1) - spread)
