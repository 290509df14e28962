"""Positions that are valued one by one, each as a function of columns of prices, rates and
volatilities: by the closed form of its kind, or by a function of the user's.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import FileError, Mistakes, ParameterError
from kindynos.markets.adjustments import checked_date
from kindynos.markets.changes import Mask, prices_after
from kindynos.markets.closed_forms import KINDS, KNOT, Shifted, State, columns_of, day_number
from kindynos.markets.exchange import column_of, multiplier
from kindynos.printable import visible
from kindynos.tables.cells import number_in
from kindynos.tables.table import Table
from kindynos.validate import Finite, checked, finite, instance, one_of, positive

DATES = ("expiry", "maturity")
BY_DIFFERENCES = ("volatility", "rate", "yield", "coupon", "fixed", "fixing")
TERMS = tuple(dict.fromkeys(t for kind in KINDS.values() for t in (*kind.needs, *kind.may_have)))
PLAIN = ("name", "kind", "number", "side", "multiplier", "currency", "group")  # other columns
ALSO = {
    "name": ("instrument", "symbol", "ticker"),
    "number": ("shares", "quantity", "nominal"),
    "multiplier": ("contract size",),
}  # other headings of the same
SIDES = {
    **dict.fromkeys(("", "long", "buy", "bought"), 1.0),
    **dict.fromkeys(("short", "sell", "sold"), -1.0),
}
TIMES = (1, 2, 4, 12)  # payments a year
COMPOUNDING = ("periodic", "continuous")
AGREED = (*DATES, "strike", "times", "compounding", "coupon", "fixed")  # terms that do not move
STEP = 5e-4  # of a term, by which sensitivities step
# what the sensitivity in money is of: a move that people speak of
PER = {"underlying": (0.01, "1 %"), "volatility": (0.01, "1 point")}
BASIS_POINT = (1e-4, "1 basis point")

Worth = Callable[[State], Any]


class Position:
    """A number of positions of a kind, with its terms, valued by its closed form.

    Kinds are "share" (``underlying``), "cash", "forward" (``underlying``, ``strike``, ``expiry``),
    "call" and "put" (the same and ``volatility``; all three with ``rate`` and ``yield`` where
    wanted), "bond" (``coupon``, ``maturity``, ``yield``; its number is the nominal) and "swap"
    (``fixed``, ``maturity``, ``rate``, perhaps the ``fixing`` of its next payment; above 0 it
    receives the fixed rate). A term is a number, the name of a column of the prices, which it moves
    with, or a curve such as "R1@1 R5@5" of columns at years. Rates are continuous, yields by
    ``times`` periods a year (default: 2), or with ``compounding="continuous"``. The kind may also
    be a function of the prices by column, arrays ``(cases,)``, that gives what one is worth; their
    ``days`` are those of the calendar since today. Numbers below 0 are sold. ``currency`` is that
    of the price, as in ``Portfolio``. Raises ParameterError for terms that the kind lacks or does
    not have, and for numbers that no such position has.

    >>> Position("call", 100, underlying="shipyard", strike=50, expiry="2028-06-30", volatility=0.3)
    <100 of call: underlying shipyard, strike 50, expiry 2028-06-30, volatility 0.3>
    """

    @checked
    def __init__(
        self,
        kind: str | Worth,
        number: float = 1.0,
        *,
        currency: str = "",
        group: str = "",
        **terms: Any,
    ) -> None:
        self.number = finite("number", number)
        self.currency = instance("currency", currency, str, "a currency or a column")
        self.group = instance("group", group, str, "a name")
        self.kind = kind if isinstance(kind, str) else "function"
        self.terms: dict[str, Any] = {}
        self._function = None if isinstance(kind, str) else kind
        if not isinstance(kind, str):
            if terms:
                raise ParameterError(f"a function has no terms, and {', '.join(terms)} is given")
            return
        form = KINDS.find(kind)
        stated = {name: term for name, term in terms.items() if term is not None}
        for name in stated:
            if name not in (*form.needs, *form.may_have):
                raise ParameterError(
                    f"a {kind} has no {name}",
                    unknown=name,
                    known=(*form.needs, *form.may_have, "currency", "group"),
                )
        lacking = [name for name in form.needs if name not in stated]
        if lacking:
            raise ParameterError(f"a {kind} needs {', '.join(lacking)}")
        self.terms = {name: _checked_term(name, term) for name, term in stated.items()}

    def _worth(self, state: State) -> Any:
        """Return what one is worth in a state."""
        if self._function is not None:
            return self._function(state)
        form = KINDS[self.kind]
        return form.unit * form.worth(state, self.terms)

    @property
    def columns(self) -> list[str]:
        """The columns of prices that it is valued by; of a function they are not known."""
        own = [name for name, term in self.terms.items() if name not in (*DATES, "compounding")]
        return list(dict.fromkeys(c for name in own for c in columns_of(self.terms[name])))

    @property
    def absolute(self) -> list[str]:
        """The columns that change by differences: volatilities, yields and rates."""
        own = [self.terms.get(name) for name in BY_DIFFERENCES]
        return [column for term in own for column in columns_of(term)]

    @property
    def last_day(self) -> str:
        """The date of its expiry or maturity; "" where it has none."""
        return next((self.terms[name] for name in DATES if name in self.terms), "")

    @checked
    def of(self, number: Finite) -> Position:
        """Return another number of the same."""
        other = object.__new__(Position)
        other.__dict__.update(self.__dict__, number=number)
        return other

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Position) and vars(self) == vars(other)

    __hash__ = None  # type: ignore[assignment]

    def _shifted(self, name: str, step: float) -> Position:
        """Return the same with a term that lies a step higher."""
        other = self.of(self.number)
        other.terms = {**self.terms, name: Shifted(self.terms[name], step)}
        return other

    def __repr__(self) -> str:
        terms = ", ".join(f"{name} {_shown(term)}" for name, term in self.terms.items())
        return f"<{self.number:g} of {self.kind}{': ' if terms else ''}{visible(terms)}>"


def _shown(term: Any) -> str:
    return f"{term:g}" if isinstance(term, float) else str(term)


def _checked_term(name: str, term: Any) -> Any:
    if name in DATES:
        return f"{checked_date(name, term):%Y-%m-%d}"
    if name == "compounding":
        return one_of(name, term, COMPOUNDING)
    if name == "times":
        if finite(name, term) not in TIMES:
            raise ParameterError(f"times is one of 1, 2, 4 and 12 a year, not {term:g}")
        return int(term)
    if isinstance(term, str):
        if "@" in term and KNOT.sub("", term).strip():
            raise ParameterError(f"{name} {term!r:.60} is not a curve such as 'R1@1 R5@5'")
        return term.strip()
    if name in ("strike", "volatility", "underlying"):
        return positive(name, term)
    return finite(name, term)


@dataclass(frozen=True, eq=False)
class Positions:
    """Positions by name with today's prices by column, the columns that are ``absolute`` and change
    by differences, and the rate of each position's currency, where it has one.
    """

    held: Mapping[str, Position]
    columns: tuple[str, ...]
    today: Floats
    absolute: Mask
    date: float  # today, in days since 1970
    rates: Mapping[str, str]

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the positions."""
        return tuple(self.held)

    @property
    def in_proportion(self) -> bool:
        """Whether profits are in proportion to the moves: not in general."""
        return False

    @cached_property
    def numbers(self) -> Floats:
        """How many of each position are held ``(positions,)``."""
        return np.array([position.number for position in self.held.values()])

    @cached_property
    def now(self) -> Floats:
        """What each position is worth today ``(positions,)``."""
        return self.worth(self.today[:, None])[:, 0]

    def worth(self, prices: Floats, days: float | Floats = 0.0) -> Floats:
        """Return what each position is worth ``(positions, cases)`` at prices ``(columns, cases)``
        after days of the calendar; before today they are negative, and lengthen lives.

        Raises ParameterError for a function that does not give a value for each case.
        """
        state = State(dict(zip(self.columns, prices, strict=True)), self.date + days, days)
        count = prices.shape[1]
        rows = np.empty((len(self.held), count))
        for row, (name, position) in zip(rows, self.held.items(), strict=True):
            values = np.asarray(position._worth(state), dtype=np.float64)
            own = position.kind == "function"
            if (own and values.shape != (count,)) or not np.isfinite(values).all():
                raise ParameterError(
                    f"position {name!r} must have one finite value for each of {count} cases, not "
                    f"{'NaN or infinity' if values.shape == (count,) else values.shape}"
                )
            rate = self.rates.get(name)
            money = 1.0 if rate is None else multiplier(rate, state[column_of(rate)])
            row[:] = position.number * money * values
        return rows

    def profits(self, moves: Floats, days: float = 0.0) -> Floats:
        """Return the profit of each position ``(positions, cases)`` after moves ``(columns,
        cases)`` and days of the calendar.
        """
        after = prices_after(self.today, moves, self.absolute)
        return self.worth(after, days) - self.now[:, None]

    def profit(self, moves: Floats, days: float = 0.0) -> Floats:
        """Return the profit of all positions together ``(cases,)``."""
        return np.asarray(self.profits(moves, days).sum(axis=0))

    def holding(self, numbers: Sequence[float] | Floats) -> Positions:
        """Return other numbers of the same positions."""
        pairs = zip(self.held.items(), map(float, numbers), strict=True)
        return replace(self, held={name: position.of(n) for (name, position), n in pairs})

    def at(self, prices: Floats, date: float) -> Positions:
        """Return the same at other prices, on a date in days since 1970."""
        return replace(self, today=prices, date=date)

    def sensitivities(self) -> pd.DataFrame:
        """Return how the value of each position changes with each of its terms: a row for each.

        Columns: at (the term today), slope and curvature (the first and second derivatives, of the
        fourth order), per and money (the profit from a move that people speak of: 1 % of a price,
        a point of volatility, a basis point of a rate, a day), and of bonds duration and convexity
        in years.
        """
        rows: dict[tuple[str, str], dict[str, Any]] = {}
        for name, position in self.held.items():
            alone = replace(self, held={name: position})
            value = float(alone.now[0])
            for term in position.terms:
                if term in AGREED:
                    continue
                at = _level(alone, position.terms[term])
                size, per = PER.get(term, BASIS_POINT)
                size *= at if term == "underlying" else 1.0
                slope, curvature = _slopes(alone, name, term, STEP * max(abs(at), 0.05))
                rows[name, term] = {
                    "at": at,
                    "slope": slope,
                    "curvature": curvature,
                    "per": per,
                    "money": slope * size,
                }
                if position.kind == "bond" and term == "yield" and value:
                    rows[name, term] |= {"duration": -slope / value, "convexity": curvature / value}
            if position.last_day:
                ahead, back = (
                    float(alone.worth(self.today[:, None], step)[0, 0]) for step in (1e-3, -1e-3)
                )
                slope = (ahead - back) / 2e-3
                rows[name, "time"] = {"slope": slope, "per": "1 day", "money": slope}
        names = pd.MultiIndex.from_tuples(rows or [], names=["position", "term"])
        order = ["at", "slope", "curvature", "per", "money", "duration", "convexity"]
        return pd.DataFrame(list(rows.values()), names).reindex(columns=order)


