"""``kindynos fit``: which distribution, or which time-series process, do records support?"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.common import (
    SHARE,
    WHOLE,
    Bar,
    Words,
    finish,
    json_option,
    missing_words_option,
    out_option,
    table_file,
)
from kindynos.errors import KindynosError
from kindynos.literals import Spacing

if TYPE_CHECKING:
    from kindynos.fitting.ranking import Ranking
    from kindynos.fitting.series import SeriesRanking

SEED = 1


@click.command()
@click.argument("data", type=click.Path(path_type=Path))
@click.option(
    "--column",
    metavar="NAME",
    help="The column of records; may be left out where there is one beside the dates.",
)
@click.option(
    "--series",
    "as_series",
    is_flag=True,
    help="Take them as a series in time and rank processes, not distributions.",
)
@click.option(
    "--dates",
    metavar="NAME",
    help="The column of dates of a series; default: the first that holds such.",
)
@click.option(
    "--every",
    type=Words(Spacing),
    help="How far apart the dates are: day, working-day, week, month, quarter or year.",
)
@click.option(
    "--season",
    type=WHOLE,
    help="Periods of one season, 0 for none; default: 12 for months and 4 for quarters.",
)
@click.option(
    "--ahead",
    type=WHOLE,
    help="Periods that the fan and the scores look ahead; default: one season.",
)
@click.option(
    "--no-rolling",
    is_flag=True,
    help="Leave out the scores on the series' own history, which take seconds.",
)
@click.option(
    "--candidates",
    metavar="NAME,...",
    help="Distributions or processes to try, as the table writes them.",
)
@click.option(
    "--criterion",
    type=click.Choice(["aic", "aicc", "bic"]),
    help="What ranks them: aic, or of series aicc.",
)
@click.option("--show", metavar="NAME", help="The one to show in full; default: the best.")
@click.option(
    "--as-driver",
    metavar="NAME",
    help="Print it as a driver's table to paste into a model file, and nothing else.",
)
@click.option(
    "--uncertain",
    is_flag=True,
    help="With --as-driver: draw the parameters too, as the records leave them open.",
)
@table_file
@missing_words_option
@out_option
@json_option
def fit(
    data: Path,
    column: str | None,
    as_series: bool,
    dates: str | None,
    every: str | None,
    season: int | None,
    ahead: int | None,
    no_rolling: bool,
    candidates: str | None,
    criterion: str | None,
    show: str | None,
    as_driver: str | None,
    uncertain: bool,
    layout: dict[str, Any],
    missing: tuple[str, ...],
    out: Path | None,
    as_data: bool,
) -> None:
    """Find which distribution records come from, or with --series which process, and rank the
    candidates.

    Distributions are ranked by AIC and tested by parametric bootstrap. Processes are ranked by AICc
    and scored on the series' own history, by out-of-sample coverage.

    \b
      kindynos fit repair_bills.csv --column bill --out results
      kindynos fit repair_bills.csv --column bill --as-driver repair --uncertain
      kindynos fit passengers.csv --series --every month --season 12
    """
    only_series = {
        "--dates": dates,
        "--every": every,
        "--season": season,
        "--ahead": ahead,
        "--no-rolling": no_rolling or None,
    }
    wrong = [name for name, value in only_series.items() if value is not None and not as_series]
    if wrong:
        raise KindynosError(f"{wrong[0]} belongs to --series")
    if uncertain and as_driver is None:
        raise KindynosError("--uncertain goes with --as-driver")
    if as_driver is not None and not as_driver.isidentifier():
        raise KindynosError(
            f"--as-driver {as_driver}: a driver's name is a word of letters, digits and _"
        )
    names = None if candidates is None else _names(candidates)
    if as_series:
        _processes(
            data,
            column,
            dates,
            every,
            season,
            ahead,
            not no_rolling,
            names,
            criterion or "aicc",
            show,
            as_driver,
            uncertain,
            {**layout, "missing": missing},
            out,
            as_data,
        )
    else:
        _distributions(
            data,
            column,
            names,
            criterion or "aic",
            show,
            as_driver,
            uncertain,
            {**layout, "missing": missing},
            out,
            as_data,
        )


def _names(text: str) -> list[str]:
    """Return names parted by commas, of which those inside brackets and before a blank belong to a
    name.
    """
    import re

    return [name.strip() for name in re.split(r",(?![^(]*\))(?! )", text) if name.strip()]


def _distributions(
    data: Path,
    column: str | None,
    names: list[str] | None,
    criterion: str,
    show: str | None,
    as_driver: str | None,
    uncertain: bool,
    layout: dict[str, Any],
    out: Path | None,
    as_data: bool,
) -> None:
    import numpy as np

    from kindynos.fitting.ranking import fit_distributions
    from kindynos.fitting.records import values_and_notes
    from kindynos.model.writing import driver_table
    from kindynos.tables.layout import TableFormat

    values, notes = values_and_notes(data, column, TableFormat.checked("fit", **layout))
    ranking: Ranking = fit_distributions(values[~np.isnan(values)], names, criterion)
    chosen = ranking.best if show is None else ranking[show]
    if as_driver is not None:
        source = f"{chosen.fitted.description}, {data.name}"
        click.echo(driver_table(as_driver, chosen.uncertain() if uncertain else chosen, source))
        return
    from kindynos.reports import fits

    with Bar("bootstrap", SHARE) as progress:
        ranking._with_progress(lambda share: progress(round(100 * share), 100))
    finish(fits.distributions(column or data.stem, ranking, chosen, notes), out, as_data)


def _processes(
    data: Path,
    column: str | None,
    dates: str | None,
    every: str | None,
    season: int | None,
    ahead: int | None,
    rolling: bool,
    names: list[str] | None,
    criterion: str,
    show: str | None,
    as_driver: str | None,
    uncertain: bool,
    layout: dict[str, Any],
    out: Path | None,
    as_data: bool,
) -> None:
    from kindynos.fitting.records import read_series
    from kindynos.fitting.series import fit_series
    from kindynos.model.writing import driver_table

    values = read_series(data, column, dates, every, **layout)
    with Bar("fitting", SHARE) as progress:
        ranking: SeriesRanking = fit_series(
            values,
            names,
            season,
            criterion,
            every=every,
            rolling=rolling and as_driver is None,
            horizon=ahead,
            progress=lambda share: progress(round(100 * share), 100),
        )
    chosen = ranking.names[0] if show is None else show
    process = ranking[chosen]
    if as_driver is not None:
        assert process.fitted is not None
        source = f"{process.fitted.description}, {data.name}"
        click.echo(driver_table(as_driver, process, source, uncertain))
        return
    from kindynos.reports import fits

    ahead_of = ranking.horizon if ahead is None else ahead
    title = str(values.name or data.stem)
    finish(fits.series(title, ranking, chosen, ahead_of, SEED), out, as_data)
