"""Slips that formulas show: a flow with the wrong sign, a condition that never holds, a line that
is counted twice, a balance that is added up. Each says what it saw; none is certain.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from kindynos.formula.parse import COMPARED
from kindynos.formula.tree import Call, Expression, Name, Operation, Previous, Scope, is_sum
from kindynos.program.program import Program
from kindynos.program.quantities import ProcessDriver
from kindynos.program.timeline import STEPS
from kindynos.units.reading import read_unit

CALENDAR = {"period", "year", "quarter", "month", "week"}
SHARES = {"share", "shares", "split", "mix", "weight", "weights", "profile", "proportion"}
NEARLY = 0.05  # how far from 1 shares that should add up to it may lie
FROM_FLOWS = ("total", "npv", "irr", "average")  # functions that take flows


@dataclass(frozen=True)
class Slip:
    """What looks wrong, and the quantity it is about."""

    name: str
    text: str


def slips(program: Program) -> Iterator[Slip]:
    """Yield what looks like a slip in the formulas of a model."""
    drivers = program.base_values()
    values = {**program.constants, **drivers}
    if not program.recorded:
        values |= program.evaluate(drivers, 1, lenient=True)[0]
    for name, line in program.lines.items():
        if line.tree is None:
            continue
        for node in line.tree.walk():
            if isinstance(node, Call):
                yield from _same_sign(name, node, values, program)
                yield from _added_up(name, node, program)
            if isinstance(node, Operation) and node.symbol in COMPARED:
                yield from _never(name, node, values, program)
        yield from _twice(name, line.tree, program)
    yield from _shares(program)
    yield from _both_ways(program)
    yield from _steps(program)


def _same_sign(
    name: str, call: Call, values: dict[str, np.ndarray], program: Program
) -> Iterator[Slip]:
    """An initial flow above 0, as all others are."""
    named = dict(zip([p.name for p in call.function.inputs], call.arguments, strict=False))
    initial, flows = named.get("initial"), named.get("flows")
    if initial is None or flows is None:
        return
    scope = Scope(values, program.periods)
    try:
        first, others = (np.asarray(part.evaluate(scope)) for part in (initial, flows))
    except Exception:  # other checks report what the base case raises
        return
    wanted_low = program.lines[name].better == "low"  # costs are stated above 0
    if wanted_low or first.size != 1 or not first.item() > 0 or not np.any(others):
        return
    if (others >= 0).all():
        yield Slip(
            name,
            f"the initial flow of {call.function.name} is above 0 in the base case, as all others "
            "are; money that is paid has a minus",
        )


def _added_up(name: str, call: Call, program: Program) -> Iterator[Slip]:
    """A balance, which is carried from period to period, taken for flows."""
    if call.function.name not in FROM_FLOWS[:3]:
        return
    named = [t for part in call.parts for _, t in _terms(part) if isinstance(t, Name)]
    for term in named:
        line = program.lines.get(term.name)
        if line is not None and line.tree is not None and _is_balance(line.name, line.tree):
            yield Slip(
                name,
                f"{call.function.name} adds up {line.name}, a balance that is carried from period "
                "to period: is what is added to it meant?",
            )


def _is_balance(name: str, tree: Expression) -> bool:
    """Whether a line is carried from period to period: itself a period before and more, or a
    running total.
    """
    terms = [term for _, term in _terms(tree)]
    carried = any(isinstance(term, Previous) and term.name == name for term in terms)
    added = (t for t in terms if isinstance(t, Call) and t.function.name == "running_total")
    return (carried and len(terms) > 1) or any(True for _ in added)


def _never(
    name: str, node: Operation, values: dict[str, np.ndarray], program: Program
) -> Iterator[Slip]:
    """A comparison with the period, or a date, that holds in no period."""
    names = set(node.names())
    dated = any(isinstance(part, Name) and part.name in CALENDAR for part in node.operands)
    if not dated or not names <= {*CALENDAR, *program.givens} or not program.periods:
        return
    values_by_name = {"period": np.arange(1.0, program.periods + 1)[:, None], **values}
    if not names <= set(values_by_name):
        return
    holds = np.asarray(node.evaluate(Scope(values_by_name, program.periods)))
    if holds.ndim == 2 and not holds.any():
        parts = f" {node.symbol} ".join(_written(part) for part in node.operands)
        yield Slip(name, f"{parts} holds in none of the {program.periods} periods")


def _twice(name: str, tree: Expression, program: Program) -> Iterator[Slip]:
    """A quantity that a sum has both as a term and within another term."""
    seen: dict[str, list[tuple[int, str]]] = {}
    for sign, term in _terms(tree):
        if not isinstance(term, Name):
            continue
        for inner_sign, leaf in _leaves(term.name, program, depth=3):
            seen.setdefault(leaf, []).append((sign * inner_sign, term.name))
    for leaf, places in seen.items():
        signs = [sign for sign, _ in places]
        if leaf in {place for _, place in places} and max(signs.count(1), signs.count(-1)) > 1:
            other = next(place for _, place in places if place != leaf)
            yield Slip(name, f"counts {leaf} twice: as a term and within {other}")


def _leaves(name: str, program: Program, depth: int) -> list[tuple[int, str]]:
    """Return a quantity and what it adds up, with their signs."""
    leaves = [(1, name)]
    line = program.lines.get(name)
    if line is None or line.tree is None or depth == 0 or not is_sum(line.tree):
        return leaves
    for sign, term in _terms(line.tree):
        if isinstance(term, Name):
            leaves += [(sign * own, leaf) for own, leaf in _leaves(term.name, program, depth - 1)]
    return leaves


def _terms(node: Expression, sign: int = 1) -> list[tuple[int, Expression]]:
    """Return the terms of a sum with their signs; a part that is none as the one term."""
    if not is_sum(node):
        return [(sign, node)]
    left, right = node.parts
    return [*_terms(left, sign), *_terms(right, sign if node.symbol == "+" else -sign)]


def _shares(program: Program) -> Iterator[Slip]:
    """Shares that add up to nearly 1."""
    for name, given in program.givens.items():
        values = np.asarray(given.array)
        about_shares = SHARES & set(name.lower().split("_"))
        if given.shape.table or values.ndim != 2 or values.size < 3 or not about_shares:
            continue
        total = float(values.sum())
        if ((values > 0) & (values < 1)).all() and 1e-6 < abs(total - 1) < NEARLY:
            yield Slip(name, f"its values add up to {total:.6g}; do they make up a whole?")


def _both_ways(program: Program) -> Iterator[Slip]:
    """A rate of exchange that is multiplied by here and divided by there."""
    for name in (*program.givens, *program.drivers):
        unit = read_unit(program.unit(name))
        if unit is None or not unit.exchange:
            continue
        uses: dict[str, str] = {}
        for line in program.lines.values():
            for node in [] if line.tree is None else line.tree.walk():
                if isinstance(node, Operation) and node.symbol in ("*", "/"):
                    last = node.parts[-1]
                    parts = node.parts if node.symbol == "*" else (last,)
                    if any(isinstance(part, Name) and part.name == name for part in parts):
                        uses.setdefault(node.symbol, line.name)
        if len(uses) == 2:
            yield Slip(
                name, f"{uses['*']} is multiplied by it, and {uses['/']} divided; which is right?"
            )


def _steps(program: Program) -> Iterator[Slip]:
    """Processes whose step is neither a period nor the part of a year that a period is."""
    every = program.timeline.every
    year = 1 / STEPS[every]
    for name, driver in program.drivers.items():
        if not isinstance(driver, ProcessDriver):
            continue
        if not any(math.isclose(driver.dt, step, rel_tol=0.03) for step in (1.0, year)):
            yield Slip(name, f"its dt is {driver.dt:g}, and a {every} is {year:.4g} of a year")


def _written(node: Expression) -> str:
    """Return a part of a comparison as it is written."""
    value = getattr(node, "value", None)
    return f"{value:g}" if isinstance(value, float) else str(getattr(node, "name", "..."))
