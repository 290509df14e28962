"""Comparisons, sweeps, goals, drivers and single trials as a terminal shows them, and as plain
data.
"""

from __future__ import annotations

import math
import re
import warnings
from collections.abc import Sequence
from functools import partial
from typing import Any

import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.cells import Cell
from kindynos.errors import FitWarning, RunError
from kindynos.formatting import (
    brief,
    in_one_cell,
    in_unit,
    is_per_cent,
    number,
    per_cent,
    points,
    share_decimals,
    share_with_error,
    shares,
    spoken,
    threshold,
)
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.literals import SensitivityMethod
from kindynos.reports import lumps
from kindynos.reports.answers import (
    answer,
    contribution_sentence,
    opening,
    ranked_sentence,
    trial_answer,
)
from kindynos.reports.contributions import contributions
from kindynos.reports.model_tables import sheet_table
from kindynos.reports.page import of_searches
from kindynos.reports.page.figures import of_drivers
from kindynos.reports.page.of_comparison import comparison_view
from kindynos.reports.page.of_sweep import sweep_view
from kindynos.reports.page.view import charts_view
from kindynos.reports.rankings import alone_share, ranking_remark
from kindynos.reports.report import DataTable, Report
from kindynos.reports.runs import label
from kindynos.reports.summary import plain_estimate, plain_rows
from kindynos.reports.tables import DOUBT, FigureTable, table_of
from kindynos.results.figures import DEFAULT, TableSpec, reported_figures
from kindynos.results.held_conditions import broken_sentences
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.sensitivity.methods import column_kind, unit_of_driver, usual_method
from kindynos.results.statistic_text import kind_of
from kindynos.studies.comparison import Comparison, ReportedMean, on_same_draws
from kindynos.studies.goal import Goal
from kindynos.studies.sweep import Sweep

SHOWN = ("base case", "mean", "sd")
MISSING = "trials without a value"
MOST_ROWS = 60


def comparison(compared: Comparison, asked: TableSpec = DEFAULT) -> Report:
    """Return for each outcome the scenarios side by side, the differences from the first, and what
    dominates what.
    """
    table, differences = pd.DataFrame(), pd.DataFrame()
    if compared.outcomes:
        table, differences = compared.table_of(asked), compared.differences_of(asked)
    parts: list[RenderableType] = [
        Text(f"{scenario}: {sentence}", style=DOUBT)
        for scenario, run in compared.runs.items()
        if isinstance(run, Run)
        for sentence in broken_sentences(run)
    ]
    parts += opening(answer(compared))
    conditions = [name for name in compared.outcomes if _is_condition(compared, name)]
    numbers = [name for name in compared.outcomes if name not in conditions]
    for outcome in numbers:
        side = _side_by_side(compared, outcome, table, asked)
        parts += [side, "", _differences(compared, outcome, differences), ""]
        parts += [_dominance(compared, outcome), ""] if len(side.columns[0].cells) > 2 else []
    for outcome in compared.rows:
        parts += [_rows(compared, outcome), ""]
    conditions += asked.conditions
    if conditions:
        parts += [_condition_table(compared, conditions), ""]
    paired = all(_paired(compared))
    how = (
        "trial by trial, on the same draws"
        if paired
        else "as independent samples where the draws are not the same"
    )
    parts.append(Text(f"Differences are taken {how}; their error is 95 %.", style="dim"))
    kinds = [(name, kind) for name in numbers for kind in ("cumulative", "survival", "boxes")]
    return Report.of(
        parts,
        kind="comparison",
        result=compared,
        view=lambda report: comparison_view(report, compared),
        facts=lambda: {
            "scenarios": compared.scenarios,
            "best": {name: _best(compared, name) for name in numbers},
            **_more_data(compared, asked),
            "dominance": {name: _dominance_rows(compared, name) for name in compared.outcomes},
        },
        tables=lambda: {
            "table": DataTable(table, "table", "comparison"),
            "differences": differences,
        },
        figures=lambda: {
            f"{name}-{kind}": partial(compared.plot, name, kind) for name, kind in kinds
        },
        pages=lambda: {f"{name}-fans": partial(_fans, compared, name) for name in compared.rows},
    )


