"""The order in which lines are worked out: a topological sort, with lines that feed each other earlier periods as one step."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from graphlib import CycleError, TopologicalSorter

from kindynos.errors import ModelError, nearest
from kindynos.model.formula.tree import PERIOD
from kindynos.model.quantities import Line, Quantity


def check_names(quantities: Mapping[str, Quantity], periods: int | None) -> None:
    """Raise ModelError for a line that needs what is not declared."""
    for line in (quantity for quantity in quantities.values() if isinstance(quantity, Line)):
        for name in (*line.needs, *line.needs_earlier):
            if name == PERIOD:
                if periods is None:
                    raise ModelError(f"line {line.name!r} uses {PERIOD!r}, and the model has no periods")
            elif name not in quantities:
                where = ""
                if line.tree is not None:
                    places = {**line.tree.earlier_names(), **line.tree.names()}
                    where = f" at column {places[name]} of its formula"
                raise ModelError(f"line {line.name!r} needs {name!r}{where}, which is not declared{nearest(name, quantities)}")


def ordered(lines: Mapping[str, Line]) -> list[tuple[str, ...]]:
    """Return the lines in an order that serves, those that need each other's earlier periods together.

    Within such a group the order serves within a period. Raises ModelError for a circle.
    """
    all_needs = {name: [used for used in (*line.needs, *line.needs_earlier) if used in lines] for name, line in lines.items()}
    steps = []
    for group in _strongly_connected(all_needs):
        if len(group) == 1 and group[0] not in all_needs[group[0]]:
            steps.append(tuple(group))
        else:
            steps.append(_within_period(group, lines))
    return steps


def _within_period(group: Sequence[str], lines: Mapping[str, Line]) -> tuple[str, ...]:
    needs = {name: [used for used in lines[name].needs if used in group] for name in group}
    try:
        order = tuple(TopologicalSorter(needs).static_order())
    except CycleError as error:
        circle = " -> ".join(reversed(error.args[1]))
        raise ModelError(f"lines need each other in a circle: {circle}; use previous(...) for an earlier period") from None
    for name in order:
        if lines[name].function is not None:
            others = ", ".join(repr(other) for other in order if other != name)
            raise ModelError(
                f"line {name!r} is a function and gets whole rows, but needs {others} and is needed there too; "
                "write it as a formula with previous(...)"
            )
    return order


def _strongly_connected(needs: Mapping[str, Sequence[str]]) -> list[list[str]]:
    """Return Tarjan's components, each after all those it needs (SIAM Journal on Computing 1, 1972, 146-160)."""
    number: dict[str, int] = {}
    lowest: dict[str, int] = {}
    stack: list[str] = []
    components: list[list[str]] = []
    for root in needs:
        work = [(root, iter(needs[root]))] if root not in number else []
        if work:
            number[root] = lowest[root] = len(number)
            stack.append(root)
        while work:
            name, rest = work[-1]
            following = next(rest, None)
            if following is None:
                work.pop()
                if work:
                    lowest[work[-1][0]] = min(lowest[work[-1][0]], lowest[name])
                if lowest[name] == number[name]:
                    place = stack.index(name)
                    components.append(sorted(stack[place:], key=list(needs).index))
                    del stack[place:]
            elif following not in number:
                number[following] = lowest[following] = len(number)
                stack.append(following)
                work.append((following, iter(needs[following])))
            elif following in stack:
                lowest[name] = min(lowest[name], number[following])
    return components
