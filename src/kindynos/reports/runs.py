"""The report of a run: what each outcome is, what moves it, and how the run was made."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from rich.console import Group, RenderableType
from rich.text import Text

from kindynos.cells import Cell
from kindynos.errors import KindynosError
from kindynos.formatting import (
    brief,
    in_unit,
    is_time,
    located,
    number,
    per_cent,
    share_decimals,
    share_with_error,
    shares,
    shown,
    step_of,
    threshold,
    with_error,
)
from kindynos.inference.estimates import Estimate
from kindynos.model.review import serious
from kindynos.program.program import Program
from kindynos.reports import lumps
from kindynos.reports.answers import answer, asked_sentences, opening
from kindynos.reports.contributions import register
from kindynos.reports.how_made import advice_lines, made_lines
from kindynos.reports.page.of_trials import run_view
from kindynos.reports.rankings import ranking
from kindynos.reports.report import Draw, Report, only_files
from kindynos.reports.run_tables import has_return_periods, run_tables
from kindynos.reports.summary import summary
from kindynos.reports.tables import DOUBT, FigureTable, Words, table_of
from kindynos.results.figures import DEFAULT, ReportedFigure, TableSpec, reported_figures
from kindynos.results.held_conditions import broken_sentences
from kindynos.results.read_trials import ReadTrials
from kindynos.results.result import Result, RowResult
from kindynos.results.risk_register import risks_of
from kindynos.results.run import Run
from kindynos.results.summary_run import SummaryResult

WORDS = {
    "sd": "standard deviation",
    "base case percentile": "base case's percentile",
    "lowest": "lowest trial",
    "highest": "highest trial",
}


def run_report(run: Run, asked: TableSpec = DEFAULT) -> Report:
    """Return all outcomes of a run, their drivers, and how it was made."""
    sentences = [*answer(run), *asked_sentences(run, asked, run.outcomes)]
    parts: list[RenderableType] = [Text(line, style=DOUBT) for line in broken_sentences(run)]
    doubts = [Text(line, style=DOUBT) for line in doubt_lines(run.program)]
    parts += opening(sentences, doubts)
    plan = run.facts()["sampling"]
    parts.append(Text(f"{run.name}: {run.size:,} trials, {plan} plan, seed {run.seed}"))
    for name in run.outcomes:
        for part in _about(run, name, asked):
            for table in tables_of(part)[:1]:
                table.about = name
            parts += ["", part]
    parts += ["", conditions_table(run, asked.conditions)] if asked.conditions else []
    lines = [*made_lines(run), *advice_lines(run)]
    parts += ["", *(Text(line, style="dim") for line in lines)]
    return Report.of(
        parts,
        kind="run",
        facts=partial(summary, run, asked),
        tables=lambda: only_files(**run_tables(run, asked)),
        figures=partial(_pictures, run),
        result=run,
        view=lambda report: run_view(report, run),
    )


def doubt_lines(program: Program) -> list[str]:
    """Return what would change the figures of a model, a sentence each."""
    return [f"To check: {finding.name}: {finding.text}." for finding in serious(program)]


def _about(run: Run, name: str, asked: TableSpec) -> list[RenderableType]:
    """Return the table of an outcome, its drivers and its risks; what cannot be made says why in
    its place.
    """
    parts: list[RenderableType] = [_reported(run, name, asked)]
    if run[name].is_row or not run.drivers:
        return parts
    if has_return_periods(run, name):
        parts.append(return_periods_table(run[name]))
    parts.append(_or_why(partial(ranking, run, name), f"What moves {name}"))
    if risks_of(run, name):
        parts.append(_or_why(partial(register, run, name), f"Risks in {name}"))
    return parts


def return_periods_table(result: Result) -> FigureTable:
    """Return what an outcome reaches on its bad side once in N trials."""
    side = "at least" if result.better == "low" else "at most"
    unit = f", {result.unit}" if result.unit else ""
    table = table_of(f"How bad, and how often: {result.name}{unit}", "once in", side, "95 % error")
    for years, row in result.return_periods().iterrows():
        estimate = Estimate(row["value"], row["low"], row["high"])
        table.add_row(f"{years:g} trials", *with_error(estimate, result.unit))
    return table


def _or_why(make: Any, title: str) -> RenderableType:
    """Return a part of a report, or why it cannot be made."""
    try:
        part: RenderableType = make()
    except KindynosError as error:
        return Text(f"{title}: {error}", style="dim")
    return part


def tables_of(part: Any) -> list[FigureTable]:
    """Return the tables of a part of a report."""
    inside = part.renderables if isinstance(part, Group) else [part]
    return [inner for inner in inside if isinstance(inner, FigureTable)]


def conditions_table(run: Run | ReadTrials, conditions: Sequence[str]) -> FigureTable:
    """Return the chances of conditions on several quantities."""
    table = table_of("Chances", "condition", "chance", "95 % error", Words(""))
    for condition in conditions:
        chance = run.chance(condition)
        table.add_row(condition, *share_with_error(chance), _interval(chance))
    return table


def _interval(chance: Estimate, decimals: int = 1) -> str:
    """Return the interval of a chance, which need not be the same on both sides."""
    if not chance.error > 0:
        return ""
    low, high = 100 * chance.low, 100 * chance.high
    return f"95 % interval {low:.{decimals}f} to {high:.{decimals}f} %"


def _pictures(run: Run) -> dict[str, Draw]:
    """Return what draws each outcome, its drivers, and each row that was kept."""
    from kindynos.plots import distribution, fan, return_periods, sensitivity

    pictures: dict[str, Draw] = {}
    first = next((name for name in run.outcomes if has_return_periods(run, name)), None)
    for name in run.outcomes:
        if not np.isfinite(run[name].values).any():
            continue  # its table says so
        pictures[name] = partial(fan if run[name].is_row else distribution, run[name])
        if name == first:
            pictures[f"{name}-how-often"] = partial(return_periods, run[name])
        if not run[name].is_row and run.drivers:
            pictures[f"{name}-drivers"] = partial(sensitivity, run, name)
    for name in run.kept:
        if run[name].is_row and name not in (*run.outcomes, *run.program.checks):
            pictures[name] = partial(fan, run[name])
    return pictures


def title_of(result: Result | RowResult | SummaryResult) -> str:
    """Return the title of the table of a quantity: its name, unit and target."""
    unit = f", {result.unit}" if result.unit else ""
    target = ""
    if result.target is not None:
        shown_target = (
            threshold(result.target, result.unit)
            if is_time(result.unit)
            else number(in_unit(result.target, result.unit))
        )
        target = f", target {shown_target}"
    return f"{result.name}{unit}{target}"


def _reported(run: Run, name: str, asked: TableSpec) -> FigureTable:
    """Return the table of an outcome: of a row by period, of a condition its chance."""
    if run[name].is_row:
        return _row_table(run, name, asked)
    if lumps.is_condition(run, name):
        return _condition(run, name, asked)
    return _outcome(run, name, asked)


def _condition(run: Run, name: str, asked: TableSpec) -> FigureTable:
    """Return the chance of an outcome that is true or false."""
    result = run[name]
    table = table_of(f"{name}, true or false", "", "chance", "95 % error", Words(""))
    chance = result.chance(above=0.5)
    table.add_row("true", *share_with_error(chance), _interval(chance))
    if result.base is not None and result.base == result.base:
        table.add_row("base case", "true" if result.base else "false")
    _add_asked(table, result, asked)
    if result.n_failed:
        lacking = f"{result.n_failed:,} trials"
        table.add_row("without a value", per_cent(result.n_failed / result.size), "", lacking)
    return table


def _outcome(run: Run, name: str, asked: TableSpec) -> FigureTable:
    """Return the table of an outcome that is one number in each trial."""
    result = run[name]
    table = table_of(title_of(result), "", "value", "95 % error", Words(""))
    usual = reported_figures(result, replace(asked, statistics=(), chances={}))
    _add_amounts(table, run, name, [figure for figure in usual if figure.kind != "share"])
    lump = lumps.lump_of(result)
    if lump is not None and lump[0] != result.target:
        value, chance = lump
        labels = lumps.period_labels(run, name)
        cell = lumps.labelled(brief(in_unit(value, result.unit)), value, labels)
        words = f"chance of exactly {cell}"
        table.add_row(words, *share_with_error(chance), "many trials share it")
    bad = "chance below" if result.better == "high" else "chance above"
    for row in _chances(result, [figure for figure in usual if figure.kind == "share"]):
        table.add_row(*row, hurts=row[0].startswith(bad))
    _add_asked(table, result, asked)
    if result.n_failed:
        share = per_cent(result.n_failed / result.size)
        remark = f"{share} of the trials; {ranking_of_missing(result)}"
        table.add_row("without a value", number(result.n_failed), "", remark)
    for text, count in run.warnings_of(name).items():
        share = per_cent(count / result.size)
        table.add_row(text, number(count), "", f"{share} of {result.size:,} trials")
    return table


def _add_amounts(
    table: FigureTable, run: Run, name: str, figures: Sequence[ReportedFigure]
) -> None:
    """Add the figures of an outcome that are no chances; where some trials are infinite, how often,
    and the mean of the others.
    """
    result = run[name]
    labels, endless = lumps.period_labels(run, name), lumps.never(result)
    awaited = endless is not None and lumps.may_be_never(run, name)
    step = step_of(in_unit(result.mean, result.unit).error)
    for figure in figures:
        if endless is not None and figure.name == "sd":
            continue
        if endless is not None and figure.name == "mean":
            chance, mean = endless
            what = "chance of never" if awaited else "trials that are infinite"
            table.add_row(what, *share_with_error(chance), "the mean is infinite")
            words = "mean where it happens" if awaited else "mean of the others"
            table.add_row(words, *with_error(mean, result.unit))
            continue
        value, error = _cells(figure, result, step)
        if awaited and value == "infinite":
            value = Cell.of("never")
        if figure.kind == "amount":
            value = lumps.labelled(value, float(figure.estimate), labels)
        table.add_row(WORDS.get(figure.name, figure.name), value, error, _remark(figure, result))


def _add_asked(table: FigureTable, result: Result, asked: TableSpec) -> None:
    """Add the figures that were asked for."""
    usual = [figure.name for figure in reported_figures(result)]
    for figure in asked.figures(result):
        if figure.name in usual:
            continue
        cells = shown(figure.estimate, figure.kind, result.unit)
        interval = _interval(figure.estimate) if figure.kind == "share" else ""
        table.add_row(label(figure, result.unit), *cells, figure.estimate.note or interval)


def label(figure: ReportedFigure, unit: str | None) -> str:
    """Return the name of a figure for people: its threshold as other figures of the unit are."""
    words = (figure.words or figure.name).replace("_", " ")
    at = "" if figure.threshold is None else f" {threshold(figure.threshold, unit)}"
    return f"{words}{at}"


def ranking_of_missing(result: Result) -> str:
    """Return how the trials without a value are counted in an outcome's figures."""
    if result.missing is None:
        return "figures are of the others, chances of all"
    if isinstance(result.missing, str):
        return f"they rank as the {result.missing}; mean and sd are of the others"
    return f"they count as {number(in_unit(float(result.missing), result.unit))}"


