"""Runs and checks as a terminal shows them."""

from __future__ import annotations

import errno
import math
from collections.abc import Iterable, Sequence
from dataclasses import fields, replace
from functools import partial
from typing import Any, TypeVar

import numpy as np
import pandas as pd
from rich.console import Console, Group, RenderableType
from rich.text import Text

from kindynos.cohorts.cohort import Cohort
from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import parameter_names
from kindynos.formatting import (
    brief,
    is_per_cent,
    number,
    per_cent,
    share_decimals,
    shares,
    step_of,
    times_shown,
    with_error,
)
from kindynos.inference.estimates import Estimate
from kindynos.model.review import Finding, review
from kindynos.processes.base import Process
from kindynos.processes.documentation import PARAMETERS
from kindynos.processes.registry import PROCESSES
from kindynos.processes.series import InPeriods
from kindynos.program.program import Program
from kindynos.program.quantities import DependentDriver, DistributionDriver, Driver, ProcessDriver
from kindynos.reports import lumps
from kindynos.reports.answers import answer
from kindynos.reports.contributions import register, with_correlations
from kindynos.reports.report import Draw, Report
from kindynos.reports.run_tables import run_tables
from kindynos.reports.summary import summary
from kindynos.reports.tables import DOUBT, FigureTable, Trimmed, Words, table_of
from kindynos.results.result import Result, RowResult
from kindynos.results.risk_register import risks_of
from kindynos.results.run import Run
from kindynos.results.sensitivity.methods import usual_method
from kindynos.results.sheet import DEFAULT, PERCENTILES, TableSpec, reported_figures
from kindynos.sampling.plans import PLANS

TRIED = 4_000  # trials for the figures of drivers that are simulated
WORDS = {
    "sd": "standard deviation",
    "base case percentile": "base case's percentile",
    "lowest": "lowest trial",
    "highest": "highest trial",
}


MOST_CORRELATIONS = 6  # that are told one by one
MOST_ACROSS = 12  # states that are columns of a table


Shown = TypeVar("Shown", Result, RowResult)


class _Terminal(Console):
    def on_broken_pipe(self) -> None:
        """Leave it to the command line what a reader who has gone means."""
        raise BrokenPipeError(errno.EPIPE, "the reader of the output has gone")

    def print(self, *parts: Any, **_: Any) -> None:
        """Print parts below each other, without blanks at the ends of lines."""
        super().print(
            Trimmed([self.render_str(part) if isinstance(part, str) else part for part in parts]),
            end="",
        )


def console(width: int | None = None) -> Console:
    """Return the console for standard output; where that is not a terminal plain text, as wide as
    COLUMNS says.

    Without COLUMNS it is as wide as the terminal that has the error output, to which a pipe may
    lead, or else as given.
    """
    from os import environ, get_terminal_size
    from sys import stderr, stdout

    wide: int | None = None
    if not stdout.isatty() and not environ.get("COLUMNS", "").isdigit():
        try:
            wide = get_terminal_size(stderr.fileno()).columns
        except (OSError, ValueError):
            wide = width or 110
    return _Terminal(highlight=False, soft_wrap=False, width=wide)


def run(run: Run, asked: TableSpec = DEFAULT) -> Report:
    """Return all outcomes of a run, their drivers, and how it was made."""
    said = answer(run)
    parts: list[RenderableType] = [Text(" ".join(said), style="bold"), ""] if said else []
    plan = run.facts()["sampling"]
    parts.append(Text(f"{run.name}: {run.size:,} trials, {plan} plan, seed {run.seed}"))
    for name in run.outcomes:
        about: list[RenderableType] = [_reported(run, name, asked)]
        if not run[name].is_row and run.drivers:
            about.append(_ranking(run, name))
            about += [register(run, name)] if risks_of(run, name) else []
        for part in about:
            tables_of(part)[0].about = name
            parts += ["", part]
    parts += ["", conditions_table(run, asked.conditions)] if asked.conditions else []
    parts += ["", *_closing(run)]
    return Report.of(
        parts,
        kind="run",
        data=partial(summary, run, asked),
        frames=partial(run_tables, run, asked),
        figures=partial(_pictures, run),
        result=run,
    )


