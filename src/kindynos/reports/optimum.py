"""The best decisions of a model as a terminal shows them, and as plain data."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

from rich.text import Text

from kindynos.cells import Cell
from kindynos.formatting import in_unit, number, per_cent, short, shown, with_error
from kindynos.reports.answers import answer, opening
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_estimate, plain_rows, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.statistic_text import kind_of
from kindynos.studies.aims import Constraint
from kindynos.studies.optimum import Optimum


def optimum(found: Optimum) -> Report:
    """Return the best decisions, what they are worth on fresh draws, the constraints, and what is
    to be said of them.
    """
    parts: list[Any] = [*opening(answer(found)), _decisions(found)]
    if found.limits:
        parts += ["", _constraints(found)]
    how = (
        f"{len(found.evaluations)} points tried on the same {found.trials:,} draws (seed "
        f"{found.seed})"
    )
    return Report.of(
        [*parts, "", Text("\n".join(found.sentences())), Text(f"{how}.", style="dim")],
        kind="optimum",
        data=partial(_data, found),
        frames=lambda: {"optimum": found.evaluations},
        figures=lambda: {"optimum": found.plot},
    )


def _decisions(found: Optimum) -> FigureTable:
    aim = "Highest" if found.maximize else "Least"
    unit = f", {found.unit}" if found.unit else ""
    table = table_of(f"{aim} {found.what}{unit}", "decision", "best", "95 % error", Words("unit"))
    units = found.units or {}
    for name, decided in found.decisions.items():
        unit_of = units.get(name)
        if decided.error > 0:
            cells = with_error(decided, unit_of)
        else:
            cells = number(in_unit(float(f"{float(decided):.6g}"), unit_of)), Cell.of("-")
        table.add_row(name, *cells, unit_of or "")
    value, error = shown(found.objective, kind_of(found.what), found.unit)
    table.add_row(found.what, value, error or "-", found.unit or "")
    return table


def _constraints(found: Optimum) -> FigureTable:
    table = table_of(
        "Constraints",
        "constraint",
        "in the search",
        "on fresh draws",
        "95 % interval",
        Words("binds"),
        Words("kept"),
    )
    constraints = [limit[0] for limit in found.limits]
    for constraint, row in zip(constraints, found.constraints().to_dict("records"), strict=True):
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


def _data(found: Optimum) -> dict[str, Any]:
    """Return all of it as plain data."""
    return {
        "objective": found.what,
        "maximize": found.maximize,
        "decisions": {name: plain_estimate(value) for name, value in found.decisions.items()},
        "value": plain_value(float(found.objective)),
        "low": plain_value(found.objective.low),
        "high": plain_value(found.objective.high),
        "on the search's draws": plain_value(float(found.found)),
        "constraints": plain_rows(found.constraints()),
        "said": found.sentences(),
        "trials": found.trials,
        "seed": found.seed,
        "evaluations": plain_rows(found.evaluations),
    }