def _level(book: Positions, term: Any) -> float:
    state = State(dict(zip(book.columns, book.today, strict=True)), book.date)
    return float(state.of(term, 0.0))


def _slopes(book: Positions, name: str, term: str, step: float) -> tuple[float, float]:
    """Return the first and second derivatives of a position's value with a term."""

    def worth(steps: float) -> float:
        shifted = book.held[name]._shifted(term, steps * step)
        return float(replace(book, held={name: shifted}).worth(book.today[:, None])[0, 0])

    a, b, c, d, e = map(worth, (-2.0, -1.0, 0.0, 1.0, 2.0))
    first = (a - 8 * b + 8 * d - e) / (12 * step)
    second = (-a + 16 * b - 30 * c + 16 * d - e) / (12 * step**2)
    return first, second


def read_positions(table: Table) -> tuple[dict[str, Position], list[str]]:
    """Return the positions in the rows of a table, by name, and the columns that are not read.

    Columns: name (or instrument), kind, number (or shares, quantity, nominal), and perhaps side
    (long or short), multiplier, currency, group and the terms of the kinds; a row without a kind is
    a share, and what it is valued by is its name where no underlying is stated. Rows of one
    position are added. Raises FileError, with all such rows, for what no position may be.
    """
    columns = table.headings(ALSO)
    headings = (*PLAIN, *TERMS)
    if "number" not in columns:
        raise FileError(
            f"positions need a column number; there are {', '.join(table.names)[:400]}",
            file=table.file,
        )
    texts = {name: table.texts(columns[name]) for name in headings if name in columns}
    positions: dict[str, Position] = {}
    mistakes = Mistakes(table.file)
    for position in range(len(table.rows)):
        cells = {name: column[position] for name, column in texts.items() if column[position]}
        with mistakes.at(row=int(table.rows[position])):
            name, one = _of_row(cells, table.decimal)
            held = positions.get(name)
            if held is not None and held.of(0) != one.of(0):
                raise ParameterError(f"{name} has other terms than above; give it another name")
            positions[name] = one if held is None else one.of(held.number + one.number)
    mistakes.report()
    return positions, [name for text, name in columns.items() if text not in headings]