def tables_of(part: Any) -> list[FigureTable]:
    """Return the tables of a part of a report."""
    inside = part.renderables if isinstance(part, Group) else [part]
    return [one for one in inside if isinstance(one, FigureTable)]


def conditions_table(run: Run, conditions: Sequence[str]) -> FigureTable:
    """Return the chances of conditions on several quantities."""
    table = table_of("Chances", "condition", "chance", "95 % error", Words(""))
    for condition in conditions:
        chance = run.chance(condition)
        low, high = 100 * chance.low, 100 * chance.high
        interval = f"95 % interval {low:.1f} to {high:.1f} %" if chance.error > 0 else ""
        table.add_row(condition, *_share(chance), interval)
    return table


def _pictures(run: Run) -> dict[str, Draw]:
    """Return what draws each outcome, its drivers, and each row that was kept."""
    from kindynos.plots import distribution, fan, sensitivity

    pictures: dict[str, Draw] = {}
    for name in run.outcomes:
        if not np.isfinite(run[name].values).any():
            continue  # its table says so
        pictures[name] = partial(fan if run[name].is_row else distribution, run[name])
        if not run[name].is_row and run.drivers:
            pictures[f"{name}-drivers"] = partial(sensitivity, run, name)
    for name in run.kept:
        if run[name].is_row and name not in run.outcomes:
            pictures[name] = partial(fan, run[name])
    return pictures


def _title(result: Result | RowResult) -> str:
    unit = f", {result.unit}" if result.unit else ""
    target = f", target {number(result.target)}" if result.target is not None else ""
    return f"{result.name}{unit}{target}"


def _condition(run: Run, name: str, asked: TableSpec) -> FigureTable:
    """Return the chance of an outcome that is true or false."""
    result = run[name]
    table = table_of(f"{name}, true or false", "", "chance", "95 % error", Words(""))
    chance = result.chance(above=0.5)
    interval = f"95 % interval {100 * chance.low:.1f} to {100 * chance.high:.1f} %"
    table.add_row("true", *_share(chance), interval if chance.error > 0 else "")
    if result.base is not None and result.base == result.base:
        table.add_row("base case", "true" if result.base else "false")
    for word, figure in asked.figures(result):
        table.add_row(word, *with_error(figure), figure.note)
    if result.n_failed:
        lacking = f"{result.n_failed:,} trials"
        table.add_row("without a value", per_cent(result.n_failed / result.size), "", lacking)
    return table


def _reported(run: Run, name: str, asked: TableSpec) -> FigureTable:
    """Return the table of an outcome: of a row by period, of a condition its chance."""
    if run[name].is_row:
        return _row_table(run, name, asked)
    if lumps.is_condition(run, name):
        return _condition(run, name, asked)
    return _outcome(run, name, asked)


def as_shown(result: Shown) -> Shown:
    """Return a quantity as it is printed: of per cent the fractions times 100."""
    return result.in_per_cent() if is_per_cent(result.unit) else result


