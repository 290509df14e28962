"""``kindynos risk`` and ``kindynos backtest``: what a portfolio may lose, and whether such figures
would have been right.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import every_option, price_file
from kindynos.cli.output import with_output
from kindynos.cli.progress import SHARE, Bar
from kindynos.cli.types import (
    FIGURE,
    RISK_METHODS,
    WHOLE,
    NameOption,
    Text,
    Words,
    by_name,
    dates,
    figures_by_name,
    gathered,
    numbers,
)
from kindynos.errors import DataWarning, FileError, KindynosError
from kindynos.literals import MissingPolicy, ReturnPeriod, RiskMethod, StressOthers
from kindynos.validate import confidence_level

if TYPE_CHECKING:
    from kindynos.markets.portfolio import Portfolio
    from kindynos.markets.prices import Prices
    from kindynos.reports.report import Report
    from kindynos.reports.risk_answer import Asked

ROLLING = 250  # returns behind each point of the picture of risk through time

prices_argument = click.argument("prices", type=click.Path(path_type=Path))
holdings_option = click.option(
    "--holdings",
    required=True,
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A table with columns instrument and shares, amount (in money) or weight (then also "
    "--value); a column currency has the currency of an instrument that is not priced in yours, "
    "such as USD: with --unit EUR the column EURUSD or USDEUR of PRICES is found (the price of one "
    "EUR in USD, or of one USD in EUR); any other column is what one unit costs in yours; a column "
    "change says absolute of one that changes by differences, a column side long or short, and a "
    "column multiplier the size of a contract; rows of one instrument are added; a column "
    "proxy names the instrument whose moves stand for those before the first price, and yes in a "
    "column smoothed takes the smoothing out of values such as appraisals. With a column "
    "kind (share, cash, forward, call, put, bond, swap) rows are positions with name, number and "
    "the terms of their kind: underlying, strike, expiry, volatility, rate, yield, coupon, "
    "maturity.",
)
value_option = click.option("--value", type=FIGURE, help="With weights: the money invested.")
unit_option = click.option(
    "--unit", default="", metavar="TEXT", help="The unit of money, such as EUR."
)
missing_option = click.option(
    "--missing",
    cls=NameOption,
    type=Words(MissingPolicy),
    default="drop",
    show_default=True,
    help="Missing prices: {names}; available continues what was listed late backwards by the moves "
    "of the others.",
)

stress_option = click.option(
    "--stress",
    "shocks",
    type=Text(lambda text: (text, figures_by_name(text)), "NAME=NUMBER, such as shipyard=-0.2"),
    callback=by_name,
    multiple=True,
    metavar="NAME=MOVE,...",
    help="Profit and loss if some instruments move, such as shipyard=-0.2,EURNOK=-0.1; the others "
    "follow by regression; repeatable.",
)
still_option = click.option(
    "--hold-still",
    "others",
    flag_value="still",
    default="follow",
    help="With --stress: what is not named does not move.",
)


def read_portfolio(
    prices: Path,
    holdings: Path,
    value: float | None,
    missing: MissingPolicy,
    beside: Iterable[str] = (),
    layout: dict[str, Any] | None = None,
    until: str | None = None,
    unit: str = "",
) -> Portfolio:
    """Return the portfolio of a file of prices, perhaps ``until`` a date, and one of holdings, with
    the prices ``beside`` of what is not held; raises FileError, with file and row, for a mistake.
    """
    from kindynos.markets.exchange import column_of, rate_of
    from kindynos.markets.holdings import read_holdings
    from kindynos.markets.portfolio import Portfolio

    def needed(columns: list[str]) -> list[str]:
        rates = [rate_of(one, unit, columns) for one in dict.fromkeys(currency.values())]
        others = [name for name in beside if name not in stated.positions]
        return [*stated.columns, *others, *(column_of(rate) for rate in rates if rate is not None)]

    stated = read_holdings(holdings)
    amounts, currency = stated.amounts, stated.currency
    short = any(amount < 0 for amount in amounts.values())
    if stated.kind == "weight" and value is None:
        raise KindynosError(f"{holdings} has weights: say --value, the money invested")
    given = dict(layout or {})
    given["changes"] = {**stated.changes, **given.get("changes", {})}
    try:
        table = price_table(prices, missing, needed, **given)
        table = table if until is None else table.until(until)
        table = table.with_choices(stated.choices)
        table = table.with_proxies(stated.proxies) if stated.proxies else table
        table = table.without_smoothing(*stated.smoothed) if stated.smoothed else table
        if stated.positions:
            return Portfolio(table, positions=stated.positions, unit=unit)
        if stated.kind == "shares":
            return Portfolio(table, shares=amounts, short=short, currency=currency, unit=unit)
        if stated.kind == "amount":
            return Portfolio(table, amounts=amounts, short=short, currency=currency, unit=unit)
        return Portfolio(
            table, weights=amounts, value=value, short=short, currency=currency, unit=unit
        )
    except FileError:
        raise
    except KindynosError as error:
        raise FileError(f"{error}", file=str(holdings)) from None


def price_table(*arguments: Any, **options: Any) -> Prices:
    """Return the prices of a file; what is suspicious of them is said by the report, not by a
    warning.
    """
    from kindynos.markets.prices import read_prices

    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DataWarning)
        try:
            return read_prices(*arguments, **options)
        except KindynosError as error:
            if isinstance(error, FileError) or error.known:
                raise  # a name that these prices lack is a mistake of who asked for it
            raise FileError(f"{error}", file=str(arguments[0])) from None


def windows_of(text: str) -> list[int | str | None]:
    """Return windows: numbers of returns, dates, ``worst`` or ``all``; raises KindynosError for
    others.
    """
    windows: list[int | str | None] = []
    for window in map(str.strip, text.split(",")):
        if window == "all":
            windows.append(None)
        elif window.isdigit():
            windows.append(int(window))
        elif window == "worst" or ":" in window:
            windows.append(window)
        else:
            raise KindynosError(
                f"--windows {text}: say numbers of returns, dates such as 2008-01-01:2009-06-30, "
                "worst or all, with commas"
            )
    return windows


def _asked(
    bought: dict[str, float],
    shocks: dict[str, dict[str, float]],
    others: StressOthers,
    scenarios: Path | None,
    replays: tuple[tuple[str, str], ...],
    unit: str,
    limits: Path | None,
    holdings: Path,
) -> Asked:
    """Return what is asked beside the figures."""
    from kindynos.markets.holdings import read_holdings, read_scenarios
    from kindynos.markets.limits import read_limits
    from kindynos.reports.risk_answer import Asked

    from_file = {} if scenarios is None else read_scenarios(scenarios)
    stated = read_holdings(holdings)
    groups = {"group": stated.groups, "currency": stated.currency}
    stated_limits = () if limits is None else tuple(read_limits(limits))
    return Asked(bought, shocks | from_file, replays, unit, stated_limits, groups, others)


@click.command()
@prices_argument
@holdings_option
@value_option
@click.option(
    "--levels",
    "--level",
    type=Text(numbers, "numbers with commas between, such as 0.95,0.99"),
    default="0.95,0.975,0.99",
    show_default=True,
    help="Levels, as fractions, with commas.",
)
@click.option(
    "--methods",
    "--method",
    cls=NameOption,
    type=Words(RISK_METHODS, many=True),
    help="{names}; default: all.",
)
@click.option(
    "--windows",
    "--window",
    default="all",
    show_default=True,
    help="The last N returns, or dates FROM:TO, with commas; worst is the worst stretch, all "
    "everything.",
)
@click.option(
    "--horizon",
    type=WHOLE,
    default=1,
    show_default=True,
    help="Horizon in periods: days of daily prices.",
)
@click.option(
    "--overlapping",
    is_flag=True,
    help="historical: over a horizon of several periods, use overlapping stretches.",
)
@click.option(
    "--volatility",
    type=click.Choice(["weighted", "garch"]),
    help="filtered and simulated: how today's volatility is found; garch follows its forecast "
    "over several periods.",
)
@click.option(
    "--what-if",
    "bought",
    type=Text(figures_by_name, "NAME=NUMBER, such as shipyard=-500"),
    callback=gathered,
    multiple=True,
    metavar="NAME=SHARES",
    help="What buying (or with a minus selling) shares would change; held or not; repeatable.",
)
@stress_option
@still_option
@click.option(
    "--scenarios",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A table with columns scenario, instrument and move: named shocks.",
)
@click.option(
    "--replay",
    "replays",
    type=Text(dates, "two dates, such as 2026-03-02:2026-04-01"),
    multiple=True,
    metavar="FROM:TO",
    help="Profit and loss if a stretch of history came again: 2026-03-02:2026-04-01; repeatable.",
)
@click.option(
    "--limits",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A table with columns figure (value at risk, expected shortfall, value, share of the "
    "value, adds to value at risk), scope (whole, a holding, a group or a currency), limit and "
    "perhaps warning (a share of it): how far each is used; exit status 3 where one is broken.",
)
@unit_option
@click.option("--whole", is_flag=True, help="Show the figures of all methods; also with --methods.")
@click.option(
    "--benchmark",
    metavar="NAME",
    help="A column of PRICES: how the holdings would have gone with it.",
)
@every_option
@missing_option
@price_file
@with_output
def risk(
    prices: Path,
    holdings: Path,
    value: float | None,
    levels: list[float],
    methods: list[RiskMethod] | None,
    windows: str,
    horizon: int,
    overlapping: bool,
    volatility: str | None,
    bought: dict[str, float],
    shocks: dict[str, dict[str, float]],
    others: StressOthers,
    scenarios: Path | None,
    replays: tuple[tuple[str, str], ...],
    limits: Path | None,
    unit: str,
    whole: bool,
    benchmark: str | None,
    every: ReturnPeriod | None,
    missing: MissingPolicy,
    layout: dict[str, Any],
) -> Report:
    """Report what today's holdings may lose: value at risk and expected shortfall, by the most
    accurate method that no back-test rejects, with the others as a range.

    PRICES has a date and one column per instrument, or date, instrument and price. Each figure has
    its 95 % interval, which includes the estimation error; what each holding adds follows. With
    --whole, or --methods, --windows or --volatility, the table of all methods is shown.

    \b
      kindynos risk treasury_prices.csv --holdings treasury_holdings.csv
      kindynos risk treasury_prices.csv --holdings treasury_holdings.csv \\
        --methods historical,filtered --windows 250,500,all
      kindynos risk treasury_prices.csv --holdings treasury_holdings.csv \\
        --methods student --levels 0.99 --stress shipyard=-0.2 --what-if shipyard=-5000
      kindynos risk treasury_prices.csv --holdings treasury_positions.csv --horizon 10
    """
    from kindynos.engine.progress import progress_listener
    from kindynos.reports import markets

    asked = _asked(bought, shocks, others, scenarios, replays, unit, limits, holdings)
    beside = [*([benchmark] if benchmark else []), *asked.what_if]
    beside += [name for shock in asked.shocks.values() for name in shock]
    portfolio = read_portfolio(prices, holdings, value, missing, beside, layout, unit=unit)
    selected = windows_of(windows)
    options: dict[str, Any] = {"overlapping": overlapping}
    options |= {"volatility": volatility} if volatility else {}
    table_asked = bool(whole or methods or volatility or overlapping or selected != [None])
    with (
        Bar("simulating", SHARE) as progress,
        progress_listener(lambda share: progress(round(100 * share), 100)),
    ):
        return markets.risk(
            portfolio,
            levels,
            methods,
            selected,
            horizon,
            benchmark,
            every,
            whole=table_asked,
            asked=asked,
            **options,
        )


@click.command()
@click.argument("prices", type=click.Path(path_type=Path), required=False)
@click.option(
    "--holdings",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A table of what is held, as of `kindynos risk`.",
)
@value_option
@unit_option
@click.option(
    "--method",
    "--methods",
    cls=NameOption,
    type=Words(RISK_METHODS),
    help="The method of the forecasts: {names}; default: all side by side.",
)
@click.option(
    "--window",
    "--windows",
    type=WHOLE,
    default=250,
    show_default=True,
    help="Returns behind each forecast.",
)
@click.option(
    "--level",
    "--levels",
    type=FIGURE,
    default=0.99,
    show_default=True,
    help="The level, as a fraction.",
)
@click.option(
    "--horizon",
    type=WHOLE,
    default=1,
    show_default=True,
    help="Periods that each forecast is of; those that are tested do not overlap.",
)
@every_option
@click.option(
    "--actual",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A table with columns date and profit: test against these, not today's holdings. Profits "
    "of days are added up to longer periods.",
)
@click.option(
    "--forecasts",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="With --actual, without PRICES: test forecasts that were recorded, a table with columns "
    "date, value at risk and, if wanted, expected shortfall.",
)
@missing_option
@price_file
@with_output
def backtest(
    prices: Path | None,
    holdings: Path | None,
    value: float | None,
    unit: str,
    method: RiskMethod | None,
    window: int,
    level: float,
    horizon: int,
    every: ReturnPeriod | None,
    actual: Path | None,
    forecasts: Path | None,
    missing: MissingPolicy,
    layout: dict[str, Any],
) -> Report:
    """Report whether value at risk would have been right for today's holdings, day by
    day, or in periods of any length.

    \b
      kindynos backtest treasury_prices.csv --holdings treasury_holdings.csv
      kindynos backtest treasury_prices.csv --holdings treasury_holdings.csv \\
        --method filtered --level 0.975 --out results
      kindynos backtest --forecasts var_2027.csv --actual profits_2027.csv
    """
    from kindynos.markets.holdings import read_profits
    from kindynos.reports import markets

    if forecasts is not None:
        if actual is None or prices is not None or holdings is not None:
            raise KindynosError("--forecasts goes with --actual, without PRICES and --holdings")
        return _recorded(forecasts, actual, level)
    if prices is None or holdings is None:
        raise KindynosError("say PRICES and --holdings, or --forecasts and --actual")
    portfolio = read_portfolio(prices, holdings, value, missing, layout=layout, unit=unit)
    profits = None if actual is None else read_profits(actual)
    tested = portfolio.backtest(method or "historical", window, level, every, profits, horizon)
    if method is None:
        table = portfolio.backtests(window, level, every, profits, horizon)
        return markets.backtests(portfolio, table, tested)
    return markets.backtested(tested, portfolio.prices)


def _recorded(forecasts: Path, actual: Path, level: float) -> Report:
    """Return the report of forecasts that were recorded, beside actual profits."""
    from kindynos.markets.backtesting import recorded_backtest
    from kindynos.markets.holdings import read_forecasts, read_profits
    from kindynos.reports import markets

    table, profits = read_forecasts(forecasts), read_profits(actual)
    return markets.backtested(recorded_backtest(table, profits, confidence_level("level", level)))
