"""The answer first: what a result says, in one to three plain sentences made from its figures,
which claim no more than their errors allow.
"""

from __future__ import annotations

import math
from functools import singledispatch
from typing import Any

from kindynos.errors import KindynosError
from kindynos.formatting import brief, is_per_cent, number, per_cent, share_decimals, step_of
from kindynos.inference.estimates import Estimate
from kindynos.reports import lumps
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.sensitivity.methods import usual_method
from kindynos.studies.comparison import Comparison

MOST_SCENARIOS = 4  # that are told beside the first
MOST_OUTCOMES = 2  # that are told; the tables have all
MOST = 0.5  # share of the variance from which on a driver decides most of it
LARGE = 1e6


@singledispatch
def answer(result: Any) -> list[str]:
    """Return what a result says, a sentence each; of one without an answer of its own none."""
    return []


@answer.register
def _(run: Run) -> list[str]:
    names = [name for name in run.outcomes if not run[name].is_row]
    said = [outcome_sentence(run, name) for name in names[:MOST_OUTCOMES]]
    if not names:
        said += [row_sentence(run, name) for name in run.outcomes[:MOST_OUTCOMES]]
    if names:
        said += driver_sentence(run, names[0])
    return said


@answer.register
def _(compared: Comparison) -> list[str]:
    """Say of the first outcome how each scenario differs on average from the first."""
    first = compared.scenarios[0]
    run = compared.runs[first]
    if not isinstance(run, Run):
        return []
    numbers = [name for name in compared.outcomes if not lumps.is_condition(run, name)]
    if not numbers or len(compared.scenarios) < 2:
        return []
    name = numbers[0]
    rows = compared.differences().xs((name, "mean"), level=("outcome", "statistic"))
    differ, alike = [], []
    for scenario, value, low, high in zip(
        rows.index, rows["difference"], rows["low"], rows["high"], strict=True
    ):
        if low <= 0 <= high or value != value:
            alike.append(str(scenario))
            continue
        size = Estimate(abs(value), min(abs(low), abs(high)), max(abs(low), abs(high)))
        way = "more" if value > 0 else "less"
        differ.append(f"{amount(size, run[name].unit)} {way} with {scenario}")
    words = name.replace("_", " ")
    said = []
    if differ:
        listed = ", ".join(differ[:MOST_SCENARIOS])
        said.append(f"{words[:1].upper()}{words[1:]} is on average {listed}, than {first}.")
    if alike:
        said.append(f"On average {', '.join(alike[:6])} cannot be told apart from {first}.")
    return said


def row_sentence(run: Run, name: str) -> str:
    """Return what a run says of a row: what it is on average in its first and its last period."""
    result = run.row(name)
    words = name.replace("_", " ")
    ends = [f"{amount(result.mean[k], result.unit)} in {result.labels[k]}" for k in (0, -1)]
    return f"{words[:1].upper()}{words[1:]} is on average {' and '.join(ends)}."


def outcome_sentence(run: Run, name: str) -> str:
    """Return what a run says of an outcome: what it is on average, and how likely it is on the side
    of its target that hurts.
    """
    result = run[name]
    words = name.replace("_", " ")
    subject = f"{words[:1].upper()}{words[1:]}"
    if result.n_failed == result.size:
        return f"{subject} has no value in any trial."
    if lumps.is_condition(run, name):
        return f"{subject} is true {_chance(result.chance(above=0.5))}."
    mean = result.mean
    lacking = ""
    if result.n_failed:
        lacking = f"; {per_cent(result.n_failed / result.size)} of the trials have no value"
    if not math.isfinite(float(mean)):
        return f"{subject} has a median of {amount(result.median, result.unit)}{lacking}."
    said = f"{subject} is {amount(mean, result.unit)} on average"
    return f"{said}{_beside(result)}{lacking}."


def _beside(result: Result) -> str:
    if result.target is None:
        low, high = result.central_range(0.8)
        ends = f"{amount(low, None)} and {amount(high, result.unit)}"
        return f"; 80 % of the trials lie between {ends}"
    target = amount(Estimate(float(result.target)), result.unit)
    side, chance = (
        ("below", result.chance(below=result.target))
        if result.better == "high"
        else ("above", result.chance(above=result.target))
    )
    return f"; {_chance(chance)} it is {side} {target}"


def _chance(chance: Estimate) -> str:
    """Return a chance in words, with its error."""
    decimals = share_decimals([chance.error])
    value = f"{100 * chance:.{decimals}f} %"
    if chance.error != chance.error:
        return f"with a chance of {value}"
    return f"with a chance of {value} (± {100 * chance.error:.{decimals}f})"


def amount(figure: Any, unit: str | None) -> str:
    """Return a figure with its unit, large ones in millions, to three digits or what its error
    leaves.

    >>> amount(Estimate(6_794_213.0, 6_760_000.0, 6_828_000.0), "EUR")
    '6.79 million EUR'
    """
    times = 100.0 if is_per_cent(unit) else 1.0
    value, error = times * float(figure), times * float(getattr(figure, "error", math.nan))
    after = f" {unit}" if unit else ""
    if not math.isfinite(value):
        return number(value)
    scale, word = (LARGE, " million") if abs(value) >= LARGE else (1.0, "")
    shown = value / scale
    digits = 10.0 ** (math.floor(math.log10(abs(shown))) - 2) if shown else 1.0
    step = step_of(error / scale) if error == error else None
    if step is not None:
        digits = max(digits, step)
    if step is None:  # exact
        return f"{brief(shown)}{word}{after}"
    return f"{number(shown, digits)}{word}{after}"


def driver_sentence(run: Run, name: str) -> list[str]:
    """Return which driver decides most of an outcome, where one can be told from the others."""
    if not run.drivers or usual_method(run) == "contributions" or float(run[name].sd) == 0:
        return []
    try:
        ranking = run.sensitivity(name)
    except KindynosError:
        return []
    shares = ranking["first-order share"].clip(0, 1)
    ordered = shares.sort_values(ascending=False)
    first = str(ordered.index[0])
    share = float(ordered.iloc[0])
    error = float(ranking["error of share"].loc[first])
    words = first.replace("_", " ")
    if error == error and share - error > MOST:
        named = name.replace("_", " ")
        decider = f"{words[:1].upper()}{words[1:]}"
        return [f"{decider} decides most of the {named} ({100 * share:.0f} %)."]
    if len(ordered) > 1:
        second = str(ordered.index[1]).replace("_", " ")
        named = name.replace("_", " ")
        return [f"The {named} depends most on {words} and {second}."]
    return []
