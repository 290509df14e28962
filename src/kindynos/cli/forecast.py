"""``kindynos forecast``: the coming periods of a series."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import missing_words_option, series_options, table_file
from kindynos.cli.output import with_output
from kindynos.cli.progress import SHARE, Bar
from kindynos.cli.regressors import Regressors, regressor_options
from kindynos.cli.types import FIGURE, WHOLE
from kindynos.tables.layout import TableFormat

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@click.argument("data", type=click.Path(path_type=Path))
@series_options
@click.option("--ahead", type=WHOLE, help="Periods; default: one season, at least 12.")
@click.option(
    "--above", type=FIGURE, multiple=True, help="Give the chance of each period above this figure."
)
@click.option(
    "--process", metavar="NAME", help="The process, as `kindynos fit --series` lists them."
)
@click.option(
    "--no-rolling",
    is_flag=True,
    help="Choose the process without trying it on the series' own history, which takes seconds.",
)
@click.option(
    "--below-zero",
    is_flag=True,
    help="Let values fall below 0 where the series has none; default: they count as 0.",
)
@regressor_options
@click.option("--trials", type=WHOLE, default=10_000, show_default=True, help="How many paths.")
@click.option("--seed", type=WHOLE, help="A whole number that reproduces them; else one is chosen.")
@table_file
@missing_words_option
@with_output
def forecast(
    data: Path,
    series: dict[str, Any],
    ahead: int | None,
    above: tuple[float, ...],
    process: str | None,
    no_rolling: bool,
    below_zero: bool,
    regressors: Regressors,
    trials: int,
    seed: int | None,
    layout: dict[str, Any],
    missing: tuple[str, ...],
) -> Report:
    """Forecast a series of records: each coming period with its ranges, the total of the next 12,
    the chance above a figure, and the process as a driver of a model file.

    The process is the one that forecast the series' own history best; see `kindynos fit --series`
    for the ranking and its tests.

    \b
      kindynos forecast passengers.csv --ahead 24 --above 30000
      kindynos forecast passengers.csv --process "smoothing: level x season" --out results
      kindynos forecast passengers.csv --trading-days --no-rolling
    """
    from kindynos.fitting.forecast import forecast as forecast_of
    from kindynos.reports.forecasts import forecast_report

    form = TableFormat.checked(**layout, missing=missing)
    values, exog, notes = regressors.of_series(data, series, form, ahead)
    with Bar("fitting", SHARE) as progress:
        forecasted = forecast_of(
            values,
            ahead,
            process,
            season=series["season"],
            every=series["every"],
            rolling=not no_rolling,
            exog=exog,
            below_zero=below_zero or None,
            trials=trials,
            seed=seed,
            progress=lambda share: progress(round(100 * share), 100),
        )
    return forecast_report(str(values.name), forecasted, above, notes)
