"""Comparisons, sweeps, goals, drivers and single trials as a terminal shows them, and as plain data."""

from __future__ import annotations

import math
from typing import Any

import pandas as pd
from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from kindynos.reports.figures import brief, number, per_cent, shares, step_of
from kindynos.reports.text import table_of
from kindynos.results.comparison import Comparison
from kindynos.results.goal import Goal
from kindynos.results.run import Run
from kindynos.results.sweep import Sweep

SHOWN = ("base case", "mean", "sd", "P5", "P50", "P95")
MOST_ROWS = 60


def figure(value: float, error: float = math.nan, share: bool = False) -> str:
    """Return a value with its error, both at the digits the error leaves; as per cent where it is a share."""
    if share:
        return per_cent(value) + ("" if math.isnan(error) else f" ± {100 * error:.1f} %")
    step = step_of(error)
    if math.isnan(value) or step is None:
        return brief(value)
    return f"{number(value, step)} ± {number(error, step)}"


def comparison(compared: Comparison) -> Group:
    """Return for each outcome the scenarios side by side, the differences from the first, and what dominates what."""
    table, differences = compared.table(), compared.differences()
    parts: list[RenderableType] = []
    for outcome in compared.outcomes:
        rows = [s for s in table.loc[outcome].index if s in SHOWN or str(s).startswith("chance")]
        side = table_of(f"{outcome} by scenario", ("", "left"), *((name, "right") for name in compared.scenarios))
        chances = {name: _chances(table[name].loc[outcome]) for name in compared.scenarios}
        for statistic in rows:
            cells = [table.loc[(outcome, statistic), name] for name in compared.scenarios]
            texts = [chances[name].get(statistic) for name in compared.scenarios]
            side.add_row(str(statistic), *(t or figure(c["value"], c["error"]) for t, c in zip(texts, cells, strict=True)))
        parts += [side, "", _differences(compared, outcome, differences), ""]
        parts += [_dominance(compared, outcome), ""] if len(rows) > 2 else []
    paired = bool(differences["paired"].all())
    how = "trial by trial, on the same draws" if paired else "as independent samples where the draws are not the same"
    return Group(*parts, Text(f"Differences are taken {how}; their error is 95 %.", style="dim"))


def _chances(frame: pd.DataFrame) -> dict[Any, str]:
    """Return the chances of one scenario, which as printed add up to 100 % with the trials without a value."""
    frame = frame[[str(statistic).startswith("chance") for statistic in frame.index]].dropna(subset=["value"])
    values = frame["value"].tolist()
    texts = shares([*values, max(1 - sum(values), 0.0)]) if values else []
    errors = ["" if math.isnan(error) else f" ± {100 * error:.1f} %" for error in frame["error"]]
    return dict(zip(frame.index, map("".join, zip(texts, errors, strict=False)), strict=False))


def _differences(compared: Comparison, outcome: str, differences: pd.DataFrame) -> Table:
    first = compared.scenarios[0]
    others = compared.scenarios[1:]
    table = table_of(f"Difference from {first!r}", ("", "left"), *((name, "right") for name in others))
    frame = differences.loc[outcome]
    for statistic in frame.index.get_level_values("statistic").unique():
        share = str(statistic).startswith("higher")
        points = str(statistic).startswith("chance")
        cells = [frame.loc[(name, statistic)] if (name, statistic) in frame.index else None for name in others]
        table.add_row(str(statistic), *("" if c is None else _difference(c, share, points) for c in cells))
    return table


def _difference(cell: pd.Series, share: bool, points: bool) -> str:
    if points:
        return f"{100 * cell['difference']:+.1f} ± {100 * cell['error']:.1f} points"
    return figure(cell["difference"], cell["error"], share)


