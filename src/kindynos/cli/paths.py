"""``kindynos paths``: where a price may go."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import every_option, price_file
from kindynos.cli.output import with_output
from kindynos.cli.risk import price_table
from kindynos.cli.types import FIGURE, PROCESSES, WHOLE, NameOption, Words
from kindynos.errors import KindynosError
from kindynos.literals import ReturnPeriod

if TYPE_CHECKING:
    from kindynos.arrays import Floats
    from kindynos.processes.base import Process
    from kindynos.reports.report import Report

FEW = 60  # values, below which a fan without the error of its parameters is far too narrow
# processes in steps of one price, with how they are fitted to prices
BY_PERIOD: dict[str, dict[str, Any]] = {
    "bootstrap returns": {},
    "arima": {"order": (1, 1, 1), "log": True, "constant": True},
    "exponential smoothing": {"trend": "damped"},
    "garch": {},
}


@click.command()
@click.argument("prices", type=click.Path(path_type=Path))
@click.option(
    "--column",
    "instrument",
    metavar="NAME",
    help="The column of the price; may be left out where there is one.",
)
@click.option(
    "--process",
    cls=NameOption,
    type=Words(PROCESSES),
    help="What is fitted to its history: {names}; default: geometric-brownian-motion, of a rate "
    "random-walk.",
)
@click.option(
    "--ahead",
    "periods",
    type=WHOLE,
    help="Periods ahead; default: a year (252 days, 52 weeks, 12 months).",
)
@click.option(
    "--above",
    type=FIGURE,
    help="Give the chance of ending, and of being at any time, above this price.",
)
@click.option("--below", type=FIGURE, help="The same below this price.")
@click.option(
    "--no-mean",
    is_flag=True,
    help="Drop the mean of a short history: the drift of a random walk or a geometric one is 0.",
)
@click.option(
    "--level",
    type=FIGURE,
    help="Of mean-reverting: the level that it returns to, where more is known of it than its "
    "history tells; default: found from the history.",
)
@click.option(
    "--risk-neutral",
    type=FIGURE,
    metavar="RATE",
    help="Let the price grow by a riskless rate a year, such as 0.03, to value what depends on "
    "it, not as in the history.",
)
@click.option(
    "--uncertain/--certain",
    default=None,
    help="Draw the fitted parameters too: the fan then includes the error of a short history; "
    "default: for fewer than 60 values.",
)
@every_option
@click.option("--trials", type=WHOLE, default=10_000, show_default=True, help="How many paths.")
@click.option("--seed", type=WHOLE, help="A whole number that reproduces them; else one is chosen.")
@price_file
@with_output
def paths(
    prices: Path,
    instrument: str | None,
    process: str | None,
    periods: int | None,
    above: float | None,
    below: float | None,
    no_mean: bool,
    level: float | None,
    risk_neutral: float | None,
    uncertain: bool | None,
    every: ReturnPeriod | None,
    trials: int,
    seed: int | None,
    layout: dict[str, Any],
) -> Report:
    """Fit a process to a price's history and simulate where it may go: the fan, chances, and the
    drawdown to expect.

    Each figure has the 95 % interval, with the error that a short history causes.

    \b
      kindynos paths heating_oil.csv --ahead 252 --above 1.0
      kindynos paths treasury_prices.csv --column shipyard --process regime-switching \\
        --below 35 --out results
    """
    from kindynos.markets.outlook import outlook
    from kindynos.reports import paths as report
    from kindynos.sampling.streams import checked_seed

    table = price_table(prices, **layout)
    if instrument is None and len(table.instruments) > 1:
        raise KindynosError(f"say --column; the file has {', '.join(table.instruments)}")
    name = instrument or table.instruments[0]
    own = table.subset([name]).every(every)  # the calendar of this one, not of all in the file
    spacing = own.spacing
    history = own.frame[name].to_numpy()
    if process is None:
        process = "random walk" if own.absolute[0] else "geometric brownian motion"
    dt = 1.0 if process in BY_PERIOD else 1 / spacing.per_year
    if periods is None:
        periods = round(spacing.per_year)
    fitted = _fitted(process, history, _options(process, dt, no_mean, level), risk_neutral)
    if fitted.multiplies and any(level is not None and level <= 0 for level in (above, below)):
        raise KindynosError(
            f"--above and --below are prices above 0, where the process {process!r} stays; of a "
            "rate take --process random-walk or mean-reverting"
        )
    if uncertain is None:
        uncertain = fitted.fitted is not None and len(history) < FEW
    selected = checked_seed(seed)
    made = fitted.paths(periods, trials, selected, dt, uncertain=uncertain)
    ahead = outlook(fitted, made, history, dt, above, below, selected, uncertain, spacing.unit)
    return report.paths(
        name,
        fitted,
        made,
        ahead,
        len(history),
        selected,
        spacing=spacing,
        prices=own,
        above=above,
        below=below,
    )


def _fitted(
    process: str, history: Floats, options: dict[str, Any], risk_neutral: float | None
) -> Process:
    from kindynos.processes.brownian import GeometricBrownianMotion
    from kindynos.processes.registry import PROCESSES

    kind: Any = PROCESSES[process]  # each has its own fit, which the contract does not hold
    fitted: Process = kind.fit(history, **options)
    if risk_neutral is None:
        return fitted
    if not isinstance(fitted, GeometricBrownianMotion):
        raise KindynosError("--risk-neutral goes with the process geometric-brownian-motion")
    return fitted.risk_neutral(risk_neutral)


def _options(process: str, dt: float, no_mean: bool, level: float | None) -> dict[str, Any]:
    """Return with what a process is fitted; raises KindynosError for what it does not take."""
    if no_mean and process not in ("geometric brownian motion", "random walk"):
        raise KindynosError(
            "--no-mean goes with the processes geometric-brownian-motion and random-walk"
        )
    if level is not None and process != "mean reverting":
        raise KindynosError("--level goes with the process mean-reverting")
    if process in BY_PERIOD:
        return dict(BY_PERIOD[process])
    options: dict[str, Any] = {"dt": dt}
    if no_mean:
        options["mean"] = False
    if level is not None:
        options["level"] = level
    return options
