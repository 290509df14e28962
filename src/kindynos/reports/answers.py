"""The answer first: what a result says, in one to three plain sentences made from its figures,
which claim no more than their errors allow.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import singledispatch
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.errors import KindynosError, RunError
from kindynos.formatting import (
    brief,
    heading,
    in_unit,
    is_time,
    number,
    per_cent,
    point_in_time,
    share_in_words,
    shown,
    spoken,
    step_of,
    threshold,
)
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import is_claimed
from kindynos.inference.sample import FEWEST
from kindynos.program.program import Program
from kindynos.reports import lumps
from kindynos.results.figures import TableSpec
from kindynos.results.result import Result, RowResult
from kindynos.results.run import Run
from kindynos.results.sensitivity.contributions import BASE
from kindynos.results.sensitivity.methods import usual_method
from kindynos.results.statistic_text import kind_of
from kindynos.results.statistics import percentile
from kindynos.results.summary_run import SummaryResult
from kindynos.studies.comparison import Comparison
from kindynos.studies.optimum import Optimum
from kindynos.studies.sweep import Sweep
from kindynos.tables.table import counted

if TYPE_CHECKING:
    from kindynos.decisions.solve import Solution
    from kindynos.markets.allocation.allocation import Allocation
    from kindynos.markets.backtesting import Backtest
    from kindynos.markets.outlook import Outlook
    from kindynos.model.model import Model
    from kindynos.results.read_trials import ReadTrials

SEEN = 0.005  # chance of a single value from which on a sentence says so
CHANCE_WORDS = {
    "chance above": "above {}",
    "chance below": "below {}",
    "chance at": "exactly {}",
    "survival": "above {}",
}
MOST_SCENARIOS = 4  # that are named beside the first
MOST_OUTCOMES = 2  # that are named; the tables have all
MOST_TIES = 3  # points of a sweep that are named beside the best
MOST_WEIGHTS = 4  # holdings that are named
MOST = 0.5  # share of the variance from which on a driver decides most of it
LARGE = 1e6
NOTABLE = 0.02  # error of a difference, relative to it, from which on a sentence has the interval
SHARES = (
    ("first-order share", "error of share"),
    ("share of variance", "error"),
    ("first order", "error"),
)


def opening(said: list[str], doubts: Sequence[RenderableType] = ()) -> list[RenderableType]:
    """Return sentences, and after them what speaks against them, as the first section."""
    sentences = [Text(" ".join(said), style="bold")] if said else []
    return [*sentences, *doubts, ""] if said or doubts else []


@singledispatch
def answer(result: Any) -> list[str]:
    """Return what a result says, a sentence each; of one without an answer of its own none."""
    return []


@answer.register
def _(run: Run) -> list[str]:
    names = [name for name in run.outcomes if not run[name].is_row]
    sentences = [outcome_sentence(run, name) for name in names[:MOST_OUTCOMES]]
    if not names:
        sentences += [row_sentence(run, name) for name in run.outcomes[:MOST_OUTCOMES]]
    if names:
        sentences += driver_sentence(run, names[0])
    return sentences


@answer.register
def _(compared: Comparison) -> list[str]:
    """Say of the first outcome which scenario is best and how sure that is, and how each differs
    on average from the first.
    """
    first = compared.scenarios[0]
    run = compared.runs[first]
    if not isinstance(run, Run):
        return []
    numbers = [name for name in compared.outcomes if not lumps.is_condition(run, name)]
    if not numbers or len(compared.scenarios) < 2:
        return []
    name = numbers[0]
    results = {
        scenario: one[name] for scenario, one in compared.runs.items() if isinstance(one, Run)
    }
    if any(np.isinf(one.values).any() for one in results.values()):
        return _never_by_scenario(results, name, lumps.may_be_never(run, name))
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
        differ.append(f"{amount(size, run[name].unit)} {way} with {scenario!r}")
    sentences = best_sentence(compared, name)
    if differ and len(compared.scenarios) > 2:
        listed = ", ".join(differ[:MOST_SCENARIOS]) + ("," if len(differ) > 1 else "")
        sentences.append(f"{heading(name)} is on average {listed} than with {first!r}.")
    if alike and differ:
        named = _listed([repr(scenario) for scenario in alike[:6]])
        sentences.append(f"On average {named} cannot be told apart from {first!r}.")
    return sentences


def _never_by_scenario(results: Mapping[str, Any], name: str, awaited: bool) -> list[str]:
    """Return how likely each scenario is never to come to an outcome, or to an infinite one."""
    listed = [
        f"{share_in_words(result.chance(at=math.inf))} with {scenario!r}"
        for scenario, result in list(results.items())[:MOST_SCENARIOS]
    ]
    verb = "never comes" if awaited else "is infinite"
    return [f"{heading(name)} {verb} with a chance of {_listed(listed)}."]


def best_sentence(compared: Comparison, name: str) -> list[str]:
    """Return which scenario has the best mean of an outcome, and how sure that is; nothing where
    fewer than two have one.
    """
    try:
        best = compared.best(name)
    except RunError:
        return []
    result = compared.result(compared.scenarios[0], name)
    size = amount(best.ahead, result.unit)
    error = best.ahead.error
    low, high = (
        amount(symmetrical(end, error), result.unit) for end in (best.ahead.low, best.ahead.high)
    )
    ends = f"{low.removesuffix(_unit_after(result.unit))} to {high}"
    if math.isnan(best.ahead):
        return []
    if float(best.ahead) == 0 and error == 0:
        return [f"The best mean is the same with {best.scenario!r} and {best.next_best!r}."]
    if not best.certain:
        doubt = f" (95 % interval {ends})" if error > 0 else ""
        return [
            f"Which is best on average cannot be told: {spoken(name)} differs by {size}"
            f"{doubt} between {best.scenario!r} and {best.next_best!r}."
        ]
    way = "lower" if result.better == "low" else "higher"
    doubt = f" (95 % interval {ends})" if error > NOTABLE * best.ahead else ""
    which = "any two trials" if not best.paired else "the trials"
    share = f", and {way} in {per_cent(best.better_in)} of {which}"
    named = spoken(name)
    return [
        f"Best on average is {best.scenario!r}: {named} is {size}{doubt} {way} than "
        f"with {best.next_best!r}{'' if math.isnan(best.better_in) else share}."
    ]


@answer.register
def _(swept: Sweep) -> list[str]:
    """Say where each output is highest and lowest, and what cannot be told from the highest."""
    sentences = []
    for name in swept.outputs[:MOST_OUTCOMES]:
        table: Any = swept.table().dropna(subset=[name])
        if len(table) >= 2 and np.isinf(table[name]).all():
            sentences.append(
                f"{heading(name)} ({swept.statistic.partition(',')[0]}) is infinite at each point; "
                "a chance, such as --statistic 'chance below 12', or a percentile can be compared."
            )
        if len(table) < 2 or table[name].nunique() < 2:
            continue
        highest, lowest = (
            table.loc[position] for position in (table[name].idxmax(), table[name].idxmin())
        )
        subject = f"{heading(name)} ({swept.statistic.partition(',')[0]})"
        behind = swept.behind(name)
        alike = behind[~behind["told apart"]].drop(index=swept.best(name).name)
        if len(alike) == len(table) - 1:
            sentences.append(f"{subject} cannot be told apart at the {len(table)} points.")
            continue
        most, least = (_at_point(swept, name, row) for row in (highest, lowest))
        sentences.append(f"{subject} is highest, {most}, and lowest, {least}.")
        if len(alike):
            end = "highest" if swept.more_is_better(name) else "lowest"
            points = [_listed(_where(swept, row)) for _, row in alike.iterrows()]
            which = _listed(points, "or") if len(points) <= MOST_TIES else f"{len(points)} points"
            sentences.append(f"At {which} it cannot be told apart from the {end}.")
    return sentences


def _at_point(swept: Sweep, name: str, row: Any) -> str:
    """Return an output at a point, and which it is."""
    units = swept.units
    error = 0.0 if swept.errors is None else float(row[f"{name} error"])
    value = float(row[name])
    figure = symmetrical(value, error)
    is_chance = kind_of(swept.statistic) == "share"
    shown = share_in_words(figure) if is_chance else amount(figure, units.get(name))
    return f"{shown}, at {_listed(_where(swept, row))}"


def _where(swept: Sweep, row: Any) -> list[str]:
    """Return the inputs of a point in words."""
    return [f"{spoken(at)} {amount(Estimate(row[at]), swept.units.get(at))}" for at in swept.inputs]


@answer.register
def _(optimum: Optimum) -> list[str]:
    """Say where the best is, what it is on fresh draws, and which constraints are not surely
    kept.
    """
    units = optimum.units or {}
    where = [
        f"{spoken(name)} {amount(value, units.get(name))}"
        for name, value in optimum.decisions.items()
    ]
    is_chance = kind_of(optimum.what) == "share"
    shown = (
        share_in_words(optimum.objective) if is_chance else amount(optimum.objective, optimum.unit)
    )
    side = "highest" if optimum.maximize else "lowest"
    tried = "" if optimum.tried_all else f" of {len(optimum.evaluations):,} points tried"
    sentences = [
        f"The {spoken(optimum.what)} is {side}{tried}, {shown} on fresh draws, at {_listed(where)}."
    ]
    for row in optimum.constraints().to_dict("records"):
        if row["kept"] == "no":
            sentences.append(f"Fresh draws break the constraint {row['constraint']}.")
        elif row["kept"] == "perhaps":
            sentences.append(f"Whether it keeps the constraint {row['constraint']} cannot be told.")
    return [*sentences, *_surely_kept(optimum, is_chance)]


def _surely_kept(optimum: Optimum, is_chance: bool) -> list[str]:
    """Return the best decisions that keep the constraints for certain, in a sentence."""
    inside = optimum.inside
    if inside is None:
        return []
    units = optimum.units or {}
    where = _listed(
        [
            f"{spoken(name)} {amount(Estimate(value), units.get(name))}"
            for name, value in inside.decisions.items()
        ]
    )
    objective = inside.objective
    worth = share_in_words(objective) if is_chance else amount(objective, optimum.unit)
    figures = [
        f"{spoken(constraint.figure.label)} is {share_in_words(figure)}"
        for (constraint, *_), figure in zip(optimum.limits, inside.figures, strict=True)
        if constraint.figure.statistic.kind == "share"
    ]
    kept = f" ({_listed(figures)})" if figures else ""
    return [f"At {where} it is kept for certain{kept}, and the {spoken(optimum.what)} is {worth}."]


def decision_answer(solution: Solution, switches: Mapping[str, pd.DataFrame]) -> list[str]:
    """Return what a solved decision says: the best alternative, by how much and how often it
    loses, and where another is better.
    """
    table: Any = solution.table()
    unit = solution.decision.unit
    costs = solution.rolling.sign < 0
    rule, _, caution = solution.words.partition("; ")
    order = table["value"].sort_values(ascending=costs).index
    best, *others = (str(name) for name in order)
    sentences = []
    if others:
        second = others[0]
        gap = solution.lead(best, second)
        if float(gap) > 0 and is_claimed(float(gap), gap.error):
            size = amount(gap, unit)
            lead = f"{heading(best)} is best {rule}, by {size} over {second}"
        else:
            lead = f"{heading(best)} and {second} cannot be told apart {rule}"
    else:
        lead = f"{heading(best)} is the only alternative"
    if not costs:
        loses = per_cent(float(table.loc[best, "chance below 0"]))
        lead += f"; {spoken(best)} ends below 0 in {loses} of cases"
    sentences.append(f"{lead}.")
    sentences += [f"{heading(caution)}."] if caution else []
    for name, switchover in switches.items():
        for _, row in switchover.iterrows():
            sentences.append(
                f"Where {spoken(name)} is below {brief(float(f'{row[name]:.3g}'))}, "
                f"{row['best below']} is best; above, {row['best above']}."
            )
    return sentences


def allocation_answer(allocation: Allocation) -> list[str]:
    """Return the largest of the best weights in a sentence."""
    weights: Any = allocation.contributions()["weight, best"]
    weights = weights[weights.abs() >= 0.0005]  # what prints as 0.0 % is not held
    order = weights.abs().sort_values(ascending=False, kind="stable").index
    shares = [f"{100 * weights[name]:.1f} % {name}" for name in order[:MOST_WEIGHTS]]
    rest = order[MOST_WEIGHTS:]
    if len(rest):
        shares.append(f"{100 * weights[rest].sum():.1f} % in {len(rest)} more")
    requested = allocation.wanted
    return [f"{requested[:1].upper()}{requested[1:]} is reached with {_listed(shares)}."]


def backtest_answer(hardest: pd.Series, rejected: float, days: int, unit: str) -> list[str]:
    """Return which methods their hardest test rejects, with a p-value below ``rejected``."""
    doubted = [str(name) for name, p in hardest.items() if p < rejected]
    rest = [str(name) for name in hardest.index if name not in doubted]
    over = f"Over {days:,} {unit}s"
    if not doubted:
        return [f"{over} no test speaks against {_listed(rest, 'or')}."]
    verdict = f"{over} some test speaks against {_listed(doubted)} (p below {rejected:.2g})"
    return [
        f"{verdict}; none against {_listed(rest, 'or')}." if rest else f"{verdict}, which is all."
    ]


def exceptions_sentence(tested: Backtest) -> str:
    """Return how often losses were beyond the forecasts of a method, beside how often they should
    be.
    """
    method = f" of the method {tested.method}" if tested.window else " that was recorded"
    return (
        f"Losses were beyond the value at risk{method} on "
        f"{tested.exceptions} of {tested.days:,} {tested.unit}s; {tested.expected:.1f} are "
        f"expected of right forecasts. The supervisors' zone is {tested.zone}."
    )


def paths_answer(name: str, outlook: Outlook, span: str, today: float) -> list[str]:
    """Return where a price may end, and how likely the levels asked for are."""
    figures = outlook.figures
    middle, low, high = (brief(float(f"{figures[key]:.3g}")) for key in ("P50", "P5", "P95"))
    sentences = [
        f"After {span} the price of {name} is {middle} in the middle and between {low} and {high} "
        f"on 90 % of paths; today it is {brief(today)}."
    ]
    for row in outlook.rows():
        if row["what"].startswith("ending"):
            ends = f"{per_cent(row['low'])} to {per_cent(row['high'])}"
            error = (
                ""
                if math.isnan(row["low"])
                else f"; after so short a history it may be anything from {ends}"
            )
            sentences.append(f"The chance of {row['what']} is {per_cent(row['value'])}{error}.")
    return sentences


def model_answer(model: Model) -> list[str]:
    """Return what the outcomes of a model are in its base case, and how much of it is uncertain."""
    program = model.compiled()
    counts = [
        counted(len(program.givens), "given figure"),
        counted(len(program.drivers), "driver"),
        counted(len(program.lines) - len(program.outcomes), "line"),
        counted(len(program.outcomes), "outcome"),
    ]
    sentences = [f"{model.name}: {_listed([text for text in counts if text[0] != '0'])}."]
    base: Any = model.base_case()
    numbers = [
        f"{spoken(name)} is {_in_base(program, name, float(base.loc[name, 'value']))}"
        for name in program.outcomes
        if name in base.index and math.isfinite(float(base.loc[name, "value"]))
    ]
    if numbers:
        sentences.append(f"In the base case {_listed(numbers[:MOST_OUTCOMES])}.")
    return sentences


def _in_base(program: Program, name: str, value: float) -> str:
    """Return the value of an outcome in the base case; of a condition whether it holds."""
    if lumps.is_truth(program, name):
        return "true" if value else "false"
    return _at(value, program.unit(name))


def _at(value: float, unit: str | None) -> str:
    """Return a figure with its unit; a point in time as people write it."""
    return point_in_time(value, unit) if is_time(unit) else amount(value, unit)


def read_answer(read_trials: ReadTrials, names: list[str]) -> list[str]:
    """Return what columns of trials are on average, and where nine tenths of them lie."""
    sentences = []
    for name in names[:MOST_OUTCOMES]:
        result = read_trials[name]
        if not math.isfinite(float(result.mean)):
            continue
        where = range_sentence(result, 90, f"{read_trials.size:,} trials")
        sentences.append(
            f"{heading(name)} is {amount(result.mean, result.unit)} on average; {where}."
        )
    return sentences


def trial_answer(run: Run, sheets: pd.DataFrame, outcome: str | None) -> list[str]:
    """Return what an outcome is in single trials, and its place among all trials."""
    if outcome is None:
        return []
    result, sentences = run[outcome], []
    for trial in sheets.index.get_level_values("trial").unique()[:MOST_OUTCOMES]:
        value = float(sheets.loc[(trial, outcome), "value"])
        if not math.isfinite(value):
            sentences.append(f"In trial {trial:,} {spoken(outcome)} has no value.")
            continue
        share = float(np.mean(np.asarray(result.values) < value))
        sentences.append(
            f"In trial {trial:,} {spoken(outcome)} is {amount(value, result.unit)}; "
            f"{per_cent(share, 0)} of the trials are below it."
        )
    return sentences


def contribution_sentence(name: str, table: pd.DataFrame) -> list[str]:
    """Return what contributes most to the spread of an outcome, or the first two where they cannot
    be told apart.
    """
    shares: Any = table.drop(index=BASE, errors="ignore").sort_values("share", ascending=False)
    if len(shares) < 2:
        return []
    one, two = (shares.iloc[position] for position in (0, 1))
    to = f"{table.attrs['to']} of {spoken(name)}"
    first, second = (spoken(str(label)) for label in shares.index[:2])
    if one["share"] - two["share"] > one["error of share"] + two["error of share"]:
        error = float(one["error of share"])
        share = symmetrical(one["share"], error)
        return [f"{heading(first)} contributes most to {to}: {share_in_words(share)}."]
    return [f"{heading(first)} and {second} contribute most to {to}."]


def row_sentence(run: Run, name: str) -> str:
    """Return what a run says of a row: what it is on average in its first and its last period."""
    result = run.row(name)
    ends = [f"{amount(result.mean[k], result.unit)} in {result.labels[k]}" for k in (0, -1)]
    return f"{heading(name)} is on average {' and '.join(ends)}."


def outcome_sentence(run: Run, name: str) -> str:
    """Return what a run says of an outcome: what it is on average, and how likely it is on the side
    of its target that hurts.
    """
    result = run[name]
    if result.n_failed < result.size and lumps.is_condition(run, name):
        return f"{heading(name)} is true {_chance(result.chance(above=0.5))}{_too_few(result)}."
    endless = lumps.never(result)
    if endless is not None:
        return _never_sentence(result, endless, lumps.may_be_never(run, name))
    return value_sentence(result)


def _never_sentence(result: Result, endless: tuple[Estimate, Estimate], awaited: bool) -> str:
    """Return how likely an outcome never happens, or is infinite, and what it is otherwise."""
    chance, mean = endless
    subject, verb = heading(result.name), "never comes" if awaited else "is infinite"
    otherwise = "where it does" if awaited else "otherwise"
    rest = f"; {otherwise}, it is {estimated(mean, result)} on average" if chance < 1 else ""
    target = _beside(result) if result.target is not None else ""
    return f"{subject} {verb} {_chance(chance)}{rest}{target}{_too_few(result)}."


def value_sentence(result: Result | SummaryResult) -> str:
    """Return what an outcome is on average, and how likely it is on the side of its target that
    hurts.
    """
    subject, name = heading(result.name), spoken(result.name)
    if result.n_failed == result.size:
        return f"{subject} has no value in any trial."
    ends = _too_few(result)
    if result.n_failed:
        ends += f"; {per_cent(result.n_failed / result.size)} of the trials have no value"
    mean = result.mean
    if not math.isfinite(float(mean)):
        return f"The median of {name} is {estimated(result.median, result)}{ends}."
    if float(result.lowest) == float(result.highest):
        which = "trial that has a value" if result.n_failed else "trial"
        return f"{subject} is {estimated(mean, result)} in every {which}{_side_of(result)}{ends}."
    return f"{subject} is {estimated(mean, result)} on average{_beside(result)}{ends}."


def estimated(figure: Estimate, result: Result | SummaryResult) -> str:
    """Return an estimate of a result with its unit: as its error leaves it, and to three digits
    where the trials are too few to tell an error.
    """
    if figure.error != figure.error and result.size < FEWEST and math.isfinite(float(figure)):
        figure = Estimate(float(f"{float(figure):.3g}"))
    if is_time(result.unit):
        return point_in_time(float(figure), result.unit, figure.error)
    return amount(figure, result.unit)


def _too_few(result: Result | SummaryResult) -> str:
    if result.size >= FEWEST:
        return ""
    return f"; {result.size:,} trials are too few to say how far off this is"


def asked_sentences(run: Any, asked: TableSpec, names: Sequence[str]) -> list[str]:
    """Return the figures that were asked for, of some outcomes, a sentence each."""
    sentences = []
    for name in names:
        result = run[name]
        if isinstance(result, RowResult):
            continue
        for figure in asked.figures(result):
            at = "" if figure.threshold is None else threshold(figure.threshold, result.unit)
            if figure.words in CHANCE_WORDS and at:
                side = CHANCE_WORDS[figure.words].format(at)
                share = share_in_words(figure.estimate)
                sentences.append(f"The chance that {spoken(name)} is {side} is {share}.")
                continue
            words = f"{spoken(figure.words)} {at}".strip()
            value, error = shown(figure.estimate, figure.kind, result.unit)
            unit = f" {result.unit}" if result.unit and figure.kind == "amount" else ""
            beside = f" ({error})" if error and figure.estimate.error > 0 else ""
            sentences.append(f"The {words} of {spoken(name)} is {value}{unit}{beside}.")
    for condition in asked.conditions:
        share = share_in_words(run.chance(condition))
        sentences.append(f"The chance that {condition} is {share}.")
    return sentences


def _side_of(result: Result | SummaryResult) -> str:
    """Return on which side of its target a value lies that is the same in every trial."""
    if result.target is None:
        return ""
    gap = float(result.lowest) - float(result.target)
    side = "above" if gap > 0 else "below" if gap < 0 else "exactly at"
    return f", {side} its target of {estimated(Estimate(float(result.target)), result)}"


def _beside(result: Result | SummaryResult) -> str:
    if result.target is None:
        low, high = result.central_range(0.8)
        if float(low) == float(high):
            share = share_in_words(result.chance(at=float(low)))
            return f"; it is {estimated(low, result)} in {share} of the trials"
        if isinstance(result, Result):
            return f"; {range_sentence(result, 80, 'the trials')}"
        first = estimated(low, result).removesuffix(_unit_after(result.unit))
        return f"; 80 % of the trials lie between {first} and {estimated(high, result)}"
    target = estimated(Estimate(float(result.target)), result)
    side = "below" if result.better == "high" else "above"
    chance = result.statistic("chance", **{side: result.target})
    at = result.chance(at=float(result.target))
    lump = f", and with {share_in_words(at)} exactly at it" if at >= SEEN else ""
    return f"; {_chance(chance)} it is {side} {target}{lump}"


def range_sentence(result: Result, coverage: float, trials: str) -> str:
    """Return between which figures the middle share of the trials lies, in per cent: the share that
    truly lies there, and where many trials have one value that value first, and the range of the
    others.
    """
    lump, sample = lumps.lump_of(result), result.ranked
    if lump is not None:
        sample = sample.only(sample.values != lump[0])
    few = sample.count * (100 - coverage) / 200 < 1  # none of them beyond
    ends_at = (0.0, 100.0) if few else (50 - coverage / 2, 50 + coverage / 2)
    low, high = (percentile(sample, level) for level in ends_at)
    inside = (sample.values >= low) & (sample.values <= high)
    share = 100 * sample.terms(inside[~np.isnan(sample.values)].astype(np.float64)).mean
    said = f"{share:.0f} %" if abs(share - coverage) > 1 else f"{coverage:g} %"
    ends = f"{estimated(low, result).removesuffix(_unit_after(result.unit))} and "
    ends += estimated(high, result)
    if lump is None:
        return f"{said} of {trials} lie between {ends}"
    common = f"it is {estimated(Estimate(lump[0]), result)} in {share_in_words(lump[1])}"
    return f"{common} of {trials}; {said} of the others lie between {ends}"


def _chance(chance: Estimate) -> str:
    """Return a chance in words, with its error."""
    return f"with a chance of {share_in_words(chance)}"


def _listed(words: list[str], last: str = "and") -> str:
    """Return words as a list in a sentence."""
    *more, end = words
    return f"{', '.join(more)} {last} {end}" if more else end


def amount(figure: Any, unit: str | None) -> str:
    """Return a figure with its unit, large ones in millions, to three digits or what its error
    leaves.

    >>> amount(Estimate(6_794_213.0, 6_760_000.0, 6_828_000.0), "EUR")
    '6.79 million EUR'
    """
    in_its_unit = in_unit(figure, unit)
    value, error = float(in_its_unit), float(getattr(in_its_unit, "error", math.nan))
    after = _unit_after(unit)
    if not math.isfinite(value):
        return number(value)
    scale, label = (LARGE, " million") if abs(value) >= LARGE else (1.0, "")
    shown = value / scale
    digits = 10.0 ** (math.floor(math.log10(abs(shown))) - 2) if shown else 1.0
    step = step_of(error / scale) if error == error else None
    if step is not None:
        digits = max(digits, step)
    if step is None:  # exact
        return f"{brief(shown)}{label}{after}"
    return f"{number(shown, digits)}{label}{after}"


def _unit_after(unit: str | None) -> str:
    """Return a unit as it follows a figure, such as " EUR", or " as a share of seats"."""
    if not unit:
        return ""
    return f" as a {unit}" if unit.startswith("share") else f" {unit}"


def driver_sentence(run: Run, name: str) -> list[str]:
    """Return which driver decides most of an outcome, where one can be told from the others."""
    varies = np.ptp(run[name].ranked.valid) > 0 if run[name].ranked.count else False
    if not run.drivers or not varies or usual_method(run, name) == "contributions":
        return []
    try:
        return ranked_sentence(name, run.sensitivity(name))
    except KindynosError:
        return []


def ranked_sentence(name: str, ranking: pd.DataFrame) -> list[str]:
    """Return the same from a ranking that has shares of the variance with their errors; none from
    another.
    """
    share, error = next(
        (pair for pair in SHARES if pair[0] in ranking.columns and pair[1] in ranking.columns),
        (None, None),
    )
    if share is None or not len(ranking):
        return []
    ordered = ranking[share].clip(0, 1).sort_values(ascending=False)
    first, second = heading(str(ordered.index[0])), [str(label) for label in ordered.index[1:2]]
    most, doubt = float(ordered.iloc[0]), float(ranking[error].loc[ordered.index[0]])
    named = spoken(name)
    if doubt == doubt and most - doubt > MOST:
        words = first[:1].lower() + first[1:]
        return [f"Most of the spread of the {named} comes from {words} ({100 * most:.0f} %)."]
    if second and most > (doubt if doubt == doubt else 0):
        words = first[:1].lower() + first[1:]
        return [f"The {named} depends most on {words} and {spoken(second[0])}."]
    return []
