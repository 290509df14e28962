"""Simulated prices as a terminal shows them: what was fitted, where the price may end, and
the error of the fit.
"""

from __future__ import annotations

import math
from functools import partial
from pathlib import Path as FilePath
from typing import Any

import numpy as np
import pandas as pd
from rich.text import Text

from kindynos.arrays import Floats
from kindynos.formatting import brief, number, per_cent, short, spoken, step_of
from kindynos.markets.outlook import ENDS, Outlook
from kindynos.markets.prices import Prices
from kindynos.processes.base import Process
from kindynos.reports.answers import opening, paths_answer
from kindynos.reports.page import of_fits
from kindynos.reports.page.view import charts_view
from kindynos.reports.prices import price_doubts, price_problems
from kindynos.reports.report import Draws, PeriodTrials, Report, only_files
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.tables.spacing import DateSpacing

MOST_DRAWN, MOST_PATHS = 120, 201  # periods and paths that a page has
MOST_ROWS = 25  # periods that a table has


def process_paths(process: Process, simulated: Floats, seed: int) -> Report:
    """Return simulated paths of a process: where they end, and percentiles by period."""
    table = path_table(simulated)
    last = table.iloc[-1]
    low, middle, high = (short(float(last[key])) for key in ("P5", "P50", "P95"))
    sentence = (
        f"After {len(simulated) - 1} periods {process.label} is {middle} in the middle and between "
        f"{low} and {high} on 90 % of {simulated.shape[1]:,} paths; it starts at "
        f"{short(float(simulated[0, 0]))}."
    )
    rows_table = table_of(
        "By period", "period", *(str(name) for name in table.columns), numbers_first=True
    )
    kept = np.unique(
        np.linspace(0, len(simulated) - 1, min(len(simulated), MOST_ROWS)).round().astype(int)
    )
    for period in kept.tolist():
        rows_table.add_row(str(period), *(brief(float(x)) for x in table.iloc[period]))
    return Report.of(
        [*opening([sentence]), rows_table, Text(f"{process!r}, seed {seed}.", style="dim")],
        kind="process-paths",
        facts=lambda: {"process": process.label, "seed": seed},
        tables=lambda: {"paths": table},
        rows=lambda: [path_rows(process.label, simulated)],
    )


def write_process(
    process: Process,
    path: str | FilePath,
    periods: int,
    trials: int = 2_000,
    seed: Seed = None,
    dt: float = 1.0,
) -> None:
    """Write a page of simulated paths; see Process.report."""
    from kindynos.reports.page.page import write_report

    selected = checked_seed(seed)
    simulated = process.paths(periods, trials, selected, dt)
    write_report(process_paths(process, simulated, selected), path)


def path_table(simulated: Floats) -> pd.DataFrame:
    """Return percentiles of simulated paths by period."""
    table = pd.DataFrame(np.percentile(simulated, ENDS, axis=1).T, columns=[f"P{q}" for q in ENDS])
    table.insert(0, "mean", simulated.mean(axis=1))
    table.index.name = "period"
    return table


def path_rows(name: str, simulated: Floats, unit: str = "period") -> PeriodTrials:
    """Return simulated paths as a page draws them, from the lowest end to the highest; of many
    periods some, so that the page stays small.
    """
    periods = len(simulated) - 1
    kept = np.unique(np.linspace(0, periods, min(periods, MOST_DRAWN) + 1).round().astype(np.int64))
    order = np.argsort(simulated[-1], kind="stable")
    order = order[np.linspace(0, len(order) - 1, min(len(order), MOST_PATHS)).astype(np.int64)]
    words = [
        f"path {number:,}: {brief(float(simulated[-1, number]))} at the end"
        for number in order.tolist()
    ]
    labels = [f"{unit} {k}" if k else "today" for k in kept.tolist()]
    return PeriodTrials(name, simulated[kept], labels, None, order.tolist(), words, "end")


