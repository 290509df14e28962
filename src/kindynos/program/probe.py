"""Trying function lines before a run.

In the library's layout the last axis is the trials, so ordinary habits such as ``x.sum()`` or
``np.sort(x)`` would mix them silently. Each function line is evaluated on a few trials whole, again
whole, in two parts, and trial by trial: a value that depends on other trials, or changes between
calls, shows. A line that returns the same array in each call would overwrite other trials where two
threads call it; that is an error too.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.scores import Scores
from kindynos.errors import KindynosError, ModelError
from kindynos.events.events import Events
from kindynos.formula.shapes import Shape
from kindynos.program.quantities import Driver, Line
from kindynos.program.shared_call import SharedCall
from kindynos.program.steps import (
    FunctionStep,
    SharedStep,
    Step,
    call_function,
    read_only,
    shared_values,
)
from kindynos.sampling.plans import Latin

TRIALS = 41  # odd, and no common number of periods, so that an axis taken for another shows
CUT = 17
SEED = 20_000_101  # any: a probe must be the same each time


class Probe:
    """The values of all quantities on a few trials, filled step by step in the order of the model.

    Formulas cannot mix trials. A model of formulas alone is therefore only tried, at the base case,
    for what a formula may refuse; one so large that reading it would take long is not.
    """

    def __init__(
        self,
        drivers: Mapping[str, Driver],
        constants: Mapping[str, Floats],
        periods: int,
        formulas_only: bool,
        too_large: bool,
    ) -> None:
        self.periods, self.too_large = periods, too_large
        self.trials = (
            1
            if formulas_only
            else TRIALS
            if periods not in (TRIALS, CUT, TRIALS - CUT)
            else TRIALS + 2
        )
        self.values: dict[str, Floats] = dict(constants)
        if not too_large:
            with np.errstate(all="ignore"):
                self.values |= self._at_base(drivers) if formulas_only else self._drawn(drivers)

    def _at_base(self, drivers: Mapping[str, Driver]) -> dict[str, Floats]:
        return {
            name: np.full(driver.shape.dimensions(self.periods, 1), driver.base_value(self.periods))
            for name, driver in drivers.items()
        }

    def _drawn(self, drivers: Mapping[str, Driver]) -> dict[str, Floats]:
        requests = [
            request for driver in drivers.values() for request in driver.requests(self.periods)
        ]
        scores = Scores(Latin().scores(requests, SEED, 0, self.trials))
        return {name: driver.values(scores) for name, driver in drivers.items()}

    def add(self, step: Step) -> None:
        """Evaluate a step whose shape is known."""
        if self.too_large:
            return
        with np.errstate(all="ignore"):
            self.values.update(step.evaluate(self.values, self.periods, self.trials))

    @property
    def events_a_trial(self) -> float:
        """About how many events a trial has in all."""
        values: list[Any] = list(self.values.values())
        return sum(len(held.sizes) for held in values if isinstance(held, Events)) / self.trials

    def function(self, line: Line, shapes: Mapping[str, Shape]) -> FunctionStep:
        """Add a function line and return its step; raises ModelError when it mixes trials or
        changes between calls.
        """
        inputs = {name: self.values[name] for name in line.needs}
        tables = frozenset(name for name in line.needs if shapes[name].table)
        random = {name for name in line.needs if shapes[name].random}
        whole = call_function(line, inputs, self.trials, tables)
        shape = self._shape_of(line.name, whole)
        if not _same(whole, call_function(line, inputs, self.trials, tables)):
            raise _changes(line.name)
        if not line.each_trial:
            self._check_new(line.name, line.function, inputs)
        for parts in self._cuts(alone=bool(random) and not line.each_trial):
            result = self._by_parts(
                lambda cut, count: {line.name: call_function(line, cut, count, tables)},
                {line.name: whole},
                [(_cut(inputs, random, trials), trials) for trials in parts],
            )
            if not self._agrees(whole, parts, [returned[line.name] for returned in result]):
                raise _mixes(line.name)
        self.values[line.name] = whole.reshape(shape.dimensions(self.periods, self.trials))
        return FunctionStep(line, shape, tables)

    def shared(self, call: SharedCall) -> SharedStep:
        """Add all outcomes of a shared call and return its step, with what was found out; raises as
        ``function`` does.
        """
        inputs = {name: self.values[name] for name in call.inputs}
        decided = call.probed(inputs)
        if decided.each_trial:  # one by one, trials cannot mix
            timed, result = decided.timed(inputs)
            shapes = {name: self._shape_of(name, value) for name, value in result.items()}
            return self._shared_step(timed, shapes, result)
        whole = shared_values(decided, self.values)
        shapes = {name: self._shape_of(name, value) for name, value in whole.items()}
        if call.cohort is not None:  # whose function is ours and mixes no trials
            return self._shared_step(decided, shapes, whole)
        again = shared_values(decided, self.values)
        random = {
            name for name, value in inputs.items() if value.ndim and value.shape[-1] == self.trials
        }
        for name, value in whole.items():
            if not _same(value, again[name]):
                raise _changes(name)
        self._check_new(", ".join(call.outcomes), decided, inputs, by_name=False)
        for parts in self._cuts(alone=bool(random)):
            answers = self._by_parts(
                lambda cut, _: shared_values(decided, cut),
                whole,
                [(_cut(inputs, random, trials), trials) for trials in parts],
            )
            for name, value in whole.items():
                if not self._agrees(value, parts, [returned[name] for returned in answers]):
                    raise _mixes(name)
        return self._shared_step(decided, shapes, whole)

    def _shared_step(
        self, call: SharedCall, shapes: dict[str, Shape], returned: Mapping[str, Floats]
    ) -> SharedStep:
        for name, shape in shapes.items():
            self.values[name] = np.asarray(returned[name]).reshape(
                shape.dimensions(self.periods, self.trials)
            )
        return SharedStep(call, shapes)

    def _cuts(self, alone: bool) -> list[list[slice]]:
        """Return the ways to cut the trials: in two parts, and into single ones if ``alone``."""
        halves = [slice(0, CUT), slice(CUT, self.trials)]
        singles = [slice(position, position + 1) for position in range(self.trials)]
        return [halves, singles] if alone else [halves]

    def _by_parts(
        self,
        call: Callable[[dict[str, Floats], int], dict[str, Floats]],
        whole: Mapping[str, Floats],
        parts: list[tuple[dict[str, Floats], slice]],
    ) -> list[dict[str, Floats]]:
        """Return the answers for parts of the trials; where a function raises in all of a part, and
        did so among all trials, these stand for it.
        """
        answers = []
        for inputs, piece in parts:
            try:
                answers.append(call(inputs, piece.stop - piece.start))
            except KindynosError:
                by_name = {name: value[..., piece] for name, value in whole.items() if value.ndim}
                if len(by_name) < len(whole) or not all(
                    np.isnan(v).all() for v in by_name.values()
                ):
                    raise
                answers.append(by_name)
        return answers

    def _agrees(self, whole: Floats, parts: list[slice], answers: list[Floats]) -> bool:
        by_trial = whole.ndim > 0 and whole.shape[-1] == self.trials
        return all(
            _same(whole[..., piece] if by_trial else whole, returned)
            for piece, returned in zip(parts, answers, strict=True)
        )

    def _check_new(
        self, name: str, function: Any, inputs: Mapping[str, Floats], by_name: bool = True
    ) -> None:
        """Raise ModelError for a function whose answers to two calls share memory."""
        try:
            with np.errstate(all="ignore"):
                first, second = (
                    function(**read_only(inputs)) if by_name else function(read_only(inputs))
                    for _ in range(2)
                )
        except Exception:  # in some trial; the others are then worked out again, one by one
            return
        pairs = (
            zip(first.values(), second.values(), strict=True) if not by_name else [(first, second)]
        )
        for one, other in pairs:
            given = any(_shared(one, value) for value in inputs.values())
            if not given and _shared(one, other):
                raise ModelError(
                    f"line {name!r} returns the same array in each call, which would overwrite the "
                    "values of other trials; return a new one, such as result.copy()",
                    name=name,
                )

    def _shape_of(self, name: str, returned: Floats) -> Shape:
        dimensions, trials, periods = returned.shape, self.trials, self.periods
        if dimensions in ((), (1,)):
            return Shape()
        if dimensions == (trials,):
            return Shape(random=True)
        if len(dimensions) == 2 and dimensions[0] == periods and dimensions[1] in (1, trials):
            return Shape(row=True, random=dimensions[1] == trials)
        text = (
            f"(trials,) or (periods, trials), here ({trials},) or ({periods}, {trials})"
            if periods
            else f"({trials},)"
        )
        hint = ""
        if dimensions == (periods,):
            hint = (
                "; a flat array is one value a trial, so keep the last axis (x[:, None] makes "
                "a row of flat figures)"
            )
        raise ModelError(
            f"line {name!r} returned an array of shape {dimensions}; it must be {text}{hint}",
            name=name,
        )


def _shared(one: Any, other: Any) -> bool:
    """Return whether two answers are arrays in the same memory."""
    both = isinstance(one, np.ndarray) and isinstance(other, np.ndarray)
    return both and np.shares_memory(one, other)


def _cut(inputs: Mapping[str, Floats], random: set[str], trials: slice) -> dict[str, Floats]:
    """Return inputs for some of the trials."""
    return {name: value[..., trials] if name in random else value for name, value in inputs.items()}


def _same(a: Floats, b: Floats) -> bool:
    return a.shape == b.shape and bool(np.allclose(a, b, rtol=1e-9, atol=0, equal_nan=True))


def _changes(name: str) -> ModelError:
    return ModelError(
        f"line {name!r} gives other values when it is called again; make what is random a driver",
        name=name,
    )


def _mixes(name: str) -> ModelError:
    return ModelError(
        f"line {name!r} mixes trials: its value for one trial depends on the others. The last "
        "axis is the "
        "trials; to add up over the periods use axis=0, as in x.sum(axis=0), and np.sort(x, "
        "axis=0), "
        "or kd.npv(...); an average over trials belongs to the run, as run['name'].mean",
        name=name,
    )
