"""Lines that refer to each other through ``previous``: worked out period by period.

Whatever in their formulas does not depend on the group is worked out once, over all periods, before the steps begin.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kindynos.errors import FormulaError
from kindynos.model.formula.kinds import Kind
from kindynos.model.formula.tree import Call, Node, Previous, Scope

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class _Known(Node):
    """A part worked out before the steps; at each step it is the period's value."""

    slot: int

    def kind(self, kinds: Mapping[str, Kind]) -> Kind:
        return Kind()

    def evaluate(self, scope: Scope) -> Floats:
        return scope.values[f"#{self.slot}"]


@dataclass(frozen=True)
class _Earlier(Node):
    """A member of the group some periods earlier, or what stands in for it."""

    name: str
    first: Node
    back: int

    def kind(self, kinds: Mapping[str, Kind]) -> Kind:
        return Kind(random=True)

    def evaluate(self, scope: Scope) -> Floats:
        earlier = scope.values.get(f"{self.name}@{self.back}")
        return self.first.evaluate(scope) if earlier is None else earlier


class Group:
    """A group of lines: their names in an order that serves within a period, and their formulas."""

    def __init__(self, formulas: Mapping[str, Node]) -> None:
        self.names = tuple(formulas)
        self._known: list[Node] = []
        self._backs: set[tuple[str, int]] = set()
        self._formulas = {name: self._split(tree) for name, tree in formulas.items()}

    def _split(self, node: Node) -> Node:
        """Return the formula with all that does not depend on the group replaced by known values."""
        used = {**node.names(), **node.earlier_names()}
        if not any(name in self.names for name in used):
            self._known.append(node)
            return _Known(node.place, len(self._known) - 1)
        if isinstance(node, Call) and node.function.whole_row:
            member = next(name for name in used if name in self.names)
            raise FormulaError(
                f"{node.function.name} at column {node.place} needs all periods of {member!r}, "
                f"which is worked out period by period together with this line"
            )
        if isinstance(node, Previous):
            first = self._split(node.first)
            if node.name not in self.names:
                raise FormulaError(
                    f"first of previous at column {node.place} may not depend on {self.names[0]!r}, "
                    "which is worked out period by period"
                )
            self._backs.add((node.name, node.back))
            return _Earlier(node.place, node.name, first, node.back)
        return node.with_parts(tuple(self._split(part) for part in node.parts))

    def kinds(self, kinds: Mapping[str, Kind], formulas: Mapping[str, Node]) -> dict[str, Kind]:
        """Return the kinds of the members: all are rows, and random as soon as one is."""
        assumed = {**kinds, **{name: Kind(row=True) for name in self.names}}
        found = {name: formulas[name].kind(assumed) for name in self.names}
        random = any(kind.random for kind in found.values())
        return {name: Kind(row=True, random=random) for name in self.names}

    def evaluate(self, scope: Scope, trials: int, random: bool) -> dict[str, Floats]:
        """Return the rows of all members."""
        known = [node.evaluate(scope) for node in self._known]
        rows = {name: np.empty((scope.periods, trials if random else 1)) for name in self.names}
        for t in range(scope.periods):
            values = {f"#{slot}": value[t] if value.ndim == 2 else value for slot, value in enumerate(known)}
            values |= {f"{name}@{back}": rows[name][t - back] for name, back in self._backs if t >= back}
            step = Scope(values, scope.periods)
            for name, formula in self._formulas.items():
                row = rows[name][t]
                row[...] = formula.evaluate(step)
                values[name] = row
        return rows
