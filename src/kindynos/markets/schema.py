"""What the rows of a file of holdings may have, for programs that write one."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from kindynos.markets.closed_forms import KINDS as KINDS_HELD
from kindynos.markets.holdings import KINDS

Term = float | str | None  # of a position: a number, or a column of the prices


class HoldingRow(BaseModel):
    """A holding. All rows have the same one of shares, weight and amount; rows of one instrument
    are added. The command line reads symbol or ticker as instrument, and quantity as shares. Where
    there is a column kind, rows are positions: a name, a number, and the terms of their kind.
    """

    model_config = ConfigDict(extra="allow")  # other columns are left out, which a report says

    instrument: str | None = Field(
        None,
        description="The column of the prices with its price.",
        examples=["shipyard"],
        min_length=1,
    )
    shares: float | None = Field(None, description="How many are held; below 0 for a short one.")
    weight: float | None = Field(None, description="Its share of the money invested.")
    amount: float | None = Field(None, description="What is held, in money.")
    currency: str | None = Field(
        None,
        description="The currency of its prices, such as USD: with the unit EUR the column EURUSD "
        "(what one EUR costs in USD) or USDEUR of the prices is found; or a column that says what "
        "one unit of it costs in yours.",
    )
    side: Literal["long", "short", "buy", "sell", "bought", "sold", ""] | None = Field(
        None, description="Whether it is held or sold short; a minus says the same."
    )
    multiplier: float | None = Field(
        None, description="The size of a contract: what one of it counts.", gt=0
    )
    change: Literal["absolute", "relative", ""] | None = Field(
        None, description="How it changes: absolute for a yield or a spread, by differences."
    )
    group: str | None = Field(None, description="A group, for limits on several together.")
    proxy: str | None = Field(
        None, description="The column whose moves stand for those before its first price."
    )
    kind: str | None = Field(
        None, description="The kind of a position.", json_schema_extra={"enum": [*KINDS_HELD, None]}
    )
    name: str | None = Field(None, description="The name of a position.")
    number: float | None = Field(
        None, description="How many of a position, or the nominal of a bond or a swap."
    )
    underlying: Term = Field(None, description="The column of the price of a position.")
    strike: Term = Field(None, description="The price agreed on.")
    expiry: str | None = Field(None, description="The date of an option or a forward.")
    volatility: Term = Field(None, description="The volatility a year, or its column.")
    rate: Term = Field(None, description="The continuous rate a year, its column, or a curve.")
    yield_: Term = Field(
        None, alias="yield", description="The yield of a bond, or of what a forward is of."
    )
    coupon: Term = Field(None, description="The coupon a year of a bond, as a share of it.")
    fixed: Term = Field(None, description="The fixed rate a year of a swap.")
    fixing: Term = Field(None, description="The floating rate of a swap's next payment.")
    times: Literal[1, 2, 4, 12] | None = Field(None, description="Payments a year.")
    maturity: str | None = Field(None, description="The date of the last payment.")
    compounding: Literal["periodic", "continuous"] | None = Field(
        None, description="How a bond's yield compounds."
    )


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of a table of holdings as a list of rows."""
    row = HoldingRow.model_json_schema()
    row["oneOf"] = [
        {"required": ["instrument", kind], "properties": {kind: {"type": "number"}}}
        for kind in KINDS
    ] + [{"required": ["kind", "number"], "properties": {"number": {"type": "number"}}}]
    draft = "https://json-schema.org/draft/2020-12/schema"
    return {"$schema": draft, "title": "Holdings", "type": "array", "items": row}
