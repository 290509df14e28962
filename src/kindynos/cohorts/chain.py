"""Closed forms of a cohort whose chances are alike in all periods: the long run, and the way to a
state.

Source: Kemeny and Snell, Finite Markov Chains (1960), chapters 3 and 4.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.cohorts.cohort import MOST_PERIODS
from kindynos.errors import ParameterError
from kindynos.validate import Count, check_integer, checked, known_name

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.cohorts.cohort import Cohort


def chances_of(cohort: Cohort) -> Floats:
    """Return the chances ``(states, states)``; raises ParameterError where they differ by period or
    are calculated.
    """
    if cohort.periods is not None:
        raise ParameterError("needs chances that are alike in all periods")
    return cohort.array()


def reach(chances: Floats) -> Any:
    """Return which states things can come to from which, ``(states, states)``, themselves
    included.
    """
    matrix = np.eye(len(chances), dtype=bool) | (chances > 0)
    while True:  # twice as many moves each time
        steps = matrix.astype(np.float32)
        further = steps @ steps > 0
        if (further == matrix).all():
            return matrix
        matrix = further


def reached_from(chances: Floats, begun: Sequence[int]) -> Any:
    """Return which states things can come to from some states, ``(states,)``, these included."""
    reached = np.zeros(len(chances), dtype=bool)
    latest = reached.copy()
    latest[list(begun)] = True
    while latest.any():
        reached |= latest
        latest = (chances[latest] > 0).any(axis=0) & ~reached
    return reached


def closed_classes(chances: Floats) -> list[list[int]]:
    """Return the groups of states that nothing leaves."""
    from scipy.sparse.csgraph import connected_components

    count, labels = connected_components(chances > 0, connection="strong")
    members = [np.flatnonzero(labels == label) for label in range(count)]
    closed = [member for member in members if not np.delete(chances[member], member, axis=1).any()]
    return sorted(member.tolist() for member in closed)


@checked
def steady_state(cohort: Cohort) -> pd.Series:
    """Return the share of things in each state in the long run; see ``Cohort.steady_state``."""
    import pandas as pd

    chances = chances_of(cohort)
    classes = closed_classes(chances)
    if len(classes) > 1:
        named = " and ".join(
            "{" + ", ".join(cohort.states[i] for i in group) + "}" for group in classes
        )
        raise ParameterError(
            f"the long run depends on the start: nothing leaves {named}; see reaching()"
        )
    inside = classes[0]
    chance = chances[np.ix_(inside, inside)]
    size = len(inside)
    equations = chance.T - np.eye(size)
    equations[-1] = 1.0  # in place of the last, which follows from the others
    shares = np.linalg.solve(equations, np.r_[np.zeros(size - 1), 1.0])
    long_run = np.zeros(len(chances))
    long_run[inside] = shares
    return pd.Series(long_run, index=list(cohort.states))


@dataclass(frozen=True)
class Reaching:
    """How things come to a state, by the state they begin in: Series ``chance`` (of ever reaching
    it), ``mean`` (periods until then, of those that do), and a DataFrame ``by`` of the chance of
    having reached it after each period, states down.
    """

    state: str
    chance: Any
    mean: Any
    by: Any


@checked
def reaching(cohort: Cohort, state: str, periods: Count = 40) -> Reaching:
    """Return how things come to a state; see ``Cohort.reaching``."""
    import pandas as pd

    known_name("state", state, cohort.states)
    check_integer("periods", periods, least=0, most=MOST_PERIODS)
    chances = chances_of(cohort)
    position, size = list(cohort.states).index(state), len(chances)
    able = reached_from(chances.T, [position])
    others = [i for i in range(size) if i != position and able[i]]
    chance, mean = np.zeros(size), np.full(size, np.nan)
    chance[position], mean[position] = 1.0, 0.0
    if others:
        inside = chances[np.ix_(others, others)]
        fundamental = np.linalg.inv(np.eye(len(others)) - inside)
        ever = fundamental @ chances[others, position]
        chance[others] = ever
        mean[others] = fundamental @ ever / ever  # of those that reach it
    absorbing = chances.copy()
    absorbing[position] = np.eye(size)[position]
    by, reached = np.empty((size, periods + 1)), np.eye(size)[position]
    for t in range(periods + 1):
        by[:, t] = reached
        reached = absorbing @ reached
    index = list(cohort.states)
    return Reaching(
        state,
        pd.Series(chance, index=index),
        pd.Series(mean, index=index),
        pd.DataFrame(by, index=index, columns=range(periods + 1)),
    )


@checked
def time_in_states(cohort: Cohort) -> pd.DataFrame:
    """Return the expected number of periods in each state; see ``Cohort.time_in_states``."""
    import pandas as pd

    chances = chances_of(cohort)
    size = len(chances)
    lasting = sorted({i for closed_class in closed_classes(chances) for i in closed_class})
    passing = [i for i in range(size) if i not in lasting]
    times = np.zeros((size, size))
    if passing:
        times[np.ix_(passing, passing)] = np.linalg.inv(
            np.eye(len(passing)) - chances[np.ix_(passing, passing)]
        )
    times[:, lasting] = np.where(reach(chances)[:, lasting], np.inf, 0.0)
    return pd.DataFrame(times, index=list(cohort.states), columns=list(cohort.states))


def findings(cohort: Cohort) -> list[str]:
    """Return what is worth a look: states that are never reached, and those that nothing leaves."""
    every = cohort._possible()
    either = np.maximum.reduce(every)
    begun = {state for state, count in cohort.start.items() if count > 0} | set(cohort.arrivals)
    able = reached_from(either, [cohort.states.index(state) for state in begun])
    rows = []
    for j, state in enumerate(cohort.states):
        if not able[j]:
            rows.append(f"nothing ever comes to {state!r}")
        if all(matrix[j, j] == 1 for matrix in every):
            rows.append(f"nothing leaves {state!r}")
    return rows
