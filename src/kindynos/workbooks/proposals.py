"""Cells of a workbook that may be its answer, and cells that may be uncertain."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from kindynos.workbooks.addresses import Cell, quoted
from kindynos.workbooks.cell_units import unit_of
from kindynos.workbooks.labels import name_of
from kindynos.workbooks.random_cells import random_cells
from kindynos.workbooks.uncertain_sheet import NAME
from kindynos.workbooks.workbook import Workbook

# what people call an answer, the likeliest first
ANSWERS = (
    r"\bnpv\b|present value|\bleveli[sz]ed\b|\blcoe\b", r"\birr\b|rate of return|\broi\b|\broe\b",
    r"profit|net (result|income|value|cash)|ebit|margin|surplus|loss\b", r"payback|cover|\bdscr\b",
    r"total|sum\b|balance|cash|cost|result|value|price|date|delay",
)  # fmt: skip
# what people call a cell that says whether the rest is right
CONTROLS = re.compile(r"\b(checks?|controls?|balanced|difference|ok|plausible|valid|in range)\b")
MOST = 8  # cells of each kind that are proposed
FEW = 3  # cells that draw, which are drivers already
READ_BY = 2  # formulas at least, of an input that is proposed


@dataclass(frozen=True)
class Proposal:
    """A cell that may be an outcome, a driver, or a condition that must hold: its name, unit and
    value, and why.
    """

    kind: str
    cell: str
    name: str
    unit: str | None
    value: float | None
    why: str


def proposals(book: Workbook) -> list[Proposal]:
    """Return outcomes, conditions and drivers that a workbook may have: cells with formulas that no
    other reads but checks, those with the name of an answer first; cells that are called checks;
    inputs that the most formulas read, and cells that draw.
    """
    graph, uses = book.graph, book.uses
    drawn = random_cells(graph)
    ends: list[tuple[int, int, Proposal]] = []
    for number, formula in graph.formulas.items():
        value = graph.constants[graph.numbers[formula.cell]]
        readers = [graph.cells[reader] for reader in uses.get(number, ())]
        if not all(_is_control(name_of(graph, reader)) for reader in readers):
            continue
        if formula.area is not None or number in drawn:
            continue
        if not isinstance(value, float | None) or formula.cell.sheet.lower() == NAME:
            continue
        why = "only checks read it" if readers else "no other cell reads it"
        proposal = _proposal(book, "outcome", formula.cell, why)
        rank = _rank(proposal.name)
        if rank == len(ANSWERS) and proposal.name.startswith("cell_"):
            continue
        ends.append((rank, number, proposal))
    ends = [end for end in ends if not _is_control(end[2].name)]
    ends.sort(key=lambda end: end[:2])
    named = [end for end in ends if end[0] < len(ANSWERS)] or ends
    proposed = [proposal for _, _, proposal in named[:MOST]]
    proposed += _controls(book)
    draws = [graph.cells[number] for number in drawn]
    proposed += _inputs(book, uses)
    return proposed + [_proposal(book, "driver", cell, "it draws") for cell in draws[:FEW]]


def _controls(book: Workbook) -> list[Proposal]:
    """Return cells with formulas that are called checks, and are 0, 1 or a logical."""
    graph, controls = book.graph, []
    for formula in graph.formulas.values():
        value = graph.constants[graph.numbers[formula.cell]]
        if not isinstance(value, bool) and value not in (0.0, 1.0):
            continue
        proposal = _proposal(book, "condition", formula.cell, "it is called a check")
        if _is_control(proposal.name):
            controls.append(proposal)
    return controls[:MOST]


def _inputs(book: Workbook, uses: Mapping[int, list[int]]) -> list[Proposal]:
    """Return the inputs that the most formulas read."""
    graph = book.graph
    counts = []
    for number, users in uses.items():
        cell, readers = graph.cells[number], len(set(users))
        typed = number and not graph.is_formula(number) and number not in graph.held
        if not typed or readers < READ_BY or not isinstance(graph.constants[number], float):
            continue
        if unit_of(graph.contents, cell) in ("date", "year"):
            continue
        counts.append((-readers, number, cell))
    return [
        _proposal(book, "driver", cell, f"{-readers:,} formulas read it")
        for readers, _, cell in sorted(counts)[:MOST]
    ]


def _proposal(book: Workbook, kind: str, cell: Cell, why: str) -> Proposal:
    graph = book.graph
    value = graph.constants[graph.numbers[cell]]
    return Proposal(
        kind,
        f"{quoted(cell.sheet)}!{cell.short}",
        name_of(graph, cell),
        unit_of(graph.contents, cell),
        value if isinstance(value, float) else None,
        why,
    )


def _is_control(name: str) -> bool:
    return CONTROLS.search(name.replace("_", " ")) is not None


def _rank(name: str) -> int:
    words = name.replace("_", " ")
    return next((i for i, like in enumerate(ANSWERS) if re.search(like, words)), len(ANSWERS))
