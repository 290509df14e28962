"""What knowing is worth before a choice, as a terminal shows it, and as plain data."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import pandas as pd
from rich.text import Text

from kindynos.errors import RunError
from kindynos.formatting import in_unit, short, spoken, with_error
from kindynos.inference.estimates import symmetrical
from kindynos.reports.answers import amount
from kindynos.reports.report import DataTable, Report, Section
from kindynos.reports.summary import plain_rows
from kindynos.reports.tables import FigureTable, Words, table_from
from kindynos.studies.knowing import EVERYTHING

if TYPE_CHECKING:
    from kindynos.studies.comparison import Comparison

MOST = 12  # rows that are shown


def with_knowing(report: Report, compared: Comparison, costs: Mapping[str, float]) -> Report:
    """Return the report of a comparison with what it is worth to know drivers of its first outcome
    before choosing a scenario.
    """
    if not compared.outcomes:
        raise RunError("what knowing is worth is asked of an outcome that is one number per trial")
    outcome = compared.outcomes[0]
    worth = compared.worth_of_knowing(outcome, study_cost=costs)
    unit = compared.result(compared.scenarios[0], outcome).unit
    first, *others = report.sections
    told = Text("\n".join(knowing_answer(worth, unit)))
    title = f"What knowing is worth before choosing, by {spoken(outcome)}"
    table = (Section((knowing_table(worth, unit, title),)),) if worth["worth"].any() else ()
    facts, tables = report.facts, report.tables
    return replace(
        report,
        sections=(replace(first, parts=(*first.parts, told)), *table, *others),
        facts=lambda: {
            **facts(),
            "worth of knowing": {"outcome": outcome, "rows": plain_rows(worth.reset_index())},
        },
        tables=lambda: {**tables(), "knowing": DataTable(worth.reset_index(), None, "knowing")},
    )


def knowing_table(worth: pd.DataFrame, unit: str | None, title: str) -> FigureTable:
    """Return the table of what knowing is worth, the most first."""

    def plain(name: str) -> Callable[[Any], str]:
        return lambda row: short(in_unit(row[name], unit))

    columns: dict[str, Any] = {
        "known": lambda row: spoken(str(row["known"])),
        "worth": lambda row: _with_error(row, unit),
        "at most": lambda row: plain("fitted")(row) if row["fitted"] > row["worth"] else "",
    }
    if "study cost" in worth:
        columns |= {
            "study costs": lambda row: (
                "" if pd.isna(row["study cost"]) else plain("study cost")(row)
            ),
            Words("the study pays"): _where_asked(lambda row: row["pays"]),
        }
    rows = worth.rename_axis("known").reset_index().to_dict("records")
    shown = [row for place, row in enumerate(rows) if place < MOST or row["known"] == EVERYTHING]
    left = f"; {len(shown)} of {len(rows)}" if len(shown) < len(rows) else ""
    after = f", {unit}" if unit else ""
    return table_from(f"{title}{after}{left}", shown, columns)


def _where_asked(shown: Callable[[Any], str]) -> Callable[[Any], str]:
    return lambda row: "" if pd.isna(row["study cost"]) else shown(row)


def _with_error(row: Any, unit: str | None) -> str:
    figure = in_unit(symmetrical(row["worth"], row["error"]), unit)
    return " ".join(with_error(figure)) if row["error"] > 0 else short(float(figure))


def knowing_answer(worth: pd.DataFrame, unit: str | None) -> list[str]:
    """Return which single quantity is worth most to know, beside everything, and which studies
    pay.
    """
    singles = worth[(worth.index != EVERYTHING) & ~worth.index.str.contains(" and ")]
    plain = [name for name in singles.index if worth.loc[name, "worth"] > worth.loc[name, "error"]]
    everything = ""
    if EVERYTHING in worth.index:
        everything = f"; knowing everything is worth {_amount(worth.loc[EVERYTHING], unit)}"
    if not worth["worth"].any():
        text, everything = "Nothing that can be known before would change the choice", ""
    elif plain:
        size = _amount(worth.loc[plain[0]], unit)
        text = f"Knowing {spoken(plain[0])} before choosing is worth {size} on average"
    else:
        text = "Knowing any one quantity before choosing is worth nothing that can be told"
    sentences = [f"{text}{everything}."]
    if "pays" in worth:
        words = {"yes": "pays", "no": "does not pay", "cannot be told": "may pay or not"}
        for name, row in worth[worth["pays"].notna()].iterrows():
            sentences.append(
                f"A study of {spoken(str(name))} for {_plain(row['study cost'], unit)} "
                f"{words[row['pays']]}."
            )
    return sentences


def _amount(row: Any, unit: str | None) -> str:
    return amount(symmetrical(row["worth"], row["error"]), unit)


def _plain(value: float, unit: str | None) -> str:
    return amount(symmetrical(value, 0.0), unit)
