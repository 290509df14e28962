"""What an allocation starts from: prices, a portfolio, moments, or simulated returns, and how means
and risks are fitted.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.literals import CovarianceMethod, MeansMethod, ReturnPeriod
from kindynos.markets.allocation.moments import Moments
from kindynos.markets.allocation.region import by_name
from kindynos.markets.allocation.simulated_returns import SimulatedReturns
from kindynos.markets.holdings import check_buyable
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.prices import Prices, prices_of
from kindynos.markets.return_series import COVARIANCES, Returns, covariance, returns
from kindynos.results.run import Run
from kindynos.tables.spacing import DateSpacing
from kindynos.validate import check_integer, mapping, one_of

MEANS = ("sample", "shrunk", "implied")
FEWEST = 8  # returns


@dataclass(frozen=True, eq=False)
class MomentSettings:
    """How means and covariance come of returns: the method of each, views with their confidence,
    and today's weights.
    """

    means: MeansMethod = "sample"
    covariance: CovarianceMethod = "sample"
    views: Mapping[Any, float] = field(default_factory=dict)
    confidence: float | Mapping[Any, float] = 0.5

    def of(self, values: Floats, names: list[str], today: Floats | None) -> Moments:
        """Return the moments of returns ``(returns, holdings)``; the covariance of no more returns
        than holdings, which would be singular, is shrunk.
        """
        few = len(values) <= values.shape[1]
        method = "shrunk" if few else self.covariance
        matrix = covariance(values, method)
        words = (
            f"means of the sample, covariance {method}"
            if method != "sample"
            else "moments of the sample"
        )
        moments = Moments(values.mean(axis=0), matrix, names, len(values), words)
        return self.applied(moments, today)

    def applied(self, moments: Moments, today: Floats | None) -> Moments:
        """Return moments with means shrunk or implied, and views."""
        if self.means == "shrunk":
            moments = moments.shrunk()
        elif self.means == "implied":
            if today is None:
                raise ParameterError(
                    "means='implied' needs today's weights: a Portfolio, or today="
                )
            own = float(moments.mean.to_numpy() @ today)
            if own <= 0:
                raise ParameterError(
                    f"today's weights had a mean of {own:.3g}, from which no means above 0 can be "
                    "implied; say Moments.implied "
                    "with the mean you expect of them"
                )
            implied = Moments.implied(
                today, moments.covariance.to_numpy(), own, names=moments.names
            )
            moments = Moments(
                implied.mean,
                moments.covariance,
                moments.names,
                moments.observations,
                f"{moments.description}; means implied",
            )
        return moments.with_views(self.views, self.confidence)


@dataclass(frozen=True, eq=False)
class Source:
    """What an allocation starts from.

    ``returns`` ``(returns, holdings)`` are those of a history, in order of time, or of simulated
    trials, or None where only moments are known; ``scenarios`` are the same, moved so that their
    means are those of the ``moments``. ``period`` is what a return spans; ``today`` today's
    weights, and ``value`` what they are worth, where these are known.
    """

    moments: Moments
    description: str
    period: str = "period"
    returns: Floats | None = None
    dates: pd.DatetimeIndex | None = None
    spacing: DateSpacing | None = None
    today: Floats | None = None
    value: float = 1.0
    held: Portfolio | None = None
    prices: Prices | None = None
    simulated: SimulatedReturns | None = None
    settings: MomentSettings = field(default_factory=MomentSettings)

    @property
    def names(self) -> list[str]:
        """The names of the holdings."""
        return self.moments.names

    @property
    def mean(self) -> Floats:
        """The means ``(holdings,)``."""
        return self.moments.mean.to_numpy()

    @property
    def covariance(self) -> Floats:
        """The covariance ``(holdings, holdings)``."""
        return self.moments.covariance.to_numpy()

    @property
    def in_order(self) -> bool:
        """Whether the returns follow each other in time."""
        return self.dates is not None

    @property
    def per_year(self) -> float | None:
        """How many periods a year has, where that is known."""
        return None if self.spacing is None else self.spacing.per_year

    @property
    def scenarios(self) -> Floats | None:
        """The returns with the means that the moments say."""
        return (
            None if self.returns is None else self.returns + (self.mean - self.returns.mean(axis=0))
        )

    def check_covariance(self) -> None:
        """Raise ParameterError for too few returns behind the covariance."""
        if self.returns is None or self.settings.covariance == "shrunk":
            return
        count, holdings = self.returns.shape
        if count <= holdings:
            raise ParameterError(
                f"{count} returns are too few for the covariance of {holdings} holdings; take a "
                "longer window, or covariance='shrunk'"
            )

    def refit(self, values: Floats) -> Source:
        """Return the source with other returns in place of its own, fitted in the same way."""
        return replace(
            self, returns=values, moments=self.settings.of(values, self.names, self.today)
        )


def source_of(
    given: Any,
    *,
    every: ReturnPeriod | None,
    window: int | None,
    today: Any,
    settings: MomentSettings,
) -> Source:
    """Return what an allocation starts from; raises ParameterError for anything else."""
    one_of("means", settings.means, MEANS)
    one_of("covariance", settings.covariance, COVARIANCES)
    mapping("views", settings.views, "means by holding")
    of_portfolio = (
        given if isinstance(given, Portfolio) else today if isinstance(today, Portfolio) else None
    )
    if of_portfolio is not None and not of_portfolio.book.in_proportion:
        raise ParameterError("positions that are valued one by one have no weights to choose")
    if of_portfolio is not None and (today is None or today is of_portfolio):
        today = of_portfolio.weights
    if isinstance(given, Portfolio | Prices | pd.DataFrame):
        prices = given.prices if isinstance(given, Portfolio) else prices_of(given)
        everything = np.ones(len(prices.instruments), dtype=bool)
        check_buyable(prices, prices.frame.to_numpy()[-1], everything)
        replaced = replace(
            _from_returns(returns(prices, every=every), window, settings, today), prices=prices
        )
    elif isinstance(given, Returns):
        replaced = _from_returns(given, window, settings, today)
    elif isinstance(given, Moments):
        replaced = _from_moments(given, settings, today)
    elif isinstance(given, SimulatedReturns | Run):
        replaced = _from_simulated(
            given if isinstance(given, SimulatedReturns) else SimulatedReturns.from_run(given),
            settings,
            today,
        )
    else:
        raise ParameterError(
            "starts from a Portfolio, Prices, Returns, Moments, SimulatedReturns or the run of "
            "portfolio.simulate, "
            f"not {given!r:.60}"
        )
    return (
        replaced
        if of_portfolio is None
        else replace(replaced, held=of_portfolio, value=of_portfolio.value)
    )


def _today(names: list[str], today: Any) -> Floats | None:
    if today is None:
        return None
    weights = by_name(names, today, "today")
    if abs(weights.sum() - 1) > 1e-6:
        raise ParameterError(f"today's weights add up to {weights.sum():.6g}, not to 1")
    return weights


def _from_returns(
    given: Returns, window: int | None, settings: MomentSettings, today: Any
) -> Source:
    frame = given.frame
    if window is not None:
        if check_integer("window", window, least=FEWEST) > len(frame):
            raise ParameterError(
                f"window {window} is longer than the history of {len(frame)} returns"
            )
        frame = frame.iloc[-window:]
    names, values = [str(name) for name in frame.columns], frame.to_numpy(dtype=np.float64)
    weights = _today(names, today)
    moments = settings.of(values, names, weights)
    span = (
        f"{len(frame):,} returns each {given.every} from {frame.index[0]:%Y-%m-%d} to "
        f"{frame.index[-1]:%Y-%m-%d}"
    )
    return Source(
        moments,
        f"{span}; {moments.description}; {given.description}",
        given.every,
        values,
        pd.DatetimeIndex(frame.index),
        given.spacing,
        weights,
        settings=settings,
    )


def _from_moments(given: Moments, settings: MomentSettings, today: Any) -> Source:
    if settings.covariance != "sample":
        raise ParameterError("covariance= is for histories; this covariance is given")
    weights = _today(given.names, today)
    moments = settings.applied(given, weights)
    return Source(
        moments,
        f"{moments.description}; losses by a normal distribution",
        today=weights,
        settings=settings,
    )


def _from_simulated(given: SimulatedReturns, settings: MomentSettings, today: Any) -> Source:
    weights, values = _today(given.names, today), given.frame.to_numpy(dtype=np.float64)
    moments = settings.of(values, given.names, weights)
    return Source(
        moments,
        f"{given.description}; {moments.description}",
        returns=values,
        today=weights,
        simulated=given,
        settings=settings,
    )
