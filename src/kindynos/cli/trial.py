"""``kindynos trial``: one trial read through, line by line and period by period."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated, whole_option
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import FIGURE, WHOLE, OutcomeName
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@model_argument
@click.option("--number", type=WHOLE, help="The number of the trial, from 0.")
@click.option(
    "--at-percentile",
    type=FIGURE,
    help="The trial in which the outcome is nearest to this percentile.",
)
@click.option(
    "--worst",
    type=FIGURE,
    metavar="N",
    help="The worst trials of the outcome: a number of them (3) or a share (0.0002).",
)
@click.option(
    "--outcome", type=OutcomeName(), metavar="NAME", help="The outcome meant; default: the first."
)
@simulated
@set_option
@whole_option
@with_output
def trial(
    file: Path,
    number: int | None,
    at_percentile: float | None,
    worst: float | None,
    outcome: str | None,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
    whole: bool,
) -> Report:
    """Simulate the model in FILE and show whole sheets of single trials.

    \b
      kindynos trial night_ferry.toml --number 7 --seed 11
      kindynos trial night_ferry.toml --at-percentile 5 --outcome net_value --seed 11
      kindynos trial night_ferry.toml --worst 3 --seed 11 --out results
    """
    if [number, at_percentile, worst].count(None) != 2:
        raise KindynosError("say one of --number 7, --at-percentile 5 or --worst 3")
    import pandas as pd

    from kindynos.reports import studies

    model = read_model(file, changes)
    with Bar("simulating") as progress:
        run = model.simulate(**simulation, progress=progress)
    numbers = [name for name in run.outcomes if not run[name].is_row]
    if outcome is None and number is None and not numbers:
        raise KindynosError(
            "the model has no outcome that is one number; say --number or --outcome"
        )
    name = outcome or (numbers[0] if numbers else "")
    if number is not None:
        sheets = pd.concat({number: run.trial(number)}, names=["trial"])
    elif at_percentile is not None:
        nearest = run.nearest(name, at_percentile)
        sheets = pd.concat({nearest.attrs["trial"]: nearest}, names=["trial"])
    else:
        assert worst is not None
        sheets = run.worst(name, int(worst) if worst >= 1 else max(round(worst * run.size), 1))
    why = ""
    if at_percentile is not None:
        why = f", {name} nearest to P{at_percentile:g}"
    elif worst is not None:
        why = f", {name} at its {'lowest' if run[name].better == 'high' else 'highest'}"
    told = None if not name or run[name].is_row else name
    return studies.sheets(run, sheets, why, whole, told)