def _cells(figure: ReportedFigure, result: Result, step: float | None) -> tuple[Cell, Cell]:
    """Return a figure and its error; percentiles of a count are whole numbers."""
    estimate = figure.estimate
    if figure.kind == "percentile":
        return with_error(estimate)
    counts = lumps.is_count(result) and figure.name not in ("mean", "sd")
    if counts and (float(estimate).is_integer() or figure.name != "base case"):
        error = Cell.of("")
        if 0 < estimate.error < math.inf:
            error = number(math.ceil(estimate.error), before="± ")
        return number(float(estimate), 1.0), error
    if is_time(result.unit) and figure.name != "sd":
        return located(estimate, result.unit)
    if figure.name in ("base case", "lowest", "highest"):
        return number(in_unit(float(estimate), result.unit), step), Cell.of("")
    return with_error(estimate, result.unit)


def _remark(figure: ReportedFigure, result: Result) -> str:
    name, note = figure.name, figure.estimate.note
    if name == "base case percentile" and result.base != result.base:
        return "the base case has no value"
    if name in ("base case percentile", "P5"):
        at = float(figure.estimate) if name == "P5" else float(result.base)
        return lumps.below_and_at(result, at)
    remarks = {
        "lowest": f"{note}, not the worst possible",
        "highest": f"{note}, not the best possible",
    }
    return remarks.get(name, note)


