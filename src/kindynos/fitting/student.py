"""Student's t from data, by maximum likelihood, for many samples at once."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.real_line import StudentTByScale
from kindynos.distributions.special import digamma, gammaln, stdtrit, trigamma
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
FEWEST_NEWTON = 50  # values, below which the likelihood may have several peaks
NEWTON_STEPS = 12  # most steps; then a row is searched
CLOSE = 1e-6  # change of 1 / df and of the log squared scale that ends the steps


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
    df, location, variance = _likeliest(x[None])
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
    df, location, scale = np.empty((3, len(rows)))

    def work(begin: int) -> None:
        span = slice(begin, begin + CHUNK)
        df[span], location[span], variance = _likeliest(rows[span])
        scale[span] = np.sqrt(variance)

    on_threads(work, range(0, len(rows), CHUNK))
    return StudentFits(df, location, scale)


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


def _likeliest(x: Floats) -> tuple[Floats, Floats, Floats]:
    """Return the degrees of freedom, location and squared scale that make each row likeliest: by
    Newton's steps of all rows at once, and by a search where they do not lead to a peak.
    """
    df, location, variance = _climbed(x) if x.shape[1] >= FEWEST_NEWTON else _nowhere(x)
    left = np.flatnonzero(np.isnan(df))
    if len(left):
        df[left] = _searched(x[left])
        _, location[left], variance[left] = _given_df(x[left], df[left])
    return df, location, variance


def _nowhere(x: Floats) -> Floats:
    return np.full((3, len(x)), np.nan)


def _climbed(x: Floats) -> tuple[Floats, Floats, Floats]:
    """Return the same by Newton's steps, NaN for rows that they do not bring to a peak."""
    low, high = 1 / MOST_DF, 1 / FEWEST_DF
    peaks, inverse = np.full(len(x), np.nan), np.full(len(x), 0.2)  # of 1 / df
    location = np.median(x, axis=1)
    quartiles = np.quantile(x, [0.25, 0.75], axis=1)
    with np.errstate(all="ignore"):  # values that are nearly all equal
        log_variance = 2 * np.log((quartiles[1] - quartiles[0]) / 1.453)  # of 5 degrees of freedom
        active = np.arange(len(x))
        for _ in range(NEWTON_STEPS):
            slope, bend = _slopes(
                x[active], location[active], log_variance[active], inverse[active]
            )
            finite = np.isfinite(bend).all(axis=(1, 2))
            active, slope, bend = active[finite], slope[finite], bend[finite]
            if not len(active):
                break
            before, reach = inverse[active], np.exp(log_variance[active] / 2)
            step = _uphill(slope, bend)
            ended = ((before <= low) & (step[:, 2] < 0)) | ((before >= high) & (step[:, 2] > 0))
            step[ended] = np.pad(_uphill(slope[ended, :2], bend[ended, :2, :2]), ((0, 0), (0, 1)))
            after = before + step[:, 2]
            after = after.clip(np.maximum(low, before / 4), np.minimum(high, 2.5 * before))
            location[active] += step[:, 0].clip(-reach, reach)
            log_variance[active] += step[:, 1].clip(-1, 1)
            inverse[active] = after
            done = (np.abs(after - before) < CLOSE) & (np.abs(step[:, 1]) < CLOSE)
            peaks[active[done]] = after[done]
            active = active[~done]
        return 1 / peaks, location, np.exp(log_variance)


def _uphill(slope: Floats, bend: Floats) -> Floats:
    """Return Newton's step, row by row; where the likelihood is not a hill, along its slope."""
    values, vectors = np.linalg.eigh(bend)
    values = np.abs(values)
    values = np.maximum(values, 1e-12 * values.max(axis=1, keepdims=True))
    along = np.einsum("nij,ni->nj", vectors, slope) / values
    return np.asarray(np.einsum("nij,nj->ni", vectors, along))


def _slopes(x: Floats, location: Floats, log_variance: Floats, q: Floats) -> tuple[Floats, Floats]:
    """Return the first and second derivatives ``(rows, 3)`` and ``(rows, 3, 3)`` of the log
    likelihood by location, log squared scale and q = 1 / df.
    """
    df, count, variance = 1 / q, x.shape[1], np.exp(log_variance)
    gaps = x - location[:, None]
    squares = gaps**2 / variance[:, None]
    r = 1 / (1 + squares * q[:, None])
    logs, s = -np.log(r).sum(axis=1), squares * r
    gap_r, gap_rr = np.einsum("ij,ij->i", gaps, r), np.einsum("ij,ij,ij->i", gaps, r, r)
    sum_s, s_r, s_s = s.sum(axis=1), np.einsum("ij,ij->i", s, r), np.einsum("ij,ij->i", s, s)
    gap_s_r = np.einsum("ij,ij,ij->i", gaps, s, r)
    by_df = 0.5 * (digamma((df + 1) / 2) - digamma(df / 2) - q)
    bend_df = 0.25 * (trigamma((df + 1) / 2) - trigamma(df / 2)) + 0.5 * q**2
    slope = np.stack(
        [
            (1 + q) * gap_r / variance,
            0.5 * ((1 + q) * sum_s - count),
            -count * df**2 * by_df + 0.5 * df**2 * logs - 0.5 * (df + 1) * sum_s,
        ],
        axis=-1,
    )
    bend = np.empty((len(x), 3, 3))
    bend[:, 0, 0] = (1 + q) / variance * (r.sum(axis=1) - 2 * np.einsum("ij,ij->i", r, r))
    bend[:, 0, 1] = bend[:, 1, 0] = -(1 + q) / variance * gap_rr
    bend[:, 1, 1] = -(1 + q) / 2 * s_r
    bend[:, 0, 2] = bend[:, 2, 0] = (gap_r - (1 + q) * gap_s_r) / variance
    bend[:, 1, 2] = bend[:, 2, 1] = 0.5 * (sum_s - (1 + q) * s_s)
    bend[:, 2, 2] = count * (2 * df**3 * by_df + df**4 * bend_df) - (
        df**3 * logs - df**2 * sum_s - 0.5 * (df + 1) * s_s
    )
    return slope, -bend


def _searched(x: Floats) -> Floats:
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
