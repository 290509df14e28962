"""Transition matrices: read from what people write, checked, with the state that takes what is
missing.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import array_of, finite

CLOSE = 1e-9  # of 1, which a row must add up to
Entry = float | str  # a chance, or a formula of one
Rows = tuple[tuple[Entry, ...], ...]


def read_rows(states: Sequence[str], stated: Any, remainder_state: Any) -> Rows | tuple[Rows, ...]:
    """Return a transition matrix as rows of entries, or one per period; raises ParameterError
    naming the row that is wrong.
    """
    if isinstance(stated, Mapping) or hasattr(stated, "loc"):
        return _checked(states, _from_table(states, stated), remainder_state)
    if (
        isinstance(stated, list | tuple)
        and stated
        and (isinstance(stated[0], Mapping) or hasattr(stated[0], "loc"))
    ):
        return tuple(
            _checked(states, _from_table(states, entries), remainder_state, position)
            for position, entries in enumerate(stated)
        )
    if (
        isinstance(stated, list | tuple)
        and stated
        and all(isinstance(row, list | tuple) for row in stated)
        and _has_text(stated)
    ):
        return _checked(states, _square(states, [list(row) for row in stated]), remainder_state)
    array = array_of("transition", stated)
    if array.ndim == 3:
        return tuple(
            _checked(states, _square(states, entries.tolist()), remainder_state, position)
            for position, entries in enumerate(array)
        )
    return _checked(states, _square(states, array.tolist()), remainder_state)


def _has_text(stated: Any) -> bool:
    return any(isinstance(entry, str) for row in stated for entry in row)


def _square(states: Sequence[str], rows: Any) -> list[list[Any]]:
    size = len(states)
    if (
        not isinstance(rows, list)
        or len(rows) != size
        or any(not isinstance(row, list) or len(row) != size for row in rows)
    ):
        raise ParameterError(
            f"transition must be {size} by {size}, a row for each of {', '.join(states)}"
        )
    return rows


def _from_table(states: Sequence[str], stated: Any) -> list[list[Any]]:
    """Return rows from a DataFrame or a nested dict, in which a state without a row keeps its
    things.
    """
    table = (
        {str(row): dict(stated.loc[row]) for row in stated.index}
        if hasattr(stated, "loc")
        else stated
    )
    rows: list[list[Any]] = []
    places = {state: position for position, state in enumerate(states)}
    for name in table:
        if name not in places:
            raise ParameterError(
                f"transition has a row for {name!r}", unknown=str(name), known=states
            )
    for position, name in enumerate(states):
        row: list[Any] = [0.0] * len(states)
        if name not in table:
            row[position] = 1.0
        elif not isinstance(table[name], Mapping):
            raise ParameterError(f"row {name!r} must be chances by state, not {table[name]!r:.40}")
        else:
            for to, chance in table[name].items():
                if to not in places:
                    raise ParameterError(
                        f"row {name!r} goes to {to!r}", unknown=str(to), known=states
                    )
                row[places[to]] = chance
        rows.append(row)
    return rows


def _checked(
    states: Sequence[str], rows: list[list[Any]], remainder_state: Any, period: int | None = None
) -> Rows:
    """Return rows whose chances are right, with the state that takes the rest filled in."""
    when = "" if period is None else f" of period {period}"
    rows_of_entries: list[tuple[Entry, ...]] = []
    for position, row in enumerate(rows):
        entries = [
            0.0
            if type(entry) is float and entry == 0  # as most are, of many states
            else _entry(f"row {states[position]!r}{when} to {states[i]!r}", entry)
            for i, entry in enumerate(row)
        ]
        absorbing = _remainder_state(states, remainder_state, states[position])
        texts = any(isinstance(entry, str) for entry in entries)
        rest = None if absorbing is None else states.index(absorbing)
        if rest is not None and (entries[rest] == 0.0 or not texts):
            others = [entry for i, entry in enumerate(entries) if i != rest]
            entries[rest] = _remainder(states[position], when, others)
        elif texts:
            raise ParameterError(
                f"row {states[position]!r}{when} has a chance that is calculated; name the state "
                "that takes the rest: remainder_state="
            )
        elif abs(sum(float(entry) for entry in entries) - 1) > CLOSE:
            total = sum(float(entry) for entry in entries)
            raise ParameterError(
                f"row {states[position]!r}{when} adds up to {total:.6g}; it must add up to 1, or "
                "say remainder_state="
            )
        rows_of_entries.append(tuple(entries))
    return tuple(rows_of_entries)


def _remainder(state: str, when: str, others: list[Entry]) -> Entry:
    texts = [entry for entry in others if isinstance(entry, str)]
    total = sum(entry for entry in others if not isinstance(entry, str))
    if total > 1 + CLOSE:
        raise ParameterError(
            f"row {state!r}{when} adds up to {total:.6g} already, without the state that takes "
            "the rest"
        )
    left = max(1 - total, 0.0)
    return " - ".join([repr(left), *(f"({text})" for text in texts)]) if texts else left


def _remainder_state(states: Sequence[str], remainder_state: Any, row: str) -> str | None:
    """Return which state takes what is missing in a row; None where none does."""
    absorbing = (
        remainder_state.get(row) if isinstance(remainder_state, Mapping) else remainder_state
    )
    if absorbing is None:
        return None
    if isinstance(absorbing, str) and absorbing == "same":
        return row
    if not isinstance(absorbing, str) or absorbing not in states:
        raise ParameterError(
            f"remainder_state names no state {absorbing!r:.40}",
            unknown=str(absorbing)[:40],
            known=[*states, "same"],
        )
    return absorbing


def _entry(where: str, entry: Any) -> Entry:
    if isinstance(entry, str):
        try:
            return float(entry)
        except ValueError:
            return entry.strip()
    chance = finite(where, entry)
    if not 0 <= chance <= 1:
        raise ParameterError(f"{where}: a chance must be from 0 to 1, not {chance:g}")
    return chance


def names_in(text: str) -> list[str]:
    """Return the names in a formula of a chance; raises ParameterError for a text that is not
    one.
    """
    from kindynos.errors import KindynosError

    try:
        tree = ast.parse(text, mode="eval")
    except SyntaxError:
        raise ParameterError(f"{text!r:.60} is not a formula of a chance") from None
    if not all(isinstance(node, _ALLOWED) for node in ast.walk(tree)):
        raise KindynosError(
            f"a chance may use + - * / and names, such as '0.02 * wear', not {text!r:.60}"
        )
    return sorted({node.id for node in ast.walk(tree) if isinstance(node, ast.Name)})


_ALLOWED = (
    ast.Expression,
    ast.BinOp,
    ast.UnaryOp,
    ast.Add,
    ast.Sub,
    ast.Mult,
    ast.Div,
    ast.USub,
    ast.Name,
    ast.Constant,
    ast.Load,
)


def worked_out(text: str, values: Mapping[str, Any]) -> Any:
    """Return the value of such a formula at values of its names, numbers or arrays."""

    def value(node: Any) -> Any:
        if isinstance(node, ast.Constant):
            return float(str(node.value))
        if isinstance(node, ast.Name):
            return values[node.id]
        if isinstance(node, ast.UnaryOp):
            return -value(node.operand)
        left, right = value(node.left), value(node.right)
        if isinstance(node.op, ast.Add):
            return left + right
        if isinstance(node.op, ast.Sub):
            return left - right
        return left * right if isinstance(node.op, ast.Mult) else left / right

    names_in(text)
    return value(ast.parse(text, mode="eval").body)


def as_array(rows: Rows) -> Floats:
    """Return rows of numbers as an array ``(states, states)``."""
    return np.array(rows, dtype=np.float64)
