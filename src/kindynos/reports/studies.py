"""Comparisons, sweeps, goals, drivers and single trials as a terminal shows them, and as plain
data.
"""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from functools import partial
from typing import Any

import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.errors import FitWarning, RunError
from kindynos.formatting import (
    ROUNDING,
    brief,
    is_per_cent,
    number,
    per_cent,
    share_decimals,
    shares,
    step_of,
    times_shown,
)
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
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_estimate, plain_rows
from kindynos.reports.tables import FigureTable, table_of
from kindynos.reports.text import alone_share, ranking_remark, sheet_table
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.sensitivity.methods import usual_method
from kindynos.results.sheet import DEFAULT, TableSpec
from kindynos.studies.comparison import Comparison, ReportedMean, on_same_draws
from kindynos.studies.goal import Goal
from kindynos.studies.sweep import Sweep

SHOWN = ("base case", "mean", "sd")
MISSING = "trials without a value"
MOST_ROWS = 60


def figure(value: float, error: float = math.nan, share: bool = False) -> str:
    """Return a value with its error, both at the digits the error leaves; as per cent where it is a
    share.
    """
    if share:
        decimals = share_decimals([error])
        return per_cent(value, decimals) + (
            "" if math.isnan(error) else f" ± {100 * error:.{decimals}f} %"
        )
    step = step_of(error)
    if math.isnan(value) or step is None or error <= ROUNDING * abs(value):
        return brief(value)
    return f"{number(value, step)} ± {number(error, step)}"


def comparison(compared: Comparison, asked: TableSpec = DEFAULT) -> Report:
    """Return for each outcome the scenarios side by side, the differences from the first, and what
    dominates what.
    """
    table, differences = pd.DataFrame(), pd.DataFrame()
    if compared.outcomes:
        table, differences = compared.table(asked), compared.differences(asked)
    parts = opening(answer(compared))
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
        data=lambda: {
            "scenarios": compared.scenarios,
            "table": plain_rows(table),
            "differences": plain_rows(differences),
            **_more_data(compared, asked),
            "dominance": {name: _dominance_rows(compared, name) for name in compared.outcomes},
        },
        frames=lambda: {"comparison": table, "differences": differences},
        figures=lambda: {
            f"{name}-{kind}": partial(compared.plot, name, kind) for name, kind in kinds
        },
        pages=lambda: {f"{name}-fans": partial(_fans, compared, name) for name in compared.rows},
    )


def _more_data(compared: Comparison, asked: TableSpec) -> dict[str, Any]:
    """Return conditions and rows as plain data, where there are any."""
    found: dict[str, Any] = {}
    if asked.conditions:
        found["chances"] = plain_rows(compared.chances(asked.conditions))
    if compared.rows:
        found["rows"] = {name: plain_rows(compared.row_differences(name)) for name in compared.rows}
    return found


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
    chosen = asked.percentiles != DEFAULT.percentiles
    percentiles = [f"P{q:g}" for q in (asked.percentiles if chosen else (5, 50, 95))]
    more = [word for word, _ in asked.figures(_first_result(compared, outcome))]
    rows = [
        s
        for s in table.loc[outcome].index
        if s in (*SHOWN, *percentiles, *more, MISSING) or str(s).startswith("chance")
    ]
    unit = _first_result(compared, outcome).unit
    per_cent_unit = is_per_cent(unit)
    side = table_of(
        f"{outcome} by scenario{f', {unit}' if unit else ''}",
        "",
        *(name for name in compared.scenarios),
        scalable=True,
    )
    chances = {name: _chances(table[name].loc[outcome]) for name in compared.scenarios}
    endless = {name: _endless(compared, name, outcome) for name in compared.scenarios}
    awaited = any("chance of never" in found for found in endless.values())
    for statistic in rows:
        cells = [table.loc[(outcome, statistic), name] for name in compared.scenarios]
        if per_cent_unit and statistic in (*SHOWN, *percentiles):
            cells = [cell * 100 for cell in cells]
        texts = [
            chances[name].get(statistic) or endless[name].get(str(statistic))
            for name in compared.scenarios
        ]
        shown = [t or figure(c["value"], c["error"]) for t, c in zip(texts, cells, strict=True)]
        if statistic == MISSING:
            shown = _shares_without_value(compared, outcome)
        side.add_row(
            _in_per_cent(str(statistic)) if per_cent_unit else str(statistic),
            *(text.replace("infinite", "never") if awaited else text for text in shown),
        )
    for word in dict.fromkeys(
        word for rows in endless.values() for word in rows if word not in ("mean", "sd")
    ):
        side.add_row(word, *(endless[name].get(word, "-") for name in compared.scenarios))
    return side


