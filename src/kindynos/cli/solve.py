"""``kindynos solve``: the value of a figure that reaches a goal."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import FIGURE, OutcomeName

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@model_argument
@click.argument("name")
@click.option(
    "--outcome",
    type=OutcomeName(),
    required=True,
    metavar="NAME",
    help="The outcome that has the goal.",
)
@click.option(
    "--within", required=True, type=FIGURE, nargs=2, metavar="LOW HIGH", help="Where to seek."
)
@click.option(
    "--chance", type=FIGURE, help="The chance to reach, from 0 to 1; with --above or --below."
)
@click.option(
    "--above", type=FIGURE, help="The figure the outcome is to end above with that chance."
)
@click.option(
    "--below", type=FIGURE, help="The figure the outcome is to end below with that chance."
)
@click.option("--mean", type=FIGURE, help="The mean to reach.")
@click.option(
    "--percentile", type=FIGURE, help="The percentile, from 0 to 100, that is to reach --equals."
)
@click.option("--equals", type=FIGURE, help="What the percentile is to be.")
@click.option("--base", type=FIGURE, help="What the outcome is to be in the base case.")
@simulated
@set_option
@with_output
def solve(
    file: Path,
    name: str,
    outcome: str,
    within: tuple[float, float],
    chance: float | None,
    above: float | None,
    below: float | None,
    mean: float | None,
    percentile: float | None,
    equals: float | None,
    base: float | None,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
) -> Report:
    """Find the value of NAME, a given figure or a driver's parameter, at which an outcome of FILE
    reaches a goal.

    All values are tried on the same draws. When none in the range reaches it, the command says so;
    exit status 2.

    \b
      kindynos solve night_ferry.toml fare --outcome net_value --chance 0.9 --above 0 --within 40 80
      kindynos solve night_ferry.toml fare --outcome net_value --mean 0 --within 40 80
      kindynos solve night_ferry.toml vessel.mode --outcome net_value --percentile 20 \\
        --equals 0 --within 18e6 25e6
    """
    from kindynos.reports import studies

    model = read_model(file, changes)
    with Bar("solving"):
        solution = model.solve(
            name,
            outcome,
            within=within,
            chance=chance,
            above=above,
            below=below,
            mean=mean,
            percentile=percentile,
            equals=equals,
            base=base,
            **simulation,
        )

    return studies.goal(solution)
