"""Options that several commands share, in groups that a command gets as one argument."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Any, cast

import click

from kindynos.cli.output import Command
from kindynos.cli.types import FIGURE, PLANS, WHOLE, NameOption, Text, Words, by_name, named
from kindynos.errors import KindynosError
from kindynos.literals import ReturnPeriod, Spacing
from kindynos.results.options import HELP, SimulationOptions, options_of
from kindynos.validate import raw_figure

PATIENT = 10  # seconds in which a cluster must answer

model_argument = click.argument("file", type=click.Path(path_type=Path))
set_option = click.option(
    "--set",
    "changes",
    multiple=True,
    metavar="NAME=VALUE",
    help="Replace a given figure, fix a driver at a value (or one per period: 1,2,3), set a "
    "parameter of its distribution or process "
    "(vessel.mode=18e6, fuel.volatility=0.3), or change the number of periods (periods=25); "
    "repeatable.",
)
study_cost_option = click.option(
    "--study-cost",
    "costs",
    type=Text(named(raw_figure), "NAME=AMOUNT, such as demand=200_000"),
    callback=by_name,
    multiple=True,
    metavar="NAME=AMOUNT",
    help="What it costs to find a quantity out before choosing (or two: 'fuel and demand'), in the "
    "units of the outcome: says whether the study pays; repeatable.",
)
whole_option = click.option(
    "--whole",
    is_flag=True,
    help="Show every period of the sheet, not the first and the last, and all rows.",
)


def _option_group(group: str, *options: Callable[[Any], Any]) -> Callable[[Command], Command]:
    """Return what adds several options, which the command gets by name in one argument, ``group``;
    the first is the last in its help.
    """

    def add(command: Command) -> Command:
        @wraps(command)
        def call(*arguments: Any, **given: Any) -> Any:
            gathered = {name: given.pop(name) for name in names}
            return command(*arguments, **{group: gathered}, **given)

        before = len(getattr(command, "__click_params__", ()))
        for option in options:
            option(call)
        names = [parameter.name for parameter in cast(Any, call).__click_params__[before:]]
        return cast(Command, call)

    return add


def _cluster(ctx: click.Context, param: click.Parameter, address: str | None) -> Any:
    """Return the executor of a cluster, which is left when the command ends."""
    if address is None:
        return None
    try:
        from distributed import Client
    except ImportError:
        raise KindynosError(
            "--cluster needs Dask's scheduler: pip install 'kindynos[cluster]'"
        ) from None
    where = {"scheduler_file": address} if Path(address).is_file() else {"address": address}
    try:
        kind: Any = Client
        client = ctx.with_resource(kind(**where, timeout=PATIENT))
    except (OSError, TimeoutError, ValueError) as error:
        raise KindynosError(
            f"no cluster answers at {address} ({type(error).__name__}); say the address that its "
            "scheduler shows, such as tcp://10.0.0.5:8786, or its scheduler file"
        ) from None
    return client.get_executor()


def _from_field(name: str) -> Callable[[Any], Any]:
    """Return the option of the command line for a field of ``SimulationOptions``."""
    stated = options_of(SimulationOptions)[name]
    own: dict[str, Any] = {"type": FIGURE if "float" in stated.type else WHOLE}
    if name == "sampling":
        own = {"type": Words(PLANS), "cls": NameOption}
    return click.option(
        f"--{name.replace('_', '-')}",
        default=stated.default,
        show_default=stated.default is not None,
        help=HELP[name],
        **own,
    )


# the options of draws, and those of a whole simulation: what the class of options offers
DRAWS = ("sampling", "seed", "trials")
drawn = _option_group("draws", *map(_from_field, DRAWS))


simulated = _option_group(
    "simulation",
    click.option(
        "--cluster",
        "executor",
        callback=_cluster,
        metavar="ADDRESS",
        help="Run on the workers of a cluster: the address of its scheduler, or its scheduler "
        "file. The answer is the same.",
    ),
    *(_from_field(name) for name in HELP if name not in DRAWS),
    *map(_from_field, DRAWS),
)


# the options of a series in a table
series_options = _option_group(
    "series",
    click.option(
        "--season",
        type=WHOLE,
        help="Periods of one season, 0 for none; default: 12 for months and 4 for quarters.",
    ),
    click.option(
        "--spacing",
        "every",
        type=Words(Spacing),
        help="How far apart the dates are: day, working-day, week, month, quarter or year.",
    ),
    click.option(
        "--dates",
        metavar="NAME",
        help="The column of dates of a series; default: the first that holds such.",
    ),
    click.option(
        "--column",
        metavar="NAME",
        help="The column of records; may be left out where there is one beside the dates.",
    ),
)


# the options of how a file of a table is laid out
TABLE_OPTIONS = (
    click.option(
        "--decimal",
        type=click.Choice([".", ","]),
        help="The decimal sign; default: found from the cells.",
    ),
    click.option("--encoding", metavar="NAME", help="The encoding; default: found, with a note."),
    click.option(
        "--header",
        type=WHOLE,
        metavar="ROW",
        help="The row with the names of the columns, 0 for none; default: found.",
    ),
    click.option("--sheet", metavar="NAME", help="The sheet of a workbook; default: the first."),
)


table_file = _option_group("layout", *TABLE_OPTIONS)


# the time over which returns are taken
every_option = click.option(
    "--every",
    cls=NameOption,
    type=Words(ReturnPeriod),
    help="Take returns over a {names}; default: from one date of PRICES to the next.",
)


def _split(text: str) -> tuple[str, str, str]:
    """Return the instrument, the ratio and the date of a split."""
    name, ratio_and_date = named(str)(text)
    ratio, date = ratio_and_date.split("@")
    return name, ratio.strip(), date.strip()


def _by_instrument(
    ctx: click.Context, param: click.Parameter, splits: tuple[tuple[str, str, str], ...]
) -> dict[str, dict[str, str]]:
    """Return the ratios of splits by instrument and date."""
    ratios: dict[str, dict[str, str]] = {}
    for name, ratio, date in splits:
        ratios.setdefault(name, {})[date] = ratio
    return ratios


def _dividends_in(
    ctx: click.Context, param: click.Parameter, file: Path | None
) -> dict[str, dict[str, float]] | None:
    """Return the dividends of a table by instrument and date."""
    if file is None:
        return None
    from kindynos.markets.adjustments import read_dividends

    return read_dividends(file)


# the options of how a file of prices is laid out, and what its columns are
price_file = _option_group(
    "layout",
    *TABLE_OPTIONS,
    click.option(
        "--returns",
        "kind",
        is_flag=True,
        callback=lambda ctx, param, given: "returns" if given else "prices",
        help="PRICES has simple returns; prices that begin at 100 are made from them.",
    ),
    click.option(
        "--dates", metavar="NAME", help="The column of dates of PRICES; default: that called date."
    ),
    click.option(
        "--per-year",
        type=FIGURE,
        metavar="NUMBER",
        help="The dates in a year of a market that has its own number; default: found from the "
        "dates (252 days, or 365 where weekends have prices, 52 weeks, 12 months).",
    ),
    click.option(
        "--change",
        "changes",
        multiple=True,
        type=Text(named(str), "NAME=absolute"),
        callback=by_name,
        metavar="NAME=absolute",
        help="A column that changes by differences, such as a yield, and may be 0 or below; "
        "repeatable.",
    ),
    click.option(
        "--split",
        "splits",
        multiple=True,
        type=Text(_split, "NAME=RATIO@DATE, such as ferry=2:1@2027-03-04"),
        callback=_by_instrument,
        metavar="NAME=RATIO@DATE",
        help="A split of shares, such as ferry=2:1@2027-03-04; prices before are adjusted; "
        "repeatable.",
    ),
    click.option(
        "--dividends",
        type=click.Path(path_type=Path),
        callback=_dividends_in,
        metavar="FILE",
        help="A table with columns date (the first without it), instrument and amount: prices "
        "before are lowered by the share that it was. A column such as 'ferry total return' "
        "beside ferry needs none.",
    ),
    click.option(
        "--keep-suspicious",
        is_flag=True,
        help="Use prices that look wrong; default: they count as missing.",
    ),
)


missing_words_option = click.option(
    "--missing-word",
    "missing",
    multiple=True,
    metavar="WORD",
    help="A further word for a missing value, beside n/a, - and the like; repeatable.",
)


# which cells of a workbook are the answer, and which are drawn
cell_options = _option_group(
    "cells",
    click.option(
        "--accept-differences",
        is_flag=True,
        help="Of a workbook: go on where our value of an outcome is not the one stored in it.",
    ),
    click.option(
        "--driver",
        "drivers",
        multiple=True,
        metavar="[NAME=]CELL: DISTRIBUTION",
        help="Of a workbook: a cell that is drawn, with its distribution, the parameters in order "
        "and the unit, such as 'Price = Inputs!C4: pert 40 50 70 EUR/t'; repeatable.",
    ),
    click.option(
        "--outcome",
        "outcomes",
        multiple=True,
        metavar="[NAME=]CELL",
        help="Of a workbook: a cell to report on, such as 'Summary!C20', or with its name, unit "
        "and target 'NPV = Out!B1, EUR, at least 0'; repeatable.",
    ),
)
