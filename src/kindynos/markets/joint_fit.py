"""How the returns of several instruments hang together: the copula that makes them likeliest, and
the error that a short history causes in their margins and copula.

Source: Demarta and McNeil, International Statistical Review 73 (2005), 111-129.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.matrices import cholesky_factor, is_correlation_matrix, nearest_correlation
from kindynos.distributions.special import gammaln, ndtr, ndtri, stdtrit
from kindynos.fitting.student import drawn_student, student_given
from kindynos.markets.held_model import rank_correlations
from kindynos.markets.history_error import resampled_places
from kindynos.memory import remembered
from kindynos.sampling.streams import stream

DEGREES = (2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 15.0, 25.0, 50.0)  # tried of a t copula
TELLING = 2.0  # log likelihood by which a t copula must be likelier than a Gaussian one
SCORES = np.linspace(-8.0, 8.0, 401)  # normal scores at which quantiles are tabulated
LEAST_EIGENVALUE = 1e-6
REFITS = 60
FEW_TRIALS = 2_500  # of each refit
LEAST_REFITS, LEAST_TRIALS = 20, 100  # over long horizons
MOST_VALUES = 8_000_000  # held for all of them


@dataclass(frozen=True)
class LikelyCopula:
    """The copula of returns: the degrees of freedom of a t copula, None for a Gaussian one, and by
    how much in log likelihood the best t copula is likelier than the Gaussian one.
    """

    df: float | None
    gain: float


@remembered
def likely_copula(returns: Floats) -> LikelyCopula:
    """Return the copula that makes the ranks of returns ``(returns, instruments)`` likeliest."""
    returns = returns[:, np.ptp(returns, axis=0) > 0]
    count, size = returns.shape
    if size < 2:
        return LikelyCopula(None, 0.0)
    ranks = np.argsort(np.argsort(returns, axis=0), axis=0) + 1.0
    normal = ndtri(ranks / (count + 1))
    matrix = normal_correlations(returns)
    if np.linalg.eigvalsh(matrix)[0] < LEAST_EIGENVALUE:  # some move as others do
        return LikelyCopula(None, 0.0)
    inverse = np.linalg.inv(matrix)
    log_det = float(np.linalg.slogdet(matrix)[1])
    squares = np.einsum("ni,ij,nj->n", normal, inverse, normal)
    gaussian = -0.5 * float((squares - (normal**2).sum(axis=1)).sum()) - count / 2 * log_det
    best, df = -np.inf, DEGREES[-1]
    for freedom in DEGREES:
        scores = np.interp(normal, SCORES, _t_quantiles(freedom))
        joint = np.einsum("ni,ij,nj->n", scores, inverse, scores)
        constant = (
            float(gammaln(np.array((freedom + size) / 2)))
            + (size - 1) * float(gammaln(np.array(freedom / 2)))
            - size * float(gammaln(np.array((freedom + 1) / 2)))
        )
        own = (freedom + 1) / 2 * np.log1p(scores**2 / freedom).sum(axis=1)
        logs = constant - (freedom + size) / 2 * np.log1p(joint / freedom) + own
        figure = float(logs.sum()) - count / 2 * log_det
        if figure > best:
            best, df = figure, freedom
    gain = best - gaussian
    return LikelyCopula(df if gain > TELLING else None, gain)


def normal_correlations(returns: Floats) -> Floats:
    """Return the correlations of normal scores behind rank correlations, repaired where these
    cannot hold together.
    """
    matrix = 2 * np.sin(np.pi / 6 * rank_correlations(returns))
    np.fill_diagonal(matrix, 1.0)
    return matrix if is_correlation_matrix(matrix) else nearest_correlation(matrix)


def _t_quantiles(df: float) -> Floats:
    return np.asarray(stdtrit(df, np.clip(ndtr(SCORES), 1e-15, 1 - 1e-15)))


@remembered
def refit_returns(returns: Floats, marginals: str, df: float | None, horizon: int) -> list[Floats]:
    """Return simulated returns ``(instruments, horizon, trials)`` of the fit to the history, and
    after it of fits to histories drawn from it again in blocks, all on the same random numbers.

    ``marginals`` is "student" or "normal"; ``df`` the degrees of freedom of a t copula.
    """
    count, size = returns.shape
    each = MOST_VALUES // (horizon * size)
    trials = min(max(each // REFITS, LEAST_TRIALS), FEW_TRIALS)
    refits = min(max(each // trials, LEAST_REFITS), REFITS)
    generator = stream(0, "joint refits", 0)
    shocks = generator.standard_normal((size, horizon * trials))
    common = np.ones(horizon * trials)
    if df is not None:
        common = np.sqrt(generator.chisquare(df, horizon * trials) / df)
    histories = returns[np.vstack([np.arange(count), resampled_places(count)[:refits]])]
    margins = _normal_margins if marginals == "normal" else _student_margins
    parameters = []
    for history, quantiles in zip(histories, margins(returns, histories), strict=True):
        dependent = cholesky_factor(normal_correlations(history)) @ shocks / common
        scores = dependent if df is None else np.interp(dependent, _t_quantiles(df), SCORES)
        drawn = [
            np.interp(row, SCORES, table) for row, table in zip(scores, quantiles, strict=True)
        ]
        parameters.append(np.stack(drawn).reshape(size, horizon, trials))
    return parameters


def _normal_margins(returns: Floats, histories: Floats) -> Floats:
    """Return quantiles ``(histories, instruments, scores)`` of normal margins fitted to each."""
    means, sds = histories.mean(axis=1), histories.std(axis=1, ddof=1)
    return np.asarray(means[..., None] + sds[..., None] * SCORES)


def _student_margins(returns: Floats, histories: Floats) -> Floats:
    """Return quantiles ``(histories, instruments, scores)`` of Student's t fitted to each, with
    degrees of freedom drawn as the first history leaves them open.
    """
    count, _, size = histories.shape
    margins = np.empty((count, size, len(SCORES)))
    for position in range(size):
        if np.ptp(returns[:, position]) == 0:
            margins[:, position] = returns[0, position]
            continue
        result = drawn_student(np.ascontiguousarray(returns[:, position]))
        df = np.concatenate([[result.fit.df], result.df[: count - 1]])
        fits = student_given(np.ascontiguousarray(histories[:, :, position]), df)
        for number in range(count):
            table = _t_quantiles(float(df[number]))
            margins[number, position] = fits.location[number] + fits.scale[number] * table
    return margins
