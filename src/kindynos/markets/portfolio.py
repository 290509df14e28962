"""Holdings, their value and weights through time, and the risk of what is held today."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, Unpack

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.delegation import Reported
from kindynos.errors import ParameterError
from kindynos.literals import Rebalancing, ReturnPeriod, RiskMethod
from kindynos.markets import stress as stresses
from kindynos.markets.backtesting import Backtest, dated_profits, rolling_backtest
from kindynos.markets.changes import as_prices, from_prices
from kindynos.markets.contributions import contributions
from kindynos.markets.exchange import column_of
from kindynos.markets.exposure import Exposure, RiskFigure
from kindynos.markets.held_model import simulate_held
from kindynos.markets.holdings import (
    Revalue,
    Valued,
    bought_for,
    check_buyable,
    checked_holdings,
    stated_rates,
)
from kindynos.markets.joint_paths import paths_together, uncertain_paths
from kindynos.markets.method import Method
from kindynos.markets.methods import METHODS, figure_alone, measured, method_of
from kindynos.markets.prices import Prices, checked_date, prices_of
from kindynos.markets.relative import against, rolling_risk
from kindynos.markets.risk_table import risk_record
from kindynos.markets.simulation import Simulated
from kindynos.markets.stretches import WORST, WORST_LEVEL, Window, stretch_of, worst_stretch
from kindynos.markets.supported import (
    SupportedMethod,
    all_backtests,
    backtest_table,
    paired_change,
    supported_method,
)
from kindynos.memory import with_memory
from kindynos.results.options import SimulationKeywords
from kindynos.results.run import Run
from kindynos.sampling.streams import Seed
from kindynos.studies.bridge import Bridge
from kindynos.tables.periods import TRADING_DAYS
from kindynos.tables.spacing import DateSpacing
from kindynos.validate import (
    Count,
    check_integer,
    checked,
    confidence_level,
    finite,
    instance,
    listed,
    mapping,
    one_of,
    positive,
)

LEVELS = (0.95, 0.975, 0.99)
FEWEST = 8  # returns


class Portfolio(Reported):
    """Holdings bought on a date and followed to the last one; risk is that of today's holdings.

    ``shares`` are numbers of each instrument; or ``amounts`` of money, or ``weights``, which add up
    to 1, of a ``value``, bought on ``as_of`` (default: the last date) and left alone, so that
    weights drift, or with ``rebalance`` "monthly" or "daily" set back. ``short=True`` allows
    negative holdings. ``currency`` names for an instrument the column of the prices that has the
    exchange rate of its currency: ``{"shipyard": "NOK"}``, where NOK is what a krone costs. A
    column of two currencies, such as EURNOK, is what the first costs in the second: with the
    ``unit`` of the report, "EUR", prices are divided by it, and ``{"shipyard": "NOK"}`` finds it.
    Instead of amounts, ``revalue`` is a function of the prices by instrument, arrays ``(cases,)``,
    that gives what positions such as options are worth then; where it takes a second argument, the
    ``days`` that have passed since today (21 a month, 252 a year, or 365 in a market that never
    closes), time passes too. ``changes`` says which instruments change by differences, as in
    ``read_prices``. Raises ParameterError for unknown instruments, weights that do not add up, and
    dates outside the history.

    >>> import pandas as pd
    >>> from kindynos import read_prices
    >>> days = pd.bdate_range("2027-01-04", periods=4).strftime("%Y-%m-%d")
    >>> table = pd.DataFrame({"date": days, "A": [10.0, 11, 12, 11], "B": [5.0, 5, 6, 6]})
    >>> prices = read_prices(table)
    >>> Portfolio(prices, shares={"A": 10, "B": 20}).value
    230.0
    """

    @checked
    def __init__(
        self,
        prices: Prices | pd.DataFrame,
        *,
        shares: Mapping[str, float] | None = None,
        weights: Mapping[str, float] | None = None,
        amounts: Mapping[str, float] | None = None,
        value: float | None = None,
        as_of: Any = None,
        rebalance: Rebalancing | None = None,
        short: bool = False,
        currency: Mapping[str, str] | None = None,
        revalue: Revalue | None = None,
        changes: Mapping[str, str] | None = None,
        unit: str = "",
    ) -> None:
        if sum(given is not None for given in (shares, weights, amounts, revalue)) != 1:
            raise ParameterError("say shares=, weights= or amounts=, one of them (or revalue=)")
        read = prices_of(prices)
        own = read.with_changes(changes) if changes else read
        self._own_market, self._rates = own, stated_rates(own, currency, unit)
        self.market = own.in_currency(self._rates) if self._rates else own
        self._revalue = revalue
        if revalue is not None:
            self.prices, self.rebalance = self.market, None
            self.as_of = self._date(as_of)
            self._bought: Floats = np.zeros(len(self.prices.instruments))
            return
        if rebalance is not None:
            one_of("rebalance", rebalance, ("monthly", "daily"))
        stated = {"shares": shares, "weights": weights, "amounts": amounts}
        kind = next(name for name, given in stated.items() if given is not None)
        holdings = checked_holdings(self.market, kind, stated[kind], short)
        self.prices = self.market.subset(list(holdings))
        self.rebalance = rebalance
        self.as_of = self._date(as_of)
        numbers = np.array(list(holdings.values()))
        if weights is None and value is not None:
            raise ParameterError(
                f"value= goes with weights=; {kind} have their value by the prices"
            )
        bought_at = self.prices.frame.loc[self.as_of].to_numpy()
        if kind != "shares":
            check_buyable(self.prices, bought_at, numbers != 0)
        if kind == "shares":
            self._bought = numbers
            self.rebalance = None
        elif kind == "amounts":
            self._bought = bought_for(numbers, bought_at)
        else:
            total = float(numbers.sum())
            if abs(total - 1) > 1e-6:
                advice = "; write 0.6 for 60 %" if abs(total - 100) < 1 else ""
                raise ParameterError(f"the weights add up to {total:.6g}, not to 1{advice}")
            bought = positive("value", value if value is not None else 1.0)
            self._bought = bought_for(numbers * bought, bought_at)

    def _date(self, as_of: Any) -> pd.Timestamp:
        dates = self.prices.dates
        if as_of is None:
            return dates[-1]
        date = checked_date("as_of", as_of)
        if date not in dates:
            raise ParameterError(
                f"{date:%Y-%m-%d} is not a date with prices; they run from {dates[0]:%Y-%m-%d} to "
                f"{dates[-1]:%Y-%m-%d}"
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
            raise ParameterError("positions that a function values have no values by instrument")
        return pd.Series(
            self._held[-1] * self.prices.frame.iloc[-1].to_numpy(), self.instruments, name="value"
        )

    @property
    def value(self) -> float:
        """The value of all holdings today."""
        return float(self.values.sum()) if self._positions is None else self._positions.now

    @property
    def shares(self) -> pd.Series:
        """The number of each instrument held today; raises ParameterError for positions that a
        function values.
        """
        return pd.Series(self._held[-1], self.values.index, name="shares")

    def record(self) -> dict[str, Any]:
        """Return what a validator needs to see the figures again: version, holdings, the file of
        prices with its checksum, and what was found in it, held out or adjusted.
        """
        from kindynos import __version__

        return {
            "version": __version__,
            "holdings": None if self.valued else {str(n): float(x) for n, x in self.shares.items()},
            "date": f"{self.prices.dates[-1]:%Y-%m-%d}",
            **self.market.record(),
        }

    @property
    def gross(self) -> float:
        """The gross exposure: long and short holdings added up as if all were long; of positions
        that a function values, the size of their value.
        """
        return float(self.values.abs().sum()) if self._positions is None else abs(self.value)

    @property
    def valued(self) -> bool:
        """Whether the positions are valued by a function."""
        return self._revalue is not None

    @property
    def base(self) -> tuple[float, str]:
        """The amount that shares of the portfolio are taken of, and its name: the value, or with
        short holdings the gross exposure, since such a value may be near 0 or below.
        """
        plain = self._positions is None and bool((self.values >= 0).all())
        return (self.value, "value") if plain else (self.gross, "gross exposure")

    @cached_property
    def _positions(self) -> Valued | None:
        if self._revalue is None:
            return None
        today = self.prices.frame.iloc[-1].to_numpy()
        return Valued(self._revalue, self.instruments, today, self.prices.absolute)

    @property
    def weights(self) -> pd.Series:
        """The weight of each holding today; raises ParameterError where long and short positions
        are worth nothing together.
        """
        if abs(self.value) <= 1e-12 * float(self.values.abs().sum()):
            raise ParameterError(
                "long and short positions add up to nothing, which leaves no weights"
            )
        return (self.values / self.value).rename("weight")

    def history(self) -> pd.DataFrame:
        """Return the value through time, from ``as_of`` on, and the weight of each holding.

        Positions that a function values have no weights; where it takes the days that pass, those
        of past dates are negative.
        """
        frame = self.prices.frame.loc[self.as_of :]
        if self._positions is not None:
            days = self._days_of(1) * np.arange(1 - len(frame), 1)
            pairs = zip(frame.to_numpy(), days, strict=True)
            values = [self._positions.worth(row[:, None], float(day))[0] for row, day in pairs]
            return pd.DataFrame({"value": values}, frame.index)
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
        if self._positions is not None:
            worth = self._positions.worth(frame.to_numpy().T)
        else:
            worth = frame.to_numpy() @ self._held[-1]
        return pd.Series(worth, frame.index, name="value")

    def __repr__(self) -> str:
        return (
            f"<portfolio of {', '.join(self.instruments)}: {self.value:,.2f} on "
            f"{self.prices.dates[-1]:%Y-%m-%d}>"
        )

    def exposure(self, window: Window = None, every: ReturnPeriod | None = None) -> Exposure:
        """Return today's holdings with the simple returns of the last ``window`` periods (default:
        the whole history), each from one date to the next, or ``every`` week, month, quarter or
        year. A ``window`` may be a stretch of dates, "2008-01-01:2009-06-30", or "worst": of all
        stretches of 250 periods, or half the history, that with the highest value at risk by the
        method and level asked for.

        Raises ParameterError for a window longer than the history, and a period shorter than the
        prices lie apart.
        """
        whole_history = self._whole_history(every)
        if isinstance(window, str):
            return stretch_of(whole_history, window)
        count = len(whole_history.returns)
        if window is not None and check_integer("window", window, least=FEWEST) > count:
            raise ParameterError(f"window {window} is longer than the history of {count} returns")
        if count < FEWEST:
            raise ParameterError(f"{count} returns are too few; at least {FEWEST} are needed")
        begin = 0 if window is None else count - window
        return replace(
            whole_history,
            returns=whole_history.returns[begin:],
            dates=whole_history.dates[begin:],
            window=window,
        )

    def _looked_at(
        self, window: Window, every: ReturnPeriod | None, method: Method, level: float
    ) -> Exposure:
        """Return what a method's figure is taken from: of the worst stretch, that method's own."""
        if window == WORST:
            return worst_stretch(self._whole_history(every), method, level)
        return self.exposure(window, every)

    def _whole_history(self, every: ReturnPeriod | None = None) -> Exposure:
        """Return today's holdings with the moves of the whole history."""
        selected = self.prices.every(every)
        values = self._held[-1] * self.prices.frame.to_numpy()[-1]
        absolute = self.prices.absolute
        moves, dates, note = selected.moves_of_one_period
        return Exposure(
            values,
            moves,
            self.instruments,
            dates,
            description="; ".join(filter(None, [selected.description, note])),
            spacing=selected.spacing,
            absolute=absolute,
            per_move=np.where(absolute, self._held[-1], values),
            valued=self._positions,
            days=self._days_of(1, selected.spacing),
        )

    def _days_of(self, periods: int, spacing: DateSpacing | None = None) -> float:
        """Return the days that pass in a number of periods: of trading, with 252 a year,
        or 365 in a market that never closes.
        """
        own = self.prices.spacing
        year = 365 if own.name == "day" else TRADING_DAYS
        of_period = (spacing or own).per_year
        return float(periods * (year / of_period if (spacing or own).unit != "day" else 1))

    @checked
    def value_at_risk(
        self,
        level: float,
        method: RiskMethod = "historical",
        window: Window = None,
        horizon: int = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> RiskFigure:
        """Return the loss exceeded in about one period in 1 / (1 - level), in money; positive is a
        loss.

        A period is a day of daily prices, a month of monthly ones, and so on; with ``every``
        "week", "month", "quarter" or "year" it is longer than the prices lie apart.

        ``method`` is "historical", "weighted", "filtered", "tail", "normal", "student", "cornish
        fisher" or "simulated"; ``window`` the last N returns. Over a ``horizon`` of several periods
        methods of the history add up periods that are drawn from it, those of fitted moments let
        the figure of one grow with their root; "simulated" draws paths. The figure has ``.low`` and
        ``.high``, between which the true figure lies as far as the window can tell,
        ``.sampling_error``, ``.doubt``, its ``fraction`` of the value, and a ``description`` of how
        it was made. See
        ``kindynos.markets.methods`` for the methods and their options. Raises ParameterError for a
        level such as 95, and for a window longer than the history.
        """
        return self._figure("value_at_risk", level, method, window, horizon, every, options)

    @checked
    def expected_shortfall(
        self,
        level: float,
        method: RiskMethod = "historical",
        window: Window = None,
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
        window: Window,
        horizon: int,
        every: ReturnPeriod | None,
        options: dict[str, Any],
    ) -> RiskFigure:
        at = confidence_level("level", level)
        check_integer("horizon", horizon, least=1)
        selected = method_of(method, options)
        return measured(
            selected,
            self._looked_at(window, every, selected, at),
            measure,
            at,
            horizon,
            self.base[0],
        )

    @with_memory
    @checked
    def value_at_risk_alone(
        self,
        level: float,
        method: RiskMethod = "historical",
        horizon: Count = 1,
        every: ReturnPeriod | None = None,
    ) -> float:
        """Return the figure of ``value_at_risk`` without its interval, which takes far longer."""
        at = confidence_level("level", level)
        exposure = self.exposure(None, every)
        return figure_alone(
            method_of(method, {}), exposure, "value_at_risk", at, horizon, self.base[0]
        )

    @with_memory
    @checked
    def risk_table(
        self,
        levels: Sequence[float] = LEVELS,
        methods: Sequence[RiskMethod] | None = None,
        windows: Sequence[Window] = (None,),
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
        valid = [confidence_level("level", level) for level in listed(levels)]
        named = None if methods is None else listed(methods)
        records, keys = [], []
        left_out: dict[str, str] = {}
        for window in listed(windows):
            exposure, label = self.exposure(window, every), "all" if window is None else window
            for name in named or METHODS:
                method = method_of(name, options, all_methods=True)
                try:
                    risk_records = [
                        risk_record(
                            method,
                            self._looked_at(window, every, method, level),
                            level,
                            horizon,
                            self.base[0],
                        )
                        for level in valid
                    ]
                except ParameterError as error:
                    if named is not None:
                        raise
                    left_out[f"{name}, {label}"] = str(error)
                    continue
                keys += [(name, label, level) for level in valid]
                records += risk_records
        frame = pd.DataFrame(records)
        frame.index = pd.MultiIndex.from_tuples(keys, names=["method", "window", "level"])
        frame.attrs |= {
            "prices": self.prices.description,
            "horizon": horizon,
            "spacing": exposure.spacing,
            "value": self.value,
            "base": self.base,
            "left out": left_out,
        }
        return frame

    @with_memory
    @checked
    def losses(
        self,
        method: RiskMethod = "historical",
        window: Window = None,
        horizon: Count = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return the profits and losses behind a figure, and the weight each has, so that it can be
        calculated by hand.

        Columns: loss (positive is a loss), weight; and for "filtered" the loss as it was and the
        scale. Rows are dates; those of "simulated" are trials. Of methods that fit a distribution
        they are the losses it is fitted to. Over a ``horizon`` those of methods of the history are
        of stretches drawn from it, those of fitted moments of one period times its root. Raises
        ParameterError as ``value_at_risk`` does.
        """
        selected = method_of(method, options)
        exposure = self._looked_at(window, every, selected, WORST_LEVEL)
        if isinstance(selected, Simulated):
            drawn = -np.asarray(selected.profits(exposure, horizon)["profit"].values)
            return pd.DataFrame(
                {"loss": drawn, "weight": 1 / len(drawn)},
                index=pd.RangeIndex(len(drawn), name="trial"),
            )
        taken, looked_at, left = selected.over(exposure, horizon)
        losses, weights = taken.behind(looked_at.losses)
        dates: pd.Index = pd.DatetimeIndex(looked_at.dates, name="date")
        if taken is not selected:
            dates = pd.RangeIndex(len(losses), name="stretch")
        frame = pd.DataFrame({"loss": losses * left**0.5, "weight": weights}, index=dates)
        if method == "filtered" and taken is selected:
            frame["loss as it was"] = exposure.losses
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
        window: Window = None,
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
        selected, at = method_of(method, options), confidence_level("level", level)
        exposure = self._looked_at(window, every, selected, at)
        return contributions(selected, exposure, measure, at, horizon)

    @with_memory
    @checked
    def against(
        self, benchmark: str, window: Window = None, every: ReturnPeriod | None = None
    ) -> pd.Series:
        """Return how today's holdings would have gone with an instrument of the same prices, held
        or not.

        Beta, alpha, excess return, tracking error and correlation, as estimates with their
        intervals; returns are profits over the value, or with short holdings over the gross
        exposure, which ``attrs["base"]`` tells. See ``kindynos.markets.relative``. Raises
        ParameterError for an unknown instrument.
        """
        instance("benchmark", benchmark, str, "the name of an instrument")
        both = self.market.subset(list(dict.fromkeys([*self.instruments, benchmark]))).every(every)
        moves = pd.DataFrame(both.moves, both.dates[1:], both.instruments)
        if isinstance(window, str):
            moves = moves[moves.index.isin(self.exposure(window, every).dates)]
        else:
            moves = moves.iloc[0 if window is None else -window :]
        base, label = self.base
        if base <= 0:
            raise ParameterError(f"the {label} is {base:g}, which has no returns")
        returns = self.exposure(every=every).with_returns(moves[self.instruments].to_numpy())
        series = pd.Series(
            against(-returns.losses / base, moves[benchmark].to_numpy(), both.spacing.per_year),
            name=benchmark,
            dtype=object,
        )
        series.attrs["base"] = label
        return series

    @with_memory
    @checked
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
            confidence_level("level", level),
        )

    @checked
    def paths(
        self,
        periods: int,
        trials: int,
        seed: int,
        *,
        process: str = "bootstrap returns",
        block: float | None = None,
        every: ReturnPeriod | None = None,
        uncertain: bool = False,
    ) -> Floats:
        """Return simulated values of today's holdings, left alone, ``(periods + 1, trials)``:
        today's first.

        A period is what the prices lie apart, or ``every`` week, month, quarter or year.
        ``process`` "bootstrap returns" draws stretches of the history, the same for all
        instruments, ``block`` periods long on average (default: the cube root of their number);
        "geometric brownian motion" fits one to each, with the correlation of their log returns.
        With ``uncertain`` each of 100 groups of trials is drawn from a history that is itself
        drawn again, in blocks, so that the paths hold the error of a short history. Raises
        ParameterError for other words and wrong numbers.
        """
        one_of("process", process, ("bootstrap returns", "geometric brownian motion"))
        instance("uncertain", uncertain, bool, "True or False")
        selected = self.prices.every(every)
        absolute = selected.absolute
        values, scales = as_prices(selected.frame.to_numpy(), absolute)
        # what has fallen to 0 stays there, as what is flat stays where it is
        moving = (np.ptp(values, axis=0) > 0) & (values[-1] != 0)
        names = [name for name, moves in zip(selected.instruments, moving, strict=True) if moves]
        frame = pd.DataFrame(values[:, moving], selected.dates, names)
        if uncertain:
            shifted = uncertain_paths(frame, process, block, periods, trials, seed)
        else:
            shifted = paths_together(frame, process, block).paths(periods, trials, seed)
        drawn = np.empty((len(moving), *shifted.shape[1:]))
        drawn[~moving] = values[-1, ~moving, None, None]
        drawn[moving] = shifted
        drawn = from_prices(drawn, scales, absolute)

        # The paths go on from today's prices, which may be later than the last whole period.
        today = self.prices.frame.iloc[-1].to_numpy()[:, None, None]
        last = selected.frame.iloc[-1].to_numpy()[:, None, None]
        kind = absolute[:, None, None]
        drawn = np.where(
            kind, drawn - last + today, drawn / np.where(kind | (last == 0), 1.0, last) * today
        )
        if self._positions is None:
            return np.asarray(np.einsum("i,ipt->pt", self._held[-1], drawn))
        days = self._days_of(1, selected.spacing)
        return np.stack(
            [self._positions.worth(drawn[:, t], t * days) for t in range(drawn.shape[1])]
        )

    @checked
    def simulate(
        self,
        horizon: int = 1,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        window: Window = None,
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

    @checked
    def stress(self, shocks: Mapping[str, float], window: Window = None) -> pd.DataFrame:
        """Return the profit or loss of each holding if some instruments move by given shares (-0.2
        is -20 %; of those that change by differences, by given amounts) and the others follow.

        The others move by their regression on the shocked ones, which need not be held: an exchange
        rate or an index among the prices will do. A shock is a move in the instrument's own market:
        of one in another currency the move of the exchange rate comes on top, and the table has
        both. Raises ParameterError for unknown instruments.
        """
        stated = mapping("shocks", shocks, "moves by instrument")
        others = [
            name
            for name in stated
            if name not in self.instruments and name in self.market.raw.columns
        ]
        beside = self._beside(others) if others else self
        exposure = beside.exposure(window)
        rates = {name: rate for name, rate in self._rates.items() if name in exposure.names}
        if not rates:
            return stresses.shocked(exposure, shocks)
        names = list(dict.fromkeys([*exposure.names, *map(column_of, rates.values())]))
        own = self._own_market.subset(names)
        same_dates = replace(own, frame=own.frame.loc[beside.prices.dates])
        local = Portfolio(same_dates, shares=dict.fromkeys(names, 1.0)).exposure(window)
        return stresses.shocked(exposure, shocks, local, rates)

    @checked
    def replay(self, first: Any, last: Any) -> pd.DataFrame:
        """Return the profit or loss of today's holdings if a stretch of history came again, from
        one date to another.

        Raises ParameterError for dates outside the history.
        """
        return stresses.replayed(self.prices, self._whole_history(), first, last)

    @with_memory
    @checked
    def backtest(
        self,
        method: RiskMethod = "historical",
        window: int = 250,
        level: float = 0.99,
        every: ReturnPeriod | None = None,
        actual: pd.Series | None = None,
        horizon: Count = 1,
    ) -> Backtest:
        """Return how often today's holdings would have lost more than each period's forecast from
        the window before it.

        All periods are forecast at once. Over a ``horizon`` of several periods each forecast is of
        the stretch that follows, and the stretches that are tested do not overlap. ``actual``
        profits and losses in money, a Series by date, take the place of those that today's holdings
        would have made. Raises ParameterError for
        "simulated", and for a window that leaves no period to test.
        """
        return rolling_backtest(
            self.exposure(every=every),
            method_of(method, {}),
            window,
            confidence_level("level", level),
            None if actual is None else dated_profits(actual),
            horizon=horizon,
        )

    @with_memory
    @checked
    def backtests(
        self,
        window: int = 250,
        level: float = 0.99,
        every: ReturnPeriod | None = None,
        actual: pd.Series | None = None,
        horizon: Count = 1,
    ) -> pd.DataFrame:
        """Return the back-tests of all methods that forecast period by period, a row each:
        exceptions, zone, p-values, and the supervisors' multiplier of capital.

        Arguments as for ``backtest``, which gives one of them in full.
        """
        at = confidence_level("level", level)
        profits = None if actual is None else dated_profits(actual)
        exposure = self.exposure(every=every)
        return backtest_table(all_backtests(exposure, window, at, profits, horizon=horizon))

    @with_memory
    def supported_method(
        self,
        level: float = 0.99,
        window: Window = None,
        every: ReturnPeriod | None = None,
        horizon: Count = 1,
    ) -> SupportedMethod:
        """Return the most accurate method that the data and its back-test allow, and why; see
        ``kindynos.markets.supported``.
        """
        at = confidence_level("level", level)
        return supported_method(self.exposure(window, every), at, horizon)

    @with_memory
    @checked
    def bridge(
        self, earlier: Portfolio, level: float = 0.99, window: Count = 250, seed: int = 1
    ) -> Bridge:
        """Return what moved value at risk from an ``earlier`` portfolio, whose prices end on an
        earlier date, to this one: what was bought and sold, prices, volatilities, and the rest of
        the history, each with its error; see ``kindynos.markets.bridge``.

        The figure is that of past losses in a ``window`` of periods before each date, over one
        period. Raises ParameterError for a history that is too short, an instrument without prices,
        and positions that a function values.
        """
        from kindynos.markets.bridge import risk_bridge

        instance("earlier", earlier, Portfolio, "a Portfolio")
        at = confidence_level("level", level)
        return risk_bridge(self, earlier, at, check_integer("window", window, least=50), seed)

    @with_memory
    @checked
    def what_if(
        self,
        changes: Mapping[str, float],
        level: float = 0.99,
        method: RiskMethod = "historical",
        window: Window = None,
        horizon: int = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return value at risk and expected shortfall before and after numbers of shares are
        ``changes``-ed by instrument, held or not: ``{"ferry": 100}`` buys, negative numbers sell.

        Columns: before, after, difference, low, high; the interval of the difference is that of
        histories drawn again, the same for both. Raises ParameterError for unknown instruments, and
        positions that a function values.
        """
        if self._positions is not None:
            raise ParameterError("positions that a function values are no shares")
        wide = self._beside(mapping("changes", changes, "shares by instrument"))
        added = [
            finite(f"the change of {name}", changes.get(name, 0.0)) for name in wide.instruments
        ]
        before = wide.exposure(window, every)
        numbers = wide.shares.to_numpy() + np.array(added)
        after = before.holding(numbers, wide.prices.frame.iloc[-1].to_numpy())
        at = confidence_level("level", level)
        return paired_change(before, after, method_of(method, options), at, horizon)

    def _beside(self, names: Iterable[str]) -> Portfolio:
        """Return the portfolio with none of further instruments beside what is held."""
        own = {str(name): float(number) for name, number in self.shares.items()}
        others = {name: 0.0 for name in names if name not in own}
        return Portfolio(self.market, shares={**own, **others}, short=True)
