"""What a cohort is stated by, checked: its states, numbers by state, what comes and goes, and what
moves cost.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from kindynos.errors import ParameterError
from kindynos.validate import array_of, finite, known_name, mapping, words

MOST = 10**9  # things


def read_states(states: Any) -> tuple[str, ...]:
    """Return the names of states; raises ParameterError for fewer than two, and for one that is
    there twice.
    """
    listed = (
        [states] if isinstance(states, str) else list(states) if hasattr(states, "__iter__") else []
    )
    if len(listed) < 2 or not all(isinstance(name, str) and name.strip() for name in listed):
        raise ParameterError(f"states must be at least two names, not {states!r:.60}")
    for position, name in enumerate(listed):
        words("a state", name)
        if name in listed[:position]:
            raise ParameterError(f"the state {name!r} is there twice")
    return tuple(listed)


def place_of(states: Sequence[str], state: Any) -> int:
    """Return the place of a state among all; raises ParameterError for an unknown one."""
    return list(states).index(known_name("state", state, states))


def read_by_state(
    name: str, given: Any, states: Sequence[str], counts: bool = False
) -> dict[str, float]:
    """Return numbers by state; with ``counts`` they must be whole and not too many."""
    result = mapping(name, given, "numbers by state")
    by_state = {}
    for state, value in result.items():
        if state not in states:
            raise ParameterError(
                f"{name} names no state {state!r:.40}", unknown=str(state), known=states
            )
        number = finite(f"{name} of {state!r}", value)
        if counts and (number < 0 or number != int(number)):
            raise ParameterError(
                f"{name} of {state!r} must be a whole number from 0 up, not {number:g}"
            )
        by_state[state] = number
    if counts and sum(by_state.values()) > MOST:
        raise ParameterError(
            f"{name} has {sum(by_state.values()):,.0f} things; at most {MOST:,} can be followed"
        )
    return by_state


def read_flows(name: str, given: Any, states: Sequence[str]) -> dict[str, Any]:
    """Return what comes or goes by state: a number, one per period, or the name of a quantity."""
    by_name = {} if given is None else mapping(name, given, "numbers by state")
    flows_by_state: dict[str, Any] = {}
    for state, flow in by_name.items():
        if state not in states:
            raise ParameterError(
                f"{name} names no state {state!r:.40}", unknown=str(state), known=states
            )
        if isinstance(flow, str):
            if not flow.isidentifier():
                raise ParameterError(
                    f"{name} of {state!r} must be numbers or the name of a quantity, not "
                    f"{flow!r:.40}"
                )
            flows_by_state[state] = flow
            continue
        listed = np.atleast_1d(array_of(name, flow))
        if (
            listed.ndim != 1
            or not np.isfinite(listed).all()
            or (listed < 0).any()
            or (listed != np.floor(listed)).any()
        ):
            raise ParameterError(f"{name} of {state!r} must be whole numbers from 0 up")
        flows_by_state[state] = (
            float(listed[0]) if np.ndim(flow) == 0 else tuple(map(float, listed))
        )
    return flows_by_state


def flow_at(flow: Any, period: int) -> Any:
    """Return the things that come or go in a period: a number, or one per trial."""
    if isinstance(flow, tuple):
        return flow[period]
    return flow[min(period, len(flow) - 1)] if np.ndim(flow) == 2 else flow


def whole_flow(value: Any) -> Any:
    """Return a quantity as things that come or go: rounded down, and at least 0."""
    return np.maximum(np.floor(value), 0.0)


def read_costs(given: Any, states: Sequence[str]) -> dict[tuple[str, str], float]:
    """Return amounts by move, which is written as a pair or as ``sailing -> in dock``."""
    costs_by_move = {}
    for move, amount in mapping("cost", given, "amounts by move").items():
        parts = (
            move.split("->") if isinstance(move, str) else move if isinstance(move, tuple) else ()
        )
        pair = tuple(
            state_name.strip() if isinstance(state_name, str) else state_name
            for state_name in parts
        )
        if len(pair) != 2 or any(state not in states for state in pair) or pair[0] == pair[1]:
            raise ParameterError(f"cost: {move!r:.60} is not a move; write 'sailing -> in dock'")
        costs_by_move[pair[0], pair[1]] = finite(f"cost of {pair[0]} -> {pair[1]}", amount)
    return costs_by_move
