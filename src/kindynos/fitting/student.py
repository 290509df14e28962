"""Student's t from data, by maximum likelihood, for many samples at once."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.real_line import StudentTByScale
from kindynos.distributions.special import gammaln, stdtrit
from kindynos.engine.workers import on_threads
from kindynos.errors import ParameterError
from kindynos.processes.likelihood import at_the_peak
from kindynos.sampling.streams import stream
from kindynos.validate import array_of, checked

FEWEST_DF, MOST_DF = 2.1, 200.0
STEPS = 200
LEAST = 1e-9  # of the variance of the values: the smallest squared scale
SHARP = 1e-9  # relative change of the variance at which the steps for a given df stop
ROUGH = 1e-5  # the same while degrees of freedom are compared
DRAWS = 1000  # of the parameters of a fit
CHUNK = 128  # samples worked on at a time


@checked
def fit_student(values: ArrayLike) -> StudentTByScale:
    """Return the t distribution that makes data likeliest, by location, scale and degrees of
    freedom (2.1 to 200).

    The EM steps of Liu and Rubin, Statistica Sinica 5 (1995), 19-39, with the degrees of freedom
    sought by golden section. Raises ParameterError for fewer than 8 values or values that are all
    equal.

    >>> fit_student([-2.0, -1.0, -0.5, 0.0, 0.2, 0.5, 1.1, 2.2]).df > 2
    True
    """
    x = array_of("values", values).reshape(-1)
    if len(x) < 8 or not np.isfinite(x).all() or np.ptp(x) == 0:
        raise ParameterError("needs at least 8 finite values that are not all equal")
    df = _degrees(x[None])
    _, location, variance = _given_df(x[None], df)
    return StudentTByScale(float(df[0]), float(location[0]), math.sqrt(float(variance[0])))


@dataclass(frozen=True)
class StudentFits:
    """The likeliest Student's t of each of several samples: degrees of freedom, location and scale
    ``(samples,)``.
    """

    df: Floats
    location: Floats
    scale: Floats


def fit_students(rows: Floats) -> StudentFits:
    """Return the fit to each row ``(rows, values)``; 200 degrees of freedom stand for normal
    data.
    """
    df = np.empty(len(rows))

    def work(begin: int) -> None:
        df[begin : begin + CHUNK] = _degrees(rows[begin : begin + CHUNK])

    on_threads(work, range(0, len(rows), CHUNK))
    return student_given(rows, df)


def student_given(rows: Floats, df: Floats) -> StudentFits:
    """Return the location and scale that make each row ``(rows, values)`` likeliest, given its
    degrees of freedom ``(rows,)``.
    """
    location, scale = np.empty(len(rows)), np.empty(len(rows))

    def work(begin: int) -> None:
        position = slice(begin, begin + CHUNK)
        _, location[position], variance = _given_df(rows[position], df[position])
        scale[position] = np.sqrt(variance)

    on_threads(work, range(0, len(rows), CHUNK))
    return StudentFits(df, location, scale)


def student_tail(df: Floats, level: float) -> tuple[Floats, Floats]:
    """Return the quantile of Student's t with location 0 and scale 1, and the mean beyond it, by
    degrees of freedom.

    Source: McNeil, Frey and Embrechts, Quantitative Risk Management (2005), section 2.2.4.

    >>> [round(float(part), 3) for part in student_tail(np.array(4.0), 0.99)]
    [3.747, 5.221]
    """
    t = np.asarray(stdtrit(df, level))
    density = np.exp(
        gammaln((df + 1) / 2) - gammaln(df / 2) - (df + 1) / 2 * np.log1p(t**2 / df)
    ) / np.sqrt(df * math.pi)
    return t, density / (1 - level) * (df + t**2) / (df - 1)


@dataclass(frozen=True)
class DrawnStudent:
    """The likeliest Student's t, and draws ``(1000,)`` of its parameters from what the fit leaves
    open.
    """

    fit: StudentTByScale
    location: Floats
    scale: Floats
    df: Floats


def drawn_student(values: Floats) -> DrawnStudent:
    """Return the fit to values ``(values,)`` with draws of its parameters.

    They are normal around the fit, of the location, the log of the scale and one over the degrees
    of freedom. The same values give the same draws.
    """
    return _drawn(values.tobytes())


@lru_cache(maxsize=32)  # one window's losses are asked about at several levels
def _drawn(data: bytes) -> DrawnStudent:
    x = np.frombuffer(data)
    fit = fit_student(x)
    unit = fit.scale

    def cost(theta: Floats) -> float:
        df = 1 / min(max(float(theta[2]), 1e-4), 0.49)
        gaps = (x - fit.location) / unit - theta[0]
        constant = (
            float(gammaln((df + 1) / 2) - gammaln(df / 2))
            - 0.5 * math.log(df * math.pi)
            - float(theta[1])
        )
        return (
            float((df + 1) / 2 * np.log1p(gaps**2 / (df * math.exp(2 * float(theta[1])))).sum())
            - len(x) * constant
        )

    _, covariance = at_the_peak(cost, [0.0, 0.0, 1 / fit.df])
    values, vectors = np.linalg.eigh(np.array(covariance))
    normals = stream(0, "student", 0).standard_normal((3, DRAWS))
    shift, log_scale, inverse = vectors @ (np.sqrt(np.maximum(values, 0))[:, None] * normals)
    df = 1 / np.clip(inverse + 1 / fit.df, 1 / MOST_DF, 1 / FEWEST_DF)
    return DrawnStudent(fit, fit.location + unit * shift, unit * np.exp(log_scale), df)


def _degrees(x: Floats) -> Floats:
    """Return the better of the two last candidates of a golden-section search over 1 / df, row by
    row.
    """
    ratio = (math.sqrt(5) - 1) / 2
    low, high = np.full(len(x), 1 / MOST_DF), np.full(len(x), 1 / FEWEST_DF)
    a, b = high - ratio * (high - low), low + ratio * (high - low)
    at_a, at_b = _given_df(x, 1 / a, ROUGH)[0], _given_df(x, 1 / b, ROUGH)[0]
    while (high - low > 1e-3).any():
        left = at_a > at_b
        high, low = np.where(left, b, high), np.where(left, low, a)
        kept, at_kept = np.where(left, a, b), np.where(left, at_a, at_b)
        fresh = np.where(left, high - ratio * (high - low), low + ratio * (high - low))
        at_fresh = _given_df(x, 1 / fresh, ROUGH)[0]
        a, at_a = np.where(left, fresh, kept), np.where(left, at_fresh, at_kept)
        b, at_b = np.where(left, kept, fresh), np.where(left, at_kept, at_fresh)
    return np.asarray(1 / np.where(at_a >= at_b, a, b))


def _given_df(x: Floats, df: Floats, sharp: float = SHARP) -> tuple[Floats, Floats, Floats]:
    """Return log likelihood, location and squared scale of each row at given degrees of freedom."""
    # values that are nearly all equal
    with np.errstate(over="ignore", divide="ignore", invalid="ignore"):
        return _steps(x, df, sharp)


def _steps(x: Floats, df: Floats, sharp: float) -> tuple[Floats, Floats, Floats]:
    location, variance = np.median(x, axis=1), x.var(axis=1) * (df - 2) / df
    least = LEAST * variance  # where nearly all values are equal, the scale would vanish
    active = np.arange(len(x))
    for _ in range(STEPS):
        rows, freedom, spread = x[active], df[active, None], variance[active, None]
        weights = (freedom + 1) / (freedom + (rows - location[active, None]) ** 2 / spread)
        total = weights.sum(axis=1)
        shifted = (weights * rows).sum(axis=1) / total
        # the faster variant of the scale's step
        fresh = (weights * (rows - shifted[:, None]) ** 2).sum(axis=1) / total
        fresh = np.maximum(fresh, least[active])
        done = np.abs(fresh - variance[active]) <= sharp * variance[active]
        location[active], variance[active] = shifted, fresh
        active = active[~done]
        if not len(active):
            break
    logs = (
        -(df[:, None] + 1) / 2 * np.log1p((x - location[:, None]) ** 2 / (df * variance)[:, None])
    )
    constant = gammaln((df + 1) / 2) - gammaln(df / 2) - 0.5 * np.log(df * math.pi * variance)
    return logs.sum(axis=1) + x.shape[1] * constant, location, variance