def _best(compared: Comparison, outcome: str) -> dict[str, Any] | None:
    """Return which scenario is best on average as plain data, None where that cannot be asked."""
    try:
        best = compared.best(outcome)
    except RunError:
        return None
    return {
        "scenario": best.scenario,
        "next best": best.next_best,
        "certain": best.certain,
        "ahead": plain_estimate(best.ahead),
        "better in": plain_estimate(best.better_in),
    }


def _more_data(compared: Comparison, asked: TableSpec) -> dict[str, Any]:
    """Return conditions and rows as plain data, where there are any."""
    more_data: dict[str, Any] = {}
    if asked.conditions:
        more_data["chances"] = plain_rows(compared.chances(asked.conditions))
    if compared.rows:
        more_data["rows"] = {
            name: plain_rows(compared.row_differences(name)) for name in compared.rows
        }
    return more_data


def _fans(compared: Comparison, outcome: str, figure: Any) -> Any:
    from kindynos.plots import fans

    return fans(compared, outcome, figure)


def _paired(compared: Comparison) -> list[bool]:
    """Return for each scenario but the first whether its trials are paired with those of the
    first.
    """
    first, *others = compared.runs.values()
    return [on_same_draws(first, other) for other in others]


def _is_condition(compared: Comparison, outcome: str) -> bool:
    return all(
        isinstance(run, Run) and lumps.is_condition(run, outcome) for run in compared.runs.values()
    )


def _side_by_side(
    compared: Comparison, outcome: str, table: pd.DataFrame, asked: TableSpec
) -> FigureTable:
    """Return the figures of an outcome in each scenario."""
    figures = {
        figure.name: figure
        for run in compared.runs.values()
        if not isinstance(run, ReportedMean)
        for figure in reported_figures(run[outcome], asked)
    }
    usual = asked.percentiles == DEFAULT.percentiles
    percentiles = [f"P{q:g}" for q in ((5, 50, 95) if usual else asked.percentiles)]
    requested = [figure.name for figure in asked.figures(_first_result(compared, outcome))]
    unit = _first_result(compared, outcome).unit
    heading = f"{outcome} by scenario{f', {unit}' if unit else ''}"
    side = table_of(heading, "", *compared.scenarios, scalable=True)
    chances = {name: _chances(compared, name, outcome) for name in compared.scenarios}
    endless = {name: _endless(compared, name, outcome) for name in compared.scenarios}
    awaited = any("chance of never" in cells for cells in endless.values())
    for statistic in table.loc[outcome].index:
        if statistic == MISSING:
            side.add_row(statistic, *_shares_without_value(compared, outcome))
            continue
        figure = figures.get(statistic)
        kind = "amount" if figure is None else figure.kind
        if statistic not in (*SHOWN, *percentiles, *requested) and kind != "share":
            continue
        row = []
        for name in compared.scenarios:
            cell = table.loc[(outcome, statistic), name]
            estimate = symmetrical(cell["value"], cell["error"])
            ready = chances[name].get(statistic) or endless[name].get(statistic)
            text = ready or in_one_cell(estimate, kind, unit)
            row.append(Cell.of("never") if awaited and text == "infinite" else text)
        side.add_row(statistic if figure is None else label(figure, unit), *row)
    for words in dict.fromkeys(
        term for cells in endless.values() for term in cells if term not in ("mean", "sd")
    ):
        side.add_row(words, *(endless[name].get(words, "-") for name in compared.scenarios))
    return side


def _rows(compared: Comparison, outcome: str) -> FigureTable:
    """Return the means of a row in each scenario and their differences from the first, period by
    period.
    """
    rows, differences = compared.rows_of(outcome), compared.row_differences(outcome)
    first, *others = rows
    unit = rows[first].unit
    table = table_of(
        f"{outcome} by period{f', {unit}' if unit else ''}: means",
        "period",
        *rows,
        *(f"{name} less {first}" for name in others),
        scalable=True,
    )
    means: Any = differences.xs("mean", level="statistic")
    gaps: dict[Any, Any] = means.to_dict("index")
    for period, period_label in enumerate(rows[first].labels):
        table.add_row(
            period_label,
            *(in_one_cell(row.mean[period], unit=unit) for row in rows.values()),
            *(in_one_cell(_gap(gaps[name, period_label]), unit=unit) for name in others),
        )
    return table.first(MOST_ROWS)


