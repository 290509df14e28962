"""What one of each kind of position is worth, as a function of prices, rates and a date.

Options are those of Black and Scholes, Journal of Political Economy 81 (1973), 637-654, with
Merton's yield, Bell Journal of Economics 4 (1973), 141-183: with the yield equal to the rate they
are Black's of futures, with a foreign rate as the yield Garman and Kohlhagen's of currencies. A
bond is worth its payments discounted by its yield, a swap a fixed bond less a floating one: Hull,
Options, Futures, and Other Derivatives, chapters 4 and 7.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import ndtr

from kindynos.arrays import Floats
from kindynos.registry import Registry

YEAR = 365.0  # days, by which the time to an expiry is counted
NOMINAL = 100.0  # of a bond or a swap, that a price is of
KNOT = re.compile(r"(\S+)@(\S+)")


@dataclass(frozen=True)
class Shifted:
    """A term that lies by a step above what was stated."""

    stated: Any
    step: float


@dataclass(frozen=True)
class State(Mapping[str, Any]):
    """Prices, rates and volatilities by column, arrays ``(cases,)``, on a ``date``, in days since
    1970, which is ``days`` of the calendar after today: one date, or one for each case.
    """

    columns: Mapping[str, Floats]
    date: Any
    days: Any = 0.0

    def __getitem__(self, name: str) -> Any:
        return self.columns[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self.columns)

    def __len__(self) -> int:
        return len(self.columns)

    @property
    def since(self) -> Any:
        """The date from which on payments have been received: today, or the date of a past case."""
        return self.date - np.maximum(self.days, 0.0)

    def of(self, term: Any, years: Any = None) -> Any:
        """Return the value of a term: a number, a column, or a curve such as "R1@1 R5@5", between
        whose years it is interpolated; 0 where there is none.
        """
        if isinstance(term, Shifted):
            return self.of(term.stated, years) + term.step
        if not isinstance(term, str):
            return 0.0 if term is None else term
        knots = KNOT.findall(term)
        if not knots:
            return self.columns[term]
        at = [float(time) for _, time in knots]
        levels = [self.columns[name] if name in self.columns else float(name) for name, _ in knots]
        shares = [np.interp(years, at, row) for row in np.eye(len(at))]
        return sum(share * level for share, level in zip(shares, levels, strict=True))

    def years(self, day: Any) -> Any:
        """Return the years from each case to a date, 0 once it is past."""
        return np.maximum((day_number(day) - self.date) / YEAR, 0.0)


def columns_of(term: Any) -> list[str]:
    """Return the columns that a term is made of."""
    if not isinstance(term, str):
        return []
    knots = KNOT.findall(term)
    names = [name for name, _ in knots] if knots else [term]
    return [name for name in names if not _is_number(name)]


def _is_number(text: str) -> bool:
    try:
        return bool(np.isfinite(float(text)))
    except ValueError:
        return False


def day_number(day: Any) -> float:
    """Return the days from 1970-01-01 to a date."""
    return float(pd.Timestamp(day).normalize().to_datetime64().astype("datetime64[D]").astype(int))


Terms = Mapping[str, Any]


def share(state: State, terms: Terms) -> Any:
    """Return a price as it is."""
    return state.of(terms["underlying"])


def cash(state: State, terms: Terms) -> Any:
    """Return 1, of its currency."""
    return 1.0


def forward(state: State, terms: Terms) -> Any:
    """Return what a forward is worth: the price less the strike, both discounted."""
    spot, paid, _ = _discounted(state, terms)
    return spot - paid


def call(state: State, terms: Terms) -> Any:
    """Return what a European call is worth."""
    return _option(state, terms, 1.0)


def put(state: State, terms: Terms) -> Any:
    """Return what a European put is worth."""
    return _option(state, terms, -1.0)


def _discounted(state: State, terms: Terms) -> tuple[Any, Any, Any]:
    """Return the price, discounted by the yield, the strike, by the rate, and the years left."""
    years = state.years(terms["expiry"])
    spot = state.of(terms["underlying"]) * np.exp(-state.of(terms.get("yield"), years) * years)
    paid = state.of(terms["strike"]) * np.exp(-state.of(terms.get("rate"), years) * years)
    return spot, paid, years


def _option(state: State, terms: Terms, sign: float) -> Any:
    spot, paid, years = _discounted(state, terms)
    spread = state.of(terms["volatility"], years) * np.sqrt(years)
    with np.errstate(divide="ignore", invalid="ignore"):
        above = np.log(spot / paid) / spread + spread / 2
    alive = sign * (spot * ndtr(sign * above) - paid * ndtr(sign * (above - spread)))
    return np.where(spread > 0, alive, np.maximum(sign * (spot - paid), 0.0))


def _payment_days(terms: Terms, earliest: float) -> Floats:
    """Return the days of all payments after the earliest day, and of the one before ``(days, 1)``:
    counted back from the maturity.
    """
    end, apart = pd.Timestamp(terms["maturity"]), 12 // int(terms.get("times") or 2)
    before = max(day_number(end) - earliest, 0.0)
    count = math.ceil(before / (28 * apart)) + 1
    months = np.datetime64(end, "M") - apart * np.arange(count, -1, -1)
    lasts = (months + 1).astype("datetime64[D]").astype(np.int64) - 1
    days = np.minimum(months.astype("datetime64[D]").astype(np.int64) + end.day - 1, lasts)
    first = int(np.searchsorted(days, earliest, side="right")) - 1
    return np.asarray(days[max(first, 0) :, None], dtype=np.float64)


def bond(state: State, terms: Terms) -> Any:
    """Return what 100 of a bond are worth, with what is accrued and has been paid since today.

    The yield is one of ``times`` periods a year, the first of them by its actual days; with
    ``compounding`` "continuous" it is a continuous one by years of 365 days.
    """
    times, date = int(terms.get("times") or 2), np.atleast_1d(state.date)
    since = np.atleast_1d(state.since)
    days = _payment_days(terms, float(np.min(since)))
    ahead, received = days > date, (days > since) & (days <= date)
    if terms.get("compounding") == "continuous":
        years = np.where(ahead, days - date, 0.0) / YEAR
        discount = np.exp(-state.of(terms["yield"], years) * years)
    else:
        following = np.where(ahead, days, np.inf).min(axis=0)
        last = np.where(ahead, -np.inf, days).max(axis=0)
        with np.errstate(invalid="ignore"):
            periods = np.cumsum(ahead, axis=0) - 1 + (following - date) / (following - last)
        periods = np.where(ahead, periods, 0.0)
        discount = (1 + state.of(terms["yield"], periods / times) / times) ** -periods
    coupon = NOMINAL * state.of(terms["coupon"]) / times
    payment = coupon + np.where(days == days[-1], NOMINAL, 0.0)
    return (payment * np.where(ahead, discount, received)).sum(axis=0)


def swap(state: State, terms: Terms) -> Any:
    """Return what 100 of a swap are worth to who receives the ``fixed`` rate, with what has been
    paid since today: that bond less the floating one. The floating one is worth 100 and the
    interest of its ``fixing`` on the next date; without a fixing 100 on any day.
    """
    rate, date = terms["rate"], np.atleast_1d(state.date)
    own = {**terms, "coupon": terms["fixed"], "yield": rate, "compounding": "continuous"}
    times, since = int(terms.get("times") or 2), np.atleast_1d(state.since)
    days = _payment_days(terms, float(np.min(since)))
    following = np.where(days > date, days, np.inf).min(axis=0)
    alive = np.isfinite(following)
    floating: Any = NOMINAL
    if terms.get("fixing") is not None:
        fixed = (days > since) & (days <= date)
        paid = NOMINAL * (1 + state.of(terms["fixing"]) / times)
        years = np.where(alive, following - date, 0.0) / YEAR
        to_come = paid * np.exp(-state.of(rate, years) * years)
        floating = np.where(fixed.any(axis=0), paid, to_come)
    ended = ~alive & ~((days > since) & (days <= date)).any(axis=0)
    return bond(state, own) - np.where(ended, 0.0, floating)


@dataclass(frozen=True)
class Kind:
    """How one of a kind is valued, the terms that it needs and may have, and what one unit of its
    number is: of bonds and swaps the nominal.
    """

    worth: Callable[[State, Terms], Any]
    needs: tuple[str, ...] = ()
    may_have: tuple[str, ...] = ()
    unit: float = 1.0


_OPTION = Kind(call, ("underlying", "strike", "expiry", "volatility"), ("rate", "yield"))
KINDS: Registry[Kind] = Registry(
    "kind of position",
    {
        "share": Kind(share, ("underlying",)),
        "cash": Kind(cash),
        "forward": Kind(forward, ("underlying", "strike", "expiry"), ("rate", "yield")),
        "call": _OPTION,
        "put": Kind(put, _OPTION.needs, _OPTION.may_have),
        "bond": Kind(bond, ("coupon", "maturity", "yield"), ("times", "compounding"), 1 / NOMINAL),
        "swap": Kind(swap, ("fixed", "maturity", "rate"), ("times", "fixing"), 1 / NOMINAL),
    },
)
