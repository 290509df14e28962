"""``kindynos sweep``: a model over a grid of chosen values."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import OutcomeName, Text, by_name, named, values

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@model_argument
@click.option(
    "--vary",
    "overs",
    type=Text(named(values), "NAME=LOW:HIGH:STEP, such as hurdle=0.05:0.11:0.01, or NAME=1,2,3"),
    callback=by_name,
    multiple=True,
    required=True,
    metavar="NAME=VALUES",
    help="What to vary: LOW:HIGH:STEP or values with commas; repeatable. A driver's parameter is "
    "NAME.PARAMETER.",
)
@click.option(
    "--statistic",
    help="What to simulate: mean (the default of a model with drivers), 'percentile 5', 'chance "
    "above 0'; or base, the base case.",
)
@click.option("--outcome", type=OutcomeName(), metavar="NAME", help="Only this outcome or line.")
@click.option(
    "--less-is-better",
    is_flag=True,
    help="Mark the lowest value as the best in pictures, whatever the model says.",
)
@simulated
@set_option
@with_output
def sweep(
    file: Path,
    overs: dict[str, list[float]],
    statistic: str | None,
    outcome: str | None,
    less_is_better: bool,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
) -> Report:
    """Work out the model in FILE over every combination of values of given figures and drivers.

    \b
      kindynos sweep night_ferry.toml --vary hurdle=0.05:0.11:0.015 --vary fare=50,54,58
      kindynos sweep night_ferry.toml --vary vessel.mode=18e6,20e6,22e6 --statistic "chance above 0"
      kindynos sweep night_ferry.toml --vary fare=46:62:4 --statistic "percentile 5" --out results
    """
    from kindynos.reports import studies

    model = read_model(file, changes)
    with Bar("sweeping", "points") as progress:
        swept = model.sweep(
            overs, statistic=statistic, outcome=outcome, **simulation, progress=progress
        )

    return studies.sweep(swept, less_is_better=less_is_better)
