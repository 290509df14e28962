"""``kindynos decide``: choices between alternatives that play out differently."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import study_cost_option
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.cli.types import FIGURE, WHOLE, Text, Words, by_name, ends, named
from kindynos.errors import KindynosError
from kindynos.literals import DecisionRule

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.reports.report import Report


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
    "--percentile",
    type=FIGURE,
    help="The percentile that counts, from 0 to 100; default with --by percentile: 5.",
)
@click.option("--level", type=FIGURE, help="Of the expected shortfall; default: 0.95.")
@click.option(
    "--vary",
    "ranges",
    type=Text(named(ends), "NAME=LOW:HIGH, such as --vary permit=0.1:0.9"),
    callback=by_name,
    multiple=True,
    metavar="NAME=LOW:HIGH",
    help="Find where over this range the best alternative changes; repeatable.",
)
@click.option(
    "--trials", type=WHOLE, default=10_000, show_default=True, help="Draws of what is random."
)
@click.option(
    "--seed", type=WHOLE, default=1, show_default=True, help="A whole number that reproduces them."
)
@click.option(
    "--outcome",
    metavar="NAME",
    help="Of a model with choices: the outcome that they are made for; default: the first.",
)
@study_cost_option
@with_output
def decide(
    file: Path,
    by: str | None,
    percentile: float | None,
    level: float | None,
    ranges: dict[str, tuple[float, float]],
    outcome: str | None,
    costs: dict[str, float],
    trials: int,
    seed: int,
) -> Report:
    """Solve a decision: the best alternative now and at every later choice, risk profiles, and what
    it is worth to know. Of a model file with [choices] it says what choosing later is worth, by
    what is then known, and by which rules.

    \b
      kindynos decide lease_or_buy.toml
      kindynos decide lease_or_buy.toml --vary permit=0.05:0.95 --out results
      kindynos decide lease_or_buy.toml --percentile 10
      kindynos decide second_ferry.toml
      kindynos decide lease_or_buy.toml --study-cost demand=200_000
    """
    from kindynos.decisions.file import load_decision
    from kindynos.decisions.solve import CONSISTENT
    from kindynos.reports import decisions

    if _is_model(file):
        others: dict[str, Any] = {"--by": by, "--percentile": percentile, "--level": level}
        others |= {"--vary": ranges or None, "--study-cost": costs or None}
        return _policy(file, outcome, others, trials, seed)
    if outcome is not None:
        raise KindynosError("--outcome goes with a model that has [choices]")
    if percentile is not None:
        if by not in (None, "percentile") or level is not None:
            raise KindynosError("--percentile goes alone, or with --by percentile")
        if not 0 < percentile < 100:
            raise KindynosError(f"--percentile {percentile:g}: it lies between 0 and 100")
        by, level = "percentile", percentile / 100
    elif by == "percentile" and level is not None:
        raise KindynosError(f"write --percentile {100 * level:g} for --level {level:g}")
    decision = load_decision(file)
    solution = decision.solve(by, level=level, trials=trials, seed=seed)
    options: dict[str, Any] = {"by": by, "level": level, "trials": trials, "seed": seed}
    worth: pd.DataFrame | None = None
    if solution.by in CONSISTENT:
        worth = decision.perfect_information(study_cost=costs, **options)
    elif costs:
        raise KindynosError("--study-cost goes with --by mean or --by 'certainty equivalent'")
    tests = decision.worth_of_tests(**options) if solution.by in CONSISTENT else None
    switches = {
        name: decision.switchover_points(name, low, high, **options)
        for name, (low, high) in ranges.items()
    }
    return decisions.decided(solution, worth, switches, tests)


def _is_model(file: Path) -> bool:
    from kindynos.tables.toml import read_toml

    document = read_toml(file)
    return "model" in document and "decision" not in document


def _policy(
    file: Path, outcome: str | None, others: dict[str, Any], trials: int, seed: int
) -> Report:
    """Return what the choices of a model are worth."""
    from kindynos.reports.policy import policy_report

    given = next((name for name, value in others.items() if value is not None), None)
    if given is not None:
        raise KindynosError(f"{given} belongs to a decision file; {file.name} is a model")
    model = read_model(file)
    first = next(iter(model.compiled().outcomes)) if outcome is None else outcome
    with Bar("choosing") as progress:
        return policy_report(model.policy(first, trials=trials, seed=seed, progress=progress))
