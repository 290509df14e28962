"""A run that keeps summaries, as a terminal shows it."""

from __future__ import annotations

from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import shown
from kindynos.reports.answers import MOST_OUTCOMES, asked_sentences, opening, value_sentence
from kindynos.reports.report import Report
from kindynos.reports.runs import doubt_lines, label, title_of
from kindynos.reports.tables import DOUBT, FigureTable, Words, table_of
from kindynos.results.figures import DEFAULT, TableSpec, outcome_table, reported_figures
from kindynos.results.summary_run import SummaryRun


def summarized(run: SummaryRun, asked: TableSpec = DEFAULT) -> Report:
    """Return the figures of all outcomes with their errors, and how the run was made."""
    table = outcome_table(run, asked)
    sentences = [value_sentence(run[name]) for name in run.outcomes[:MOST_OUTCOMES]]
    held = run.checks()
    broken = [
        f"The condition {name} is broken in {row['broken in']:,} of {run.size:,} trials "
        f"({100 * row['share']:.2g} %), first in trial {row['first trial']:,}."
        for name, row in held.iterrows()
        if row["broken in"]
    ]
    parts: list[RenderableType] = [Text(line, style=DOUBT) for line in broken]
    doubts = [Text(line, style=DOUBT) for line in doubt_lines(run.program)]
    parts += opening(sentences + asked_sentences(run, asked, run.outcomes), doubts)
    for name in run.outcomes:
        parts += [_outcome(run, name, asked), ""]
    facts = run.facts()
    how = (
        f"{run.size:,} trials, {facts['sampling']} plan, seed {run.seed}; no trials are held. The "
        "percentiles and their intervals are those of all trials."
    )
    parts.append(Text(how, style="dim"))
    tables = {"figures": table, **({"checks": held} if len(held) else {})}
    return Report.of(
        parts, kind="summary", heading=run.name, facts=lambda: facts, tables=lambda: tables
    )


def _outcome(run: SummaryRun, name: str, asked: TableSpec) -> FigureTable:
    result = run[name]
    table = table_of(title_of(result), "", "value", "95 % error", Words(""))
    bad = "chance below" if result.better == "high" else "chance above"
    for figure in reported_figures(result, asked):
        cells = shown(figure.estimate, figure.kind, result.unit)
        words, note = label(figure, result.unit), figure.estimate.note
        table.add_row(words, *cells, note, hurts=words.startswith(bad))
    if result.n_failed:
        table.add_row("without a value", f"{result.n_failed:,}", "", f"of {result.size:,} trials")
    return table
