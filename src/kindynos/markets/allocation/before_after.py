"""Today's holdings and the best ones beside each other, on the same draws."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import delegated_to
from kindynos.distributions.normal import Normal
from kindynos.errors import ParameterError
from kindynos.formatting import number, step_of
from kindynos.inference.estimates import Estimate
from kindynos.markets.allocation.region import by_name
from kindynos.markets.allocation.request import AllocationRequest
from kindynos.markets.allocation.resampling import weights_or_least_risk
from kindynos.markets.allocation.solve import Solver
from kindynos.markets.allocation.source import Source
from kindynos.markets.held_model import Joined, driver_names, held_statement, joined_returns
from kindynos.markets.history_error import CHOICES, NAMES, choosing_optimism, history_errors
from kindynos.results.options import SimulationOptions
from kindynos.results.run import Run
from kindynos.results.simulate import simulate
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.studies.paired import Paired


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
    optimism: Floats  # of choosing, in each figure of the table

    def __repr__(self) -> str:
        return f"<before and after on {self.before.size:,} draws over {self.span}>"

    @property
    def span(self) -> str:
        """The time that the figures are for, in words."""
        period = self.source.period
        return f"1 {period}" if self.horizon == 1 else f"{self.horizon} {period}s"

    def table(self) -> pd.DataFrame:
        """Return each figure before and after, and the difference, each with its 95 % errors: that
        which the history leaves, and that of the draws.

        Columns: before, history error before, error before, after, history error after, error
        after, difference, optimism, history error, error, low, high. The ``optimism`` is the part
        of the difference that comes of choosing the weights on the history that judges them, 0
        where they were not; ``low`` and ``high`` are of the difference without it and hold both
        errors. The history's is NaN where the returns are not those of a history. Money where
        the source has a value, else shares; the maximum drawdown is a share. Expected shortfall and
        value at risk are losses at the level of the allocation.
        """
        pair, falls = self._paired("profit"), self._paired("max_drawdown")
        percent = f"{100 * self.level:g} %"
        one, two = self.before["profit"], self.after["profit"]
        statistics: dict[str, tuple[str, dict[str, float]]] = {
            "mean": ("mean", {}),
            "sd": ("sd", {}),
            f"value at risk {percent}": ("value_at_risk", {"level": self.level}),
            f"expected shortfall {percent}": ("expected_shortfall", {"level": self.level}),
            "chance of a loss": ("chance", {"below": 0.0}),
        }
        rows: dict[str, tuple[Estimate, Estimate, Estimate]] = {
            label: (
                one.statistic(name, **options),
                two.statistic(name, **options),
                pair.statistic(name, **options),
            )
            for label, (name, options) in statistics.items()
        }
        rows["mean maximum drawdown"] = (
            self.before["max_drawdown"].mean,
            self.after["max_drawdown"].mean,
            falls.mean(),
        )
        records = {}
        for (name, (a, b, gap)), (_, left_open), optimism in zip(
            rows.items(), self._left_open.iterrows(), self.optimism, strict=True
        ):
            of_history = np.nan_to_num(left_open["difference"])
            centre, half = (gap.low + gap.high) / 2 - optimism, (gap.high - gap.low) / 2
            reach = float(np.hypot(half, of_history))
            records[name] = {
                "before": float(a),
                "history error before": left_open[0],
                "error before": a.error,
                "after": float(b),
                "history error after": left_open[1],
                "error after": b.error,
                "difference": float(gap),
                "optimism": float(optimism),
                "history error": left_open["difference"],
                "error": gap.error,
                "low": centre - reach,
                "high": centre + reach,
            }
        return pd.DataFrame.from_dict(records, orient="index")

    @cached_property
    def _left_open(self) -> pd.DataFrame:
        """The error of a short history in each figure of the table, NaN where there is none."""
        source = self.source
        values = [
            weights.to_numpy() * source.value
            for weights in (self.weights_before, self.weights_after)
        ]
        if source.returns is None or source.simulated is not None:
            return pd.DataFrame(math.nan, NAMES, [0, 1, "difference"])
        return history_errors(source.returns, values, self.level, self.horizon)

    @property
    def verdict(self) -> str:
        """What the change does to mean and losses, in a sentence, as far as the larger of
        both errors lets it be told.
        """
        table, told, open_ = self.table(), [], []
        for name in ("mean", str(table.index[3])):
            row = table.loc[name]
            larger = float(np.nanmax([row["history error"], row["error"]]))
            if row["low"] <= 0 <= row["high"]:
                open_.append(f"the {name} (± {self._shown(larger, larger)})")
            else:
                change = row["difference"] - row["optimism"]
                verb = "raises" if change > 0 else "lowers"
                shown = self._shown(abs(change), larger)
                told.append(f"{verb} the {name} by {shown} (± {self._shown(larger, larger)})")
        sentences = [f"Over {self.span} the change {' and '.join(told)}."] if told else []
        if open_:
            changes = "it also changes" if told else "the change alters"
            sentences.append(
                f"Whether {changes} {' or '.join(open_)} cannot be told over {self.span}."
            )
        if self.optimism.any():
            sentences.append(
                "The part of each change that comes of choosing the weights on this history is "
                "taken off."
            )
        return " ".join(sentences)

    def _shown(self, value: float, error: float) -> str:
        if self.source.value == 1.0:
            return f"{100 * value:.2g} %"
        return number(value, step_of(error))

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
    def plot(self, what: str = "profit", ax: Axes | None = None) -> Axes:
        """Draw both side by side: the distribution of the "profit" or of the "max_drawdown"."""


def before_after(
    request: AllocationRequest,
    best: Floats,
    horizon: int,
    trials: int,
    seed: Seed,
    against: Mapping[str, float] | None,
) -> BeforeAfter:
    """Return the comparison of today's weights, or others, with the best; see
    ``Allocation.compare``.
    """
    source, region, level = request.source, request.region, request.aim.level
    today = source.today if against is None else by_name(source.names, against, "against")
    if today is None:
        raise ParameterError(
            "no weights of today are known; say against=, the weights to compare with"
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
        runs[0],
        runs[1],
        before,
        after,
        _spanned(source),
        level,
        horizon,
        region.trading_cost(best),
        _optimism(request, today, horizon),
    )


def _optimism(request: AllocationRequest, today: Floats, horizon: int) -> Floats:
    """Return the part of each difference that comes of choosing weights on the history that judges
    them; 0 without a history.
    """
    source = request.source
    history = source.scenarios
    if history is None or not source.in_order or source.simulated is not None:
        return np.zeros(len(NAMES))
    returns = source.returns
    assert returns is not None

    def choose(positions: NDArray[np.int64]) -> tuple[Floats, Floats]:
        drawn = source.refit(returns[positions])
        weights, _ = weights_or_least_risk(Solver(drawn, request.region, request.aim))
        assert drawn.scenarios is not None
        return drawn.scenarios, weights * source.value

    aim = request.aim
    slow = "value_at_risk" in aim.limits  # whose stand-in is moved many times
    choices = CHOICES // 4 if slow else CHOICES
    return choosing_optimism(history, today * source.value, choose, aim.level, horizon, choices)


def _spanned(source: Source) -> Source:
    """Return the source with the word for what one of its returns spans."""
    return replace(source, period=source.period if source.simulated is None else "horizon")


def _drawn(source: Source, horizon: int) -> tuple[Joined, int, Floats]:
    """Return how returns are drawn, over how many periods, and the means they have."""
    if source.simulated is not None and source.simulated.drawn is not None:
        if horizon != 1:
            raise ParameterError(
                "these simulated returns have a horizon of their own; simulate others for a "
                "longer one"
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
