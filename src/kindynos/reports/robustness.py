"""What the assumptions of a model are worth, as a terminal shows it, and as plain data."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import brief, in_one_cell, in_unit, per_cent, threshold
from kindynos.inference.estimates import Estimate
from kindynos.literals import Kind
from kindynos.reports.answers import opening
from kindynos.reports.report import DataTable, Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.studies.robustness import Robustness

CERTAIN = 0.95  # chance from which a target is out of reach, or met, whatever is assumed
MIDDLE = (0.4, 0.6)  # chances that hardly move when ranges widen, since both sides do


def robustness_report(answer: Robustness) -> Report:
    """Return what the assumptions are worth: the sentence, a table for each figure, and what was
    not moved.
    """
    parts: list[RenderableType] = []
    for figure in answer.stated:
        parts += [_table(answer, figure), ""]
    notes = [_how(answer), *([f"{answer.measured}."] if answer.measured else [])]
    if answer.not_moved:
        listed = "; ".join(f"{name}: {why}" for name, why in answer.not_moved.items())
        notes.append(f"Not moved: {listed}.")
    sentences = robustness_answer(answer)
    return Report.of(
        [*opening(sentences), *parts, Text("\n".join(notes), style="dim")],
        kind="robustness",
        heading=f"What the assumptions behind {answer.outcome.replace('_', ' ')} are worth",
        facts=lambda: plain_value(
            {
                "outcome": answer.outcome,
                "unit": answer.unit,
                "trials": answer.trials,
                "seed": answer.seed,
                "stated": {name: plain_estimate(one) for name, one in answer.stated.items()},
                "not moved": dict(answer.not_moved),
                "measured": answer.measured,
                "goal": answer.goal,
                "needed": answer.needed.to_dict("index"),
                "sentence": " ".join(sentences),
            }
        ),
        tables=lambda: {
            "departures": DataTable(answer.table.reset_index(), "departures", "robustness")
        },
        figures=lambda: {"robustness": answer.plot},
        result=answer,
    )


def with_robustness(report: Report, answers: Sequence[Robustness]) -> Report:
    """Return the report of a run with what the assumptions of its outcomes are worth at its end."""
    others = [robustness_report(answer) for answer in answers]
    sections = [section for other in others for section in other.sections]
    facts, tables, figures = report.facts, report.tables, report.figures
    return replace(
        report,
        sections=(*report.sections, *sections),
        facts=lambda: {
            **facts(),
            "robustness": {
                answer.outcome: other.facts() for answer, other in zip(answers, others, strict=True)
            },
        },
        tables=lambda: {
            **tables(),
            **{
                f"{answer.outcome} departures": DataTable(
                    answer.table.reset_index(), None, f"{answer.outcome}-robustness"
                )
                for answer in answers
            },
        },
        figures=lambda: {
            **figures(),
            **{f"{answer.outcome}-robustness": answer.plot for answer in answers},
        },
    )


def robustness_answer(answer: Robustness) -> list[str]:
    """Return what a reader acts on: the first figure as stated and under the departures that say
    most, and which range matters most.
    """
    first, tail = next(iter(answer.stated)), answer.tail
    rows = answer.moved(first)
    said, seen = [], rows[(rows["low"] > 0) | (rows["high"] < 0)]
    values = seen["value"].to_dict()
    for name, words in _words(answer).items():
        if name in values:
            said.append(f"{words} {_value(answer, first, float(values[name]))}")
    stated = in_one_cell(answer.stated[first], _kind(first), answer.unit)
    text = f"As stated the {_named(answer, first)} is {stated} by sampling"
    sentences = [f"{text}; {', '.join(said)}." if said else f"{text}; no departure moves it."]
    chance = float(answer.stated[first])
    ends = [chance, *rows["value"]]
    if first == answer.missed:
        if min(ends) >= CERTAIN:
            sentences.append(
                f"It is at least {per_cent(min(ends))} either way: the target is out of reach."
            )
        elif max(ends) <= 1 - CERTAIN:
            sentences.append(f"It is at most {per_cent(max(ends))} either way: the target is met.")
        elif MIDDLE[0] <= chance <= MIDDLE[1]:
            worst = answer.moved(tail)["value"]
            worse = worst.max() if answer.better == "low" else worst.min()
            sentences.append(
                f"The chance is near one half and says little: the {_named(answer, tail)} goes "
                f"from {_value(answer, tail, float(answer.stated[tail]))} to "
                f"{_value(answer, tail, float(worse))}{_unit(answer)}."
            )
    single = answer.moved(tail).filter(items=answer.singles, axis=0)
    single = single[(single["low"] > 0) | (single["high"] < 0)]
    if len(single):
        name = str(single["difference"].abs().idxmax()).rsplit(" x ", 1)[0]
        sentences.append(f"What matters most is how wide {name.replace('_', ' ')} is.")
    return sentences + _needed(answer)


def _needed(answer: Robustness) -> list[str]:
    """Return what would have to be true for the goal."""
    if answer.goal is None or answer.needed.empty:
        return []
    first = next(iter(answer.stated))
    goal = _value(answer, first, answer.goal)
    said = []
    for name, row in answer.needed.iterrows():
        driver, percentile = str(name).replace("_", " "), float(row["percentile as stated"])
        median = threshold(float(f"{row['median']:.3g}"), row["unit"])
        if math.isnan(row["median"]):
            said.append(f"{driver} cannot do it")
        elif 1 <= percentile <= 99:
            said.append(f"at a median of {driver} of {median}, its P{percentile:.0f}")
        else:
            end = "lowest" if percentile < 1 else "highest"
            said.append(f"{driver} would have to be near its {end} value, {median}")
    return [f"The {_named(answer, first)} is {goal} {'; '.join(said)}."]


def _words(answer: Robustness) -> dict[str, str]:
    """Return the words of the departures that the answer names."""
    words = {}
    for name in answer.table.index.unique("departure"):
        kind = str(name)
        if kind.startswith("ranges x "):
            wider = float(kind.removeprefix("ranges x "))
            words[kind] = "with ranges half as wide again" if wider == 1.5 else f"with {kind}"
        elif kind.startswith("bad news together"):
            words[kind] = "with bad news together"
        elif kind == "ranges and together":
            words[kind] = "with both"
    return words


def _kind(figure: str) -> Kind:
    return "share" if figure.startswith("chance") else "amount"


def _named(answer: Robustness, figure: str) -> str:
    outcome = answer.outcome.replace("_", " ")
    if _kind(figure) == "share":
        _, side, limit = figure.split()
        return f"chance of {outcome} {side} {threshold(float(limit), answer.unit)}"
    named = figure.replace("percentile ", "P").replace("_", " ")
    return f"{named} of {outcome}"


def _value(answer: Robustness, figure: str, value: float) -> str:
    if _kind(figure) == "share":
        return str(per_cent(value, 0 if 0.1 < value < 0.9 else 1))
    return str(brief(in_unit(float(f"{value:.3g}"), answer.unit)))


def _unit(answer: Robustness) -> str:
    return f" {answer.unit}" if answer.unit else ""


def _table(answer: Robustness, figure: str) -> FigureTable:
    """Return how each departure moves a figure, the farthest first."""
    kind = _kind(figure)
    stated = in_one_cell(answer.stated[figure], kind, answer.unit)
    unit = "" if kind == "share" else _unit(answer)
    named = _named(answer, figure)
    title = f"{named[0].upper()}{named[1:]}{unit and ',' + unit}: {stated} as stated"
    table = table_of(title, Words("departure"), "it would be", "difference, with its error")
    for name, row in answer.moved(figure).iterrows():
        gap = Estimate(row["difference"], row["low"], row["high"])
        value = Estimate(float(row["value"]))
        table.add_row(
            str(name).replace("_", " "),
            per_cent(float(value)) if kind == "share" else in_one_cell(value, kind, answer.unit),
            in_one_cell(gap, kind, answer.unit),
        )
    return table


def _how(answer: Robustness) -> str:
    return (
        f"Each departure on the same {answer.trials:,} draws, seed {answer.seed}; errors are those "
        "of the sampling, 95 %. Ranges widen around their medians; bad news together: every driver "
        "whose direction is certain."
    )