def _gap(row: Any) -> Estimate:
    """Return a difference with its interval."""
    return Estimate(row["difference"], row["low"], row["high"])


def _condition_table(compared: Comparison, conditions: Sequence[str]) -> FigureTable:
    """Return the chances of conditions on several quantities, and their differences from the
    first scenario.
    """
    first = compared.scenarios[0]
    table = table_of(
        f"Chances, and their differences from {first}",
        "condition",
        "scenario",
        "chance",
        "difference",
        keys=2,
    )
    for row in compared.chances(conditions).reset_index().to_dict("records"):
        gap = symmetrical(row["difference"], row["error of difference"])
        chance = in_one_cell(symmetrical(row["chance"], row["error"]), "share")
        difference = "" if row["scenario"] == first else points(gap)
        table.add_row(row["condition"], row["scenario"], chance, difference)
    return table


def _shares_without_value(compared: Comparison, outcome: str) -> list[str]:
    """Return the share of trials without a value in each scenario."""
    results = (
        None if isinstance(run, ReportedMean) else run[outcome] for run in compared.runs.values()
    )
    return [
        "-" if result is None else per_cent(result.n_failed / result.size) for result in results
    ]


def _endless(compared: Comparison, scenario: str, outcome: str) -> dict[str, Cell]:
    """Return what is said of an outcome that is infinite in some trials: how often, and its mean
    where it is not.
    """
    run = compared.runs[scenario]
    never = lumps.never(run[outcome]) if isinstance(run, Run) else None
    if never is None or not isinstance(run, Run):
        return {}
    awaited = lumps.may_be_never(run, outcome)
    chance, average = never
    return {
        "mean": Cell.of("-"),
        "sd": Cell.of("-"),
        "chance of never" if awaited else "trials that are infinite": in_one_cell(chance, "share"),
        "mean where it happens" if awaited else "mean of the others": in_one_cell(
            average, unit=run[outcome].unit
        ),
    }


def _first_result(compared: Comparison, outcome: str) -> Result:
    return next(run[outcome] for run in compared.runs.values() if not isinstance(run, ReportedMean))


def _chances(compared: Comparison, scenario: str, outcome: str) -> dict[str, Cell]:
    """Return the chances around the target in one scenario, which as printed add up to 100 % with
    the trials without a value.
    """
    run = compared.runs[scenario]
    if isinstance(run, ReportedMean):
        return {}
    chances = [figure for figure in reported_figures(run[outcome]) if figure.kind == "share"]
    if not chances:
        return {}
    decimals = share_decimals([figure.estimate.error for figure in chances])
    values = [float(figure.estimate) for figure in chances]
    texts = shares([*values, max(1 - sum(values), 0.0)], decimals)
    cells = {}
    for figure, text in zip(chances, texts, strict=False):
        _, error = share_with_error(figure.estimate, decimals)
        cells[figure.name] = Cell.of(text, " ", error) if error else text
    return cells


def _differences(compared: Comparison, outcome: str, differences: pd.DataFrame) -> FigureTable:
    """Return by how much the figures of an outcome differ from those of the first scenario."""
    first, *others = compared.scenarios
    table = table_of(f"Difference from {first!r}", "", *others, scalable=True)
    frame: Any = differences.loc[outcome]
    unit = _first_result(compared, outcome).unit
    for statistic in frame.index.get_level_values("statistic").unique():
        figure = differences.attrs["figures"][outcome, statistic]
        cells = []
        for name in others:
            if (name, statistic) not in frame.index:
                cells.append("")
                continue
            gap = _gap(frame.loc[(name, statistic)])
            # how often one is higher is a chance itself, not a difference of chances
            is_gap = figure.kind == "share" and not statistic.startswith("higher")
            cells.append(points(gap) if is_gap else in_one_cell(gap, figure.kind, unit))
        table.add_row(label(figure, unit), *cells)
    return table


def _dominance_rows(compared: Comparison, outcome: str) -> Any:
    try:
        return plain_rows(compared.dominance(outcome))
    except RunError as error:
        return error.problem


