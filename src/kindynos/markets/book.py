"""What is held, as one thing that has a profit under any moves: instruments held in numbers, whose
profits are in proportion to the moves. Positions that are valued one by one are in
``kindynos.markets.positions``.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Protocol

import numpy as np

from kindynos.arrays import Floats


class Book(Protocol):
    """What is held, by name; moves are those of the columns of prices ``(columns, cases)``."""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what is held."""

    @property
    def numbers(self) -> Floats:
        """How many of each are held ``(held,)``."""

    @property
    def now(self) -> Floats:
        """What each is worth today ``(held,)``."""

    @property
    def in_proportion(self) -> bool:
        """Whether profits are in proportion to the moves."""

    def profits(self, moves: Floats, days: float = 0.0) -> Floats:
        """Return the profit of each ``(held, cases)`` after moves, and days of the calendar."""

    def profit(self, moves: Floats, days: float = 0.0) -> Floats:
        """Return the profit of all together ``(cases,)``."""

    def holding(self, numbers: Sequence[float] | Floats) -> Book:
        """Return other numbers of the same."""

    def at(self, prices: Floats, date: float) -> Book:
        """Return the same at other prices of the columns, on a date in days since 1970."""


@dataclass(frozen=True)
class Held:
    """Numbers of instruments at today's prices; those that are ``absolute`` change by differences,
    so that a number of them is money per move of 1.
    """

    names: tuple[str, ...]
    held: tuple[float, ...]
    prices: tuple[float, ...]
    absolute: tuple[bool, ...]

    @cached_property
    def numbers(self) -> Floats:
        """How many of each instrument are held ``(instruments,)``."""
        return np.array(self.held)

    @cached_property
    def now(self) -> Floats:
        """What each holding is worth today ``(instruments,)``."""
        return np.asarray(np.array(self.held) * np.array(self.prices))

    @cached_property
    def per_move(self) -> Floats:
        """The profit that a move of 1 of each instrument brings ``(instruments,)``."""
        return np.where(np.array(self.absolute), np.array(self.held), self.now)

    @property
    def in_proportion(self) -> bool:
        """Whether profits are in proportion to the moves: they are."""
        return True

    def profits(self, moves: Floats, days: float = 0.0) -> Floats:
        """Return the profit of each holding ``(instruments, cases)``."""
        return np.asarray(self.per_move[:, None] * moves)

    def profit(self, moves: Floats, days: float = 0.0) -> Floats:
        """Return the profit of all holdings together ``(cases,)``."""
        return np.asarray(self.per_move @ moves)

    def holding(self, numbers: Sequence[float] | Floats) -> Held:
        """Return other numbers of the same instruments."""
        return replace(self, held=tuple(map(float, numbers)))

    def at(self, prices: Floats, date: float) -> Held:
        """Return the same at other prices, on whatever date."""
        return replace(self, prices=tuple(map(float, prices)))
