"""A bridge between two models as a terminal shows it, and as plain data."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from rich.console import RenderableType
from rich.text import Text

from kindynos.cells import Cell, Printed
from kindynos.formatting import brief, is_per_cent, number, per_cent, spoken, step_of
from kindynos.inference.estimates import Estimate
from kindynos.program.differences import Change
from kindynos.reports.answers import opening
from kindynos.reports.page.charts import MOST_BARS, Bars, Row, bars
from kindynos.reports.page.figures import in_sentence
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import DataTable, Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.studies.bridge import Bridge

MOST_NAMED = 6  # changes in the sentence
MILLIONS = -3  # decimals of figures that are said in millions: they are whole thousands


def bridge_report(bridged: Bridge) -> Report:
    """Return a bridge: the sentence, the changes with what each explains, and what changed."""
    table = bridged.table()
    parts: list[RenderableType] = [
        _parts(bridged),
        Text(_how(bridged), style="dim"),
        "",
        changes_table(bridged.changes, bridged.renamed),
    ]
    return Report.of(
        [*opening(bridge_answer(bridged)), *(parts if bridged.parts else [])],
        kind="bridge",
        facts=lambda: plain_value(
            {
                "outcome": bridged.outcome,
                "statistic": bridged.statistic,
                "unit": bridged.unit,
                "trials": bridged.trials,
                "seed": bridged.seed,
                "before": plain_estimate(bridged.before),
                "after": plain_estimate(bridged.after),
                "error": bridged.error,
                "without value": list(bridged.without_value),
                "renamed": dict(bridged.renamed),
                "sentence": " ".join(bridge_answer(bridged)),
            }
        ),
        tables=lambda: {"parts": DataTable(table, "parts", "bridge")},
        figures=lambda: {"bridge": bridged.plot} if bridged.parts else {},
        result=bridged,
        view=lambda report: charts_view(report, *_waterfall(bridged)),
    )


def _waterfall(bridged: Bridge) -> Iterator[Bars]:
    """Yield the way from the old figure to the new one, a bar for each change, which begins where
    the one before ended; those that all others together are smaller than.
    """
    if not bridged.parts:
        return
    written = _Written(bridged)
    names, rest = bridged.ranked[:MOST_BARS], bridged.ranked[MOST_BARS:]
    before, after = float(bridged.before), float(bridged.after)
    rows = [Row("before", before, before, written.figure(before), kind="mark")]
    place = before
    for name in names:
        part = bridged.shown[name]
        end, error = place + float(part), part.error
        rows.append(Row(name, place, end, written.parts[name], end - error, end + error))
        place = end
    if rest:
        others = sum(float(bridged.shown[name]) for name in rest)
        text = written.figure(others, signed=True)
        rows.append(Row(f"{len(rest)} others", place, place + others, text))
    rows.append(Row("after", after, after, written.figure(after), kind="mark"))
    unit = f" ({written.unit.strip()})" if written.unit else ""
    title = f"The {bridged.statistic} of {spoken(bridged.outcome)}{unit}"
    remark = "Dark bars go up, light ones down; the line at the end of a bar is its 95 % error."
    yield bars(title, rows, line=before, remark=remark)


def changes_report(changes: Sequence[Change], renamed: Mapping[str, str]) -> Report:
    """Return the list of what changed, without what it does to a figure."""
    count = len(changes)
    sentence = "Nothing that could move a figure has changed."
    if count:
        sentence = f"{count} change{'' if count == 1 else 's'} may move a figure."
    return Report.of(
        [*opening([sentence]), changes_table(changes, renamed)],
        kind="changes",
        facts=lambda: {
            "changes": [{"change": item.name, "what": list(item.words)} for item in changes],
            "renamed": dict(renamed),
        },
    )


def changes_table(changes: Sequence[Change], renamed: Mapping[str, str]) -> FigureTable:
    """Return a row for each change, with what it was and is."""
    table = table_of("What changed", Words("change"), Words("what"))
    for change in changes:
        for place, words in enumerate(change.words):
            sides = words.removeprefix(f"{change.name}: ").split(" -> ")
            what = " -> ".join(map(in_sentence, sides))
            table.add_row("" if place else change.name, what)
    for old, new in renamed.items():
        table.add_row(new, f"renamed: {old} -> {new}")
    return table


SLIGHT = 1e-6  # of the largest part, below which a part is 0 in words


@dataclass(frozen=True)
class _Written:
    """How the figures of a bridge are written: parts and both figures rounded to one step, each as
    it is; shares and rates in per cent.
    """

    answer: Bridge

    @property
    def per_cent(self) -> bool:
        return self.answer.kind == "share" or is_per_cent(self.answer.unit)

    @property
    def unit(self) -> str:
        if self.answer.kind == "share":
            return " %"
        return f" {self.answer.unit}" if self.answer.unit else ""

    @property
    def decimals(self) -> int:
        """The decimals of the raw figures: a hundredth of the largest part, and of the larger
        figure, is still shown, and a digit of each part that is not an error.
        """
        if self.answer.kind == "share":
            return 3
        parts = [abs(float(part)) for part in self.answer.shown.values()]
        before, after = float(self.answer.before), float(self.answer.after)
        largest = (max([abs(after - before), *parts]), max(abs(before), abs(after)))
        decimals = [2 - math.floor(math.log10(size)) for size in largest if size > 0]
        # a small part that is no error is not shown as 0
        sure = [
            abs(float(part))
            for part in self.answer.shown.values()
            if abs(float(part)) > max(part.error, SLIGHT * max(largest))
        ]
        decimals += [-math.floor(math.log10(size)) for size in sure]
        return max(decimals, default=0)

    def figure(self, value: float, signed: bool = False) -> Cell:
        scale, decimals = (100, self.decimals - 2) if self.per_cent else (1, self.decimals)
        step = 10.0**-decimals
        rounded = round(scale * value / step) * step
        plus = "+" if signed and rounded > 0 else ""
        return Cell.of(Printed(rounded, max(decimals, 0), before=plus))

    def said(self, value: float, signed: bool = False) -> str:
        """A figure as a sentence has it, large ones in millions."""
        if self.per_cent or self.decimals > MILLIONS:
            return self.figure(value, signed)
        step = 10.0**-self.decimals
        text = f"{round(value / step) * step / 1e6:{'+' if signed else ''}.{6 + self.decimals}f}"
        return f"{text} million"

    def error(self, error: float) -> Cell:
        """An error with two digits of its own."""
        if math.isnan(error):
            return Cell.of("unknown")
        scaled = 100 * error if self.per_cent else error
        return number(scaled, step_of(scaled), before="± ")

    @property
    def parts(self) -> dict[str, Cell]:
        shown = self.answer.shown
        return {name: self.figure(float(shown[name]), signed=True) for name in self.answer.ranked}

    @property
    def rounding(self) -> Cell | None:
        """What the rounded parts lack to make up the rounded figures; None for nothing."""
        values = [float(self.answer.shown[name]) for name in self.answer.ranked]
        step = 10.0**-self.decimals
        ends = round(float(self.answer.after) / step) - round(float(self.answer.before) / step)
        left = ends - sum(round(value / step) for value in values)
        return self.figure(left * step, signed=True) if left else None


def bridge_answer(bridged: Bridge) -> list[str]:
    """Return from what to what the figure went, and by which changes, as figures that add up."""
    outcome = spoken(bridged.outcome)
    if not bridged.parts:
        return [f"Nothing that could move {outcome} has changed."]
    written = _Written(bridged)
    before, after = (written.said(float(value)) for value in (bridged.before, bridged.after))
    move = "rose" if float(bridged.after) > float(bridged.before) else "fell"
    ends = f"{move} from {before} to {after}" if before != after else f"is still {after}"
    if before.endswith(" million") and after.endswith(" million"):
        ends = ends.replace(" million to ", " to ")

    certain = [name for name in bridged.ranked if _is_certain(bridged.shown[name])]
    parts = [
        f"{written.said(float(bridged.shown[name]), signed=True)} from {name}"
        for name in certain[:MOST_NAMED]
    ]
    if parts and bridged.kind == "share":
        parts[0] = parts[0].replace(" from ", " points from ", 1)
    if len(certain) > MOST_NAMED:
        parts.append(f"and {len(certain) - MOST_NAMED} smaller changes")
    causes = f": {', '.join(parts)}" if parts else ""
    sentences = [f"The {bridged.statistic} of {outcome} {ends}{written.unit}{causes}."]

    unsure = [name for name in bridged.ranked if name not in certain]
    if unsure:
        few = [*unsure[:MOST_NAMED], *(["others"] if len(unsure) > MOST_NAMED else [])]
        named = " and ".join(part for part in (", ".join(few[:-1]), few[-1]) if part)
        sentences.append(f"What {named} did to it is within the sampling error.")
    return [*sentences, *_without_value(bridged)]


def _without_value(bridged: Bridge) -> list[str]:
    """Return how many trials have no value, where some have none, and what that means."""
    before, after = (per_cent(share, 1) for share in bridged.without_value)
    if not any(bridged.without_value):
        return []
    basis = "the figures are of the others"
    if bridged.statistic.startswith("chance"):
        basis = "chances are of all trials"
    return [f"{before} of the trials had no value before, {after} have none now; {basis}."]


def _is_certain(part: Estimate) -> bool:
    return not abs(float(part)) <= part.error


def _parts(bridged: Bridge) -> FigureTable:
    written = _Written(bridged)
    unit = f" ({written.unit.strip()})" if written.unit else ""
    outcome = spoken(bridged.outcome)
    title = f"The {bridged.statistic} of {outcome}{unit}, change by change"
    table = table_of(title, Words("change"), "explains", "95 % error", "made first", "made last")
    table.add_row("before", written.figure(float(bridged.before)), *[""] * 3)
    for name in bridged.ranked:
        error = bridged.shown[name].error
        ends = [
            written.figure(value, signed=True)
            for value in (bridged.first[name], bridged.last[name])
        ]
        table.add_row(name, written.parts[name], written.error(error), *ends)
    if written.rounding is not None:
        table.add_row("rounding", written.rounding, *[""] * 3)
    table.add_row("after", written.figure(float(bridged.after)), *[""] * 3)
    return table


def _how(bridged: Bridge) -> str:
    if bridged.basis:
        return bridged.basis
    order = (
        "Changes are made in the order given."
        if bridged.in_order
        else "What a change explains is the mean over the orders in which they can be made."
    )
    return (
        f"{order} All mixtures are on the same {bridged.trials:,} draws, seed {bridged.seed} "
        f"({brief(float(bridged.runs))} were worked out); parts add up to the change."
    )
