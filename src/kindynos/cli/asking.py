"""The options that ask for more figures of each outcome than are usual."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from kindynos.cli.common import Command, Numbers
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.results.sheet import TableSpec


def table_options(command: Command) -> Command:
    """Add --percentiles, --statistic and --chance."""
    figure = (
        "Also report this figure of each outcome: skewness, kurtosis, mode, 'central_range 0.8', "
        "'survival 1e6', "
        "'conditional_mean below 0', 'expected_shortfall 0.95', ...; repeatable."
    )
    chance = "Also report a chance, such as 'net_value > 1e6'; repeatable."
    percentiles = "The percentiles to report, from 0 to 100, such as 1,25,75."
    command = click.option("--chance", "chances", multiple=True, metavar="TEXT", help=chance)(
        command
    )
    command = click.option("--statistic", "statistics", multiple=True, metavar="TEXT", help=figure)(
        command
    )
    return click.option(
        "--percentiles", type=Numbers("1,25,75"), metavar="Q,Q,...", help=percentiles
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
    from kindynos.results.sheet import PERCENTILES, TableSpec
    from kindynos.results.statistic_text import central_coverage, parse_statistic

    wanted = PERCENTILES if percentiles is None else tuple(percentiles)
    if not all(0 <= q <= 100 for q in wanted):
        raise KindynosError(
            "--percentiles: say numbers from 0 to 100 with commas between, such as 1,25,75"
        )
    for text in statistics:
        if central_coverage(text) is None:
            parse_statistic(text)
    found: dict[str, tuple[str, ...]] = {}
    for text in chances:
        parts = re.fullmatch(r"\s*(\w+)\s*(>|<|=|==)\s*(\S+)\s*", text)
        sides = {">": "above", "<": "below", "=": "at", "==": "at"}
        try:
            name, statistic = (
                (parts[1], f"chance {sides[parts[2]]} {float(parts[3]):.12g}")
                if parts
                else ("", "")
            )
        except ValueError:
            name = ""
        if not name:
            raise KindynosError(
                f"--chance {text!r}: say an outcome, > or <, and a number, such as "
                "'net_value > 1e6'"
            )
        if name not in outcomes:
            raise KindynosError(
                f"--chance {text!r}: no outcome {name!r}", unknown=name, known=outcomes
            )
        found[name] = (*found.get(name, ()), statistic)
    return TableSpec(wanted, tuple(statistics), found)