def _in_per_cent(statistic: str) -> str:
    """Return the words of a chance around a figure in per cent."""
    word, _, value = statistic.rpartition(" ")
    return f"{word} {100 * float(value):g}" if statistic.startswith("chance") else statistic


def _rows(compared: Comparison, outcome: str) -> FigureTable:
    """Return the means of a row in each scenario and their differences from the first, period by
    period.
    """
    found, differences = compared.rows_of(outcome), compared.row_differences(outcome)
    first, *others = found
    unit = found[first].unit
    table = table_of(
        f"{outcome} by period{f', {unit}' if unit else ''}: means",
        "period",
        *(name for name in found),
        *(f"{name} less {first}" for name in others),
        scalable=True,
    )
    every: Any = differences.xs("mean", level="statistic")
    gaps_of: dict[Any, Any] = every.to_dict("index")
    for place, label in enumerate(found[first].labels):
        means = [row.mean[place] for row in found.values()]
        gaps = [gaps_of[name, label] for name in others]
        table.add_row(
            label,
            *(figure(float(mean), mean.error) for mean in means),
            *(figure(gap["difference"], gap["error"]) for gap in gaps),
        )
    return table.first(MOST_ROWS)


def _condition_table(compared: Comparison, conditions: Sequence[str]) -> FigureTable:
    """Return the chances of conditions on several quantities, and their differences from the
    first scenario.
    """
    found = compared.chances(conditions)
    first = compared.scenarios[0]
    table = table_of(
        f"Chances, and their differences from {first}",
        "condition",
        "scenario",
        "chance",
        "difference",
        keys=2,
    )
    for row in found.reset_index().to_dict("records"):
        gap, error = 100 * row["difference"], 100 * row["error of difference"]
        told = "" if row["scenario"] == first else f"{gap:+.1f} ± {error:.1f} points"
        chance = figure(row["chance"], row["error"], share=True)
        table.add_row(row["condition"], row["scenario"], chance, told)
    return table


def _shares_without_value(compared: Comparison, outcome: str) -> list[str]:
    """Return the share of trials without a value in each scenario."""
    results = (
        None if isinstance(run, ReportedMean) else run[outcome] for run in compared.runs.values()
    )
    return ["-" if r is None else per_cent(r.n_failed / r.size) for r in results]


def _endless(compared: Comparison, scenario: str, outcome: str) -> dict[str, str]:
    """Return what is said of an outcome that is infinite in some trials: how often, and its mean
    where it is not.
    """
    run = compared.runs[scenario]
    found = lumps.never(run[outcome]) if isinstance(run, Run) else None
    if found is None or not isinstance(run, Run):
        return {}
    awaited = lumps.may_be_never(run, outcome)
    chance, average = found
    return {
        "mean": "-",
        "sd": "-",
        "chance of never" if awaited else "trials that are infinite": figure(
            float(chance), chance.error, share=True
        ),
        "mean where it happens" if awaited else "mean of the others": figure(
            float(average), average.error
        ),
    }


def _first_result(compared: Comparison, outcome: str) -> Result:
    return next(run[outcome] for run in compared.runs.values() if not isinstance(run, ReportedMean))


def _chances(frame: pd.DataFrame) -> dict[Any, str]:
    """Return the chances of one scenario, which as printed add up to 100 % with the trials without
    a value.
    """
    frame = frame[[str(statistic).startswith("chance") for statistic in frame.index]].dropna(
        subset=["value"]
    )
    values = frame["value"].tolist()
    decimals = share_decimals(frame["error"])
    texts = shares([*values, max(1 - sum(values), 0.0)], decimals) if values else []
    errors = [
        "" if math.isnan(error) else f" ± {100 * error:.{decimals}f} %" for error in frame["error"]
    ]
    return dict(zip(frame.index, map("".join, zip(texts, errors, strict=False)), strict=False))


