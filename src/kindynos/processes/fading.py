"""Sums whose terms fade: y(t) = kept y(t - 1) + news(t)."""

from __future__ import annotations

from typing import Any

import numpy as np

from kindynos.arrays import Floats


def fading_sum(news: Floats, kept: float) -> Floats:
    """Return y(t) = kept y(t - 1) + news(t) along the last axis, from y(0) = news(0).

    It is the solution of a triangular system with one band below its diagonal, which LAPACK's
    forward substitution finds.

    >>> fading_sum(np.array([1.0, 1.0, 1.0]), 0.5).tolist()
    [1.0, 1.5, 1.75]
    """
    from scipy.linalg import lapack

    solve: Any = lapack.dtbtrs
    count = news.shape[-1]
    band = np.empty((2, count), order="F")
    band[0], band[1] = 1.0, -kept
    sums, _ = solve(band, news.reshape(-1, count).T, uplo="L", diag="U")
    return np.asarray(sums.T.reshape(news.shape))
