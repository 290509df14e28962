"""``kindynos allocate``: the best weights of holdings, the frontier, before and after, and how sure
they are.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import every_option, price_file
from kindynos.cli.output import name_written, with_output
from kindynos.cli.progress import Bar
from kindynos.cli.risk import (
    missing_option,
    price_table,
    prices_argument,
    read_portfolio,
    unit_option,
    value_option,
)
from kindynos.cli.types import FIGURE, WHOLE, NameOption, Text, Words, by_name, ends, named
from kindynos.errors import FileError
from kindynos.literals import (
    CovarianceMethod,
    FrontierRisk,
    GainAim,
    MeansMethod,
    MissingPolicy,
    RebalancingSpan,
    RiskAim,
)
from kindynos.validate import raw_figure

if TYPE_CHECKING:
    from kindynos.reports.report import Report


OTHERS = "others"  # the holdings without bounds of their own


def _bounds(text: str) -> tuple[str, tuple[float, float]]:
    """Return a holding and its bounds, or those of all others."""
    return named(ends)(text) if "=" in text else (OTHERS, ends(text))


def _limit(text: str) -> tuple[str, float]:
    """Return what is limited and its limit, a mean from below and a risk from above."""
    name, sign, figure = text.partition("<=") if "<" in text else text.partition(">=")
    if not sign:  # NAME=VALUE
        return named(raw_figure)(text)
    if (sign == ">=") != (name.strip() == "mean"):
        raise ValueError
    return name.strip(), raw_figure(figure.strip())


@click.command()
@prices_argument
@click.option(
    "--holdings",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Today's holdings, as for kindynos risk; a column group puts them in groups. Without it "
    "all of PRICES may be held.",
)
@value_option
@click.option("--maximize", cls=NameOption, type=Words(GainAim), help="What to maximize: {names}.")
@click.option("--minimize", cls=NameOption, type=Words(RiskAim), help="What to minimize: {names}.")
@click.option(
    "--within",
    "bounds",
    type=Text(_bounds, "a low and a high end, such as 0.01:0.35, or NAME=LOW:HIGH"),
    callback=by_name,
    multiple=True,
    metavar="LOW:HIGH",
    help="The least and the most of each weight, such as 0.01:0.35; NAME=LOW:HIGH for one "
    "holding; repeatable.",
)
@click.option(
    "--subject-to",
    "limits",
    type=Text(_limit, "'NAME <= VALUE', such as 'sd <= 0.05', or 'mean >= 0.001'"),
    callback=by_name,
    multiple=True,
    metavar="CONSTRAINT",
    help="The most of a risk (sd, expected_shortfall, value_at_risk, drawdown), such as "
    "'sd <= 0.05', or the least mean, for one period; repeatable.",
)
@click.option(
    "--group",
    "groups",
    type=Text(named(ends), "NAME=LOW:HIGH, such as bonds=0.1:0.4"),
    callback=by_name,
    multiple=True,
    metavar="NAME=LOW:HIGH",
    help="The ends of a group's weight; repeatable.",
)
@click.option(
    "--level",
    type=FIGURE,
    default=0.95,
    show_default=True,
    help="Of value at risk and expected shortfall.",
)
@click.option(
    "--rate",
    type=FIGURE,
    default=0.0,
    show_default=True,
    help="The riskless return of a period, for the ratio.",
)
@click.option(
    "--turnover",
    type=FIGURE,
    help="The most that may be bought and sold together, as a share of the value.",
)
@click.option("--cost", type=FIGURE, help="The share of each trade that is lost: 0.002 is 0.2 %.")
@click.option(
    "--holding-period",
    type=FIGURE,
    help="Periods over which the cost of trades is spread; default: a year.",
)
@click.option("--short", is_flag=True, help="Allow negative weights.")
@every_option
@click.option("--window", type=WHOLE, help="The last N returns; default: all.")
@click.option(
    "--means",
    cls=NameOption,
    type=Words(MeansMethod),
    default="sample",
    show_default=True,
    help="Means: {names}.",
)
@click.option(
    "--covariance",
    cls=NameOption,
    type=Words(CovarianceMethod),
    default="sample",
    show_default=True,
    help="{names}.",
)
@click.option(
    "--view",
    "views",
    type=Text(named(raw_figure), "NAME=VALUE, such as shipyard=0.0004"),
    callback=by_name,
    multiple=True,
    metavar="NAME=MEAN",
    help="Your own mean of a holding; NAME-over-NAME=DIFFERENCE; repeatable.",
)
@click.option(
    "--confidence",
    type=FIGURE,
    default=0.5,
    show_default=True,
    help="Your confidence in the views, from 0 to 1.",
)
@click.option(
    "--risk",
    cls=NameOption,
    type=Words(FrontierRisk),
    default="sd",
    show_default=True,
    help="The risk of the frontier.",
)
@click.option(
    "--horizon",
    type=WHOLE,
    default=1,
    show_default=True,
    help="Periods that before and after are compared over.",
)
@click.option(
    "--trials", type=WHOLE, default=10_000, show_default=True, help="Draws for before and after."
)
@click.option(
    "--seed", type=WHOLE, default=1, show_default=True, help="A whole number that reproduces them."
)
@click.option(
    "--resampled",
    "times",
    type=WHOLE,
    default=100,
    show_default=True,
    help="The number of resampled histories that show how sure the weights are; 0 leaves it out.",
)
@click.option(
    "--walk-forward",
    "span",
    cls=NameOption,
    type=Words(RebalancingSpan),
    help="Test the rule out of sample, with new weights each {names}.",
)
@click.option(
    "--save-holdings",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write the best holdings as a CSV.",
)
@unit_option
@missing_option
@price_file
@with_output
def allocate(
    prices: Path,
    holdings: Path | None,
    value: float | None,
    unit: str,
    missing: MissingPolicy,
    horizon: int,
    trials: int,
    seed: int,
    times: int,
    span: RebalancingSpan | None,
    save_holdings: Path | None,
    layout: dict[str, Any],
    **stated: Any,
) -> Report:
    """Find the best weights of what is held, and draw the frontier, with today's holdings beside
    them.

    Means, risks and limits are for one period (a day of daily prices, unless --every says
    otherwise). Unless --maximize or --minimize is given it is the highest mean within the limits,
    without limits the highest ratio of mean to sd.

    \b
      kindynos allocate treasury_prices.csv --holdings treasury_holdings.csv \\
        --within 0.01:0.35 --subject-to "sd <= 0.006"
      kindynos allocate treasury_prices.csv --holdings treasury_holdings.csv \\
        --minimize expected_shortfall --out results
      kindynos allocate treasury_prices.csv --minimize parity \\
        --walk-forward quarter --save-holdings best.csv
    """
    from kindynos.markets.allocation.allocation import allocate as allocated
    from kindynos.markets.allocation.frontier import frontier
    from kindynos.markets.holdings import read_holdings
    from kindynos.reports import allocation as report

    source: Any = (
        price_table(prices, missing, **layout)
        if holdings is None
        else read_portfolio(prices, holdings, value, missing, layout=layout, unit=unit)
    )
    members = {} if holdings is None else read_holdings(holdings).groups
    aim = {name: stated.pop(name) for name in ("maximize", "minimize")}
    risk = stated.pop("risk")
    options = _options(stated, members)
    allocation = allocated(source, **aim, **options)
    curve = frontier(source, risk, **{k: v for k, v in options.items() if k != "limits"})
    with Bar("resampling", "resampled histories") as progress:
        sure = allocation.resampled(times, seed, progress=progress) if times else None
    walked = None if span is None else allocation.walk_forward(span)
    compared = None if allocation.today is None else allocation.compare(horizon, trials, seed)
    if save_holdings is not None:
        _save(report.holdings_table(allocation), save_holdings)
        name_written(save_holdings)
    return report.allocated(allocation, curve, compared, sure, walked)


def _save(table: Any, path: Path) -> None:
    from kindynos.atomic import replacing

    try:
        with replacing(path) as temporary:
            table.to_csv(temporary, index=False)
    except OSError as error:
        raise FileError(f"cannot be written: {error.strerror or error}", file=str(path)) from None


def _options(stated: dict[str, Any], members: dict[str, str]) -> dict[str, Any]:
    """Return the options of an allocation from those of the command line."""
    options = {name: value or None for name, value in stated.items() if isinstance(value, dict)}
    bounds = stated["bounds"]
    limits, views = stated["limits"], stated["views"]
    if list(bounds) == [OTHERS]:
        options["bounds"] = bounds[OTHERS]
    options["limits"] = {re.sub("[- ]", "_", name): limit for name, limit in limits.items()} or None
    options["views"] = {_view(name): mean for name, mean in views.items()} or None
    return {**stated, **options, "members": members or None}


def _view(name: str) -> str | tuple[str, ...]:
    return tuple(name.split("-over-")) if "-over-" in name else name
