"""``kindynos fit``: which distribution, or which time-series process, do records support?"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import missing_words_option, series_options, table_file
from kindynos.cli.output import output, with_output
from kindynos.cli.progress import SHARE, Bar
from kindynos.cli.regressors import Regressors, names_in_text, regressor_options
from kindynos.cli.types import FIGURE, WHOLE
from kindynos.errors import FileError, KindynosError
from kindynos.tables.layout import TableFormat

if TYPE_CHECKING:
    from kindynos.arrays import Floats
    from kindynos.distributions.base import Distribution
    from kindynos.fitting.ranking import Ranking
    from kindynos.fitting.series import SeriesRanking
    from kindynos.reports.report import Report

SEED = 1


@click.command()
@click.argument("data", type=click.Path(path_type=Path))
@series_options
@click.option(
    "--series",
    "as_series",
    is_flag=True,
    help="Take them as a series in time and rank processes, not distributions.",
)
@click.option(
    "--track-record",
    "as_record",
    is_flag=True,
    help="Take them as past forecasts, as P10, P50, P90 or low, likely, high, with what came: "
    "actual.",
)
@click.option(
    "--ahead",
    type=WHOLE,
    help="Periods that the fan and the scores look ahead; default: one season.",
)
@regressor_options
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
    help="With --as-driver: draw the parameters too, as the records leave them open; those of a "
    "distribution go to a file, NAME_parts.csv, here or in --out.",
)
@click.option(
    "--average",
    is_flag=True,
    help="With --as-driver: the mixture of all candidates by their weights, for when the records "
    "cannot tell them apart.",
)
@click.option(
    "--truncated-below",
    type=FIGURE,
    help="The threshold below which nothing is recorded; the distribution is that of all values, "
    "and says how many were not seen.",
)
@click.option(
    "--column-of-thresholds",
    metavar="NAME",
    help="The column of the file with the threshold of each value, where they differ; empty for "
    "none.",
)
@click.option(
    "--censored-above",
    type=FIGURE,
    help="A limit: values that reach it are known only to be at least so much.",
)
@click.option(
    "--jointly",
    metavar="COLUMN,...",
    help="Fit these columns together: a distribution for each, and the copula that joins them.",
)
@click.option(
    "--as-drivers",
    is_flag=True,
    help="With --jointly: print drivers and correlations to paste into a model file, and nothing "
    "else.",
)
@click.option(
    "--exposure",
    metavar="COLUMN",
    help="The column of what was exposed in each year: the values are yearly counts, and a rate is "
    "fitted; 1 for years that are alike.",
)
@click.option(
    "--index",
    metavar="COLUMN",
    help="The column of an index, such as of prices: each value is brought to the level of the "
    "last one.",
)
@table_file
@missing_words_option
@with_output
def fit(
    data: Path,
    series: dict[str, Any],
    as_series: bool,
    as_record: bool,
    ahead: int | None,
    regressors: Regressors,
    no_rolling: bool,
    candidates: str | None,
    criterion: str | None,
    show: str | None,
    as_driver: str | None,
    uncertain: bool,
    average: bool,
    truncated_below: float | None,
    column_of_thresholds: str | None,
    censored_above: float | None,
    exposure: str | None,
    index: str | None,
    jointly: str | None,
    as_drivers: bool,
    layout: dict[str, Any],
    missing: tuple[str, ...],
) -> Report | None:
    """Find which distribution records come from, or with --series which process, and rank the
    candidates.

    Distributions are ranked by AIC and tested by parametric bootstrap. Processes are ranked by AICc
    and scored on the series' own history, by out-of-sample coverage. A track record says how past
    ranges have done, by forecaster and kind, and how wide they should have been.

    \b
      kindynos fit repair_bills.csv --column bill --out results
      kindynos fit repair_bills.csv --column bill --as-driver repair --uncertain
      kindynos fit passengers.csv --series --spacing month --season 12
      kindynos fit passengers.csv --series --trading-days --no-rolling
      kindynos fit past_estimates.csv --track-record
      kindynos fit repair_bills.csv --truncated-below 2000
      kindynos fit claims_by_year.csv --column claims --exposure vessels
      kindynos fit claim_sizes.csv --column amount --index price_index
      kindynos fit fuel_hedging.csv --jointly growth,max_drawdown --as-drivers
    """
    column, dates, every = series["column"], series["dates"], series["every"]
    season = series["season"]
    if as_record:
        _check_alone({"--series": as_series, "--column": column, "--as-driver": as_driver})
        from kindynos.fitting.track_record import track_record
        from kindynos.reports import fits

        record = track_record(data, **layout, missing=missing)
        return fits.track_record(record)
    if not as_series:
        _check_unused(
            {"--dates": dates, "--spacing": every, "--season": season, "--ahead": ahead}
            | regressors.options
            | {"--no-rolling": no_rolling or None}
        )
    _check_driver(as_driver, uncertain)
    if average and (as_driver is None or uncertain or as_series or show is not None):
        raise KindynosError(
            "--average goes with --as-driver, without --uncertain, --show, --series"
        )
    known = _Known(truncated_below, column_of_thresholds, censored_above, index)
    known.check(as_series)
    requested = _Wanted(
        TableFormat.checked(**layout, missing=missing),
        None if candidates is None else names_in_text(candidates),
        criterion or ("aicc" if as_series else "aic"),
        show,
        as_driver,
        uncertain,
        average,
    )
    whole = _Whole(jointly, as_drivers, exposure)
    whole.check(known, as_series, column)
    if jointly is not None:
        report = _together(data, names_in_text(jointly), as_drivers, requested.layout)
    elif exposure is not None:
        report = _counts(data, column, exposure, requested)
    elif as_series:
        asked = (column, dates, every, season, ahead, regressors, not no_rolling)
        report = _processes(data, *asked, requested)
    else:
        report = _distributions(data, column, requested, known)
    if isinstance(report, str):
        click.echo(report)
        return None
    return report


def _check_alone(others: dict[str, Any]) -> None:
    """Raise KindynosError for an option beside --track-record that does not go with it."""
    other = next((name for name, value in others.items() if value), None)
    if other is not None:
        raise KindynosError(f"{other} does not go with --track-record")


def _check_unused(of_series: dict[str, Any]) -> None:
    """Raise KindynosError for an option of a series where there is none."""
    given = next((name for name, value in of_series.items() if value is not None), None)
    if given is not None:
        raise KindynosError(f"{given} belongs to --series")


def _check_driver(as_driver: str | None, uncertain: bool) -> None:
    """Raise KindynosError for a driver's name that a model file cannot have."""
    if uncertain and as_driver is None:
        raise KindynosError("--uncertain goes with --as-driver")
    if as_driver is not None and not as_driver.isidentifier():
        raise KindynosError(
            f"--as-driver {as_driver}: a driver's name is a word of letters, digits and _"
        )