def _dominance(compared: Comparison, outcome: str) -> RenderableType:
    lines = []
    try:
        frame = compared.dominance(outcome)
    except RunError as error:
        return Text(f"Which of them dominates cannot be said: {error.problem}.")
    low = any(
        run[outcome].better == "low"
        for run in compared.runs.values()
        if not isinstance(run, ReportedMean)
    )
    side = "below" if low else "above"
    for one, other in frame.index:
        row = frame.loc[(one, other)]
        if row["first order"]:
            lines.append(
                f"{one} dominates {other}: at every value it has the larger chance of ending "
                f"{side} (first order)."
            )
        elif row["second order"]:
            lines.append(f"{one} dominates {other} for whoever shuns risk (second order).")
    return Text(
        "\n".join(lines) if lines else "No scenario dominates another stochastically.", style="dim"
    )


def sweep(swept: Sweep, *, less_is_better: bool = False) -> Report:
    """Return a sweep: with two inputs a grid for each output, otherwise a row for each point."""
    better: Any = False if less_is_better else "as stated"
    return Report.of(
        [*_broken_conditions(swept), *opening(answer(swept)), *_sweep_tables(swept)],
        kind="sweep",
        heading=f"{' and '.join(swept.outputs)} over {' and '.join(swept.inputs)}",
        result=swept,
        view=lambda report: sweep_view(report, swept),
        facts=lambda: {"statistic": swept.statistic},
        tables=lambda: {"points": DataTable(_named(swept), "points", "sweep")},
        figures=lambda: {
            f"{name}-sweep": partial(swept.plot, name, more_is_better=better)
            for name in swept.outputs
        },
    )


def _broken_conditions(swept: Sweep) -> list[RenderableType]:
    """Return for each condition that is broken somewhere at how many points, and at which first."""
    said = []
    for name in swept.broken.columns:
        places = [place for place, count in enumerate(swept.broken[name].tolist()) if count]
        if places:
            first = swept.points.iloc[places[0]]
            point = ", ".join(f"{key} {brief(float(value))}" for key, value in first.items())
            said.append(
                f"The condition {name} is broken at {len(places):,} of {len(swept.points):,} "
                f"points, first at {point}."
            )
    return [Text(line, style=DOUBT) for line in said]


def _named(swept: Sweep) -> pd.DataFrame:
    """Return a sweep's table; a column of chances is not named as the amounts are."""
    table = swept.table()
    if kind_of(swept.statistic) != "share":
        return table
    names = {
        f"{name}{end}": f"{swept.statistic} of {name}{end}"
        for name in swept.outputs
        for end in ("", " error")
    }
    return table.rename(columns=names)


def _sweep_tables(swept: Sweep) -> list[RenderableType]:
    parts: list[RenderableType] = []
    kind, units = kind_of(swept.statistic), swept.units

    def titled(name: str) -> str:
        return f"{name}, {units[name]}" if is_per_cent(units.get(name)) else name

    def cell(output: str, value: float, error: float) -> Cell:
        return in_one_cell(symmetrical(value, error), kind, units.get(output))

    def at(name: str, value: float) -> Cell:
        return brief(in_unit(value, units.get(name)))

    if len(swept.inputs) == 2 and swept.points.nunique().max() <= 12:
        for output in swept.outputs:
            grid, spread = swept.grid(output), swept.grid(output, errors=True)
            down, across = str(grid.index.name), str(grid.columns.name)
            grid_table = table_of(
                f"{titled(output)}: {swept.statistic}",
                titled(down),
                *(f"{across} {at(across, float(value))}" for value in grid.columns),
                scalable=True,
                numbers_first=True,
            )
            rows = zip(
                grid.index.to_numpy(dtype=float), grid.to_numpy(), spread.to_numpy(), strict=True
            )
            for value, line, errors in rows:
                pairs = zip(line.tolist(), errors.tolist(), strict=True)
                grid_table.add_row(at(down, value), *(cell(output, *pair) for pair in pairs))
            parts += [grid_table, ""]
        return parts
    table = table_of(
        f"Over {', '.join(map(titled, swept.inputs))}: {swept.statistic}",
        *(titled(name) for name in [*swept.inputs, *swept.outputs]),
        keys=len(swept.inputs),
        scalable=True,
        numbers_first=True,
    )
    for row in range(min(len(swept.points), MOST_ROWS)):
        point = zip(swept.inputs, swept.points.iloc[row], strict=True)
        reaches = [math.nan] * len(swept.outputs)
        if swept.errors is not None:
            reaches = swept.errors.iloc[row].tolist()
        outputs = zip(swept.outputs, swept.values.iloc[row], reaches, strict=True)
        table.add_row(
            *(at(name, value) for name, value in point), *(cell(*output) for output in outputs)
        )
    left = len(swept.points) - MOST_ROWS
    note = [Text(f"{left:,} more points; --out writes them all.", style="dim")] if left > 0 else []
    return [table, *note]


