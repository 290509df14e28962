"""What a page shows of searches: the points that were tried, the best of them, the way to a goal,
efficient decisions, and a sweep over one input.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from kindynos.formatting import brief, per_cent, spoken, times_shown, with_error, with_unit
from kindynos.inference.estimates import Estimate
from kindynos.reports.page.curves import Band, Curves, Line, Points, curves
from kindynos.studies.frontier import ModelFrontier
from kindynos.studies.goal import Goal
from kindynos.studies.optimum import Optimum
from kindynos.studies.sweep import Sweep


def of_optimum(optimum: Optimum) -> Iterator[Curves]:
    """Yield the objective at the points tried, over each decision."""
    share = optimum.unit is None and optimum.what.startswith("chance")
    scale = 100.0 if share else times_shown(optimum.unit)
    unit = "%" if share else optimum.unit
    frame: Any = optimum.evaluations.dropna(subset=[optimum.what])
    units = optimum.units or {}
    for name, best in optimum.decisions.items():
        parts: list[Any] = []
        if len(optimum.decisions) == 1:
            ordered = frame.sort_values(name)
            parts.append(Line(ordered[name], ordered[optimum.what], kind="second"))
        for allowed, kind, label in (
            (True, "faint", "tried"),
            (False, "plain", "breaks a constraint"),
        ):
            part = frame[frame["allowed"] == allowed]
            words = [
                f"{spoken(name)} {brief(x * times_shown(units.get(name)))}: {brief(y * scale)}"
                for x, y in zip(part[name], part[optimum.what], strict=True)
            ]
            if len(part):
                parts.append(Points(part[name], part[optimum.what], label, words, kind))
        parts.append(
            Points([float(best)], [float(optimum.objective)], "best, on fresh draws", kind="best")
        )
        axes = (with_unit(name, units.get(name)), with_unit(optimum.what, unit))
        aim = "Highest" if optimum.maximize else "Least"
        title = f"{aim} {spoken(optimum.what)} over {spoken(name)}"
        yield curves(title, parts, axes, units=(units.get(name), unit))


def of_goal(solved: Goal) -> Curves:
    """Return the statistic at the values tried, with the goal and the value that reaches it."""
    chance, frame = solved.what.startswith("chance"), solved.evaluations.sort_values("value")
    scale = 100.0 if chance else times_shown(solved.outcome_unit)
    aim = per_cent(solved.goal) if chance else brief(solved.goal * scale)
    own = times_shown(solved.unit)
    value, y = float(solved.value), frame["statistic"].to_numpy()
    reached = Estimate(value * own, solved.value.low * own, solved.value.high * own)
    error = frame["error"].fillna(0.0).to_numpy()
    ends = [float(frame["value"].min()), float(frame["value"].max())]
    parts: list[Any] = [
        Band(frame["value"], y - error, y + error, "95 % error"),
        Line(frame["value"], y, spoken(solved.what)),
        Line(ends, [solved.goal] * 2, f"goal {aim}", "goal"),
        Points(frame["value"], y),
        Points([value], [solved.goal], f"reached at {' '.join(with_error(reached))}", kind="best"),
    ]
    unit = "%" if chance else solved.outcome_unit
    return curves(
        f"Which {spoken(solved.name)} makes the {spoken(solved.what)} {aim}",
        parts,
        (with_unit(solved.name, solved.unit), with_unit(solved.what, unit)),
        units=(solved.unit, unit),
    )


def of_efficient(frontier: ModelFrontier) -> Curves:
    """Return the efficient decisions and those that they dominate."""
    across, up = frontier.against, frontier.what
    table, others = frontier.table, frontier.dominated
    words = [
        ", ".join(f"{spoken(name)} {brief(row[name])}" for name in frontier.decisions)
        for row in table.to_dict("records")
    ]
    parts: list[Any] = [
        Line(table[across], table[up], kind="first"),
        Points(table[across], table[up], "efficient", words),
    ]
    if len(others):
        parts.insert(0, Points(others[across], others[up], "dominated", kind="faint"))
    units = frontier.units
    return curves(
        "Efficient decisions: no other is better in one figure and as good in the other",
        parts,
        (with_unit(across, units[1]), with_unit(up, units[0])),
        units=(units[1], units[0]),
    )


def of_sweep(swept: Sweep) -> Iterator[Curves]:
    """Yield the curve of each output over one input that is a number; none of other sweeps."""
    table: Any = swept.table()
    if len(swept.inputs) != 1 or not np.issubdtype(table[swept.inputs[0]].dtype, np.number):
        return
    name = swept.inputs[0]
    table = table.sort_values(name)
    x = table[name].to_numpy(dtype=np.float64)
    for output in swept.outputs:
        y = table[output].to_numpy(dtype=np.float64)
        if not np.isfinite(y).any():
            continue  # such as the mean of what may never come: the answer says so
        parts: list[Any] = [Line(x, y), Points(x, y)]
        if swept.errors is not None:
            error = table[f"{output} error"].fillna(0.0).to_numpy()
            parts.insert(0, Band(x, y - error, y + error, "95 % error"))
        unit = swept.units.get(output)
        yield curves(
            f"{spoken(output)[:1].upper()}{spoken(output)[1:]} ({swept.statistic}) over "
            f"{spoken(name)}",
            parts,
            (with_unit(name, swept.units.get(name)), with_unit(output, unit)),
            units=(swept.units.get(name), unit),
        )
