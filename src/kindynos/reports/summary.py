"""A run as plain data, for machines: what ``--json`` prints and ``summary.json`` holds."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import Any

import pandas as pd

from kindynos.errors import KindynosError
from kindynos.inference.estimates import Estimate
from kindynos.model.writing import is_stated, stated
from kindynos.printable import is_unseen
from kindynos.program.program import Program
from kindynos.reports.run_tables import has_return_periods
from kindynos.results.figures import DEFAULT, TableSpec, outcome_table
from kindynos.results.risk_register import risks_of
from kindynos.results.run import Run


def summary(run: Run, asked: TableSpec = DEFAULT) -> dict[str, Any]:
    """Return the run's facts, and for each outcome its statistics with errors, and its drivers'
    ranking.
    """
    outcomes: dict[str, Any] = {}
    for row in outcome_table(run, asked).reset_index().to_dict("records"):
        figures = plain_value({key: row[key] for key in ("value", "error", "low", "high")})
        note = {"note": row["note"]} if row["note"] else {}
        outcomes.setdefault(row["outcome"], {})[row["statistic"]] = figures | note
    facts = run.facts()
    facts["correlations"] = [
        {key: plain_value(value) for key, value in row.items()} for row in facts["correlations"]
    ]
    return {
        **facts,
        "model_file": model_text(run.program),
        "units": {name: run[name].unit for name in run.outcomes},
        "outcomes": outcomes,
        **_rankings(run),
        **_risks(run),
        **_return_periods(run),
        **chances_asked(run, asked),
        **_checks(run),
    }


def model_text(program: Program) -> str | None:
    """Return the text of the model file of a run, None for what no file can hold, or for one that
    rests on other files.
    """
    if any(not is_stated(line) for line in program.lines.values()):
        return None
    try:
        return stated(program)
    except KindynosError:
        return None


def _return_periods(run: Run) -> dict[str, Any]:
    """Return the return periods of outcomes that rest on claims; nothing where there is none."""
    by_name = {
        name: plain_rows(run[name].return_periods())
        for name in run.outcomes
        if has_return_periods(run, name)
    }
    return {"return periods": by_name} if by_name else {}


def _checks(run: Run) -> dict[str, Any]:
    """Return the conditions that must hold; nothing where there is none."""
    return {"checks": plain_rows(run.checks())} if run.program.checks else {}


def chances_asked(run: Any, asked: TableSpec) -> dict[str, Any]:
    """Return the chances of the conditions asked for; nothing where there is none."""
    by_name = {condition: plain_estimate(run.chance(condition)) for condition in asked.conditions}
    return {"chances": by_name} if by_name else {}


def _risks(run: Run) -> dict[str, Any]:
    """Return the risk register of each outcome that risk events reach; nothing where there is
    none.
    """
    by_name = {
        name: plain_rows(run.risk_register(name))
        for name in run.outcomes
        if not run[name].is_row and risks_of(run, name)
    }
    return {"risks": by_name} if by_name else {}


def _rankings(run: Run) -> dict[str, Any]:
    """Return the rankings of the drivers of each outcome, and why one cannot be made."""
    rankings: dict[str, list[dict[str, Any]]] = {}
    reasons = {}
    for name in run.outcomes:
        if run[name].is_row:
            continue
        try:
            rankings[name] = plain_rows(run.sensitivity(name)) if run.drivers else []
        except KindynosError as error:
            rankings[name], reasons[name] = [], str(error)
    return {"drivers": rankings, **({"drivers not ranked": reasons} if reasons else {})}


def plain_value(value: Any) -> Any:
    """Return a value that JSON can hold: what is not finite becomes null, or "infinity"."""
    if isinstance(value, float):
        if math.isnan(value):
            return None
        return float(value) if math.isfinite(value) else ("infinity" if value > 0 else "-infinity")
    if isinstance(value, Mapping):
        # An interval without one end is null there; an infinite figure, such as a payback that
        # never comes, is a text.
        return {
            str(key): None if _unbounded(key, part) else plain_value(part)
            for key, part in value.items()
        }
    if isinstance(value, list | tuple):
        return [plain_value(part) for part in value]
    return value.item() if hasattr(value, "item") else value


def plain_estimate(figure: Estimate) -> dict[str, Any]:
    """Return a figure and its interval for JSON."""
    by_name = {
        "value": float(figure),
        "error": figure.error,
        "low": figure.low,
        "high": figure.high,
    }
    plain: dict[str, Any] = plain_value(by_name)
    return plain


def _unbounded(key: object, value: object) -> bool:
    ends = str(key).rpartition(" ")[2] in ("error", "low", "high")  # of "value at risk high" too
    return ends and isinstance(value, float) and math.isinf(value)


def plain_rows(frame: pd.DataFrame) -> list[dict[str, Any]]:
    """Return a table as rows by name, its index included, which is "name" where it has none; places
    from 0 are left out.
    """
    flat = frame.copy()
    if isinstance(flat.columns, pd.MultiIndex):
        flat.columns = pd.Index([" ".join(map(str, parts)) for parts in flat.columns])
    if isinstance(flat.index, pd.RangeIndex) and flat.index.name is None:
        return [plain_value(row) for row in flat.to_dict("records")]
    names = [name or "name" for name in flat.index.names]
    return [plain_value(row) for row in flat.reset_index(names=names).to_dict("records")]


def as_json(data: dict[str, Any]) -> str:
    """Return plain data as JSON text, with characters that do not print as JSON's escapes."""
    text = json.dumps(data, indent=2, ensure_ascii=False, allow_nan=False)
    if text.replace("\n", " ").isprintable():
        return text + "\n"
    return "".join(json.dumps(c)[1:-1] if is_unseen(c) else c for c in text) + "\n"
