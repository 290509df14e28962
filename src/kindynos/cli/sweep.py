"""``kindynos sweep``: a model over a grid of chosen values."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kindynos.cli.common import (
    Bar,
    OutcomeName,
    finish,
    json_option,
    model_argument,
    out_option,
    read_model,
    set_option,
    simulated,
)
from kindynos.errors import KindynosError


@click.command()
@model_argument
@click.option(
    "--over",
    "overs",
    multiple=True,
    required=True,
    metavar="NAME=VALUES",
    help="What to vary: LOW:HIGH:STEP or values with commas; repeatable. A driver's parameter is "
    "NAME.PARAMETER.",
)
@click.option(
    "--statistic",
    help="Simulate this instead of the base case: mean, 'percentile 5', 'chance above 0'.",
)
@click.option("--outcome", type=OutcomeName(), metavar="NAME", help="Only this outcome or line.")
@click.option(
    "--less-is-better",
    is_flag=True,
    help="Mark the lowest value as the best in pictures, whatever the model says.",
)
@simulated
@set_option
@out_option
@json_option
def sweep(
    file: Path,
    overs: tuple[str, ...],
    statistic: str | None,
    outcome: str | None,
    less_is_better: bool,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
    out: Path | None,
    as_data: bool,
) -> None:
    """Work out the model in FILE over every combination of values of given figures and drivers.

    \b
      kindynos sweep night_ferry.toml --over hurdle=0.05:0.11:0.015 --over fare=50,54,58
      kindynos sweep night_ferry.toml --over vessel.mode=18e6,20e6,22e6 --statistic "chance above 0"
      kindynos sweep night_ferry.toml --over fare=46:62:4 --statistic "percentile 5" --out results
    """
    from kindynos.reports import studies

    model = read_model(file, changes)
    values: dict[str, list[float]] = {}
    for over in overs:
        name, answer = read_values(over)
        if name in values:
            raise KindynosError(f"--over {over}: {name} is varied already")
        values[name] = answer
    with Bar("sweeping", "points") as progress:
        swept = model.sweep(
            values, statistic=statistic, outcome=outcome, **simulation, progress=progress
        )

    finish(studies.sweep(swept, less_is_better=less_is_better), out, as_data)


def read_values(text: str, option: str = "--over") -> tuple[str, list[float]]:
    """Return a name and its values; raises KindynosError for a text that is neither LOW:HIGH:STEP
    nor numbers.
    """
    name, equals, description = text.partition("=")
    try:
        if not equals or not description.strip():
            raise ValueError
        if ":" not in description:
            return name.strip(), [float(piece) for piece in description.split(",")]
        low, high, step = (float(piece) for piece in description.split(":"))
        if not (step > 0 and low <= high and (high - low) / step < 100_000):
            raise ValueError
    except ValueError:
        raise KindynosError(
            f"{option} {text}: say NAME=LOW:HIGH:STEP, such as hurdle=0.05:0.11:0.01, or NAME=1,2,3"
        ) from None
    count = int((high - low) / step + 1e-9) + 1
    return name.strip(), [float(f"{low + i * step:.12g}") for i in range(count)]
