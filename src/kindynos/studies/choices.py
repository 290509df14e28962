"""The values that decisions may take: a range, whole numbers, or a list; and points among them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError, concerning
from kindynos.program.statement import Statement
from kindynos.sampling.streams import stream
from kindynos.studies.model_sweep import check_swept
from kindynos.validate import finite, mapping, names_in

MANY = 8  # values in order from which a list is searched like a range


@dataclass(frozen=True)
class DecisionRange:
    """A decision: from ``low`` to ``high``, or one of ``values``, which are in order."""

    name: str
    low: float
    high: float
    values: tuple[float, ...] = ()

    @property
    def listed(self) -> bool:
        """Whether it is one of a few values, which are all tried."""
        return 0 < len(self.values) < MANY

    @property
    def width(self) -> float:
        """The length of the range."""
        return self.high - self.low

    def near(self, value: float) -> float:
        """Return the value it may take that is nearest."""
        if self.values:
            return min(self.values, key=lambda item: abs(item - value))
        return min(max(value, self.low), self.high)

    def steps(self, value: float) -> list[float]:
        """Return the neighbours of one of its values."""
        index = self.values.index(value)
        return [self.values[k] for k in (index - 1, index + 1) if 0 <= k < len(self.values)]


def choices_of(statement: Statement, decisions: Any) -> list[DecisionRange]:
    """Return the decisions by name: a pair of ends, a range of whole numbers, or a list; raises
    ParameterError for others.
    """
    stated: Mapping[Any, Any] = mapping("decisions", decisions, "ranges or lists of values by name")
    if not stated:
        raise ParameterError("nothing to decide; say {'fare': (45, 65)}")
    choices = []
    for name, given in stated.items():
        check_swept(statement, name)
        with concerning(f"optimize: {name}"):
            choices.append(_range_of(name, given))
    return choices


def _range_of(name: str, given: Any) -> DecisionRange:
    if isinstance(given, tuple) and len(given) == 2:
        low, high = (finite("an end", end) for end in given)
        if not low < high:
            raise ParameterError(
                f"the range must be a low and a high end, not {low:g} and {high:g}"
            )
        return DecisionRange(name, low, high)
    values = sorted({finite("a value", value) for value in names_in("the values", given)})
    return DecisionRange(name, values[0], values[-1], tuple(values))


def coarse_points(choices: list[DecisionRange], count: int) -> Floats:
    """Return about ``count`` points ``(points, decisions)`` spread over all that may be chosen.

    Every combination of listed values gets its share: a grid of a few ranges, or points of a
    sequence that fills more of them evenly.
    """
    listed = [choice for choice in choices if choice.listed]
    spread = [choice for choice in choices if not choice.listed]
    combinations = list(product(*(choice.values for choice in listed)))
    if len(combinations) > count:
        kept = stream(0, "coarse sets", len(combinations)).permutation(len(combinations))[:count]
        combinations = [combinations[position] for position in kept]
    each = max(count // len(combinations), 1)
    inner = _spread(len(spread), each)
    rows = []
    for combination in combinations:
        for point in inner:
            ranged = iter(point)
            fixed = iter(combination)
            rows.append(
                [
                    next(fixed) if c.listed else c.near(c.low + float(next(ranged)) * c.width)
                    for c in choices
                ]
            )
    return np.unique(np.array(rows), axis=0)


def _spread(dimensions: int, count: int) -> Floats:
    """Return points in the unit cube."""
    if dimensions == 0:
        return np.zeros((1, 0))
    if dimensions == 1:
        return np.linspace(0, 1, max(count, 3))[:, None]
    side = int(count ** (1 / dimensions) + 1e-9)
    if side >= 3:
        line = np.linspace(0, 1, side)
        return np.array(list(product(line, repeat=dimensions)))
    # Multiples of powers of a root that generalizes the golden ratio, which leave gaps of like size
    # everywhere.
    root = 1.5
    for _ in range(50):
        root = (1 + root) ** (1 / (dimensions + 1))
    steps = root ** -np.arange(1.0, dimensions + 1)
    return np.asarray((0.5 + np.arange(max(count, 3))[:, None] * steps) % 1)
