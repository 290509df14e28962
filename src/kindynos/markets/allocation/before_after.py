"""Today's holdings and the best ones beside each other, on the same draws."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.delegation import delegated_to
from kindynos.distributions.normal import Normal
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.markets.allocation.region import Region, by_name
from kindynos.markets.allocation.source import Source
from kindynos.markets.held_model import Joined, driver_names, held_statement, joined_returns
from kindynos.results.run import Run
from kindynos.results.simulate import SimulationOptions, simulate
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.studies.paired import Paired
from kindynos.validate import Count, checked

LEVEL = 0.95


@dataclass(frozen=True, eq=False)
class BeforeAfter:
    """Two runs on the same draws, ``before`` and ``after``, and the weights behind them.

    See ``table`` for the figures and their paired differences, ``trades`` for what is to be bought
    and sold, ``contributions`` for what each holding adds to the losses, and ``plot``.
    """

    before: Run
    after: Run
    weights_before: pd.Series
    weights_after: pd.Series
    source: Source
    level: float
    horizon: int
    cost: float  # of the trades, once, as a share of the value

    def __repr__(self) -> str:
        return f"<before and after on {self.before.size:,} draws over {self.span}>"

    @property
    def span(self) -> str:
        """The time that the figures are for, in words."""
        period = self.source.period
        return f"1 {period}" if self.horizon == 1 else f"{self.horizon} {period}s"

    def table(self) -> pd.DataFrame:
        """Return each figure before and after, each with its 95 % error, and the difference with
        its paired error.

        Columns: before, error before, after, error after, difference, error, low, high. Money where
        the source has a value, else shares; the maximum drawdown is a share. Expected shortfall and
        value at risk are losses at the level of the allocation.
        """
        pair, falls = self._paired("profit"), self._paired("max_drawdown")
        percent = f"{100 * self.level:g} %"
        rows: dict[str, tuple[Estimate, Estimate, Estimate]] = {}
        one, two = self.before["profit"], self.after["profit"]
        rows["mean"] = one.mean, two.mean, pair.mean()
        rows["sd"] = one.sd, two.sd, pair.sd()
        rows[f"value at risk {percent}"] = (
            one.value_at_risk(self.level),
            two.value_at_risk(self.level),
            pair.value_at_risk(self.level),
        )
        rows[f"expected shortfall {percent}"] = (
            one.expected_shortfall(self.level),
            two.expected_shortfall(self.level),
            pair.expected_shortfall(self.level),
        )
        rows["chance of a loss"] = (
            one.chance(below=0.0),
            two.chance(below=0.0),
            pair.chance_below(0.0),
        )
        rows["mean maximum drawdown"] = (
            self.before["max_drawdown"].mean,
            self.after["max_drawdown"].mean,
            falls.mean(),
        )
        records = {
            name: (float(a), a.error, float(b), b.error, float(gap), gap.error, gap.low, gap.high)
            for name, (a, b, gap) in rows.items()
        }
        columns = [
            "before",
            "error before",
            "after",
            "error after",
            "difference",
            "error",
            "low",
            "high",
        ]
        return pd.DataFrame.from_dict(records, orient="index", columns=columns)

    def _paired(self, outcome: str) -> Paired:
        return Paired(self.before[outcome], self.after[outcome])

    def trades(self) -> pd.DataFrame:
        """Return what is to be bought (above 0) and sold: weights, money, and shares and prices
        where these are known.
        """
        frame = pd.DataFrame(
            {"weight before": self.weights_before, "weight after": self.weights_after}
        )
        frame["change"] = frame["weight after"] - frame["weight before"]
        frame["money"] = frame["change"] * self.source.value
        if self.source.prices is not None:
            frame["price"] = self.source.prices.frame.iloc[-1]
            frame["shares"] = frame["money"] / frame["price"]
        return frame

    @cached_property
    def _shares(self) -> pd.DataFrame:
        columns = {}
        labels = driver_names(list(self.weights_before.index))
        for name, run, weights in (
            ("before", self.before, self.weights_before),
            ("after", self.after, self.weights_after),
        ):
            own = (
                np.stack([-run[f"return_{label}"].values for label in labels])
                * weights.to_numpy()[:, None]
            )
            losses = own.sum(axis=0)
            worst = losses >= np.quantile(losses, self.level)
            means = own[:, worst].mean(axis=1)
            columns[f"weight, {name}"] = weights.to_numpy()
            columns[f"share of the worst losses, {name}"] = means / means.sum()
        return pd.DataFrame(columns, self.weights_before.index)

    def contributions(self) -> pd.DataFrame:
        """Return each holding's weight and its share of the losses beyond the value at risk, before
        and after.

        The share is the mean loss of the holding in these trials over that of all, so that shares
        add up to 1.
        """
        return self._shares.copy()

    @delegated_to("kindynos.plots", "before_after")
    def plot(self, what: str = "profit", ax: Any = None) -> Any:
        """Draw both side by side: the distribution of the "profit" or of the "max_drawdown"."""


@checked
def before_after(
    source: Source,
    region: Region,
    best: Floats,
    horizon: Count,
    trials: int,
    seed: Seed,
    against: Mapping[str, float] | None,
    level: float = LEVEL,
) -> BeforeAfter:
    """Return the comparison of today's weights, or others, with the best; see
    ``Allocation.compare``.
    """
    today = source.today if against is None else by_name(source.names, against, "against")
    if today is None:
        raise ParameterError(
            "no weights of today are known; say against=, the weights to compare with",
            owner="compare",
        )
    seed = checked_seed(seed)
    joined, periods, own = _drawn(source, horizon)
    # A small shift each period brings the means to those that the allocation was made with.
    shifts = (source.mean - own) / periods if source.returns is not None else np.zeros(len(best))
    # The profit bears the part of the cost that falls on that many of the periods that the weights
    # are held.
    cost = min(horizon / region.holding_period, 1.0) * region.trading_cost(best)
    labels = [f"return_{label}" for label in driver_names(source.names)]
    runs = []
    for weights, charge in ((today, 0.0), (best, cost)):
        statement = held_statement(
            source.names,
            (weights * source.value).tolist(),
            joined,
            periods,
            shifts.tolist(),
            charge * source.value,
        )
        runs.append(simulate(statement.program, SimulationOptions(trials, seed, keep=[*labels])))
    index = pd.Index(source.names)
    before, after = (pd.Series(weights, index) for weights in (today, best))
    return BeforeAfter(
        runs[0], runs[1], before, after, _spanned(source), level, horizon, region.trading_cost(best)
    )


def _spanned(source: Source) -> Source:
    """Return the source with the word for what one of its returns spans."""
    return replace(source, period=source.period if source.simulated is None else "horizon")


def _drawn(source: Source, horizon: int) -> tuple[Joined, int, Floats]:
    """Return how returns are drawn, over how many periods, and the means they have."""
    if source.simulated is not None and source.simulated.drawn is not None:
        if horizon != 1:
            raise ParameterError(
                "these simulated returns have a horizon of their own; simulate others for a "
                "longer one",
                owner="compare",
            )
        joined, periods = source.simulated.drawn
        assert source.returns is not None
        return joined, periods, source.returns.mean(axis=0)
    if source.returns is None:
        moments = source.moments
        sds = moments.sd.to_numpy()
        marginals = tuple(Normal(float(m), float(s)) for m, s in zip(source.mean, sds, strict=True))
        return (
            Joined(marginals, source.covariance / np.outer(sds, sds), kind="linear"),
            horizon,
            source.mean,
        )
    joined = joined_returns(source.returns, source.names, "ranked", "gaussian", None)
    return joined, horizon, np.array([float(marginal.mean) for marginal in joined.marginals])
