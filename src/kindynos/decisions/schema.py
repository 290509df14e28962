"""What a decision file may hold, for editors. It describes what ``file`` reads; tests hold both
together.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

Amount = Any  # a number, a formula of given figures, or a table that states what is drawn
AMOUNT = (
    'A number, a formula of given figures such as "34e6 * demand", a distribution with its '
    "parameters, or an outcome of a model."
)


class _DecisionTable(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Part(_DecisionTable):
    """A part of the tree: what is paid first, and then a payoff, an event, a choice or a test."""

    pay: Amount = Field(None, description=f"What is paid before the rest. {AMOUNT}")
    payoff: Amount = Field(None, description=f"What it ends with. {AMOUNT}")
    event: str | None = Field(None, description="An event that is not ours to decide, by name.")
    outcomes: dict[str, Outcome] = Field({}, description="Of an event: its outcomes by name.")
    choice: str | None = Field(None, description="A later choice of ours, by name.")
    alternatives: dict[str, Any] = Field(
        {}, description="Of a choice: its alternatives by name, each a part or an amount."
    )
    chance: Amount = Field(
        None, description='Of an outcome: its chance, or "rest" for what the others leave.'
    )
    test: str | None = Field(None, description="A test whose signals depend on an event, by name.")
    of: str | None = Field(None, description="Of a test: the event on which its signals depend.")
    signals: dict[str, Any] = Field(
        {}, description="Of a test: the chances of its signals, by outcome of the event."
    )
    then: Any = Field(None, description="Of a test: what follows, whatever its signal.")
    after: dict[str, Any] = Field({}, description="Of a test: what follows each signal.")


class Outcome(Part):
    """An outcome of an event, with its chance and what follows."""


class ModelAmount(_DecisionTable):
    """An outcome of a model file, drawn with its drivers."""

    model: str = Field(description="The model file, beside this one.", examples=["ferry.toml"])
    outcome: str = Field(description="The outcome that counts.", examples=["net_value"])
    set: dict[str, Any] = Field({}, description="Replacements of figures of that model.")


class DecisionHead(_DecisionTable):
    """A decision: what is known, and the alternatives."""

    name: str = Field(description="What the decision is called.", examples=["Night ferry"])
    unit: str = Field("", description="What amounts are counted in.", examples=["EUR"])
    better: Literal["high", "low"] = Field("high", description="Whether much or little is wanted.")
    score: Any = Field(None, description="A formula of criteria that makes one figure of them.")
    risk_tolerance: float | None = Field(
        None, description="The risk tolerance of an exponential utility, in the same unit."
    )
    given: dict[str, Amount] = Field({}, description=f"Figures by name. {AMOUNT}")
    criteria: dict[str, str | None] = Field({}, description="Units of the criteria by name.")
    alternatives: dict[str, Any] = Field(
        description="The alternatives by name, each a part of the tree or an amount."
    )


class DecisionContent(_DecisionTable):
    """A decision file."""

    decision: DecisionHead = Field(description="The decision.")


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of a decision file, for editors that complete and check TOML."""
    schema = DecisionContent.model_json_schema()
    tree = Part.model_json_schema()
    model = ModelAmount.model_json_schema()
    defined = {**schema.pop("$defs"), **tree.pop("$defs"), "Part": tree, "ModelAmount": model}
    distribution = {
        "type": "object",
        "description": "A distribution with its parameters, or its percentiles.",
        "properties": {"distribution": {"type": "string"}, "percentiles": {"type": "object"}},
        "anyOf": [{"required": ["distribution"]}, {"required": ["percentiles"]}],
    }
    criteria = {
        "type": "object",
        "description": "Amounts by criterion.",
        "propertyNames": {"not": {"enum": list(Part.model_fields)}},
        "minProperties": 1,
    }
    defined["Amount"] = {
        "description": AMOUNT,
        "anyOf": [
            {"type": ["number", "string"]},
            distribution,
            {"$ref": "#/$defs/ModelAmount"},
            criteria,
        ],
    }
    either = {"anyOf": [{"$ref": "#/$defs/Part"}, {"$ref": "#/$defs/Amount"}]}
    for table in ("Part", "Outcome"):
        keys = defined[table]["properties"]
        keys["alternatives"]["additionalProperties"] = either
        keys["after"]["additionalProperties"] = either
        keys["then"] |= either
        for key in ("pay", "payoff", "chance"):
            keys[key] |= {"$ref": "#/$defs/Amount"}
    head = defined["DecisionHead"]["properties"]
    head["alternatives"]["additionalProperties"] = either
    head["given"]["additionalProperties"] = {"$ref": "#/$defs/Amount"}
    draft = {"$schema": "https://json-schema.org/draft/2020-12/schema"}
    return {**draft, **schema, "$defs": defined}
