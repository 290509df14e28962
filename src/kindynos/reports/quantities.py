"""What stands alone in a notebook: a figure, a quantity of a run, a distribution, a process, a
cohort.
"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from rich.text import Text

from kindynos.cohorts.result import CohortResult
from kindynos.distributions.base import Distribution
from kindynos.formatting import brief, in_unit, number, per_cent, short, step_of, with_error
from kindynos.inference.estimates import Estimate, Estimates
from kindynos.processes.base import Process
from kindynos.reports.answers import amount, opening
from kindynos.reports.model_tables import cohort_table
from kindynos.reports.report import Draws, PeriodTrials, Report
from kindynos.reports.summary import plain_rows
from kindynos.reports.tables import FigureTable, table_of
from kindynos.results.result import Result, RowResult

if TYPE_CHECKING:
    from kindynos.cohorts.cohort import Cohort

ENDS = (5, 50, 95)
MOST_PERIODS = 40
MOST_PATHS = 201  # trials of a cohort that a page steps through


def estimate(figure: Estimate) -> Report:
    """Return a figure with its interval."""
    value, error = with_error(figure)
    ends = ""
    step = step_of(figure.error)
    if step is not None:
        ends = f" (95 % interval {number(figure.low, step)} to {number(figure.high, step)})"
    note = f"; {figure.note}" if figure.note else ""
    return Report.of(opening([f"{value} {error}{ends}{note}".strip()]), kind="figure")


def estimates(figures: Estimates) -> Report:
    """Return several figures with their intervals."""
    table = table_of("", "", "value", "95 % error")
    value = np.asarray(figures).reshape(-1)
    low, high = (np.asarray(end).reshape(-1) for end in (figures.low, figures.high))
    for place, one in enumerate(zip(value.tolist(), low.tolist(), high.tolist(), strict=True)):
        if place < MOST_PERIODS:
            table.add_row(str(place), *with_error(Estimate(*one)))
    return Report.of([table], kind="figures")


def result(found: Result) -> Report:
    """Return the main figures of a quantity, with their errors."""
    unit = f", {found.unit}" if found.unit else ""
    table = table_of(f"{found.name}{unit}", "", "value", "95 % error")
    figures: dict[str, Estimate] = {"mean": found.mean, "standard deviation": found.sd}
    figures |= {f"P{q}": found.percentile(q) for q in ENDS}
    for word, figure in figures.items():
        table.add_row(word, *with_error(figure, found.unit))
    said = f"{found.name}: {amount(found.mean, found.unit)} on average of {found.size:,} trials."
    if found.n_failed == found.size:
        said = f"{found.name} has no value in any of {found.size:,} trials."

    def draws() -> Draws:
        from kindynos.plots import distribution

        return {found.name: partial(distribution, found)}

    return Report.of([*opening([said]), table], kind="quantity", figures=draws)


def row_result(found: RowResult) -> Report:
    """Return mean and percentiles of a row by period."""
    unit = f", {found.unit}" if found.unit else ""
    columns = ["mean", *(f"P{q}" for q in ENDS)]
    table = table_of(f"{found.name}{unit}", "period", *columns)
    mean, ends = np.asarray(found.mean), np.asarray(found.percentile(ENDS))
    for period, label in enumerate(found.labels[:MOST_PERIODS]):
        figures = (mean[period], *ends[:, period])
        table.add_row(str(label), *(brief(in_unit(float(x), found.unit)) for x in figures))
    return Report.of([table], kind="row")


def distribution(one: Distribution) -> Report:
    """Return a distribution: its parameters, mean, sd, percentiles and the chance below 0."""
    table = table_of(repr(one), "", "value")
    figures = {"mean": one.mean, "standard deviation": one.sd}
    figures |= {f"P{q}": float(one.percentile(q)) for q in ENDS}
    for word, figure in figures.items():
        table.add_row(word, brief(float(figure)))
    below = float(one.chance(below=0))
    table.add_row("chance below 0", per_cent(below) if below > 0 else "never")
    return Report.of([table], kind="distribution", figures=lambda: {"density": one.plot})


def process(one: Process) -> Report:
    """Return a process with its parameters."""
    table = table_of(one.label, "parameter", "value")
    for name, value in one.parameters.items():
        if isinstance(value, int | float | str | bool):
            shown = brief(float(value)) if isinstance(value, float) else str(value)
            table.add_row(name.replace("_", " "), shown)
    return Report.of([table], kind="process")


def cohort(one: Cohort) -> Report:
    """Return a cohort: its start, and the chances of its moves."""
    return Report.of([cohort_table("cohort", one)], kind="cohort")


def counts(found: CohortResult) -> Report:
    """Return how many members are in each state through time."""
    states, last = list(found.cohort.states), found.periods
    table = found.table()
    ends: Any = table.xs(last, level="period")
    said = []
    for state in states[:2]:
        mean, low, high = (short(float(ends.loc[state, key])) for key in ("mean", "P10", "P90"))
        said.append(
            f"After {last} periods {mean} are {state} on average, and {low} to {high} in 80 % of "
            f"{found.trials:,} trials."
        )
    return Report.of(
        [*opening(said), _counts_table(found, table), Text(f"Seed {found.seed}.", style="dim")],
        kind="counts",
        data=lambda: {"seed": found.seed, "counts": plain_rows(table)},
        frames=lambda: {"counts": table},
        pages=lambda: {"counts": partial(found.plot, "fans")},
        rows=lambda: [_counts_row(found, state) for state in states],
    )


def _counts_table(found: CohortResult, table: Any) -> FigureTable:
    states = list(found.cohort.states)
    shown = table_of(
        "Mean counts by period", "period", *(state for state in states), numbers_first=True
    )
    every = max(found.periods // MOST_PERIODS, 1)
    for period in range(0, found.periods + 1, every):
        means = (float(table.loc[(state, period), "mean"]) for state in states)
        shown.add_row(str(period), *(brief(float(f"{mean:.4g}")) for mean in means))
    return shown


def _counts_row(found: CohortResult, state: str) -> PeriodTrials:
    values = np.asarray(found[state], dtype=np.float64)
    labels = [str(period) for period in range(found.periods + 1)]
    order = np.argsort(values[-1], kind="stable")
    chosen = order[np.linspace(0, len(order) - 1, min(len(order), MOST_PATHS)).astype(np.int64)]
    words = [f"trial {one:,}: {values[-1, one]:g} {state} at the end" for one in chosen.tolist()]
    return PeriodTrials(state, values, labels, None, chosen.tolist(), words, "end")
