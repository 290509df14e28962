"""Contributions of drivers and lines as a terminal shows them."""

from __future__ import annotations

import pandas as pd
from rich.console import Group, RenderableType
from rich.text import Text

from kindynos.formatting import (
    brief,
    is_per_cent,
    number,
    per_cent,
    share_decimals,
    step_of,
    with_error,
)
from kindynos.inference.estimates import Estimate
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.run import Run
from kindynos.results.sensitivity.contributions import BASE
from kindynos.results.sensitivity.rank import rank_correlations

MOST_SHOWN = 20  # parts; the others are added up


def estimates(values: pd.Series, errors: pd.Series) -> list[Estimate]:
    """Return figures with their symmetric errors."""
    return [
        Estimate(float(value), float(value - error), float(value + error))
        for value, error in zip(values, errors, strict=True)
    ]


def share_text(figure: Estimate) -> tuple[str, str]:
    """Return a share and its error as per cent."""
    decimals = share_decimals([figure.error])
    error = f"± {100 * figure.error:.{decimals}f} %" if figure.error == figure.error else ""
    return per_cent(float(figure), decimals), error


def contributions(run: Run, outcome: str, frame: pd.DataFrame) -> Group:
    """Return a table of contributions, with what they add up to."""
    to, total, unit = frame.attrs["to"], frame.attrs["total"], run[outcome].unit
    to_variance = to == "the variance"
    title = f"Contributions to {to} of {outcome}"
    amounts = [] if to_variance else [unit or "contribution", "95 % error"]
    part = str(frame.index.name)
    columns = [Words(part), *amounts, "share", "95 % error"]
    table = table_of(title, *columns, numbers_first=True)
    scale = 100.0 if is_per_cent(unit) else 1.0
    frame = frame.assign(contribution=frame["contribution"] * scale, error=frame["error"] * scale)
    shown = frame.head(MOST_SHOWN)
    rows = zip(
        shown.index,
        estimates(shown["contribution"], shown["error"]),
        estimates(shown["share"], shown["error of share"]),
        strict=True,
    )
    for name, amount, share in rows:
        figures = () if to_variance else _amount(amount)
        table.add_row(str(name), *figures, *(share_text(share) if name != BASE else ()))
    _add_others(table, frame, to_variance)
    if to_variance:
        whole = f"the sd is {brief(float(f'{total**0.5:.4g}'))}"
    else:
        step = step_of(scale * run[outcome].percentile(frame.attrs["percentile"]).error)
        whole = f"they add up to {number(scale * total, step)}"
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
        error = f"± {rank.error:.3f}" if rank.error == rank.error else ""
        table.add_row(str(name), f"{float(rank):+.3f}", error, *share_text(share))
    _add_others(table, frame, True, before=2)
    remark = (
        "Some drivers move together; contributions to the variance add up to 100 % all the same"
    )
    parts: list[RenderableType] = [table, Text(_remark(remark, frame, run), style="dim")]
    return Group(*parts)


def register(run: Run, outcome: str) -> FigureTable:
    """Return the risk register of an outcome: what is stated of each risk, and what it does."""
    frame = run.risk_register(outcome)
    unit = f", {run[outcome].unit}" if run[outcome].unit else ""
    to, part = frame.attrs["to"], brief(float(f"{frame.attrs['of risks']:.3g}"))
    title = f"Risk register: the risks are {part} of {to} of {outcome}{unit}"
    table = table_of(
        title, "risk", "chance", "impact, mean", "expected", "contribution", "95 % error", "share"
    )
    amounts = estimates(frame["contribution"], frame["error"])
    for (name, row), amount in zip(frame.iterrows(), amounts, strict=True):
        stated = (brief(float(f"{row[key]:.4g}")) for key in ("impact", "expected"))
        chance = per_cent(float(row["chance"]))
        table.add_row(str(name), chance, *stated, *_amount(amount), per_cent(float(row["share"])))
    return table.first(MOST_SHOWN)


def _amount(figure: Estimate) -> tuple[str, str]:
    return with_error(figure) if figure.error == figure.error else (brief(float(figure)), "")


def _add_others(
    table: FigureTable, frame: pd.DataFrame, shares_only: bool, before: int = 0
) -> None:
    """Add what the parts that are not shown contribute together."""
    others = frame.iloc[MOST_SHOWN:]
    if len(others):
        amount = [] if shares_only else [brief(float(f"{others['contribution'].sum():.3g}")), ""]
        share = per_cent(float(others["share"].sum()))
        table.add_row(f"{len(others)} others", *[""] * before, *amount, share)


def _remark(text: str, frame: pd.DataFrame, run: Run) -> str:
    used = frame.attrs["trials"]
    some = f"; from {used:,} of {run.size:,} trials" if used < run.size else ""
    return f"{text[0].upper()}{text[1:]}{some}."
