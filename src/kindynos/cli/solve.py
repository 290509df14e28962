"""``kindynos solve``: the value of a figure that reaches a goal."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import model_argument, set_option, simulated
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import FIGURE, OutcomeName, Text, ends
from kindynos.errors import KindynosError
from kindynos.validate import raw_figure

if TYPE_CHECKING:
    from kindynos.reports.report import Report


GOALS = "--chance 'net_value > 0' --equals 0.9, --mean 0, --percentile 10 --equals 0, or --base 0"
CONDITION = re.compile(r"\s*([^<>=]*?)\s*([<>])=?\s*([^<>=]+)")


def _condition(text: str) -> tuple[str, str, float]:
    """Return the outcome, the side and the figure of a condition."""
    parts = CONDITION.fullmatch(text)
    if parts is None:
        raise ValueError(text)
    return parts[1], parts[2], raw_figure(parts[3].strip())


@click.command()
@model_argument
@click.argument("name")
@click.option(
    "--outcome",
    type=OutcomeName(),
    metavar="NAME",
    help="The outcome that has the goal; --chance names it itself.",
)
@click.option(
    "--within",
    required=True,
    type=Text(ends, "LOW:HIGH, such as --within 40:80"),
    metavar="LOW:HIGH",
    help="Where to seek.",
)
@click.option(
    "--chance",
    type=Text(
        _condition, "'NAME > FIGURE' with --equals, such as --chance 'profit > 0' --equals 0.9"
    ),
    metavar="CONDITION",
    help="The chance that is to reach --equals: 'net_value > 0', 'cost < 2e6'.",
)
@click.option("--mean", type=FIGURE, help="The mean to reach.")
@click.option(
    "--percentile", type=FIGURE, help="The percentile, from 0 to 100, that is to reach --equals."
)
@click.option(
    "--equals", type=FIGURE, help="What the chance, from 0 to 1, or the percentile is to be."
)
@click.option("--base", type=FIGURE, help="What the outcome is to be in the base case.")
@simulated
@set_option
@with_output
def solve(
    file: Path,
    name: str,
    outcome: str | None,
    within: tuple[float, float],
    chance: tuple[str, str, float] | None,
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
      kindynos solve night_ferry.toml fare --chance "net_value > 0" --equals 0.9 --within 40:80
      kindynos solve night_ferry.toml fare --outcome net_value --mean 0 --within 40:80
      kindynos solve night_ferry.toml vessel.mode --outcome net_value --percentile 20 \\
        --equals 0 --within 18e6:25e6
    """
    from kindynos.reports import studies

    if all(goal is None for goal in (chance, mean, percentile, base)):
        raise KindynosError(f"say what is to be reached: {GOALS}")
    goal: dict[str, Any] = {"outcome": outcome, "equals": equals}
    if chance is not None:
        goal = _of_condition(chance, outcome, equals)
    if goal["outcome"] is None:
        raise KindynosError("say --outcome, the outcome that has the goal")
    model = read_model(file, changes)
    with Bar("solving"):
        solution = model.solve(
            name, within=within, mean=mean, percentile=percentile, base=base, **goal, **simulation
        )

    return studies.goal(solution)


def _of_condition(
    chance: tuple[str, str, float], outcome: str | None, equals: float | None
) -> dict[str, Any]:
    """Return the goal that a condition has a chance."""
    stated, side, figure = chance
    if outcome not in (None, stated):
        raise KindynosError(f"--chance is of {stated} and --outcome {outcome}; leave one out")
    if equals is None:
        raise KindynosError("--chance needs --equals, what the chance is to be, such as 0.9")
    if not 0 <= equals <= 1:
        raise KindynosError(f"--equals {equals:g}: a chance is from 0 to 1, such as 0.9 or 90%")
    return {"outcome": stated, "chance": equals, "above" if side == ">" else "below": figure}
