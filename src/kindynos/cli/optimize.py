"""``kindynos optimize``: the best values of several decisions at once."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kindynos.cli.common import (
    WHOLE,
    Bar,
    finish,
    json_option,
    model_argument,
    out_option,
    read_model,
    set_option,
    simulated,
)
from kindynos.cli.sweep import read_values
from kindynos.errors import KindynosError


@click.command()
@model_argument
@click.option(
    "--vary",
    "varied",
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
    help="The figure to maximise, such as 'mean net_value' or 'percentile 5 of net_value'.",
)
@click.option(
    "--minimize",
    metavar="FIGURE",
    help="The figure to minimise, such as 'chance below 0 of net_value' or 'sd net_value'.",
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
@simulated
@set_option
@out_option
@json_option
def optimize(
    file: Path,
    varied: tuple[str, ...],
    maximize: str | None,
    minimize: str | None,
    constraints: tuple[str, ...],
    evaluations: int,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
    out: Path | None,
    as_data: bool,
) -> None:
    """Find the best values of several decisions of the model in FILE at once, under constraints.

    All points are tried on the same draws; a run on fresh draws then shows what the best is worth,
    without the randomness of having been chosen. When no decisions keep the constraints, the
    command says what comes nearest; exit status 2.

    \b
      kindynos optimize best_fare.toml --vary fare=40:75 \\
        --vary crossings=600,650,700,750,800 --maximize "mean net_value"
      kindynos optimize best_fare.toml --vary fare=40:75 --maximize "mean passengers" \\
        --subject-to "mean net_value >= 6.5e6"
    """
    from kindynos.reports import optimum

    decisions: dict[str, Any] = {}
    for text in varied:
        name, values = _decision(text)
        if name in decisions:
            raise KindynosError(f"--vary {text}: {name} is varied already")
        decisions[name] = values
    model = read_model(file, changes)
    with Bar("searching", "evaluations") as progress:
        answer = model.optimize(
            decisions,
            maximize=maximize,
            minimize=minimize,
            subject_to=constraints,
            evaluations=evaluations,
            **simulation,
            progress=progress,
        )
    finish(optimum.optimum(answer), out, as_data)


def _decision(text: str) -> tuple[str, tuple[float, float] | list[float]]:
    """Return a name and its range or its values; raises KindynosError for a text that is
    neither.
    """
    name, _, description = text.partition("=")
    if description.count(":") != 1:
        return read_values(text, "--vary")
    try:
        low, high = (float(piece) for piece in description.split(":"))
    except ValueError:
        raise KindynosError(
            f"--vary {text}: say NAME=LOW:HIGH, such as fare=45:65, or NAME=1,2,3"
        ) from None
    return name.strip(), (low, high)
