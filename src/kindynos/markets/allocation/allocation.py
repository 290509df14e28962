"""The best weights of holdings, and what is to be said of them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any, TypedDict, Unpack

import pandas as pd

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError
from kindynos.literals import (
    CovarianceMethod,
    GainAim,
    MeansMethod,
    RebalancingSpan,
    ReturnPeriod,
    RiskAim,
)
from kindynos.markets.allocation.before_after import BeforeAfter, before_after
from kindynos.markets.allocation.feasible import check_feasible
from kindynos.markets.allocation.measures import Losses
from kindynos.markets.allocation.region import region_of
from kindynos.markets.allocation.request import AllocationRequest, aim_of
from kindynos.markets.allocation.resampling import Resampled, resampled
from kindynos.markets.allocation.source import MomentSettings, source_of
from kindynos.markets.allocation.walk import WalkForward, walk_forward
from kindynos.markets.portfolio import Portfolio
from kindynos.sampling.streams import Seed
from kindynos.validate import Count, array_of, check_call, checked, confidence_level, instance

Bounds = tuple[float, float] | Mapping[str, tuple[float, float]]


class Allocation(Reported):
    """The best ``weights`` (a Series by holding) for what was asked, and how they came about.

    ``mean`` and ``sd`` are per period of the source, as are all limits. See ``table`` for the
    figures of these weights and of today's, ``binding`` for what holds them back, ``compare`` for
    before and after, ``resampled`` and ``walk_forward`` for how sure they are, ``portfolio`` to go
    on with them, and ``plot``.

    >>> from kindynos import Moments, allocate
    >>> moments = Moments([0.04, 0.06], [[0.01, 0.0], [0.0, 0.04]], names=["bonds", "wind"])
    >>> best = allocate(moments, minimize="variance")
    >>> {name: round(weight, 3) for name, weight in best.weights.items()}
    {'bonds': 0.8, 'wind': 0.2}
    """

    @checked
    def __init__(self, request: AllocationRequest, weights: Any) -> None:
        self.request = instance("request", request, AllocationRequest, "a request; call allocate")
        self._weights = array_of("weights", weights)
        self._losses = Losses(request.source, request.aim.level)

    @property
    def weights(self) -> pd.Series:
        """The weight of each holding, which add up to 1."""
        return pd.Series(self._weights, self.request.source.names, name="weight")

    @property
    def today(self) -> pd.Series | None:
        """Today's weights, where the source knows them."""
        weights_today = self.request.source.today
        return (
            None
            if weights_today is None
            else pd.Series(weights_today, self.request.source.names, name="weight today")
        )

    @property
    def source(self) -> str:
        """What the allocation started from, in words."""
        return self.request.source.description

    @property
    def wanted(self) -> str:
        """What was asked for, in words."""
        return self.request.wanted

    @property
    def mean(self) -> float:
        """The mean return per period, before the cost of trades."""
        return self._losses.mean(self._weights)

    @property
    def sd(self) -> float:
        """The sd of the return per period."""
        return self._losses.sd(self._weights)

    @property
    def ratio(self) -> float:
        """The mean above the rate, less the cost of trades over the periods they are held, over the
        sd.
        """
        gain = self.mean - self.request.region.charge(self._weights) - self.request.aim.rate
        return gain / self.sd if self.sd > 0 else math.nan

    @property
    def cost(self) -> float:
        """What the trades to these weights cost, once, as a share of the value."""
        return self.request.region.trading_cost(self._weights)

    @property
    def drawdown(self) -> float:
        """The deepest fall of the value over the history, compounded, with weights set back each
        period, as a share of the highest value so far; raises ParameterError
        without a history.
        """
        if not self.request.source.in_order:
            raise ParameterError(
                "a drawdown needs a history, returns that follow each other in time"
            )
        return self._losses.value("drawdown", self._weights)

    @checked
    def value_at_risk(self, level: float | None = None) -> float:
        """Return the loss per period, as a share, exceeded with a chance of 1 - level; over the
        scenarios, or normal.
        """
        return self._at(level).value("value_at_risk", self._weights)

    @checked
    def expected_shortfall(self, level: float | None = None) -> float:
        """Return the mean of the losses beyond the value at risk."""
        return self._at(level).value("expected_shortfall", self._weights)

    def _at(self, level: float | None) -> Losses:
        return (
            self._losses
            if level is None
            else Losses(self.request.source, confidence_level("level", level))
        )

    def __repr__(self) -> str:
        text = ", ".join(
            f"{name} {100 * weight:.1f} %" for name, weight in self.weights.items() if weight > 5e-4
        )
        return f"<{self.wanted}: {text}>"

    @checked
    def table(self) -> pd.DataFrame:
        """Return the figures of today's weights, where they are known, and of the best: one row per
        measure, a column each.

        Mean, sd, ratio, value at risk and expected shortfall at the level of the aim are per
        period; the drawdown is that of the history. These are figures of the source, without
        errors: see ``compare`` and ``resampled``.
        """
        columns = {}
        for label, weights in (("today", self.request.source.today), ("best", self._weights)):
            if weights is None:
                continue
            level = f"{100 * self.request.aim.level:g} %"
            allocation = Allocation(self.request, weights)
            figures = {
                "mean": allocation.mean,
                "cost of trades, once": allocation.cost,
                "sd": allocation.sd,
                "ratio": allocation.ratio,
            }
            figures |= {
                f"value at risk {level}": allocation.value_at_risk(),
                f"expected shortfall {level}": allocation.expected_shortfall(),
            }
            columns[label] = figures | (
                {"drawdown": allocation.drawdown} if self.request.source.in_order else {}
            )
        return pd.DataFrame(columns)

    @cached_property
    def _binding(self) -> pd.DataFrame:
        aim, own = self.request.aim, self._worth(self._weights)
        parity = "parity" in (aim.maximize, aim.minimize)
        records = []
        for kind, name, value, looser in self.request.binding(self._weights):
            gain = math.nan
            if not parity:
                try:
                    gain = own - self._worth(looser.weights())
                except ParameterError:  # a bound that cannot be loosened further
                    gain = 0.0
            records.append((kind, name, value, abs(gain) if abs(gain) < 1e-12 else gain))
        frame = pd.DataFrame(records, columns=["kind", "name", "value", "gain"])
        return frame.sort_values("gain", ascending=False, ignore_index=True, kind="stable")

    def binding(self) -> pd.DataFrame:
        """Return the bounds, groups and limits that hold the weights back, and what loosening each
        would bring.

        ``gain`` is by how much the aim would be better (a higher mean or ratio, a smaller risk)
        with a bound, group or turnover wider by 0.01, or a limit by 1 % of itself: worked out
        again, not by a slope. The largest comes first.
        """
        return self._binding.copy()

    def _worth(self, weights: Any) -> float:
        aim = self.request.aim
        if "parity" in (aim.maximize, aim.minimize):
            return math.nan
        return self._losses.aimed(
            aim.maximize, aim.minimize, weights, self.request.region, aim.rate
        )

    @checked
    def contributions(self) -> pd.DataFrame:
        """Return each holding's weight and its share of the variance, of today's weights and the
        best.

        The share is w_i (S w)_i / w'S w; shares add up to 1.
        """
        matrix = self.request.source.covariance
        columns = {}
        for label, weights in (("today", self.request.source.today), ("best", self._weights)):
            if weights is not None:
                columns[f"weight, {label}"] = weights
                columns[f"share of risk, {label}"] = (
                    weights * (matrix @ weights) / float(weights @ matrix @ weights)
                )
        return pd.DataFrame(columns, self.request.source.names)

    @checked
    def portfolio(self, value: float | None = None) -> Portfolio:
        """Return the portfolio of these weights, worth as much as today's or ``value``.

        Raises ParameterError without prices.
        """
        source = self.request.source
        if source.prices is None:
            raise ParameterError(
                "a portfolio needs prices; this allocation starts from " + source.description
            )
        by_name = {
            str(name): float(weight) for name, weight in self.weights.items() if abs(weight) > 1e-12
        }
        worth = source.value if value is None else value
        return Portfolio(
            source.prices, weights=by_name, value=worth, short=bool((self._weights < 0).any())
        )

    @checked
    def compare(
        self,
        horizon: Count = 1,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        against: Mapping[str, float] | None = None,
    ) -> BeforeAfter:
        """Return today's holdings and the best beside each other on the same draws, over that many
        periods.

        ``against`` are other weights than today's. Returns are drawn from what the allocation
        started from: of a history from the distributions that fit each holding best, joined by its
        rank correlations; of moments from normal distributions; simulated ones are drawn again.
        The weights were chosen on the history that judges them: they are chosen again on histories
        drawn from it, and the mean of what that promises too much is taken off each difference.
        Raises ParameterError where neither today's weights nor others are known.
        """
        return before_after(self.request, self._weights, horizon, trials, seed, against)

    @checked
    def resampled(
        self, times: int = 200, seed: int = 0, *, block: float | None = None, progress: Any = None
    ) -> Resampled:
        """Return the same allocation on histories like this one: how uncertain each weight is.

        Histories are resampled in blocks of days, ``block`` long on average (default: the cube root
        of their number); moments with ``observations`` are drawn from their sampling distribution.
        Raises ParameterError for given moments without a number of observations, and for more than
        10,000 times.
        """
        return resampled(self.request, self._weights, times, seed, block, progress)

    @checked
    def walk_forward(
        self,
        every: RebalancingSpan = "quarter",
        window: int | None = None,
        cost: float | None = None,
    ) -> WalkForward:
        """Return what this rule would have earned out of sample: the weights chosen again each
        month, quarter or year.

        Each time only the ``window`` returns before it are known (default: half of the history),
        and trades cost their share. Beside it stand holding today's weights still, and equal
        weights. Raises ParameterError without a history.
        """
        return walk_forward(self.request, every, window, cost)

    @delegated_to("kindynos.plots", "best_weights")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the best weights beside today's, and the share of risk of each holding."""


