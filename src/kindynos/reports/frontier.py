"""The efficient decisions of a model, as a terminal shows them, and as plain data."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from rich.text import Text

from kindynos.formatting import in_unit, per_cent, short, with_error
from kindynos.inference.estimates import symmetrical
from kindynos.reports.answers import opening
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_value
from kindynos.reports.tables import FigureTable, table_from
from kindynos.studies.frontier import ModelFrontier

MOST_DOMINATED = 8  # that the terminal shows


def frontier_report(answer: ModelFrontier) -> Report:
    """Return the efficient decisions, and those that they dominate."""
    parts: list[Any] = [*opening(frontier_answer(answer)), _efficient(answer), ""]
    if len(answer.dominated):
        parts += [_dominated(answer), ""]
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
        heading=f"Efficient decisions: {answer.what} against {answer.against}",
        result=answer,
        facts=lambda: plain_value(
            {
                "what": answer.what,
                "against": answer.against,
                "more is better": list(answer.more),
                "tried all": answer.tried_all,
                "trials": answer.trials,
                "seed": answer.seed,
            }
        ),
        tables=lambda: {"efficient": answer.table, "dominated": answer.dominated},
        figures=lambda: {"frontier": answer.plot},
    )


def frontier_answer(answer: ModelFrontier) -> list[str]:
    """Return how many decisions are efficient, and what the two ends bring."""
    count = len(answer.table) + len(answer.dominated)
    tried = "All" if answer.tried_all else "Of"
    lead = f"{tried} {count:,} points {'were tried' if answer.tried_all else 'tried'}"
    ends = [answer.table.iloc[place] for place in (-1, 0)]
    said = [
        f"{_decisions(answer, end)} has {answer.what} {_plain(end[answer.what], answer.units[0])} "
        f"and {answer.against} {_plain(end[answer.against], answer.units[1])}"
        for end in ends[: len(answer.table)]
    ]
    if len(answer.table) == 1:
        return [f"{lead}: {said[0]}, and no other is better in either."]
    return [f"{lead}; {len(answer.table)} efficient ones are shown: {'; '.join(said)}."]


def _decisions(answer: ModelFrontier, row: Any) -> str:
    return ", ".join(f"{name.replace('_', ' ')} {short(row[name])}" for name in answer.decisions)


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


def _efficient(answer: ModelFrontier) -> FigureTable:
    columns: dict[str, Any] = {name: _column(name, None) for name in answer.decisions}
    columns[_head(answer.what, answer.units[0])] = _figure(answer.what, "error", answer.units[0])
    columns[_head(answer.against, answer.units[1])] = _figure(
        answer.against, f"error of {answer.against}", answer.units[1]
    )
    return table_from("Efficient decisions", answer.table.to_dict("records"), columns)


def _dominated(answer: ModelFrontier) -> FigureTable:
    columns: dict[str, Any] = {name: _column(name, None) for name in answer.decisions}
    for name, unit in zip((answer.what, answer.against), answer.units, strict=True):
        columns[_head(name, unit)] = _column(name, unit)
    columns["dominated by"] = "dominated by"
    count = len(answer.dominated)
    left = f"; {MOST_DOMINATED} of {count:,}" if count > MOST_DOMINATED else ""
    rows = answer.dominated.head(MOST_DOMINATED).to_dict("records")
    return table_from(f"Dominated, the nearest first{left}", rows, columns)


def _head(name: str, unit: str | None) -> str:
    return f"{name.replace('_', ' ')}{f', {unit}' if unit else ''}"
