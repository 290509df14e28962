"""What a model states, as tables: given figures, drivers, cohorts and sheets of a case."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
import pandas as pd
from rich.console import Group
from rich.text import Text

from kindynos.cohorts.cohort import Cohort
from kindynos.distributions.base import Distribution
from kindynos.distributions.from_data import Empirical
from kindynos.formatting import (
    TITLES,
    brief,
    in_unit,
    is_time,
    number,
    per_cent,
    point_in_time,
    spoken,
)
from kindynos.model.review import Finding
from kindynos.processes.series import InPeriods
from kindynos.program.program import Program
from kindynos.program.quantities import DependentDriver, DistributionDriver, Driver, ProcessDriver
from kindynos.reports.tables import DOUBT, FigureTable, Words, table_of
from kindynos.sampling.plans import PLANS
from kindynos.tables.table import counted

LEAST_TRIALS = 2  # of an end that has a closed form, where none are needed
TRIED = 4_000  # trials for the figures of drivers that are simulated
MOST_ACROSS = 12  # states that are columns of a table


def givens_table(program: Program) -> FigureTable:
    """Return the given figures with unit and source."""
    table = table_of("Given", "figure", "value", Words("unit"), Words("source"))
    for name, given in program.givens.items():
        value = given.value
        label = "pairs" if given.shape.table else "periods"
        if isinstance(value, tuple):
            shown = f"{len(value)} {label}"
        else:
            shown = str(number(in_unit(value, given.unit)))
            if given.convert:
                used = in_unit(float(program.constants[name]), given.unit)
                shown += f", used as {used:.4g} a {program.timeline.every}"
        called = f"{spoken(name)} ({name})" if name in TITLES.get() else name
        table.add_row(called, shown, given.unit or "", given.source or "-")
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
    for name in program.drivers:
        driver = program.shown_driver(name)
        if driver is None:
            continue  # it says nothing but that something is drawn
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
        table.add_row(
            name,
            driver.unit or "",
            repr(distribution),
            driver.each or "trial",
            *(brief(in_unit(figure, driver.unit)) for figure in figures),
            per_cent(below) if below > 0 else "never",
            driver.source or "-",
        )
    return table


def _step(program: Program, driver: ProcessDriver) -> str:
    """Return how long a period of the model is in a process's unit of time."""
    every = program.timeline.every
    step = every if isinstance(driver.process, InPeriods) else f"{every}, dt {driver.dt:g}"
    return f"{step}; here after {counted(program.periods, every)}"


def _ends(program: Program, driver: Driver, based: bool) -> list[str]:
    """Return what a driver that is simulated may be, a row after the last period, as the columns of
    the drivers' table.
    """
    if program.recorded or driver != program.drivers[driver.name]:
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
    closed = _closed_end(program, driver)
    if closed is None:
        below = float((ends < 0).mean())
        figures = [*base, float(ends.mean()), *np.percentile(ends, [5, 50, 95]).tolist()]
    else:
        below = float(closed.chance(below=0))
        figures = [*base, closed.mean, *(float(closed.percentile(q)) for q in (5, 50, 95))]
    shown = [brief(in_unit(figure, driver.unit)) for figure in figures]
    return [*shown, per_cent(below) if below > 0 else "never"]


def _closed_end(program: Program, driver: Driver) -> Distribution | None:
    """Return the distribution of a process after the last period, where it has a closed form."""
    if type(driver) is not ProcessDriver or driver.uncertain:
        return None
    end = driver.process.distribution_at(program.periods * driver.dt, trials=LEAST_TRIALS)
    return None if isinstance(end, Empirical) else end


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
        unit = units.get(str(name))
        cells = [_amount(row[label], unit) for label in shown]
        if len(shown) < len(labels):
            cells.insert(4, "..." if cells[0] else "")
        value = _amount(row["value"], unit) or ("" if any(cells) else "-")
        table.add_row(str(name), unit or "", *([value] if has_numbers else []), *cells)
    return table


def _amount(value: float, unit: str | None) -> str:
    """Return a figure of a sheet; nothing where there is none."""
    if value != value:
        return ""
    return point_in_time(value, unit) if is_time(unit) else brief(in_unit(float(value), unit))


def findings(reviewed: Iterable[Finding]) -> Group:
    """Return what looks wrong, or that nothing does."""
    lines = [
        Text.assemble((f"look at {finding.name}", f"bold {DOUBT}"), f": {finding.text}")
        for finding in reviewed
    ]
    return Group(*(lines or [Text("Nothing looks wrong.")]))
