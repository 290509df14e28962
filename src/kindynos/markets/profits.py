"""The profit of a book as a function line of a model, from the moves of its columns."""

from __future__ import annotations

from dataclasses import dataclass
from inspect import Parameter, Signature

import numpy as np

from kindynos.arrays import Floats
from kindynos.finance.ledger import grow
from kindynos.markets.book import Book


@dataclass(frozen=True)
class ProfitOf:
    """The profit in money of a book from the moves of its columns by period ``(periods,
    trials)``; with ``each_period`` what is earned up to each of them.
    """

    book: Book
    scales: tuple[tuple[float, ...], ...] | None
    absolute: tuple[bool, ...]
    days: float  # of the calendar, over all periods
    names: tuple[str, ...]  # of the drivers of the columns
    each_period: bool = False

    @property
    def __signature__(self) -> Signature:
        return Signature([Parameter(name, Parameter.KEYWORD_ONLY) for name in self.names])

    def paths(self, **returns: Floats) -> Floats:
        """Return the moves up to each period ``(columns, periods, trials)``."""
        rows = list(returns.values())
        if self.scales is not None:
            rows = [
                row * np.array(scale)[:, None] for row, scale in zip(rows, self.scales, strict=True)
            ]
        return np.stack(
            [
                row.cumsum(axis=0) if difference else grow(row) - 1
                for row, difference in zip(rows, self.absolute, strict=True)
            ]
        )

    def moves(self, **returns: Floats) -> Floats:
        """Return the moves over all periods ``(columns, trials)``."""
        return np.ascontiguousarray(self.paths(**returns)[:, -1])

    def __call__(self, **returns: Floats) -> Floats:
        """Return the profit ``(trials,)``, or by period ``(periods, trials)``."""
        if not self.each_period:
            return self.book.profit(self.moves(**returns), self.days)
        paths = self.paths(**returns)
        day = self.days / paths.shape[1]
        return np.stack(
            [
                self.book.profit(paths[:, period], day * (period + 1))
                for period in range(paths.shape[1])
            ]
        )
