"""What is held today with the returns that are looked at, and the figure of risk that comes of
them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.lib.stride_tricks import sliding_window_view

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.markets.book import Book
from kindynos.markets.changes import Mask, combined, lengthened
from kindynos.tables.spacing import SPACINGS, DateSpacing


@dataclass(frozen=True)
class Exposure:
    """What is held today and past moves of the columns of prices ``(returns, columns)``: simple
    returns, or differences of the ``absolute`` ones, which change by them.
    """

    book: Book
    returns: Floats
    names: list[str]  # of the columns
    dates: pd.DatetimeIndex  # one for each return
    window: int | None = None
    description: str = ""  # what was done about missing prices
    spacing: DateSpacing = SPACINGS["day"]
    absolute: Mask | None = None
    overlap: int = 1  # the periods that each move shares with the next
    days: float = 0.0  # of the calendar that pass while the book is held

    @property
    def values(self) -> Floats:
        """What is held, in money ``(held,)``."""
        return self.book.now

    @cached_property
    def differences(self) -> Mask:
        """Which columns change by differences ``(columns,)``."""
        if self.absolute is not None:
            return self.absolute
        return np.zeros(len(self.names), dtype=bool)

    @cached_property
    def losses(self) -> Floats:
        """The loss of today's book under each past move: full revaluation."""
        return np.asarray(-self.book.profit(self.returns.T, self.days))

    @property
    def own_losses(self) -> Floats:
        """The loss of each thing held under each past move ``(returns, held)``."""
        return np.asarray(-self.book.profits(self.returns.T, self.days).T)

    @property
    def only_bought(self) -> bool:
        """Whether no more can be lost than what is held is worth."""
        plain = self.book.in_proportion and not self.differences.any()
        return plain and bool((self.values >= 0).all())

    def over(self, horizon: int) -> Exposure:
        """Return the same holdings with the moves over all stretches of that many periods, which
        overlap.

        Raises ParameterError where the window has too few periods for eight of them.
        """
        if len(self.returns) < horizon + 7:
            raise ParameterError(
                f"{len(self.returns)} returns have too few stretches of "
                f"{self.spacing.span(horizon)}"
            )
        moves = combined(sliding_window_view(self.returns, horizon, axis=0), self.differences)
        return replace(
            self, returns=moves, dates=self.dates[horizon - 1 :], days=horizon * self.days
        )

    def lengthened(self, horizon: int) -> Exposure:
        """Return the same holdings with moves as large as they would be over a horizon, and as much
        time that passes.
        """
        moves = lengthened(self.returns, self.differences, horizon)
        return replace(self, returns=moves, days=horizon * self.days)

    def with_returns(self, returns: Floats) -> Exposure:
        """Return the same holdings with other moves on the same dates."""
        return replace(self, returns=returns)

    def scaled_over(self, horizon: int) -> tuple[Exposure, int]:
        """Return the exposure that a figure over a horizon is taken from, and the horizon that is
        left to scale by: profits that are in proportion to the moves grow as they do; of others the
        moves are made longer.
        """
        return (self, horizon) if self.book.in_proportion else (self.lengthened(horizon), 1)

    def holding(self, numbers: Floats) -> Exposure:
        """Return other numbers of what is held ``(held,)``."""
        return replace(self, book=self.book.holding(numbers))

    def without(self, position: int) -> Exposure:
        """Return the exposure without one of what is held."""
        numbers = self.book.numbers
        return self.holding(np.where(np.arange(len(numbers)) == position, 0.0, numbers))

    def only(self, position: int) -> Exposure:
        """Return the exposure with nothing but one of what is held."""
        numbers = self.book.numbers
        return self.holding(np.where(np.arange(len(numbers)) == position, numbers, 0.0))


class RiskFigure(Estimate):
    """A loss in money with its 95 % interval: also its ``fraction`` of the value, and how it was
    made.

    The interval holds the error of a short window (estimation error) and, where days are simulated,
    ``sampling_error``, half the width that simulation alone would leave. ``doubt`` says what in the
    data contradicts the method's assumptions, if anything. ``method``, ``level``, ``window``,
    ``returns`` (their number), ``first`` and ``last`` date, ``horizon`` in periods, each one
    ``unit`` long ("day", "month"); ``description`` puts it in words.

    >>> from kindynos import Portfolio, demo_file, read_prices
    >>> prices = read_prices(demo_file("treasury_prices.csv"))
    >>> figure = Portfolio(prices, shares={"shipyard": 100}).value_at_risk(0.95)
    >>> figure.method, figure.unit, figure.low < figure < figure.high
    ('historical', 'day', True)
    """

    fraction: float
    sampling_error: float
    doubt: str
    method: str
    level: float
    window: int | None
    returns: int
    first: pd.Timestamp
    last: pd.Timestamp
    horizon: int
    unit: str
    description: str

    @classmethod
    def of(cls, figure: Estimate, **facts: Any) -> RiskFigure:
        """Return an estimate as a figure of risk with these facts."""
        made = cls(float(figure), figure.low, figure.high, figure.rough, figure.note)
        made.__dict__.update(facts)
        return made

    def __reduce__(self) -> Any:
        facts = {
            key: value
            for key, value in self.__dict__.items()
            if key not in ("low", "high", "rough", "note")
        }
        return _remade, (float(self), self.low, self.high, self.rough, self.note, facts)


def _remade(
    value: float, low: float, high: float, rough: bool, note: str, facts: dict[str, Any]
) -> RiskFigure:
    return RiskFigure.of(Estimate(value, low, high, rough, note), **facts)
