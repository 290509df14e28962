"""Today's holdings with the returns that are looked at, and the figure of risk that comes of
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
from kindynos.markets.changes import Mask, combined, lengthened
from kindynos.markets.holdings import Valued
from kindynos.tables.spacing import SPACINGS, DateSpacing


@dataclass(frozen=True)
class Exposure:
    """Today's holdings in money ``(instruments,)`` and the moves of instruments ``(returns,
    instruments)``: simple returns, or differences of the ``absolute`` ones, which change by them.
    """

    values: Floats
    returns: Floats
    names: list[str]
    dates: pd.DatetimeIndex  # one for each return
    window: int | None = None
    description: str = ""  # what was done about missing prices
    spacing: DateSpacing = SPACINGS["day"]
    absolute: Mask | None = None
    # the profit that a move of 1 of each instrument brings, where it is not the holding's value
    per_move: Floats | None = None
    valued: Valued | None = None  # positions that a function values
    overlap: int = 1  # the periods that each move shares with the next
    days: float = 0.0  # that pass while the positions are held, for such a function

    @cached_property
    def sensitivities(self) -> Floats:
        """The profit that a move of 1 of each instrument brings ``(instruments,)``: the value held,
        or the number held where changes are differences.
        """
        return self.values if self.per_move is None else self.per_move

    @cached_property
    def differences(self) -> Mask:
        """Which instruments change by differences ``(instruments,)``."""
        if self.absolute is not None:
            return self.absolute
        return np.zeros(len(self.names), dtype=bool)

    @cached_property
    def losses(self) -> Floats:
        """The loss of today's holdings under each past move: full revaluation."""
        if self.valued is not None:
            return np.asarray(-self.valued.profit(self.returns.T, self.days))
        return np.asarray(-(self.returns @ self.sensitivities))

    @property
    def own_losses(self) -> Floats:
        """The loss of each holding under each past move ``(returns, instruments)``.

        Raises ParameterError for positions that are revalued by a function, whose losses cannot be
        told apart.
        """
        if self.valued is not None:
            raise ParameterError(
                "the profit of positions that are revalued by a function cannot be told apart by "
                "instrument"
            )
        return np.asarray(-self.returns * self.sensitivities)

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

    def holding(self, numbers: Floats, prices: Floats) -> Exposure:
        """Return other numbers of the same instruments ``(instruments,)`` at today's prices."""
        values = numbers * prices
        return replace(self, values=values, per_move=np.where(self.differences, numbers, values))

    def without(self, position: int) -> Exposure:
        """Return the exposure without one of the holdings."""
        left_out = np.arange(len(self.values)) == position
        return replace(
            self,
            values=np.where(left_out, 0.0, self.values),
            per_move=np.where(left_out, 0.0, self.sensitivities),
        )


class RiskFigure(Estimate):
    """A loss in money with its 95 % interval: also its ``fraction`` of the value, and how it was
    made.

    The interval holds the error of a short window (estimation error) and, where days are simulated,
    ``sampling_error``, half the width that simulation alone would leave. ``doubt`` says what in the
    data contradicts the method's assumptions, if anything. ``method``, ``level``, ``window``,
    ``returns`` (their number), ``first`` and ``last`` date, ``horizon`` in periods, each one
    ``unit`` long ("day", "month"); ``description`` puts it in words.
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
