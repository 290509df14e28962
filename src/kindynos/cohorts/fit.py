"""Fitting a cohort's chances to records of moves.

The chance of a move is its share of all moves from a state; what the records leave open of a row is
a Dirichlet distribution with the counts as parameters, over the moves that were seen. Source:
Anderson and Goodman, Annals of Mathematical Statistics 28 (1957), 89-110, also for the test whether
the chances changed.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.cohorts.binomials import split
from kindynos.distributions.special import gammaincc, gammaincinv
from kindynos.errors import ParameterError
from kindynos.validate import array_of

if TYPE_CHECKING:
    from kindynos.cohorts.cohort import Cohort

COLUMNS = ("thing", "date", "state")


@dataclass(frozen=True)
class FittedChances:
    """What records say of chances: ``counts`` of moves ``(states, states)``, their standard
    ``standard_errors``, and ``changed``, the p-value of the test whether the chances changed over
    time (NaN without dates).
    """

    counts: Floats
    standard_errors: Floats
    changed: float

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
            [part / total if np.ndim(total) else float(i == j) for j, part in enumerate(row)]
            for i, (row, total) in enumerate(zip(parts, totals, strict=True))
        ]


def fit(kind: type[Cohort], moves: Any, start: Any = None, **options: Any) -> Cohort:
    """Return the cohort fitted to moves, with ``fitted``.

    ``moves`` are counts from state to state, a DataFrame or a nested dict; or a DataFrame of
    records with the columns thing, date and state, in which each thing's moves are read from one of
    its dates to the next. ``start`` are the things to begin with, the last state of each thing in
    such a table. A state that nothing was seen to leave keeps its things. ``options``
    are those of ``Cohort``. Raises ParameterError for records that hold no moves.
    """
    owner = "Cohort.fit"
    if hasattr(moves, "columns") and {str(c).lower() for c in moves.columns} >= set(COLUMNS):
        states, by_date, last = _from_records(owner, moves)
        start = last if start is None else start
    else:
        states, by_date = _from_counts(owner, moves)
    if start is None:
        raise ParameterError("say start=, the number of things in each state", owner=owner)
    counts = by_date.sum(axis=0)
    totals = counts.sum(axis=1, keepdims=True)
    if counts.sum() <= 0:
        raise ParameterError("the records hold no moves", owner=owner)
    chances = np.where(totals > 0, counts / np.maximum(totals, 1), np.eye(len(states)))
    with np.errstate(all="ignore"):
        errors = np.where(totals > 0, np.sqrt(chances * (1 - chances) / (totals + 1)), 0.0)
    made = kind(states, start, chances, **options)
    object.__setattr__(made, "fitted", FittedChances(counts, errors, _change_test(by_date)))
    return made


def _from_counts(owner: str, moves: Any) -> tuple[list[str], Floats]:
    import pandas as pd

    if hasattr(moves, "loc"):
        table = moves
    else:
        try:
            table = pd.DataFrame(moves).T
        except (ValueError, TypeError):
            raise ParameterError(
                f"moves must be counts from state to state, not {moves!r:.60}", owner=owner
            ) from None
    states = list(dict.fromkeys([*map(str, table.index), *map(str, table.columns)]))
    found = table.reindex(index=states, columns=states).fillna(0.0)
    counts = array_of(owner, "moves", found.to_numpy())
    if counts.ndim != 2 or not np.isfinite(counts).all() or (counts < 0).any():
        raise ParameterError("moves must be counts from 0 up", owner=owner)
    return states, counts[None]


def _from_records(owner: str, table: Any) -> tuple[list[str], Floats, dict[str, int]]:
    import pandas as pd

    named = table.rename(columns={column: str(column).lower() for column in table.columns})[
        list(COLUMNS)
    ]
    if named.isna().any().any():
        row = int(np.argmax(named.isna().any(axis=1).to_numpy()))
        raise ParameterError(f"row {row} of the records has an empty cell", owner=owner)
    ordered = named.sort_values(["thing", "date"], kind="stable")
    if ordered.duplicated(["thing", "date"]).any():
        first = ordered[ordered.duplicated(["thing", "date"])].iloc[0]
        raise ParameterError(f"{first['thing']} has two states at {first['date']}", owner=owner)
    states = list(dict.fromkeys(map(str, named["state"])))
    dates = sorted(named["date"].unique())
    before = ordered.groupby("thing", sort=False)["state"].shift()
    moved = ordered.assign(before=before).dropna(subset="before")
    codes = pd.Index(states)
    by_date = np.zeros((max(len(dates), 1), len(states), len(states)))
    places = pd.Index(dates).get_indexer(moved["date"])
    np.add.at(
        by_date,
        (places, codes.get_indexer(moved["before"]), codes.get_indexer(moved["state"])),
        1.0,
    )
    last = ordered.groupby("thing", sort=False)["state"].last().value_counts()
    return states, by_date, {str(state): int(count) for state, count in last.items()}


def _change_test(by_date: Floats) -> float:
    """Return the p-value of the likelihood ratio of chances by date against the same at all
    dates.
    """
    used = by_date[by_date.sum(axis=(1, 2)) > 0]
    if len(used) < 2:
        return float("nan")
    pooled = used.sum(axis=0)
    with np.errstate(all="ignore"):
        whole = pooled / pooled.sum(axis=1, keepdims=True)
        each = used / used.sum(axis=2, keepdims=True)
        ratio = 2 * float(np.nansum(used * np.log(np.where(used > 0, each / whole, 1.0))))
    degrees = sum(
        (int((pooled[i] > 0).sum()) - 1) * (int((used[:, i].sum(axis=1) > 0).sum()) - 1)
        for i in range(len(pooled))
        if pooled[i].any()
    )
    return (
        float(gammaincc(np.array(degrees / 2), np.array(ratio / 2)))
        if degrees > 0
        else float("nan")
    )
