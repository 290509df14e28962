"""The best decisions of a model as a terminal shows them, and as plain data."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

from rich.text import Text

from kindynos.formatting import number, per_cent, short, times_shown, with_error
from kindynos.inference.estimates import Estimate
from kindynos.reports.answers import answer, opening
from kindynos.reports.report import Report
from kindynos.reports.studies import figure
from kindynos.reports.summary import plain_estimate, plain_rows, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
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


def _worth(found: Optimum, value: float, error: float) -> str:
    times = times_shown(found.unit)
    return figure(value * times, error * times, share=found.what.startswith("chance"))


def _decisions(found: Optimum) -> FigureTable:
    aim = "Highest" if found.maximize else "Least"
    unit = f", {found.unit}" if found.unit else ""
    table = table_of(f"{aim} {found.what}{unit}", "decision", "best", "95 % error", Words("unit"))
    for name, decided in found.decisions.items():
        times = times_shown((found.units or {}).get(name))
        value = Estimate(float(decided) * times, decided.low * times, decided.high * times)
        best, error = (
            with_error(value) if value.error > 0 else (number(float(f"{float(value):.6g}")), "-")
        )
        table.add_row(name, best, error.removeprefix("± "), (found.units or {}).get(name) or "")
    table.add_row(found.what, *_split(found), found.unit or "")
    return table


def _split(found: Optimum) -> tuple[str, str]:
    text = _worth(found, float(found.objective), found.objective.error)
    value, _, error = text.partition(" ± ")
    return value, error or "-"


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
    for row in found.constraints().to_dict("records"):
        share = str(row["constraint"]).startswith("chance")

        def shown(value: float, share: bool = share) -> str:
            return "-" if math.isnan(value) else per_cent(value, 2) if share else short(value)

        interval = f"{shown(row['low'])} to {shown(row['high'])}"
        table.add_row(
            str(row["constraint"]),
            shown(row["on the search's draws"]),
            shown(row["on fresh draws"]),
            interval,
            "yes" if row["binds"] else "no",
            str(row["kept"]),
        )
    return table


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