def _differences(compared: Comparison, outcome: str, differences: pd.DataFrame) -> FigureTable:
    first = compared.scenarios[0]
    others = compared.scenarios[1:]
    table = table_of(f"Difference from {first!r}", "", *(name for name in others), scalable=True)
    frame = differences.loc[outcome]
    per_cent_unit = is_per_cent(_first_result(compared, outcome).unit)
    for statistic in frame.index.get_level_values("statistic").unique():
        share = str(statistic).startswith("higher")
        points = str(statistic).startswith(("chance", "share without"))
        cells = [
            frame.loc[(name, statistic)] if (name, statistic) in frame.index else None
            for name in others
        ]
        if per_cent_unit and not (share or points):
            cells = [None if c is None else c * 100 for c in cells]
        label = _in_per_cent(str(statistic)) if per_cent_unit else str(statistic)
        table.add_row(label, *("" if c is None else _difference(c, share, points) for c in cells))
    return table


def _difference(cell: pd.Series, share: bool, points: bool) -> str:
    if points:
        decimals = share_decimals([cell["error"]])
        return (
            f"{100 * cell['difference']:+.{decimals}f} ± {100 * cell['error']:.{decimals}f} points"
        )
    return figure(cell["difference"], cell["error"], share)


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
        [*opening(answer(swept)), *_sweep_tables(swept)],
        kind="sweep",
        result=swept,
        data=lambda: {"statistic": swept.statistic, "points": plain_rows(_named(swept))},
        frames=lambda: {"sweep": _named(swept)},
        figures=lambda: {
            f"{name}-sweep": partial(swept.plot, name, more_is_better=better)
            for name in swept.outputs
        },
    )


def _named(swept: Sweep) -> pd.DataFrame:
    """Return a sweep's table; a column of chances is not named as the amounts are."""
    table = swept.table()
    if not swept.statistic.startswith("chance"):
        return table
    names = {
        f"{name}{end}": f"{swept.statistic} of {name}{end}"
        for name in swept.outputs
        for end in ("", " error")
    }
    return table.rename(columns=names)


def _sweep_tables(swept: Sweep) -> list[RenderableType]:
    parts: list[RenderableType] = []
    share = swept.statistic.startswith("chance")
    times = {name: times_shown(unit) for name, unit in swept.units.items()}

    def titled(name: str) -> str:
        return f"{name}, {swept.units[name]}" if times.get(name, 1.0) != 1 else name

    def shown(name: str, value: float, error: float) -> str:
        return figure(value * times.get(name, 1.0), error * times.get(name, 1.0), share)

    if len(swept.inputs) == 2 and swept.points.nunique().max() <= 12:
        for output in swept.outputs:
            grid, spread = swept.grid(output), swept.grid(output, errors=True)
            down, across = str(grid.index.name), str(grid.columns.name)
            columns = [
                f"{across} {brief(float(value) * times.get(across, 1.0))}" for value in grid.columns
            ]
            grid_table = table_of(
                f"{titled(output)}: {swept.statistic}",
                titled(down),
                *columns,
                scalable=True,
                numbers_first=True,
            )
            rows = zip(
                grid.index.to_numpy(dtype=float), grid.to_numpy(), spread.to_numpy(), strict=True
            )
            for value, line, reach in rows:
                both = zip(line.tolist(), reach.tolist(), strict=True)
                grid_table.add_row(
                    brief(float(value) * times.get(down, 1.0)),
                    *(shown(output, one, error) for one, error in both),
                )
            parts += [grid_table, ""]
        return parts
    table = table_of(
        f"Over {', '.join(map(titled, swept.inputs))}: {swept.statistic}",
        *(titled(name) for name in [*swept.inputs, *swept.outputs]),
        keys=len(swept.inputs),
        scalable=True,
        numbers_first=True,
    )
    for place in range(min(len(swept.points), MOST_ROWS)):
        point = zip(swept.inputs, swept.points.iloc[place], strict=True)
        inputs = [brief(float(value) * times.get(name, 1.0)) for name, value in point]
        errors = (
            [math.nan] * len(swept.outputs)
            if swept.errors is None
            else swept.errors.iloc[place].tolist()
        )
        found = zip(swept.outputs, swept.values.iloc[place], errors, strict=True)
        cells = [shown(name, value, error) for name, value, error in found]
        table.add_row(*inputs, *cells)
    left = len(swept.points) - MOST_ROWS
    note = [Text(f"{left:,} more points; --out writes them all.", style="dim")] if left > 0 else []
    return [table, *note]