def _outcome(run: Run, name: str, asked: TableSpec) -> FigureTable:
    result = as_shown(run[name])
    table = table_of(_title(result), "", "value", "95 % error", Words(""))
    step = step_of(result.mean.error)
    figures, more = (
        reported_figures(result, replace(asked, statistics=(), chances={})),
        asked.figures(result),
    )
    labels, endless = lumps.period_labels(run, name), lumps.never(result)
    for word, figure in figures:
        if word == "mean" and endless is not None:
            awaited = lumps.may_be_never(run, name)
            what = "chance of never" if awaited else "trials that are infinite"
            table.add_row(what, *_share(endless[0]), "the mean is infinite")
            table.add_row(
                "mean where it happens" if awaited else "mean of the others",
                *with_error(endless[1]),
            )
        elif not word.startswith("chance") and not (word == "sd" and endless is not None):
            value, error = _figure(word, figure, step, lumps.is_count(result))
            percentile = word == "base case percentile"
            if endless is not None and lumps.may_be_never(run, name):
                value = value.replace("infinite", "never")
            shown = value if percentile else lumps.labelled(value, float(figure), labels)
            table.add_row(WORDS.get(word, word), shown, error, _remark(word, figure, result))
    lump = lumps.lump_of(result)
    if lump is not None and lump[0] != result.target:
        table.add_row(
            f"chance of exactly {lumps.labelled(brief(lump[0]), lump[0], labels)}",
            *_share(lump[1]),
            "many trials share it",
        )
    bad = "chance below" if result.better == "high" else "chance above"
    for row in _chances(
        result, [(word, figure) for word, figure in figures if word.startswith("chance")]
    ):
        table.add_row(*row, hurts=row[0].startswith(bad))
    for word, figure in more:
        table.add_row(
            word.replace("_", " "),
            *(_share(figure) if word.startswith("chance") else with_error(figure)),
            figure.note,
        )
    if result.n_failed:
        table.add_row(
            "without a value",
            f"{result.n_failed:,}",
            "",
            f"{per_cent(result.n_failed / result.size)} of the trials; "
            f"{ranking_of_missing(result)}",
        )
    for text, count in run.notes(name).items():
        table.add_row(text, f"{count:,}", "", f"of {result.size:,} trials")
    return table


def ranking_of_missing(result: Result) -> str:
    """Return how the trials without a value are counted in an outcome's figures."""
    if result.missing is None:
        return "figures are of the others, chances of all"
    if isinstance(result.missing, str):
        return f"they rank as the {result.missing}; mean and sd are of the others"
    return f"they count as {number(float(result.missing))}"


def _figure(
    word: str, figure: Estimate, step: float | None, counts: bool = False
) -> tuple[str, str]:
    """Return a statistic and its error; percentiles of a count are whole numbers."""
    whole = float(figure).is_integer() or word != "base case"
    if counts and whole and word not in ("mean", "sd", "base case percentile"):
        error = f"± {math.ceil(figure.error):,}" if 0 < figure.error < math.inf else ""
        return f"{float(figure):,.0f}", error
    if word in ("base case", "lowest", "highest"):
        return number(float(figure), step), ""
    return with_error(figure)


def _share(chance: Estimate) -> tuple[str, str]:
    decimals = share_decimals([chance.error])
    error = f"± {100 * chance.error:.{decimals}f} %" if chance.error == chance.error else ""
    return f"{100 * chance:.{decimals}f} %", error


def _remark(word: str, figure: Estimate, result: Result) -> str:
    if word == "base case percentile" and result.base != result.base:
        return "the base case has no value"
    if word in ("base case percentile", "P5"):
        return lumps.below_and_at(result, float(result.base if word != "P5" else figure))
    remarks = {
        "lowest": f"{figure.note}, not the worst possible",
        "highest": f"{figure.note}, not the best possible",
    }
    return remarks.get(word, figure.note)


def _chances(result: Result, found: list[tuple[str, Estimate]]) -> list[tuple[str, str, str, str]]:
    """Return the chances on either side of the target; as printed they add up to 100 %, with the
    failed trials.
    """
    if not found:
        return []
    failed = result.n_failed / result.size
    decimals = share_decimals([chance.error for _, chance in found])
    texts = shares([*[float(chance) for _, chance in found], failed], decimals)
    rows = []
    for (word, chance), text in zip(found, texts, strict=False):
        known = not math.isnan(chance.error)
        error = f"± {100 * chance.error:.{decimals}f} %" if known else ""
        remark = (
            f"95 % interval {100 * chance.low:.{decimals}f} to {100 * chance.high:.{decimals}f} %"
            if known
            else ""
        )
        side = word.rpartition(" ")[0]
        rows.append((f"{side} {number(result.target or 0.0)}", text, error, remark))
    if failed:
        rows.append(("chance of no value", texts[-1], "", ""))
    return rows


