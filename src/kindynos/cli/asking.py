"""The options that ask for more figures of each outcome than are usual."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from kindynos.cli.output import Command
from kindynos.cli.types import Text, numbers

if TYPE_CHECKING:
    from kindynos.results.figures import TableSpec


def table_options(command: Command) -> Command:
    """Add --percentiles, --statistic and --chance."""
    figure = (
        "Also report this figure of each outcome: skewness, kurtosis, mode, 'central_range 0.8', "
        "'survival 1e6', "
        "'conditional_mean below 0', 'expected_shortfall 0.95', ...; repeatable."
    )
    chance = (
        "Also report a chance, such as 'net_value > 1e6' or 'net_value < 0 and load < 0.5'; "
        "repeatable."
    )
    percentiles = "The percentiles to report, from 0 to 100, such as 1,25,75."
    command = click.option("--chance", "chances", multiple=True, metavar="TEXT", help=chance)(
        command
    )
    command = click.option("--statistic", "statistics", multiple=True, metavar="TEXT", help=figure)(
        command
    )
    return click.option(
        "--percentiles",
        type=Text(numbers, "numbers with commas between, such as 1,25,75"),
        metavar="Q,Q,...",
        help=percentiles,
    )(command)


def table_spec(
    percentiles: Sequence[float] | None,
    statistics: Sequence[str],
    chances: Sequence[str],
    outcomes: Sequence[str],
) -> TableSpec:
    """Return the figures that options ask for; raises KindynosError for a text that cannot be
    read.
    """
    from kindynos.results.figures import TableSpec

    if percentiles and all(0 < q < 1 for q in percentiles):
        told = ", ".join(f"{q:g}" for q in percentiles)
        meant = ", ".join(f"{100 * q:g}" for q in percentiles)
        click.echo(
            f"kindynos: percentiles go from 0 to 100: {told} is far out; did you mean {meant}?",
            err=True,
        )
    return TableSpec.of(percentiles, statistics, chances, outcomes)
