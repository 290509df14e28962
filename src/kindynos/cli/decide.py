"""``kindynos decide``: choices between alternatives that play out differently."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kindynos.cli.common import FIGURE, WHOLE, Words, finish, json_option, out_option
from kindynos.errors import KindynosError
from kindynos.literals import DecisionRule

if TYPE_CHECKING:
    import pandas as pd


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--by",
    type=Words(DecisionRule),
    help="What counts: the mean, the certainty-equivalent of the utility, a percentile, or the "
    "expected-shortfall; default: the certainty-equivalent where the file states a tolerance of "
    "risk, else the mean.",
)
@click.option(
    "--level",
    type=FIGURE,
    help="Of the percentile (default: 0.05), or of the expected shortfall (default: 0.95).",
)
@click.option(
    "--switch",
    "ranges",
    multiple=True,
    metavar="NAME=LOW:HIGH",
    help="Find where the best alternative changes; repeatable.",
)
@click.option(
    "--trials", type=WHOLE, default=10_000, show_default=True, help="Draws of what is random."
)
@click.option(
    "--seed", type=WHOLE, default=1, show_default=True, help="A whole number that reproduces them."
)
@out_option
@json_option
def decide(
    file: Path,
    by: str | None,
    level: float | None,
    ranges: tuple[str, ...],
    trials: int,
    seed: int,
    out: Path | None,
    as_data: bool,
) -> None:
    """Solve a decision: the best alternative now and at every later choice, risk profiles, and what
    it is worth to know.

    \b
      kindynos decide lease_or_buy.toml
      kindynos decide lease_or_buy.toml --switch permit=0.05:0.95 --out results
      kindynos decide lease_or_buy.toml --by percentile --level 0.1
    """
    from kindynos.decisions.file import load_decision
    from kindynos.decisions.solve import CONSISTENT
    from kindynos.reports import decisions

    decision = load_decision(file)
    solution = decision.solve(by, level=level, trials=trials, seed=seed)
    options = {"by": by, "level": level, "trials": trials, "seed": seed}
    worth: pd.DataFrame | None = (
        decision.perfect_information(**options) if solution.by in CONSISTENT else None
    )
    tests = decision.worth_of_tests(**options) if solution.by in CONSISTENT else None
    switches = {
        name: decision.switchover_points(name, low, high, **options)
        for name, low, high in map(_range, ranges)
    }
    finish(decisions.decided(solution, worth, switches, tests), out, as_data)


def _range(text: str) -> tuple[str, float, float]:
    name, _, ends = text.partition("=")
    low, _, high = ends.partition(":")
    try:
        return name.strip(), float(low), float(high)
    except ValueError:
        raise KindynosError(
            f"--switch {text}: say NAME=LOW:HIGH, such as --switch permit=0.1:0.9"
        ) from None