def _row_table(run: Run, name: str, asked: TableSpec) -> FigureTable:
    result = as_shown(run.row(name))
    levels = (5.0, 50.0, 95.0) if asked.percentiles == DEFAULT.percentiles else asked.percentiles
    words = ("base", "mean", "95 % error", *(f"P{level:g}" for level in levels))
    table = table_of(_title(result), "period", *(word for word in words))
    percentiles = result.percentile(levels)
    for period, label in enumerate(result.labels):
        mean = result.mean[period]
        step = step_of(mean.error)
        figures = [with_error(row[period])[0] for row in percentiles]
        base = result.base[period]
        table.add_row(label, number(float(base), step), *with_error(mean), *figures)
    return table


def _ranking(run: Run, name: str) -> Group:
    frame = run.sensitivity(name)
    if usual_method(run) == "contributions":
        return with_correlations(run, name, frame)
    table = table_of(
        f"What moves {name}",
        "driver",
        "rank correlation",
        "95 % error",
        "first-order share of variance",
        "95 % error",
    )
    for driver, row in frame.iterrows():
        correlation = f"± {row['error']:.3f}" if row["error"] == row["error"] else ""
        table.add_row(
            str(driver), f"{row['rank correlation']:+.3f}", correlation, *_share(alone_share(row))
        )
    return Group(table, Text(ranking_remark(frame, run[name]), style="dim"))


def alone_share(row: pd.Series) -> Estimate:
    """Return a first-order share of a ranking with its error; an estimate below 0 stands for none,
    and one above 1 for all.
    """
    value, error = min(max(row["first-order share"], 0.0), 1.0), row["error of share"]
    return Estimate(value, value - error, value + error)


def ranking_remark(frame: pd.DataFrame, result: Result) -> str:
    """Return what the shares of a ranking leave, or that they overlap, and which trials they are
    of.
    """
    if result.n_failed:
        lacking = per_cent(result.n_failed / result.size)
        decided = frame.attrs.get("decides a value")
        most = "" if decided is None else f"; whether there is one is decided most by {decided}"
        return f"{lacking} of the trials have no value{most}. The shares are of the others."
    if float(result.sd) == 0:
        return "It is the same in every trial, so that nothing moves it."
    if frame.attrs["correlated"]:
        return (
            "Some drivers move together, so their shares overlap; contributions and shapley divide "
            "the variance among them."
        )
    rest, error = frame.attrs["interaction"], frame.attrs["error of interaction"]
    alone = "A share is what a driver explains alone"
    if rest > error:
        return (
            f"{alone}; {100 * rest:.1f} % ± {100 * error:.1f} is left for interaction between them."
        )
    if error != error:
        return f"{alone}."
    return f"{alone}; no interaction between drivers can be told from the errors of the shares."


def _closing(run: Run) -> list[RenderableType]:
    return [Text(line, style="dim") for line in [*made_lines(run), *advice_lines(run)]]


def made_lines(run: Run) -> list[str]:
    """Return how a run was made: what its errors are, what is assumed, reached and repaired."""
    facts = run.facts()
    lines = [
        "The 95 % error is how far a figure may be off because trials are drawn at random: "
        "more trials shrink the error, and the risk stays."
    ]
    if run.size < 200:
        lines = [
            f"{run.size} trials are too few to say how far off these figures are: at least 200 "
            "are needed."
        ]
    lines += [f"Rounded up {facts['rounded up']}."] if facts["rounded up"] else []
    lines += [f"Partial: {facts['partial']}."] if facts["partial"] else []
    lines += [f"Carried out as {facts['processes']}."] if facts["processes"] else []
    lines += [f"{aim}: {met}." for aim, met in facts["aims"].items()]
    lines += _correlations(facts["correlations"])
    lines += [
        f"Repaired, since the correlations asked for cannot hold together: {text}."
        for text in facts["repaired"]
    ]
    lines += [f"Assumed independent: {text}." for text in facts["assumed independent"]]
    lines += [
        f"{name} has no value in some trials; the first is {text}."
        for name, text in facts["first failed"].items()
    ]
    return lines


