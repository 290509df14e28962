"""What a model file may hold, and how a mistake in it is worded."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from kindynos.errors import FileError, KindynosError
from kindynos.validate import shown

UNIT: Any = Field(None, description="What it is counted in.", examples=["EUR", "% a year"])
TITLE: Any = Field(
    None, description="What people call it, on pages and in sentences.", examples=["Average fare"]
)
SOURCE: Any = Field(None, description="Where the figure comes from.", examples=["board decision"])
# what a bare value states
BARE = {"given": "value", "lines": "formula", "outcomes": "formula", "checks": "formula"}


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class Head(_Table):
    """The model as a whole."""

    name: str = Field(description="What the model is called.", examples=["Night ferry"])
    periods: int | None = Field(None, description="How many periods it has; without: none.")
    start: Any = Field(None, description="The first period.", examples=["2028", "2028-01"])
    every: Literal["year", "quarter", "month", "week"] = Field(
        "year", description="How long a period is."
    )
    workbook: str | None = Field(
        None, description="A workbook beside the file, whose cells it rests on."
    )
    accept_differences: bool = Field(
        False, description="Run although outcomes differ from what the workbook stores."
    )


class GivenTable(_Table):
    """A figure that is known."""

    value: Any = Field(
        None,
        description="A number, one number per period, pairs [key, value] for lookup, or a column "
        "of a file beside the model.",
        examples=[54.0, [1.0, 1.1], [[0, 10], [5, 8]], {"file": "plan.csv", "column": "tonnes"}],
    )
    cell: str | None = Field(
        None, description="Its cell, range or name in the workbook.", examples=["Inputs!B4"]
    )
    title: str | None = TITLE
    unit: str | None = UNIT
    source: str | None = SOURCE
    convert: bool = Field(
        False, description="A rate a year that lines use as the rate of a period."
    )

    @model_validator(mode="after")
    def _has_a_value(self) -> GivenTable:
        if self.value is None and self.cell is None:
            raise PydanticCustomError("missing", "missing", {"key": "value"})
        return self


class DriverTable(BaseModel):
    """A figure that is uncertain; other keys are the parameters of its distribution or process."""

    model_config = ConfigDict(extra="allow", strict=True)

    distribution: str | None = Field(
        None,
        description="The distribution it is drawn from; `kindynos distributions` lists them.",
        examples=["pert", "lognormal", "beta"],
    )
    process: str | None = Field(
        None,
        description="The process that makes a path of it over the periods.",
        examples=["geometric brownian motion", "mean reverting"],
    )
    cell: str | None = Field(
        None, description="The cell of the workbook that it takes the place of."
    )
    dt: Any = Field(None, description="The length of a period in the process's unit of time.")
    value: Literal["end", "average"] = Field(
        "end", description="Of a process: its value at the end of a period, or its average."
    )
    uncertain: bool = Field(
        False, description="Draw the parameters too, as far as the fit leaves them open."
    )
    each: Literal["period"] | None = Field(None, description="Draw it again each period.")
    base: Any = Field(
        None, description="Its value in the base case; without: its mean (discrete: its median)."
    )
    title: str | None = TITLE
    unit: str | None = UNIT
    source: str | None = SOURCE
    serial: Any = Field(
        None, description="With each: the rank correlation of a period with the one before."
    )

    @property
    def parameters(self) -> dict[str, Any]:
        """The distribution's parameters."""
        return dict(self.model_extra or {})


class DriverFile(_Table):
    """A file with a driver in each row, and what its rows do not state."""

    file: str = Field(description="A CSV file beside the model file.", examples=["risks.csv"])
    distribution: str | None = Field(None, description="The distribution of rows without one.")
    unit: str | None = UNIT
    source: str | None = SOURCE
    each: Literal["period"] | None = Field(None, description="Draw them again each period.")


class CohortTable(BaseModel):
    """A population whose members move between states; other keys are tables of their chances."""

    model_config = ConfigDict(extra="allow", strict=True)

    states: list[str] = Field(description="The states that a member may be in.")
    start: dict[str, Any] = Field(description="How many begin in each state.")
    remainder_state: Any = Field(
        None, description="The state that takes what a state's chances leave; same: its own."
    )
    arrivals: dict[str, Any] | None = Field(None, description="How many come a period, by state.")
    departures: dict[str, Any] | None = Field(
        None, description="How many leave a period, by state."
    )
    value: dict[str, Any] | None = Field(None, description="What a member in a state is worth.")
    cost: dict[str, Any] | None = Field(
        None, description="What a move costs.", examples=[{"sailing -> in dock": 380_000}]
    )

    @property
    def chances(self) -> dict[str, Any]:
        """The tables of chances by state."""
        return dict(self.model_extra or {})


