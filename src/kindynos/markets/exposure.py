"""Today's holdings with the returns that are looked at, and the figure of risk that comes of
them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.lib.stride_tricks import sliding_window_view

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.tables.spacing import SPACINGS, DateSpacing


@dataclass(frozen=True)
class Exposure:
    """Today's holdings in money ``(instruments,)`` and simple returns ``(returns,
    instruments)``.
    """

    values: Floats
    returns: Floats
    names: list[str]
    dates: pd.DatetimeIndex  # one for each return
    window: int | None = None
    description: str = ""  # what was done about missing prices
    spacing: DateSpacing = SPACINGS["day"]
    # the profit where prices are that many times today's (instruments, cases)
    revalue: Callable[[Floats], Floats] | None = None

    @cached_property
    def losses(self) -> Floats:
        """The loss of today's holdings under each past return: full revaluation."""
        if self.revalue is not None:
            return np.asarray(-self.revalue(1 + self.returns.T))
        return np.asarray(-(self.returns @ self.values))

    @property
    def own_losses(self) -> Floats:
        """The loss of each holding under each past return ``(returns, instruments)``.

        Raises ParameterError for positions that are revalued by a function, whose losses cannot be
        told apart.
        """
        if self.revalue is not None:
            raise ParameterError(
                "the profit of positions that are revalued by a function cannot be told apart by "
                "instrument"
            )
        return np.asarray(-self.returns * self.values)

    def over(self, horizon: int) -> Exposure:
        """Return the same holdings with the returns of all stretches of that many periods, which
        overlap.

        Raises ParameterError where the window has too few periods for eight of them.
        """
        if len(self.returns) < horizon + 7:
            raise ParameterError(
                f"{len(self.returns)} returns have too few stretches of "
                f"{self.spacing.span(horizon)}",
                owner="historical",
            )
        growth = sliding_window_view(1 + self.returns, horizon, axis=0).prod(axis=-1) - 1
        return replace(self, returns=growth, dates=self.dates[horizon - 1 :])

    def with_returns(self, returns: Floats) -> Exposure:
        """Return the same holdings with other returns on the same dates."""
        return replace(self, returns=returns)

    def without(self, place: int) -> Exposure:
        """Return the exposure without one of the holdings."""
        return replace(
            self, values=np.where(np.arange(len(self.values)) == place, 0.0, self.values)
        )


class RiskFigure(Estimate):
    """A loss in money with its 95 % interval: also its ``fraction`` of the value, and how it was
    made.

    The interval holds what the window leaves open (estimation error) and, where days are simulated,
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
