"""``kindynos validate``: a report on one figure of risk, for whoever must judge it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import every_option, price_file
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.risk import (
    holdings_option,
    missing_option,
    prices_argument,
    read_portfolio,
    still_option,
    stress_option,
    unit_option,
    value_option,
)
from kindynos.cli.types import FIGURE, WHOLE
from kindynos.literals import MissingPolicy, ReturnPeriod, StressOthers

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@prices_argument
@holdings_option
@value_option
@click.option(
    "--level", type=FIGURE, default=0.99, show_default=True, help="The level, as a fraction."
)
@click.option(
    "--horizon",
    type=WHOLE,
    default=1,
    show_default=True,
    help="Horizon in periods; back-tests are of it where the history has 50 such stretches.",
)
@stress_option
@still_option
@unit_option
@every_option
@missing_option
@price_file
@with_output
def validate(
    prices: Path,
    holdings: Path,
    value: float | None,
    level: float,
    horizon: int,
    shocks: dict[str, dict[str, float]],
    others: StressOthers,
    unit: str,
    every: ReturnPeriod | None,
    missing: MissingPolicy,
    layout: dict[str, Any],
) -> Report:
    """Report on one value at risk as a validator needs it: the data and their doubts, the method
    and why, back-tests at the horizon with exact p-values, what these tests can see, other windows,
    the worst of the history, shocks, and what the figure does not cover.

    \b
      kindynos validate treasury_prices.csv --holdings treasury_holdings.csv
      kindynos validate treasury_prices.csv --holdings treasury_holdings.csv --horizon 10 \\
        --stress shipyard=-0.2 --report validation.html
    """
    from kindynos.reports.risk_answer import Asked
    from kindynos.reports.validation import validated
    from kindynos.validate import confidence_level

    at = confidence_level("level", level)
    shocked = [name for moves in shocks.values() for name in moves]
    portfolio = read_portfolio(prices, holdings, value, missing, shocked, layout, unit=unit)
    with Bar("testing"):
        return validated(
            portfolio, at, horizon, every, Asked(shocks=shocks, unit=unit, others=others)
        )
