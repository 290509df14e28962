"""A price drawn again from its own history."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Self, overload

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.processes.base import Process, accumulate, observed
from kindynos.processes.pathset import PathSet
from kindynos.validate import (
    array_of,
    check_integer,
    checked,
    checked_init,
    finite,
    invalid_argument,
    one_of,
    positive,
)

if TYPE_CHECKING:
    import pandas as pd


@checked_init
@dataclass(frozen=True)
class BootstrapReturns(Process):
    """A price that moves by simple returns drawn from history, in blocks that keep what follows
    what.

    ``block`` is the length of a block: 1 draws single returns; with ``kind="stationary"`` the
    length is random with that mean, with "fixed" it is always that. The history wraps around. One
    period is one period of the history, so ``dt`` must be 1.

    Source: Politis and Romano, Journal of the American Statistical Association 89 (1994),
    1303-1313.

    >>> process = BootstrapReturns([0.01, -0.02, 0.03, 0.0], start=50.0, block=2)
    >>> process.paths(periods=3, trials=2, seed=1).shape
    (4, 2)
    """

    returns: tuple[float, ...]
    start: float = 1.0
    block: float = 1
    kind: str = "stationary"

    label = "bootstrap returns"
    formula = "S(t + 1) = S(t) (1 + r), with r from blocks of the returns"
    use = "a price whose own history is the best distribution there is"
    dated = True
    shocks = 2  # where to go on, and whether to

    def __post_init__(self) -> None:
        values = array_of("returns", self.returns)
        if values.ndim != 1 or len(values) < 2 or not np.isfinite(values).all():
            raise ParameterError("returns must be at least two finite numbers, one per period")
        if values.min() <= -1:
            position = int(np.argmin(values))
            raise ParameterError(
                f"return {position} is {values[position]:g}; simple returns must be above -1"
            )
        object.__setattr__(self, "returns", tuple(map(float, values)))
        positive("start", self.start)
        one_of("kind", self.kind, ("stationary", "fixed"))
        if self.kind == "fixed":
            check_integer("block", self.block, least=1)
        else:
            finite("block", self.block)
        if not 1 <= self.block <= len(values):
            raise invalid_argument("block", f"from 1 to the {len(values)} returns", self.block)

    def _logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        if dt != 1:
            raise ParameterError(f"dt must be 1, one period of the history, not {dt:g}")
        history = np.log1p(np.array(self.returns))
        count = len(history)
        fresh = np.minimum((ndtr(shocks[0]) * count).astype(np.int64), count - 1)
        if self.block == 1:
            return accumulate(history[fresh])
        values = fresh[0]
        steps: Floats = np.empty(fresh.shape)
        going = ndtr(shocks[1]) >= 1 / self.block if self.kind == "stationary" else None
        for t in range(len(fresh)):
            if t:
                on = (
                    going[t]
                    if going is not None
                    else np.full(fresh.shape[1], t % int(self.block) != 0)
                )
                values = np.where(on, (values + 1) % count, fresh[t])
            steps[t] = history[values]
        return accumulate(steps)

    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        values = self._logs(shocks, dt, at)
        return np.multiply(np.exp(values, out=values), self.start, out=values)

    def _expected_values(self, periods: int, dt: float) -> Floats:
        """Return the means in closed form, from the expected value in each place of the history."""
        growth = 1 + np.array(self.returns)
        going = 1 - 1 / self.block
        # the share of the mean that stands before each return
        here = np.full(len(growth), self.start / len(growth))
        means = []
        for t in range(1, periods + 1):
            here = here * growth
            means.append(here.sum())
            if self.kind == "fixed":
                going = float(t % self.block != 0)
            here = going * np.roll(here, 1) + (1 - going) * means[-1] / len(growth)
        return np.array(means)

    def _redrawn(self, count: int) -> list[Self]:
        """Return processes whose history was itself drawn again, block by block, from this one."""
        block = max(self.block, round(len(self.returns) ** (1 / 3)))
        whole_history = replace(
            self, start=1.0, block=min(block, len(self.returns)), kind="stationary"
        )
        drawn = whole_history.paths(len(self.returns), count, seed=0)
        return [replace(self, returns=tuple(column)) for column in (drawn[1:] / drawn[:-1] - 1).T]

    def _periods_of(self, time: float, steps: int) -> int:
        return check_integer(
            "the time, in periods of the history,",
            int(time) if time == int(time) else time,
            least=1,
        )

    @overload
    @classmethod
    def fit(cls, series: pd.DataFrame, dt: float = 1.0, block: float | None = None) -> PathSet: ...
    @overload
    @classmethod
    def fit(cls, series: Any, dt: float = 1.0, block: float | None = None) -> BootstrapReturns: ...
    @classmethod
    @checked
    def fit(
        cls, series: Any, dt: float = 1.0, block: float | None = None
    ) -> BootstrapReturns | PathSet:
        """Return the process of a history of prices; default: ``block`` is the cube root of the
        number of returns.

        Of a DataFrame with a column of prices an instrument it is a ``PathSet`` of them, which
        draws the same dates for all, so that they move together as they did. Raises ParameterError
        for prices that cannot be used.
        """
        if hasattr(series, "columns"):
            if not series.columns.is_unique:
                name = series.columns[series.columns.duplicated()][0]
                raise ParameterError(f"two columns are named {name!r}")
            members = {str(name): cls.fit(series[name], dt, block) for name in series.columns}
            return PathSet(members, shared=True)
        values, _ = observed(series, dt, above_zero=True)
        returns = values[1:] / values[:-1] - 1
        most = max(1.0, round(len(returns) ** (1 / 3))) if block is None else block
        return cls(tuple(returns), float(values[-1]), most)