class AllocationOptions(TypedDict, total=False):
    """The options that ``allocate`` and ``frontier`` share; see ``allocate``."""

    bounds: Bounds | None
    limits: Mapping[str, float] | None
    groups: Mapping[Any, tuple[float, float]] | None
    members: Mapping[str, str | Sequence[str]] | None
    level: float
    rate: float
    turnover: float | None
    cost: float | None
    holding_period: float | None
    short: bool
    today: Any
    every: ReturnPeriod | None
    window: int | None
    means: MeansMethod
    covariance: CovarianceMethod
    views: Mapping[Any, float] | None
    confidence: float | Mapping[Any, float]


def request_of(
    source: Any,
    *,
    maximize: GainAim | None = None,
    minimize: RiskAim | None = None,
    bounds: Bounds | None = None,
    limits: Mapping[str, float] | None = None,
    groups: Mapping[Any, tuple[float, float]] | None = None,
    members: Mapping[str, str | Sequence[str]] | None = None,
    level: float = 0.95,
    rate: float = 0.0,
    turnover: float | None = None,
    cost: float | None = None,
    holding_period: float | None = None,
    short: bool = False,
    today: Any = None,
    every: ReturnPeriod | None = None,
    window: int | None = None,
    means: MeansMethod = "sample",
    covariance: CovarianceMethod = "sample",
    views: Mapping[Any, float] | None = None,
    confidence: float | Mapping[Any, float] = 0.5,
) -> AllocationRequest:
    """Return the request that the arguments of ``allocate`` state."""
    settings = MomentSettings(means, covariance, {} if views is None else views, confidence)
    start = source_of(source, every=every, window=window, today=today, settings=settings)
    span = (start.per_year or 1) if holding_period is None else holding_period
    region = region_of(
        start.names,
        bounds,
        groups,
        members,
        today=start.today,
        turnover=turnover,
        cost=cost,
        holding_period=span,
        short=short,
    )
    check_feasible(region)
    aim = aim_of(maximize, minimize, limits, confidence_level("level", level), rate)
    if aim.needs_covariance:
        start.check_covariance()
    return AllocationRequest(start, region, aim)


