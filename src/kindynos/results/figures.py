"""Which figures of an outcome are reported: the one list behind tables, text, pages, workbooks,
JSON and CSV.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol

import numpy as np
import pandas as pd

from kindynos.errors import KindynosError, ParameterError
from kindynos.formula.parse import parse
from kindynos.inference.estimates import Estimate
from kindynos.literals import Kind
from kindynos.results.result import RowResult
from kindynos.results.statistic_text import central_coverage, parse_statistic
from kindynos.validate import array_of, checked, instance, listed, raw_figure

CURRENCY = re.compile(r"(thousand |million |billion )?([A-Z]{3}|[€$£¥])")  # units of money
PERCENTILES = (1, 5, 10, 25, 50, 75, 90, 95, 99)
CONDITIONS = "chance that"  # in place of an outcome where there are several
ONE_CHANCE = re.compile(r"\s*(\w+)\s*(>|<|=|==)\s*([-+.\deE]+\s*%?)\s*")
PER_CENT_IN_FORMULA = re.compile(
    r"(?<![\w.])((?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*%(?=\s*(?:$|[),<>=!]|and\b|or\b|else\b))"
)


class ReportedFigure(NamedTuple):
    """A figure of an outcome: its name, its value with its interval, and its kind.

    ``words`` and ``threshold`` say the same as the name, with the threshold as a raw figure in the
    unit of the outcome.
    """

    name: str
    estimate: Estimate
    kind: Kind = "amount"
    words: str = ""
    threshold: float | None = None


class Outcome(Protocol):
    """What reported figures need of an outcome: a result of trials, or of a summary of them."""

    name: str
    unit: str | None
    target: float | None
    base: Any
    better: str
    missing: str | float | None

    @property
    def size(self) -> int: ...  # noqa: D102

    @property
    def n_failed(self) -> int: ...  # noqa: D102

    @property
    def lowest(self) -> Estimate: ...  # noqa: D102

    @property
    def highest(self) -> Estimate: ...  # noqa: D102

    def statistic(self, name: str, *args: Any, **options: Any) -> Estimate: ...  # noqa: D102

    def central_range(self, coverage: float) -> Any: ...  # noqa: D102


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

    @classmethod
    def of(
        cls,
        percentiles: Iterable[float] | None,
        statistics: Sequence[str],
        chances: str | Sequence[str],
        outcomes: Sequence[str],
    ) -> TableSpec:
        """Return what a table is to show: other percentiles than the usual ones, statistics such as
        "skewness" or "percentile 5", and chances such as "net_value > 1e6" or "net_value < 0 and
        load < 0.5". Raises ParameterError for a text that cannot be read.
        """
        levels: tuple[float, ...] = PERCENTILES
        if percentiles is not None:
            levels = tuple(array_of("percentiles", percentiles).reshape(-1).tolist())
        if not all(0 <= q <= 100 for q in levels):
            raise ParameterError("percentiles must be from 0 to 100, such as 1, 25 and 75")
        texts = instance(
            "statistics", statistics, (list, tuple), "a list of texts such as 'skewness'"
        )
        for text in texts:
            if central_coverage(text) is None:
                parse_statistic(text)
        by_outcome: dict[str, tuple[str, ...]] = {}
        conditions = []
        for text in listed(chances):
            side = chance_of_one(text, outcomes)
            if side is None:
                conditions.append(checked_condition(text))
            else:
                name, statistic = side
                by_outcome[name] = (*by_outcome.get(name, ()), statistic)
        return cls(levels, tuple(texts), by_outcome, tuple(conditions))

    def figures(self, result: Outcome) -> list[ReportedFigure]:
        """Return the statistics and chances asked for."""
        figures: list[ReportedFigure] = []
        for text in (*self.statistics, *self.chances.get(result.name, ())):
            coverage = central_coverage(text)
            if coverage is None:
                parsed = parse_statistic(text)
                figures.append(
                    ReportedFigure(
                        parsed.label,
                        parsed.read(result),
                        parsed.kind,
                        parsed.words,
                        parsed.threshold,
                    )
                )
                continue
            ends = result.central_range(coverage)
            for label, end in zip(("low", "high"), ends, strict=True):
                name = f"central range {coverage:g}, {label}"
                figures.append(ReportedFigure(name, end, "amount", name))
        return figures


DEFAULT = TableSpec()


def chance_of_one(text: str, outcomes: Sequence[str]) -> tuple[str, str] | None:
    """Return the outcome and the statistic that a chance of a single outcome stands for, such as
    "net_value > 1e6"; None for a condition on several quantities.
    """
    parts = ONE_CHANCE.fullmatch(text) if isinstance(text, str) else None
    if parts is None or parts[1] not in outcomes:
        return None
    side = {">": "above", "<": "below"}.get(parts[2], "at")
    try:
        figure = raw_figure(parts[3])
    except ValueError:
        raise ParameterError(f"chance {text!r}: {parts[3]!r} is not a number") from None
    return parts[1], f"chance {side} {figure:.12g}"


def checked_condition(text: str) -> str:
    """Return a condition that can be read, with per cent as fractions; raises ParameterError for
    another text.

    >>> checked_condition("rate < 9% and load < 0.5")
    'rate < 0.09 and load < 0.5'
    """
    if not isinstance(text, str):
        raise ParameterError(
            f"a condition must be a text such as 'net_value > 1e6', not {text!r:.60}"
        )
    plain = PER_CENT_IN_FORMULA.sub(lambda piece: f"{float(piece[1]) / 100:.12g}", text)
    try:
        parse(plain)
    except KindynosError as error:
        raise ParameterError(
            f"chance {text!r:.80}: {error}. Say for example 'net_value > 1e6' or 'net_value < 0 "
            "and load < 0.5'"
        ) from None
    return plain


class Trials(Protocol):
    """What a table needs of trials: their outcomes by name, and notes on them."""

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes."""

    def __getitem__(self, name: str, /) -> Any: ...

    def chance(self, condition: str) -> Estimate:
        """The chance of a condition on several quantities."""

    def warnings_of(self, name: str) -> dict[str, int]:
        """What the model noted on trials of an outcome, with the number of trials."""


