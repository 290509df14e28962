"""Today's holdings with the returns that are looked at, and the figure of risk that comes of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate


@dataclass(frozen=True)
class Exposure:
    """Today's holdings in money ``(instruments,)`` and simple returns ``(returns, instruments)``."""

    values: Floats
    returns: Floats
    names: list[str]
    dates: pd.DatetimeIndex  # one for each return
    window: int | None = None
    description: str = ""  # what was done about missing prices

    @cached_property
    def losses(self) -> Floats:
        """The loss of today's holdings under each past return: full revaluation."""
        return np.asarray(-(self.returns @ self.values))


class RiskFigure(Estimate):
    """A loss in money with its 95 % interval: also its ``fraction`` of the value, and how it was made.

    ``method``, ``level``, ``window``, ``returns`` (their number), ``first`` and ``last`` date, ``horizon`` in days;
    ``description`` puts it in words.
    """

    fraction: float
    method: str
    level: float
    window: int | None
    returns: int
    first: pd.Timestamp
    last: pd.Timestamp
    horizon: int
    description: str

    @classmethod
    def of(cls, figure: Estimate, **facts: Any) -> RiskFigure:
        """Return an estimate as a figure of risk with these facts."""
        made = cls(float(figure), figure.low, figure.high, figure.rough, figure.note)
        made.__dict__.update(facts)
        return made

    def __reduce__(self) -> Any:
        facts = {key: value for key, value in self.__dict__.items() if key not in ("low", "high", "rough", "note")}
        return _remade, (float(self), self.low, self.high, self.rough, self.note, facts)


def _remade(value: float, low: float, high: float, rough: bool, note: str, facts: dict[str, Any]) -> RiskFigure:
    return RiskFigure.of(Estimate(value, low, high, rough, note), **facts)
