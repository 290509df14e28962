"""Trials in which a function raises: they have no value and are counted with the error, or they
end the run.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.engine.progress import report_progress
from kindynos.finance.notes import note

LONGEST = 80  # characters of an error that is counted
_NUMBER = re.compile(r"[-+]?\d[\d.,_]*(e[-+]?\d+)?", re.IGNORECASE)

_raising: ContextVar[bool] = ContextVar("raising", default=False)


@contextmanager
def errors_raised(raised: bool = True) -> Iterator[None]:
    """Have an error in a trial raised while the context lasts, instead of counted."""
    token = _raising.set(raised)
    try:
        yield
    finally:
        _raising.reset(token)


def one_by_one(
    call: Callable[[int], Sequence[Floats]],
    trials: int,
    failed: Callable[[int, Exception], Exception],
) -> tuple[list[Floats], int]:
    """Return what ``call`` gives for each trial, several arrays with the trials last, NaN where it
    raises, and the number of trials in which it did.

    Errors are counted by their text, in which numbers are left out. Raises ``failed(trial, error)``
    for the first where errors are to be raised, and where every trial fails.
    """
    answers: list[Sequence[Floats] | None] = []
    first: tuple[int, Exception] | None = None
    counts: dict[str, int] = {}
    for trial in range(trials):
        report_progress(trial / trials)
        try:
            answers.append(call(trial))
        except MemoryError:
            raise
        except Exception as error:
            if _raising.get():
                raise failed(trial, error) from error
            first = first or (trial, error)
            text = _counted(error)
            counts[text] = counts.get(text, 0) + 1
            answers.append(None)
    given = next((returned for returned in answers if returned is not None), None)
    if given is None:
        assert first is not None
        raise failed(*first) from first[1]
    for text, count in counts.items():
        note(text, count)
    empty = [np.full(np.shape(array), np.nan) for array in given]
    rows = [empty if returned is None else returned for returned in answers]
    stacked = [np.stack([row[position] for row in rows], axis=-1) for position in range(len(given))]
    return stacked, sum(counts.values())


def _counted(error: Exception) -> str:
    """Return an error as it is counted: errors that differ only in their numbers are one."""
    text = _NUMBER.sub("#", " ".join(str(error).split()))[:LONGEST]
    return f"{type(error).__name__}: {text}" if text else type(error).__name__


def single(value: Any, trial: int) -> Any:
    """Return one trial of an array with the trials last, as an array of one."""
    return value[..., trial : trial + 1] if value.ndim and value.shape[-1] > 1 else value
