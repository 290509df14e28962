"""Fitting a cohort's chances to records of moves.

The chance of a move is its share of all moves from a state; the error of a row is
a Dirichlet distribution with the counts as parameters, over the moves that were seen. Source:
Anderson and Goodman, Annals of Mathematical Statistics 28 (1957), 89-110, also for the likelihood
ratio of a change in the chances. Its p-value is that of a permutation test, since moves
by date are few and the chi-square distribution holds for many: Patefield, Applied Statistics 30
(1981), 91-97.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.cohorts.binomials import split
from kindynos.distributions.special import gammaincinv, xlogy
from kindynos.errors import DataWarning, ParameterError
from kindynos.sampling.streams import stream
from kindynos.validate import array_of

if TYPE_CHECKING:
    from kindynos.cohorts.cohort import Cohort

COLUMNS = ("thing", "date", "state")
PERMUTATIONS = 1_999  # so that p is 0.0005 at least
CELLS = 1_000_000  # of tables that are held at a time
LONG = 1.5  # of the usual time between dates, from which on one is missing in between


@dataclass(frozen=True)
class FittedChances:
    """What records say of chances: ``counts`` of moves ``(states, states)``, their standard
    ``standard_errors``, ``changed``, the p-value of a permutation test whether the chances changed
    over time (NaN without dates, and 0.0005 at least), and ``left_out``, how many pairs of states
    are no move of one period, since dates in between are missing.
    """

    counts: Floats
    standard_errors: Floats
    changed: float
    left_out: int = 0

    def drawn(self, scores: Floats) -> list[list[Any]]:
        """Return chances as the records leave them open, one set per trial, from uniform scores
        ``(trials,)``.
        """
        size = len(self.counts)
        parts = [
            [
                gammaincinv(self.counts[i, j], split(scores, 1 + i * size + j))
                if self.counts[i, j] > 0
                else 0.0
                for j in range(size)
            ]
            for i in range(size)
        ]
        totals = [sum(row) for row in parts]
        return [
            [count / total if np.ndim(total) else float(i == j) for j, count in enumerate(row)]
            for i, (row, total) in enumerate(zip(parts, totals, strict=True))
        ]


def fit(kind: type[Cohort], moves: Any, start: Any = None, **options: Any) -> Cohort:
    """Return the cohort fitted to moves, with ``fitted``.

    ``moves`` are counts from state to state, a DataFrame or a nested dict; or a DataFrame of
    records with the columns thing, date and state, in which each thing's moves are read from one of
    the dates of the table to the next. Where a thing lacks a date, or all do, the states on both
    sides of the gap are not a move, and a DataWarning says how many there are. ``start`` are the
    things to begin with, the last state of each thing in such a table. A state that nothing was
    seen to leave keeps its things. ``options`` are those of ``Cohort``. Raises ParameterError for
    records that hold no moves.
    """
    if hasattr(moves, "columns") and {str(c).lower() for c in moves.columns} >= set(COLUMNS):
        states, by_date, last, left_out = _from_records(moves)
        start = last if start is None else start
    else:
        states, by_date = _from_counts(moves)
        left_out = 0
    if start is None:
        raise ParameterError("say start=, the number of things in each state")
    counts = by_date.sum(axis=0)
    totals = counts.sum(axis=1, keepdims=True)
    if counts.sum() <= 0:
        hint = (
            "; the dates must be those of periods, such as months, which things share"
            if left_out
            else ""
        )
        raise ParameterError(f"the records hold no moves from one date to the next{hint}")
    chances = np.where(totals > 0, counts / np.maximum(totals, 1), np.eye(len(states)))
    with np.errstate(all="ignore"):
        errors = np.where(totals > 0, np.sqrt(chances * (1 - chances) / (totals + 1)), 0.0)
    made = kind(states, start, chances, **options)
    if left_out:
        pairs = "1 pair of states is" if left_out == 1 else f"{left_out:,} pairs of states are"
        text = (
            f"{kind.__name__}.fit: {pairs} not counted as moves, since dates in between are missing"
        )
        warnings.warn(text, DataWarning, stacklevel=3)
    fitted_chances = FittedChances(counts, errors, _change_test(by_date), left_out)
    object.__setattr__(made, "fitted", fitted_chances)
    return made


def _from_counts(moves: Any) -> tuple[list[str], Floats]:
    import pandas as pd

    if hasattr(moves, "loc"):
        table = moves
    else:
        try:
            table = pd.DataFrame(moves).T
        except (ValueError, TypeError):
            raise ParameterError(
                f"moves must be counts from state to state, not {moves!r:.60}"
            ) from None
    states = list(dict.fromkeys([*map(str, table.index), *map(str, table.columns)]))
    filled = table.reindex(index=states, columns=states).fillna(0.0)
    counts = array_of("moves", filled.to_numpy())
    if counts.ndim != 2 or not np.isfinite(counts).all() or (counts < 0).any():
        raise ParameterError("moves must be counts from 0 up")
    return states, counts[None]


def _from_records(table: Any) -> tuple[list[str], Floats, dict[str, int], int]:
    import pandas as pd

    named = table.rename(columns={column: str(column).lower() for column in table.columns})[
        list(COLUMNS)
    ]
    if named.isna().any().any():
        row = int(np.argmax(named.isna().any(axis=1).to_numpy()))
        raise ParameterError(f"row {row} of the records has an empty cell")
    ordered = named.sort_values(["thing", "date"], kind="stable")
    if ordered.duplicated(["thing", "date"]).any():
        first = ordered[ordered.duplicated(["thing", "date"])].iloc[0]
        raise ParameterError(f"{first['thing']} has two states at {first['date']}")
    states = list(dict.fromkeys(map(str, named["state"])))
    dates = sorted(named["date"].unique())
    things = ordered.groupby("thing", sort=False)
    before, earlier = things["state"].shift(), things["date"].shift()
    moved = ordered.assign(before=before, earlier=earlier).dropna(subset="before")
    codes = pd.Index(states)
    by_date = np.zeros((max(len(dates), 1), len(states), len(states)))
    periods = _periods(dates)
    at = {date: position for position, date in enumerate(dates)}
    places, previous = (moved[name].map(at).to_numpy() for name in ("date", "earlier"))
    single = periods[places] - periods[previous] == 1
    moved, places = moved[single], places[single]
    np.add.at(
        by_date,
        (places, codes.get_indexer(moved["before"]), codes.get_indexer(moved["state"])),
        1.0,
    )
    last = ordered.groupby("thing", sort=False)["state"].last().value_counts()
    start = {str(state): int(count) for state, count in last.items()}
    return states, by_date, start, int((~single).sum())


def _periods(dates: list[Any]) -> NDArray[np.int64]:
    """Return the period of each date, ``(dates,)``; after a long time without a date it is more
    than one on. Dates that are texts are one period apart.
    """
    import pandas as pd

    if len(dates) < 3:
        return np.arange(len(dates))
    try:
        places = pd.Series(dates)
        if isinstance(dates[0], str):
            places = pd.to_datetime(places, format="ISO8601")
        between = np.diff(places.to_numpy()).astype(np.float64)
        long = between > LONG * np.median(between)
    except (ValueError, TypeError):
        long = np.zeros(len(dates) - 1, dtype=bool)
    return np.concatenate([[0], np.cumsum(1 + long)]).astype(np.int64)


def _change_test(by_date: Floats) -> float:
    """Return the p-value of chances by date against the same at all dates: the share of tables with
    the same margins whose likelihood ratio is as large.

    With given margins the ratio is twice the sum of n log n over all cells, and a constant.
    """
    from scipy.stats import random_table

    generator = stream(0, "change of chances", 0)
    seen, drawn = 0.0, np.zeros(PERMUTATIONS)
    tested = False
    for state in range(by_date.shape[1]):
        table = by_date[:, state]
        table = table[table.sum(axis=1) > 0][:, table.sum(axis=0) > 0]
        if min(table.shape) < 2:
            continue
        tested = True
        seen += float(xlogy(table, table).sum())
        tables = random_table(table.sum(axis=1), table.sum(axis=0))
        size = max(CELLS // table.size, 1)
        for begin in range(0, PERMUTATIONS, size):
            some = drawn[begin : begin + size]
            cells = tables.rvs(len(some), random_state=generator)
            some += xlogy(cells, cells).sum(axis=(1, 2))
    if not tested:
        return float("nan")
    as_large = drawn >= seen - 1e-9 * abs(seen)
    return (1 + int(as_large.sum())) / (1 + PERMUTATIONS)
