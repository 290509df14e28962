"""``kindynos bridge``: what changed since the last model, and what it did to a figure."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import drawn
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import OutcomeName, Text, by_name, named, names

if TYPE_CHECKING:
    from kindynos.reports.report import Report


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
    type=Text(names, "NAME,NAME"),
    metavar="NAME,...",
    help="Make the changes in this order; default: the mean over all orders.",
)
@click.option(
    "--group",
    "groups",
    type=Text(named(names), "NAME=A,B, such as market=fare,load"),
    callback=by_name,
    multiple=True,
    metavar="NAME=A,B",
    help="Take several changes as one.",
)
@click.option("--changes", "list_only", is_flag=True, help="Only list what changed, without a run.")
@drawn
@with_output
def bridge(
    old: Path,
    new: Path,
    outcome: str | None,
    statistic: str,
    order: list[str] | None,
    groups: dict[str, list[str]],
    list_only: bool,
    draws: dict[str, Any],
) -> Report:
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
        return changes_report(*list_changes(sides[0], sides[1]))
    with Bar("mixing", "mixtures") as progress:
        answer = bridge_of(
            sides[0],
            sides[1],
            outcome,
            statistic,
            order,
            groups or None,
            **draws,
            progress=progress,
        )
    return bridge_report(answer)


def _side(path: Path) -> Any:
    return path if path.suffix == ".parquet" else read_model(path)