@checked
def allocate(
    source: Any,
    *,
    maximize: GainAim | None = None,
    minimize: RiskAim | None = None,
    **options: Unpack[AllocationOptions],
) -> Allocation:
    """Return the best weights of holdings, within bounds and limits.

    ``source`` is a Portfolio, Prices, Returns, ``kd.Moments`` or ``kd.SimulatedReturns``; of prices
    the returns from date to date are taken, or ``every`` week, month, quarter or year, the last
    ``window`` of them. ``maximize``
    "mean" or "ratio" (of the mean above ``rate`` to the sd, or to the measure in ``minimize``), or
    ``minimize`` "sd", "variance" or "expected_shortfall", or "parity" for equal contributions to
    risk; unless said, the mean where there is a limit, else the ratio. ``limits`` are the most of
    any of these measures, of "value_at_risk" or of "drawdown", and the least "mean", per period.
    ``bounds`` is one pair for all weights or pairs by name (``"others"`` for the rest); default: 0
    to 1; ``groups`` are pairs for sums of weights, of the ``members`` of a group or of the names in
    a tuple that is its key. ``turnover`` is the most that may be bought and sold together, ``cost``
    the share of each trade that is lost: spread over ``holding_period`` periods (a year, where the
    source knows how long its periods are).

    ``means`` "sample", "shrunk" or "implied" (by today's weights), ``views`` with a ``confidence``
    as in ``Moments.with_views``, and ``covariance`` "sample", "weighted" or "shrunk" say how the
    future is fitted to the past. Raises ParameterError for bounds that cannot add up to 1,
    limits that cannot be reached (with what can), and unknown names.

    >>> from kindynos import Moments
    >>> moments = Moments([0.04, 0.08], [[0.01, 0.0], [0.0, 0.04]], names=["bond", "share"])
    >>> allocate(moments, minimize="sd").weights.round(6).to_dict()
    {'bond': 0.8, 'share': 0.2}
    >>> allocate(moments, maximize="mean", limits={"sd": 0.12}).weights.round(4).to_dict()
    {'bond': 0.4422, 'share': 0.5578}
    """
    check_call(request_of, source, maximize=maximize, minimize=minimize, **options)
    request = request_of(source, maximize=maximize, minimize=minimize, **options)
    return Allocation(request, request.weights())
