"""The order in which lines are evaluated: a topological sort, with lines that feed each other
earlier periods as one step.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter

from kindynos.errors import ModelError
from kindynos.formula.tree import PERIOD
from kindynos.program.quantities import DependentDriver, Line, Quantity
from kindynos.program.timeline import Timeline

CALENDAR = ("year", "quarter", "month", "week")


def undeclared(
    quantities: Mapping[str, Quantity], timeline: Timeline, declared: Collection[str]
) -> list[tuple[Quantity, ModelError]]:
    """Return each line or driver that needs what is not declared, with the error that says so."""
    drivers = [
        quantity for quantity in quantities.values() if isinstance(quantity, DependentDriver)
    ]
    values: list[tuple[Quantity, ModelError]] = [
        problem for driver in drivers for problem in _of_driver(driver, timeline, declared)
    ]
    for line in (quantity for quantity in quantities.values() if isinstance(quantity, Line)):
        if isinstance(line.target, str) and line.target not in declared:
            problem = (
                f"the target of {line.name!r} is a number or a given figure, and "
                f"{line.target!r} is not declared"
            )
            values.append((line, ModelError(problem, unknown=line.target, known=declared)))
        for name in (*line.needs, *line.needs_earlier):
            if name == PERIOD:
                if timeline.periods is None:
                    values.append(
                        (
                            line,
                            ModelError(
                                f"line {line.name!r} uses {PERIOD!r}, and the model has no periods"
                            ),
                        )
                    )
            elif name not in declared and name not in timeline.known:
                where, position = "", None
                if line.tree is not None:
                    position = {**line.tree.earlier_names(), **line.tree.names()}[name]
                    where = f" at column {position} of its formula"
                problem = f"line {line.name!r} needs {name!r}{where}, which is not declared"
                if name in CALENDAR:
                    problem += (
                        f"; to have the {name} of each period, the model needs start= "
                        "and periods as short as that"
                    )
                values.append(
                    (line, ModelError(problem, place=position, unknown=name, known=declared))
                )
    return values


def _of_driver(
    driver: DependentDriver, timeline: Timeline, declared: Collection[str]
) -> Iterator[tuple[Quantity, ModelError]]:
    names = {*declared, *timeline.known, *([PERIOD] if timeline.periods else [])}
    for name in (name for name in driver.needs if name not in names):
        problem = f"driver {driver.name!r} has {name!r} among its parameters, which is not declared"
        yield driver, ModelError(problem, unknown=name, known=declared)


def check_names(quantities: Mapping[str, Quantity], timeline: Timeline) -> None:
    """Raise ModelError for a line that needs what is not declared."""
    for _, error in undeclared(quantities, timeline, quantities):
        raise error


def ordered(lines: Mapping[str, Line | DependentDriver]) -> list[tuple[str, ...]]:
    """Return lines and drivers with named parameters in an order that serves, lines that need
    earlier periods together.

    Within such a group the order serves within a period. Raises ModelError for a circle.
    """
    all_needs = {
        name: [used for used in (*line.needs, *line.needs_earlier) if used in lines]
        for name, line in lines.items()
    }
    steps = []
    for group in _strongly_connected(all_needs):
        if len(group) == 1 and group[0] not in all_needs[group[0]]:
            steps.append(tuple(group))
        else:
            steps.append(_within_period(group, lines))
    return steps


def _within_period(
    group: Sequence[str], lines: Mapping[str, Line | DependentDriver]
) -> tuple[str, ...]:
    needs = {name: [used for used in lines[name].needs if used in group] for name in group}
    try:
        order = tuple(TopologicalSorter(needs).static_order())
    except CycleError as error:
        circle = " -> ".join(reversed(error.args[1]))
        raise ModelError(
            f"lines need each other in a circle: {circle}; use previous(...) for an earlier period"
        ) from None
    for name in order:
        line = lines[name]
        if isinstance(line, DependentDriver):
            raise ModelError(
                f"driver {name!r} has a parameter that is calculated from it", name=name
            )
        if line.function is not None:
            others = ", ".join(repr(other) for other in order if other != name)
            raise ModelError(
                f"line {name!r} is a function and gets whole rows, but needs {others} and is "
                "needed there too; "
                "write it as a formula with previous(...)"
            )
    return order


def _strongly_connected(needs: Mapping[str, Sequence[str]]) -> list[list[str]]:
    """Return the groups of names that need each other, each group after all those it needs."""
    try:  # mostly none need each other
        return [[name] for name in TopologicalSorter(needs).static_order()]
    except CycleError:
        pass
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import connected_components

    by_name = {name: i for i, name in enumerate(needs)}
    pairs = [
        (by_name[name], by_name[used]) for name, all_used in needs.items() for used in all_used
    ]
    rows, columns = zip(*pairs, strict=True) if pairs else ((), ())
    graph = csr_array(([1] * len(pairs), (rows, columns)), shape=(len(by_name), len(by_name)))
    labels = connected_components(graph, connection="strong")[1].tolist()

    groups: dict[int, list[str]] = {}
    for name, label in zip(needs, labels, strict=True):
        groups.setdefault(label, []).append(name)
    needed = {
        label: {labels[by_name[used]] for name in group for used in needs[name]} - {label}
        for label, group in groups.items()
    }
    return [groups[label] for label in TopologicalSorter(needed).static_order()]
