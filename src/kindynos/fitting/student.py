"""Student's t from data, by maximum likelihood, for many samples at once."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.real_line import StudentTByScale
from kindynos.distributions.special import gammaln
from kindynos.engine.workers import on_threads
from kindynos.errors import ParameterError
from kindynos.validate import array_of

FEWEST_DF, MOST_DF = 2.1, 200.0
STEPS = 200
SHARP = 1e-9  # relative change of the variance at which the steps for a given df stop
CHUNK = 128  # samples worked on at a time


def fit_student(values: ArrayLike) -> StudentTByScale:
    """Return the t distribution that makes data likeliest, by location, scale and degrees of freedom (2.1 to 200).

    The EM steps of Liu and Rubin, Statistica Sinica 5 (1995), 19-39, with the degrees of freedom sought by golden section.
    Raises ParameterError for fewer than 8 values or values that are all equal.

    >>> fit_student([-2.0, -1.0, -0.5, 0.0, 0.2, 0.5, 1.1, 2.2]).df > 2
    True
    """
    x = array_of("fit_student", "values", values).reshape(-1)
    if len(x) < 8 or not np.isfinite(x).all() or np.ptp(x) == 0:
        raise ParameterError("needs at least 8 finite values that are not all equal", owner="fit_student")
    df = _degrees(x[None])
    _, location, variance = _given_df(x[None], df)
    return StudentTByScale(float(df[0]), float(location[0]), math.sqrt(float(variance[0])))


def student_degrees(rows: Floats) -> Floats:
    """Return the fitted degrees of freedom of each row ``(rows, values)``; 200 stands for normal data."""
    answer: Floats = np.empty(len(rows))

    def work(begin: int) -> None:
        answer[begin : begin + CHUNK] = _degrees(rows[begin : begin + CHUNK])

    on_threads(work, range(0, len(rows), CHUNK))
    return answer


def _degrees(x: Floats) -> Floats:
    """Return the better of the two last candidates of a golden-section search over 1 / df, row by row."""
    ratio = (math.sqrt(5) - 1) / 2
    low, high = np.full(len(x), 1 / MOST_DF), np.full(len(x), 1 / FEWEST_DF)
    a, b = high - ratio * (high - low), low + ratio * (high - low)
    at_a, at_b = _given_df(x, 1 / a)[0], _given_df(x, 1 / b)[0]
    while (high - low > 1e-3).any():
        left = at_a > at_b
        high, low = np.where(left, b, high), np.where(left, low, a)
        kept, at_kept = np.where(left, a, b), np.where(left, at_a, at_b)
        fresh = np.where(left, high - ratio * (high - low), low + ratio * (high - low))
        at_fresh = _given_df(x, 1 / fresh)[0]
        a, at_a = np.where(left, fresh, kept), np.where(left, at_fresh, at_kept)
        b, at_b = np.where(left, kept, fresh), np.where(left, at_kept, at_fresh)
    return np.asarray(1 / np.where(at_a >= at_b, a, b))


def _given_df(x: Floats, df: Floats) -> tuple[Floats, Floats, Floats]:
    """Return log likelihood, location and squared scale of each row at given degrees of freedom."""
    location, variance = np.median(x, axis=1), x.var(axis=1) * (df - 2) / df
    active = np.arange(len(x))
    for _ in range(STEPS):
        rows, freedom, spread = x[active], df[active, None], variance[active, None]
        weights = (freedom + 1) / (freedom + (rows - location[active, None]) ** 2 / spread)
        total = weights.sum(axis=1)
        moved = (weights * rows).sum(axis=1) / total
        fresh = (weights * (rows - moved[:, None]) ** 2).sum(axis=1) / total  # the faster variant of the scale's step
        done = np.abs(fresh - variance[active]) <= SHARP * variance[active]
        location[active], variance[active] = moved, fresh
        active = active[~done]
        if not len(active):
            break
    logs = -(df[:, None] + 1) / 2 * np.log1p((x - location[:, None]) ** 2 / (df * variance)[:, None])
    constant = gammaln((df + 1) / 2) - gammaln(df / 2) - 0.5 * np.log(df * math.pi * variance)
    return logs.sum(axis=1) + x.shape[1] * constant, location, variance