def advice_lines(run: Run) -> list[str]:
    """Return what the maker of a model should look at."""
    return [
        f"Look at {found.name}: {found.text}{'' if found.text.endswith('?') else '.'}"
        for found in review(run.program)
        if found.name not in ("dependence", "sources")
    ]


def _correlations(rows: list[dict[str, Any]]) -> list[str]:
    """Return what was reached of each correlation, or of many how far off the worst is."""

    def is_stated(row: dict[str, Any]) -> bool:
        return row["requested"] is not None and row["requested"] == row["requested"]

    def what(row: dict[str, Any]) -> str:
        requested = f", asked {row['requested']:g}" if is_stated(row) else ""
        return (
            f"{row['first']} with {row['second']}: {row['kind']} correlation {row['reached']:.3f} "
            f"reached{requested} ({row['copula']} copula)."
        )

    stated = [row for row in rows if is_stated(row)]
    if len(rows) <= MOST_CORRELATIONS or not stated:
        return [what(row) for row in rows[:MOST_CORRELATIONS]]
    worst = max(stated, key=lambda row: abs(row["reached"] - row["requested"]))
    gap = abs(worst["reached"] - worst["requested"])
    return [
        f"Of {len(rows):,} correlations each was reached to within {gap:.3f}; the worst is "
        f"{what(worst)} All are in correlations.csv with --out."
    ]


def sheet_table(
    title: str, frame: pd.DataFrame, units: dict[str, str | None], whole: bool = False
) -> FigureTable:
    """Return a sheet of one case; of many periods the first ones and the last, unless it is to be
    whole.
    """
    labels = list(frame.columns[1:])
    shown = labels if len(labels) <= 6 or whole else [*labels[:4], labels[-1]]
    columns = [str(label) for label in shown]
    if len(shown) < len(labels):
        columns.insert(4, "...")
    if len(shown) < len(labels):
        title += f"; {len(shown)} of {len(labels)} periods, --whole shows all"
    has_numbers = bool(frame["value"].notna().any())
    numbers = ["value"] if has_numbers else []
    table = table_of(title, "quantity", Words("unit"), *numbers, *columns)
    for name, row in frame.iterrows():
        scale = times_shown(units.get(str(name)))
        cells = [
            brief(scale * float(row[label])) if row[label] == row[label] else "" for label in shown
        ]
        if len(shown) < len(labels):
            cells.insert(4, "..." if cells[0] else "")
        value = [
            brief(scale * float(row["value"]))
            if row["value"] == row["value"]
            else ""
            if any(cells)
            else "-"
        ]
        table.add_row(
            str(name), units.get(str(name)) or "", *(value if has_numbers else []), *cells
        )
    return table


def drivers_table(program: Program) -> FigureTable:
    """Return each driver's distribution in words: parameters, mean, percentiles, the chance of
    being negative, and its source.
    """
    based = any(driver.base is not None for driver in program.drivers.values())
    columns = [
        Words("driver"),
        Words("unit"),
        Words("distribution"),
        Words("each"),
        *(["base"] if based else []),
        "mean",
    ]
    more = ["P5", "P50", "P95", "below 0", Words("source")]
    table = table_of("Drivers", *columns, *more, numbers_first=True)
    for name, driver in program.drivers.items():
        if not isinstance(driver, DistributionDriver):
            stated: object
            stated, each = (
                (driver.distribution, driver.each or "trial")
                if isinstance(driver, DependentDriver)
                else ("", "")
            )
            if isinstance(driver, ProcessDriver):
                stated, each = driver.process, _step(program, driver)
            ends = _ends(program, driver, based)
            unit = driver.unit or ""
            table.add_row(name, unit, repr(stated), each, *ends, driver.source or "-")
            continue
        distribution = driver.distribution
        figures = [
            *([driver.base_value(0)] if based else []),
            distribution.mean,
            *(float(distribution.percentile(q)) for q in (5, 50, 95)),
        ]
        below = distribution.chance(below=0)
        scale = times_shown(driver.unit)
        table.add_row(
            name,
            driver.unit or "",
            repr(distribution),
            driver.each or "trial",
            *(brief(scale * figure) for figure in figures),
            per_cent(below) if below > 0 else "never",
            driver.source or "-",
        )
    return table