def _of_row(cells: dict[str, str], decimal: str) -> tuple[str, Position]:
    """Return the name and the position that the cells of a row state."""

    def number(name: str) -> float:
        value = _number_of(cells[name], decimal)
        if value is None:
            raise ParameterError(f"{name} {cells[name]!r:.40} is not a number")
        return value

    kind = cells.get("kind", "share").lower()
    terms: dict[str, Any] = {}
    for term in TERMS:
        if term in cells:
            value = None if term in DATES else _number_of(cells[term], decimal)
            terms[term] = cells[term] if value is None else value
    if kind == "share":
        terms.setdefault("underlying", cells.get("name", ""))
    details = [terms.get("underlying"), terms.get("strike"), *(terms.get(name) for name in DATES)]
    name = cells.get("name") or " ".join(_shown(part) for part in (kind, *details) if part)
    if "number" not in cells:
        raise ParameterError(f"{name} has no number")
    side = SIDES.get(cells.get("side", "").lower())
    count = number("number")
    if side is None:
        raise ParameterError(f"the side of {name} is {cells['side']!r:.40}; say long or short")
    if side < 0 and count < 0:
        raise ParameterError(f"{name} is {cells['side']} of {count:g}: say the side or the minus")
    if "multiplier" in cells:
        count *= positive(f"the multiplier of {name}", number("multiplier"))
    currency, group = cells.get("currency", ""), cells.get("group", "")
    return name, Position(kind, side * count, currency=currency, group=group, **terms)


def _number_of(text: str, decimal: str) -> float | None:
    """Return the number in a cell, 4 % as 0.04; None for another text."""
    cell = number_in(text, decimal)
    return None if cell is None else cell.value


def stated_positions(given: Any, today: pd.Timestamp | None = None) -> dict[str, Position]:
    """Return positions by name from positions or functions by name; raises ParameterError for
    others, and for what has expired before today.
    """
    if not isinstance(given, Mapping) or not given:
        raise ParameterError(
            "positions must be positions or functions of the prices by name, such as "
            "{'call': kd.Position('call', 100, ...)}"
        )
    positions = {}
    for name, stated in given.items():
        if not (callable(stated) or isinstance(stated, Position)):
            raise ParameterError(f"position {name!r:.60} is {stated!r:.60}, not a Position")
        position = stated if isinstance(stated, Position) else Position(stated)
        last = position.last_day
        if today is not None and last and day_number(last) < day_number(today):
            what = "expired" if "expiry" in position.terms else "matured"
            raise ParameterError(f"{name} {what} on {last}, before {today:%Y-%m-%d}")
        positions[str(name)] = position
    return positions
