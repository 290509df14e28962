"""What the rows of a file of holdings may have, for programs that write one."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from kindynos.markets.holdings import KINDS


class HoldingRow(BaseModel):
    """A holding. All rows have the same one of shares, weight and amount; rows of one instrument
    are added. The command line reads symbol or ticker as instrument, and quantity as shares.
    """

    model_config = ConfigDict(extra="allow")  # other columns are left out, which a report says

    instrument: str = Field(
        description="The column of the prices with its price.", examples=["shipyard"], min_length=1
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


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema of a table of holdings as a list of rows."""
    row = HoldingRow.model_json_schema()
    row["oneOf"] = [
        {"required": [kind], "properties": {kind: {"type": "number"}}} for kind in KINDS
    ]
    draft = "https://json-schema.org/draft/2020-12/schema"
    return {"$schema": draft, "title": "Holdings", "type": "array", "items": row}
