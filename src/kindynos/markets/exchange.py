"""Which column of prices changes money of a currency into that of the report, and which way.

A column named by two currencies, such as EURUSD, EUR/USD or eur_usd, says what one unit of the
first costs in the second; one named otherwise, what one unit of its currency costs at home. A
column that is written with 1/ before it is divided by.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import TypeVar

import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.units.words import CODES

OVER = "1/"
PAIR = re.compile(r"([a-z]{3})[\s/_.-]?([a-z]{3})", re.IGNORECASE)

Values = TypeVar("Values", Floats, "pd.Series[float]")


def column_of(rate: str) -> str:
    """Return the column of a rate that may be written with 1/ before it."""
    return rate.removeprefix(OVER).strip()


def multiplier(rate: str, values: Values) -> Values:
    """Return what prices are multiplied by."""
    return 1 / values if rate.startswith(OVER) else values


def move_of(rate: str, move: Floats) -> Floats:
    """Return the move of what prices are multiplied by, from that of the column."""
    return 1 / (1 + move) - 1 if rate.startswith(OVER) else move


def pair_of(name: str) -> tuple[str, str] | None:
    """Return the two currencies that a column is named by, or None.

    >>> pair_of("eur_usd"), pair_of("COPPER")
    (('EUR', 'USD'), None)
    """
    match = PAIR.fullmatch(name.strip())
    pair = (match[1].upper(), match[2].upper()) if match else None
    return pair if pair and set(pair) <= CODES else None


def rate_of(stated: str, unit: str, columns: Iterable[str]) -> str | None:
    """Return the rate that a stated currency or column means, with 1/ before what is divided by;
    None for the unit of the report itself.

    Raises ParameterError where no column or several would do, and for a column of two currencies
    whose direction the unit does not tell.
    """
    home, names = unit.upper(), [str(column) for column in columns]
    code = stated.strip().upper()
    if home and code == home:
        return None
    column = column_of(stated)
    pair = pair_of(column)
    if column in names:
        if stated.startswith(OVER) or pair is None:
            return stated
        if home in pair:
            return column if home == pair[1] else f"{OVER}{column}"
        first, second = pair
        raise ParameterError(
            f"{column} is what one {first} costs in {second}: say the unit of the report ({first} "
            f"or {second}), or write {OVER}{column} for prices in {second} of a report in {first}"
        )
    if pair is not None and home in pair and not stated.startswith(OVER):
        code = next(one for one in pair if one != home)
    if code not in CODES:
        raise ParameterError(f"no prices of {stated!r}", unknown=stated, known=names)
    columns_of_pair = [
        name if both == (code, home) else f"{OVER}{name}"
        for name in names
        if (both := pair_of(name)) is not None and set(both) == {code, home}
    ]
    if len(columns_of_pair) == 1:
        return columns_of_pair[0]
    other = home or "..."
    there = (
        "there are " + " and ".join(map(column_of, columns_of_pair))
        if columns_of_pair
        else "there is none"
    )
    more = "" if home else "; say the unit of the report, such as EUR"
    raise ParameterError(
        f"the currency {code} needs one column {code}, {code}{other} or {other}{code}; "
        f"{there}{more}"
    )
