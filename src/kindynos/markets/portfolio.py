"""Holdings, their value and weights through time, and the risk of what is held today."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, Unpack

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.delegation import delegated_to
from kindynos.errors import ParameterError
from kindynos.literals import Rebalancing, ReturnPeriod, RiskMethod
from kindynos.markets import stress as stresses
from kindynos.markets.backtesting import Backtest, rolling_backtest
from kindynos.markets.contributions import contributions
from kindynos.markets.exposure import Exposure, RiskFigure
from kindynos.markets.held_model import simulate_held
from kindynos.markets.holdings import Revalue, checked_holdings, converted, profit_of
from kindynos.markets.methods import METHODS, measured, method_of
from kindynos.markets.prices import Prices, checked_date, prices_of
from kindynos.markets.relative import against, rolling_risk
from kindynos.markets.risk_table import risk_record
from kindynos.markets.simulation import Simulated
from kindynos.memory import with_memory
from kindynos.processes.bootstrap import BootstrapReturns
from kindynos.processes.brownian import GeometricBrownianMotion
from kindynos.processes.pathset import PathSet
from kindynos.results.run import Run
from kindynos.results.simulate import SimulationKeywords
from kindynos.sampling.streams import Seed
from kindynos.validate import (
    Count,
    check_integer,
    checked,
    confidence_level,
    instance,
    listed,
    one_of,
    positive,
)

LEVELS = (0.95, 0.975, 0.99)
FEWEST = 8  # returns


class Portfolio:
    """Holdings bought on a date and followed to the last one; risk is that of today's holdings.

    ``shares`` are numbers of each instrument; or ``weights``, which add up to 1, of a ``value`` in
    money bought on ``as_of`` (default: the last date) and then left alone, so that the weights
    drift, or with ``rebalance`` "monthly" or "daily" set back. ``short=True`` allows negative
    holdings. ``currency`` names for an instrument the column of the prices that has the exchange
    rate of its currency: ``{"shipyard": "NOK"}``, where NOK is what a krone costs. Instead of
    amounts, ``revalue`` is a function of the prices by instrument, arrays ``(cases,)``, that gives
    what positions such as options are worth then. Raises ParameterError for unknown instruments,
    weights that do not add up, and dates outside the history.

    >>> import pandas as pd
    >>> from kindynos import read_prices
    >>> days = pd.bdate_range("2027-01-04", periods=4).strftime("%Y-%m-%d")
    >>> table = pd.DataFrame({"date": days, "A": [10.0, 11, 12, 11], "B": [5.0, 5, 6, 6]})
    >>> prices = read_prices(table)
    >>> Portfolio(prices, shares={"A": 10, "B": 20}).value
    230.0
    """

    def __init__(
        self,
        prices: Prices | pd.DataFrame,
        *,
        shares: Mapping[str, float] | None = None,
        weights: Mapping[str, float] | None = None,
        value: float | None = None,
        as_of: Any = None,
        rebalance: Rebalancing | None = None,
        short: bool = False,
        currency: Mapping[str, str] | None = None,
        revalue: Revalue | None = None,
    ) -> None:
        if sum(given is not None for given in (shares, weights, revalue)) != 1:
            raise ParameterError(
                "say shares= or weights=, one of them (or revalue=)", owner="Portfolio"
            )
        self.market = converted(prices_of("Portfolio", prices), currency)
        self._revalue = revalue
        if revalue is not None:
            self.prices, self.rebalance = self.market, None
            self.as_of = self.prices.dates[-1]
            self._bought: Floats = np.zeros(len(self.prices.instruments))
            return
        if rebalance is not None:
            one_of("Portfolio", "rebalance", rebalance, ("monthly", "daily"))
        held = checked_holdings(
            self.market, *(("shares", shares) if weights is None else ("weights", weights)), short
        )
        self.prices = self.market.subset(list(held))
        self.rebalance = rebalance
        self.as_of = self._date(as_of)
        amounts = np.array(list(held.values()))
        if shares is not None:
            if value is not None:
                raise ParameterError(
                    "value= goes with weights=; shares have their value by the prices",
                    owner="Portfolio",
                )
            self._bought = amounts
            self.rebalance = None
        else:
            total = float(amounts.sum())
            if abs(total - 1) > 1e-6:
                advice = "; write 0.6 for 60 %" if abs(total - 100) < 1 else ""
                raise ParameterError(
                    f"the weights add up to {total:.6g}, not to 1{advice}", owner="Portfolio"
                )
            bought = positive("Portfolio", "value", value if value is not None else 1.0)
            self._bought = amounts * bought / self.prices.frame.loc[self.as_of].to_numpy()

    def _date(self, as_of: Any) -> pd.Timestamp:
        dates = self.prices.dates
        if as_of is None:
            return dates[-1]
        date = checked_date("Portfolio", "as_of", as_of)
        if date not in dates:
            raise ParameterError(
                f"{date:%Y-%m-%d} is not a date with prices; they run from {dates[0]:%Y-%m-%d} to "
                f"{dates[-1]:%Y-%m-%d}",
                owner="Portfolio",
            )
        return date

    @cached_property
    def _held(self) -> Floats:
        """The shares held at the end of each date from ``as_of`` on, ``(dates, instruments)``."""
        frame = self.prices.frame.loc[self.as_of :]
        prices = frame.to_numpy()
        shares = np.broadcast_to(self._bought, prices.shape).copy()
        if self.rebalance is None or len(frame) < 2:
            return shares
        months = pd.DatetimeIndex(frame.index).to_period("M")
        weights = self._bought * prices[0] / (self._bought @ prices[0])
        for t in range(1, len(frame)):
            worth = float(shares[t - 1] @ prices[t])
            again = self.rebalance == "daily" or months[t] != months[t - 1]
            shares[t] = weights * worth / prices[t] if again else shares[t - 1]
        return shares

    @property
    def instruments(self) -> list[str]:
        """The names of the instruments held."""
        return self.prices.instruments

    @property
    def values(self) -> pd.Series:
        """The value of each holding today; raises ParameterError for positions that a function
        values.
        """
        if self._revalue is not None:
            raise ParameterError(
                "positions that a function values have no values by instrument", owner="Portfolio"
            )
        return pd.Series(
            self._held[-1] * self.prices.frame.iloc[-1].to_numpy(), self.instruments, name="value"
        )

    @property
    def value(self) -> float:
        """The value of all holdings today."""
        if self._revalue is not None:
            today = self.prices.frame.iloc[-1]
            return float(
                np.asarray(
                    self._revalue({str(name): np.array([today[name]]) for name in today.index})
                )[0]
            )
        return float(self.values.sum())

    @cached_property
    def _profit(self) -> Callable[[Floats], Floats] | None:
        today = self.prices.frame.iloc[-1].to_numpy()
        return None if self._revalue is None else profit_of(self._revalue, self.instruments, today)

    @property
    def weights(self) -> pd.Series:
        """The weight of each holding today; raises ParameterError where long and short positions
        are worth nothing together.
        """
        if abs(self.value) <= 1e-12 * float(self.values.abs().sum()):
            raise ParameterError(
                "long and short positions add up to nothing, of which there are no weights",
                owner="Portfolio",
            )
        return (self.values / self.value).rename("weight")

    def history(self) -> pd.DataFrame:
        """Return the value through time, from ``as_of`` on, and the weight of each holding."""
        frame = self.prices.frame.loc[self.as_of :]
        worth = self._held * frame.to_numpy()
        total = worth.sum(axis=1, keepdims=True)
        weights = np.divide(
            worth,
            total,
            out=np.full(worth.shape, np.nan),
            where=np.abs(total) > 1e-12 * np.abs(worth).max(),
        )
        table = pd.DataFrame(weights, frame.index, self.instruments)
        table.insert(0, "value", worth.sum(axis=1))
        return table

    def constant_value(self) -> pd.Series:
        """Return what today's holdings would have been worth on each date of the prices."""
        frame = self.prices.frame
        if self._profit is not None:
            worth = self.value + self._profit((frame / frame.iloc[-1]).to_numpy().T)
        else:
            worth = frame.to_numpy() @ self._held[-1]
        return pd.Series(worth, frame.index, name="value")

    @delegated_to("kindynos.reports.showing", "show")
    def show(self) -> None:
        """Print value at risk and expected shortfall by all methods as ``kindynos risk`` does."""

    def __repr__(self) -> str:
        return (
            f"<portfolio of {', '.join(self.instruments)}: {self.value:,.2f} on "
            f"{self.prices.dates[-1]:%Y-%m-%d}>"
        )

    def exposure(self, window: int | None = None, every: ReturnPeriod | None = None) -> Exposure:
        """Return today's holdings with the simple returns of the last ``window`` periods (default:
        the whole history), each from one date to the next, or ``every`` week, month, quarter or
        year.

        Raises ParameterError for a window longer than the history, and a period shorter than the
        prices lie apart.
        """
        chosen = self.prices.every(every)
        prices = chosen.frame.to_numpy()
        found, dates = prices[1:] / prices[:-1] - 1, chosen.dates[1:]
        if window is not None and check_integer("Portfolio", "window", window, least=FEWEST) > len(
            found
        ):
            raise ParameterError(
                f"window {window} is longer than the history of {len(found)} returns",
                owner="Portfolio",
            )
        if len(found) < FEWEST:
            raise ParameterError(
                f"{len(found)} returns are too few; at least {FEWEST} are needed", owner="Portfolio"
            )
        begin = 0 if window is None else len(found) - window
        values = self._held[-1] * self.prices.frame.to_numpy()[-1]
        return Exposure(
            values,
            found[begin:],
            self.instruments,
            dates[begin:],
            window,
            chosen.description,
            chosen.spacing,
            self._profit,
        )

    def value_at_risk(
        self,
        level: float,
        method: RiskMethod = "historical",
        window: int | None = None,
        horizon: int = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> RiskFigure:
        """Return the loss exceeded in about one period in 1 / (1 - level), in money; positive is a
        loss.

        A period is a day of daily prices, a month of monthly ones, and so on; with ``every``
        "week", "month", "quarter" or "year" it is longer than the prices lie apart.

        ``method`` is "historical", "weighted", "filtered", "tail", "normal", "student", "cornish
        fisher" or "simulated"; ``window`` the last N returns. Over a ``horizon`` of
        several periods the figure of one grows with their root, unless a method's options say
        otherwise; "simulated" draws paths. The figure has ``.low`` and ``.high``, between which the
        true figure lies as far as the window can tell, ``.sampling_error``, ``.doubt``, its
        ``fraction`` of the value, and a ``description`` of how it was made. See
        ``kindynos.markets.methods`` for the methods and their options. Raises ParameterError for a
        level such as 95, and for a window longer than the history.
        """
        return self._figure("value_at_risk", level, method, window, horizon, every, options)

    def expected_shortfall(
        self,
        level: float,
        method: RiskMethod = "historical",
        window: int | None = None,
        horizon: int = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> RiskFigure:
        """Return the mean of the losses beyond the value at risk, in money; otherwise as
        ``value_at_risk``.
        """
        return self._figure("expected_shortfall", level, method, window, horizon, every, options)

    @with_memory
    def _figure(
        self,
        measure: str,
        level: float,
        method: str,
        window: int | None,
        horizon: int,
        every: ReturnPeriod | None,
        options: dict[str, Any],
    ) -> RiskFigure:
        at = confidence_level("risk", "level", level)
        check_integer("Portfolio", "horizon", horizon, least=1)
        return measured(
            method_of(method, options),
            self.exposure(window, every),
            measure,
            at,
            horizon,
            self.value,
        )

    @with_memory
    @checked
    def risk_table(
        self,
        levels: Sequence[float] = LEVELS,
        methods: Sequence[RiskMethod] | None = None,
        windows: Sequence[int | None] = (None,),
        horizon: Count = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return value at risk and expected shortfall by every method, window and level, each with
        its 95 % interval.

        Rows are (method, window, level); columns the figures in money with low and high, and in per
        cent of the value, the half-width that simulation alone would leave, the number of returns
        and their dates, and what in the data contradicts the method (``doubt``). Of all methods,
        those that cannot use a window are left out, which ``attrs["left out"]`` tells. ``options``
        go to the methods that know them. Raises ParameterError as ``value_at_risk`` does.
        """
        checked = [confidence_level("risk", "level", level) for level in listed(levels)]
        named = None if methods is None else listed(methods)
        records, keys = [], []
        left_out: dict[str, str] = {}
        for window in listed(windows):
            exposure, label = self.exposure(window, every), "all" if window is None else window
            for name in named or METHODS:
                method = method_of(name, options, all_methods=True)
                try:
                    found = [
                        risk_record(method, exposure, level, horizon, self.value)
                        for level in checked
                    ]
                except ParameterError as error:
                    if named is not None:
                        raise
                    left_out[f"{name}, {label}"] = str(error)
                    continue
                keys += [(name, label, level) for level in checked]
                records += found
        frame = pd.DataFrame(records)
        frame.index = pd.MultiIndex.from_tuples(keys, names=["method", "window", "level"])
        frame.attrs |= {
            "prices": self.prices.description,
            "horizon": horizon,
            "spacing": exposure.spacing,
            "value": self.value,
            "left out": left_out,
        }
        return frame

    @with_memory
    @checked
    def losses(
        self,
        method: RiskMethod = "historical",
        window: int | None = None,
        horizon: Count = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return the profits and losses behind a figure, and the weight each has, so that it can be
        calculated by hand.

        Columns: loss (positive is a loss), weight; and for "filtered" the loss as it was and the
        scale. Rows are dates; those of "simulated" are trials. Of methods that fit a distribution
        they are the losses it is fitted to. Over a ``horizon`` they are losses of one period
        times its root, except for "simulated" and for overlapping stretches. Raises ParameterError
        as ``value_at_risk`` does.
        """
        chosen, exposure = method_of(method, options), self.exposure(window, every)
        if isinstance(chosen, Simulated):
            drawn = -np.asarray(chosen.profits(exposure, horizon)["profit"].values)
            return pd.DataFrame(
                {"loss": drawn, "weight": 1 / len(drawn)},
                index=pd.RangeIndex(len(drawn), name="trial"),
            )
        if getattr(chosen, "overlapping", False):
            exposure, horizon = exposure.over(horizon), 1
        losses, weights = chosen.behind(exposure.losses)
        dates = pd.DatetimeIndex(exposure.dates, name="date")
        frame = pd.DataFrame({"loss": losses * horizon**0.5, "weight": weights}, index=dates)
        if method == "filtered":
            frame["loss as it was"] = exposure.losses * horizon**0.5
            frame["scale"] = frame["loss"] / frame["loss as it was"].where(
                frame["loss as it was"] != 0
            )
        return frame

    @with_memory
    @checked
    def contributions(
        self,
        level: float = 0.99,
        measure: str = "value_at_risk",
        window: int | None = None,
        method: RiskMethod = "historical",
        horizon: Count = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return what each holding adds to a figure: marginal, component (they add up to it) and
        incremental.

        The figure is the one that ``value_at_risk`` or ``expected_shortfall`` gives for the same
        level, method, window, horizon, period and options. See ``kindynos.markets.contributions``.
        Raises ParameterError as they do.
        """
        return contributions(
            method_of(method, options),
            self.exposure(window, every),
            measure,
            confidence_level("risk", "level", level),
            horizon,
        )

    @with_memory
    def against(
        self, benchmark: str, window: int | None = None, every: ReturnPeriod | None = None
    ) -> pd.Series:
        """Return how today's holdings would have gone with an instrument of the same prices, held
        or not.

        Beta, alpha, excess return, tracking error and correlation, as estimates with their
        intervals. See ``kindynos.markets.relative``. Raises ParameterError for an unknown
        instrument.
        """
        instance("against", "benchmark", benchmark, str, "the name of an instrument")
        both = self.market.subset(list(dict.fromkeys([*self.instruments, benchmark]))).every(every)
        prices = both.frame
        moves = (prices / prices.shift(1) - 1).iloc[1 if window is None else -window :]
        own = (
            -replace(self.exposure(), returns=moves[self.instruments].to_numpy()).losses
            / self.value
        )
        return pd.Series(
            against(own, moves[benchmark].to_numpy(), both.spacing.per_year),
            name=benchmark,
            dtype=object,
        )

    @with_memory
    def rolling(
        self,
        window: int = 250,
        level: float = 0.99,
        method: RiskMethod = "historical",
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return value at risk and expected shortfall of today's holdings over each window, by its
        last date.

        Raises ParameterError for a window longer than the history, and for "simulated".
        """
        return rolling_risk(
            self.exposure(every=every),
            method_of(method, options),
            window,
            confidence_level("risk", "level", level),
        )

    def paths(
        self,
        periods: int,
        trials: int,
        seed: int,
        *,
        process: str = "bootstrap returns",
        block: float | None = None,
        every: ReturnPeriod | None = None,
    ) -> Floats:
        """Return simulated values of today's holdings, left alone, ``(periods + 1, trials)``:
        today's first.

        A period is what the prices lie apart, or ``every`` week, month, quarter or year.
        ``process`` "bootstrap returns" draws stretches of the history, the same for all
        instruments, ``block`` periods long on average (default: the cube root of their number);
        "geometric brownian motion" fits one to each, with the correlation of their log returns.
        Raises ParameterError for other words and wrong numbers.
        """
        frame = self.prices.every(every).frame
        if (
            one_of("paths", "process", process, ("bootstrap returns", "geometric brownian motion"))
            == "bootstrap returns"
        ):
            together: PathSet = BootstrapReturns.fit(frame, block=block)
        else:
            moves = pd.DataFrame(np.diff(np.log(frame.to_numpy()), axis=0))
            fitted = {
                str(name): GeometricBrownianMotion.fit(frame[name].to_numpy())
                for name in frame.columns
            }
            together = PathSet(fitted, moves.corr().to_numpy())
        now, profit, held = self.value, self._profit, self._held[-1]
        last = frame.iloc[-1].to_numpy()[:, None, None]
        today = self.prices.frame.iloc[-1].to_numpy()

        def worth(prices: Floats) -> Floats:
            if profit is None:
                return np.asarray(np.einsum("i,ipt->pt", held, prices))
            flat = (prices / today[:, None, None]).reshape(len(today), -1)
            return np.asarray(now + profit(flat).reshape(prices.shape[1:]))

        return worth(together.paths(periods, trials, seed) / last * today[:, None, None])

    def simulate(
        self,
        horizon: int = 1,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        window: int | None = None,
        every: ReturnPeriod | None = None,
        marginals: Any = "ranked",
        copula: str = "gaussian",
        df: float | None = None,
        **options: Unpack[SimulationKeywords],
    ) -> Run:
        """Return a run whose drivers are the holdings' returns and whose outcomes are ``profit``
        and ``max_drawdown``.

        ``run.sensitivity("profit")`` tells which holding matters, by every method. ``marginals`` is
        "ranked" (to each holding's returns of the window the distribution that fits best),
        "student", "normal", or distributions by name; ``copula`` and ``df`` as in
        ``Model.correlate``, with the window's rank correlations; ``options`` as in
        ``Model.simulate``. Over a ``horizon`` of several periods returns are drawn for each. Raises
        ParameterError for wrong words and numbers.
        """
        return simulate_held(
            self.exposure(window, every), horizon, trials, seed, marginals, (copula, df), options
        )

    def stress(self, shocks: Mapping[str, float], window: int | None = None) -> pd.DataFrame:
        """Return the profit or loss of each holding if some move by given shares (-0.2 is -20 %)
        and the others follow.

        The others move by their regression on the shocked ones. Raises ParameterError for unknown
        instruments.
        """
        return stresses.shocked(self.exposure(window), shocks)

    def replay(self, first: Any, last: Any) -> pd.DataFrame:
        """Return the profit or loss of today's holdings if a stretch of history came again, from
        one date to another.

        Raises ParameterError for dates outside the history.
        """
        return stresses.replayed(self.prices, self.values, first, last)

    @with_memory
    def backtest(
        self,
        method: RiskMethod = "historical",
        window: int = 250,
        level: float = 0.99,
        every: ReturnPeriod | None = None,
    ) -> Backtest:
        """Return how often today's holdings would have lost more than each period's forecast from
        the window before it.

        All periods are forecast at once. Raises ParameterError for "simulated", and for a window
        that leaves no period to test.
        """
        return rolling_backtest(
            self.exposure(every=every),
            method_of(method, {}),
            window,
            confidence_level("risk", "level", level),
        )
