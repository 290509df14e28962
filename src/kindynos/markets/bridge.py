"""Why value at risk has moved since an earlier date: what was bought and sold, prices,
volatilities, and the rest of the history.

The figure is that of a method, such as the one that is reported, from the returns of a window
before each date. They are scaled instrument by instrument: by the number held, by its price, and by
the standard deviation of its returns; what is left is in which days the window holds. Each mixture
of the earlier and the later of these is worked out, and each explains the mean, over all orders, of
what changing it adds (Shapley, as in ``kindynos.bridge``). Errors are those of histories drawn
again by blocks of days, the same days in both windows.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Protocol

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import symmetrical
from kindynos.inference.intervals import Z
from kindynos.markets.book import Book, Held
from kindynos.markets.closed_forms import day_number
from kindynos.markets.exposure import Exposure
from kindynos.markets.method import MEASURES, Method
from kindynos.markets.positions import Positions
from kindynos.markets.prices import Prices
from kindynos.program.differences import Change
from kindynos.sampling.streams import stream
from kindynos.studies.bridge import Bridge

MOST = 6  # holdings with a part of their own; smaller changes are one
DRAWN = 200  # histories drawn again
BLOCK = 10  # days
OTHERS = "other holdings"
FEWEST = 50  # returns before each date
OF_MARKETS = {
    "prices": "the prices of the holdings",
    "volatilities": "the standard deviations of the returns in the window",
    "the rest of the history": "which days the window holds, on the same scale",
}


class Holdings(Protocol):
    """What is needed of a portfolio."""

    market: Prices
    prices: Prices

    @property
    def book(self) -> Book: ...  # noqa: D102


@dataclass(frozen=True)
class _Side:
    """One of the two dates: what either holds, in the numbers and at the prices of that date, and
    the returns of the window, whose places in the whole history are ``days``, with their dates.
    """

    book: Book
    returns: Floats
    days: NDArray[np.int64]
    prices: Prices
    dates: pd.DatetimeIndex

    @property
    def period(self) -> float:
        """The days of the calendar over which a figure of one period is."""
        return 365 / self.prices.spacing.per_year

    def again(self, counts: NDArray[np.int64], first: _Side) -> _Side:
        """Return the same with each day as often as ``counts`` says, from the first day of a side
        on, in their order; as it is where none is left of it.
        """
        times = counts[self.days - first.days[0]]
        if np.count_nonzero(times) < 2:
            return self
        return replace(self, returns=np.repeat(self.returns, times, axis=0))

    def exposure(self, book: Book, moves: Floats) -> Exposure:
        """Return a book with the moves of the window."""
        return Exposure(
            book,
            moves,
            self.prices.instruments,
            self.dates,
            spacing=self.prices.spacing,
            absolute=self.prices.absolute,
            days=self.period,
        )


def risk_bridge(
    later: Holdings,
    earlier: Holdings,
    method: Method,
    level: float,
    window: int | None,
    horizon: int,
    seed: int,
) -> Bridge:
    """Return what moved value at risk by a method from an earlier portfolio to a later one; raises
    ParameterError for an instrument without prices, and a history that is too short before the
    earlier date.
    """
    sides = _sides(later, earlier, window)
    changes = _changes(sides)
    mixtures = _Mixtures(changes, method, level, horizon)
    count = len(changes)
    figures = mixtures.figures(sides)
    parts = _shapley(figures)

    span = int(sides[1].days[-1]) + 1 - int(sides[0].days[0])
    generator = stream(seed, "bridge")
    drawn = []
    for _ in range(DRAWN):
        counts = _days_again(span, generator)
        again = mixtures.figures_of_one_period([side.again(counts, sides[0]) for side in sides])
        drawn.append([*_shapley(again), again[0], again[-1], again[-1] - again[0]])
    *errors, error_before, error_after, error = _reach(np.array(drawn))
    before, after = float(figures[0]), float(figures[-1])
    alone = {
        change.name: (float(figures[1 << k]) - before, after - float(figures[-1 - (1 << k)]))
        for k, change in enumerate(changes)
    }
    dates = [portfolio.prices.dates[-1] for portfolio in (earlier, later)]
    spacing = later.prices.spacing
    over = f" over {spacing.span(horizon)}" if horizon > 1 else ""
    history = "all" if window is None else f"the {window}"
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
        trials=len(sides[1].days),
        seed=seed,
        runs=2**count,
        basis=(
            f"From {dates[0]:%Y-%m-%d} to {dates[1]:%Y-%m-%d}{over}, by the method "
            f"{method.label!r} from {history} {spacing.unit}s before each date. What a change "
            "explains is the mean over the orders in which they can be made; parts add up. Errors "
            "are those of histories drawn again."
        ),
    )


def _sides(later: Holdings, earlier: Holdings, window: int | None) -> list[_Side]:
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
    moves, ends, _ = prices.moves_of_one_period
    sides = []
    for portfolio, book in zip((earlier, later), books, strict=True):
        date = portfolio.prices.dates[-1]
        if date not in prices.frame.index:
            raise ParameterError(f"{date:%Y-%m-%d} has no prices of all that is held")
        last = int(ends.searchsorted(date, side="right"))
        if last < (FEWEST if window is None else window):
            raise ParameterError(
                f"window {window or FEWEST} asks for more returns than the {last} up to "
                f"{date:%Y-%m-%d}"
            )
        days = np.arange(0 if window is None else last - window, last)
        known = prices.until(date).frame.loc[date]  # not lowered by what was paid since
        then = book.at(known.to_numpy(), day_number(date))
        sides.append(_Side(then, moves[days], days, prices, ends[days]))
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
    return [*changes, *(_Change(name, (), (words,)) for name, words in OF_MARKETS.items())]


@dataclass(frozen=True)
class _Mixtures:
    """The figure of each mixture of the two dates, ``(2^changes,)``: bit k of its place says
    whether change k is made. The last three changes are prices, volatilities and the rest.
    """

    changes: list[_Change]
    method: Method
    level: float
    horizon: int

    def figures(self, sides: Sequence[_Side]) -> Floats:
        """Return the figures as they are reported: over several periods the moves compound."""
        if self.horizon == 1:
            return self.figures_of_one_period(sides)
        figures = []
        for rest, volatilities, prices, held in product((0, 1), (0, 1), (0, 1), self._held(sides)):
            side, book = sides[rest], sides[prices].book.holding(held)
            moves = self._moves(sides, rest, volatilities)
            exposure = side.exposure(book, moves)
            own, looked_at, left = self.method.over(exposure, self.horizon)
            figures.append(own.figure(looked_at, MEASURES[0], self.level, left))
        return np.array(figures)

    def figures_of_one_period(self, sides: Sequence[_Side]) -> Floats:
        """Return the figures from losses of one period, all at once."""
        held, figures = self._held(sides), []
        for rest in (0, 1):
            losses = []
            for volatilities, prices in product((0, 1), (0, 1)):
                ones = sides[prices].book.holding(np.ones(held.shape[1]))
                moves = self._moves(sides, rest, volatilities)
                losses.append(-held @ ones.profits(moves.T, sides[prices].period))
            figures.append(self.method.tail(np.vstack(losses), self.level, self.horizon)[0])
        return np.concatenate(figures)

    def _held(self, sides: Sequence[_Side]) -> Floats:
        """Return the numbers held in each mixture of what was bought and sold ``(mixtures, held)``,
        in the order of their bits.
        """
        before, after = (side.book.numbers for side in sides)
        held = [before]
        for change in self.changes[: -len(OF_MARKETS)]:
            moved = np.isin(np.arange(len(before)), change.instruments)
            held += [np.where(moved, after, numbers) for numbers in held]
        return np.array(held)

    def _moves(self, sides: Sequence[_Side], rest: int, volatilities: int) -> Floats:
        """Return the moves of a window as large as those of one of the two ``(moves, columns)``."""
        scale = _sd(sides[volatilities].returns) / _sd(sides[rest].returns)
        return np.asarray(sides[rest].returns * scale)


def _sd(returns: Floats) -> Floats:
    variance = returns.var(axis=0)
    return np.sqrt(np.where(variance > 0, variance, 1.0))


def _shapley(figures: Floats) -> list[float]:
    """Return the mean, over all orders, of what each change adds; bit k of a figure's place says
    whether change k is made.
    """
    count = len(figures).bit_length() - 1
    places = np.arange(len(figures))
    sizes = np.array([place.bit_count() for place in places.tolist()])
    weights = np.array(
        [
            math.factorial(size) * math.factorial(count - size - 1) / math.factorial(count)
            for size in range(count)
        ]
    )
    parts = []
    for k in range(count):
        without = places[places >> k & 1 == 0]
        added = figures[without + (1 << k)] - figures[without]
        parts.append(float(weights[sizes[without]] @ added))
    return parts


def _days_again(span: int, generator: np.random.Generator) -> NDArray[np.int64]:
    """Return how often each day appears in a history drawn again by blocks of days in a circle."""
    starts = generator.integers(0, span, -(-span // BLOCK))
    places = (starts[:, None] + np.arange(BLOCK)) % span
    return np.bincount(places.ravel(), minlength=span)


def _reach(drawn: Floats) -> Floats:
    """Return the 95 % half-widths from the spread of figures ``(histories, figures)``."""
    return np.asarray(Z * drawn.std(axis=0, ddof=1))
