"""Errors: one base class whose fields say what is wrong, where, and by which rule; its one wording
is made from them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Self

UNSET: Any = object()
_PRINTED = 40  # mistakes of a file that are written out
_LISTED = 12  # known names that are written out where no spelling is near


class KindynosError(ValueError):
    """Base of every error raised on purpose: bad input, or a model that cannot be evaluated.

    ``problem`` is the statement itself. The other fields are None, or empty, where they do not
    apply: ``owner`` (the function, distribution or quantity concerned), ``file``, ``table`` and
    ``key`` (of a model file), ``row``, ``name`` (the argument), ``value``, ``rule``, ``place`` (the
    column of a formula) and ``suggestion`` (the nearest known spelling). An error on its way up
    gains context with ``with_context``, and keeps its class.

    >>> error = KindynosError(
    ...     "no quantity 'fair'", owner="replace", unknown="fair", known=["fare", "tax"]
    ... )
    >>> str(error), error.suggestion
    ("replace: no quantity 'fair'; did you mean 'fare'?", 'fare')
    >>> str(error.with_context(owner="scenario 'dear'", file="ferry.toml"))
    "ferry.toml: scenario 'dear': no quantity 'fair'; did you mean 'fare'?"
    """

    def __init__(
        self,
        problem: str = "",
        *,
        owner: str | None = None,
        file: str | None = None,
        table: str | None = None,
        key: str | None = None,
        row: int | None = None,
        name: str | None = None,
        value: Any = UNSET,
        rule: str | None = None,
        place: int | None = None,
        unknown: Any = UNSET,
        known: Iterable[Any] = (),
    ) -> None:
        super().__init__(problem)
        self.problem, self.owner, self.file, self.table, self.key, self.row = (
            problem,
            owner,
            file,
            table,
            key,
            row,
        )
        self.name, self.rule, self.place = name, rule, place
        self.value = (
            None if value is UNSET and unknown is UNSET else unknown if value is UNSET else value
        )
        self.suggestion: str | None = None
        self.known: tuple[str, ...] = ()
        if unknown is not UNSET:
            self.known = tuple(map(str, known))
            self.suggestion = closest(str(unknown), self.known)

    def with_context(self, **context: Any) -> Self:
        """Return this error with further context; a field given here takes the place of an earlier
        one.
        """
        for field, value in context.items():
            setattr(self, field, value)
        return self

    def inside(self, owner: str) -> Self:
        """Return this error with an outer owner before its own; "replace", which callers name in
        their words, gives way.

        >>> str(KindynosError("too large", owner="given 'price'").inside("scenario 'dear'"))
        "scenario 'dear': given 'price': too large"
        """
        own = None if self.owner in (None, "replace") else self.owner
        self.owner = f"{owner}: {own}" if own else owner
        return self

    def _location(self) -> list[str]:
        row = None if self.row is None else f"row {self.row}"
        file = ", ".join(text for text in (self.file, row) if text)
        return [part for part in (file, self.table, self.owner) if part]

    def _hint(self) -> str:
        if self.suggestion is not None:
            return f"; did you mean {self.suggestion!r}?"
        return f"; known: {', '.join(self.known)}" if 0 < len(self.known) <= _LISTED else ""

    def __str__(self) -> str:
        return ": ".join([*self._location(), self.problem + self._hint()])

    def __reduce__(self) -> Any:
        return _rebuilt, (type(self), self.args, self.__dict__)


@contextmanager
def concerning(owner: str) -> Iterator[None]:
    """Name the owner of the errors that are raised in a block and have none yet.

    Checks need not know on whose behalf they are made: the one who was called says so once. An
    error of a file or of a formula has its own place.

    >>> with concerning("driver 'fare'"):
    ...     raise ParameterError("sd must be above 0")
    Traceback (most recent call last):
    ...
    kindynos.errors.ParameterError: driver 'fare': sd must be above 0
    """
    try:
        yield
    except KindynosError as error:
        if error.owner is None and not isinstance(error, FileError | FormulaError):
            error.owner = owner
        raise


def _rebuilt(
    kind: type[KindynosError], arguments: tuple[Any, ...], fields: dict[str, Any]
) -> KindynosError:
    error = kind.__new__(kind, *arguments)
    error.args = arguments
    error.__dict__.update(fields)
    return error


class ParameterError(KindynosError):
    """A parameter has a value that its rule forbids."""


class ModelError(KindynosError):
    """A model is stated wrongly: a missing, reused or circular name, or a line that breaks a
    rule.
    """


class FormulaError(ModelError):
    """A formula cannot be read or evaluated."""


class GoalError(KindynosError):
    """A goal that no value in the range reaches."""


class FileError(KindynosError):
    """A file cannot be read, or does not say what it must; ``mistakes`` holds every one that was
    found in it.
    """

    mistakes: tuple[KindynosError, ...] = ()

    @classmethod
    def of(cls, error: KindynosError, **context: Any) -> FileError:
        """Return another error as one of a file, with all its fields."""
        of_file = cls(error.problem)
        of_file.__dict__.update(error.__dict__)
        return of_file.with_context(**context)

    @classmethod
    def of_all(cls, file: str, mistakes: Sequence[KindynosError]) -> FileError:
        """Return one error for all mistakes of a file, each with its path: a single one is reported
        as it is.
        """
        if len(mistakes) == 1:
            only = cls.of(mistakes[0], file=file)
        else:
            lines = "".join(f"\n  {mistake}" for mistake in mistakes[:_PRINTED])
            if len(mistakes) > _PRINTED:
                lines += f"\n  and {len(mistakes) - _PRINTED:,} more"
            only = cls(f"{len(mistakes)} mistakes{lines}", file=file)
        only.mistakes = tuple(mistakes)
        return only


class Mistakes:
    """The mistakes of a file, collected while it is read so that all are reported at once.

    >>> mistakes = Mistakes("ferry.toml")
    >>> with mistakes.at(table="[given] fare"):
    ...     raise ParameterError("must be above 0")
    >>> with mistakes.at(row=7):
    ...     raise ParameterError("has no price")
    >>> mistakes.report()
    Traceback (most recent call last):
    ...
    kindynos.errors.FileError: ferry.toml: 2 mistakes
      [given] fare: must be above 0
      row 7: has no price
    """

    def __init__(self, file: str) -> None:
        self.file = file
        self.collected: list[KindynosError] = []

    @contextmanager
    def at(self, **place: Any) -> Iterator[None]:
        """Collect an error that is raised in a block, with its place in the file."""
        try:
            yield
        except KindynosError as error:
            # an error in another file, which this one names, keeps that file and its row
            own = FileError(str(error)) if error.file not in (None, self.file) else error
            self.collected.append(own.with_context(file=None, **place))

    def report(self) -> None:
        """Raise FileError for all mistakes, if there are any."""
        if self.collected:
            raise FileError.of_all(self.file, self.collected)


class RunError(KindynosError):
    """A simulation failed, or a run cannot answer what was asked of it."""


class TrialError(RunError):
    """A calculation failed in one trial: ``trial`` counts from the first trial it was given."""

    def __init__(self, trial: int, reason: str, inputs: str) -> None:
        super().__init__(f"failed in trial {trial} of those given: {reason}; with {inputs}")
        self.trial, self.reason, self.inputs = trial, reason, inputs


class StoppedError(RunError):
    """A simulation stopped as its ``progress`` asked, before it had anything to keep; ``done`` of
    ``total`` trials were complete.
    """

    def __init__(self, done: int, total: int) -> None:
        super().__init__(f"stopped after {done:,} of {total:,} trials; nothing was kept")
        self.done, self.total = done, total


class RunInterrupt(KeyboardInterrupt):  # as the class it extends is named
    """A simulation was interrupted from the keyboard; ``done`` of ``total`` trials were complete.

    ``run`` has those that were complete from the first on, and its ``extend()`` goes on from there;
    None where there are none. It is a KeyboardInterrupt, so that loops that go on after errors do
    not go on after this.
    """

    def __init__(self, done: int, total: int) -> None:
        super().__init__(f"stopped after {done:,} of {total:,} trials")
        self.done, self.total = done, total
        self.run: Any = None
        self.output: Any = None  # of the engine, from which the run is made


class DataWarning(UserWarning):
    """Data that can be read, and yet do not suit the calculation."""


class FitWarning(UserWarning):
    """A fit was accepted that does not satisfy everything that was requested of it."""


def closest(word: str, known: Iterable[str]) -> str | None:
    """Return the known spelling closest to a word, None where none is near.

    >>> closest("hurdel", ["hurdle", "tax"])
    'hurdle'
    """
    from difflib import get_close_matches

    folded = {option.lower(): option for option in known}
    for option, name in folded.items():  # two letters that changed places
        if sorted(option) == sorted(word.lower()):
            return name
    matches = get_close_matches(word.lower(), list(folded), n=1, cutoff=0.6)
    return folded[matches[0]] if matches else None
