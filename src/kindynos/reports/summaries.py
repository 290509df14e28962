"""A run of which summaries are kept, as a terminal shows it."""

from __future__ import annotations

import math
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import is_per_cent, per_cent, share_decimals, with_error
from kindynos.inference.estimates import Estimate
from kindynos.reports.answers import amount, opening
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_rows
from kindynos.reports.tables import FigureTable, table_of
from kindynos.results.summary_run import SummaryRun


def summarized(run: SummaryRun) -> Report:
    """Return the figures of all outcomes with their errors, and how the run was made."""
    table = run.table()
    parts: list[RenderableType] = opening([_sentence(run, name) for name in run.outcomes[:2]])
    for name in run.outcomes:
        parts += [_outcome(run, name, table.loc[name]), ""]
    facts = run.facts()
    how = (
        f"{run.size:,} trials, {facts['sampling']} plan, seed {run.seed}; no trials are held. The "
        "percentiles and their intervals are those of all trials."
    )
    parts.append(Text(how, style="dim"))
    return Report.of(
        parts,
        kind="summary",
        data=lambda: {**facts, "figures": plain_rows(table)},
        frames=lambda: {"figures": table},
    )


def _sentence(run: SummaryRun, name: str) -> str:
    result = run[name]
    subject = name.replace("_", " ")
    subject = f"{subject[:1].upper()}{subject[1:]}"
    said = f"{subject} is {amount(result.mean, result.unit)} on average"
    if not math.isfinite(float(result.mean)):
        said = f"{subject} has a median of {amount(result.median, result.unit)}"
    if result.target is None:
        return f"{said}."
    side = "below" if result.better == "high" else "above"
    chance = result.chance(**{side: result.target})
    target = amount(Estimate(result.target), result.unit)
    return f"{said}; with a chance of {_share(chance)} it is {side} {target}."


def _share(chance: Estimate) -> str:
    decimals = share_decimals([chance.error])
    error = f" (± {100 * chance.error:.{decimals}f})" if chance.error > 0 else ""
    return f"{per_cent(float(chance), decimals)}{error}"


def _outcome(run: SummaryRun, name: str, figures: Any) -> FigureTable:
    result = run[name]
    unit = f", {result.unit}" if result.unit else ""
    table = table_of(f"{name}{unit}", "", "value", "95 % error")
    times = 100.0 if is_per_cent(result.unit) else 1.0
    bad = "chance below" if result.better == "high" else "chance above"
    for word, row in figures.iterrows():
        if str(word).startswith("chance"):
            share = Estimate(row["value"], row["low"], row["high"])
            decimals = share_decimals([share.error])
            cells = [per_cent(float(share), decimals), f"± {100 * share.error:.{decimals}f} %"]
        else:
            ends = (times * row[key] for key in ("value", "low", "high"))
            cells = [*with_error(Estimate(*ends))]
        table.add_row(str(word), *cells, hurts=str(word).startswith(bad))
    return table