def outcome_table(run: Trials, asked: TableSpec = DEFAULT) -> pd.DataFrame:
    """Return each outcome's statistics with their errors; of a row outcome, for each period."""
    records = []
    for name in run.outcomes:
        result = run[name]
        if isinstance(result, RowResult):
            singles = {f"{name} {label}": result.period(i) for i, label in enumerate(result.labels)}
        else:
            singles = {name: result}
        n_failed, notes = result.n_failed, run.warnings_of(name)
        for label, single in singles.items():
            records += [
                (label, *record) for record in figure_records(single, n_failed, notes, asked)
            ]
    for condition in asked.conditions:
        chance = run.chance(condition)
        ends = (float(chance), chance.error, chance.low, chance.high)
        records.append((CONDITIONS, condition, *ends, chance.note))
    frame = pd.DataFrame(
        records, columns=["outcome", "statistic", "value", "error", "low", "high", "note"]
    )
    return frame.set_index(["outcome", "statistic"])


class FigureTables:
    """Trials whose figures are read as a table: runs, summaries of runs, and trials from
    elsewhere.
    """

    @checked
    def table(
        self: Trials,
        percentiles: Iterable[float] | None = None,
        statistics: Sequence[str] = (),
        chances: str | Sequence[str] = (),
    ) -> pd.DataFrame:
        """Return each outcome's figures with their errors: one row per statistic, columns value,
        error, low, high.

        ``percentiles`` takes the place of the usual ones; ``statistics`` adds others, such as
        "skewness" or "percentile_of 1e6"; ``chances`` those of conditions, such as "net_value >
        1e6", "rate < 9%" or "net_value < 0 and load < 0.5". The base case's value and its
        percentile among the trials are rows, and what is to be said of trials without a value.
        """
        return outcome_table(self, TableSpec.of(percentiles, statistics, chances, self.outcomes))


def reported_figures(result: Outcome, asked: TableSpec = DEFAULT) -> list[ReportedFigure]:
    """Return the figures that are reported of an outcome, each of them once."""
    figures: list[ReportedFigure] = []
    if result.base is not None:
        base = Estimate(result.base, note="every driver at its base value")
        figures.append(ReportedFigure("base case", base, "amount"))
        share = result.statistic("percentile_of", float(result.base))
        figures.append(ReportedFigure("base case percentile", share, "percentile"))
    figures += [ReportedFigure(name, result.statistic(name)) for name in ("mean", "sd")]
    figures += [
        ReportedFigure(f"P{q:g}", result.statistic("percentile", q)) for q in asked.percentiles
    ]
    figures += [ReportedFigure("lowest", result.lowest), ReportedFigure("highest", result.highest)]
    target = figure_that_matters(result)
    if target is not None:
        for side in ("below", "at", "above"):
            chance = result.statistic("chance", **{side: target})
            if chance > 0 or side != "at":
                name = f"chance {side} {target:g}"
                figures.append(ReportedFigure(name, chance, "share", f"chance {side}", target))
    # asked for twice, or among the usual ones too, a figure is reported once
    return list({figure.name: figure for figure in [*figures, *asked.figures(result)]}.values())


def figure_that_matters(result: Outcome) -> float | None:
    """Return the target, and of an amount of money that may be won or lost 0 where none is
    stated.
    """
    if result.target is not None or not CURRENCY.fullmatch(result.unit or ""):
        return result.target
    return 0.0 if float(result.lowest) < 0 < float(result.highest) else None


def figure_records(
    result: Outcome, n_failed: int, notes: Mapping[str, int], asked: TableSpec = DEFAULT
) -> list[tuple[str, float, float, float, float, str]]:
    """Return an outcome's statistics: name, value, error, low, high and note.

    ``n_failed`` trials without a value, and ``notes`` with the number of trials they affect, come
    after them.
    """
    records = [
        (
            name,
            float(figure),
            figure.error,
            figure.low,
            figure.high,
            figure.note or ("rough" if figure.rough else ""),
        )
        for name, figure, *_ in reported_figures(result, asked)
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
