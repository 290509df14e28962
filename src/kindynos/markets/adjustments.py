"""Prices as if nothing had been paid out or split: those before a split are divided by it, those
before a dividend lowered by the share that it was of the price, and a column of total returns tells
what both did. The last price stays as it is.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import FileError, ParameterError
from kindynos.validate import finite, mapping

TOTAL = re.compile(r"(.+?)[\s_]+total[\s_]+return", re.IGNORECASE)  # of an instrument, after it


def total_return_columns(columns: Iterable[str]) -> dict[str, str]:
    """Return the columns of total returns by their instruments, which are columns too."""
    columns = list(columns)
    matches = ((TOTAL.fullmatch(name), name) for name in columns)
    return {match[1]: name for match, name in matches if match and match[1] in columns}


def with_total_returns(
    frame: pd.DataFrame, columns: Mapping[str, str], as_returns: bool = False
) -> pd.DataFrame:
    """Return prices, or returns, whose moves are those of their columns of total returns, without
    these.
    """
    adjusted = frame.copy()
    for name, column in columns.items():
        if as_returns:
            adjusted[name] = frame[column]
            continue
        both = frame[[name, column]].dropna()
        if not len(both) or not (both[column] > 0).all():
            raise ParameterError(f"{column!r} must be above 0 beside prices of {name}")
        last = both.iloc[-1]
        adjusted[name] = (frame[column] * (last[name] / last[column])).where(frame[name].notna())
    return adjusted.drop(columns=list(columns.values()))


def adjusted(frame: pd.DataFrame, splits: Any, dividends: Any) -> Floats:
    """Return prices ``(dates, instruments)`` adjusted for splits and dividends by instrument and
    date; raises ParameterError for a date or an amount that cannot be. A dividend after the last
    price is not paid yet; a split after it is one that prices and shares do not know.
    """
    values, last = frame.to_numpy(dtype=np.float64, copy=True), frame.index.max()
    for name, date, ratio in _dated("split", splits, frame):
        if date > last:
            raise ParameterError(
                f"the split of {name} on {date:%Y-%m-%d} comes after the last price, of "
                f"{last:%Y-%m-%d}"
            )
        values[frame.index < date, frame.columns.get_loc(name)] /= _ratio(name, ratio)
    for name, date, amount in _dated("dividend", dividends, frame):
        before = frame.index < date
        prices = frame.loc[before, name].dropna()
        paid = finite(f"the dividend of {name}", amount)
        if not len(prices) or date > last:
            continue
        if not 0 <= paid < prices.iloc[-1]:
            raise ParameterError(
                f"the dividend of {name} on {date:%Y-%m-%d}, {paid:g}, must be from 0 to below the "
                f"price before it, {prices.iloc[-1]:g}"
            )
        values[before, frame.columns.get_loc(name)] *= 1 - paid / prices.iloc[-1]
    return values


def _dated(what: str, stated: Any, frame: pd.DataFrame) -> Iterator[tuple[str, pd.Timestamp, Any]]:
    """Yield what is stated by instrument and date of the instruments that there are."""
    for name, by_date in mapping(f"{what}s", stated, f"{what}s by instrument").items():
        for day, value in mapping(name, by_date, f"{what}s by date, such as 2027-03-04").items():
            if name in frame.columns:
                yield name, checked_date(f"the date of a {what} of {name}", day), value


def _ratio(name: str, ratio: Any) -> float:
    """Return the new shares for an old one, from a number or "3:2"."""
    new, _, old = str(ratio).partition(":")
    try:
        figure = float(new) / float(old or 1)
        if not (figure > 0 and np.isfinite(figure)):
            raise ValueError
    except (ValueError, ZeroDivisionError):
        raise ParameterError(
            f"the split of {name} must be new shares for old ones, such as '2:1' or 2, not "
            f"{ratio!r:.40}"
        ) from None
    return figure


def read_dividends(file: str | Path) -> dict[str, dict[str, float]]:
    """Return the dividends of a table with columns date, instrument and amount."""
    from kindynos.tables.reader import read_table

    table = read_table(file)
    lacking = [name for name in ("date", "instrument", "amount") if name not in table.names]
    if lacking:
        raise FileError(f"no column {lacking[0]!r}", file=str(file))
    dividends: dict[str, dict[str, float]] = {}
    dates, amounts = table.dates("date"), table.numbers("amount").tolist()
    for date, name, amount in zip(dates, table.texts("instrument"), amounts, strict=True):
        paid = dividends.setdefault(name, {})
        paid[f"{date:%Y-%m-%d}"] = paid.get(f"{date:%Y-%m-%d}", 0.0) + amount
    return dividends


def checked_date(name: str, value: Any) -> pd.Timestamp:
    """Return a date; raises ParameterError for anything else."""
    try:
        date = pd.Timestamp(value)
        if pd.isna(date):
            raise ValueError
    except (ValueError, TypeError):
        raise ParameterError(
            f"{name} must be a date such as 2027-12-31, not {value!r:.40}"
        ) from None
    return date.tz_localize(None).normalize()