def _dominance(compared: Comparison, outcome: str) -> RenderableType:
    lines = []
    frame = compared.dominance(outcome)
    for one, other in frame.index:
        row = frame.loc[(one, other)]
        if row["first order"]:
            lines.append(f"{one} dominates {other}: at every value it has the larger chance of ending above (first order).")
        elif row["second order"]:
            lines.append(f"{one} dominates {other} for whoever shuns risk (second order).")
    return Text("\n".join(lines) if lines else "No scenario dominates another stochastically.", style="dim")


def sweep(swept: Sweep) -> Group:
    """Return a sweep: with two inputs a grid for each output, otherwise a row for each point."""
    parts: list[RenderableType] = []
    share = swept.statistic.startswith("chance")
    if len(swept.inputs) == 2 and swept.points.nunique().max() <= 12 and swept.errors is None:
        for output in swept.outputs:
            grid = swept.grid(output)
            columns = [(f"{grid.columns.name} {brief(float(value))}", "right") for value in grid.columns]
            table = table_of(f"{output}: {swept.statistic}", (str(grid.index.name), "right"), *columns)
            for value, line in zip(grid.index.to_numpy(dtype=float), grid.to_numpy(dtype=float), strict=True):
                table.add_row(brief(float(value)), *(figure(float(cell), share=share) for cell in line))
            parts += [table, ""]
        return Group(*parts)
    table = table_of(swept.statistic, *((name, "right") for name in [*swept.inputs, *swept.outputs]))
    for place in range(min(len(swept.points), MOST_ROWS)):
        inputs = [brief(float(value)) for value in swept.points.iloc[place]]
        errors = [math.nan] * len(swept.outputs) if swept.errors is None else swept.errors.iloc[place].tolist()
        cells = [figure(v, e, share) for v, e in zip(swept.values.iloc[place], errors, strict=True)]
        table.add_row(*inputs, *cells)
    left = len(swept.points) - MOST_ROWS
    note = [Text(f"{left:,} more points; --out writes them all.", style="dim")] if left > 0 else []
    return Group(table, *note)


def goal(found: Goal) -> Group:
    """Return what reaches the goal, and what was tried."""
    share = found.what.startswith("chance")
    table = table_of(f"Tried for {found.what}", (found.name, "right"), (found.what, "right"))
    for row in found.evaluations.to_dict("records"):
        table.add_row(brief(row["value"]), figure(row["statistic"], row["error"], share))
    unit = f" {found.unit}" if found.unit else ""
    aim = per_cent(found.goal) if share else number(found.goal)
    said = f"{found.name} = {figure(float(found.value), found.value.error)}{unit} makes the {found.what} {aim}."
    how = f"{found.trials:,} trials each, on the same draws, seed {found.seed}; the error is that of the sampling, 95 %."
    return Group(Text(said, style="bold"), "", table, Text(how, style="dim"))


def drivers(run: Run, outcome: str, method: str, frame: pd.DataFrame) -> Group:
    """Return the table of a method of sensitivity."""
    table = table_of(f"What drives {outcome}, by {method}", ("driver", "left"), *((str(c), "right") for c in frame.columns))
    closed = shares(frame["share of variance"].tolist()) if method in ("rank", "shapley") else []
    for place, (name, row) in enumerate(frame.iterrows()):
        cells = []
        for column in frame.columns:
            if column == "share of variance" and closed:
                cells.append(closed[place])
            elif column.startswith(("share", "first order", "total", "error of total")) or (method in ("sobol", "shapley")):
                cells.append(f"{100 * row[column]:.1f} %")
            elif column in ("rank correlation", "coefficient", "shift"):
                cells.append(f"{row[column]:+.3f}")
            else:
                cells.append(brief(float(f"{row[column]:.4g}")))
        table.add_row(str(name), *cells)
    facts = {key: value for key, value in frame.attrs.items() if isinstance(value, int | float)}
    said = "; ".join(f"{key} {brief(float(value))}" for key, value in facts.items())
    return Group(table, Text(f"{run.size:,} trials, seed {run.seed}" + (f"; {said}" if said else ""), style="dim"))
