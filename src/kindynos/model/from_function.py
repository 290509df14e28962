"""A calculation that is there already, as a model: its arguments are the drivers, what it returns the outcomes."""

from __future__ import annotations

import inspect
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.distributions import Distribution
from kindynos.errors import ModelError, TrialError, nearest
from kindynos.model.quantities import Line

if TYPE_CHECKING:
    from kindynos.model.model import Model

Floats = NDArray[np.float64]


def fill(
    model: Model,
    function: Callable[..., Any],
    drivers: Mapping[str, Distribution | Mapping[str, Any]],
    outcomes: str | Sequence[str] | Mapping[str, Mapping[str, Any]],
    given: Mapping[str, Any],
    each_trial: bool | None,
) -> None:
    """Add drivers, givens and outcomes to an empty model; see Model.from_function."""
    _check_arguments(function, [*drivers, *given])
    for name, law in drivers.items():
        stated: dict[str, Any] = dict(law) if isinstance(law, Mapping) else {"distribution": law}
        model.driver(name, stated.pop("distribution", None), **stated)
    model.given(**given) if given else None
    listed = [outcomes] if isinstance(outcomes, str) else outcomes
    named: dict[str, Mapping[str, Any]] = dict(listed) if isinstance(listed, Mapping) else {name: {} for name in listed}
    if not named:
        raise ModelError("from_function: name at least one outcome")
    once = Once(function, tuple(named), (*drivers, *given), each_trial)
    for name, options in named.items():
        unknown = set(options) - {"unit", "target"}
        if unknown:
            raise ModelError(f"from_function: outcome {name!r} takes unit and target, not {sorted(unknown)[0]!r}")
        model.add_line(Line(name, Item(once, name), outcome=True, **options))


def _check_arguments(function: Callable[..., Any], names: Sequence[str]) -> None:
    try:
        parameters = inspect.signature(function).parameters
    except (TypeError, ValueError):
        raise ModelError(f"from_function: needs a function or an object that can be called, not {function!r:.60}") from None
    takes_any = any(p.kind is p.VAR_KEYWORD for p in parameters.values())
    known = [p.name for p in parameters.values() if p.kind in (p.POSITIONAL_OR_KEYWORD, p.KEYWORD_ONLY)]
    for name in names:
        if name not in known and not takes_any:
            raise ModelError(f"from_function: the function has no argument {name!r}{nearest(name, known)}")
    for p in parameters.values():
        if p.kind is p.POSITIONAL_ONLY or (p.default is p.empty and p.name in known and p.name not in names):
            raise ModelError(f"from_function: the argument {p.name!r} needs a driver or a given figure, or a default")


