"""What a page shows of trials: of a run, its outcomes with their pictures and drivers, its rows and
what it assumes; of trials that were read, their columns.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from kindynos.errors import KindynosError
from kindynos.formatting import heading, per_cent
from kindynos.program.program import Program
from kindynos.program.quantities import DistributionDriver
from kindynos.program.statement import Statement
from kindynos.reports import lumps
from kindynos.reports.how_made import advice_lines, made_lines
from kindynos.reports.model_tables import drivers_table, givens_table
from kindynos.reports.page.curves import of_pair, of_return_periods
from kindynos.reports.page.densities import densities
from kindynos.reports.page.distribution_words import distribution_words
from kindynos.reports.page.fans import fan, rows_of, sheet_of
from kindynos.reports.page.figures import driven, in_sentence, keys, line, rounded
from kindynos.reports.page.live import MOST_VALUES, Live, Trials, drivers_looked_at, live
from kindynos.reports.page.view import PageView, plain_view, section_parts, sections_below
from kindynos.reports.report import Report, Section
from kindynos.reports.robustness import robustness_report
from kindynos.results.joint import JointDistribution
from kindynos.results.options import SimulationOptions
from kindynos.results.read_trials import ReadTrials
from kindynos.results.run import Run
from kindynos.studies.robustness import Robustness, RobustnessRequest, robustness

MOST_PAGE_VALUES = 150_000  # of all outcomes of a page; of more, counts on steps
MOST_LIVE = 20  # outcomes that are drawn; all are in the tables
MOST_ROBUST = 2  # outcomes whose assumptions are looked at
DEPARTED_TRIALS = 2_000  # of each departure
MOST_DEPARTED = 1_000_000  # values of a run of these, beyond which a page does not wait for them
MOST_BESIDE = 6  # outcomes side by side
WORST = 0.1  # of the trials, whose mean says what is lost when it goes wrong
MOST_DRIVERS = 12  # that are looked at beside an outcome


def trials_view(
    report: Report, read: ReadTrials, pair: JointDistribution | None = None
) -> PageView:
    """Return what a page shows of trials that were read, and of two columns trial by trial."""
    beside = list(read.outcomes)[:MOST_DRIVERS]
    lives = _lives(read, read.outcomes[:MOST_LIVE], beside)
    outcomes = [
        {
            "line": line(read[name], name),
            "keys": keys(read[name]) if name in lives else [],
            "live": lives.get(name),
        }
        for name in _in_order(read, lives)
    ]
    view = plain_view(
        report,
        outcomes=_with_sections(report, outcomes),
        drivers=drivers_looked_at(read, beside) if lives else "[]",
        charts=[] if pair is None else [of_pair(pair)],
    )
    return replace(view, drawn=frozenset([*read.outcomes[:MOST_LIVE], "scatter"]))


def run_view(report: Report, run: Run) -> PageView:
    """Return what a page shows of a run."""
    beside = list(run.drivers)[:MOST_DRIVERS]
    shown = [name for name in run.outcomes[:MOST_LIVE] if not lumps.is_condition(run, name)]
    lives = _lives(run, shown, beside)
    outcomes = [
        {
            "line": line(run[name], name),
            "keys": keys(run[name], lumps.may_be_never(run, name)) if name in lives else [],
            "live": lives.get(name),
            "driven": driven(run, name) if name in lives else None,
        }
        for name in _in_order(run, lives)
    ]
    facts, sheet, departures = run.facts(), sheet_of(run), _departures(run)
    fans = [fan(row, sheet) for row in rows_of(run)]
    often = [name for name in run.outcomes if f"{name}-how-often" in report.figures()]
    return PageView(
        title=run.name,
        sections=[section_parts(section) for section in _general(report, run)],
        drawn=frozenset([*run.kept, *report.figures()]),
        facts=[f"{run.size:,} trials", f"{facts['sampling']} plan", f"seed {run.seed}"],
        versions=facts["versions"],
        outcomes=_with_sections(report, outcomes),
        drivers=drivers_looked_at(run, beside) if lives else "[]",
        fans=[drawn for drawn in fans if drawn is not None],
        charts=[of_return_periods(run[name]) for name in often],
        assumed=_assumed(run),
        given=_given(run),
        departures=departures,
        beside=_side_by_side(run, departures),
        formulas=_formulas(run),
        made=made_lines(run),
        advice=advice_lines(run),
    )


def _side_by_side(run: Run, departures: list[dict[str, Any]]) -> dict[str, Any] | None:
    """Return the outcomes that are one number side by side, for a board: the mean, a bad case, what
    is lost when it goes wrong, and the chance of missing the target; None of a single one.
    """
    names = [name for name in run.outcomes if not run[name].is_row]
    names = [name for name in names if not lumps.is_condition(run, name)][:MOST_BESIDE]
    if len(names) < 2:
        return None
    wider = {one["title"]: one["wider"] for one in departures}
    rows = []
    for name in names:
        result = run[name]
        worst = ""
        if lumps.never(result) is None:
            loss = float(result.expected_shortfall(1 - WORST))  # against 0, more is worse
            worst = str(rounded(loss if result.better == "low" else -loss, result.unit))
        cells = line(result, name).cells
        title = f"{heading(name)}{f', {result.unit}' if result.unit else ''}"
        rows.append([title, cells[0], _bad_case(run, name), worst, cells[4], wider.get(name, "")])
    heads = ["outcome", "mean", "bad case, 1 in 20", "mean of the worst tenth"]
    heads += ["chance of missing the target", "with ranges half as wide again"]
    kept = [k for k in range(len(heads)) if k < 2 or any(row[k] for row in rows)]
    return {
        "title": "Outcomes side by side",
        "heads": [heads[k] for k in kept],
        "rows": [[row[k] for k in kept] for row in rows],
    }


def _bad_case(run: Run, name: str) -> str:
    """Return what one trial in twenty is no better than; "never" of what does not come."""
    result = run[name]
    bad = result.percentile(95 if result.better == "low" else 5)
    if float(bad) == math.inf and lumps.may_be_never(run, name):
        return "never"
    return str(rounded(bad, result.unit))


def _lives(
    trials: Trials, names: list[str] | tuple[str, ...], beside: list[str]
) -> dict[str, Live]:
    """Return the outcomes that are drawn live, each with the quantities looked at beside it."""
    most = min(MOST_PAGE_VALUES // max(len(trials.outcomes[:MOST_LIVE]), 1), MOST_VALUES)
    drawn = {}
    for name in names:
        others = [other for other in beside if other != name]
        picture = live(trials[name], name, others, most_values=most)
        if picture is not None:
            drawn[name] = picture
    return drawn


def _in_order(trials: Trials, lives: dict[str, Live]) -> list[str]:
    """Return the outcomes that are one number, the first one that is drawn before all others."""
    numbers = [name for name in trials.outcomes if not trials[name].is_row]
    first = next((name for name in numbers if name in lives), None)
    return sorted(numbers, key=lambda name: name != first)


def _with_sections(report: Report, outcomes: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return the outcomes, each with its place on the page and its sections of the report."""
    about: dict[str, list[dict[str, Any]]] = {}
    for section in report.sections:
        about.setdefault(section.about, []).append(section_parts(section))
    return [
        {"id": f"outcome-{position}", "sections": about.get(outcome["line"].name, []), **outcome}
        for position, outcome in enumerate(outcomes, 1)
    ]


