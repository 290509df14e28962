"""What a model file may hold, and how a mistake in it is worded."""

from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from kindynos.errors import FileError, KindynosError
from kindynos.validate import shown


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class Head(_Table):
    """[model]."""

    name: str
    periods: int | None = None
    start: Any = None
    every: Literal["year", "quarter", "month"] = "year"
    workbook: str | None = None
    accept_differences: bool = False


class GivenTable(_Table):
    """[given.NAME], or a bare value in [given]."""

    value: Any = None
    cell: str | None = None
    unit: str | None = None
    source: str | None = None
    convert: bool = False

    @model_validator(mode="after")
    def _has_a_value(self) -> GivenTable:
        if self.value is None and self.cell is None:
            raise PydanticCustomError("missing", "missing", {"key": "value"})
        return self


class DriverTable(BaseModel):
    """[drivers.NAME]; other keys are the parameters of the distribution or the process."""

    model_config = ConfigDict(extra="allow", strict=True)

    distribution: str | None = None
    process: str | None = None
    cell: str | None = None
    dt: Any = None
    uncertain: bool = False
    each: Literal["period"] | None = None
    base: Any = None
    unit: str | None = None
    source: str | None = None
    serial: Any = None

    @property
    def parameters(self) -> dict[str, Any]:
        """The distribution's parameters."""
        return dict(self.model_extra or {})


class CohortTable(BaseModel):
    """[cohorts.NAME]; other keys are tables of chances, one a state."""

    model_config = ConfigDict(extra="allow", strict=True)

    states: list[str]
    start: dict[str, Any]
    remainder_state: Any = None
    arrivals: dict[str, Any] | None = None
    departures: dict[str, Any] | None = None
    value: dict[str, Any] | None = None
    cost: dict[str, Any] | None = None

    @property
    def chances(self) -> dict[str, Any]:
        """The tables of chances by state."""
        return dict(self.model_extra or {})


class LineTable(_Table):
    """[lines.NAME], or a bare formula in [lines]."""

    formula: str | None = None
    cell: str | None = None
    unit: str | None = None

    @model_validator(mode="after")
    def _is_worked_out(self) -> Self:
        if self.formula is None and self.cell is None:
            raise PydanticCustomError("missing", "missing", {"key": "formula"})
        if self.formula is not None and self.cell is not None:
            raise PydanticCustomError("both", "say formula or cell, and not both")
        return self


class OutcomeTable(LineTable):
    """[outcomes.NAME], or a bare formula in [outcomes]."""

    target: Any = None
    better: Literal["high", "low"] = "high"
    missing: Any = None


class CorrelationTable(_Table):
    """One of [[correlations]]."""

    between: list[str] = []
    among: list[str] | str = []
    matrix: str | None = None
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
    driver_tables: list[str] = []
    cohorts: dict[str, CohortTable] = {}
    lines: dict[str, LineTable] = {}
    outcomes: dict[str, OutcomeTable] = {}
    correlations: list[CorrelationTable] = []
    scenarios: dict[str, dict[str, Any]] = {}

    @model_validator(mode="before")
    @classmethod
    def _bare_values(cls, document: dict[str, Any]) -> dict[str, Any]:
        """Turn bare values into tables of one key."""
        full = dict(document)
        drivers = full.get("drivers")
        if isinstance(drivers, dict) and isinstance(drivers.get("table"), str | list):
            tables = drivers["table"]
            full["driver_tables"] = [tables] if isinstance(tables, str) else tables
            full["drivers"] = {name: entry for name, entry in drivers.items() if name != "table"}
        for table, key in (("given", "value"), ("lines", "formula"), ("outcomes", "formula")):
            entries = full.get(table)
            if isinstance(entries, dict):
                full[table] = {
                    n: entry if isinstance(entry, dict) else {key: entry}
                    for n, entry in entries.items()
                }
        return full


_KEYS: dict[str, type[BaseModel]] = {
    "model": Head,
    "given": GivenTable,
    "drivers": DriverTable,
    "cohorts": CohortTable,
    "lines": LineTable,
    "outcomes": OutcomeTable,
    "correlations": CorrelationTable,
}


def content_of(document: dict[str, Any]) -> Content | list[KindynosError]:
    """Return the content of a file, or all its mistakes, each with table, key, value and rule."""
    if "decision" in document and "model" not in document:
        return [
            FileError(
                "states a decision, not a model; read it with kindynos decide, or kd.load_decision"
            )
        ]
    try:
        return Content.model_validate(document)
    except ValidationError as error:
        # A key that is unknown often explains one that is missing, so it comes first.
        mistakes = sorted(error.errors(), key=lambda mistake: mistake["type"] != "extra_forbidden")
        return [_worded(mistake) for mistake in mistakes]


def _worded(mistake: Any) -> KindynosError:
    place = [str(part) for part in mistake["loc"]]
    if mistake["type"] == "both":
        return FileError(mistake["msg"], table=f"[{'.'.join(place)}]")
    if "key" in mistake.get("ctx", {}):
        place.append(mistake["ctx"]["key"])
    kind, value = mistake["type"], mistake.get("input")
    table, key = f"[{'.'.join(place[:-1])}]", place[-1]
    if kind == "extra_forbidden" and len(place) == 1:
        return FileError(f"unknown table [{key}]", unknown=key, known=Content.model_fields)
    if kind == "extra_forbidden":
        known = _KEYS[place[0]].model_fields
        return FileError(
            f"unknown key {key!r} (value {shown(value)})",
            table=table,
            key=key,
            unknown=key,
            known=known,
        )
    if kind == "missing" and len(place) == 1:
        return FileError(f"the table [{key}] is missing", table=None, key=key)
    if kind == "missing":
        return FileError(f"the key {key!r} is missing", table=table, key=key)
    if kind in ("model_type", "dict_type", "model_attributes_type"):
        return FileError(
            f"[{'.'.join(place)}] must be a table, not {shown(value)}", key=key, value=value
        )
    rule = _rule(mistake)
    return FileError(
        f"{key} must be {rule}, not {shown(value)}", table=table, key=key, value=value, rule=rule
    )


def _rule(mistake: Any) -> str:
    """Return the rule of a validator in our words."""
    rules = {
        "string_type": "a text",
        "int_type": "a whole number",
        "bool_type": "true or false",
        "list_type": "a list",
        "literal_error": f"one of {mistake.get('ctx', {}).get('expected', '')}".replace(
            " or ", ", "
        ),
    }
    return rules.get(mistake["type"], str(mistake["msg"]))
