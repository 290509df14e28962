"""``kindynos risk`` and ``kindynos backtest``: what a portfolio may lose, and whether such figures
would have been right.
"""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.common import (
    RISK_METHODS,
    SHARE,
    WHOLE,
    Bar,
    NameOption,
    Numbers,
    Words,
    every_option,
    finish,
    json_option,
    out_option,
    price_file,
)
from kindynos.errors import DataWarning, FileError, KindynosError
from kindynos.literals import MissingPolicy, ReturnPeriod, RiskMethod

if TYPE_CHECKING:
    from kindynos.markets.portfolio import Portfolio
    from kindynos.markets.prices import Prices

ROLLING = 250  # returns behind each point of the picture of risk through time

prices_argument = click.argument("prices", type=click.Path(path_type=Path))
holdings_option = click.option(
    "--holdings",
    required=True,
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A CSV with columns instrument and shares, or instrument and weight (then also --value); "
    "a column currency names "
    "the column of PRICES with the exchange rate of an instrument that is not priced in yours, and "
    "a column change says absolute of one that changes by differences.",
)
value_option = click.option("--value", type=float, help="With weights: the money invested.")
missing_option = click.option(
    "--missing",
    cls=NameOption,
    type=Words(MissingPolicy),
    default="drop",
    show_default=True,
    help="Missing prices: {names}.",
)


def read_portfolio(
    prices: Path,
    holdings: Path,
    value: float | None,
    missing: MissingPolicy,
    benchmark: str | None = None,
    layout: dict[str, Any] | None = None,
) -> Portfolio:
    """Return the portfolio of a file of prices and one of holdings; raises FileError, with file and
    row, for a mistake.
    """
    from kindynos.markets.holdings import read_holdings
    from kindynos.markets.portfolio import Portfolio

    stated = read_holdings(holdings)
    amounts, currency = stated.amounts, stated.currency
    short = any(amount < 0 for amount in amounts.values())
    if stated.kind == "weight" and value is None:
        raise KindynosError(f"{holdings} has weights: say --value, the money invested")
    wanted = [*amounts, *currency.values(), *([benchmark] if benchmark else [])]
    given = dict(layout or {})
    given["changes"] = {**stated.changes, **given.get("changes", {})}
    try:
        table = price_table(prices, missing, wanted, **given)
        if stated.kind == "shares":
            return Portfolio(table, shares=amounts, short=short, currency=currency)
        return Portfolio(table, weights=amounts, value=value, short=short, currency=currency)
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
        return read_prices(*arguments, **options)


def windows_of(text: str) -> list[int | None]:
    """Return windows: numbers of returns, or ``all``; raises KindynosError for others."""
    try:
        return [None if part.strip() == "all" else int(part) for part in text.split(",")]
    except ValueError:
        raise KindynosError(
            f"--windows {text}: say numbers of returns and all, such as 250,500,all"
        ) from None


@click.command()
@prices_argument
@holdings_option
@value_option
@click.option(
    "--levels",
    "--level",
    type=Numbers("0.95,0.99"),
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
    help="The last N returns, with commas; all is everything.",
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
    "--benchmark",
    metavar="NAME",
    help="A column of PRICES: how the holdings would have gone with it.",
)
@every_option
@missing_option
@price_file
@out_option
@json_option
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
    benchmark: str | None,
    every: ReturnPeriod | None,
    missing: MissingPolicy,
    layout: dict[str, Any],
    out: Path | None,
    as_data: bool,
) -> None:
    """Report what today's holdings may lose: value at risk and expected shortfall by several
    methods, levels and windows.

    PRICES has a date and one column per instrument, or date, instrument and price. Each figure has
    its 95 % interval, which includes the estimation error; what each holding adds to the first
    figure, at the highest level, follows.

    \b
      kindynos risk treasury_prices.csv --holdings treasury_holdings.csv
      kindynos risk treasury_prices.csv --holdings treasury_holdings.csv \\
        --methods historical,filtered --windows 250,500,all
      kindynos risk treasury_prices.csv --holdings treasury_holdings.csv \\
        --levels 0.99 --horizon 10 --out results
    """
    from kindynos.engine.progress import progress_listener
    from kindynos.reports import markets

    held = read_portfolio(prices, holdings, value, missing, benchmark, layout)
    chosen = windows_of(windows)
    options: dict[str, Any] = {"overlapping": overlapping}
    options |= {"volatility": volatility} if volatility else {}
    with (
        Bar("simulating", SHARE) as progress,
        progress_listener(lambda share: progress(round(100 * share), 100)),
    ):
        report = markets.risk(held, levels, methods, chosen, horizon, benchmark, every, **options)
    finish(report, out, as_data)


@click.command()
@prices_argument
@holdings_option
@value_option
@click.option(
    "--method",
    "--methods",
    cls=NameOption,
    type=Words(RISK_METHODS),
    default="historical",
    show_default=True,
    help="The method of the forecasts: {names}.",
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
    type=float,
    default=0.99,
    show_default=True,
    help="The level, as a fraction.",
)
@every_option
@missing_option
@price_file
@out_option
@json_option
def backtest(
    prices: Path,
    holdings: Path,
    value: float | None,
    method: RiskMethod,
    window: int,
    level: float,
    every: ReturnPeriod | None,
    missing: MissingPolicy,
    layout: dict[str, Any],
    out: Path | None,
    as_data: bool,
) -> None:
    """Report whether a method's value at risk would have been right for today's holdings, day by
    day, or in periods of any length.

    \b
      kindynos backtest treasury_prices.csv --holdings treasury_holdings.csv
      kindynos backtest treasury_prices.csv --holdings treasury_holdings.csv \\
        --method filtered --level 0.975 --out results
    """
    from kindynos.reports import markets

    held = read_portfolio(prices, holdings, value, missing, layout=layout)
    tested = held.backtest(method, window, level, every)
    finish(markets.backtested(tested, held.prices), out, as_data)
