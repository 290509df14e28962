"""Holdings, their value and weights through time, and the risk of what is held today."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from copy import copy
from dataclasses import replace
from functools import cached_property
from typing import Any, Unpack

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.delegation import Reported
from kindynos.errors import ParameterError
from kindynos.literals import Rebalancing, ReturnPeriod, RiskMethod, StressOthers
from kindynos.markets import stress as stresses
from kindynos.markets.adjustments import checked_date
from kindynos.markets.backtesting import Backtest, dated_profits, rolling_backtest
from kindynos.markets.book import Book, Held
from kindynos.markets.changes import as_prices, from_prices
from kindynos.markets.closed_forms import day_number
from kindynos.markets.contributions import contributions
from kindynos.markets.exchange import column_of, rate_of
from kindynos.markets.exposure import Exposure, RiskFigure
from kindynos.markets.held_model import simulate_held
from kindynos.markets.holdings import bought_for, check_buyable, checked_holdings, stated_rates
from kindynos.markets.joint_paths import paths_together, uncertain_paths
from kindynos.markets.method import Method
from kindynos.markets.methods import METHODS, figure_alone, measured, method_of
from kindynos.markets.positions import Position, Positions, stated_positions
from kindynos.markets.prices import Prices, prices_of
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
from kindynos.validate import (
    Count,
    Horizon,
    check_integer,
    checked,
    confidence_level,
    finite,
    instance,
    known_name,
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
    Instead of amounts, ``positions`` by name are valued one by one: a ``Position``, such as an
    option, a bond or a swap, by its closed form; or a function of the prices by column, arrays
    ``(cases,)``, that gives what the position is worth then, ``prices.days`` of the calendar after
    today. Every table is then by position. ``changes`` says which columns change by differences, as
    in ``read_prices``; rates, yields and volatilities of positions do. Raises ParameterError for
    unknown instruments, weights that do not add up, dates outside the history, and a position that
    has expired.

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
        positions: Mapping[str, Any] | None = None,
        changes: Mapping[str, str] | None = None,
        unit: str = "",
    ) -> None:
        if sum(given is not None for given in (shares, weights, amounts, positions)) != 1:
            raise ParameterError("say shares=, weights= or amounts=, one of them (or positions=)")
        read = prices_of(prices)
        self._stated: dict[str, Position] | None = None
        if positions is not None:
            if value is not None or rebalance is not None:
                raise ParameterError(
                    "positions have their value by their prices, and are left alone: value= and "
                    "rebalance= go with weights="
                )
            self._hold(stated_positions(positions), read, currency, changes, unit, as_of)
            return
        own = read.with_changes(changes) if changes else read
        self._own_market, self._rates = own, stated_rates(own, currency, unit)
        self.market = own.in_currency(self._rates) if self._rates else own
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
            self._bought: Floats = numbers
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

    def _hold(
        self,
        positions: dict[str, Position],
        read: Prices,
        currency: Mapping[str, str] | None,
        changes: Mapping[str, str] | None,
        unit: str,
        as_of: Any,
    ) -> None:
        """Hold positions: of the columns that they are valued by, of a function of all."""
        columns = [str(name) for name in read.raw.columns]
        stated = {name: p.currency for name, p in positions.items() if p.currency}
        stated |= mapping("currency", currency or {}, "columns of exchange rates by position")
        rates = {name: rate_of(rate, unit, columns) for name, rate in stated.items()}
        self._rates = {name: rate for name, rate in rates.items() if rate is not None}
        by_difference: dict[str, str] = {}
        needed: list[str] = []
        for name, position in positions.items():
            for column in position.columns:
                if column not in columns:
                    raise ParameterError(
                        f"position {name!r} needs a column {column!r} of the prices",
                        unknown=column,
                        known=columns,
                    )
            needed += columns if position.kind == "function" else position.columns
            by_difference |= dict.fromkeys(position.absolute, "absolute")
        needed += [column_of(rate) for rate in self._rates.values()]
        stated_changes = {**by_difference, **(changes or {})}
        self._own_market = self.market = (
            read.with_changes(stated_changes) if stated_changes else read
        )
        # cash alone moves with nothing, and is looked at on the dates of all
        self.prices = self.market.subset(list(dict.fromkeys(needed)) or columns)
        self.rebalance, self.as_of = None, self._date(as_of)
        self._stated = stated_positions(positions, self.prices.dates[-1])

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
    def _shares_by_date(self) -> Floats:
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

    @cached_property
    def book(self) -> Book:
        """What is held today, as one thing with a profit under any moves."""
        today = self.prices.frame.iloc[-1].to_numpy()
        absolute, columns = self.prices.absolute, tuple(self.prices.instruments)
        if self._stated is None:
            numbers = tuple(map(float, self._shares_by_date[-1]))
            return Held(columns, numbers, tuple(map(float, today)), tuple(absolute.tolist()))
        date = day_number(self.prices.dates[-1])
        return Positions(self._stated, columns, today, absolute, date, self._rates)

    @property
    def instruments(self) -> list[str]:
        """The columns of the prices that what is held is valued by: the instruments held, or those
        of positions.
        """
        return self.prices.instruments

    @property
    def values(self) -> pd.Series:
        """The value of each holding or position today."""
        return pd.Series(self.book.now, list(self.book.names), name="value")

    @property
    def value(self) -> float:
        """The value of all that is held today."""
        return float(self.book.now.sum())

    @property
    def shares(self) -> pd.Series:
        """The number of each instrument or position held today."""
        return pd.Series(self.book.numbers, list(self.book.names), name="shares")

    def record(self) -> dict[str, Any]:
        """Return what a validator needs to see the figures again: version, holdings, the file of
        prices with its checksum, and what was found in it, held out or adjusted.
        """
        from kindynos import __version__

        return {
            "version": __version__,
            "holdings": {str(n): float(x) for n, x in self.shares.items()},
            "date": f"{self.prices.dates[-1]:%Y-%m-%d}",
            **self.market.record(),
        }

    @property
    def gross(self) -> float:
        """The gross exposure: long and short holdings added up as if all were long."""
        return float(self.values.abs().sum())

    @property
    def base(self) -> tuple[float, str]:
        """The amount that shares of the portfolio are taken of, and its name: the value, or with
        short holdings the gross exposure, since such a value may be near 0 or below.
        """
        plain = bool((self.values >= 0).all())
        return (self.value, "value") if plain else (self.gross, "gross exposure")

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

        Positions were as much longer before their expiry as the date lies before today.
        """
        frame = self.prices.frame.loc[self.as_of :]
        if isinstance(self.book, Positions):
            days = (frame.index - frame.index[-1]).days.to_numpy().astype(float)
            worth = self.book.worth(frame.to_numpy().T, days).T
        else:
            worth = self._shares_by_date * frame.to_numpy()
        total = worth.sum(axis=1, keepdims=True)
        weights = np.divide(
            worth,
            total,
            out=np.full(worth.shape, np.nan),
            where=np.abs(total) > 1e-12 * np.abs(worth).max(),
        )
        table = pd.DataFrame(weights, frame.index, list(self.book.names))
        table.insert(0, "value", worth.sum(axis=1))
        return table

    def constant_value(self) -> pd.Series:
        """Return what is held today would have been worth at the prices of each date, with as long
        to go as it has today.
        """
        frame = self.prices.frame
        if isinstance(self.book, Positions):
            worth = self.book.worth(frame.to_numpy().T).sum(axis=0)
        else:
            worth = frame.to_numpy() @ self.book.numbers
        return pd.Series(worth, frame.index, name="value")

    def sensitivities(self) -> pd.DataFrame:
        """Return how the value of each position changes with each of its terms: the derivatives,
        and the profit from 1 % of a price, a point of volatility, a basis point of a rate, a day.

        See ``kindynos.markets.positions``. Raises ParameterError where no position is held.
        """
        if not isinstance(self.book, Positions):
            raise ParameterError("instruments held have no terms; say positions=")
        return self.book.sensitivities()

    def __getstate__(self) -> dict[str, Any]:
        return {name: value for name, value in vars(self).items() if name != "_memory"}

    def __repr__(self) -> str:
        return (
            f"<portfolio of {', '.join(self.book.names)}: {self.value:,.2f} on "
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
        if isinstance(window, str) and window == WORST:
            return worst_stretch(self._whole_history(every), method, level)
        return self.exposure(window, every)

    def _whole_history(self, every: ReturnPeriod | None = None) -> Exposure:
        """Return today's holdings with the moves of the whole history."""
        selected = self.prices.every(every)
        moves, dates, note = selected.moves_of_one_period
        return Exposure(
            self.book,
            moves,
            self.instruments,
            dates,
            description="; ".join(filter(None, [selected.description, note])),
            spacing=selected.spacing,
            absolute=self.prices.absolute,
            days=365 / selected.spacing.per_year,
        )

    @checked
    def value_at_risk(
        self,
        level: float,
        method: RiskMethod = "historical",
        window: Window = None,
        horizon: Horizon = 1,
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
        horizon: Horizon = 1,
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
    def values_at_risk_alone(
        self,
        level: float,
        method: RiskMethod = "historical",
        horizon: Horizon = 1,
        every: ReturnPeriod | None = None,
    ) -> pd.Series:
        """Return the value at risk of each holding or position, as if nothing else were held."""
        at, selected = confidence_level("level", level), method_of(method, {})
        whole = self.exposure(None, every)
        figures = []
        for position in range(len(whole.values)):
            alone = whole.only(position)
            if np.ptp(alone.losses) > 0:
                figure = figure_alone(selected, alone, "value_at_risk", at, horizon)
            else:  # cash, or what only time changes
                figure = float(alone.lengthened(horizon).losses[0])
            figures.append(figure)
        return pd.Series(figures, list(self.book.names), name="value at risk alone")

    @with_memory
    @checked
    def risk_table(
        self,
        levels: Sequence[float] = LEVELS,
        methods: Sequence[RiskMethod] | None = None,
        windows: Sequence[Window] = (None,),
        horizon: Horizon = 1,
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
        checked_levels = [confidence_level("level", level) for level in listed(levels)]
        named = None if methods is None else listed(methods)
        records, keys = [], []
        left_out: dict[str, str] = {}
        chosen = listed(windows)
        if not chosen or not checked_levels:
            raise ParameterError("needs at least one window and one level")
        for window in chosen:
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
                        for level in checked_levels
                    ]
                except ParameterError as error:
                    if named is not None:
                        raise
                    left_out[f"{name}, {label}"] = str(error)
                    continue
                keys += [(name, label, level) for level in checked_levels]
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
        horizon: Horizon = 1,
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
        horizon: Horizon = 1,
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
        if window is not None:
            moves = moves[moves.index.isin(self.exposure(window, every).dates)]
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
        if not isinstance(self.book, Positions):
            return np.asarray(np.einsum("i,ipt->pt", self.book.numbers, drawn))
        days = 365 / selected.spacing.per_year
        return np.stack(
            [self.book.worth(drawn[:, t], t * days).sum(axis=0) for t in range(drawn.shape[1])]
        )

    @checked
    def simulate(
        self,
        horizon: Horizon = 1,
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
    def stress(
        self, shocks: Mapping[str, float], window: Window = None, others: StressOthers = "follow"
    ) -> pd.DataFrame:
        """Return the profit or loss of each holding if some instruments move by given shares (-0.2
        is -20 %; of those that change by differences, by given amounts) and the others follow.

        The others move by their regression on the shocked ones, which need not be held: an exchange
        rate or an index among the prices will do; with ``others="still"`` they do not move. The
        column error is half the 95 % interval that the history leaves of the regression, that of
        all together is in ``attrs``. A shock is a move in the instrument's own market:
        of one in another currency the move of the exchange rate comes on top, and the table has
        both. Raises ParameterError for unknown instruments.
        """
        one_of("others", others, stresses.OTHERS)
        stated = mapping("shocks", shocks, "moves by instrument")
        further = [
            name
            for name in stated
            if name not in self.instruments and name in self.market.raw.columns
        ]
        beside = self._beside(further) if further else self
        exposure = beside.exposure(window)
        rates = {name: rate for name, rate in self._rates.items() if name in exposure.names}
        if not rates or self._stated is not None:  # the rates of positions are columns
            return stresses.shocked(exposure, shocks, others=others)
        names = list(dict.fromkeys([*exposure.names, *map(column_of, rates.values())]))
        own = self._own_market.subset(names)
        same_dates = replace(own, frame=own.frame.loc[beside.prices.dates])
        local = Portfolio(same_dates, shares=dict.fromkeys(names, 1.0)).exposure(window)
        return stresses.shocked(exposure, shocks, local, rates, others)

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
        horizon: Horizon = 1,
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
        horizon: Horizon = 1,
    ) -> pd.DataFrame:
        """Return the back-tests of all methods that forecast period by period, a row each:
        exceptions, zone, p-values, and the supervisors' multiplier of capital.

        Arguments as for ``backtest``, which gives one of them in full.
        """
        at = confidence_level("level", level)
        profits = None if actual is None else dated_profits(actual)
        exposure = self.exposure(every=every)
        return backtest_table(all_backtests(exposure, window, at, profits, horizon=horizon))

    @checked
    @with_memory
    def supported_method(
        self,
        level: float = 0.99,
        window: Window = None,
        every: ReturnPeriod | None = None,
        horizon: Horizon = 1,
    ) -> SupportedMethod:
        """Return the most accurate method that the data and its back-test allow, and why; see
        ``kindynos.markets.supported``.
        """
        at = confidence_level("level", level)
        return supported_method(self.exposure(window, every), at, horizon)

    @with_memory
    @checked
    def bridge(
        self,
        earlier: Portfolio,
        level: float = 0.99,
        window: Count | None = None,
        seed: int = 1,
        *,
        method: RiskMethod | None = None,
        horizon: Horizon = 1,
        **options: Any,
    ) -> Bridge:
        """Return what moved value at risk from an ``earlier`` portfolio, whose prices end on an
        earlier date, to this one: what was bought and sold, prices, volatilities, and the rest of
        the history, each with its error; see ``kindynos.markets.bridge``.

        The figure is that of a ``method`` with its ``options``, by default the one that
        ``supported_method`` chooses today, over a ``horizon`` in periods, from a ``window`` of
        periods before each date, by default all. Raises ParameterError for "simulated", a history
        that is too short, an instrument without prices, and positions that a function values.
        """
        from kindynos.markets.bridge import FEWEST as FEWEST_BEFORE
        from kindynos.markets.bridge import risk_bridge

        instance("earlier", earlier, Portfolio, "a Portfolio")
        at = confidence_level("level", level)
        name: str
        if method is not None:
            name = method
        else:
            name = self.supported_method(at, horizon=horizon).method
            name = name if METHODS[name].rolling else "historical"
        if not METHODS.find(name).rolling:
            raise ParameterError(f"{name!r} has no figure of an earlier date's window")
        back = None if window is None else check_integer("window", window, least=FEWEST_BEFORE)
        return risk_bridge(self, earlier, method_of(name, options), at, back, horizon, seed)

    @with_memory
    @checked
    def what_if(
        self,
        changes: Mapping[str, float],
        level: float = 0.99,
        method: RiskMethod = "historical",
        window: Window = None,
        horizon: Horizon = 1,
        every: ReturnPeriod | None = None,
        **options: Any,
    ) -> pd.DataFrame:
        """Return value at risk and expected shortfall before and after numbers of shares are
        ``changes``-ed by instrument, held or not: ``{"ferry": 100}`` buys, negative numbers sell.

        Columns: before, after, difference, low, high; the interval of the difference is that of
        histories drawn again, the same for both. Raises ParameterError for unknown instruments and
        positions.
        """
        stated = mapping("changes", changes, "numbers by name")
        wide = self._beside(stated)
        for name in stated:
            known_name("position", name, wide.book.names)
        added = [finite(f"the change of {name}", stated.get(name, 0.0)) for name in wide.book.names]
        before = wide.exposure(window, every)
        after = before.holding(wide.book.numbers + np.array(added))
        at = confidence_level("level", level)
        return paired_change(before, after, method_of(method, options), at, horizon)

    def _beside(self, names: Iterable[str]) -> Portfolio:
        """Return the portfolio with none of further instruments beside what is held; of positions,
        with further columns.
        """
        if self._stated is not None:
            others = [name for name in names if name in self.market.raw.columns]
            wide = copy(self)
            wide.__dict__.pop("book", None)
            wide.prices = self.market.subset(list(dict.fromkeys([*self.instruments, *others])))
            return wide
        own = {str(name): float(number) for name, number in self.shares.items()}
        others = [name for name in names if name not in own]
        return Portfolio(self.market, shares={**own, **dict.fromkeys(others, 0.0)}, short=True)