@dataclass(frozen=True)
class _Wanted:
    """What is asked of a fit, of distributions and of processes alike."""

    layout: TableFormat
    candidates: list[str] | None
    criterion: str
    show: str | None
    as_driver: str | None
    uncertain: bool
    average: bool


@dataclass(frozen=True)
class _Known:
    """What is known of values only in part: a threshold, the column of one each, and a limit."""

    threshold: float | None = None
    column: str | None = None
    limit: float | None = None
    index: str | None = None  # the column of the level that each value is of

    def check(self, as_series: bool) -> None:
        """Raise KindynosError for two kinds of thresholds, and for those of a series."""
        if self.threshold is not None and self.column is not None:
            raise KindynosError(
                "--truncated-below is one threshold, --column-of-thresholds one each"
            )
        if as_series and self != _Known():
            raise KindynosError(
                "thresholds, limits and an index go with distributions, not with --series"
            )


@dataclass(frozen=True)
class _Whole:
    """What is asked of more than one column of values: several fitted together, or counts."""

    jointly: str | None
    as_drivers: bool
    exposure: str | None

    def check(self, known: _Known, as_series: bool, column: str | None) -> None:
        """Raise KindynosError for options that do not go together."""
        others = known != _Known() or as_series
        if self.as_drivers and self.jointly is None:
            raise KindynosError("--as-drivers goes with --jointly")
        if self.jointly is not None and (others or self.exposure is not None or column is not None):
            raise KindynosError("--jointly names its columns, and goes with --as-drivers alone")
        if self.exposure is not None and others:
            raise KindynosError(
                "--exposure goes with counts, without --series, --index and thresholds"
            )


def _distributions(
    data: Path, column: str | None, requested: _Wanted, known: _Known
) -> Report | str:
    """Return the ranking of distributions, or one of them as a driver's table."""
    import numpy as np

    from kindynos.fitting.ranking import fit_distributions
    from kindynos.fitting.records import values_and_notes
    from kindynos.model.writing import driver_table

    values, notes = values_and_notes(data, column, requested.layout)
    there = ~np.isnan(values)
    threshold: Any = known.threshold
    if known.column is not None:
        thresholds, _ = values_and_notes(data, known.column, requested.layout)
        threshold = thresholds[there]
    if known.index is not None:
        values, note = _at_last_level(data, values, known.index, requested.layout)
        notes = [*notes, note]
    ranking: Ranking = fit_distributions(
        values[there],
        requested.candidates,
        requested.criterion,
        truncated_below=threshold,
        censored_above=known.limit,
    )
    best = ranking.best if requested.show is None else ranking[requested.show]
    if requested.as_driver is not None and requested.average:
        source = f"{', '.join(ranking.names)} by their weights, {data.name}"
        return driver_table(requested.as_driver, ranking.average(), source)
    if requested.as_driver is not None:
        stated = best.uncertain() if requested.uncertain else best
        return _one_driver(requested.as_driver, stated, f"{best.fitted.description}, {data.name}")
    from kindynos.reports import fits

    with Bar("bootstrap", SHARE) as progress:
        ranking._with_progress(lambda share: progress(round(100 * share), 100))
    return fits.distributions(column or data.stem, ranking, best, notes)


