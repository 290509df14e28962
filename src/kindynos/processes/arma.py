"""The exact Gaussian likelihood of an autoregressive moving-average series, by a banded Cholesky
factor.

With w_t = phi_1 w_{t-1} + ... + e_t + theta_1 e_{t-1} + ..., the series z that equals w for the
first m = max(p, q) values, and is w_t - phi_1 w_{t-1} - ... after them, has a covariance with few
diagonals. Its factor L turns z into independent innovations.

Sources: Ansley, Biometrika 66 (1979), 59-65; Brockwell and Davis, Time Series: Theory and Methods
(1991), sections 3.3 and 5.3; the map to stationary parameters, Monahan, Biometrika 71 (1984),
403-404.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats


def multiplied(first: Sequence[Any], second: Sequence[Any]) -> list[Any]:
    """Return the product of two polynomials by their coefficients, the constant first; coefficients
    may be arrays.
    """
    product: list[Any] = [0.0] * (len(first) + len(second) - 1)
    for i, a in enumerate(first):
        if isinstance(a, float | int) and a == 0:
            continue
        for j, b in enumerate(second):
            if not (isinstance(b, float | int) and b == 0):
                product[i + j] = product[i + j] + a * b
    return product


def polynomial(coefficients: Sequence[Any], sign: float, step: int = 1) -> list[Any]:
    """Return 1 + sign c_1 B^step + sign c_2 B^(2 step) + ... by its coefficients."""
    spread: list[Any] = [0.0] * (step * len(coefficients) + 1)
    spread[0] = 1.0
    for i, value in enumerate(coefficients, start=1):
        spread[step * i] = sign * value
    return spread


def from_partial(partial: Sequence[float]) -> list[float]:
    """Return the autoregressive coefficients with given partial autocorrelations, which lie between
    -1 and 1.
    """
    phi: list[float] = []
    for value in partial:
        phi = [*(a - value * b for a, b in zip(phi, reversed(phi), strict=True)), value]
    return phi


def is_stationary(phi: Sequence[float]) -> bool:
    """Return whether an autoregression with these coefficients stays within bounds."""
    return all(abs(value) < 1 for value in partial_of(phi))


def partial_of(phi: Sequence[float]) -> list[float]:
    """Return the partial autocorrelations of autoregressive coefficients, as far back as they lie
    between -1 and 1.
    """
    current = [float(value) for value in phi]
    rows: list[float] = []
    while current:
        *rest, last = current
        rows.append(last)
        if not abs(last) < 1:
            break
        current = [
            (a + last * b) / (1 - last**2) for a, b in zip(rest, reversed(rest), strict=True)
        ]
    return rows[::-1]


def psi_weights(phi: ArrayLike, theta: ArrayLike, count: int) -> Floats:
    """Return the weights of the present and earlier shocks in a value, ``(count,)``, the first of
    them 1.
    """
    own, moving = np.asarray(phi, dtype=np.float64), np.asarray(theta, dtype=np.float64)
    right = np.zeros(count)
    right[0] = 1.0
    right[1 : len(moving) + 1] = moving[: count - 1]
    if not len(own):
        return right
    # psi_k - phi_1 psi_{k-1} - ... = theta_k, row by row
    band = np.ones((min(len(own), count - 1) + 1, count))
    band[1:] = -own[: len(band) - 1, None]
    weights, _ = _lapack().dtbtrs(band, right[:, None], uplo="L", diag="U")
    return np.asarray(weights[:, 0])


def autocovariances(phi: Floats, theta: Floats, count: int, noise: Floats) -> Floats:
    """Return the autocovariances ``(rows, count)`` at lags 0 to ``count - 1`` of stationary series
    with shocks of variance 1, by rows of coefficients ``(rows, p)`` and ``(rows, q)``.

    ``noise (rows, q + 1)`` are their covariances with the moving-average part.
    """
    rows, p = phi.shape
    size = p + 1
    right = np.zeros((rows, max(size, count)))
    right[:, : noise.shape[1]] = noise[:, : right.shape[1]]
    lags = np.arange(size)
    matrix = np.tile(np.eye(size), (rows, 1, 1))
    for i in np.flatnonzero(phi.any(axis=0)).tolist():
        # one column of each line, so that none is hit twice
        matrix[:, lags, np.abs(lags - i - 1)] -= phi[:, i : i + 1]
    covariances = np.zeros((rows, max(count, size)))
    covariances[:, :size] = np.linalg.solve(matrix, right[:, :size, None])[..., 0]
    for k in range(size, count):
        covariances[:, k] = (phi * covariances[:, k - p : k][:, ::-1]).sum(axis=1) + right[:, k]
    return covariances[:, :count]


def _with_noise(phi: Floats, theta: Floats) -> Floats:
    """Return the covariances ``(rows, q + 1)`` of a value with the moving-average part that many
    periods later, at lags 0 to q.
    """
    (rows, p), q = phi.shape, theta.shape[1]
    full = np.concatenate([np.ones((rows, 1)), theta], axis=1)
    psi = full.copy()  # the weights of shocks in a value
    for k in range(1, q + 1):
        reach = min(k, p)
        psi[:, k] += (phi[:, :reach] * psi[:, k - reach : k][:, ::-1]).sum(axis=1)
    return np.stack(
        [(full[:, lag:] * psi[:, : q + 1 - lag]).sum(axis=1) for lag in range(q + 1)], axis=1
    )


def whitened(columns: Floats, phi: Floats, theta: Floats) -> tuple[Floats, Floats]:
    """Return the innovations ``(rows, values, columns)`` of columns ``(values, columns)`` by rows
    of coefficients ``(rows, p)`` and ``(rows, q)``, and half the log determinants ``(rows,)`` of
    their covariances.

    The shocks have variance 1. The covariances of all rows are blocks of one matrix, which LAPACK
    takes apart at once. Raises numpy.linalg.LinAlgError where one is not positive definite.
    """
    lapack = _lapack()
    count, (rows, p), q = len(columns), phi.shape, theta.shape[1]
    m = min(max(p, q), count) if p else 0
    z = np.tile(columns, (rows, 1, 1))
    if count > m:
        for i in np.flatnonzero(phi.any(axis=0)).tolist():
            z[:, m:] -= phi[:, i, None, None] * columns[m - i - 1 : count - i - 1]
    width = min(max(q, m - 1), count - 1)
    band = np.zeros((width + 1, rows, count))
    full = np.concatenate([np.ones((rows, 1)), theta], axis=1)
    for lag in range(min(q, width) + 1):
        band[lag] = (full[:, lag:] * full[:, : q + 1 - lag]).sum(axis=1)[:, None]
    if m:
        noise = _with_noise(phi, theta)
        gamma = autocovariances(phi, theta, m, noise)
        cross = np.zeros((width + 1, rows))
        cross[: min(q, width) + 1] = noise.T[: width + 1]
        for j in range(m):
            inside = min(m - j, width + 1)
            band[:inside, :, j] = gamma.T[:inside]
            band[inside:, :, j] = cross[inside:]
    for lag in range(1, width + 1):
        band[lag, :, count - lag :] = 0.0  # between one row and the next
    factor, failed = lapack.dpbtrf(band.reshape(width + 1, -1), lower=1)
    if failed:
        raise np.linalg.LinAlgError("the covariance is not positive definite")
    innovations, failed = lapack.dtbtrs(factor, z.reshape(rows * count, -1), uplo="L")
    if failed:
        raise np.linalg.LinAlgError("the covariance is singular")
    halves = np.log(factor[0]).reshape(rows, count).sum(axis=1)
    return innovations.reshape(z.shape), np.asarray(halves)


@lru_cache(maxsize=1)
def _lapack() -> Any:
    from scipy.linalg import lapack

    return lapack


def differenced(columns: Floats, differences: int, seasonal: int, season: int) -> Floats:
    """Return columns ``(values, columns)`` differenced that many times, and over the season."""
    for _ in range(differences):
        columns = columns[1:] - columns[:-1]
    for _ in range(seasonal):
        columns = columns[season:] - columns[:-season]
    return columns


def log_likelihoods(
    innovations: Floats, half_determinants: Floats, observations: int, missing: Floats
) -> tuple[Floats, Floats]:
    """Return the log likelihoods ``(rows,)`` of innovations ``(rows, values)`` with the best sds,
    and these; ``missing`` are the innovations' columns of missing values ``(rows, values,
    columns)``.
    """
    variances = np.maximum((innovations**2).sum(axis=1) / observations, 1e-300)
    logs = -0.5 * observations * (np.log(2 * math.pi * variances) + 1) - half_determinants
    if missing.size:
        logs -= 0.5 * np.linalg.slogdet(missing.transpose(0, 2, 1) @ missing)[1]
    return np.asarray(logs), np.sqrt(variances)
