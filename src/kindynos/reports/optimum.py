"""The best decisions of a model as a terminal shows them, and as plain data."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

from rich.text import Text

from kindynos.cells import Cell
from kindynos.formatting import in_unit, number, per_cent, short, shown, spoken, with_error
from kindynos.reports.answers import answer, opening
from kindynos.reports.page import of_searches
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import DataTable, Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.statistic_text import kind_of
from kindynos.studies.aims import Constraint
from kindynos.studies.optimum import Optimum


def optimum(result: Optimum) -> Report:
    """Return the best decisions, what they are worth on fresh draws, the constraints, and what is
    to be said of them.
    """
    parts: list[Any] = [*opening(answer(result)), _decisions(result)]
    if result.limits:
        parts += ["", _constraints(result)]
    how = (
        f"{len(result.evaluations)} points tried on the same {result.trials:,} draws (seed "
        f"{result.seed})"
    )
    return Report.of(
        [*parts, "", Text("\n".join(result.sentences())), Text(f"{how}.", style="dim")],
        kind="optimum",
        facts=partial(_facts, result),
        tables=lambda: {
            "constraints": DataTable(result.constraints(), "constraints", None),
            "evaluations": DataTable(result.evaluations, "evaluations", "optimum"),
        },
        figures=lambda: {"optimum": result.plot},
        result=result,
        view=lambda report: charts_view(report, *of_searches.of_optimum(result)),
    )


def _decisions(optimum: Optimum) -> FigureTable:
    aim = "Highest" if optimum.maximize else "Least"
    unit = f", {optimum.unit}" if optimum.unit else ""
    table = table_of(
        f"{aim} {spoken(optimum.what)}{unit}", "decision", "best", "95 % error", Words("unit")
    )
    units = optimum.units or {}
    for name, decided in optimum.decisions.items():
        unit_of = units.get(name)
        if decided.error > 0:
            cells = with_error(decided, unit_of)
        else:
            cells = number(in_unit(float(f"{float(decided):.6g}"), unit_of)), Cell.of("-")
        table.add_row(name, *cells, unit_of or "")
    value, error = shown(optimum.objective, kind_of(optimum.what), optimum.unit)
    table.add_row(spoken(optimum.what), value, error or "-", optimum.unit or "")
    return table


def _constraints(optimum: Optimum) -> FigureTable:
    table = table_of(
        "Constraints",
        "constraint",
        "in the search",
        "on fresh draws",
        "95 % interval",
        Words("binds"),
        Words("kept"),
    )
    constraints = [limit[0] for limit in optimum.limits]
    for constraint, row in zip(constraints, optimum.constraints().to_dict("records"), strict=True):
        figures = [
            _rounded(float(row[column]), constraint)
            for column in ("on the search's draws", "on fresh draws", "low", "high")
        ]
        searched, fresh, low, high = figures
        table.add_row(
            str(row["constraint"]),
            searched,
            fresh,
            Cell.of(low, " to ", high),
            "yes" if row["binds"] else "no",
            str(row["kept"]),
        )
    return table


def _rounded(value: float, constraint: Constraint) -> Cell:
    """Return a figure of a constraint to three digits."""
    if math.isnan(value):
        return Cell.of("-")
    figure = constraint.figure
    if figure.statistic.kind == "share":
        return per_cent(value, 2)
    return short(value)


def _facts(optimum: Optimum) -> dict[str, Any]:
    """Return the plain data beside the tables."""
    return {
        "objective": optimum.what,
        "maximize": optimum.maximize,
        "decisions": {name: plain_estimate(value) for name, value in optimum.decisions.items()},
        "value": plain_value(float(optimum.objective)),
        "low": plain_value(optimum.objective.low),
        "high": plain_value(optimum.objective.high),
        "on the search's draws": plain_value(float(optimum.found)),
        "said": optimum.sentences(),
        "trials": optimum.trials,
        "seed": optimum.seed,
    }