def paths(
    name: str,
    process: Process,
    simulated: Floats,
    outlook: Outlook,
    history: int,
    seed: int,
    *,
    spacing: DateSpacing,
    prices: Prices | None = None,
    above: float | None = None,
    below: float | None = None,
) -> Report:
    """Return what was fitted, where the price may end, chances, and the drawdown to expect, with
    the error of the fit.
    """
    used = process.fitted.description if process.fitted else f"{history - 1} returns of the history"
    open_ = (
        f"The intervals include the error of a fit to {history:,} prices. "
        if outlook.intervals
        else ""
    )
    description = (
        f"{open_}The chances are {process.basis.replace('per unit of time', 'a year')}. "
        f"Fitted to {used}."
        f"{'' if prices is None else f' Prices: {prices.description}.'}"
    )

    def figures() -> Draws:
        from kindynos.plots import growth_against_drawdown, max_drawdowns, paths_fan

        draws = {"paths": partial(paths_fan, simulated, above=above, below=below, name=name)}
        if outlook.as_long is None:
            return draws
        return draws | {
            "drawdowns": partial(
                max_drawdowns, outlook.as_long, outlook.seen, periods=history - 1, unit=spacing.unit
            ),
            "growth": partial(growth_against_drawdown, simulated, spacing.per_year),
        }

    return Report.of(
        [
            *opening(
                paths_answer(
                    name, outlook, spacing.span(len(simulated) - 1), float(simulated[0, 0])
                ),
                price_doubts(prices),
            ),
            _fitted(name, process, history),
            "",
            _outlook_table(outlook, simulated, spacing, seed),
            Text(description, style="dim"),
            *price_problems(prices),
        ],
        kind="paths",
        facts=lambda: {
            "instrument": name,
            "seed": seed,
            "period": spacing.unit,
            "suspicious prices": [] if prices is None else prices.doubts,
            **_facts(process),
            **outlook.data(),
        },
        tables=lambda: only_files(paths=path_table(simulated)),
        rows=lambda: [path_rows(name, simulated, spacing.unit)],
        figures=figures,
        view=partial(_view, simulated, outlook),
    )


def _facts(process: Process) -> dict[str, Any]:
    """Return what the plain data say of a process and of its fit."""
    fit = process.fitted
    return {
        "process": process.label,
        "parameters": {key: value for key, value in process.parameters.items() if key != "returns"},
        "standard_errors": dict(fit.standard_errors) if fit else {},
        "description": fit.description if fit else "",
        "basis": process.basis,
    }


def _view(simulated: Floats, outlook: Outlook, report: Report) -> Any:
    """Return what a page shows of paths: their fan, and the drawdowns to expect."""
    charts: list[Any] = []
    if outlook.as_long is not None:
        falls = of_fits.of_drawdowns(simulated, outlook.as_long, outlook.seen)
        charts = list(falls)
    return charts_view(report, *charts)


def _outlook_table(
    outlook: Outlook, simulated: Floats, spacing: DateSpacing, seed: int
) -> FigureTable:
    """Return where the price may end, the chances and the drawdowns, with their intervals."""
    table = table_of(
        f"After {spacing.span(len(simulated) - 1)}, {simulated.shape[1]:,} paths, seed {seed}",
        "",
        "value",
        "95 % interval",
        Words(""),
    )
    table.add_row("today", brief(float(simulated[0, 0])), "", "")
    for row in outlook.rows():
        share = row["what"] in outlook.shares
        step = step_of((row["high"] - row["low"]) / 2)
        as_text = per_cent if share else partial(number, step=step) if step else brief
        label = (
            f"chance of {row['what']}"
            if row["what"].startswith(("ending", "ever"))
            else row["what"]
        )
        interval = (
            "" if math.isnan(row["low"]) else f"{as_text(row['low'])} to {as_text(row['high'])}"
        )
        table.add_row(label, as_text(row["value"]), interval, row.get("how", ""))
    if outlook.seen is not None and outlook.place is not None:
        note = f"percentile {outlook.place:.0f} of paths as long"
        table.add_row("maximum drawdown of the history", per_cent(outlook.seen), "", note)
    return table


def _labelled(key: str, values: tuple[Any, ...], errors: Any) -> dict[str, Any]:
    """Return several values of one parameter by the names that their errors have."""
    if f"{spoken(key)} 1" in errors:
        return {
            f"{spoken(key)} {position}": value for position, value in enumerate(values, start=1)
        }
    return {f"{key}[{position}]": value for position, value in enumerate(values)}


def _fitted(name: str, process: Process, history: int) -> Any:
    title = f"{name}: {process.label} fitted to {history:,} prices"
    fitted = table_of(title, "parameter", "value", "standard error")
    errors = process.fitted.standard_errors if process.fitted else {}
    for key, value in process.parameters.items():
        if key in ("returns", "start", "history", "exog") or value is None:
            continue
        if key == "effects":
            parts = {f"effect of {regressor}": effect for regressor, effect in value.items()}
        else:
            parts = _labelled(key, value, errors) if isinstance(value, tuple) else {key: value}
        for label, description in parts.items():
            text = str(description) if isinstance(description, bool | str) else f"{description:.4g}"
            error = errors.get(label, math.nan)
            fitted.add_row(
                label,
                text,
                "" if math.isnan(error) else "unknown" if math.isinf(error) else f"{error:.2g}",
            )
    return fitted
