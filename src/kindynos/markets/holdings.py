"""What is held: amounts of instruments that are checked, prices in one currency, and positions that
a function values.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import FileError, Mistakes, ParameterError
from kindynos.markets.changes import Mask
from kindynos.markets.exchange import rate_of
from kindynos.markets.positions import SIDES, Position, read_positions
from kindynos.markets.prices import Prices
from kindynos.tables.reader import read_table
from kindynos.tables.table import Table
from kindynos.validate import finite, mapping

KINDS = ("shares", "weight", "amount")  # columns of a file of holdings; it has one of them
ALSO = {
    "instrument": ("symbol", "ticker"),
    "shares": ("quantity",),
    "multiplier": ("contract size",),
}  # other headings of the same
READ = (
    *("instrument", *KINDS, "currency", "change", "group", "proxy", "smoothed"),
    *("side", "multiplier"),
)
YES, NO = ("yes", "true", "1", "x"), ("no", "false", "0", "")


@dataclass(frozen=True)
class StatedHoldings:
    """What a file of holdings states, by instrument: amounts (of the kind "shares", "weight" or
    "amount", in money), the column of exchange rates that changes a price into the portfolio's
    currency, whether it changes by differences ("absolute"), and a group; or positions, whose
    amounts are their numbers.
    """

    kind: str
    amounts: dict[str, float]
    currency: dict[str, str]
    changes: dict[str, str]
    groups: dict[str, str]
    left_out: tuple[str, ...] = ()  # columns that are not read
    positions: Mapping[str, Position] = field(default_factory=dict)
    notes: tuple[str, ...] = ()  # how the file was read
    proxies: Mapping[str, str] = field(default_factory=dict)  # whose moves stand for earlier ones
    smoothed: tuple[str, ...] = ()  # instruments whose values are, such as appraisals

    @property
    def columns(self) -> list[str]:
        """The columns of prices that it needs, but for exchange rates."""
        if not self.positions:
            return [*self.amounts, *self.proxies.values()]
        return [column for position in self.positions.values() for column in position.columns]

    @property
    def choices(self) -> tuple[str, ...]:
        """What is to be said of how they were read."""
        names = ", ".join(self.left_out)
        left_out = (f"Columns of the holdings that are not read: {names}",) if names else ()
        return (*self.notes, *left_out)


def read_holdings(path: Path) -> StatedHoldings:
    """Return the holdings in a CSV, Parquet or Excel file with columns instrument and shares,
    weight or amount (in money), and perhaps side (long or short), multiplier, currency, change,
    group, proxy (an instrument whose moves stand for those before its first price) and smoothed
    (yes for values such as appraisals). Lots of one instrument are added. A table with a column
    kind has a position in each row: see ``kindynos.markets.positions.read_positions``.

    Raises FileError, with all rows that have a mistake: an amount that is missing or not a number,
    a side that is neither, and an instrument that is missing or whose lots differ in currency,
    change or group.
    """
    table = read_table(path)
    columns = table.headings(ALSO)
    if "kind" in columns:
        return _held_positions(table)
    kinds = [kind for kind in KINDS if kind in columns]
    if "instrument" not in columns or len(kinds) != 1:
        raise FileError(
            "needs columns instrument and shares, weight or amount; it has "
            f"{', '.join(table.names)[:400]}",
            file=table.file,
        )
    return StatedHoldings(
        kinds[0],
        _added_lots(table, columns, kinds[0]),
        _texts_by_instrument(table, columns, "currency"),
        _texts_by_instrument(table, columns, "change"),
        _texts_by_instrument(table, columns, "group"),
        tuple(name for heading, name in columns.items() if heading not in READ),
        notes=table.notes,
        proxies=_texts_by_instrument(table, columns, "proxy"),
        smoothed=_smoothed(table, columns),
    )


def _smoothed(table: Table, columns: Mapping[str, str]) -> tuple[str, ...]:
    """Return the instruments that are said to be smoothed."""
    said = _texts_by_instrument(table, columns, "smoothed")
    for name, text in said.items():
        if text.lower() not in (*YES, *NO):
            raise FileError(
                f"smoothed of {name} must be yes or no, not {text!r:.40}", file=table.file
            )
    return tuple(name for name, text in said.items() if text.lower() in YES)


def _held_positions(table: Table) -> StatedHoldings:
    positions, left_out = read_positions(table)
    return StatedHoldings(
        "positions",
        {name: position.number for name, position in positions.items()},
        {name: position.currency for name, position in positions.items() if position.currency},
        {column: "absolute" for one in positions.values() for column in one.absolute},
        {name: position.group for name, position in positions.items() if position.group},
        tuple(left_out),
        positions,
        table.notes,
    )


def _added_lots(table: Table, columns: Mapping[str, str], kind: str) -> dict[str, float]:
    """Return the amount of each instrument, with lots added and short ones below 0."""
    names = table.texts(columns["instrument"])
    amounts = table.numbers(columns[kind])
    ones = np.ones(len(names))
    multipliers = table.numbers(columns["multiplier"]) if "multiplier" in columns else ones
    sides = table.texts(columns["side"]) if "side" in columns else [""] * len(names)
    rows = zip(names, amounts.tolist(), multipliers.tolist(), sides, strict=True)
    mistakes = Mistakes(table.file)
    added: dict[str, float] = {}
    for position, (name, amount, multiplier, side) in enumerate(rows):
        with mistakes.at(row=int(table.rows[position])):
            if not name:
                raise ParameterError("the instrument has no name")
            if not np.isfinite(amount):
                raise ParameterError(f"{name!r:.60} has no number of {kind}")
            if not (np.isfinite(multiplier) and multiplier > 0):
                raise ParameterError(f"the multiplier of {name} must be a number above 0")
            lot = amount * multiplier * _sign_of(name, amount, side)
            added[name] = added.get(name, 0.0) + lot
    mistakes.report()
    return added


def _sign_of(name: str, amount: float, stated_side: str) -> float:
    """Return 1 for what is held and -1 for what is sold short, from the text of a side."""
    side = SIDES.get(stated_side.lower())
    if side is None:
        raise ParameterError(f"the side of {name} is {stated_side!r:.40}; say long or short")
    if side < 0 and amount < 0:
        raise ParameterError(
            f"{name} is {stated_side} of {amount:g}: say the side or the minus, not both"
        )
    return side or 1.0


def _texts_by_instrument(table: Table, columns: Mapping[str, str], heading: str) -> dict[str, str]:
    """Return the text that each instrument has in a column; lots of one must agree."""
    names = table.texts(columns["instrument"])
    texts = table.texts(columns[heading]) if heading in columns else []
    stated: dict[str, str] = {}
    mistakes = Mistakes(table.file)
    for position, (name, text) in enumerate(zip(names, texts, strict=False)):
        with mistakes.at(row=int(table.rows[position])):
            if stated.setdefault(name, text) != text:
                above = stated[name]
                raise ParameterError(
                    f"{name} has the {heading} {text!r:.40}, and {above!r:.40} above"
                )
    mistakes.report()
    return {name: text for name, text in stated.items() if text}


def read_scenarios(path: Path) -> dict[str, dict[str, float]]:
    """Return named shocks, moves by instrument, from a table with columns scenario, instrument and
    move; raises FileError, with the rows, for what is missing.
    """
    table = read_table(path)
    columns = {name.lower(): name for name in table.names}
    for name in ("scenario", "instrument", "move"):
        if name not in columns:
            raise FileError(
                f"needs columns scenario, instrument and move; it has {', '.join(table.names)}",
                file=table.file,
            )
    scenarios: dict[str, dict[str, float]] = {}
    names, instruments = table.texts(columns["scenario"]), table.texts(columns["instrument"])
    moves = table.numbers(columns["move"]).tolist()
    mistakes = Mistakes(table.file)
    rows = zip(names, instruments, moves, strict=True)
    for position, (name, instrument, move) in enumerate(rows):
        with mistakes.at(row=int(table.rows[position])):
            if not (name and instrument and np.isfinite(move)):
                raise ParameterError("a scenario needs a name, an instrument and a move")
            scenarios.setdefault(name, {})[instrument] = move
    mistakes.report()
    return scenarios


def read_profits(path: Path) -> pd.Series:
    """Return profits by date from a table with columns date and profit; raises FileError for
    another one.
    """
    return _dated_columns(path, ("profit",))["profit"].dropna()


def read_forecasts(path: Path) -> pd.DataFrame:
    """Return forecasts by the date that they are for, from a table with columns date, value at risk
    (or var) and, where wanted, expected shortfall; raises FileError for another one, and for dates
    that are not in order.
    """
    table = _dated_columns(path, ("value at risk",), ("expected shortfall",)).dropna()
    if not table.index.is_monotonic_increasing or table.index.has_duplicates:
        raise FileError("the dates of forecasts must ascend, each once", file=str(path))
    return table


def _dated_columns(
    path: Path, needed: tuple[str, ...], others: tuple[str, ...] = ()
) -> pd.DataFrame:
    """Return columns of numbers by date; a name may be written with _ between its words."""
    table = read_table(path)
    columns = {name.lower().replace("_", " ").strip(): name for name in table.names}
    columns.setdefault("value at risk", columns.get("var", ""))
    lacking = [name for name in ("date", *needed) if not columns.get(name)]
    if lacking:
        raise FileError(
            f"needs columns date and {' and '.join(needed)}; it has {', '.join(table.names)}",
            file=table.file,
        )
    dates = pd.DatetimeIndex(table.dates(columns["date"]), name="date")
    kept = [*needed, *(name for name in others if columns.get(name))]
    return pd.DataFrame({name: table.numbers(columns[name]) for name in kept}, dates)


def checked_holdings(prices: Prices, kind: str, given: Any, short: bool) -> dict[str, float]:
    """Return amounts by instrument; raises ParameterError for unknown instruments, negative
    amounts, and nothing held.
    """
    stated_amounts = mapping(kind, given, "numbers by instrument")
    if not any(stated_amounts.values()):
        raise ParameterError("holds nothing")
    for name, amount in stated_amounts.items():
        _known(prices, name)
        if finite(f"the holding of {name}", amount) < 0 and not short:
            raise ParameterError(
                f"the holding of {name} is {amount:g}; say short=True for short positions"
            )
    return {name: float(amount) for name, amount in stated_amounts.items()}


def check_buyable(prices: Prices, bought_at: Floats, bought: Mask) -> None:
    """Raise ParameterError for instruments into which no money can be put: rates, whose level is no
    price, and prices that are not above 0.
    """
    for name, price, absolute in zip(
        np.array(prices.instruments)[bought],
        bought_at[bought],
        prices.absolute[bought],
        strict=True,
    ):
        if absolute:
            raise ParameterError(
                f"{name} changes by differences, as a yield does: no money can be put into its "
                "level; take the price of a bond, or a Position that is a bond (shares= are "
                "amounts per move of 1)"
            )
        if not price > 0:
            raise ParameterError(f"the price of {name} is {price:g}: no money buys it; say shares=")


def bought_for(money: Floats, prices: Floats) -> Floats:
    """Return the numbers of shares that amounts of money buy; 0 where there is no money."""
    return np.divide(money, prices, out=np.zeros_like(money), where=money != 0)


def stated_rates(
    prices: Prices, currency: Mapping[str, str] | None, unit: str = ""
) -> dict[str, str]:
    """Return by instrument the rate that changes its prices into the unit of the report; see
    ``kindynos.markets.exchange``. Raises ParameterError for columns there are not.
    """
    rates = mapping("currency", currency or {}, "columns of exchange rates by instrument")
    for name in rates:
        _known(prices, name)
    columns = list(prices.raw.columns)
    by_instrument = {name: rate_of(str(rate), unit, columns) for name, rate in rates.items()}
    return {name: rate for name, rate in by_instrument.items() if rate is not None}


def _known(prices: Prices, name: Any) -> None:
    if name not in prices.raw.columns:
        texts = [str(column) for column in prices.raw.columns]
        raise ParameterError(f"no prices of {name!r}", unknown=str(name), known=texts)
