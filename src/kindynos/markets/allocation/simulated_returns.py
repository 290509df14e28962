"""Returns drawn from distributions that were fitted to a history, over a horizon."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from kindynos.errors import ParameterError
from kindynos.literals import ReturnPeriod
from kindynos.markets.held_model import Joined, driver_names, held_statement, joined_returns
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.prices import Prices, prices_of
from kindynos.markets.return_series import returns
from kindynos.results.options import SimulationOptions
from kindynos.results.run import Run
from kindynos.results.simulate import simulate
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.validate import array_of, check_integer, checked, checked_init


@checked_init
@dataclass(frozen=True, eq=False, repr=False)
class SimulatedReturns:
    """Returns by trial (rows) and holding (columns), as fractions over the horizon, and how they
    were drawn.

    Made from a DataFrame of returns, by ``SimulatedReturns.of`` a history, or by
    ``SimulatedReturns.from_run`` of ``portfolio.simulate``. Raises ParameterError for a table with
    gaps or without rows.

    >>> SimulatedReturns(pd.DataFrame({"bond": [0.01, 0.0], "share": [-0.2, 0.3]})).names
    ['bond', 'share']
    """

    frame: pd.DataFrame
    description: str = "simulated returns as given"
    drawn: tuple[Joined, int] | None = None  # how, and over how many periods

    def __post_init__(self) -> None:
        if not isinstance(self.frame, pd.DataFrame) or self.frame.empty:
            raise ParameterError(
                "needs a DataFrame with one row per trial and one column per holding"
            )
        if not np.isfinite(array_of("the returns", self.frame.to_numpy())).all():
            raise ParameterError("some returns are not finite numbers")

    def __repr__(self) -> str:
        return f"<returns of {', '.join(self.names)}: {self.description}>"

    @property
    def names(self) -> list[str]:
        """The names of the holdings."""
        return [str(name) for name in self.frame.columns]

    @classmethod
    def of(
        cls,
        prices: Portfolio | Prices | pd.DataFrame,
        horizon: int = 1,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        window: int | None = None,
        marginals: Any = "ranked",
        copula: str = "gaussian",
        df: float | None = None,
        every: ReturnPeriod | None = None,
    ) -> SimulatedReturns:
        """Return simulated returns over a ``horizon`` of periods; arguments as in
        ``Portfolio.simulate``.
        """
        check_integer("horizon", horizon, least=1)
        history = prices.prices if isinstance(prices, Portfolio) else prices_of(prices)
        returned = returns(history, every=every)
        frame = returned.frame
        if window is not None:
            if check_integer("window", window, least=8) > len(frame):
                raise ParameterError(f"window {window} is longer than the {len(frame)} returns")
            frame = frame.iloc[-window:]
        names = history.instruments
        joined = joined_returns(frame.to_numpy(), names, marginals, copula, df)
        statement = held_statement(names, [1.0] * len(names), joined, horizon)
        kept = [f"return_{label}" for label in driver_names(names)]
        run = simulate(statement.program, SimulationOptions(trials, checked_seed(seed), keep=kept))
        span = (
            f"{len(frame):,} returns from {frame.index[0]:%Y-%m-%d} to {frame.index[-1]:%Y-%m-%d}"
        )
        return cls._read(run, names, (joined, horizon), span, returned.spacing.span(horizon))

    @classmethod
    @checked
    def from_run(cls, run: Run) -> SimulatedReturns:
        """Return the returns in a run of ``portfolio.simulate``; raises ParameterError for another
        run.
        """
        names = [
            name.removeprefix("return_")
            for name in run.program.quantities
            if name.startswith("return_")
        ]
        if not names or "max_drawdown" not in run.program.quantities:
            raise ParameterError("needs the run of portfolio.simulate")
        return cls._read(run, names, None, "the run of a portfolio", "")

    @classmethod
    def _read(
        cls, run: Run, names: list[str], drawn: tuple[Joined, int] | None, estimated: str, span: str
    ) -> SimulatedReturns:
        labels = driver_names(names)
        frame = pd.DataFrame(
            {name: run[f"return_{label}"].values for name, label in zip(names, labels, strict=True)}
        )
        over = f" over {span}" if span else ""
        return cls(
            frame,
            f"{run.size:,} simulated returns{over}, seed {run.seed}, fitted to {estimated}",
            drawn,
        )
