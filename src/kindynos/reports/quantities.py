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
from kindynos.formatting import brief, in_unit, number, per_cent, short, spoken, step_of, with_error
from kindynos.inference.estimates import Estimate, Estimates
from kindynos.processes.base import Process
from kindynos.reports.answers import amount, opening
from kindynos.reports.model_tables import cohort_table
from kindynos.reports.report import Draws, PeriodTrials, Report
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
    for position, ends in enumerate(zip(value.tolist(), low.tolist(), high.tolist(), strict=True)):
        if position < MOST_PERIODS:
            table.add_row(str(position), *with_error(Estimate(*ends)))
    return Report.of([table], kind="figures")


def result(outcome: Result) -> Report:
    """Return the main figures of a quantity, with their errors."""
    unit = f", {outcome.unit}" if outcome.unit else ""
    table = table_of(f"{outcome.name}{unit}", "", "value", "95 % error")
    figures: dict[str, Estimate] = {"mean": outcome.mean, "standard deviation": outcome.sd}
    figures |= {f"P{q}": outcome.percentile(q) for q in ENDS}
    for label, figure in figures.items():
        table.add_row(label, *with_error(figure, outcome.unit))
    mean = amount(outcome.mean, outcome.unit)
    said = f"{outcome.name}: {mean} on average of {outcome.size:,} trials."
    if outcome.n_failed == outcome.size:
        said = f"{outcome.name} has no value in any of {outcome.size:,} trials."

    def draws() -> Draws:
        from kindynos.plots import distribution

        return {outcome.name: partial(distribution, outcome)}

    return Report.of([*opening([said]), table], kind="quantity", figures=draws)


def row_result(outcome: RowResult) -> Report:
    """Return mean and percentiles of a row by period."""
    unit = f", {outcome.unit}" if outcome.unit else ""
    columns = ["mean", *(f"P{q}" for q in ENDS)]
    table = table_of(f"{outcome.name}{unit}", "period", *columns)
    mean, ends = np.asarray(outcome.mean), np.asarray(outcome.percentile(ENDS))
    for period, label in enumerate(outcome.labels[:MOST_PERIODS]):
        figures = (mean[period], *ends[:, period])
        table.add_row(str(label), *(brief(in_unit(float(x), outcome.unit)) for x in figures))
    return Report.of([table], kind="row")


def distribution(stated: Distribution) -> Report:
    """Return a distribution: its parameters, mean, sd, percentiles and the chance below 0."""
    table = table_of(repr(stated), "", "value")
    figures = {"mean": stated.mean, "standard deviation": stated.sd}
    figures |= {f"P{q}": float(stated.percentile(q)) for q in ENDS}
    for label, figure in figures.items():
        table.add_row(label, brief(float(figure)))
    below = float(stated.chance(below=0))
    table.add_row("chance below 0", per_cent(below) if below > 0 else "never")
    return Report.of([table], kind="distribution", figures=lambda: {"density": stated.plot})


def process(stated: Process) -> Report:
    """Return a process with its parameters."""
    table = table_of(stated.label, "parameter", "value")
    for name, value in stated.parameters.items():
        if isinstance(value, int | float | str | bool):
            shown = brief(float(value)) if isinstance(value, float) else str(value)
            table.add_row(spoken(name), shown)
    return Report.of([table], kind="process")


def cohort(stated: Cohort) -> Report:
    """Return a cohort: its start, and the chances of its moves."""
    return Report.of([cohort_table("cohort", stated)], kind="cohort")


def counts(cohort_result: CohortResult) -> Report:
    """Return how many members are in each state through time."""
    states, last = list(cohort_result.cohort.states), cohort_result.periods
    table = cohort_result.table()
    ends: Any = table.xs(last, level="period")
    said = []
    for state in states[:2]:
        mean, low, high = (short(float(ends.loc[state, key])) for key in ("mean", "P10", "P90"))
        said.append(
            f"After {last} periods {mean} are {state} on average, and {low} to {high} in 80 % of "
            f"{cohort_result.trials:,} trials."
        )
    return Report.of(
        [
            *opening(said),
            _counts_table(cohort_result, table),
            Text(f"Seed {cohort_result.seed}.", style="dim"),
        ],
        kind="counts",
        facts=lambda: {"seed": cohort_result.seed},
        tables=lambda: {"counts": table},
        pages=lambda: {"counts": partial(cohort_result.plot, "fans")},
        rows=lambda: [_counts_row(cohort_result, state) for state in states],
    )


def _counts_table(cohort_result: CohortResult, table: Any) -> FigureTable:
    states = list(cohort_result.cohort.states)
    shown = table_of(
        "Mean counts by period", "period", *(state for state in states), numbers_first=True
    )
    every = max(cohort_result.periods // MOST_PERIODS, 1)
    for period in range(0, cohort_result.periods + 1, every):
        means = (float(table.loc[(state, period), "mean"]) for state in states)
        shown.add_row(str(period), *(brief(float(f"{mean:.4g}")) for mean in means))
    return shown


def _counts_row(cohort_result: CohortResult, state: str) -> PeriodTrials:
    values = np.asarray(cohort_result[state], dtype=np.float64)
    labels = [str(period) for period in range(cohort_result.periods + 1)]
    order = np.argsort(values[-1], kind="stable")
    selected = order[np.linspace(0, len(order) - 1, min(len(order), MOST_PATHS)).astype(np.int64)]
    words = [
        f"trial {number:,}: {values[-1, number]:g} {state} at the end"
        for number in selected.tolist()
    ]
    return PeriodTrials(state, values, labels, None, selected.tolist(), words, "end")
