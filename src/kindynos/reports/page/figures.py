"""The first figures of a page: those of an outcome at a glance, what drives it, and a line on each
further outcome.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from kindynos.errors import KindynosError
from kindynos.formatting import (
    brief,
    heading,
    in_one_cell,
    is_per_cent,
    share_with_error,
    spoken,
    with_error,
    with_unit,
)
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.literals import Kind
from kindynos.reports import lumps
from kindynos.reports.answers import amount
from kindynos.reports.page.charts import Bars, Row, bars
from kindynos.reports.page.live import millions
from kindynos.reports.rankings import ranking_remark
from kindynos.results.run import Run
from kindynos.results.sensitivity.contributions import BASE
from kindynos.results.sensitivity.methods import usual_method

if TYPE_CHECKING:
    import pandas as pd

MOST_DRIVEN, LEAST_DRIVEN = 8, 3  # drivers that get a bar; the tables have all
ENDS_OF = {  # of a method, the columns between which the outcome moves, and what they are
    "swing": (2, 3, "with the driver at its P10 and at its P90"),
    "conditional": (0, -2, "in the lowest and in the highest tenth of the driver"),
}
MEASURES: dict[str, tuple[str, str, Kind, str]] = {  # what else methods measure, and its errors
    "rank": ("rank correlation", "error", "number", "rank correlation"),
    "regression": ("coefficient", "error", "number", "standardized coefficient"),
    "sobol": ("total", "error of total", "share", "total share of the variance"),
    "shapley": ("share of variance", "error", "share", "share of the variance"),
    "contributions": ("share", "error of share", "share", "share of what is added up"),
    "tail": ("shift", "error", "number", "shift of the mean in the worst trials, in sds"),
}


@dataclass(frozen=True)
class Key:
    """A figure at a glance: the rounded one, below it the exact one with its error, or that as a
    ``hint`` for who points at it.
    """

    label: str
    value: str
    note: str = ""
    hurts: bool = False
    hint: str = ""


@dataclass(frozen=True)
class Line:
    """An outcome in the list of all."""

    name: str
    title: str
    cells: list[str]


def tied(text: str) -> str:
    """Return a sentence whose figures are not torn from their signs and units at the end of a
    line.
    """
    for loose in (" %", "± ", " million"):
        text = text.replace(loose, loose.replace(" ", "\u00a0"))
    return text


def in_sentence(stated: str) -> str:
    """Return what a distribution prints as, in words.

    >>> in_sentence("Pert(low=17500000, mode=19000000, high=26000000)")
    'Pert: low 17,500,000, mode 19,000,000, high 26,000,000'
    """
    plain = re.fullmatch(r"(\w+)\((\w+=-?[\d.e+-]+(?:, \w+=-?[\d.e+-]+)*)\)", stated)
    if plain is None:
        return stated
    figures = (setting.split("=") for setting in plain[2].split(", "))
    return f"{plain[1]}: {', '.join(f'{key} {brief(float(text))}' for key, text in figures)}"


def rounded(figure: Any, unit: str | None) -> str:
    """Return a figure to three digits, large ones in millions as an axis writes them."""
    value = float(figure)
    error = getattr(figure, "error", math.nan)
    if error != error and math.isfinite(value):  # without an error three digits at most
        figure = float(f"{value:.3g}")
    text = amount(figure, "%" if is_per_cent(unit) else None)
    return text.replace("million", millions(unit)).replace("-", "−")


PLAIN = {5: "1 in 20 is lower", 50: "half is lower", 95: "1 in 20 is higher"}


def exactly(figure: Any, unit: str | None = None) -> str:
    """Return a figure with its error, as a table has it."""
    return " ".join(text for text in with_error(figure, unit) if text).replace("-", "−")


def bad_side(result: Any) -> str:
    """Return the side of the target that hurts; empty without a target."""
    if result.target is None:
        return ""
    return "low" if result.better == "high" else "high"


def _missing(result: Any) -> tuple[str, str, str]:
    """Return the chance on the side of the target that hurts, its error, and which side it is."""
    low = bad_side(result) == "low"
    chance = result.chance(below=result.target) if low else result.chance(above=result.target)
    target = rounded(Estimate(float(result.target)), result.unit)
    return *share_with_error(chance), f"{'below' if low else 'above'} {target}"


def keys(result: Any, awaited: bool = False) -> list[Key]:
    """Return the figures of an outcome at a glance; infinity is "never" of one that is awaited."""
    rows, endless = [], lumps.never(result)
    if endless is not None:
        share, reach = (str(cell) for cell in share_with_error(endless[0]))
        label = "Never" if awaited else "Infinite"
        rows.append(Key(label, share, reach, hurts=result.better == "low"))
        mean = endless[1]
        where = "Mean where it happens" if awaited else "Mean of the others"
        rows.append(Key(where, rounded(mean, result.unit), exactly(mean, result.unit)))
    if math.isfinite(float(result.mean)):
        exact = exactly(result.mean, result.unit)
        rows.append(Key("Mean", rounded(result.mean, result.unit), exact))
    if result.base is not None and math.isfinite(float(result.base)):
        where = lumps.below_and_at(result, float(result.base)).replace(" of the trials lie", "")
        rows.append(Key("Base case", rounded(float(result.base), result.unit), where))
    for q in (5, 50, 95):
        figure = result.percentile(q)
        exact = exactly(figure, result.unit) if math.isfinite(float(figure)) else ""
        never = awaited and float(figure) == math.inf
        value = "never" if never else str(rounded(figure, result.unit))
        rows.append(Key(f"P{q}, {PLAIN[q]}", value, hint=exact))
    if result.target is not None:
        chance, error, side = _missing(result)
        note = f"{error}, {side}" if error else side
        rows.append(Key("Misses the target", chance, note, hurts=True))
    return rows


def driven(run: Run, name: str) -> Bars | None:
    """Return the bars of what drives an outcome; None where nothing can be ranked."""
    if not run.drivers or not float(run[name].sd) > 0:
        return None
    try:
        frame = run.sensitivity(name)
    except KindynosError:
        return None
    together = usual_method(run, name) == "contributions"
    share = "share" if together else "first-order share"
    if share not in frame.columns:
        return None
    table = frame.drop(index=BASE, errors="ignore")
    if not together:  # an estimate below 0 of a share that cannot be
        table[share] = table[share].clip(0, 1)
    table = table.loc[table[share].abs().sort_values(ascending=False, kind="stable").index]
    told = int((table[share].abs() > table["error of share"].fillna(0)).sum())
    first = table.head(min(max(told, LEAST_DRIVEN), MOST_DRIVEN))
    others = table.iloc[len(first) :]
    rows = [_share_row(str(driver), row, share, together) for driver, row in first.iterrows()]
    rest = ""
    if len(others):
        more = "1 more driver" if len(others) == 1 else f"{len(others)} more drivers"
        if together:
            rest = f"{more}: {100 * float(others[share].sum()):.1f} %"
        elif told > MOST_DRIVEN:
            rest = f"{more}, each at most {rows[-1].text.partition(' ±')[0]}"
        else:
            names = ", ".join(spoken(str(name)) for name in others.index[:MOST_DRIVEN])
            names += ", ..." if len(others) > MOST_DRIVEN else ""
            rest = f"No share can be told of {more}: {names}"
    below = " One below 0 takes from what others add." if (first[share] < 0).any() else ""
    remark = (
        "Shares of the variance; the drivers move together, and the shares add up to 100 %." + below
        if together
        else ranking_remark(frame, run[name])
    )
    if any(row.way for row in rows):
        remark += " + and − say which way it moves the outcome."
    if "±" in rows[0].text:
        remark += " The line at the end of a bar is its 95 % error."
    return bars(f"What drives {spoken(name)}", rows, rest=rest, remark=remark)


def of_drivers(run: Run, outcome: str, method: str, frame: pd.DataFrame) -> Bars:
    """Return the bars of a method of sensitivity: its measure of each driver with its error, or
    from where to where the outcome goes with the driver.
    """
    first = frame.drop(index=BASE, errors="ignore").head(MOST_DRIVEN)
    rest = f"{len(frame) - len(first)} more" if len(frame) > len(first) else ""
    title = f"What drives {spoken(outcome)}, by {method}"
    if method in ENDS_OF:
        *places, words = ENDS_OF[method]
        begin, end = (frame.columns[place] for place in places)
        unit = run[outcome].unit
        rows = [
            Row(str(name), row[begin], row[end], f"{told[0]} to {told[1]}")
            for name, row in first.iterrows()
            for told in [[rounded(float(row[key]), unit) for key in (begin, end)]]
        ]
        mean = float(run[outcome].mean)
        remark = f"{heading(with_unit(outcome, unit))}, {words}; the line is the mean."
        return bars(title, rows, line=mean, rest=rest, remark=remark)
    measure, doubt, kind, words = MEASURES[method]
    errors = first[doubt].fillna(0.0)
    rows = [
        Row(
            str(name),
            0.0,
            value,
            in_one_cell(symmetrical(value, error), kind),
            value - error,
            value + error,
        )
        for name, value, error in zip(first.index, first[measure], errors, strict=True)
    ]
    remark = f"The {words}{', with its 95 % error' if (errors > 0).any() else ''}."
    return bars(title, rows, rest=rest, remark=remark)


def _share_row(driver: str, row: pd.Series, share: str, together: bool) -> Row:
    """Return the bar of a driver's share, with the sign of its rank correlation where it can be
    told.
    """
    value, error = float(row[share]), float(row["error of share"])
    reach = error if error == error else 0.0
    text = in_one_cell(symmetrical(value, error), "share").removesuffix(" %")
    text += "" if error > 0 else " %"
    rank = float(row.get("rank correlation", math.nan))
    doubt = float(row.get("error", math.nan)) if not together else math.nan
    way = ("+" if rank > 0 else "−") if abs(rank) > doubt else ""
    low = value - reach if together else max(value - reach, 0.0)
    return Row(driver, 0.0, value, text, low, value + reach, way)


def line(result: Any, name: str) -> Line:
    """Return the line of an outcome in the list of all."""
    unit = f", {result.unit}" if result.unit else ""
    cells = []
    if math.isfinite(float(result.mean)):
        cells.append(rounded(result.mean, result.unit))
    else:
        cells.append("")
    cells += [rounded(result.percentile(q), result.unit) for q in (5, 50, 95)]
    if result.target is not None:
        chance, _, side = _missing(result)
        cells.append(f"{chance} {side}")
    else:
        cells.append("")
    return Line(name, f"{heading(name)}{unit}", cells)