def _general(report: Report, run: Run) -> list[Section]:
    """Return the sections of no single outcome, without what the page says in other places."""
    return [
        section
        for section in sections_below(report)
        if section.tables and (not section.about or run[section.about].is_row)
    ]


def _departures(run: Run) -> list[dict[str, Any]]:
    """Return what the assumptions of the first outcomes of a quick model are worth: the sentence,
    and the sections below it. Of a larger model ``kindynos run --robustness`` reports it.
    """
    program = run.program
    numbers = [name for name in run.outcomes if not run[name].is_row]
    departures = []
    for name in numbers[:MOST_ROBUST] if _is_quick(program) else ():
        options = SimulationOptions(DEPARTED_TRIALS, run.seed, workers=1)
        try:
            departed = robustness(Statement.of_program(program), RobustnessRequest(name), options)
        except KindynosError:
            continue  # of a constant, or of rows alone: there is nothing to depart from
        report = robustness_report(departed)
        departures.append(
            {
                "title": name,
                "sentence": " ".join(report.answer),
                "sections": [section_parts(section) for section in sections_below(report)],
                "wider": _with_wider_ranges(departed),
            }
        )
    return departures


def _with_wider_ranges(departed: Robustness) -> str:
    """Return the chance of missing the target if all ranges are wider; empty without a target."""
    if departed.missed is None:
        return ""
    moved = departed.moved(departed.missed)
    wide = [name for name in moved.index if str(name).startswith("ranges x")]
    return per_cent(float(moved.loc[wide[0], "value"])) if wide else ""


def _is_quick(program: Program) -> bool:
    """Whether departures of a model are worked out in about a second."""
    values = DEPARTED_TRIALS * len(program.lines) * max(program.periods, 1)
    few = 0 < len(program.drivers) <= MOST_DRIVERS and not program.events_a_trial
    return few and not program.recorded and values <= MOST_DEPARTED


def _assumed(run: Run) -> list[dict[str, Any]]:
    """Return what is uncertain in a run: each driver with a small density, how it is stated, its
    figures and its source.
    """
    if not run.program.drivers:
        return []
    small = {density.name: density for density in densities(run)}
    table = drivers_table(run.program)
    headers = [column.header for column in table.columns]
    assumed = []
    for cells in zip(*(column.cells for column in table.columns), strict=True):
        row = dict(zip(headers, cells, strict=True))
        name, each = row.pop("driver"), row.pop("each")
        stated = in_sentence(row.pop("distribution"))
        driver = run.program.shown_driver(name)
        if isinstance(driver, DistributionDriver):
            stated = distribution_words(driver.distribution, driver.unit)
        assumed.append(
            {
                "name": name,
                "unit": row.pop("unit"),
                "source": row.pop("source"),
                "stated": f"{stated}, again each {each}" if each not in ("", "trial") else stated,
                "figures": row,
                "density": small.get(name),
            }
        )
    return assumed


def _given(run: Run) -> dict[str, Any] | None:
    """Return the table of what is known."""
    if not run.program.givens:
        return None
    return dict(section_parts(Section((givens_table(run.program),)))["parts"][0])


def _formulas(run: Run) -> list[dict[str, str]]:
    """Return the lines and outcomes with their formulas, in the order in which they are stated."""
    formulas = []
    for name, stated in run.program.lines.items():
        formula = stated.formula or ("a function" if stated.function else "")
        if formula:
            what = "outcome" if stated.outcome else ""
            unit = stated.unit or ""
            formulas.append({"name": name, "formula": formula, "unit": unit, "what": what})
    return formulas
