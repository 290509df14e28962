"""``kindynos optimize``: the best values of several decisions at once."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import WHOLE, Text, by_name, ends_or_values, named
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@model_argument
@click.option(
    "--vary",
    "decisions",
    type=Text(named(ends_or_values), "NAME=LOW:HIGH, such as fare=45:65, or NAME=1,2,3"),
    callback=by_name,
    multiple=True,
    required=True,
    metavar="NAME=VALUES",
    help="A decision: LOW:HIGH is a range, LOW:HIGH:STEP or values with commas a list; "
    "repeatable. A driver's parameter is "
    "NAME.PARAMETER.",
)
@click.option(
    "--maximize",
    metavar="FIGURE",
    help="The figure to maximize, such as 'mean net_value' or 'percentile 5 of net_value'.",
)
@click.option(
    "--minimize",
    metavar="FIGURE",
    help="The figure to minimize, such as 'chance below 0 of net_value' or 'sd net_value'.",
)
@click.option(
    "--subject-to",
    "constraints",
    multiple=True,
    metavar="CONSTRAINT",
    help="A figure and its limit: 'chance below 0 of net_value <= 0.05'; repeatable.",
)
@click.option(
    "--evaluations", type=WHOLE, default=200, show_default=True, help="The most points to try."
)
@click.option(
    "--frontier",
    "against",
    metavar="FIGURE",
    help="A second figure: which decisions are efficient for both, such as --maximize 'mean "
    "net_value' --frontier 'percentile 5 of net_value'.",
)
@simulated
@set_option
@with_output
def optimize(
    file: Path,
    decisions: dict[str, Any],
    maximize: str | None,
    minimize: str | None,
    constraints: tuple[str, ...],
    evaluations: int,
    against: str | None,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
) -> Report:
    """Find the best values of several decisions of the model in FILE at once, under constraints.

    All points are tried on the same draws; a run on fresh draws then shows what the best is worth,
    without the randomness of having been chosen. When no decisions keep the constraints, the
    command says what comes nearest; exit status 2.

    \b
      kindynos optimize best_fare.toml --vary fare=40:75 \\
        --vary crossings=600,650,700,750,800 --maximize "mean net_value"
      kindynos optimize best_fare.toml --vary fare=40:75 --maximize "mean passengers" \\
        --subject-to "mean net_value >= 6.5e6"
      kindynos optimize best_fare.toml --vary fare=40:75 --maximize "mean net_value" \\
        --frontier "mean passengers"
    """
    from kindynos.reports import optimum
    from kindynos.reports.frontier import frontier_report

    model = read_model(file, changes)
    if against is not None:
        what = maximize if minimize is None else minimize
        if what is None or constraints or None not in (maximize, minimize):
            raise KindynosError("--frontier goes with one of --maximize and --minimize alone")
        with Bar("searching", "evaluations") as progress:
            options = {"evaluations": evaluations, **simulation, "progress": progress}
            return frontier_report(model.frontier(decisions, what, against, **options))
    with Bar("searching", "evaluations") as progress:
        optimized = model.optimize(
            decisions,
            maximize=maximize,
            minimize=minimize,
            subject_to=constraints,
            evaluations=evaluations,
            **simulation,
            progress=progress,
        )
    return optimum.optimum(optimized)
