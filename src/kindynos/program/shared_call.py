"""A function that gives several outcomes at once, called once for all of them: with arrays, or
trial by trial.
"""

from __future__ import annotations

import inspect
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields, is_dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from kindynos.arrays import Floats, unmasked
from kindynos.cohorts.cohort import Cohort
from kindynos.errors import ModelError, TrialError
from kindynos.program.failing import one_by_one, single


@dataclass(frozen=True)
class SharedCall:
    """A function of named inputs that returns one value, several in order, or values by name.

    ``each_trial`` says whether it is called for one trial at a time; None leaves that to
    ``probed``, which also measures the ``seconds`` that one trial takes. ``cohort`` is the cohort
    whose rows it gives, if any.
    """

    function: Callable[..., Any]
    outcomes: tuple[str, ...]
    inputs: tuple[str, ...]
    each_trial: bool | None = None
    seconds: float = 0.0
    cohort: Cohort | None = None

    def probed(self, inputs: Mapping[str, Floats]) -> SharedCall:
        """Return the call with ``each_trial`` decided: arrays serve if they give what single
        numbers give.
        """
        each_trial = not self._takes_arrays(inputs) if self.each_trial is None else self.each_trial
        return replace(self, each_trial=each_trial)

    def timed(self, inputs: Mapping[str, Floats]) -> tuple[SharedCall, dict[str, Floats]]:
        """Return the call with the seconds that a trial takes, and every outcome."""
        begun = time.perf_counter()
        returned = self(inputs)
        spent = (time.perf_counter() - begun) / trials_of(inputs)
        again = self(
            {name: value[..., :1] if value.ndim else value for name, value in inputs.items()}
        )
        for name, value in returned.items():
            if not np.allclose(value[..., 0], again[name][..., 0], rtol=1e-9, equal_nan=True):
                raise ModelError(
                    f"{name!r} gives another value when the same trial is calculated again; what "
                    "is random must be a driver, "
                    "and what one trial leaves behind must not affect the next"
                )
        return replace(self, seconds=spent if self.each_trial else 0.0), returned

    def __call__(self, inputs: Mapping[str, Floats]) -> dict[str, Floats]:
        """Return every outcome for arrays of inputs with the trials last; raises TrialError for a
        trial that fails.
        """
        if self.each_trial:
            return self._one_by_one(inputs)
        try:
            return {
                name: np.asarray(unmasked(value))
                for name, value in self._named(self.function(**inputs)).items()
            }
        except Exception as error:
            return self._without_failing(inputs, error)

    def _without_failing(self, inputs: Mapping[str, Floats], error: Exception) -> dict[str, Floats]:
        """Return every outcome of a function that fails on all trials together, NaN in those trials
        that fail alone; raises the error where none does.
        """
        trial = self._first_failing(inputs)
        if trial is None:
            raise error

        def alone(trial: int) -> list[Floats]:
            by_name = {name: single(value, trial) for name, value in inputs.items()}
            returned = self._named(self.function(**by_name))
            values = [
                np.asarray(unmasked(returned[name]), dtype=np.float64) for name in self.outcomes
            ]
            return [value[..., 0] if value.ndim else value for value in values]

        values, _ = one_by_one(alone, trials_of(inputs), partial(self._failed, inputs))
        return dict(zip(self.outcomes, values, strict=True))

    def _takes_arrays(self, inputs: Mapping[str, Floats]) -> bool:
        trials = trials_of(inputs)
        try:
            with np.errstate(all="ignore"):
                whole = self._named(self.function(**inputs))
                for trial in (0, trials - 1):
                    alone = self._named(self.function(**single_trial(inputs, trial)))
                    for name in self.outcomes:
                        value = np.asarray(whole[name])
                        if not np.allclose(
                            value[..., trial] if value.ndim else value,
                            alone[name],
                            rtol=1e-9,
                            equal_nan=True,
                        ):
                            return False
        # whatever goes wrong with arrays, single numbers may work, and report it if not
        except Exception:
            return False
        return True

    def _one_by_one(self, inputs: Mapping[str, Floats]) -> dict[str, Floats]:
        def alone(trial: int) -> list[Floats]:
            returned = self._named(self.function(**single_trial(inputs, trial)))
            return [
                np.asarray(unmasked(returned[name]), dtype=np.float64) for name in self.outcomes
            ]

        result, _ = one_by_one(alone, trials_of(inputs), partial(self._failed, inputs))
        return dict(zip(self.outcomes, result, strict=True))

    def _first_failing(self, inputs: Mapping[str, Floats]) -> int | None:
        """Return the first trial that fails alone, found by halving, or None where none does."""
        begin, end = 0, trials_of(inputs)
        while end - begin > 1:
            middle = (begin + end) // 2
            if self._fails(inputs, begin, middle):
                end = middle
            elif self._fails(inputs, middle, end):
                begin = middle
            else:
                return None
        return begin

    def _fails(self, inputs: Mapping[str, Floats], begin: int, end: int) -> bool:
        by_name = {
            name: value[..., begin:end] if value.ndim and value.shape[-1] > 1 else value
            for name, value in inputs.items()
        }
        try:
            self.function(**by_name)
        except Exception:
            return True
        return False

    def _failed(self, inputs: Mapping[str, Floats], trial: int, error: Exception) -> TrialError:
        values = {
            name: value
            for name, value in single_trial(inputs, trial).items()
            if not isinstance(value, np.ndarray)
        }
        drawn = ", ".join(f"{name}={float(value):.6g}" for name, value in values.items())
        return TrialError(trial, f"{type(error).__name__}: {error}", drawn)

    def _named(self, returned: Any) -> dict[str, Any]:
        """Return what the function gave, by the names of the outcomes; raises ModelError for what
        does not fit.
        """
        if is_dataclass(returned) and not isinstance(returned, type):
            returned = {field.name: getattr(returned, field.name) for field in fields(returned)}
        if isinstance(returned, Mapping):
            missing = [name for name in self.outcomes if name not in returned]
            if missing:
                raise ModelError(
                    f"the function returned nothing called {missing[0]!r}",
                    unknown=missing[0],
                    known=returned,
                )
            return {name: returned[name] for name in self.outcomes}
        if len(self.outcomes) == 1:
            return {self.outcomes[0]: returned}
        if not isinstance(returned, tuple | list) or len(returned) != len(self.outcomes):
            raise ModelError(
                f"the function must return {len(self.outcomes)} values, "
                f"{', '.join(self.outcomes)}, not {returned!r:.60}"
            )
        return dict(zip(self.outcomes, returned, strict=True))


def may_keep_state(function: Any) -> bool:
    """Return whether it is an object, or a method of one, rather than a plain function."""
    if isinstance(function, partial):
        return may_keep_state(function.func) or any(
            callable(arg) and may_keep_state(arg) for arg in function.args
        )
    return inspect.ismethod(function) or not (
        inspect.isroutine(function) or isinstance(function, np.ufunc)
    )


def trials_of(inputs: Mapping[str, Floats]) -> int:
    """Return the number of trials of arrays of inputs."""
    return max((value.shape[-1] if value.ndim else 1 for value in inputs.values()), default=1)


def single_trial(inputs: Mapping[str, Floats], trial: int) -> dict[str, Any]:
    """Return one trial's inputs: numbers as floats, rows as ``(periods,)``."""
    by_name: dict[str, Any] = {}
    for name, value in inputs.items():
        picked = value[..., trial if value.shape[-1] > 1 else 0] if value.ndim else value
        by_name[name] = picked if picked.ndim else float(picked)
    return by_name