def _chances(result: Result, figures: list[ReportedFigure]) -> list[tuple[str, ...]]:
    """Return the chances on either side of the target; as printed they add up to 100 %, with the
    failed trials.
    """
    if not figures:
        return []
    lacking = result.unranked
    decimals = share_decimals([figure.estimate.error for figure in figures])
    texts = shares([*[float(figure.estimate) for figure in figures], lacking], decimals)
    rows: list[tuple[str, ...]] = []
    for figure, text in zip(figures, texts, strict=False):
        _, error = share_with_error(figure.estimate, decimals)
        words = label(figure, result.unit)
        rows.append((words, text, error, _interval(figure.estimate, decimals)))
    if lacking:
        rows.append(("chance of no value", texts[-1], Cell.of(""), ""))
    return rows


def _row_table(run: Run, name: str, asked: TableSpec) -> FigureTable:
    """Return the table of a row, one line per period."""
    result = run.row(name)
    levels = (5.0, 50.0, 95.0) if asked.percentiles == DEFAULT.percentiles else asked.percentiles
    table = table_of(
        title_of(result), "period", "base", "mean", "95 % error", *(f"P{q:g}" for q in levels)
    )
    percentiles = result.percentile(levels)
    for period, period_label in enumerate(result.labels):
        mean = result.mean[period]
        step = step_of(in_unit(mean, result.unit).error)
        ends = [with_error(row[period], result.unit)[0] for row in percentiles]
        base = number(in_unit(float(result.base[period]), result.unit), step)
        table.add_row(period_label, base, *with_error(mean, result.unit), *ends)
    return table
