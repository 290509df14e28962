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
    conditions = []
    for text in chances:
        parts = re.fullmatch(r"\s*(\w+)\s*(>|<|=|==)\s*([-+.\deE]+)\s*", text)
        if parts and parts[1] in outcomes:
            side = {">": "above", "<": "below"}.get(parts[2], "at")
            statistic = f"chance {side} {_number(text, parts[3]):.12g}"
            found[parts[1]] = (*found.get(parts[1], ()), statistic)
        else:
            conditions.append(_condition(text))
    return TableSpec(wanted, tuple(statistics), found, tuple(conditions))


def _number(text: str, number: str) -> float:
    try:
        return float(number)
    except ValueError:
        raise KindynosError(f"--chance {text!r}: {number!r} is not a number") from None


def _condition(text: str) -> str:
    """Return a condition that can be read; raises KindynosError for another text."""
    from kindynos.formula.parse import parse

    try:
        parse(text)
    except KindynosError as error:
        raise KindynosError(
            f"--chance {text!r}: {error}. Say for example 'net_value > 1e6' or 'net_value < 0 and "
            "load < 0.5'"
        ) from None
    return text