def _step(program: Program, driver: ProcessDriver) -> str:
    """Return how long a period of the model is in a process's unit of time."""
    every = program.timeline.every
    return every if isinstance(driver.process, InPeriods) else f"{every}, dt {driver.dt:g}"


def _ends(program: Program, driver: Driver, based: bool) -> list[str]:
    """Return what a driver that is simulated may be, a row after the last period, as the columns of
    the drivers' table.
    """
    if program.recorded:
        return ["-"] * (6 if based else 5)
    drawn = program.draw(PLANS["random"], 0, {0: TRIED}, program.ancestors([driver.name]))
    ends = np.atleast_2d(program.evaluate(drawn, TRIED, [driver.name])[0][driver.name])[-1]
    base = (
        [
            float(
                np.atleast_2d(
                    program.evaluate(program.base_values(), 1, [driver.name])[0][driver.name]
                )[-1, 0]
            )
        ]
        if based
        else []
    )
    below = float((ends < 0).mean())
    figures = [*base, float(ends.mean()), *np.percentile(ends, [5, 50, 95]).tolist()]
    scale = times_shown(driver.unit)
    shown = [brief(scale * figure) for figure in figures]
    return [*shown, per_cent(below) if below > 0 else "never"]


def cohort_table(name: str, cohort: Cohort) -> FigureTable:
    """Return a cohort's start and the chances of its moves in a period, from the states down to
    those across; of many states each one's ways out.
    """
    if len(cohort.states) > MOST_ACROSS:
        return _ways_table(name, cohort)
    table = table_of(
        f"Cohort {name}: chances a period", "from", "start", *(f"to {s}" for s in cohort.states)
    )
    rows: Any = cohort.transition if cohort.periods is None else cohort.transition[0]
    for state, row in zip(cohort.states, rows, strict=True):
        cells = ["" if entry == 0 else _chance(entry) for entry in row]
        table.add_row(state, number(cohort.start.get(state, 0.0)), *cells)
    return table


def _chance(entry: Any) -> str:
    return entry if isinstance(entry, str) else per_cent(entry)


def _ways_table(name: str, cohort: Cohort) -> FigureTable:
    table = table_of(f"Cohort {name}: chances a period", "from", "start", "stays", Words("goes to"))
    rows: Any = cohort.transition if cohort.periods is None else cohort.transition[0]
    for i, (state, row) in enumerate(zip(cohort.states, rows, strict=True)):
        ways = [j for j, entry in enumerate(row) if j != i and entry != 0]
        words = [f"{cohort.states[j]} {_chance(row[j])}" for j in ways[:MOST_ACROSS]]
        if len(ways) > MOST_ACROSS:
            words.append(f"and {len(ways) - MOST_ACROSS} more")
        table.add_row(
            state, number(cohort.start.get(state, 0.0)), _chance(row[i]), ", ".join(words)
        )
    return table


def givens_table(program: Program) -> FigureTable:
    """Return the given figures with unit and source."""
    table = table_of("Given", "figure", "value", Words("unit"), Words("source"))
    for name, given in program.givens.items():
        value = given.value
        word = "pairs" if given.shape.table else "periods"
        scale = times_shown(given.unit)
        shown = f"{len(value)} {word}" if isinstance(value, tuple) else number(scale * value)
        if given.convert and not isinstance(value, tuple):
            every = program.timeline.every
            shown += f", used as {scale * float(program.constants[name]):.4g} a {every}"
        table.add_row(name, shown, given.unit or "", given.source or "-")
    return table


