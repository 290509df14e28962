"""``kindynos drivers``: what drives an outcome."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import (
    FIGURE,
    SENSITIVITIES,
    NameOption,
    OutcomeName,
    Text,
    Words,
    by_name,
    named,
    names,
)
from kindynos.literals import ContributionTo, SensitivityMethod, Side

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@model_argument
@click.option(
    "--outcome", type=OutcomeName(), metavar="NAME", help="The outcome; default: the first."
)
@click.option(
    "--method",
    "--methods",
    cls=NameOption,
    type=Words(SENSITIVITIES),
    help="{names}; default: rank, or contributions where drivers move together.",
)
@click.option(
    "--by-period", is_flag=True, help="Take drivers with a value each period period by period."
)
@click.option(
    "--percentile",
    type=FIGURE,
    help="conditional: this percentile of the outcome instead of its mean. contributions: the "
    "percentile; default: the bad side's, 80 of a cost, 20 of what is better high.",
)
@click.option(
    "--contributions-to",
    "to",
    cls=NameOption,
    type=Words(ContributionTo),
    help="contributions: to {names}, which is the percentile less the base case; default: "
    "variance.",
)
@click.option(
    "--contributions-of",
    "by",
    metavar="WHAT",
    help="contributions: of drivers, lines (the terms of the outcome's sum), summands (their terms "
    "too) or quantities with commas between them, such as sales,-costs; default: drivers.",
)
@click.option(
    "--group",
    "groups",
    type=Text(named(names), "NAME=A,B, such as market=fare,load"),
    callback=by_name,
    multiple=True,
    metavar="NAME=A,B",
    help="shapley: drivers that count as one; may be given several times.",
)
@click.option(
    "--worst",
    type=FIGURE,
    help="tail: the number (200) or share of the worst trials taken; default: 0.05.",
)
@click.option(
    "--side",
    cls=NameOption,
    type=Words(Side),
    help="tail: whether the worst trials are the low or the high ones; default: low.",
)
@simulated
@set_option
@with_output
def drivers(
    file: Path,
    outcome: str | None,
    method: SensitivityMethod | None,
    by_period: bool,
    percentile: float | None,
    to: str | None,
    by: str | None,
    groups: dict[str, list[str]],
    worst: float | None,
    side: str | None,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
) -> Report:
    """Simulate the model in FILE and show what drives an outcome.

    \b
      rank         rank correlation with the outcome, and the share of variance explained alone
      regression   coefficients of a linear model, in sd; warns where the model is far from linear
      swing        each driver alone at its P10 and P90, the others at their base
      conditional  the outcome's mean, or a percentile, across ten slices of each driver
      sobol        shares of variance, alone and with all interplay; for independent drivers
      shapley      shares of variance that add up to one, for correlated drivers too
      contributions  of drivers or lines, which add up to the variance or a percentile
      tail         what the drivers looked like in the worst trials

    \b
      kindynos drivers night_ferry.toml --outcome net_value --method swing
      kindynos drivers dry_dock.toml --contributions-to percentile
      kindynos drivers night_ferry.toml --method tail --worst 0.05 --out results
    """
    from kindynos.errors import FitWarning, RunError
    from kindynos.reports import studies

    model = read_model(file, changes)
    with Bar("simulating") as progress:
        run = model.simulate(**simulation, progress=progress)
    numbers = [name for name in run.outcomes if not run[name].is_row]
    if not numbers and outcome is None:
        raise RunError("the model has no outcome that is one number; say --outcome")
    name = outcome or numbers[0]
    if worst is not None and worst >= 1:
        worst = worst / run.size
    given: dict[str, Any] = {
        "percentile": percentile,
        "to": to,
        "by": by,
        "worst": worst,
        "side": side,
        "groups": groups or None,
    }
    options: dict[str, Any] = {key: value for key, value in given.items() if value is not None}
    if method is None and (to is not None or by is not None):
        method = "contributions"
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", FitWarning)
        report = studies.drivers(run, name, method, by_period, **options)
    for warning in caught:
        click.echo(f"kindynos: {warning.message}", err=True)
    return report
