"""The whole tables of a run, as files and as sheets: what was assumed, its figures with their
errors, percentiles, drivers, rows by period and correlations.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import numpy as np
import pandas as pd

from kindynos.errors import KindynosError
from kindynos.program.quantities import DependentDriver, DistributionDriver, Given, ProcessDriver
from kindynos.reports import lumps
from kindynos.results.figures import DEFAULT, TableSpec, outcome_table
from kindynos.results.result import RowResult
from kindynos.results.run import Run

PERCENTILES = tuple(range(1, 100))
BY_PERIOD = (5, 25, 50, 75, 95)
CHOSEN = (("worst", 0), ("P5", 5), ("P50", 50), ("P95", 95), ("best", 100))
LONGEST_REPLAY = 0.01  # seconds a trial of a function, from which no trials are drawn again here


def run_tables(run: Run, asked: TableSpec = DEFAULT) -> dict[str, pd.DataFrame]:
    """Return the tables by name; those without rows are left out."""
    by_name = {
        "assumptions": assumptions(run),
        "figures": outcome_table(run, asked),
        "percentiles": percentiles(run),
        "drivers": drivers(run),
        "return-periods": return_periods(run),
        "rows": rows(run),
        "correlations": run.correlations,
        "checks": run.checks(),
        "trials": run.to_frame(),
    }
    return {name: table for name, table in by_name.items() if len(table)}


def has_return_periods(run: Run, name: str) -> bool:
    """Return whether an outcome is an amount that rests on claims, whose return periods matter."""
    rests = run.program.rests_on_events(name)
    return rests and not (run[name].is_row or lumps.is_condition(run, name))


def return_periods(run: Run) -> pd.DataFrame:
    """Return the return periods of outcomes that rest on claims, each with its 95 % interval."""
    parts = {
        name: run[name].return_periods() for name in run.outcomes if has_return_periods(run, name)
    }
    return pd.concat(parts, names=["outcome"]) if parts else pd.DataFrame()


def assumptions(run: Run) -> pd.DataFrame:
    """Return what is known and what is uncertain, with units and sources."""
    records = []
    for kind, quantities in (("given", run.program.givens), ("driver", run.program.drivers)):
        for name in quantities:
            quantity = run.program.shown_driver(name) if kind == "driver" else quantities[name]
            if quantity is None:
                continue
            records.append(
                {
                    "name": name,
                    "kind": kind,
                    "value": _stated(quantity),
                    "unit": quantity.unit or "",
                    "source": quantity.source or "",
                }
            )
    return pd.DataFrame.from_records(records).set_index("name") if records else pd.DataFrame()


def _stated(quantity: Any) -> Any:
    match quantity:
        case Given(value=tuple() as values):
            return ", ".join(f"{value}" for value in values)
        case Given(value=value):
            return value
        case DistributionDriver(distribution=stated) | DependentDriver(distribution=stated):
            return repr(stated)
        case ProcessDriver(process=process):
            return repr(process)
    return ""


def percentiles(run: Run) -> pd.DataFrame:
    """Return the percentiles of the outcomes that are one number, each with its 95 % interval."""
    parts = {}
    for name in run.outcomes:
        if not run[name].is_row and np.isfinite(run[name].values).any():
            percentile = run[name].percentile(PERCENTILES)
            columns = {
                "value": np.asarray(percentile),
                "low": np.asarray(percentile.low),
                "high": np.asarray(percentile.high),
            }
            parts[name] = pd.DataFrame(columns, pd.Index(PERCENTILES, name="percentile"))
    return pd.concat(parts, names=["outcome"]) if parts else pd.DataFrame()


def drivers(run: Run) -> pd.DataFrame:
    """Return the ranking of the drivers of each outcome that is one number."""
    parts = {}
    for name in run.outcomes if run.drivers else ():
        if not run[name].is_row:
            with suppress(KindynosError):  # the report says why in its place
                parts[name] = run.sensitivity(name)
    return pd.concat(parts, names=["outcome"]) if parts else pd.DataFrame()


def rows(run: Run) -> pd.DataFrame:
    """Return mean and percentiles by period of the outcomes and the kept lines that are rows."""
    parts = {}
    kept = [name for name in run.kept if name not in run.program.checks]
    for name in dict.fromkeys([*run.outcomes, *kept]):
        result: Any = run[name]
        if isinstance(result, RowResult):
            columns = {"mean": np.asarray(result.mean)}
            ends = np.asarray(result.percentile(BY_PERIOD))
            columns |= {f"P{q}": ends[position] for position, q in enumerate(BY_PERIOD)}
            parts[name] = pd.DataFrame(columns, pd.Index(result.labels, name="period"))
    return pd.concat(parts, names=["row"]) if parts else pd.DataFrame()


def chosen_trials(run: Run) -> pd.DataFrame:
    """Return the sheets of trials from the worst to the best by the first outcome; none where a
    trial takes long to work out.
    """
    outcome = next((name for name in run.outcomes if not run[name].is_row), None)
    if (
        outcome is None
        or run.program.recorded
        or run.program.seconds_a_trial > LONGEST_REPLAY
        or not np.isfinite(run[outcome].values).any()
    ):
        return pd.DataFrame()
    worst_first = run[outcome].better == "high"
    by_name = {
        label: run.nearest(outcome, position if worst_first else 100 - position)
        for label, position in CHOSEN
    }
    labels = {f"{label}, trial {sheet.attrs['trial']:,}": sheet for label, sheet in by_name.items()}
    return pd.concat(labels, names=[f"by {outcome}"])
