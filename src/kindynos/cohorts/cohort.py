"""A cohort: a population whose members stay in their state or move to another, in every
period.

Sources: Norris, Markov Chains (1997), chapter 1; Kemeny and Snell, Finite Markov Chains (1960),
chapter 3.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np

from kindynos.arrays import Floats
from kindynos.cohorts.binomials import binomial_quantile, split
from kindynos.cohorts.matrix import Rows, as_array, names_in, read_rows, worked_out
from kindynos.cohorts.stating import (
    flow_at,
    place_of,
    read_by_state,
    read_costs,
    read_flows,
    read_states,
    whole_flow,
)
from kindynos.delegation import Inline, delegated_to
from kindynos.errors import ParameterError
from kindynos.sampling.streams import Seed, checked_seed, stream
from kindynos.validate import Count, check_integer, checked, checked_init, invalid_argument, mapping

if TYPE_CHECKING:
    import pandas as pd


Flows = tuple[dict[str, Any], ...]
BLOCK = 8_192  # trials drawn together
MOST_PERIODS = 100_000

Way = tuple[int, int, Any]  # out of a state: the number of its draw, the state it leads to, chance


def ways_of(matrix: Sequence[Sequence[Any]]) -> list[list[Way]]:
    """Return the ways out of each state that have a chance; those without one have a number too, so
    that a chance which becomes 0 leaves the draws of the others as they were.
    """
    ways: list[list[Way]] = []
    for i, row in enumerate(matrix):
        begin = i * (len(row) - 1)
        places = (
            (j, chance)
            for j, chance in enumerate(row)
            if j != i and not (isinstance(chance, float) and chance == 0)
        )
        ways.append([(begin + j - (j > i), j, chance) for j, chance in places])
    return ways


@checked_init
@dataclass(frozen=True)
class Cohort(Inline):
    """Things that are each in one of the ``states``, and move independently of each other with
    given chances.

    ``start`` is how many begin in each. ``transition`` are the chances from each state (rows) to
    each: an array, a DataFrame or a nested dict, in which a state without a row keeps its things;
    one for all periods, or a list of one per period. A chance may be a text, ``"0.02 * wear"``,
    whose names are quantities of a model. Rows add up to 1; ``remainder_state`` names the state
    that takes what is missing in them, ``"same"`` for the one things are in, or tells it by row. In
    each period the ``departures`` leave first, then things move, then ``arrivals`` come; both are
    numbers by state, lists of one per period, or names of a model's quantities. ``value`` is what a
    thing in a state brings a period, ``cost`` what a move costs: ``{("sailing", "in dock"): 4e5}``.

    >>> chances = {"sailing": {"in dock": 0.1}, "in dock": {"sailing": 0.5}}
    >>> fleet = Cohort(["sailing", "in dock"], {"sailing": 40}, chances,
    ...     remainder_state="same")
    >>> [round(float(count), 1) for count in fleet.expected(2).loc["in dock"]]
    [0.0, 4.0, 5.6]
    """

    states: Sequence[str]
    start: Any
    transition: Any
    remainder_state: Any = None
    arrivals: Any = None
    departures: Any = None
    value: Any = None
    cost: Any = None

    fitted: ClassVar[Any] = None  # what ``fit`` found, with its errors, on cohorts that it made

    def __post_init__(self) -> None:
        states = read_states(self.states)
        object.__setattr__(self, "states", states)
        object.__setattr__(self, "start", read_by_state("start", self.start, states, counts=True))
        object.__setattr__(
            self, "transition", read_rows(list(states), self.transition, self.remainder_state)
        )
        for name in ("arrivals", "departures"):
            object.__setattr__(self, name, read_flows(name, getattr(self, name), states))
        object.__setattr__(
            self, "value", {} if self.value is None else read_by_state("value", self.value, states)
        )
        object.__setattr__(self, "cost", {} if self.cost is None else read_costs(self.cost, states))

    @property
    def periods(self) -> int | None:
        """The number of periods for which chances are stated one by one; None where they are
        alike.
        """
        rows: Any = self.transition
        return len(rows) if isinstance(rows[0][0], tuple) else None

    @cached_property
    def names(self) -> list[str]:
        """The quantities that its chances are calculated from."""
        answer = {
            name
            for rows in self._every
            for row in rows
            for e in row
            if isinstance(e, str)
            for name in names_in(e)
        }
        return sorted(
            answer
            | {
                flow
                for flows in (self.arrivals, self.departures)
                for flow in flows.values()
                if isinstance(flow, str)
            }
        )

    def _flows(self, values: Mapping[str, Any]) -> Flows:
        """Return arrivals and departures by state, those that are named at their values, rounded
        down and at least 0.
        """
        return tuple(
            {
                state: whole_flow(values[flow]) if isinstance(flow, str) else flow
                for state, flow in flows.items()
            }
            for flows in (self.arrivals, self.departures)
        )

    @property
    def _every(self) -> tuple[Rows, ...]:
        rows: Any = self.transition
        return rows if self.periods is not None else (rows,)

    @cached_property
    def _constant(self) -> list[list[list[Any]]]:
        """The chances, where none is calculated."""
        return [[list(row) for row in rows] for rows in self._every]

    @cached_property
    def _constant_ways(self) -> list[list[list[Way]]]:
        """The ways out of each state in each matrix, where no chance is calculated."""
        return [ways_of(matrix) for matrix in self._constant]

    def _ways(self, chances: list[list[list[Any]]]) -> list[list[list[Way]]]:
        """Return the ways out of each state in each matrix of chances."""
        if chances is self.__dict__.get("_constant"):
            return self._constant_ways
        return [ways_of(matrix) for matrix in chances]

    def _matrices(self, values: Mapping[str, Any] | None = None) -> list[list[list[Any]]]:
        """Return the chances, one matrix for all periods or one per period, at values of the names
        in them.

        Raises ParameterError for a chance outside 0 to 1, with its row.
        """
        by_quantity = dict(values or {})
        for name in self.names:
            if name not in by_quantity:
                raise ParameterError(f"it needs {name}; add it to a model, which knows it")
        if not self.names:
            return self._constant
        return [
            [
                [self._chance(e, by_quantity, i, j) for j, e in enumerate(row)]
                for i, row in enumerate(rows)
            ]
            for rows in self._every
        ]

    def _chance(self, entry: Any, values: Mapping[str, Any], i: int, j: int) -> Any:
        if not isinstance(entry, str):
            return entry
        chance = worked_out(entry, values)
        low, high = float(np.min(chance)), float(np.max(chance))
        if low < -1e-9 or high > 1 + 1e-9 or not np.isfinite([low, high]).all():
            bad = low if low < 0 else high
            raise ParameterError(
                f"row {self.states[i]!r} to {self.states[j]!r}: {entry} is {bad:.4g} in some "
                "trial; a chance is from 0 to 1"
            )
        return np.clip(chance, 0.0, 1.0)

    @checked
    def array(self, period: int = 0) -> Floats:
        """Return the chances of one period ``(states, states)``; raises ParameterError where they
        are calculated.
        """
        check_integer("period", period, least=0)
        every = self._matrices()
        return as_array(tuple(map(tuple, every[min(period, len(every) - 1)])))

    def _possible(self) -> list[Floats]:
        """Return which moves are possible: the chances of each period ``(states, states)``, 0.5 for
        calculated ones.
        """
        return [
            np.array([[0.5 if isinstance(e, str) else e for e in row] for row in rows])
            for rows in self._every
        ]

    def _check_memory(self, periods: int, trials: int) -> None:
        from kindynos.engine.available import check_memory

        states = len(self.states)
        what = f"{states} states over {periods:,} periods"
        whole = 8.0 * states * (periods + 1) * trials
        check_memory(what + (f" in {trials:,} trials" if trials > 1 else ""), whole)

    def _check_periods(self, periods: int) -> int:
        check_integer("periods", periods, least=1, most=MOST_PERIODS)
        if self.periods is not None and periods > self.periods:
            raise ParameterError(
                f"chances are stated for {self.periods} periods, and {periods} are asked for"
            )
        for name in ("arrivals", "departures"):
            for state, flow in getattr(self, name).items():
                if isinstance(flow, tuple) and len(flow) < periods:
                    raise ParameterError(
                        f"{name} of {state!r} are {len(flow)}, and {periods} periods are asked for"
                    )
        return periods

    @checked
    def counts(self, periods: int, trials: Count, seed: Seed = None) -> Floats:
        """Return how many things are in each state, ``(states, periods + 1, trials)``; the start is
        in period 0.

        They are exact draws: of the things in a state, those that move to each other state are
        multinomial. Another cohort with the same seed shares the draws, so that a small change of a
        chance moves few things. Raises ParameterError for wrong numbers.
        """
        self._check_periods(periods)
        self._check_memory(periods, trials)
        seed = checked_seed(seed)
        from kindynos.engine.workers import on_threads

        members: Floats = np.empty((len(self.states), periods + 1, trials))
        chances = self._matrices()

        def work(begin: int) -> None:
            size = min(BLOCK, trials - begin)
            scores = stream(seed, "cohort", begin // BLOCK).random((periods, size))
            members[:, :, begin : begin + size] = self._evolve(
                np.maximum(scores, 2.0**-54), chances
            )

        on_threads(work, range(0, trials, BLOCK))
        return members

    def _evolve(
        self,
        scores: Floats,
        chances: list[list[list[Any]]],
        moves: dict[tuple[int, int], Floats] | None = None,
        flows: Flows | None = None,
    ) -> Floats:
        """Return counts ``(states, periods + 1, trials)`` from uniform scores ``(periods,
        trials)``, one per period.

        ``moves`` collects, if given, how many move from state to state, ``(periods, trials)``.
        """
        counts = self._begun(*scores.shape)
        arrivals, departures = (self.arrivals, self.departures) if flows is None else flows
        ways = self._ways(chances)
        for t in range(len(scores)):
            here = self._departed(counts[:, t], departures, t)
            after = counts[:, t + 1]
            for i, out in enumerate(ways[t] if len(ways) > 1 else ways[0]):
                self._leave(i, out, here[i], after, scores[t], moves, t)
            for state, flow in arrivals.items():
                after[self.states.index(state)] += flow_at(flow, t)
        return counts

    def _begun(self, periods: int, trials: int) -> Floats:
        """Return counts ``(states, periods + 1, trials)`` with the start filled in."""
        counts = np.zeros((len(self.states), periods + 1, trials))
        for state, count in self.start.items():
            counts[self.states.index(state), 0] = count
        return counts

    def _departed(self, counts: Floats, departures: Mapping[str, Any], t: int) -> Floats:
        """Return the counts of one period after the departures."""
        here = counts.copy()
        for state, flow in departures.items():
            index = self.states.index(state)
            here[index] = np.maximum(here[index] - flow_at(flow, t), 0.0)
        return here

    def _leave(
        self,
        i: int,
        ways: list[Way],
        here: Floats,
        after: Floats,
        scores: Floats,
        moves: Any,
        t: int,
    ) -> None:
        """Share the things of a state out to where they go; those that stay are what is left."""
        left, remaining = here, 1.0
        for number, j, chance in ways:
            with np.errstate(all="ignore"):
                share = (
                    np.clip(np.nan_to_num(chance / remaining), 0.0, 1.0)
                    if np.ndim(chance) or np.ndim(remaining)
                    else (min(chance / remaining, 1.0) if remaining > 0 else 0.0)
                )
            if np.ndim(share) == 0 and share >= 1 - 1e-12:
                share = 1.0
            gone = binomial_quantile(split(scores, number), left, share)
            after[j] += gone
            if moves is not None:
                moves.setdefault((i, j), np.zeros((t + 1, len(scores))))
                stored = moves[i, j]
                if len(stored) <= t:
                    stored = np.concatenate([stored, np.zeros((t + 1 - len(stored), len(scores)))])
                stored[t] = gone
                moves[i, j] = stored
            left = left - gone
            remaining = remaining - chance
        after[i] += left

    @checked
    def expected(self, periods: int) -> pd.DataFrame:
        """Return the expected counts, a DataFrame: states down, periods across from 0, in closed
        form.

        Raises ParameterError where more things depart than are surely there.
        """
        import pandas as pd

        self._check_periods(periods)
        self._check_memory(periods, 1)
        means, _ = self._expected_at(periods, 1, self._matrices())
        return pd.DataFrame(means[..., 0], index=list(self.states), columns=range(periods + 1))

    def _expected_at(
        self, periods: int, trials: int, chances: list[list[list[Any]]], flows: Flows | None = None
    ) -> tuple[Floats, dict[tuple[int, int], Floats]]:
        """Return the expected counts ``(states, periods + 1, trials)`` and moves ``(periods,
        trials)`` at chances, one per trial or one.
        """
        counts = self._begun(periods, trials)
        moves: dict[tuple[int, int], Floats] = {}
        ways = self._ways(chances)
        arrivals, departures = (self.arrivals, self.departures) if flows is None else flows
        for t in range(periods):
            here = self._departed(counts[:, t], departures, t)
            matrix = chances[t] if len(chances) > 1 else chances[0]
            for i, out in enumerate(ways[t] if len(ways) > 1 else ways[0]):
                counts[i, t + 1] += here[i] * matrix[i][i]
                for _, j, chance in out:
                    shifted = here[i] * chance
                    counts[j, t + 1] += shifted
                    moves.setdefault((i, j), np.zeros((periods, trials)))[t] = shifted
            for state, flow in arrivals.items():
                counts[self.states.index(state), t + 1] += flow_at(flow, t)
        return counts, moves

    @checked
    def covariance(self, period: int) -> pd.DataFrame:
        """Return the covariance of the counts in a period, a DataFrame: for n things of one
        beginning, n (diag(p) - p p').

        Raises ParameterError for a cohort with departures, which make things depend on each other.
        """
        import pandas as pd

        self._check_periods(period)
        if self.departures:
            raise ParameterError(
                "departures of a number of things have no closed form here; simulate"
            )
        size = len(self.states)
        total = np.zeros((size, size))
        groups = [
            (0, self.states.index(state), float(count)) for state, count in self.start.items()
        ]
        for state, flow in self.arrivals.items():
            groups += [
                (t + 1, self.states.index(state), float(flow_at(flow, t))) for t in range(period)
            ]
        for begin, position, number in groups:
            shares = np.eye(size)[position]
            for t in range(begin, period):
                shares = shares @ self.array(t)
            total += number * (np.diag(shares) - np.outer(shares, shares))
        return pd.DataFrame(total, index=list(self.states), columns=list(self.states))

    @delegated_to("kindynos.cohorts.chain", "steady_state")
    def steady_state(self) -> pd.Series:
        """Return the share of things in each state in the long run, a Series; raises ParameterError
        where it depends on the start.
        """

    @delegated_to("kindynos.cohorts.chain", "reaching")
    def reaching(self, state: str, periods: int = 40) -> pd.DataFrame:
        """Return, for a thing that begins in each state, its chance of ever reaching one, the mean
        number of periods until then if it does, and the chance of having reached it after each
        period; see ``kindynos.cohorts.chain.Reaching``.
        """

    @delegated_to("kindynos.cohorts.chain", "time_in_states")
    def time_in_states(self) -> pd.DataFrame:
        """Return the expected number of periods that a thing beginning in each state (rows) spends
        in each, a DataFrame.

        Infinite for a state to which things return for ever.
        """

    @delegated_to("kindynos.cohorts.result", "simulate")
    def simulate(self, periods: int, trials: int = 10_000, seed: Seed = None) -> Any:
        """Return simulated counts with their statistics, tables and pictures; see
        ``CohortResult``.
        """

    @delegated_to("kindynos.cohorts.result", "sensitivity")
    def sensitivity(
        self, state: str, periods: int, change: float = 0.01, trials: int = 10_000, seed: int = 1
    ) -> pd.DataFrame:
        """Return what each chance does to the count of a state after ``periods``, a DataFrame
        with one row per chance.

        ``derivative`` is that of the expected count, in closed form, with what is added taken from
        those that stay; ``effect`` that of adding ``change``, and ``simulated`` the same on shared
        draws, with its ``error``.
        """

    @classmethod
    @delegated_to("kindynos.cohorts.fit", "fit")
    def fit(cls, moves: Any, start: Any = None, **options: Any) -> Self:
        """Return the cohort fitted to counts of moves, or from a table of things by date; see
        ``kindynos.cohorts.fit``.
        """
        raise NotImplementedError

    @checked
    def by_age(self, state: str, leaving: Sequence[Mapping[str, float]]) -> Cohort:
        """Return a cohort in which the chances of leaving a state depend on how many periods a
        thing has been in it.

        ``leaving`` are the chances to other states in the first period, the second, and so on; the
        last serve for all later ones. The state becomes "in dock 1", "in dock 2", ...; things
        arrive in the first. Raises ParameterError for an unknown state.

        >>> chances = {"sailing": {"in dock": 0.1}}
        >>> dock = Cohort(["sailing", "in dock"], {"in dock": 2}, chances, remainder_state="same")
        >>> dock.by_age("in dock", [{}, {"sailing": 1.0}]).expected(2).loc["sailing"].tolist()
        [0.0, 0.0, 2.0]
        """
        position = place_of(self.states, state)
        if self.periods is not None or self.names:
            raise ParameterError("needs chances that are numbers, alike in all periods")
        if not isinstance(leaving, list | tuple) or not leaving:
            raise invalid_argument("leaving", "a list of chances by state", leaving)
        ages = [mapping("leaving", row, "chances by state") for row in leaving]
        fresh = [f"{state} {age}" for age in range(1, len(ages) + 1)]
        states = [name for old in self.states for name in (fresh if old == state else [old])]
        old = self.array()
        table: dict[str, dict[str, float]] = {}
        for i, name in enumerate(self.states):
            if name != state:
                table[name] = {
                    (fresh[0] if j == position else self.states[j]): float(old[i, j])
                    for j in range(len(old))
                }
        for age, row in enumerate(ages):
            stays = fresh[min(age + 1, len(ages) - 1)]
            table[fresh[age]] = {**row, stays: 1.0 - float(sum(row.values()))}

        def moved(given: Any) -> Any:
            return {fresh[0] if name == state else name: value for name, value in given.items()}

        costs = {
            (a, fresh[0] if b == state else b): c for (a, b), c in self.cost.items() if a != state
        }
        costs |= {(name, b): c for (a, b), c in self.cost.items() if a == state for name in fresh}
        worth = {name: v for s, v in self.value.items() for name in (fresh if s == state else [s])}
        return replace(
            self,
            states=states,
            start=moved(self.start),
            transition=table,
            remainder_state=None,
            arrivals=moved(self.arrivals),
            departures=moved(self.departures),
            value=worth,
            cost=costs,
        )
