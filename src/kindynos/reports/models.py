"""A model before it is simulated: what is known, what is uncertain, and its base case."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import RenderableType

from kindynos.model.review import review
from kindynos.model.writing import cohorts_of
from kindynos.reports import model_tables
from kindynos.reports.answers import model_answer, opening
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_rows

if TYPE_CHECKING:
    from kindynos.model.model import Model

MOST_ROWS = 100  # of a table


def checked(model: Model, whole: bool = False) -> Report:
    """Return the figures of a model with their units and sources, its base case, and what a review
    found; of long tables the first rows unless they are to be ``whole``.
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
    parts: list[RenderableType] = opening(model_answer(model))
    for table in tables:
        parts += [table if whole else table.first(MOST_ROWS), ""]
    answer = review(program)
    return Report.of(
        [*parts, model_tables.findings(answer)],
        kind="model",
        data=lambda: {
            "model": model.name,
            "base case": plain_rows(model.base_case()),
            "findings": [{"name": item.name, "text": item.text} for item in answer],
        },
        frames=lambda: {"base-case": model.base_case()},
    )
