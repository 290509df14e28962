"""Results made elsewhere, which read like those of a run."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.canvas import Axes, Figure
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import FileError, ParameterError
from kindynos.formula.parse import parse
from kindynos.formula.tree import Scope
from kindynos.inference.estimates import Estimate
from kindynos.results import statistics
from kindynos.results.calculation import truths
from kindynos.results.figures import FigureTables, checked_condition
from kindynos.results.joint import JointDistribution, joint_distribution
from kindynos.results.result import Result
from kindynos.sampling.streams import stream
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from kindynos.tables.table import Table
from kindynos.validate import array_of, checked, finite, mapping, names_in, one_of, shown

BLOCKS = 20
MOST_COUNTED = 20_000_000  # trials that weights may count


class ReadTrials(FigureTables, Mapping[str, Result], Reported):
    """Trials that were computed elsewhere: a mapping of columns by name, each with the statistics
    of a run's outcome.

    ``outcomes`` are the names, ``notes`` what was left out on reading.
    """

    @checked
    def __init__(
        self, results: Mapping[str, Result], notes: Sequence[str] = (), source: str = "trials"
    ) -> None:
        self._results: dict[str, Result] = mapping("results", results, "results by column")
        if not self._results or not all(
            isinstance(result, Result) for result in self._results.values()
        ):
            raise ParameterError("needs at least one result, by its name; read_trials makes them")
        self.notes, self.source = tuple(notes), source

    @property
    def outcomes(self) -> list[str]:
        """The names of the columns."""
        return list(self._results)

    @property
    def size(self) -> int:
        """The number of trials."""
        return next(iter(self._results.values())).size

    def __iter__(self) -> Iterator[str]:
        return iter(self._results)

    def __len__(self) -> int:
        return len(self._results)

    def __getitem__(self, name: str) -> Result:
        if not isinstance(name, str) or name not in self._results:
            raise ParameterError(
                f"no column {shown(name)}",
                owner=self.source,
                unknown=shown(name).strip("'"),
                known=self._results,
            )
        return self._results[name]

    def __repr__(self) -> str:
        return f"<{self.source}: {self.size:,} trials of {', '.join(self.outcomes)}>"

    def warnings_of(self, name: str) -> dict[str, int]:
        """Return the warnings about some trials of a column: none, as none are known."""
        return {}

    @checked
    def percentile(self, name: str, q: ArrayLike) -> Any:
        """Return a percentile of a column, from 0 to 100; for several values, an array."""
        return self[name].percentile(q)

    @delegated_to("kindynos.plots", "quantity")
    def plot(self, name: str, ax: Axes | None = None) -> Axes:
        """Draw how a column is distributed."""

    @checked
    def sensitivity(self, name: str) -> pd.DataFrame:
        """Return how closely the other columns go with one: rank correlation and first-order share,
        the strongest first.

        The trials alone cannot tell which column drives which. Raises ParameterError for an unknown
        name.
        """
        rows = {}
        for other in self.outcomes:
            if other != name:
                both = joint_distribution(self[other], self[name])
                share = both.explained
                rows[other] = (
                    float(both.correlation),
                    both.correlation.error,
                    float(share),
                    share.error,
                )
        columns = ["rank correlation", "error", "first-order share", "error of share"]
        frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        frame.index.name = "column"
        return frame.sort_values("first-order share", ascending=False, kind="stable")

    @checked
    def chance(self, condition: str) -> Estimate:
        """Return the chance of a condition on the columns, with its 95 % interval: ``trials.chance(
        "growth < 0.03 and max_drawdown < -20%")``; see ``Run.chance``.
        """
        tree = parse(checked_condition(condition))
        for column in tree.names():
            self[column]  # which names the nearest spelling
        first = next(iter(self._results.values()))
        scope = Scope({column: self[column].values for column in tree.names()}, 0)
        with np.errstate(all="ignore"):
            holds = np.broadcast_to(np.asarray(tree.evaluate(scope), dtype=np.float64), first.size)
        return statistics.chance(first.sample.with_values(truths(condition, holds)), above=0.5)

    @checked
    def joint(
        self, x: str, y: str, cuts: tuple[float | None, float | None] = (None, None)
    ) -> JointDistribution:
        """Return two columns together: the share in each quadrant around two cuts, and how
        scattered they are.
        """
        return joint_distribution(self[x], self[y], cuts)

    @delegated_to("kindynos.plots", "scatter")
    def scatter(
        self,
        x: str,
        y: str,
        cuts: tuple[float | None, float | None] = (None, None),
        figure: Figure | None = None,
    ) -> Figure:
        """Draw two columns against each other with marginal histograms and the share in each
        quadrant; return the figure.
        """


@checked
def read_trials(
    source: str | Path | pd.DataFrame,
    columns: Iterable[str] | None = None,
    units: Mapping[str, str] | None = None,
    weights: Any = None,
    targets: Mapping[str, float] | None = None,
    *,
    better: Mapping[str, str] | None = None,
    order: bool = False,
    sheet: str | None = None,
    header: int | None = None,
    encoding: str | None = None,
    decimal: str | None = None,
    missing: Iterable[str] = (),
) -> ReadTrials:
    """Return trials that were computed elsewhere, from a CSV, Parquet or Excel file or a DataFrame:
    one row per trial.

    Separator, decimal sign, encoding, rows of titles, the names of the columns and a row of units
    below them are found; ``header`` (the row of the names, from 1; 0: none), ``encoding``,
    ``decimal`` and the ``sheet`` of a workbook may be stated. Percentages become fractions; groups
    of digits, currency signs and amounts in parentheses are understood. Cells such as n/a, - or
    #DIV/0!, and the words in ``missing``, are trials without a value.

    ``columns`` chooses some; ``units``, ``targets`` and ``better`` ("high" or "low") are by column;
    ``weights`` are one per trial, or the name of the column that holds them. Weights that are whole
    numbers, and differ, are counts: each row is that number of trials with the same values. With
    ``order`` consecutive rows may depend on each other, and errors are taken from the spread
    between blocks of rows; otherwise trials are independent, and are dealt to the blocks at random.
    Raises FileError for what cannot be read, naming the column and the row, and ParameterError for
    unknown columns.

    >>> trials = read_trials(pd.DataFrame({"growth": [0.02, 0.05, -0.01, 0.04]}))
    >>> round(float(trials["growth"].mean), 3)
    0.025
    """
    if not isinstance(source, str | Path | pd.DataFrame):
        raise ParameterError(f"source must be a path or a DataFrame, not {source!r:.60}")
    table = read_table(source, TableFormat.checked(sheet, header, encoding, decimal, missing))
    numbers, notes = _columns_of_numbers(table)
    weighted, column = _weights(weights, numbers)
    names = (
        [name for name in numbers if name != column]
        if columns is None
        else _chosen(columns, numbers)
    )
    stated = {
        what: mapping(what, given, "values by column") if given is not None else {}
        for what, given in (("units", units), ("targets", targets), ("better", better))
    }
    for what, given in stated.items():
        for name in given:
            if name not in names:
                raise ParameterError(
                    f"{what} names no column {name!r}", unknown=str(name), known=names
                )
    units_by_column = {**table.units, **stated["units"]}
    size = len(next(iter(numbers.values())))
    if weighted is not None and _are_counts(weighted):
        if weighted.sum() > MOST_COUNTED:
            raise ParameterError(
                f"weights are whole numbers, and so count trials: {weighted.sum():,.0f} of them; "
                f"at most {MOST_COUNTED:,} can be read. Divide them by their mean if they are no "
                "counts"
            )
        rows = np.repeat(np.arange(size), weighted.astype(np.int64))
        numbers = {name: values[rows] for name, values in numbers.items()}
        notes.append(f"weights count trials: {size:,} rows stand for {len(rows):,}")
        size, weighted = len(rows), None
    dealt = None if order else stream(0, "blocks of trials", size).permutation(size)
    bounds = np.unique(np.linspace(0, size, min(BLOCKS, size) + 1).astype(np.int64))
    results: dict[str, Result] = {}
    for name in names:
        side = one_of("better", stated["better"].get(name, "high"), ("high", "low"))
        target = stated["targets"].get(name)
        results[name] = Result(
            name,
            numbers[name],
            bounds,
            not order,
            unit=units_by_column.get(name),
            better=side,
            target=None if target is None else finite(f"the target of {name!r}", target),
            weights=weighted,
            dealt=dealt,
        )
    source_name = "DataFrame" if isinstance(source, pd.DataFrame) else Path(source).name
    return ReadTrials(results, notes, source_name)


def _columns_of_numbers(table: Table) -> tuple[dict[str, Floats], list[str]]:
    """Return the columns of a table that hold numbers, and what is to be said of the others and of
    missing values.
    """
    if not len(table):
        raise FileError("has column names and no trials", file=table.file)
    numbers: dict[str, Floats] = {}
    notes = list(table.notes)
    for name in table.names:
        if not table.holds_numbers(name):
            notes.append(f"column {name!r} left out: it holds no numbers")
            continue
        numbers[name] = table.numbers(name)
        if _is_a_count(name, numbers[name]) and len(table.names) > 1:
            del numbers[name]
            notes.append(f"column {name!r} left out: it counts the trials")
            continue
        note = table.missing_note(name, numbers[name])
        if note is not None:
            notes.append(note)
    if not numbers:
        raise FileError("no column holds numbers", file=table.file)
    return numbers, notes


def _is_a_count(name: str, values: Floats) -> bool:
    """Return whether a column only counts the trials, as in files that runs write."""
    return name.lower() == "trial" and bool(
        np.array_equal(values - values[0], np.arange(len(values)))
    )


def _weights(weights: Any, numbers: dict[str, Floats]) -> tuple[Floats | None, str | None]:
    if weights is None:
        return None, None
    column = None
    if isinstance(weights, str):
        if weights not in numbers:
            raise ParameterError(
                f"no column {weights!r} of weights", unknown=weights, known=numbers
            )
        column, weights = weights, numbers[weights]
    array = array_of("weights", weights)
    size = len(next(iter(numbers.values())))
    if array.shape != (size,):
        raise ParameterError(f"weights must be one per trial, {size:,}, not {array.shape}")
    if not np.isfinite(array).all() or (array < 0).any() or not array.sum() > 0:
        raise ParameterError("weights must be finite, at least 0, and not all 0")
    return array, column


def _are_counts(weights: Floats) -> bool:
    """Return whether weights are whole numbers that say how often each row occurred; weights that
    are all alike say nothing.
    """
    return bool((weights == np.floor(weights)).all() and np.ptp(weights) > 0)


def _chosen(columns: Iterable[str], numbers: dict[str, Floats]) -> list[str]:
    names = names_in("columns", columns)
    for name in names:
        if name not in numbers:
            raise ParameterError(f"no column {name!r} of numbers", unknown=str(name), known=numbers)
    return names
