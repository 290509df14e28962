"""What is held: amounts of instruments that are checked, prices in one currency, and positions that
a function values.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.markets.prices import Prices
from kindynos.validate import finite, mapping

Revalue = Callable[[dict[str, Floats]], Any]


def checked_holdings(prices: Prices, kind: str, given: Any, short: bool) -> dict[str, float]:
    """Return amounts by instrument; raises ParameterError for unknown instruments, negative
    amounts, and nothing held.
    """
    held = mapping("Portfolio", kind, given, "numbers by instrument")
    if not any(held.values()):
        raise ParameterError("holds nothing", owner="Portfolio")
    for name, amount in held.items():
        _known(prices, name)
        if finite("Portfolio", f"the holding of {name}", amount) < 0 and not short:
            raise ParameterError(
                f"the holding of {name} is {amount:g}; say short=True for short positions",
                owner="Portfolio",
            )
    return {name: float(amount) for name, amount in held.items()}


def converted(prices: Prices, currency: Mapping[str, str] | None) -> Prices:
    """Return prices of which some are changed into the portfolio's currency by columns of exchange
    rates.

    ``currency`` has for each such instrument the column that says what one unit of its currency
    costs. Raises ParameterError for columns there are not.
    """
    raw = prices.raw
    for name, rate in mapping(
        "Portfolio", "currency", currency or {}, "columns of exchange rates by instrument"
    ).items():
        _known(prices, name)
        _known(prices, rate)
        raw = raw.assign(**{name: prices.raw[name] * prices.raw[rate]})
    return prices.with_raw(raw) if currency else prices


def _known(prices: Prices, name: Any) -> None:
    if name not in prices.raw.columns:
        known = [str(column) for column in prices.raw.columns]
        raise ParameterError(
            f"no prices of {name!r}", owner="Portfolio", unknown=str(name), known=known
        )


def profit_of(revalue: Revalue, names: list[str], today: Floats) -> Callable[[Floats], Floats]:
    """Return the function of growth ``(instruments, cases)`` that gives the profit of positions
    which ``revalue`` values.
    """

    def worth(prices: Floats) -> Floats:
        found = np.asarray(revalue(dict(zip(names, prices, strict=True))), dtype=np.float64)
        if found.shape != prices.shape[1:] or not np.isfinite(found).all():
            raise ParameterError(
                f"revalue must give one finite value for each of {prices.shape[1]} cases, not "
                f"{found.shape}",
                owner="Portfolio",
            )
        return found

    now = worth(today[:, None])

    def profit(growth: Floats) -> Floats:
        return np.asarray(worth(today[:, None] * growth) - now)

    return profit
