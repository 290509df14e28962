"""``kindynos bridge``: what changed since the last model, and what it did to a figure."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kindynos.cli.common import Bar, OutcomeName, drawn, finish, json_option, out_option, read_model
from kindynos.errors import KindynosError


@click.command()
@click.argument("old", type=click.Path(path_type=Path))
@click.argument("new", type=click.Path(path_type=Path))
@click.option(
    "--outcome", type=OutcomeName(), metavar="NAME", help="The outcome; default: the first."
)
@click.option(
    "--statistic",
    default="mean",
    show_default=True,
    metavar="TEXT",
    help="The figure: mean, sd, 'percentile 5', 'chance below 0'; chance alone is that of missing "
    "the target.",
)
@click.option(
    "--order",
    metavar="NAME,...",
    help="Make the changes in this order; default: the mean over all orders.",
)
@click.option(
    "--group", "groups", multiple=True, metavar="NAME=A,B", help="Take several changes as one."
)
@click.option("--changes", "list_only", is_flag=True, help="Only list what changed, without a run.")
@drawn
@out_option
@json_option
def bridge(
    old: Path,
    new: Path,
    outcome: str | None,
    statistic: str,
    order: str | None,
    groups: tuple[str, ...],
    list_only: bool,
    draws: dict[str, Any],
    out: Path | None,
    as_data: bool,
) -> None:
    """Say what changed from the model in OLD to that in NEW, and how much of the change of a figure
    each change explains. Both are model files or runs saved with `kindynos run --save`.

    \b
      kindynos bridge night_ferry_last_year.toml night_ferry.toml --changes
      kindynos bridge night_ferry_last_year.toml night_ferry.toml --statistic "chance below 0"
      kindynos bridge night_ferry_last_year.toml night_ferry.toml --order load,fare --out results
    """
    from kindynos.model.bridging import bridge as bridge_of
    from kindynos.model.bridging import list_changes
    from kindynos.reports.bridges import bridge_report, changes_report

    sides = [_side(path) for path in (old, new)]
    if list_only:
        finish(changes_report(*list_changes(sides[0], sides[1])), out, as_data)
        return
    grouped = dict(_group(text) for text in groups)
    with Bar("mixing", "mixtures") as progress:
        answer = bridge_of(
            sides[0],
            sides[1],
            outcome,
            statistic,
            None if order is None else _names(order),
            grouped or None,
            **draws,
            progress=progress,
        )
    finish(bridge_report(answer), out, as_data)


def _side(path: Path) -> Any:
    return path if path.suffix == ".parquet" else read_model(path)


def _names(text: str) -> list[str]:
    return [name.strip() for name in text.split(",") if name.strip()]


def _group(text: str) -> tuple[str, list[str]]:
    name, equals, members = text.partition("=")
    if not equals or not _names(members):
        raise KindynosError(f"--group {text}: say NAME=A,B, such as market=fare,load")
    return name.strip(), _names(members)
