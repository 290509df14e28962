"""What a model file may hold, and how a mistake in it is worded."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator

from kindynos.errors import FileError, nearest
from kindynos.validate import shown


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class Head(_Table):
    """[model]."""

    name: str
    periods: int | None = None
    start: Any = None
    every: Literal["year", "quarter", "month"] = "year"


class GivenTable(_Table):
    """[given.NAME], or a bare value in [given]."""

    value: Any
    unit: str | None = None
    source: str | None = None


class DriverTable(BaseModel):
    """[drivers.NAME]; other keys are the parameters of the distribution or the process."""

    model_config = ConfigDict(extra="allow", strict=True)

    distribution: str | None = None
    process: str | None = None
    dt: Any = None
    each: Literal["period"] | None = None
    base: Any = None
    unit: str | None = None
    source: str | None = None
    serial: Any = None

    @property
    def parameters(self) -> dict[str, Any]:
        """The distribution's parameters."""
        return dict(self.model_extra or {})


class LineTable(_Table):
    """[lines.NAME], or a bare formula in [lines]."""

    formula: str
    unit: str | None = None


class OutcomeTable(LineTable):
    """[outcomes.NAME], or a bare formula in [outcomes]."""

    target: Any = None


class CorrelationTable(_Table):
    """One of [[correlations]]."""

    between: list[str]
    value: Any = None
    kind: str = "rank"
    copula: str = "gaussian"
    df: Any = None
    parameter: Any = None
    tau: Any = None
    repair: bool = False


class Content(_Table):
    """The whole file."""

    model: Head
    given: dict[str, GivenTable] = {}
    drivers: dict[str, DriverTable] = {}
    lines: dict[str, LineTable] = {}
    outcomes: dict[str, OutcomeTable] = {}
    correlations: list[CorrelationTable] = []
    scenarios: dict[str, dict[str, Any]] = {}

    @model_validator(mode="before")
    @classmethod
    def _bare_values(cls, document: dict[str, Any]) -> dict[str, Any]:
        """Turn bare values into tables of one key."""
        full = dict(document)
        for table, key in (("given", "value"), ("lines", "formula"), ("outcomes", "formula")):
            entries = full.get(table)
            if isinstance(entries, dict):
                full[table] = {n: entry if isinstance(entry, dict) else {key: entry} for n, entry in entries.items()}
        return full


_KEYS: dict[str, type[BaseModel]] = {
    "model": Head,
    "given": GivenTable,
    "drivers": DriverTable,
    "lines": LineTable,
    "outcomes": OutcomeTable,
    "correlations": CorrelationTable,
}


def checked(path: Path, document: dict[str, Any]) -> Content:
    """Return the content of a file; raises FileError for the first mistake, with table, key, value and rule."""
    try:
        return Content.model_validate(document)
    except ValidationError as error:
        # A key that is unknown often explains one that is missing, so it comes first.
        mistakes = sorted(error.errors(), key=lambda mistake: mistake["type"] != "extra_forbidden")
        raise FileError(f"{path}: {_worded(mistakes[0])}") from None


def _worded(mistake: Any) -> str:
    place = [str(part) for part in mistake["loc"]]
    kind, value = mistake["type"], mistake.get("input")
    if kind == "extra_forbidden":
        if len(place) == 1:
            return f"unknown table [{place[0]}]{nearest(place[0], Content.model_fields)}"
        known = _KEYS[place[0]].model_fields
        return f"[{'.'.join(place[:-1])}]: unknown key {place[-1]!r} (value {shown(value)}){nearest(place[-1], known)}"
    if kind == "missing":
        if len(place) == 1:
            return f"the table [{place[0]}] is missing"
        return f"[{'.'.join(place[:-1])}]: the key {place[-1]!r} is missing"
    if kind in ("model_type", "dict_type", "model_attributes_type"):
        return f"[{'.'.join(place)}] must be a table, not {shown(value)}"
    rule = mistake["msg"].removeprefix("Input should be ").replace("a valid string", "a text").replace("valid ", "")
    return f"[{'.'.join(place[:-1])}]: {place[-1]} must be {rule}, not {shown(value)}"