class ClaimsTable(_Table):
    """Several events in a trial, such as claims."""

    count: Any = Field(
        description="How many: a distribution of whole numbers, or a quantity by name.",
        examples=["poisson 12", "storms", {"distribution": "poisson", "mean": "expected"}],
    )
    size: Any = Field(
        description="How large each of them is: a distribution.",
        examples=["exponential 40_000", {"distribution": "pareto", "shape": 2.5, "scale": 1e5}],
    )
    each: Literal["period"] | None = Field(None, description="Draw them again each period.")
    unit: str | None = UNIT
    source: str | None = SOURCE


class LoansTable(_Table):
    """Loans; each defaults once or not at all."""

    table: str | None = Field(
        None,
        description="A file beside the model file with the columns amount and chance, and perhaps "
        "recovery and group.",
        examples=["loans.csv"],
    )
    amount: list[Any] | None = Field(None, description="Without a table: the amount of each loan.")
    chance: list[Any] | None = Field(None, description="The chance of each.")
    recovery: list[Any] | None = Field(None, description="What is recovered of each, as a share.")
    group: list[str] | None = Field(None, description="The group of each.")
    correlation: Any = Field(
        None, description="How closely they follow the factor that they share; without: 0.15."
    )
    unit: str | None = UNIT


class LineTable(_Table):
    """What is calculated."""

    formula: str | None = Field(
        None, description="How it is calculated.", examples=["fare * seats * load"]
    )
    cell: str | None = Field(None, description="The cell or range of the workbook that has it.")
    title: str | None = TITLE
    unit: str | None = UNIT

    @model_validator(mode="after")
    def _is_worked_out(self) -> Self:
        if self.formula is None and self.cell is None:
            raise PydanticCustomError("missing", "missing", {"key": "formula"})
        if self.formula is not None and self.cell is not None:
            raise PydanticCustomError("both", "say formula or cell, and not both")
        return self


class OutcomeTable(LineTable):
    """What is reported."""

    target: Any = Field(None, description="The value it is held against.", examples=[0])
    better: Literal["high", "low"] = Field("high", description="Whether much or little is wanted.")
    missing: Any = Field(
        None, description="How a trial without a value ranks: worst, best or a number."
    )


class CheckTable(_Table):
    """A condition that every trial must meet."""

    formula: str = Field(
        description="The condition; a row must hold in every period.",
        examples=["balance >= -overdraft"],
    )
    tolerance: float = Field(
        1e-9, description="By what share the sides of a condition a == b may differ."
    )


class CorrelationTable(_Table):
    """Drivers that move together."""

    between: list[str] = Field([], description="Two drivers.")
    among: list[str] | str = Field(
        [],
        description="Drivers, or a table of drivers, where each pair has the value.",
        examples=["items"],
    )
    matrix: str | None = Field(
        None, description="A CSV file beside the model that has the correlations of many."
    )
    value: Any = Field(None, description="The correlation, from -1 to 1.", examples=[0.4])
    kind: str = Field("rank", description="What the value is.", examples=["rank", "linear"])
    copula: str = Field(
        "gaussian", description="How they move together.", examples=["t", "clayton"]
    )
    df: Any = Field(None, description="The degrees of freedom of a t copula.")
    parameter: Any = Field(None, description="The parameter of a copula, in place of a value.")
    tau: Any = Field(None, description="Kendall's tau, in place of a value.")
    repair: bool = Field(
        False, description="Take the nearest correlations that are possible together."
    )


class EventTable(_Table):
    """An event with a date."""

    when: int | str | list[int | str] = Field(
        description="The period, by number or label, or several that are as likely.",
        examples=[3, "2030", [2029, 2030]],
    )
    chance: Any = Field(1.0, description="How likely it is, or a quantity by name.", examples=[0.6])
    brings: Any = Field(
        1.0,
        description="What it brings in its period: a number, a formula or a distribution.",
        examples=[2_000_000, "grant_rate * spend", "pert 1 2 4 EUR"],
    )
    needs: str | list[str] = Field(
        [], description="The event that must have come by then, or several.", examples=["permit"]
    )
    unit: str | None = UNIT
    source: str | None = SOURCE


class ChoiceTable(_Table):
    """A choice that is made in a period, by what is then known."""

    at: int | str = Field(description="The period, by number or label.", examples=[3, "2030"])
    knowing: list[str] = Field(
        description="What is known then: rows by their value in that period, and numbers.",
        examples=[["demand"]],
    )
    options: dict[str, dict[str, Any]] = Field(
        description="Replacements of given figures, by option.",
        examples=[{"wait": {}, "build": {"size": 2}}],
    )
    after: dict[str, str] = Field(
        {}, description="Which option of an earlier choice leaves this one open."
    )


