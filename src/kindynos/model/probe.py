"""Trying function lines before a run.

In the library's layout the last axis is the trials, so ordinary habits such as ``x.sum()`` or ``np.sort(x)`` would mix them
silently. Each function line is worked out on a few trials whole, again whole, and in two parts: a value that depends on other
trials, or changes between calls, shows.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.errors import KindynosError, ModelError, TrialError
from kindynos.model.formula import Kind, Node
from kindynos.model.formula.group import Group
from kindynos.model.formula.tree import Scope
from kindynos.model.quantities import Driver, Line
from kindynos.sampling.plans import Latin

Floats = NDArray[np.float64]

TRIALS = 41  # odd, and no common number of periods, so that an axis taken for another shows
CUT = 17
SEED = 20_000_101  # any: a probe must be the same each time


class Probe:
    """The values of all quantities on a few trials, filled line by line in the order of the model."""

    def __init__(self, drivers: Mapping[str, Driver], constants: Mapping[str, Floats], periods: int) -> None:
        self.periods = periods
        self.trials = TRIALS if periods not in (TRIALS, CUT, TRIALS - CUT) else TRIALS + 2
        requests = [request for driver in drivers.values() for request in driver.requests(periods)]
        scores = Latin().scores(requests, SEED, 0, self.trials)
        self.values: dict[str, Floats] = dict(constants)
        with np.errstate(all="ignore"):
            self.values |= {name: driver.values(scores) for name, driver in drivers.items()}

    def add_formula(self, line: Line, tree: Node, kind: Kind) -> None:
        """Add a formula line; formulas cannot mix trials, so they are not probed."""
        with np.errstate(all="ignore"):
            try:
                answer = tree.evaluate(Scope(self.values, self.periods))
            except KindynosError as error:
                raise ModelError(f"line {line.name!r}: {error}") from None
        self.values[line.name] = np.broadcast_to(
            answer if kind.random or kind.row else answer.reshape(()), kind.shape(self.periods, self.trials)
        )

    def add_group(self, group: Group, kinds: Mapping[str, Kind]) -> None:
        """Add the lines of a group."""
        with np.errstate(all="ignore"):
            rows = group.evaluate(Scope(self.values, self.periods), self.trials, kinds[group.names[0]].random)
        self.values.update(rows)

    def probe(self, line: Line, kinds: Mapping[str, Kind]) -> Kind:
        """Add a function line and return its kind; raises ModelError when it mixes trials or changes between calls."""
        inputs = {name: self.values[name] for name in line.needs}
        tables = {name for name in line.needs if kinds[name].table}
        random = {name for name in line.needs if kinds[name].random}
        whole = call(line, inputs, self.trials, tables)
        kind = self._kind_of(line, whole)
        if getattr(getattr(line.function, "once", None), "each_trial", False):  # one by one, trials cannot mix
            self.values[line.name] = whole.reshape(kind.shape(self.periods, self.trials))
            return kind
        if not _same(whole, call(line, inputs, self.trials, tables)):
            raise ModelError(f"line {line.name!r} gives other values when it is called again; make what is random a driver")
        answers = []
        for part in (slice(0, CUT), slice(CUT, self.trials)):
            cut = {name: value[..., part] if name in random else value for name, value in inputs.items()}
            answers.append(call(line, cut, len(range(self.trials)[part]), tables))
        if not self._agrees(whole, answers):
            raise ModelError(
                f"line {line.name!r} mixes trials: its value for one trial depends on the others. The last axis is the "
                "trials; to add up over the periods use axis=0, as in x.sum(axis=0), and np.sort(x, axis=0), "
                "or kd.npv(...); an average over trials belongs to the run, as run['name'].mean"
            )
        self.values[line.name] = whole.reshape(kind.shape(self.periods, self.trials))
        return kind

    def _agrees(self, whole: Floats, answers: list[Floats]) -> bool:
        first, second = answers
        if whole.ndim == 0 or whole.shape[-1] != self.trials:
            return _same(whole, first) and _same(whole, second)
        if first.shape[:-1] != whole.shape[:-1] or second.shape[:-1] != whole.shape[:-1]:
            return False
        return _same(whole[..., :CUT], first) and _same(whole[..., CUT:], second)

    def _kind_of(self, line: Line, answer: Floats) -> Kind:
        shape, trials, periods = answer.shape, self.trials, self.periods
        if shape in ((), (1,)):
            return Kind()
        if shape == (trials,):
            return Kind(random=True)
        if len(shape) == 2 and shape[0] == periods and shape[1] in (1, trials):
            return Kind(row=True, random=shape[1] == trials)
        wanted = f"(trials,) or (periods, trials), here ({trials},) or ({periods}, {trials})" if periods else f"({trials},)"
        hint = ""
        if shape == (periods,):
            hint = "; a flat array is one value a trial, so keep the last axis (x[:, None] makes a row of flat figures)"
        raise ModelError(f"line {line.name!r} gave an array of shape {shape}; it must be {wanted}{hint}")


def _same(a: Floats, b: Floats) -> bool:
    return a.shape == b.shape and bool(np.allclose(a, b, rtol=1e-9, atol=0, equal_nan=True))


def call(line: Line, inputs: Mapping[str, Floats], trials: int, tables: Collection[str]) -> Floats:
    """Return a function line's value as an array; raises ModelError, naming the line, for whatever goes wrong in it."""
    assert line.function is not None
    views = {name: _view(value) for name, value in inputs.items()}
    try:
        with np.errstate(all="ignore"):
            answer = _one_by_one(line.function, views, trials, tables) if line.each_trial else line.function(**views)
    except TrialError:
        raise
    except KindynosError as error:
        raise ModelError(f"line {line.name!r}: {error}") from None
    except Exception as error:
        raise ModelError(f"line {line.name!r} failed: {type(error).__name__}: {error}{_advice(error)}") from error
    try:
        array = np.asarray(answer)
        if array.dtype.kind not in "fiub":
            raise TypeError
        return np.asarray(array, dtype=np.float64)
    except (TypeError, ValueError):
        raise ModelError(f"line {line.name!r} must return numbers, not {answer!r:.60}") from None


def _view(value: Floats) -> Floats:
    view = value.view()
    view.flags.writeable = False  # a line that changed its inputs in place would change other lines
    return view


def _one_by_one(function: Callable[..., Any], inputs: Mapping[str, Floats], trials: int, tables: Collection[str]) -> Floats:
    """Call a function of single numbers for each trial: numbers as floats, rows as ``(periods,)``, tables whole."""

    def single(name: str, trial: int) -> Any:
        value = inputs[name]
        if name in tables:
            return value
        if value.ndim == 2:
            return value[:, trial if value.shape[1] > 1 else 0]
        return float(value[trial] if value.ndim else value)

    answers = [function(**{name: single(name, trial) for name in inputs}) for trial in range(trials)]
    return np.stack([np.asarray(answer, dtype=np.float64) for answer in answers], axis=-1)


def _advice(error: Exception) -> str:
    text = str(error)
    if "truth value of an array" in text:
        return " Use np.where(condition, a, b), or declare the line with each_trial=True to write it for single numbers."
    if "read-only" in text:
        return " A line may not change what it is given; work on a copy."
    return ""
