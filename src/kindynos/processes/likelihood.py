"""Maximum likelihood and its standard errors."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from kindynos.arrays import Floats

Theta = tuple[float, ...]
Covariance = tuple[tuple[float, ...], ...]


def lowest(cost: Callable[[Floats], float], starts: Sequence[Sequence[float]]) -> Floats:
    """Return where a cost is lowest, sought from several starts by the Nelder-Mead method and then by gradients."""
    from scipy.optimize import minimize

    best = None
    for start in starts:
        rough = minimize(
            cost, np.asarray(start, dtype=np.float64), method="Nelder-Mead", options={"maxiter": 400, "maxfev": 600}
        )
        found = minimize(cost, rough.x, method="BFGS", options={"maxiter": 60})
        found = found if found.fun <= rough.fun else rough
        if best is None or found.fun < best.fun:
            best = found
    assert best is not None
    return np.asarray(best.x)


def at_the_peak(cost: Callable[[Floats], float], theta: Sequence[float]) -> tuple[Theta, Covariance]:
    """Return the parameters and their covariance, the inverse of the Hessian of the negative log likelihood there."""
    centre = np.asarray(theta, dtype=np.float64)
    steps = 1e-4 * np.maximum(np.abs(centre), 1e-2)
    size = len(centre)
    hessian: Floats = np.empty((size, size))
    for i in range(size):
        for j in range(i + 1):
            a, b = np.zeros(size), np.zeros(size)
            a[i], b[j] = steps[i], steps[j]
            bend = cost(centre + a + b) - cost(centre + a - b) - cost(centre - a + b) + cost(centre - a - b)
            hessian[i, j] = hessian[j, i] = bend / (4 * steps[i] * steps[j])
    inverse = np.linalg.pinv(hessian, hermitian=True)
    values, vectors = np.linalg.eigh(inverse)
    covariance = vectors * np.maximum(values, 0) @ vectors.T  # flat directions of a short series must not count as negative
    return tuple(map(float, centre)), tuple(tuple(map(float, row)) for row in covariance)
