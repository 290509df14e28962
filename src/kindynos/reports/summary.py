"""A run as plain data, for machines: what ``--json`` prints and ``summary.json`` holds."""

from __future__ import annotations

import json
import math
from typing import Any

from kindynos.results.run import Run


def summary(run: Run) -> dict[str, Any]:
    """Return the run's facts, and for each outcome its statistics with errors, and its drivers' ranking."""
    outcomes: dict[str, Any] = {}
    for row in run.table().reset_index().to_dict("records"):
        figures = {key: _plain(row[key]) for key in ("value", "error", "low", "high")}
        note = {"note": row["note"]} if row["note"] else {}
        outcomes.setdefault(row["outcome"], {})[row["statistic"]] = figures | note
    facts = run.facts()
    facts["correlations"] = [{key: _plain(value) for key, value in row.items()} for row in facts["correlations"]]
    return {
        **facts,
        "units": {name: run[name].unit for name in run.outcomes},
        "outcomes": outcomes,
        "drivers": {name: drivers(run, name) for name in run.outcomes if not run[name].is_row},
    }


def drivers(run: Run, outcome: str) -> list[dict[str, Any]]:
    """Return the drivers' ranking as a list."""
    frame = run.sensitivity(outcome).reset_index()
    return [{str(key): _plain(value) for key, value in row.items()} for row in frame.to_dict("records")]


def _plain(value: Any) -> Any:
    """Return a value that JSON can hold: what is not finite becomes null, or "never" for infinity."""
    if isinstance(value, float):
        if math.isnan(value):
            return None
        return value if math.isfinite(value) else ("never" if value > 0 else "-infinity")
    return value


def as_json(data: dict[str, Any]) -> str:
    """Return plain data as JSON text."""
    return json.dumps(data, indent=2, ensure_ascii=False, allow_nan=False) + "\n"
