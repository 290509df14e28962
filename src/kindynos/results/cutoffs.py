"""The chances on both sides of a cut-off that a reader may move: at points of an outcome, with what
their intervals are made of.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.results.result import Result
from kindynos.results.statistics import effective_trials, gives_an_error

MOST_POINTS = 300


@dataclass(frozen=True)
class Cutoffs:
    """Cut-offs in order, with the share of all trials below each of them and at most at it.

    Of the shares below and above, ``trials`` says how many independent trials they are worth and
    ``points`` which point of Student's t belongs to them, ``(2, cut-offs)``: Wilson's interval is
    made of these. No number of trials: too few to give an interval.
    """

    values: Floats
    below: Floats
    upto: Floats
    with_a_value: float
    trials: Floats
    points: Floats


def cutoffs(result: Result, at: tuple[float, ...] = ()) -> Cutoffs:
    """Return the cut-offs of an outcome: its values where they are few, else quantiles in equal
    steps, and those ``at`` which the chances must be exact.
    """
    sample = result.ranked
    finite = np.unique(sample.valid[np.isfinite(sample.valid)])
    if len(finite) > MOST_POINTS:
        finite = finite[np.linspace(0, len(finite) - 1, MOST_POINTS).astype(int)]
    values = np.unique(np.concatenate([finite, at]))
    shares, trials, points = [], [], []
    for value in values.tolist():
        sides = (sample.hits(None, value, None), sample.hits(value, None, None))
        shares.append([hits.mean for hits in sides])
        effective = [
            effective_trials(hits, sample.together)
            if gives_an_error(hits, sample)
            else (np.nan, np.nan)
            for hits in sides
        ]
        trials.append([count for count, _ in effective])
        points.append([point for _, point in effective])
    below, above = np.array(shares).T
    whole = sample.share_with_a_value
    return Cutoffs(values, below, whole - above, whole, np.array(trials).T, np.array(points).T)
