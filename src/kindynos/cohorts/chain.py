"""Closed forms of a cohort whose chances are alike in all periods: the long run, and the way to a
state.

Source: Kemeny and Snell, Finite Markov Chains (1960), chapters 3 and 4.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import Count, checked, known_name

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.cohorts.cohort import Cohort


def chances_of(cohort: Cohort, owner: str) -> Floats:
    """Return the chances ``(states, states)``; raises ParameterError where they differ by period or
    are calculated.
    """
    if cohort.periods is not None:
        raise ParameterError("needs chances that are alike in all periods", owner=f"Cohort.{owner}")
    return cohort.array()


def reach(chances: Floats) -> Any:
    """Return which states things can come to from which, ``(states, states)``, themselves
    included.
    """
    found = np.eye(len(chances), dtype=bool) | (chances > 0)
    for _ in range(len(chances).bit_length()):
        found = (found.astype(int) @ found.astype(int)) > 0
    return found


def closed_classes(chances: Floats) -> list[list[int]]:
    """Return the groups of states that nothing leaves."""
    found = reach(chances)
    classes: list[list[int]] = []
    for i in range(len(chances)):
        inside = [j for j in range(len(chances)) if found[i, j]]
        if all(found[j, i] for j in inside) and inside not in classes:
            classes.append(inside)
    return classes


def steady_state(cohort: Cohort) -> pd.Series:
    """Return the share of things in each state in the long run; see ``Cohort.steady_state``."""
    import pandas as pd

    chances = chances_of(cohort, "steady_state")
    classes = closed_classes(chances)
    if len(classes) > 1:
        named = " and ".join(
            "{" + ", ".join(cohort.states[i] for i in one) + "}" for one in classes
        )
        raise ParameterError(
            f"the long run depends on the start: nothing leaves {named}; see reaching()",
            owner="Cohort.steady_state",
        )
    inside = classes[0]
    part = chances[np.ix_(inside, inside)]
    size = len(inside)
    equations = np.vstack([part.T - np.eye(size), np.ones(size)])
    shares = np.linalg.lstsq(equations, np.r_[np.zeros(size), 1.0], rcond=None)[0]
    answer = np.zeros(len(chances))
    answer[inside] = shares
    return pd.Series(answer, index=list(cohort.states))


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

    known_name("Cohort.reaching", "state", state, cohort.states)
    chances = chances_of(cohort, "reaching")
    place, size = list(cohort.states).index(state), len(chances)
    able = reach(chances)[:, place]
    others = [i for i in range(size) if i != place and able[i]]
    chance, mean = np.zeros(size), np.full(size, np.nan)
    chance[place], mean[place] = 1.0, 0.0
    if others:
        inside = chances[np.ix_(others, others)]
        fundamental = np.linalg.inv(np.eye(len(others)) - inside)
        ever = fundamental @ chances[others, place]
        chance[others] = ever
        mean[others] = fundamental @ ever / ever  # of those that reach it
    absorbing = chances.copy()
    absorbing[place] = np.eye(size)[place]
    by, power = np.empty((size, periods + 1)), np.eye(size)
    for t in range(periods + 1):
        by[:, t] = power[:, place]
        power = power @ absorbing
    index = list(cohort.states)
    return Reaching(
        state,
        pd.Series(chance, index=index),
        pd.Series(mean, index=index),
        pd.DataFrame(by, index=index, columns=range(periods + 1)),
    )


def time_in_states(cohort: Cohort) -> pd.DataFrame:
    """Return the expected number of periods in each state; see ``Cohort.time_in_states``."""
    import pandas as pd

    chances = chances_of(cohort, "time_in_states")
    size = len(chances)
    lasting = sorted({i for one in closed_classes(chances) for i in one})
    passing = [i for i in range(size) if i not in lasting]
    answer = np.zeros((size, size))
    if passing:
        answer[np.ix_(passing, passing)] = np.linalg.inv(
            np.eye(len(passing)) - chances[np.ix_(passing, passing)]
        )
    answer[:, lasting] = np.where(reach(chances)[:, lasting], np.inf, 0.0)
    return pd.DataFrame(answer, index=list(cohort.states), columns=list(cohort.states))


def findings(cohort: Cohort) -> list[str]:
    """Return what is worth a look: states that are never reached, and those that nothing leaves."""
    every = cohort.possible()
    either = np.maximum.reduce(every)
    begun = {state for state, count in cohort.start.items() if count > 0} | set(cohort.arrivals)
    able = reach(either)
    found = []
    for j, state in enumerate(cohort.states):
        if not any(able[cohort.states.index(one), j] for one in begun):
            found.append(f"nothing ever comes to {state!r}")
        if all(matrix[j, j] == 1 for matrix in every):
            found.append(f"nothing leaves {state!r}")
    return found