class Once:
    """Calls the function once for all its outcomes: each asks in turn, with the same arrays."""

    def __init__(
        self, function: Callable[..., Any], outcomes: tuple[str, ...], names: tuple[str, ...], each_trial: bool | None
    ) -> None:
        self.function = function
        self.outcomes = outcomes
        self.names = names
        self.each_trial = each_trial
        self.seconds = 0.0  # that one trial takes, where they are worked out one by one
        self._last = threading.local()

    def __getstate__(self) -> dict[str, Any]:
        return {key: value for key, value in self.__dict__.items() if key != "_last"}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _last=threading.local())

    def __call__(self, inputs: dict[str, Floats]) -> dict[str, Floats]:
        """Return every outcome for arrays of inputs with the trials last."""
        # The arrays are kept beside the answer, so that one at the same place in memory is the same array.
        key = [(value.__array_interface__["data"][0], value.shape, value.strides) for value in inputs.values()]
        last = getattr(self._last, "call", None)
        if last is None or last[0] != key:
            self._last.call = last = (key, inputs, self._worked_out(inputs))
        return dict(last[2])

    def _worked_out(self, inputs: dict[str, Floats]) -> dict[str, Floats]:
        if self.each_trial is None:
            self.each_trial = not self._takes_arrays(inputs)
        if self.each_trial:
            return self._one_by_one(inputs)
        try:
            return {name: np.asarray(value) for name, value in self._named(self.function(**inputs)).items()}
        except Exception as error:
            place = self._first_failing(inputs)
            if place is None:
                raise
            raise self._failed(inputs, place, error) from error

    def _takes_arrays(self, inputs: dict[str, Floats]) -> bool:
        """Whether the function gives for arrays what it gives for the first and the last trial alone."""
        trials = _trials(inputs)
        try:
            with np.errstate(all="ignore"):
                whole = self._named(self.function(**inputs))
                for place in (0, trials - 1):
                    alone = self._named(self.function(**_single(inputs, place)))
                    for name in self.outcomes:
                        value = np.asarray(whole[name])
                        if not np.allclose(value[..., place] if value.ndim else value, alone[name], rtol=1e-9, equal_nan=True):
                            return False
        except Exception:  # whatever goes wrong with arrays, single numbers may work, and say so if not
            return False
        return True

    def _one_by_one(self, inputs: dict[str, Floats]) -> dict[str, Floats]:
        trials, rows = _trials(inputs), []
        begun = time.perf_counter()
        for place in range(trials):
            try:
                answer = self._named(self.function(**_single(inputs, place)))
                rows.append([np.asarray(answer[name], dtype=np.float64) for name in self.outcomes])
            except Exception as error:
                raise self._failed(inputs, place, error) from error
        self.seconds = (time.perf_counter() - begun) / trials
        return {name: np.stack([row[i] for row in rows], axis=-1) for i, name in enumerate(self.outcomes)}

    def _first_failing(self, inputs: dict[str, Floats]) -> int | None:
        """Return the first trial that fails alone, found by halving, or None where none does."""
        begin, end = 0, _trials(inputs)
        while end - begin > 1:
            middle = (begin + end) // 2
            if self._fails(inputs, begin, middle):
                end = middle
            elif self._fails(inputs, middle, end):
                begin = middle
            else:
                return None
        return begin

    def _fails(self, inputs: dict[str, Floats], begin: int, end: int) -> bool:
        part = {name: value[..., begin:end] if value.ndim and value.shape[-1] > 1 else value for name, value in inputs.items()}
        try:
            self.function(**part)
        except Exception:
            return True
        return False

    def _failed(self, inputs: dict[str, Floats], place: int, error: Exception) -> TrialError:
        values = {name: value for name, value in _single(inputs, place).items() if not isinstance(value, np.ndarray)}
        said = ", ".join(f"{name}={float(value):.6g}" for name, value in values.items())
        return TrialError(place, f"{type(error).__name__}: {error}", said)

    def _named(self, answer: Any) -> dict[str, Any]:
        """Return what the function gave, by the names of the outcomes; raises ModelError for what does not fit."""
        if isinstance(answer, Mapping):
            missing = [name for name in self.outcomes if name not in answer]
            if missing:
                raise ModelError(f"the function gave nothing called {missing[0]!r}{nearest(missing[0], answer)}")
            return {name: answer[name] for name in self.outcomes}
        if len(self.outcomes) == 1:
            return {self.outcomes[0]: answer}
        if not isinstance(answer, tuple | list) or len(answer) != len(self.outcomes):
            raise ModelError(
                f"the function must give {len(self.outcomes)} values, {', '.join(self.outcomes)}, not {answer!r:.60}"
            )
        return dict(zip(self.outcomes, answer, strict=True))


class Item:
    """One outcome of a function that gives several."""

    def __init__(self, once: Once, name: str) -> None:
        self.once = once
        self.name = self.__name__ = name
        parameters = [inspect.Parameter(n, inspect.Parameter.KEYWORD_ONLY) for n in once.names]
        self.__signature__ = inspect.Signature(parameters)

    def __call__(self, **inputs: Floats) -> Floats:
        """Return the outcome for arrays of inputs."""
        return self.once(inputs)[self.name]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Item) and self.name == other.name and self.once.function is other.once.function

    def __hash__(self) -> int:
        return hash(self.name)


def _trials(inputs: dict[str, Floats]) -> int:
    return max(value.shape[-1] if value.ndim else 1 for value in inputs.values())


def _single(inputs: dict[str, Floats], place: int) -> dict[str, Any]:
    """Return one trial's inputs: numbers as floats, rows as ``(periods,)``."""
    answer: dict[str, Any] = {}
    for name, value in inputs.items():
        picked = value[..., place if value.shape[-1] > 1 else 0] if value.ndim else value
        answer[name] = picked if picked.ndim else float(picked)
    return answer
