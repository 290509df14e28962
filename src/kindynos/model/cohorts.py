"""A cohort in a model: its counts as rows for lines, drawn with the model's own scores."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.cohorts.binomials import split
from kindynos.cohorts.cohort import Cohort
from kindynos.distributions.bounded import Uniform
from kindynos.errors import ModelError
from kindynos.program.quantities import Driver, Line, PickingDriver
from kindynos.program.shared_call import SharedCall
from kindynos.validate import owner_is

AT_BASE = 0.0  # of the moves' score, which no trial draws: the expected counts


def row_name(cohort: str, state: str) -> str:
    """Return the name of the row of a state: ``fleet_in_dock``."""
    return f"{cohort}_{re.sub(r'[^0-9a-z]+', '_', state.lower()).strip('_')}"


@owner_is("cohort {name!r}")
def declarations(
    name: str, cohort: Cohort, periods: int | None, uncertain: bool
) -> tuple[Driver, list[Line]]:
    """Return the driver of a cohort's moves and its rows; raises ModelError for a model that cannot
    hold them.
    """
    if periods is None:
        raise ModelError("needs a model with periods")
    if cohort.periods is not None and cohort.periods < periods:
        raise ModelError(
            f"its chances are stated for {cohort.periods} periods, and the model has {periods}"
        )
    if uncertain and cohort.fitted is None:
        raise ModelError("uncertain=True needs a cohort that was fitted: Cohort.fit(moves)")
    rows = [row_name(name, state) for state in cohort.states]
    if len(set(rows)) < len(rows):
        raise ModelError(f"two of its states would have one row: {', '.join(rows)}")
    if cohort.value or cohort.cost:
        rows.append(f"{name}_value")
    moves = f"{name}_moves"
    driver = PickingDriver(
        moves,
        AT_BASE,
        source="the randomness of the cohort's moves",
        distribution=Uniform(0.0, 1.0),
        each="period",
    )
    call = SharedCall(
        Evolution(cohort, moves, tuple(rows), uncertain),
        tuple(rows),
        (moves, *cohort.names),
        each_trial=False,
        cohort=cohort,
    )
    return driver, [Line(row, shared=call, unit=None) for row in rows]


@dataclass(frozen=True, eq=False)
class Evolution:
    """The function of a cohort's scores, and of what its chances need, that gives its rows."""

    cohort: Cohort
    moves: str
    rows: tuple[str, ...]
    uncertain: bool

    def __call__(self, **inputs: Any) -> dict[str, Floats]:
        """Return the rows ``(periods, trials)``; at the base score, the expected counts."""
        cohort, rows, scores = self.cohort, self.rows, inputs.pop(self.moves)
        scores = scores if np.ndim(scores) == 2 else np.reshape(scores, (-1, 1))
        trials = max(
            [
                scores.shape[-1],
                *(np.shape(value)[-1] for value in inputs.values() if np.ndim(value)),
            ]
        )
        full = np.ascontiguousarray(np.broadcast_to(scores, (len(scores), trials)))
        chances = cohort.fitted.drawn(split(full[0], 97)) if self.uncertain else None
        every = [chances] if chances is not None else _by_period(cohort, inputs, len(full))
        at_base = (full == AT_BASE).all(axis=0)
        if at_base.any() and not at_base.all():
            return self._by_parts(scores, inputs, at_base)
        made: dict[tuple[int, int], Floats] = {}
        if at_base.all():
            counts, made = cohort._expected_at(len(full), trials, every, cohort._flows(inputs))
        else:
            counts = cohort._evolve(full, every, made, cohort._flows(inputs))
        by_row = {row: counts[i, 1:] for i, row in enumerate(rows[: len(cohort.states)])}
        if len(rows) > len(cohort.states):
            by_row[rows[-1]] = _value(cohort, counts, made)
        return by_row

    def _by_parts(
        self, scores: Floats, inputs: dict[str, Any], at_base: NDArray[np.bool_]
    ) -> dict[str, Floats]:
        """Return the rows where some trials are at the base score and others are drawn."""
        rows: dict[str, Floats] = {}
        for part in (at_base, ~at_base):
            own = {
                name: value[..., part] if np.ndim(value) and np.shape(value)[-1] > 1 else value
                for name, value in inputs.items()
            }
            drawn = scores[..., part] if scores.shape[-1] > 1 else scores
            for name, row in self(**own, **{self.moves: drawn}).items():
                rows.setdefault(name, np.empty((*row.shape[:-1], len(part))))[..., part] = row
        return rows


def _by_period(cohort: Cohort, inputs: dict[str, Any], periods: int) -> list[list[list[Any]]]:
    """Return the chances; where they come from rows, one matrix a period."""
    if not any(np.ndim(value) == 2 for value in inputs.values()):
        return cohort._matrices(inputs)
    return [
        cohort._matrices(
            {
                name: value[min(t, len(value) - 1)] if np.ndim(value) == 2 else value
                for name, value in inputs.items()
            }
        )[0]
        for t in range(periods)
    ]


def _value(cohort: Cohort, counts: Floats, moves: dict[tuple[int, int], Floats]) -> Floats:
    """Return what the things bring in each period, less what their moves cost."""
    states = list(cohort.states)
    total: Floats = np.zeros(counts[0, 1:].shape)
    for state, amount in cohort.value.items():
        total += amount * counts[states.index(state), 1:]
    for (one, other), amount in cohort.cost.items():
        made = moves.get((states.index(one), states.index(other)))
        if made is not None:
            total[: len(made)] -= amount * made
    return total
