"""A model before it is simulated: what is known, what is uncertain, and its base case."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import number
from kindynos.model.review import review_of
from kindynos.model.unit_findings import UnitReview, unit_review
from kindynos.model.writing import cohorts_of
from kindynos.reports import model_tables
from kindynos.reports.answers import model_answer, opening
from kindynos.reports.report import Report
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.held_conditions import broken_periods

if TYPE_CHECKING:
    from kindynos.model.model import Model
    from kindynos.results.run import Run

MOST_ROWS = 100  # of a table
MOST_NAMED = 8  # quantities in a sentence
TRIED, SEED = 200, 1  # trials in which conditions are tried


def checked(model: Model, whole: bool = False, said: Sequence[str] = ()) -> Report:
    """Return the figures of a model with their units and sources, its base case, and what a review
    found; of long tables the first rows unless they are to be ``whole``. What is ``said`` of the
    workbook that it rests on comes first.
    """
    program = model.compiled()
    units = {name: getattr(quantity, "unit", None) for name, quantity in model.quantities.items()}
    lines = model.base_case().drop(index=list(program.givens), errors="ignore")
    cohorts = cohorts_of(list(program.lines.values()))
    tables = [
        *([model_tables.givens_table(program)] if program.givens else []),
        *([model_tables.drivers_table(program)] if program.drivers else []),
        *(model_tables.cohort_table(name, cohort) for name, cohort in cohorts.items()),
        model_tables.sheet_table("Base case, in the order of evaluation", lines, units, whole),
    ]
    parts: list[RenderableType] = [Text("\n".join(said)), ""] if said else []
    parts += opening(model_answer(model))
    for table in tables:
        parts += [table if whole else table.first(MOST_ROWS), ""]
    findings = review_of(model.statement)
    tried = model.simulate(TRIED, seed=SEED) if program.checks else None
    if tried is not None:
        parts += [checks_table(tried, model), ""]
    units_read = unit_review(program)
    return Report.of(
        [*parts, model_tables.findings(findings), _units_compared(units_read)],
        kind="model",
        heading=f"{model.name}: the model",
        facts=lambda: {
            "model": model.name,
            "findings": [{"name": item.name, "text": item.text} for item in findings],
            "units": {
                "compared": list(units_read.tracked),
                "not read": _named(units_read.unread),
                "not compared": [
                    {"name": name, "for want of": list(names)}
                    for name, names in units_read.uncompared.items()
                ],
                "following from formulas": _named(units_read.proposed),
            },
            **({"workbook": list(said)} if said else {}),
        },
        tables=lambda: {
            "base case": model.base_case(),
            **({} if tried is None else {"checks": tried.checks()}),
        },
    )


def _named(units: Mapping[str, str]) -> list[dict[str, str]]:
    return [{"name": name, "unit": unit} for name, unit in units.items()]


def _units_compared(units: UnitReview) -> Text | None:
    """Return which units were compared along the formulas, which not, and which follow for lines
    without one; None for a model without units.
    """
    if not (units.tracked or units.unread or units.proposed):
        return None
    said = []
    if units.tracked:
        said.append(f"Compared along the formulas: {', '.join(units.tracked)}.")
    else:
        said.append("No unit was compared: none is both counted and divided by.")
    if units.uncompared and units.tracked:
        lines = ", ".join(list(units.uncompared)[:MOST_NAMED])
        lacking = dict.fromkeys(one for names in units.uncompared.values() for one in names)
        said.append(
            f"Not compared, for want of a unit of {', '.join(list(lacking)[:MOST_NAMED])}: {lines}."
        )
    if units.unread:
        listed = ", ".join(f"{name} ({text})" for name, text in units.unread.items())
        said.append(f"Not compared, since they cannot be read for certain: {listed}.")
    if units.proposed:
        listed = ", ".join(f"{name} {unit}" for name, unit in units.proposed.items())
        said.append(f"Lines without a unit, and what follows from their formulas: {listed}.")
    return Text(" ".join(said), style="dim")


def checks_table(tried: Run, model: Model) -> FigureTable:
    """Return whether the conditions that must hold do so in the base case and in a few trials."""
    table = table_of(
        "What must hold", Words("check"), Words("base case"), f"broken of {tried.size} trials",
        Words("condition"),
    )  # fmt: skip
    for name, row in tried.checks().iterrows():
        base = tried.base[str(name)]
        holds = "holds" if not broken_periods(base).any() else "is broken"
        condition = tried.program.lines[str(name)].formula or "a function"
        table.add_row(str(name), holds, number(int(row["broken in"])), condition)
    return table