def goal(solved: Goal) -> Report:
    """Return what reaches the goal, and what was tried."""
    kind, what = kind_of(solved.what), spoken(solved.what)
    table = table_of(f"Tried for {what}", spoken(solved.name), what, numbers_first=True)
    for row in solved.evaluations.to_dict("records"):
        reached = symmetrical(row["statistic"], row["error"])
        table.add_row(
            brief(in_unit(row["value"], solved.unit)),
            in_one_cell(reached, kind, solved.outcome_unit),
        )
    aim = per_cent(solved.goal) if kind == "share" else threshold(solved.goal, solved.outcome_unit)
    how = (
        f"{solved.trials:,} trials each, on the same draws, seed {solved.seed}; the error is that "
        "of the sampling, 95 %."
    )
    answer = Text(_reached(solved, aim), style="bold")
    return Report.of(
        [answer, *_beside_the_goal(solved), "", table, Text(how, style="dim")],
        kind="goal",
        heading=f"Which {spoken(solved.name)} makes the {what} {aim}",
        facts=lambda: {
            "name": solved.name,
            "goal": solved.goal,
            "of": solved.what,
            "trials": solved.trials,
            "seed": solved.seed,
            **plain_estimate(solved.value),
            "without value": solved.without_value,
            "others": list(solved.others),
            "jump": None if solved.jump is None else list(solved.jump),
        },
        tables=lambda: {"evaluations": DataTable(solved.evaluations, "evaluations", "goal")},
        figures=lambda: {"goal": solved.plot},
        view=lambda report: charts_view(report, of_searches.of_goal(solved)),
    )


def _reached(solved: Goal, aim: str) -> str:
    """Return the value that reaches the goal, or where the figure jumps over it."""
    name, what = spoken(solved.name), spoken(solved.what)
    unit = f" {solved.unit}" if solved.unit else ""
    if solved.jump is not None:
        kind = kind_of(solved.what)
        low, high = (in_one_cell(Estimate(end), kind, solved.outcome_unit) for end in solved.jump)
        where = brief(in_unit(float(f"{float(solved.value):.4g}"), solved.unit))
        return f"No {name} makes the {what} {aim}: it jumps from {low} to {high} at {where}{unit}."
    asked = re.fullmatch(r"chance (above|below|at) (\S+) of (.+)", solved.what)
    if asked:
        limit = threshold(float(asked[2]), solved.outcome_unit)
        what = f"chance of {spoken(asked[3])} {asked[1]} {limit}"
    value = in_one_cell(solved.value, unit=solved.unit)
    return f"With {name} at {value}{unit}, the {what} is {aim}."


def _beside_the_goal(solved: Goal) -> list[Text]:
    """Return where else the goal is reached, and what trials without a value leave open."""
    notes, unit = [], f" {solved.unit}" if solved.unit else ""
    if solved.others:
        values = (brief(in_unit(float(f"{x:.4g}"), solved.unit)) for x in solved.others)
        notes.append(Text(f"It is reached at about {', '.join(values)}{unit} too."))
    if solved.without_value:
        which = "of all trials" if kind_of(solved.what) == "share" else "over the others"
        notes.append(
            Text(
                f"Up to {per_cent(solved.without_value)} of the trials have no value; the "
                f"{spoken(solved.what)} is {which}."
            )
        )
    return notes


