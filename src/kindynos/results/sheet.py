"""Sheets and tables: quantities as pandas shows them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate
from kindynos.program.program import Program
from kindynos.results.result import Result, RowResult
from kindynos.results.statistic_text import central_coverage, parse_statistic
from kindynos.results.trials import SimulatedTrials

CURRENCY = re.compile(r"(thousand |million |billion )?([A-Z]{3}|[€$£¥])")  # units of money
PERCENTILES = (1, 5, 10, 25, 50, 75, 90, 95, 99)


def sheet(program: Program, values: Mapping[str, Floats]) -> pd.DataFrame:
    """Return one case as a sheet: quantities down, a column ``value`` for single numbers and one
    for each period.

    ``values`` holds numbers and rows ``(periods,)``; what has no place in a sheet, such as a table,
    is left out.
    """
    labels = program.timeline.labels
    rows = {}
    for name in [*program.givens, *program.drivers, *program.order]:
        if name not in values or program.shapes[name].table:
            continue
        value = np.asarray(values[name], dtype=np.float64)
        if program.shapes[name].row:
            rows[name] = [np.nan, *np.broadcast_to(value.reshape(-1), len(labels))]
        else:
            rows[name] = [float(value.reshape(-1)[0]), *[np.nan] * len(labels)]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=["value", *labels])
    frame.index.name = "quantity"
    return frame


def trials_side_by_side(run: SimulatedTrials) -> pd.DataFrame:
    """Return the sheets of all trials of a small run: quantities down (rows by period), trials
    across.
    """
    sheets = []
    for number in range(run.size):
        batch, place = run.drawing.blocks.find(number)
        values = {name: value[..., place] for name, value in run.batch(batch).items()}
        sheets.append(sheet(run.program, values).stack().dropna())
    frame = pd.concat(sheets, axis=1, keys=range(run.size))
    frame.index.names = ["quantity", "period"]
    frame.columns.name = "trial"
    return frame


@dataclass(frozen=True)
class TableSpec:
    """Which figures of an outcome are reported besides mean, sd and extremes: percentiles, and
    statistics stated as texts.

    ``chances`` are more of these, by the outcome they are of; ``conditions`` are of several
    quantities at once.
    """

    percentiles: tuple[float, ...] = PERCENTILES
    statistics: tuple[str, ...] = ()
    chances: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    conditions: tuple[str, ...] = ()

    def figures(self, result: Result) -> list[tuple[str, Estimate]]:
        """Return the statistics and chances asked for, by name."""
        found: list[tuple[str, Estimate]] = []
        for text in (*self.statistics, *self.chances.get(result.name, ())):
            coverage = central_coverage(text)
            if coverage is None:
                statistic = parse_statistic(text)
                found.append((statistic.label, statistic.read(result)))
                continue
            ends = result.central_range(coverage)
            found += [
                (f"central range {coverage:g}, {word}", end)
                for word, end in zip(("low", "high"), ends, strict=True)
            ]
        return found


DEFAULT = TableSpec()


class Trials(Protocol):
    """What a table needs of trials: their outcomes by name, and notes on them."""

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes."""

    def __getitem__(self, name: str, /) -> Result: ...

    def notes(self, name: str) -> dict[str, int]:
        """What the model noted on trials of an outcome, with the number of trials."""


def outcome_table(run: Trials, asked: TableSpec = DEFAULT) -> pd.DataFrame:
    """Return each outcome's statistics with their errors; of a row outcome, for each period."""
    records = []
    for name in run.outcomes:
        result: Result | RowResult = run[name]
        if isinstance(result, RowResult):
            singles = {f"{name} {label}": result.period(i) for i, label in enumerate(result.labels)}
        else:
            singles = {name: result}
        n_failed, notes = result.n_failed, run.notes(name)
        for label, single in singles.items():
            records += [
                (label, *record) for record in sheet_records(single, n_failed, notes, asked)
            ]
    frame = pd.DataFrame(
        records, columns=["outcome", "statistic", "value", "error", "low", "high", "note"]
    )
    return frame.set_index(["outcome", "statistic"])


def reported_figures(result: Result, asked: TableSpec = DEFAULT) -> list[tuple[str, Estimate]]:
    """Return the statistics that are reported of an outcome, by name: the one list behind tables,
    text and JSON.
    """
    figures: list[tuple[str, Estimate]] = []
    if result.base is not None:
        figures.append(("base case", Estimate(result.base, note="every driver at its base value")))
        figures.append(("base case percentile", result.percentile_of(float(result.base))))
    figures += [("mean", result.mean), ("sd", result.sd)]
    figures += [(f"P{q:g}", result.statistic("percentile", q)) for q in asked.percentiles]
    figures += [("lowest", result.lowest), ("highest", result.highest)]
    target = _figure_that_matters(result)
    if target is not None:
        for word, exactly in (("below", False), ("at", True), ("above", False)):
            chance = result.chance(**{word: target})
            if chance > 0 or not exactly:
                figures.append((f"chance {word} {target:g}", chance))
    return figures + asked.figures(result)


def _figure_that_matters(result: Result) -> float | None:
    """Return the target, and of an amount of money that may be won or lost 0 where none is
    stated.
    """
    if result.target is not None or not CURRENCY.fullmatch(result.unit or ""):
        return result.target
    return 0.0 if float(result.lowest) < 0 < float(result.highest) else None


def sheet_records(
    result: Result, n_failed: int, notes: Mapping[str, int], asked: TableSpec = DEFAULT
) -> list[tuple[str, float, float, float, float, str]]:
    """Return an outcome's statistics: name, value, error, low, high and note.

    ``n_failed`` trials without a value, and ``notes`` with the number of trials they affect, come
    after them.
    """
    records = [
        (
            word,
            float(figure),
            figure.error,
            figure.low,
            figure.high,
            figure.note or ("rough" if figure.rough else ""),
        )
        for word, figure in reported_figures(result, asked)
    ]
    if n_failed:
        left_out = f"of {result.size:,} trials; statistics are over the others"
        records.append(
            ("trials without a value", float(n_failed), np.nan, np.nan, np.nan, left_out)
        )
    for text, count in notes.items():
        records.append(
            (f"trials with {text}", float(count), np.nan, np.nan, np.nan, f"of {result.size:,}")
        )
    return records
