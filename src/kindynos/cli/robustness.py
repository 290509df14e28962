"""``kindynos robustness``: what the assumptions of a model are worth."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import FIGURE, OutcomeName
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@model_argument
@click.option(
    "--outcome",
    type=OutcomeName(),
    metavar="NAME",
    help="The outcome that is looked at; default: the only one.",
)
@click.option(
    "--figure",
    metavar="TEXT",
    help="A figure beside the chance of missing the target and the bad percentile, such as mean.",
)
@click.option(
    "--wider",
    type=FIGURE,
    default=1.5,
    show_default=True,
    help="How many times as wide ranges are.",
)
@click.option(
    "--together",
    type=FIGURE,
    default=0.3,
    show_default=True,
    help="The rank correlation by which bad news comes together.",
)
@click.option(
    "--kept",
    type=FIGURE,
    default=0.8,
    show_default=True,
    help="The rank correlation of neighbouring periods of what is drawn each period.",
)
@click.option(
    "--centre",
    type=FIGURE,
    default=0.25,
    show_default=True,
    help="The share of its sd that worse centres move the outcome by.",
)
@click.option(
    "--goal",
    type=FIGURE,
    help="Which median of a driver makes the first figure this, such as 0.1 for a chance of 10 %.",
)
@click.option(
    "--record",
    type=click.Path(path_type=Path),
    help="A track record of past forecasts, as `kindynos fit --track-record` reads it: ranges are "
    "as much wider as they should have been there.",
)
@simulated
@set_option
@with_output
def robustness(
    file: Path,
    outcome: str | None,
    figure: str | None,
    wider: float,
    together: float,
    kept: float,
    centre: float,
    goal: float | None,
    record: Path | None,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
) -> Report:
    """Say what the assumptions of FILE are worth: how far the chance of missing the target, and
    the bad percentile, move if ranges are wider than stated, bad news comes together, centres are
    hopeful, or shapes are others.

    Every departure is run on the same draws. The ± beside a figure of a run is the error of the
    sampling alone; this is the error of what was assumed.

    \b
      kindynos robustness night_ferry.toml --outcome net_value
      kindynos robustness night_ferry.toml --outcome net_value --wider 2 --goal 0.5
      kindynos robustness night_ferry.toml --outcome net_value --record past_estimates.csv
    """
    from kindynos.reports.robustness import robustness_report

    model = read_model(file, changes)
    names = list(model.compiled().outcomes)
    if outcome is None and len(names) != 1:
        raise KindynosError(f"say --outcome; the file has {', '.join(names)}")
    with Bar("departing", "departures") as progress:
        departed = model.robustness(
            outcome or names[0],
            figure,
            wider=wider,
            together=together,
            kept=kept,
            centre=centre,
            goal=goal,
            record=record,
            progress=progress,
            **simulation,
        )
    return robustness_report(departed)
