"""How to simulate: the options of ``Model.simulate``, stated once. The signatures of all methods
that take them, their checks and the options of the command line are made from this class.

To add one: a field of ``SimulationOptions``, its line in ``SimulationKeywords`` for type checkers,
and its help in ``HELP`` if the command line is to offer it.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, fields
from functools import wraps
from inspect import Parameter, signature
from typing import TYPE_CHECKING, Any, TypedDict, TypeVar, cast

from kindynos.literals import OnBad, SamplingPlan
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.validate import check_call, check_integer, invalid_argument, one_of, positive

if TYPE_CHECKING:
    from kindynos.engine.precision import Precision
    from kindynos.results.run import Run

Function = TypeVar("Function", bound=Callable[..., Any])
Progress = Callable[[int, int], object]


class SimulationKeywords(TypedDict, total=False):
    """The options of ``Model.simulate`` beside trials and seed, which studies of many cases take by
    name as well.
    """

    sampling: SamplingPlan
    workers: int | None
    executor: Executor | None
    progress: Progress | None
    keep: Iterable[str] | None
    on_bad: OnBad
    on_broken: OnBad
    until: Precision | Sequence[Precision] | None
    max_trials: int
    max_seconds: float | None
    on_start: Callable[[int], object] | None
    on_finish: Callable[[Run], object] | None


HELP = {  # of the options that the command line offers too
    "trials": "How many joint draws.",
    "seed": "A whole number that reproduces a run; else one is chosen.",
    "sampling": "The sampling plan: {names}.",
    "workers": "Threads; default: all. The answer is the same.",
    "max_seconds": "Stop after this many seconds, with the trials that are complete by then.",
}


@dataclass(frozen=True)
class SimulationOptions:
    """How to simulate, in every study and command; see Model.simulate."""

    trials: int = 10_000
    seed: Seed = None
    sampling: SamplingPlan | str = "latin"
    workers: int | None = None
    executor: Executor | None = None
    progress: Progress | None = None
    keep: Iterable[str] | None = None
    on_bad: OnBad | str = "count"
    on_broken: OnBad | str = "count"
    until: Precision | Sequence[Precision] | None = None
    max_trials: int = 10_000_000
    max_seconds: float | None = None
    on_start: Callable[[int], object] | None = None
    on_finish: Callable[[Run], object] | None = None
    begun: float = field(default_factory=time.monotonic, repr=False, compare=False)

    def __post_init__(self) -> None:
        """Check every setting but the seed, raising ParameterError for a wrong one, and have
        ``progress`` stop the work when its time is over.
        """
        check_integer("trials", self.trials, least=1)
        check_integer("max_trials", self.max_trials, least=1)
        if self.workers is not None:
            check_integer("workers", self.workers, least=1)
        one_of("on_bad", self.on_bad, ("count", "error"))
        one_of("on_broken", self.on_broken, ("count", "error"))
        if self.executor is not None and not isinstance(self.executor, Executor):
            raise invalid_argument("executor", "a concurrent.futures.Executor", self.executor)
        for name in ("progress", "on_start", "on_finish"):
            function = getattr(self, name)
            if function is not None and not callable(function):
                raise invalid_argument(name, "a function", function)
        if self.max_seconds is None or isinstance(self.progress, _StopAt):
            return
        end = self.begun + positive("max_seconds", self.max_seconds)
        object.__setattr__(self, "progress", _StopAt(self.progress, end))

    @classmethod
    def stated(cls, trials: int, seed: Seed, others: SimulationKeywords) -> SimulationOptions:
        """Return the options that a study was called with; raises ParameterError, with the nearest
        spelling, for one that there is not.
        """
        check_call(cls, trials, seed, **others)
        return cls(trials, seed, **others)

    def checked_seed(self) -> int:
        """Return the seed, or one chosen; raises ParameterError for a wrong one."""
        return checked_seed(self.seed)


@dataclass(frozen=True)
class _StopAt:
    """Passes progress on, and stops the work at a time of the monotonic clock."""

    progress: Progress | None
    end: float

    def __call__(self, done: int, total: int) -> object:
        goes_on = None if self.progress is None else self.progress(done, total)
        return False if time.monotonic() >= self.end else goes_on


def options_of(kind: type[Any]) -> dict[str, Any]:
    """Return the options of a class by name, with their fields."""
    return {one.name: one for one in fields(kind) if one.name != "begun"}


def takes_simulation_options(function: Function) -> Function:
    """Show the options of ``SimulationOptions`` in the signature of a function that passes its
    further keywords on to them, and have it refuse others.
    """
    stated = signature(function)
    own = [one for one in stated.parameters.values() if one.kind is not Parameter.VAR_KEYWORD]
    names = {one.name for one in own}
    further = [
        Parameter(name, Parameter.KEYWORD_ONLY, default=one.default, annotation=one.type)
        for name, one in options_of(SimulationOptions).items()
        if name not in names and not (name == "trials" and "n" in names)  # a preview has n of them
    ]
    rest = [one for one in stated.parameters.values() if one.name == "values"]
    whole = stated.replace(parameters=[*own, *further, *rest])

    @wraps(function)
    def call(*arguments: Any, **named: Any) -> Any:
        if not rest and not named.keys() <= whole.parameters.keys():
            check_call(call, *arguments, **named)
        return function(*arguments, **named)

    call.__signature__ = whole  # type: ignore[attr-defined]
    return cast(Function, call)