def catalogue() -> FigureTable:
    """Return the distributions by name, with their parameters and what each is good for."""
    table = table_of("Distributions", "name", Words("parameters"), Words("good for"))
    for name, distribution in CATALOGUE.items():
        table.add_row(name, ", ".join(parameter_names(distribution)), distribution.use)
    return table


def processes() -> FigureTable:
    """Return the processes by name, with their parameters and what each is good for."""
    table = table_of(
        "Processes, for drivers that are a series", "name", Words("parameters"), Words("good for")
    )
    for name, process in PROCESSES.items():
        table.add_row(name, ", ".join(process_parameters(process)), process.use)
    return table


def process_parameters(process: type[Process]) -> list[str]:
    """Return the names of a process's parameters, as a model file states them."""
    kind: Any = process  # every process is a dataclass, which the base class cannot say
    return [field.name for field in fields(kind) if not field.kw_only]


def about_process(process: type[Process]) -> list[RenderableType]:
    """Return what a process's documentation says, its parameters, and how a model file states
    it.
    """
    head = f"{process.label}\n{process.about.replace('``', '')}\n\nGood for: {process.use}."
    table = table_of("Parameters", "", Words(""))
    names = process_parameters(process)
    for name in names:
        table.add_row(name, PARAMETERS.get(name, ""))
    time = (
        "Each period of the model is one of its periods."
        if issubclass(process, InPeriods)
        else "Drift, volatility, speed and rates are per unit of time, and a period of the model "
        "is dt of these units long, by default 1: in a monthly model, figures a year go with "
        "dt = 0.0833333."
    )
    keys = "\n".join(f"{name} = ..." for name in names)
    return [
        Text(head),
        "",
        table,
        "",
        Text(time),
        "",
        Text(f'In a model file:\n\n[drivers.NAME]\nprocess = "{process.label}"\n{keys}'),
    ]


def about_distribution(distribution: type[Distribution]) -> Text:
    """Return what a distribution's documentation says, and how a model file states it."""
    description = distribution.about.replace("``", "")
    keys = "\n".join(f"{name} = ..." for name in parameter_names(distribution))
    head = f"{distribution.label}\n{description}\n\nGood for: {distribution.use}."
    return Text(
        f"{head}\n\nIn a model file:\n\n[drivers.NAME]\ndistribution = "
        f'"{distribution.label}"\n{keys}'
    )


def distribution_figures(distribution: Distribution, mark: float | None) -> FigureTable:
    """Return a distribution's mean, sd, skewness, support, percentiles, and the chances on either
    side of a mark.
    """
    table = table_of(repr(distribution), "", "value")
    for word, value in (
        ("mean", distribution.mean),
        ("standard deviation", distribution.sd),
        ("skewness", distribution.skewness),
    ):
        table.add_row(word, "does not exist" if math.isnan(value) else brief(value))
    for word, end in zip(
        ("lowest possible", "highest possible"), distribution.support, strict=True
    ):
        table.add_row(word, brief(end) if math.isfinite(end) else "no limit")
    for q in PERCENTILES:
        table.add_row(f"P{q}", brief(float(distribution.percentile(q))))
    if mark is not None:
        chances = (
            distribution.chance(below=mark),
            distribution.chance(at=mark),
            distribution.chance(above=mark),
        )
        for word, share in zip(("below", "at", "above"), shares(list(chances), 2), strict=True):
            table.add_row(f"chance {word} {brief(mark)}", share)
    return table


def findings(found: Iterable[Finding]) -> Group:
    """Return what looks wrong, or that nothing does."""
    lines = [
        Text.assemble((f"look at {finding.name}", f"bold {DOUBT}"), f": {finding.text}")
        for finding in found
    ]
    return Group(*(lines or [Text("Nothing looks wrong.")]))