def _one_driver(name: str, stated: Distribution, source: str) -> str:
    """Return a driver's table; parameters that are drawn too are written to a file for the folder
    of the model file, in ``--out`` or here.
    """
    import pandas as pd

    from kindynos.atomic import replacing
    from kindynos.distributions.registry import parameters_of
    from kindynos.distributions.uncertain import Uncertain
    from kindynos.model.writing import driver_table

    if not isinstance(stated, Uncertain):
        return driver_table(name, stated, source)
    to = output()
    path = (to.out or Path()) / f"{name}_parts.csv"
    if path.exists() and not to.force:
        raise FileError("is there already; take another name, or say --force", file=str(path))
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path) as temporary:
        frame = pd.DataFrame([parameters_of(part) for part in stated.parts])
        frame.to_csv(temporary, index=False)
    note = f"# {len(frame)} draws of the parameters are in {path}: keep it beside the model file"
    return f"{note}\n{driver_table(name, stated, source, parts_file=path.name)}"


def _at_last_level(
    data: Path, values: Floats, index: str, layout: TableFormat
) -> tuple[Floats, str]:
    """Return values brought to the level of the last one by a column of an index, and a note."""
    import numpy as np

    from kindynos.fitting.records import values_and_notes

    levels, _ = values_and_notes(data, index, layout)
    there = ~np.isnan(values)
    if not (levels[there] > 0).all():
        raise KindynosError(f"the index {index!r} must be above 0 beside each value")
    last = levels[there][-1]
    ends = (levels[there] / last).min(), (levels[there] / last).max()
    note = f"Values are brought to the level of the last one by {index} "
    return values * last / levels, f"{note}({ends[0]:.3g} to {ends[1]:.3g} of it)"


def _together(data: Path, names: list[str], as_drivers: bool, layout: TableFormat) -> Report | str:
    """Return columns fitted together, or as tables to paste into a model file."""
    from kindynos.fitting.jointly import fit_jointly
    from kindynos.fitting.records import values_and_notes
    from kindynos.model.writing import joint_tables

    read = {name: values_and_notes(data, name, layout) for name in names}
    fitted = fit_jointly({name: values for name, (values, _) in read.items()})
    if as_drivers:
        margins = {name: ranking.best for name, ranking in fitted.margins.items()}
        source = f"{len(fitted.records):,} records of {data.name}, fitted together"
        return joint_tables(margins, fitted.correlations, source)
    from kindynos.reports.jointly import joint_fit

    return joint_fit(
        fitted, list(dict.fromkeys(note for _, notes in read.values() for note in notes))
    )


def _counts(data: Path, column: str | None, exposure: str, requested: _Wanted) -> Report | str:
    """Return the rate of yearly counts, or the number in a year as a driver's table."""
    import numpy as np

    from kindynos.fitting.counts import fit_counts
    from kindynos.fitting.records import values_and_notes

    counts, notes = values_and_notes(data, column, requested.layout)
    exposed = None if exposure == "1" else values_and_notes(data, exposure, requested.layout)[0]
    there = ~np.isnan(counts)
    fitted = fit_counts(counts[there], None if exposed is None else exposed[there])
    if requested.as_driver is not None:
        year = float(fitted.exposure[-1])
        source = f"{fitted.verdict}, {data.name}, for an exposure of {year:g}"
        return _one_driver(
            requested.as_driver, fitted.distribution(year, requested.uncertain), source
        )
    from kindynos.reports.counts import counted

    return counted(column or data.stem, fitted, notes)


def _processes(
    data: Path,
    column: str | None,
    dates: str | None,
    every: str | None,
    season: int | None,
    ahead: int | None,
    regressors: Regressors,
    rolling: bool,
    requested: _Wanted,
) -> Report | str:
    """Return the ranking of processes, or one of them as a driver's table."""
    from kindynos.fitting.series import fit_series
    from kindynos.model.writing import driver_table

    read = {"column": column, "dates": dates, "every": every}
    values, exog, notes = regressors.of_series(data, read, requested.layout, ahead)
    with Bar("fitting", SHARE) as progress:
        ranking: SeriesRanking = fit_series(
            values,
            requested.candidates,
            season,
            requested.criterion,
            every=every,
            rolling=rolling and requested.as_driver is None,
            horizon=ahead,
            exog=exog,
            progress=lambda share: progress(round(100 * share), 100),
        )
    show = ranking.names[0] if requested.show is None else requested.show
    process = ranking[show]
    if requested.as_driver is not None:
        assert process.fitted is not None
        source = f"{process.fitted.description}, {data.name}"
        return driver_table(requested.as_driver, process, source, requested.uncertain)
    from kindynos.reports import fits

    ahead_of = ranking.horizon if ahead is None else ahead
    if exog is not None and ahead is None:
        ahead_of = min(ahead_of, len(exog) - len(values))
    return fits.series(str(values.name), ranking, show, ahead_of, SEED, notes)
