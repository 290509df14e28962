"""Bringing cash-flow arguments into one layout: periods first, trials last."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.errors import ParameterError

Floats = NDArray[np.float64]


def as_row(owner: str, name: str, value: ArrayLike) -> Floats:
    """Return ``(periods, trials)``, or ``(periods, 1)`` of a flat array; raises ParameterError for any other shape."""
    row = np.asarray(value, dtype=np.float64)
    if row.ndim == 1:
        row = row[:, None]
    if row.ndim != 2 or row.shape[0] == 0:
        raise ParameterError(
            f"{owner}: {name} must be (periods,) or (periods, trials) with at least one period, not {row.shape}"
        )
    return row


def joined(owner: str, flows: ArrayLike, start: ArrayLike | None) -> Floats:
    """Return ``(periods, trials)`` of flows with ``start``, a number or one a trial, one period before them if given."""
    row = as_row(owner, "flows", flows)
    if start is None:
        return row
    first = np.atleast_1d(np.asarray(start, dtype=np.float64))
    if first.ndim > 1:
        raise ParameterError(f"{owner}: start must be a number or one a trial, not {first.shape}")
    answer = np.empty((len(row) + 1, *np.broadcast_shapes(first.shape, row.shape[1:])))
    answer[0] = first
    answer[1:] = row
    return answer


def as_rate(owner: str, rate: ArrayLike, flows: ArrayLike) -> Floats:
    """Return the rate as an array that broadcasts against flows: a number, one a trial, or a row.

    Raises ParameterError for a flat rate beside flat flows, which could mean periods or trials, and for a number at or
    below -1.
    """
    array = np.asarray(rate, dtype=np.float64)
    if array.ndim > 2:
        raise ParameterError(f"{owner}: rate must be a number, one a trial or a row (periods, trials), not {array.shape}")
    if array.ndim == 1 and array.size > 1 and np.ndim(flows) == 1:
        raise ParameterError(
            f"{owner}: a flat rate beside flat flows could mean periods or trials; "
            "give rate[:, None] for one a period, or flows[:, None] for one rate a trial"
        )
    if array.ndim == 0 and array <= -1:
        raise ParameterError(f"{owner}: rate must be above -1 (a loss of everything), not {float(array)!r}")
    return array


def scalar_if(flat: bool, values: Floats) -> Floats | float:
    """Return a float of a one-element answer where every argument was flat."""
    return float(values.reshape(-1)[0]) if flat and values.size == 1 else values
