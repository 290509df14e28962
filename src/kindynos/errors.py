"""Errors: one base class, and the small helpers that word them."""

from __future__ import annotations

from collections.abc import Iterable


class KindynosError(ValueError):
    """Base of every error raised on purpose: bad input, or a model that cannot be worked out."""


class ParameterError(KindynosError):
    """A parameter has a value that its rule forbids."""


class ModelError(KindynosError):
    """A model is stated wrongly: a missing, reused or circular name, or a line that breaks a rule."""


class FormulaError(ModelError):
    """A formula cannot be read or worked out."""


class GoalError(KindynosError):
    """A goal that no value in the range reaches."""


class FileError(KindynosError):
    """A file cannot be read, or does not say what it must."""


class RunError(KindynosError):
    """A simulation failed, or a run cannot answer what was asked of it."""


class TrialError(RunError):
    """A calculation failed in one trial: ``place`` counts from the first trial it was given."""

    def __init__(self, place: int, reason: str, inputs: str) -> None:
        super().__init__(f"failed in trial {place} of those given: {reason}; with {inputs}")
        self.place, self.reason, self.inputs = place, reason, inputs

    def __reduce__(self) -> tuple[type[TrialError], tuple[int, str, str]]:
        return TrialError, (self.place, self.reason, self.inputs)


class StoppedError(RunError):
    """A simulation was interrupted; ``done`` of ``total`` trials were complete."""

    def __init__(self, done: int, total: int) -> None:
        super().__init__(f"stopped after {done:,} of {total:,} trials; nothing was kept")
        self.done = done
        self.total = total


class DataWarning(UserWarning):
    """Figures that can be read, and yet are not what the calculation is for."""


class FitWarning(UserWarning):
    """A law was taken that does not pass through all that was asked of it."""


def nearest(word: str, known: Iterable[str]) -> str:
    """Return ``"; did you mean 'x'?"`` for the closest known spelling, or what is known, or nothing.

    >>> nearest("hurdel", ["hurdle", "tax"])
    "; did you mean 'hurdle'?"
    >>> nearest("zzz", ["hurdle", "tax"])
    '; known: hurdle, tax'
    """
    from difflib import get_close_matches

    options = list(known)
    folded = {option.lower(): option for option in options}
    close = get_close_matches(str(word).lower(), list(folded), n=1, cutoff=0.6)
    if close:
        return f"; did you mean {folded[close[0]]!r}?"
    if 0 < len(options) <= 12:
        return f"; known: {', '.join(options)}"
    return ""
