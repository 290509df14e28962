"""Contributions of drivers and lines as a terminal shows them."""

from __future__ import annotations

import pandas as pd
from rich.console import Group, RenderableType
from rich.text import Text

from kindynos.cells import Cell
from kindynos.formatting import (
    brief,
    in_unit,
    number,
    per_cent,
    share_with_error,
    signed_with_error,
    step_of,
    with_error,
)
from kindynos.inference.estimates import Estimate
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.run import Run
from kindynos.results.sensitivity.contributions import BASE
from kindynos.results.sensitivity.methods import move_together
from kindynos.results.sensitivity.rank import rank_correlations

MOST_SHOWN = 20  # parts; the others are added up


def estimates(values: pd.Series, errors: pd.Series) -> list[Estimate]:
    """Return figures with their symmetric errors."""
    return [
        Estimate(float(value), float(value - error), float(value + error))
        for value, error in zip(values, errors, strict=True)
    ]


def contributions(run: Run, outcome: str, frame: pd.DataFrame) -> Group:
    """Return a table of contributions, with what they add up to."""
    to, total, unit = frame.attrs["to"], frame.attrs["total"], run[outcome].unit
    to_variance = to == "the variance"
    title = f"Contributions to {to} of {outcome}"
    amounts = [] if to_variance else [unit or "contribution", "95 % error"]
    text = str(frame.index.name)
    columns = [Words(text), *amounts, "share", "95 % error"]
    table = table_of(title, *columns, numbers_first=True)
    shown = frame.head(MOST_SHOWN)
    rows = zip(
        shown.index,
        estimates(shown["contribution"], shown["error"]),
        estimates(shown["share"], shown["error of share"]),
        strict=True,
    )
    for name, amount, share in rows:
        figures = () if to_variance else _amount(amount, unit)
        table.add_row(str(name), *figures, *(share_with_error(share) if name != BASE else ()))
    _add_others(table, frame, to_variance, unit=unit)
    if to_variance:
        whole = f"the sd is {brief(in_unit(float(f'{total**0.5:.4g}'), unit))}"
    else:
        step = step_of(in_unit(run[outcome].percentile(frame.attrs["percentile"]), unit).error)
        whole = f"they add up to {number(in_unit(total, unit), step)}"
    return Group(table, Text(_remark(whole, frame, run), style="dim"))


def with_correlations(run: Run, outcome: str, frame: pd.DataFrame) -> Group:
    """Return a table of contributions of drivers that move together to the variance, each with its
    rank correlation.
    """
    ranks = rank_correlations(run, outcome)
    table = table_of(
        f"What moves {outcome}",
        "driver",
        "rank correlation",
        "95 % error",
        "contribution to variance",
        "95 % error",
    )
    shown = frame.head(MOST_SHOWN)
    for name, share in zip(
        shown.index, estimates(shown["share"], shown["error of share"]), strict=True
    ):
        rank = ranks[str(name)]
        table.add_row(str(name), *signed_with_error(rank), *share_with_error(share))
    _add_others(table, frame, True, before=2)
    remark = "Contributions to the variance add up to 100 %"
    if move_together(run):
        remark = f"Some drivers move together; {remark[0].lower()}{remark[1:]} all the same"
    parts: list[RenderableType] = [table, Text(_remark(remark, frame, run), style="dim")]
    return Group(*parts)


def register(run: Run, outcome: str) -> FigureTable:
    """Return the risk register of an outcome: what is stated of each risk, and what it does."""
    frame, unit = run.risk_register(outcome), run[outcome].unit
    to = frame.attrs["to"]
    risks = brief(in_unit(float(f"{frame.attrs['of risks']:.3g}"), unit))
    of_outcome = f"{outcome}{f', {unit}' if unit else ''}"
    title = f"Risk register: the risks are {risks} of {to} of {of_outcome}"
    table = table_of(
        title, "risk", "chance", "impact, mean", "expected", "contribution", "95 % error", "share"
    )
    amounts = estimates(frame["contribution"], frame["error"])
    for (name, row), amount in zip(frame.iterrows(), amounts, strict=True):
        own = run.program.unit(str(name)) if str(name) in run else None
        stated = (brief(in_unit(float(f"{row[key]:.4g}"), own)) for key in ("impact", "expected"))
        chance = per_cent(float(row["chance"]))
        share = per_cent(float(row["share"]))
        table.add_row(str(name), chance, *stated, *_amount(amount, unit), share)
    return table.first(MOST_SHOWN)


def _amount(figure: Estimate, unit: str | None) -> tuple[Cell, Cell]:
    if figure.error == figure.error:
        return with_error(figure, unit)
    return brief(in_unit(float(figure), unit)), Cell.of("")


def _add_others(
    table: FigureTable,
    frame: pd.DataFrame,
    shares_only: bool,
    before: int = 0,
    unit: str | None = None,
) -> None:
    """Add what the parts that are not shown contribute together."""
    others = frame.iloc[MOST_SHOWN:]
    if not len(others):
        return
    amounts = []
    if not shares_only:
        amounts = [brief(in_unit(float(f"{others['contribution'].sum():.3g}"), unit)), ""]
    share = per_cent(float(others["share"].sum()))
    table.add_row(f"{len(others)} others", *[""] * before, *amounts, share)


def _remark(text: str, frame: pd.DataFrame, run: Run) -> str:
    used = frame.attrs["trials"]
    some = f"; from {used:,} of {run.size:,} trials" if used < run.size else ""
    return f"{text[0].upper()}{text[1:]}{some}."
