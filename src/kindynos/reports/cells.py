"""A workbook before a cell of it is named: whether we agree with it, and what it may be asked."""

from __future__ import annotations

from dataclasses import asdict, fields
from pathlib import Path

import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import brief
from kindynos.reports.report import Report
from kindynos.reports.tables import FigureTable, table_from
from kindynos.workbooks.proposals import Proposal, proposals
from kindynos.workbooks.workbook import Workbook

MOST_ROWS = 20  # of the cells that differ, on a terminal


def sentences(book: Workbook) -> list[str]:
    """Return what is to be said of a workbook: whether we agree with it, what is left out, the
    functions that are not known, and the cells that draw.
    """
    words = [book.agreement.words, *book.notes]
    said = [f"{text[:1].upper()}{text[1:]}." for text in words]
    functions = book.functions()
    for name, row in functions[~functions["known"]].iterrows():
        needed = book.needing(str(name))
        others = f", which {needed:,} further formulas need" if needed else ""
        said.append(f"The function {name} is not known; used in {row['cells']}{others}.")
    drawn = book.random()
    if len(drawn):
        count = "1 cell draws" if len(drawn) == 1 else f"{len(drawn):,} cells draw"
        said.append(f"{count}: {', '.join(drawn.index[:5])}{', ...' * (len(drawn) > 5)}.")
    return said


def workbook_checked(book: Workbook) -> Report:
    """Return how our values compare with those stored in a workbook, all cells that differ, and
    which cells may be outcomes and drivers.
    """
    differing, proposed = book.agreement.table(), proposals(book)
    parts: list[RenderableType] = [Text("\n".join(sentences(book))), ""]
    if len(differing):
        parts += [_differing_table(differing.head(MOST_ROWS), len(differing)), ""]
    if proposed:
        parts += [_proposed_table(proposed), ""]
    parts.append(Text(_next_step(book, proposed)))
    return Report.of(
        parts,
        kind="workbook",
        heading=f"{Path(book.path).name}: what may be asked of it",
        facts=lambda: {
            "workbook": book.path,
            "agreement": book.agreement.words,
            "notes": book.notes,
        },
        tables=lambda: {
            "differing cells": differing,
            "functions": book.functions(),
            "cells that draw": book.random(),
            "proposals": _frame(proposed),
        },
    )


def _frame(proposed: list[Proposal]) -> pd.DataFrame:
    names = [field.name for field in fields(Proposal)]
    return pd.DataFrame(map(asdict, proposed), columns=names).set_index("cell")


def _differing_table(differing: pd.DataFrame, count: int) -> FigureTable:
    title = "Cells that differ"
    if count > len(differing):
        title += f": the first {len(differing)} of {count:,}; --out FOLDER writes them all"
    return table_from(
        title,
        differing,
        {
            "cell": "cell",
            "here": lambda row: _shown(row["value"]),
            "in the file": lambda row: _shown(row["stored"]),
            "why": "problem",
        },
    )


def _shown(value: object) -> str:
    return brief(value) if isinstance(value, float) and value == value else _text(value)


def _text(value: object) -> str:
    return "" if value is None or value != value else str(value)


def _proposed_table(proposed: list[Proposal]) -> FigureTable:
    return table_from(
        "What may be asked of it",
        [asdict(proposal) for proposal in proposed],
        {
            "perhaps": "kind",
            "cell": "cell",
            "name": "name",
            "value": lambda row: _shown(row["value"]),
            "unit": lambda row: row["unit"] or "",
            "why": "why",
        },
        keys=3,
    )


def _next_step(book: Workbook, proposed: list[Proposal]) -> str:
    """Return the options that would make a model of it, to be copied."""
    outcome = next((proposal for proposal in proposed if proposal.kind == "outcome"), None)
    driver = next(
        (proposal for proposal in proposed if proposal.kind == "driver" and proposal.value), None
    )
    if outcome is None:
        return "Name the cell of the answer with --outcome CELL to see the model."
    unit = f", {outcome.unit}" if outcome.unit else ""
    words = f'--outcome "{outcome.name} = {outcome.cell}{unit}"'
    if driver is not None and driver.value:
        low, high = sorted((0.9 * driver.value, 1.1 * driver.value))
        shown = f"{low:.4g} {driver.value:.6g} {high:.4g}"
        tail = f" {driver.unit}" if driver.unit else ""
        words += f' --driver "{driver.name} = {driver.cell}: pert {shown}{tail}"'
    said = f"Name the cell of the answer with --outcome CELL to see the model, such as\n{words}"
    condition = next((proposal for proposal in proposed if proposal.kind == "condition"), None)
    if condition is None:
        return said
    return (
        f"{said}\nA check becomes a condition that every trial must meet in the model file that "
        f"--write makes: the cell {condition.cell} as the line {condition.name}, and "
        f"{condition.name} == {condition.value or 0:g} below [checks]."
    )