class Content(_Table):
    """A model file: what is known, what is uncertain, what is calculated and what is reported."""

    model: Head = Field(description="Its name, periods and workbook.")
    given: dict[str, GivenTable] = Field({}, description="What is known, by name.")
    drivers: dict[str, DriverTable] = Field({}, description="What is uncertain, by name.")
    driver_tables: list[DriverFile] = []
    cohorts: dict[str, CohortTable] = Field(
        {}, description="Populations whose members move between states."
    )
    claims: dict[str, ClaimsTable] = Field(
        {}, description="Several events in a trial, such as claims."
    )
    loans: dict[str, LoansTable] = Field(
        {}, description="Loans that default once or not at all, by book; or one table of them."
    )
    events: dict[str, EventTable] = Field(
        {}, description="What comes in a period with a chance, by name."
    )
    lines: dict[str, LineTable] = Field({}, description="What is calculated, by name.")
    outcomes: dict[str, OutcomeTable] = Field({}, description="What is reported, by name.")
    checks: dict[str, CheckTable] = Field(
        {}, description="Conditions that every trial must meet, by name."
    )
    correlations: list[CorrelationTable] = Field([], description="What moves together.")
    scenarios: dict[str, dict[str, Any]] = Field(
        {}, description="Replacements of given figures and drivers, by scenario."
    )
    choices: dict[str, ChoiceTable] = Field(
        {}, description="Choices that are made in a period, by what is then known."
    )

    @model_validator(mode="before")
    @classmethod
    def _bare_values(cls, document: dict[str, Any]) -> dict[str, Any]:
        """Turn bare values into tables of one key."""
        full = dict(document)
        drivers = full.get("drivers")
        tables = drivers.get("table") if isinstance(drivers, dict) else None
        of_file = isinstance(tables, dict) and "file" in tables
        if isinstance(drivers, dict) and (of_file or isinstance(tables, str | list)):
            listed = tables if isinstance(tables, list) else [tables]
            full["driver_tables"] = [{"file": t} if isinstance(t, str) else t for t in listed]
            full["drivers"] = {name: entry for name, entry in drivers.items() if name != "table"}
        loans = full.get("loans")
        if isinstance(loans, dict) and isinstance(loans.get("table"), str):
            full["loans"] = {Path(loans["table"]).stem: loans}  # one book, called as its file
        for table, key in BARE.items():
            entries = full.get(table)
            if isinstance(entries, dict):
                full[table] = {
                    n: entry if isinstance(entry, dict) else {key: entry}
                    for n, entry in entries.items()
                }
        return full


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of a model file as it is written, for editors that complete and check
    TOML: also with bare values, and tables of drivers from files.
    """
    schema = Content.model_json_schema()
    tables = schema["properties"]
    del tables["driver_tables"]
    for table, key in BARE.items():
        by_name = tables[table]
        bare = {"type": "string"} if key == "formula" else {"type": ["number", "array"]}
        by_name["additionalProperties"] = {"anyOf": [bare, by_name["additionalProperties"]]}
    books = tables["loans"]
    by_book = {"type": "object", "additionalProperties": books.pop("additionalProperties")}
    del books["type"]
    books["anyOf"] = [by_book["additionalProperties"], by_book]  # one book, or several by name
    names = {
        "type": ["string", "array", "object"],
        "description": "CSV files that have a driver in each row, by name or as tables with file "
        "and what its rows do not state, such as distribution.",
    }
    tables["drivers"]["properties"] = {"table": names}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


_KEYS: dict[str, type[BaseModel]] = {
    "model": Head,
    "given": GivenTable,
    "drivers": DriverTable,
    "cohorts": CohortTable,
    "claims": ClaimsTable,
    "loans": LoansTable,
    "lines": LineTable,
    "outcomes": OutcomeTable,
    "checks": CheckTable,
    "correlations": CorrelationTable,
    "choices": ChoiceTable,
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
    texts = [str(key_or_place) for key_or_place in mistake["loc"]]
    if texts[0] == "driver_tables":  # what the file calls table, of drivers
        texts = ["drivers", "table", *texts[2:]] if len(texts) > 2 else ["drivers", "table"]
    if mistake["type"] == "both":
        return FileError(mistake["msg"], table=f"[{'.'.join(texts)}]")
    if "key" in mistake.get("ctx", {}):
        texts.append(mistake["ctx"]["key"])
    kind, value = mistake["type"], mistake.get("input")
    table, key = f"[{'.'.join(texts[:-1])}]", texts[-1]
    if kind == "extra_forbidden" and len(texts) == 1:
        return FileError(f"unknown table [{key}]", unknown=key, known=Content.model_fields)
    if kind == "extra_forbidden":
        of_table = DriverFile if texts[:2] == ["drivers", "table"] else _KEYS[texts[0]]
        model_fields = of_table.model_fields
        return FileError(
            f"unknown key {key!r} (value {shown(value)})",
            table=table,
            key=key,
            unknown=key,
            known=model_fields,
        )
    if kind == "missing" and len(texts) == 1:
        return FileError(f"the table [{key}] is missing", table=None, key=key)
    if kind == "missing":
        return FileError(f"the key {key!r} is missing", table=table, key=key)
    if kind in ("model_type", "dict_type", "model_attributes_type"):
        return FileError(
            f"[{'.'.join(texts)}] must be a table, not {shown(value)}", key=key, value=value
        )
    if texts == ["correlations"] and kind == "list_type":
        return FileError(
            "a table of correlations has two brackets, [[correlations]], once for each of them"
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