def drivers(
    run: Run,
    outcome: str,
    method: SensitivityMethod | None = None,
    by_period: bool = False,
    **options: Any,
) -> Report:
    """Return the table of a method of sensitivity; warns as the method does."""
    taken: str = usual_method(run, outcome) if method is None else method
    frame = run.sensitivity(outcome, taken, by_period, **options)
    if taken == "contributions":
        made = Text(f"{run.size:,} trials, seed {run.seed}", style="dim")
        parts = opening(contribution_sentence(outcome, frame))
        parts += [contributions(run, outcome, frame), made]
    else:
        parts = [*opening(ranked_sentence(outcome, frame)), *_ranked(run, outcome, taken, frame)]

    def draw(ax: Any) -> Any:
        from kindynos.plots import sensitivity

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", FitWarning)  # it was given with the table
            return sensitivity(run, outcome, taken, ax=ax, by_period=by_period, **options)

    return Report.of(
        parts,
        kind="drivers",
        heading=f"{run.name}: what drives {outcome}",
        facts=lambda: {
            "outcome": outcome,
            "method": taken,
            "seed": run.seed,
            **_attributes(frame, taken),
        },
        tables=lambda: {"drivers": DataTable(frame, "drivers", f"{outcome}-{taken}")},
        figures=lambda: {f"{outcome}-{taken}": draw},
        view=lambda report: charts_view(report, of_drivers(run, outcome, taken, frame)),
    )


def _attributes(frame: pd.DataFrame, method: str) -> dict[str, Any]:
    """Return what contributions add up to."""
    names = ("to", "total", "trials") if method == "contributions" else ()
    return {name: frame.attrs[name] for name in names}


def _ranked(run: Run, outcome: str, method: str, frame: pd.DataFrame) -> list[RenderableType]:
    """Return the table of a method, with what is to be said of it."""
    title = f"What drives {outcome}, by {method}"
    table = table_of(title, "driver", *(str(c) for c in frame.columns), scalable=True)
    closed = shares(frame["share of variance"].tolist()) if method == "shapley" else []
    units = {"outcome": run.program.unit(outcome)}
    for position, (name, row) in enumerate(frame.iterrows()):
        units["driver"] = unit_of_driver(run, str(name))
        cells: list[str] = []
        for column in frame.columns:
            kind, value = column_kind(method, str(column)), float(row[column])
            if column == "share of variance" and closed:
                cells.append(closed[position])
            elif column == "first-order share":
                cells.append(per_cent(float(alone_share(row))))
            elif kind == "share":
                cells.append(per_cent(value))
            elif kind == "error":
                cells.append(number(value, 0.001, "± "))
            elif kind == "signed":
                cells.append(number(value, 0.001, "+" if value > 0 else ""))
            else:
                cells.append(brief(float(f"{in_unit(value, units[kind]):.4g}")))
        table.add_row(str(name), *cells)
    facts = {
        key: value
        for key, value in frame.attrs.items()
        if isinstance(value, int | float) and method != "rank"
    }
    description = "; ".join(f"{key} {brief(float(value))}" for key, value in facts.items())
    made = f"{run.size:,} trials, seed {run.seed}" + (f"; {description}" if description else "")
    remarks = [ranking_remark(frame, run[outcome]), made] if method == "rank" else [made]
    return [table, *(Text(remark, style="dim") for remark in remarks)]


def sheets(
    run: Run, answer: pd.DataFrame, why: str, whole: bool = False, outcome: str | None = None
) -> Report:
    """Return the sheets of single trials, by trial and quantity; first what an ``outcome`` is
    there.
    """
    units = {name: run.program.unit(name) for name in run}
    tables = [
        sheet_table(
            f"Trial {position:,} of {run.size:,}, seed {run.seed}{why}",
            answer.loc[position],
            units,
            whole,
        )
        for position in answer.index.get_level_values("trial").unique()
    ]
    numbers = answer.index.get_level_values("trial").unique()
    which = f"trial {numbers[0]:,}" if len(numbers) == 1 else f"{len(numbers):,} trials"
    parts: list[RenderableType] = [*opening(trial_answer(run, answer, outcome))]
    for table in tables:
        parts += ["", table] if parts and parts[-1] != "" else [table]
    return Report.of(
        parts,
        kind="trial",
        heading=f"{run.name}: {which}",
        facts=lambda: {"seed": run.seed},
        tables=lambda: {"sheet": DataTable(answer, "sheet", "trial")},
    )
