"""The efficient decisions of a model, as a terminal shows them, and as plain data."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from rich.text import Text

from kindynos.formatting import in_unit, per_cent, short, spoken, with_error, with_unit
from kindynos.inference.estimates import symmetrical
from kindynos.reports.answers import opening
from kindynos.reports.page import of_searches
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_value
from kindynos.reports.tables import FigureTable, table_from
from kindynos.studies.frontier import ModelFrontier

MOST_DOMINATED = 8  # that the terminal shows


def frontier_report(frontier: ModelFrontier) -> Report:
    """Return the efficient decisions, and those that they dominate."""
    parts: list[Any] = [*opening(frontier_answer(frontier)), _efficient(frontier), ""]
    if len(frontier.dominated):
        parts += [_dominated(frontier), ""]
    parts.append(
        Text(
            "All figures are on fresh draws, which had no part in the search. Errors are those of "
            "each figure alone; between decisions, on the same draws, they are smaller.",
            style="dim",
        )
    )
    return Report.of(
        parts,
        kind="frontier",
        heading=f"Efficient decisions: {spoken(frontier.what)} against {spoken(frontier.against)}",
        result=frontier,
        facts=lambda: plain_value(
            {
                "what": frontier.what,
                "against": frontier.against,
                "more is better": list(frontier.more),
                "tried all": frontier.tried_all,
                "trials": frontier.trials,
                "seed": frontier.seed,
            }
        ),
        tables=lambda: {"efficient": frontier.table, "dominated": frontier.dominated},
        figures=lambda: {"frontier": frontier.plot},
        view=lambda report: charts_view(report, of_searches.of_efficient(frontier)),
    )


def frontier_answer(efficient: ModelFrontier) -> list[str]:
    """Return how many decisions are efficient, and what the two ends bring."""
    count = len(efficient.table) + len(efficient.dominated)
    tried = "All" if efficient.tried_all else "Of"
    lead = f"{tried} {count:,} points {'were tried' if efficient.tried_all else 'tried'}"
    ends = [efficient.table.iloc[place] for place in (-1, 0)]
    what, against = efficient.what, efficient.against
    said = [
        f"{_decisions(efficient, end)} has {spoken(what)} {_plain(end[what], efficient.units[0])} "
        f"and {spoken(against)} {_plain(end[against], efficient.units[1])}"
        for end in ends[: len(efficient.table)]
    ]
    if len(efficient.table) == 1:
        return [f"{lead}: {said[0]}, and no other is better in either."]
    return [f"{lead}; {len(efficient.table)} efficient ones are shown: {'; '.join(said)}."]


def _decisions(frontier: ModelFrontier, row: Any) -> str:
    return ", ".join(f"{spoken(name)} {short(row[name])}" for name in frontier.decisions)


def _plain(value: float, unit: str | None) -> str:
    if unit == "%":
        return per_cent(value)
    return f"{short(in_unit(value, unit))}{f' {unit}' if unit else ''}"


def _figure(name: str, error: str, unit: str | None) -> Callable[[Any], str]:
    def shown(row: Any) -> str:
        figure = in_unit(symmetrical(row[name], row[error]), unit)
        return " ".join(with_error(figure)) if row[error] > 0 else short(float(figure))

    return shown


def _column(name: str, unit: str | None) -> Callable[[Any], str]:
    return lambda row: short(in_unit(row[name], unit))


def _efficient(frontier: ModelFrontier) -> FigureTable:
    columns: dict[str, Any] = {name: _column(name, None) for name in frontier.decisions}
    columns[with_unit(frontier.what, frontier.units[0])] = _figure(
        frontier.what, "error", frontier.units[0]
    )
    columns[with_unit(frontier.against, frontier.units[1])] = _figure(
        frontier.against, f"error of {frontier.against}", frontier.units[1]
    )
    return table_from("Efficient decisions", frontier.table.to_dict("records"), columns)


def _dominated(frontier: ModelFrontier) -> FigureTable:
    columns: dict[str, Any] = {name: _column(name, None) for name in frontier.decisions}
    for name, unit in zip((frontier.what, frontier.against), frontier.units, strict=True):
        columns[with_unit(name, unit)] = _column(name, unit)
    columns["dominated by"] = "dominated by"
    count = len(frontier.dominated)
    left = f"; {MOST_DOMINATED} of {count:,}" if count > MOST_DOMINATED else ""
    rows = frontier.dominated.head(MOST_DOMINATED).to_dict("records")
    return table_from(f"Dominated, the nearest first{left}", rows, columns)
