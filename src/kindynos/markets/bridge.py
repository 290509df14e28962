"""Why value at risk has moved since an earlier date: what was bought and sold, prices,
volatilities, and the rest of the history.

Past losses of the holdings under each return of a window are scaled holding by holding: by the
number held, by its price, and by the standard deviation of its returns; what is left is in which
days the window holds. Each mixture of the earlier and the later of these is worked out, and each
explains the mean, over all orders, of what changing it adds (Shapley, as in ``kindynos.bridge``).
Errors are those of histories drawn again by blocks of days, the same days in both windows.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from itertools import combinations
from typing import Protocol

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import symmetrical
from kindynos.inference.intervals import Z
from kindynos.inference.rows import loss_tail
from kindynos.markets.book import Book, Held
from kindynos.markets.closed_forms import day_number
from kindynos.markets.positions import Positions
from kindynos.markets.prices import Prices
from kindynos.program.differences import Change
from kindynos.sampling.streams import stream
from kindynos.studies.bridge import Bridge

MOST = 6  # holdings with a part of their own; smaller changes are one
DRAWN = 200  # histories drawn again
BLOCK = 10  # days
OTHERS = "other holdings"
PRICES, VOLATILITIES, REST = "prices", "volatilities", "the rest of the history"


class Holdings(Protocol):
    """What is needed of a portfolio."""

    market: Prices
    prices: Prices

    @property
    def book(self) -> Book: ...  # noqa: D102


@dataclass(frozen=True)
class _Side:
    """One of the two dates: what either holds, in the numbers and at the prices of that date, and
    the returns of the window, whose places in the whole history are ``days``.
    """

    book: Book
    returns: Floats
    days: np.ndarray
    held: float  # days of the calendar over which the figure is


Mixture = frozenset[int]


def risk_bridge(later: Holdings, earlier: Holdings, level: float, window: int, seed: int) -> Bridge:
    """Return what moved value at risk from an earlier portfolio to a later one; raises
    ParameterError for an instrument without prices, and a history that is too short before the
    earlier date.
    """
    sides = _sides(later, earlier, window)
    changes = _changes(sides)
    ways = _Ways(sides, changes, level)
    count = len(changes)
    everything = frozenset(range(count))
    parts = _shapley(count, ways.figure)

    span = int(sides[1].days[-1]) + 1 - int(sides[0].days[0])
    generator = stream(seed, "bridge")
    drawn = []
    for _ in range(DRAWN):
        # no day without weight: a short window may miss every block
        ways.weigh(_days_again(span, generator) + 1e-9)
        again = _shapley(count, ways.figure)
        whole = ways.figure(everything) - ways.figure(frozenset())
        drawn.append([*again, ways.figure(frozenset()), ways.figure(everything), whole])
    *errors, error_before, error_after, error = _reach(np.array(drawn))
    ways.weigh(None)
    before, after = ways.figure(frozenset()), ways.figure(everything)
    alone = {
        change.name: (ways.figure(frozenset([k])) - before, after - ways.figure(everything - {k}))
        for k, change in enumerate(changes)
    }
    dates = [portfolio.prices.dates[-1] for portfolio in (earlier, later)]
    return Bridge(
        "the holdings",
        f"value at risk at {100 * level:g} %",
        None,
        "amount",
        symmetrical(before, error_before),
        symmetrical(after, error_after),
        error,
        [change.stated for change in changes],
        {c.name: symmetrical(p, e) for c, p, e in zip(changes, parts, errors, strict=True)},
        {name: first for name, (first, _) in alone.items()},
        {name: last for name, (_, last) in alone.items()},
        trials=window,
        seed=seed,
        runs=2**count,
        basis=(
            f"From {dates[0]:%Y-%m-%d} to {dates[1]:%Y-%m-%d}, by the past losses of {window} "
            "periods before each date. What a change explains is the mean over the orders in which "
            "they can be made; parts add up. Errors are those of histories drawn again."
        ),
    )


def _sides(later: Holdings, earlier: Holdings, window: int) -> list[_Side]:
    """Return both dates over what either holds."""
    books, columns = _joined(later, earlier)
    for name in columns:
        if name not in later.market.instruments:
            raise ParameterError(
                "the prices of today have no such instrument, which was held before",
                unknown=name,
                known=later.market.instruments,
            )
    prices = later.market.subset(columns)
    frame, moves = prices.frame, prices.moves
    sides = []
    for portfolio, book in zip((earlier, later), books, strict=True):
        date = portfolio.prices.dates[-1]
        last = int(frame.index.searchsorted(date, side="right")) - 1
        if last < 0 or frame.index[last] != date:
            raise ParameterError(f"{date:%Y-%m-%d} has no prices of all that is held")
        if last < window:
            raise ParameterError(
                f"window {window} asks for more returns than the {last} up to {date:%Y-%m-%d}"
            )
        days = np.arange(last - window, last)
        then = book.at(frame.to_numpy()[last], day_number(date))
        sides.append(_Side(then, moves[days], days, 365 / prices.spacing.per_year))
    if sides[0].days[-1] >= sides[1].days[-1]:
        raise ParameterError("the earlier portfolio ends on the date of the later one, or after it")
    return sides


def _joined(later: Holdings, earlier: Holdings) -> tuple[list[Book], list[str]]:
    """Return of the earlier and the later date a book of all that either holds, and its columns. A
    position whose terms have changed is one that was sold and one that was bought.
    """
    before, after = earlier.book, later.book
    if isinstance(before, Held) and isinstance(after, Held):
        names = tuple(dict.fromkeys([*before.names, *after.names]))
        absolute = tuple(
            later.market.subset(list(names)).absolute.tolist()
            if set(names) <= set(later.market.instruments)
            else [False] * len(names)
        )
        held = [dict(zip(book.names, book.held, strict=True)) for book in (before, after)]
        numbers = [tuple(of.get(name, 0.0) for name in names) for of in held]
        return [Held(names, own, (0.0,) * len(names), absolute) for own in numbers], list(names)
    if isinstance(before, Positions) and isinstance(after, Positions):
        return _joined_positions(before, after)
    raise ParameterError("positions are compared with positions, not with numbers of instruments")


def _joined_positions(before: Positions, after: Positions) -> tuple[list[Book], list[str]]:
    shown = {
        name: name
        if name not in after.held or position.of(0) == after.held[name].of(0)
        else f"{name}, before"
        for name, position in before.held.items()
    }
    sold = {shown[name]: position for name, position in before.held.items()}
    everything = {**sold, **after.held}
    rates = {shown[name]: rate for name, rate in before.rates.items()} | dict(after.rates)
    columns = tuple(dict.fromkeys([*before.columns, *after.columns]))
    differences = {
        name
        for book in (before, after)
        for name, absolute in zip(book.columns, book.absolute, strict=True)
        if absolute
    }
    whole = Positions(
        everything,
        columns,
        np.zeros(len(columns)),
        np.array([name in differences for name in columns]),
        0.0,
        rates,
    )
    numbers = [
        [own[name].number if name in own else 0.0 for name in everything]
        for own in (sold, after.held)
    ]
    return [whole.holding(own) for own in numbers], list(columns)


@dataclass(frozen=True)
class _Change:
    """A change with the instruments whose numbers it moves."""

    name: str
    instruments: tuple[int, ...]
    words: tuple[str, ...]

    @property
    def stated(self) -> Change:
        """The change as lists of changes have it."""
        return Change(self.name, words=self.words)


def _changes(sides: list[_Side]) -> list[_Change]:
    """Return what may have moved the figure: the holdings that changed, the smallest together, then
    prices, volatilities and the rest.
    """
    names = sides[0].book.names
    before, after = (side.book.numbers for side in sides)
    moved = np.flatnonzero(before != after)
    sizes = np.abs(sides[1].book.holding(after - before).now)[moved]
    order = moved[np.argsort(-sizes)].tolist()

    def words(position: int) -> str:
        return f"{names[position]}: {before[position]:,.6g} to {after[position]:,.6g}"

    own = order if len(order) <= MOST else order[: MOST - 1]
    changes = [_Change(names[k], (k,), (words(k),)) for k in own]
    rest = order[len(own) :]
    if rest:
        changes.append(_Change(OTHERS, tuple(rest), tuple(map(words, rest))))
    return [
        *changes,
        _Change(PRICES, (), ("the prices of the holdings",)),
        _Change(VOLATILITIES, (), ("the standard deviations of the returns in the window",)),
        _Change(REST, (), ("which days the window holds, on the same scale",)),
    ]


class _Ways:
    """The figure of each mixture of the two dates, kept once it is worked out."""

    def __init__(self, sides: list[_Side], changes: list[_Change], level: float) -> None:
        self.sides, self.changes, self.level = sides, changes, level
        ones = np.ones(len(sides[0].book.numbers))
        self.of_one = [side.book.holding(ones) for side in sides]
        self.weigh(None)

    def weigh(self, weights: Floats | None) -> None:
        """Give each day of the span of both windows a weight; None for all alike."""
        self.figures: dict[Mixture, float] = {}
        self.profits: dict[tuple[bool, bool, bool], Floats] = {}
        first = self.sides[0].days[0]
        self.weights = [
            None if weights is None else _shares(weights[side.days - first]) for side in self.sides
        ]
        self.sds = [
            _sd(side.returns, own) for side, own in zip(self.sides, self.weights, strict=True)
        ]

    def figure(self, mixture: Mixture) -> float:
        """Return value at risk where some of the changes are made."""
        if mixture not in self.figures:
            made = {change.name for k, change in enumerate(self.changes) if k in mixture}
            held = self.sides[0].book.numbers.copy()
            for k, change in enumerate(self.changes):
                if k in mixture and change.instruments:
                    places = list(change.instruments)
                    held[places] = self.sides[1].book.numbers[places]
            profits = self._profits_of_one(PRICES in made, VOLATILITIES in made, REST in made)
            losses, weights = -(held @ profits), self.weights[REST in made]
            quantile, _ = loss_tail(losses[None], self.level, weights)
            self.figures[mixture] = float(quantile[0])
        return self.figures[mixture]

    def _profits_of_one(self, prices: bool, volatilities: bool, rest: bool) -> Floats:
        """Return the profit of one of each thing held under each past move ``(held, moves)``."""
        mixture = (prices, volatilities, rest)
        if mixture not in self.profits:
            scale = self.sds[volatilities] / self.sds[rest]
            moves = (self.sides[rest].returns * scale).T
            self.profits[mixture] = self.of_one[prices].profits(moves, self.sides[prices].held)
        return self.profits[mixture]


def _shares(weights: Floats) -> Floats:
    return np.asarray(weights / weights.sum())


def _sd(returns: Floats, weights: Floats | None) -> Floats:
    mean = returns.mean(axis=0) if weights is None else weights @ returns
    squares = (returns - mean) ** 2
    variance = squares.mean(axis=0) if weights is None else weights @ squares
    return np.sqrt(np.where(variance > 0, variance, 1.0))


def _shapley(count: int, figure: Callable[[Mixture], float]) -> list[float]:
    """Return the mean, over all orders, of what each change adds."""
    parts = [0.0] * count
    for size in range(count):
        weight = math.factorial(size) * math.factorial(count - size - 1) / math.factorial(count)
        for made in map(frozenset, combinations(range(count), size)):
            for position in frozenset(range(count)) - made:
                parts[position] += weight * (figure(made | {position}) - figure(made))
    return parts


def _days_again(span: int, generator: np.random.Generator) -> Floats:
    """Return how often each day appears in a history drawn again by blocks of days in a circle."""
    starts = generator.integers(0, span, -(-span // BLOCK))
    places = (starts[:, None] + np.arange(BLOCK)) % span
    return np.bincount(places.ravel(), minlength=span).astype(float)


def _reach(drawn: Floats) -> Floats:
    """Return the 95 % half-widths from the spread of figures ``(histories, figures)``."""
    return np.asarray(Z * drawn.std(axis=0, ddof=1))