def goal(found: Goal) -> Report:
    """Return what reaches the goal, and what was tried."""
    share = found.what.startswith("chance")
    times = times_shown(found.unit)
    outcome_times = 1.0 if share else times_shown(found.outcome_unit)
    table = table_of(f"Tried for {found.what}", found.name, found.what, numbers_first=True)
    for row in found.evaluations.to_dict("records"):
        reached = row["statistic"] * outcome_times, row["error"] * outcome_times
        table.add_row(brief(row["value"] * times), figure(*reached, share))
    unit = f" {found.unit}" if found.unit else ""
    aim = per_cent(found.goal) if share else number(found.goal * outcome_times)
    aim += " %" if outcome_times != 1 else ""
    value = figure(float(found.value) * times, found.value.error * times)
    description = f"{found.name} = {value}{unit} makes the {found.what} {aim}."
    notes = (
        [
            Text(
                f"Up to {per_cent(found.without_value)} of the trials have no value; the "
                f"{found.what} is {'of all trials' if share else 'over the others'}."
            )
        ]
        if found.without_value
        else []
    )
    how = (
        f"{found.trials:,} trials each, on the same draws, seed {found.seed}; the error is that "
        "of the sampling, 95 %."
    )
    return Report.of(
        [Text(description, style="bold"), *notes, "", table, Text(how, style="dim")],
        kind="goal",
        data=lambda: {
            "name": found.name,
            "goal": found.goal,
            "of": found.what,
            "trials": found.trials,
            "seed": found.seed,
            **plain_estimate(found.value),
            "without value": found.without_value,
            "evaluations": plain_rows(found.evaluations),
        },
        frames=lambda: {"goal": found.evaluations},
        figures=lambda: {"goal": found.plot},
    )


def _in_thousands(frame: pd.DataFrame) -> tuple[float, str]:
    """Return what to divide a wide table by so that its figures fit, and the words that say so."""
    return (
        (1000.0, ": figures in thousands")
        if float(frame.abs().to_numpy().max()) >= 1e6
        else (1.0, "")
    )


def drivers(
    run: Run,
    outcome: str,
    method: SensitivityMethod | None = None,
    by_period: bool = False,
    **options: Any,
) -> Report:
    """Return the table of a method of sensitivity; warns as the method does."""
    taken: str = usual_method(run) if method is None else method
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
        data=lambda: {
            "outcome": outcome,
            "method": taken,
            "seed": run.seed,
            "drivers": plain_rows(frame),
            **_attributes(frame, taken),
        },
        frames=lambda: {f"{outcome}-{taken}": frame},
        figures=lambda: {f"{outcome}-{taken}": draw},
    )


def _attributes(frame: pd.DataFrame, method: str) -> dict[str, Any]:
    """Return what contributions add up to."""
    names = ("to", "total", "trials") if method == "contributions" else ()
    return {name: frame.attrs[name] for name in names}


def _ranked(run: Run, outcome: str, method: str, frame: pd.DataFrame) -> list[RenderableType]:
    """Return the table of a method, with what is to be said of it."""
    scale, word = _in_thousands(frame) if method == "conditional" else (1.0, "")
    title = f"What drives {outcome}, by {method}{word}"
    table = table_of(title, "driver", *(str(c) for c in frame.columns))
    closed = shares(frame["share of variance"].tolist()) if method == "shapley" else []
    for place, (name, row) in enumerate(frame.iterrows()):
        cells = []
        for column in frame.columns:
            if column == "share of variance" and closed:
                cells.append(closed[place])
            elif column.startswith(("share", "first order", "total", "error of")) or (
                method in ("sobol", "shapley")
            ):
                cells.append(f"{100 * row[column]:.1f} %")
            elif column == "first-order share":
                cells.append(per_cent(float(alone_share(row))))
            elif column in ("rank correlation", "coefficient", "shift") or (
                column == "error" and method == "tail"
            ):
                cells.append(f"± {row[column]:.3f}" if column == "error" else f"{row[column]:+.3f}")
            else:
                cells.append(brief(float(f"{row[column] / scale:.4g}")))
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


def sheets(run: Run, found: pd.DataFrame, why: str, whole: bool = False) -> Report:
    """Return the sheets of single trials, by trial and quantity."""
    units = {name: run.program.unit(name) for name in run}
    tables = [
        sheet_table(
            f"Trial {place:,} of {run.size:,}, seed {run.seed}{why}", found.loc[place], units, whole
        )
        for place in found.index.get_level_values("trial").unique()
    ]
    parts: list[RenderableType] = [*opening(trial_answer(run, found))]
    for table in tables:
        parts += ["", table] if parts and parts[-1] != "" else [table]
    return Report.of(
        parts,
        kind="trial",
        data=lambda: {"seed": run.seed, "sheet": plain_rows(found)},
        frames=lambda: {"trial": found},
    )
