"""``kindynos read``: trials that were computed elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.asking import table_options, table_spec
from kindynos.cli.options import missing_words_option, table_file
from kindynos.cli.output import with_output
from kindynos.cli.types import FIGURE, Text, numbers
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.reports.report import Report

SHOWN = 6  # columns, where none is named


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--column", metavar="NAME", help="The column to read; default: all of them.")
@click.option(
    "--against",
    metavar="NAME",
    help="Another column to set it against: shares in four quadrants, correlation, scatter.",
)
@click.option(
    "--cuts",
    type=Text(numbers, "numbers with commas between, such as 0,-0.2"),
    help="Where the two columns are cut, such as 0,-0.2; default: at their medians.",
)
@click.option("--unit", help="The unit of the column.")
@click.option(
    "--target",
    type=FIGURE,
    help="A figure that matters: the chances on either side of it are given.",
)
@click.option("--weights", metavar="NAME", help="A column with the weight of each trial.")
@click.option(
    "--order",
    is_flag=True,
    help="Consecutive rows depend on each other: take errors from blocks of rows.",
)
@table_options
@table_file
@missing_words_option
@with_output
def read(
    file: Path,
    column: str | None,
    against: str | None,
    cuts: list[float] | None,
    unit: str | None,
    target: float | None,
    weights: str | None,
    order: bool,
    percentiles: list[float] | None,
    statistics: tuple[str, ...],
    chances: tuple[str, ...],
    layout: dict[str, Any],
    missing: tuple[str, ...],
) -> Report:
    """Read trials that were computed elsewhere, one row per trial: their figures with errors, and
    one column against another.

    CSV, Parquet and Excel are read; separator, decimal sign, titles, names and a row of units are
    found. Cells such as n/a or #DIV/0! are trials without a value.

    \b
      kindynos read fuel_hedging.csv
      kindynos read fuel_hedging.csv --column growth --target 0.03
      kindynos read fuel_hedging.csv --column growth --against max_drawdown \\
        --cuts 0.03,-0.2 --out results
      kindynos read fuel_hedging.csv --percentiles 1,25,75 --statistic "expected_shortfall 0.95" \\
        --chance "growth < 0 and max_drawdown < -20%"
    """
    from kindynos.reports import fits
    from kindynos.results.read_trials import read_trials

    if column is None and (unit is not None or target is not None or against is not None):
        raise KindynosError("say --column: --unit, --target and --against are of one column")
    if cuts is not None and (against is None or len(cuts) != 2):
        raise KindynosError("--cuts are two numbers, and go with --against")
    units = {column: unit} if column is not None and unit is not None else None
    targets = {column: target} if column is not None and target is not None else None
    trials = read_trials(
        file, units=units, weights=weights, targets=targets, order=order, missing=missing, **layout
    )
    names = trials.outcomes[:SHOWN] if column is None else [column]
    selected: tuple[float | None, float | None] = (
        (None, None) if cuts is None else (cuts[0], cuts[1])
    )
    pair = None if column is None or against is None else trials.joint(column, against, selected)
    ranking = None if column is None or against is not None else trials.sensitivity(column)
    wanted = table_spec(percentiles, statistics, chances, trials.outcomes)
    return fits.trials(trials, names, pair, ranking, wanted)
