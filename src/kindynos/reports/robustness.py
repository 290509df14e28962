"""What the assumptions of a model are worth, as a terminal shows it, and as plain data."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import brief, heading, in_one_cell, in_unit, per_cent, spoken, threshold
from kindynos.inference.estimates import Estimate
from kindynos.literals import Kind
from kindynos.reports.answers import opening
from kindynos.reports.page.charts import Bars, Row, bars
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import DataTable, Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.studies.robustness import Robustness

CERTAIN = 0.95  # chance from which a target is out of reach, or met, whatever is assumed
MIDDLE = (0.4, 0.6)  # chances that hardly move when ranges widen, since both sides do


def robustness_report(robustness: Robustness) -> Report:
    """Return what the assumptions are worth: the sentence, a table for each figure, and what was
    not moved.
    """
    parts: list[RenderableType] = []
    for figure in robustness.stated:
        parts += [_table(robustness, figure), ""]
    notes = [_how(robustness), *([f"{robustness.measured}."] if robustness.measured else [])]
    if robustness.not_moved:
        listed = "; ".join(f"{name}: {why}" for name, why in robustness.not_moved.items())
        notes.append(f"Not moved: {listed}.")
    sentences = robustness_answer(robustness)
    return Report.of(
        [*opening(sentences), *parts, Text("\n".join(notes), style="dim")],
        kind="robustness",
        heading=f"What the assumptions behind {spoken(robustness.outcome)} are worth",
        facts=lambda: plain_value(
            {
                "outcome": robustness.outcome,
                "unit": robustness.unit,
                "trials": robustness.trials,
                "seed": robustness.seed,
                "stated": {name: plain_estimate(one) for name, one in robustness.stated.items()},
                "not moved": dict(robustness.not_moved),
                "measured": robustness.measured,
                "goal": robustness.goal,
                "needed": robustness.needed.to_dict("index"),
                "sentence": " ".join(sentences),
            }
        ),
        tables=lambda: {
            "departures": DataTable(robustness.table.reset_index(), "departures", "robustness")
        },
        figures=lambda: {"robustness": robustness.plot},
        view=lambda report: charts_view(report, *_departures(robustness)),
        result=robustness,
    )


def _departures(robustness: Robustness) -> Iterator[Bars]:
    """Yield for each figure bars from it as stated to what each departure makes of it."""
    for figure, stated in robustness.stated.items():
        begin, rows = float(stated), robustness.moved(figure)
        worse = 1 if figure == robustness.missed or robustness.better == "low" else -1
        drawn = []
        for name, row in rows.iterrows():
            value, error = float(row["value"]), (float(row["high"]) - float(row["low"])) / 2
            kind = "hurts" if (value - begin) * worse > 0 else ""
            text, ends = _value(robustness, figure, value), (value - error, value + error)
            drawn.append(Row(spoken(str(name)), begin, value, text, *ends, kind=kind))
        title = heading(
            _named(robustness, figure)
            + (f", {robustness.unit}" if robustness.unit and _kind(figure) != "share" else "")
        )
        remark = (
            f"From {_value(robustness, figure, begin)} as stated; hatched: for the worse. The line "
            "at the end of a bar is the 95 % error of the difference."
        )
        yield bars(title, drawn, line=begin, remark=remark)


def with_robustness(report: Report, answers: Sequence[Robustness]) -> Report:
    """Return the report of a run with what the assumptions of its outcomes are worth at its end."""
    others = [robustness_report(departed) for departed in answers]
    sections = [section for other in others for section in other.sections]
    facts, tables, figures, view = report.facts, report.tables, report.figures, report.view
    return replace(
        report,
        # a page has it once
        view=None if view is None else lambda whole: replace(view(whole), departures=()),
        sections=(*report.sections, *sections),
        facts=lambda: {
            **facts(),
            "robustness": {
                departed.outcome: other.facts()
                for departed, other in zip(answers, others, strict=True)
            },
        },
        tables=lambda: {
            **tables(),
            **{
                f"{departed.outcome} departures": DataTable(
                    departed.table.reset_index(), None, f"{departed.outcome}-robustness"
                )
                for departed in answers
            },
        },
        figures=lambda: {
            **figures(),
            **{f"{departed.outcome}-robustness": departed.plot for departed in answers},
        },
    )


def robustness_answer(robustness: Robustness) -> list[str]:
    """Return what a reader acts on: the first figure as stated and under the departures that say
    most, and which range matters most.
    """
    figure = next(iter(robustness.stated))
    departures = robustness.moved(figure)
    moving = departures[(departures["low"] > 0) | (departures["high"] < 0)]["value"].to_dict()
    said = [
        f"{words} {_value(robustness, figure, float(moving[name]))}"
        for name, words in _words(robustness).items()
        if name in moving
    ]
    stated = in_one_cell(robustness.stated[figure], _kind(figure), robustness.unit)
    text = f"As stated the {_named(robustness, figure)} is {stated} by sampling"
    sentences = [f"{text}; {', '.join(said)}." if said else f"{text}; no departure moves it."]
    if figure == robustness.missed:
        sentences += _where_it_leads(robustness, departures["value"])
    single = robustness.moved(robustness.tail).filter(items=robustness.singles, axis=0)
    single = single[(single["low"] > 0) | (single["high"] < 0)]
    return [*sentences, *_matters_most(single), *_needed(robustness)]


def _where_it_leads(robustness: Robustness, chances: pd.Series) -> list[str]:
    """Return that the target is missed or met whatever departs; of a chance near one half, which
    says little, how far the bad end moves.
    """
    stated, tail = float(robustness.stated[robustness.missed]), robustness.tail
    least, most = min(stated, *chances), max(stated, *chances)
    if least >= CERTAIN:
        return [f"It is at least {per_cent(least)} either way: the target is out of reach."]
    if most <= 1 - CERTAIN:
        return [f"It is at most {per_cent(most)} either way: the target is met."]
    if not MIDDLE[0] <= stated <= MIDDLE[1]:
        return []
    moved = robustness.moved(tail)["value"]
    worst = moved.max() if robustness.better == "low" else moved.min()
    return [
        f"The chance is near one half and says little: the {_named(robustness, tail)} goes "
        f"from {_value(robustness, tail, float(robustness.stated[tail]))} to "
        f"{_value(robustness, tail, float(worst))}{_unit(robustness)}."
    ]


def _matters_most(single: pd.DataFrame) -> list[str]:
    """Return the driver whose width moves the figure most, or the two that cannot be told apart."""
    if not len(single):
        return []
    sizes = single["difference"].abs().sort_values(ascending=False)
    errors = (single["high"] - single["low"]).loc[sizes.index] / 2
    behind = sizes.iloc[0] - sizes
    close = sizes.index[behind <= np.hypot(errors, errors.iloc[0])]
    names = [spoken(str(name).rpartition(" x ")[0]) for name in close]
    if len(names) == 1:
        return [f"What matters most is how wide {names[0]} is."]
    if len(names) == 2:
        return [f"What matters most is how wide {names[0]} and {names[1]} are."]
    return []


def _needed(robustness: Robustness) -> list[str]:
    """Return what would have to be true for the goal."""
    if robustness.goal is None or robustness.needed.empty:
        return []
    first = next(iter(robustness.stated))
    goal = _value(robustness, first, robustness.goal)
    said = []
    for name, row in robustness.needed.iterrows():
        driver, percentile = spoken(str(name)), float(row["percentile as stated"])
        median = threshold(float(f"{row['median']:.3g}"), row["unit"])
        if math.isnan(row["median"]):
            said.append(f"{driver} cannot do it")
        elif 1 <= percentile <= 99:
            said.append(f"at a median of {driver} of {median}, its P{percentile:.0f}")
        else:
            end = "lowest" if percentile < 1 else "highest"
            said.append(f"{driver} would have to be near its {end} value, {median}")
    return [f"The {_named(robustness, first)} is {goal} {'; '.join(said)}."]


def _words(robustness: Robustness) -> dict[str, str]:
    """Return the words of the departures that the answer names."""
    words = {}
    for name in robustness.table.index.unique("departure"):
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


def _named(robustness: Robustness, figure: str) -> str:
    outcome = spoken(robustness.outcome)
    if _kind(figure) == "share":
        _, side, limit = figure.split()
        return f"chance of {outcome} {side} {threshold(float(limit), robustness.unit)}"
    named = spoken(figure.replace("percentile ", "P"))
    return f"{named} of {outcome}"


def _value(robustness: Robustness, figure: str, value: float) -> str:
    if _kind(figure) == "share":
        return str(per_cent(value, 0 if 0.1 < value < 0.9 else 1))
    return str(brief(in_unit(float(f"{value:.3g}"), robustness.unit)))


def _unit(robustness: Robustness) -> str:
    return f" {robustness.unit}" if robustness.unit else ""


def _table(robustness: Robustness, figure: str) -> FigureTable:
    """Return how each departure moves a figure, the farthest first."""
    kind = _kind(figure)
    stated = in_one_cell(robustness.stated[figure], kind, robustness.unit)
    unit = "" if kind == "share" else _unit(robustness)
    named = _named(robustness, figure)
    title = f"{named[0].upper()}{named[1:]}{unit and ',' + unit}: {stated} as stated"
    table = table_of(title, Words("departure"), "it would be", "difference, with its error")
    for name, row in robustness.moved(figure).iterrows():
        gap = Estimate(row["difference"], row["low"], row["high"])
        value = Estimate(float(row["value"]))
        table.add_row(
            spoken(str(name)),
            per_cent(float(value))
            if kind == "share"
            else in_one_cell(value, kind, robustness.unit),
            in_one_cell(gap, kind, robustness.unit),
        )
    return table


def _how(robustness: Robustness) -> str:
    return (
        f"Each departure on the same {robustness.trials:,} draws, seed {robustness.seed}; errors "
        "are those of the sampling, 95 %. Ranges widen around their medians; bad news together: "
        "every driver whose direction is certain."
    )
