"""Lines that refer to each other through ``previous``: evaluated period by period.

Whatever in their formulas does not depend on the group is evaluated once, over all periods, before
the steps begin.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import FormulaError
from kindynos.formula.shapes import Shape
from kindynos.formula.tree import PERIODS_A_YEAR, Call, Expression, Previous, Scope


@dataclass(frozen=True)
class _PeriodScope(Scope):
    """The values of one period: those of the members so far, the parts known before, and members of
    earlier periods.
    """

    known: Sequence[Floats]
    earlier: Mapping[tuple[str, int], Floats]


@dataclass(frozen=True)
class _Known(Expression):
    """A part evaluated before the steps; at each step it is the period's value."""

    slot: int

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        return Shape()

    def evaluate(self, scope: Scope) -> Floats:
        assert isinstance(scope, _PeriodScope)
        return scope.known[self.slot]


@dataclass(frozen=True)
class _Earlier(Expression):
    """A member of the group some periods earlier, or what stands in for it."""

    name: str
    first: Expression
    back: int

    def shape_of(self, shapes: Mapping[str, Shape]) -> Shape:
        return Shape(random=True)

    def evaluate(self, scope: Scope) -> Floats:
        assert isinstance(scope, _PeriodScope)
        earlier = scope.earlier.get((self.name, self.back))
        return self.first.evaluate(scope) if earlier is None else earlier


class Group:
    """A group of lines: their names in an order that serves within a period, and their formulas."""

    def __init__(self, formulas: Mapping[str, Expression], shapes: Mapping[str, Shape]) -> None:
        self.names = tuple(formulas)
        self._known: list[tuple[Expression, bool]] = []  # with whether it is a row
        self._backs: set[tuple[str, int]] = set()
        self._formulas = {name: self._split(tree, shapes) for name, tree in formulas.items()}

    def _split(self, node: Expression, shapes: Mapping[str, Shape]) -> Expression:
        """Return the formula with all that does not depend on the group replaced by known
        values.
        """
        used = {**node.names(), **node.earlier_names()}
        if not any(name in self.names for name in used):
            shape = node.shape_of(shapes)
            if shape.events:
                raise FormulaError(
                    f"events at column {node.place} meet what is evaluated period by period; put "
                    "what they come to into a line of its own"
                )
            self._known.append((node, shape.row))
            return _Known(node.place, len(self._known) - 1)
        if isinstance(node, Call) and node.function.whole_row:
            member = next(name for name in used if name in self.names)
            raise FormulaError(
                f"{node.function.name} at column {node.place} needs all periods of {member!r}, "
                f"which is evaluated period by period together with this line"
            )
        if isinstance(node, Previous):
            first = self._split(node.first, shapes)
            if node.name not in self.names:
                raise FormulaError(
                    f"first of previous at column {node.place} may not depend on "
                    f"{self.names[0]!r}, "
                    "which is evaluated period by period"
                )
            self._backs.add((node.name, node.back))
            return _Earlier(node.place, node.name, first, node.back)
        return node.with_parts(tuple(self._split(part, shapes) for part in node.parts))

    def member_shapes(
        self, shapes: Mapping[str, Shape], formulas: Mapping[str, Expression]
    ) -> dict[str, Shape]:
        """Return the kinds of the members: all are rows, and random as soon as one is."""
        assumed = {**shapes, **{name: Shape(row=True) for name in self.names}}
        by_name = {name: formulas[name].shape_of(assumed) for name in self.names}
        random = any(shape.random for shape in by_name.values())
        return {name: Shape(row=True, random=random) for name in self.names}

    def evaluate(self, scope: Scope, trials: int, random: bool) -> dict[str, Floats]:
        """Return the rows of all members."""
        known_rows = [(node.evaluate(scope), row) for node, row in self._known]
        rows = {name: np.empty((scope.periods, trials if random else 1)) for name in self.names}
        for t in range(scope.periods):
            values = {n: v for n, v in scope.values.items() if n == PERIODS_A_YEAR}
            earlier = {
                (name, back): rows[name][t - back] for name, back in self._backs if t >= back
            }
            step = _PeriodScope(
                values,
                scope.periods,
                [value[t] if row else value for value, row in known_rows],
                earlier,
            )
            for name, formula in self._formulas.items():
                row = rows[name][t]
                row[...] = formula.evaluate(step)
                values[name] = row
        return rows
