"""The rows of a risk table."""

from __future__ import annotations

from typing import Any

from kindynos.markets.exposure import Exposure
from kindynos.markets.method import Method
from kindynos.markets.methods import measured


def risk_record(
    method: Method, exposure: Exposure, level: float, horizon: int, value: float
) -> dict[str, Any]:
    """Return both measures of a method at a level, each with its interval, as a row of the
    table.
    """
    figures = {
        name: measured(method, exposure, name, level, horizon, value)
        for name in ("value_at_risk", "expected_shortfall")
    }
    record: dict[str, Any] = {}
    for name, figure in figures.items():
        label = name.replace("_", " ")
        record |= {
            label: float(figure),
            f"{label} low": figure.low,
            f"{label} high": figure.high,
            f"{label} sampling error": figure.sampling_error,
            f"{label} %": 100 * figure.fraction,
        }
    first = figures["value_at_risk"]
    return record | {
        "returns": first.returns,
        "first": first.first,
        "last": first.last,
        "doubt": first.doubt,
    }
