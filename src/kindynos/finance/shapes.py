"""Bringing cash-flow arguments into one layout: periods first, trials last."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from functools import wraps
from typing import Any, ParamSpec, TypeVar, cast

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import KindynosError, ParameterError
from kindynos.validate import array_of, checked

Given = ParamSpec("Given")
Answer = TypeVar("Answer")


def on_arrays(function: Callable[Given, Answer]) -> Callable[Given, Answer]:
    """Let a public function follow floats to infinity and NaN without warnings, keep the columns of
    a DataFrame of flows, and name arguments that do not fit together.

    With flows in a DataFrame, one column per case, the answer is a Series by column. Raises
    ParameterError for shapes that do not fit, and for a number too large to be a length.
    """

    @wraps(function)
    def safe(*args: Given.args, **options: Given.kwargs) -> Answer:
        try:
            with np.errstate(all="ignore"):
                return _by_column(function(*args, **options), [*args, *options.values()])
        except KindynosError as error:
            # the function that was called, not one it calls in turn
            error.owner = function.__name__
            raise
        except ValueError as error:
            if "broadcast" not in str(error) and "shape mismatch" not in str(error):
                raise
            given = inspect.signature(function).bind(*args, **options).arguments
            shapes = [f"{name} {_shape(value)}" for name, value in given.items() if _shape(value)]
            raise ParameterError(
                f"shapes that do not fit: {', '.join(shapes)}", owner=function.__name__
            ) from None

    return checked(safe)


def _by_column(returned: Answer, given: list[Any]) -> Answer:
    """Return the answers by the columns of the first DataFrame among the arguments, if any."""
    columns = next((value.columns for value in given if hasattr(value, "columns")), None)
    if columns is None or np.shape(cast(Any, returned)) != (len(columns),):
        return returned
    import pandas as pd

    return cast(Answer, pd.Series(np.asarray(returned), index=columns))


def _shape(value: Any) -> tuple[int, ...]:
    """Return the shape of an argument; of one that has none, such as rows of different lengths,
    that of a number.
    """
    try:
        return tuple(np.shape(value))
    except (ValueError, TypeError):
        return ()


def as_row(name: str, value: ArrayLike) -> Floats:
    """Return ``(periods, trials)``, or ``(periods, 1)`` of a flat array; raises ParameterError for
    any other shape.
    """
    row = array_of(name, value)
    if row.ndim == 1:
        row = row[:, None]
    if row.ndim != 2 or not row.size:
        raise ParameterError(
            f"{name} must be (periods,) or (periods, trials) with at least one of each, not "
            f"{row.shape}"
        )
    return row


def joined(flows: ArrayLike, initial: ArrayLike | None) -> Floats:
    """Return ``(periods, trials)`` of flows with ``initial``, a number or one per trial, one period
    before them if given.
    """
    row = as_row("flows", flows)
    if initial is None:
        return row
    first = np.atleast_1d(array_of("initial", initial))
    if first.ndim > 1:
        raise ParameterError(f"initial must be a number or one per trial, not {first.shape}")
    whole = np.empty((len(row) + 1, *np.broadcast_shapes(first.shape, row.shape[1:])))
    whole[0] = first
    whole[1:] = row
    return whole


def as_rate(rate: ArrayLike, flows: ArrayLike) -> Floats:
    """Return the rate as an array that broadcasts against flows: a number, one per trial, or a row.

    Raises ParameterError for a flat rate beside flat flows, which could mean periods or trials, and
    for a number at or below -1.
    """
    array = array_of("rate", rate)
    if array.ndim > 2:
        raise ParameterError(
            f"rate must be a number, one per trial or a row (periods, trials), not {array.shape}"
        )
    if array.ndim == 1 and array.size > 1 and np.ndim(flows) == 1:
        raise ParameterError(
            "a flat rate beside flat flows could mean periods or trials; "
            "give rate[:, None] for one per period, or flows[:, None] for one rate per trial"
        )
    if array.ndim == 0 and array <= -1:
        raise ParameterError(f"rate must be above -1 (a loss of everything), not {float(array)!r}")
    return array


def scalar_if(flat: bool, values: Floats) -> Floats | float:
    """Return a float of a one-element answer where every argument was flat."""
    return float(values.reshape(-1)[0]) if flat and values.size == 1 else values
