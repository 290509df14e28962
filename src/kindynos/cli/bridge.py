"""``kindynos bridge``: what changed since the last model, and what it did to a figure."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import drawn, price_file
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import WORKBOOKS, read_model
from kindynos.cli.risk import read_portfolio, unit_option
from kindynos.cli.types import (
    FIGURE,
    WHOLE,
    NameOption,
    OutcomeName,
    Text,
    Words,
    by_name,
    named,
    names,
)
from kindynos.errors import KindynosError
from kindynos.literals import RiskMethod

if TYPE_CHECKING:
    from kindynos.reports.report import Report


@click.command()
@click.argument("old", type=click.Path(path_type=Path))
@click.argument("new", type=click.Path(path_type=Path))
@click.option(
    "--outcome",
    type=OutcomeName(),
    metavar="NAME",
    help="The outcome; default: the first. Of workbooks also a cell, such as 'Summary!C20'.",
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
@click.option(
    "--prices",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Of value at risk: the prices; OLD and NEW are then tables of holdings.",
)
@click.option("--before", metavar="DATE", help="With --prices: the date of the holdings in OLD.")
@click.option(
    "--level", type=FIGURE, default=0.99, show_default=True, help="With --prices: the level."
)
@click.option(
    "--window",
    type=WHOLE,
    help="With --prices: the periods of the history before each date; default: all.",
)
@click.option(
    "--method",
    cls=NameOption,
    type=Words(RiskMethod),
    help="With --prices: {names}, but for the last; default: the one that `kindynos risk` reports.",
)
@click.option(
    "--horizon",
    type=WHOLE,
    default=1,
    show_default=True,
    help="With --prices: the horizon in periods.",
)
@unit_option
@price_file
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
    prices: Path | None,
    before: str | None,
    level: float,
    window: int | None,
    method: RiskMethod | None,
    horizon: int,
    unit: str,
    layout: dict[str, Any],
    draws: dict[str, Any],
) -> Report:
    """Say what changed from the model in OLD to that in NEW, and how much of the change of a figure
    each change explains. Both are model files, workbooks, runs saved with `kindynos run --save`, or
    folders of results (--out) whose model is as it was; with --prices and --before two tables of
    holdings, and the figure is value at risk.

    \b
      kindynos bridge night_ferry_last_year.toml night_ferry.toml --changes
      kindynos bridge night_ferry_last_year.toml night_ferry.toml --statistic "chance below 0"
      kindynos bridge night_ferry_last_year.toml night_ferry.toml --order load,fare --out results
      kindynos bridge treasury_holdings_november.csv treasury_holdings.csv \\
        --prices treasury_prices.csv --before 2027-11-26
    """
    if prices is not None or before is not None:
        figure = {"level": level, "window": window, "method": method, "horizon": horizon}
        return _of_holdings(old, new, prices, before, figure, unit, layout, draws)
    from kindynos.model.bridging import bridge as bridge_of
    from kindynos.model.bridging import list_changes
    from kindynos.reports.bridges import bridge_report, changes_report

    cell = outcome is not None and "!" in outcome  # of both workbooks
    sides = [_side(path, [str(outcome)] if cell else []) for path in (old, new)]
    outcome = None if cell else outcome
    if list_only:
        return changes_report(*list_changes(sides[0], sides[1]))
    with Bar("mixing", "mixtures") as progress:
        bridged = bridge_of(
            sides[0],
            sides[1],
            outcome,
            statistic,
            order,
            groups or None,
            **draws,
            progress=progress,
        )
    return bridge_report(bridged)


def _of_holdings(
    old: Path,
    new: Path,
    prices: Path | None,
    before: str | None,
    figure: dict[str, Any],
    unit: str,
    layout: dict[str, Any],
    draws: dict[str, Any],
) -> Report:
    """Return what moved value at risk from old holdings on a date to new ones today."""
    from kindynos.markets.holdings import read_holdings
    from kindynos.reports.bridges import bridge_report
    from kindynos.sampling.streams import checked_seed

    if prices is None or before is None:
        missing = "--prices FILE" if prices is None else "--before DATE"
        raise KindynosError(f"value at risk of two dates needs {missing} too")
    both = [*read_holdings(old).columns, *read_holdings(new).columns]
    later = read_portfolio(prices, new, None, "drop", both, layout, unit=unit)
    earlier = read_portfolio(prices, old, None, "drop", both, layout, before, unit)
    with Bar("drawing histories again"):
        return bridge_report(later.bridge(earlier, seed=checked_seed(draws["seed"]), **figure))


def _side(path: Path, cells: Sequence[str]) -> Any:
    """Return what a side of a bridge is: a saved run, a model, or the model of a folder of results,
    if it is as it was.
    """
    if path.is_dir():
        return _side(_model_behind(path), cells)
    return path if path.suffix == ".parquet" else read_model(path, cells={"outcomes": cells})


def _model_behind(folder: Path) -> Path:
    """Return the model file that a folder of results was made from; raises KindynosError for one
    that has changed since.
    """
    from kindynos.reports.manifest import read_manifest
    from kindynos.sources import checksum

    files = read_manifest(folder)[0].get("origin", {}).get("files", {})
    for name, stated in files.items() if isinstance(files, dict) else ():
        path = Path(name)
        if path.suffix.lower() not in (".toml", *WORKBOOKS):
            continue
        for there in (path, folder / path.name, folder.parent / path.name):
            # a stranger's folder does not decide what is read elsewhere
            near = any(
                there.resolve().is_relative_to(root.resolve())
                for root in (Path.cwd(), folder.parent)
            )
            if near and there.is_file() and checksum(there) == stated:
                return there
        raise KindynosError(
            f"{folder} was made from {name}, which has changed since or is gone; save a run with "
            "--save to compare with it later"
        )
    raise KindynosError(f"{folder} holds no results of a model")
