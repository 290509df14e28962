"""Workbooks for tests, written with openpyxl, and the values of their cells worked out by us."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import openpyxl

from kindynos.workbooks.agreement import recalculated
from kindynos.workbooks.calculation import CellCalculation
from kindynos.workbooks.cell_errors import CellError
from kindynos.workbooks.graph import Graph, cell_in
from kindynos.workbooks.reader import read_contents

LIST = [(1, "apple", 10), (2, "banana", 40), (3, "pear", 25)]
LIST += [(4, "berry", 31.5), (5, "lemon", 18), (7, "plum", 52)]


def write(folder: Path, cells: dict[str, Any], name: str = "book.xlsx") -> Path:
    """Return a workbook with cells by address, on the sheet "Data" unless they name another."""
    book = openpyxl.Workbook()
    book.active.title = "Data"
    for address, value in cells.items():
        sheet, _, cell = address.rpartition("!")
        sheet = sheet or "Data"
        if sheet not in book.sheetnames:
            book.create_sheet(sheet)
        book[sheet][cell] = value
    path = folder / name
    book.save(path)
    return path


def data() -> dict[str, Any]:
    """Return the cells that formulas of tests refer to."""
    cells: dict[str, Any] = {"B1": 12, "B2": 2500, "B3": 0.08, "B11": "x", "C12": 5}
    for row, (number, word, price) in enumerate(LIST, start=1):
        cells |= {f"C{row}": number, f"D{row}": word, f"E{row}": price}
    flows, dates = (-1000, 300, 420, -50, 380, 260), (46100, 46300, 47000, 47100, 47400, 47800)
    for row in range(6):
        cells |= {f"F{row + 1}": flows[row], f"G{row + 1}": dates[row]}
    cells |= {f"H{row}": rate for row, rate in enumerate((0.03, 0.04, -0.01, 0.05), start=1)}
    for place, letter in enumerate("ABCDE"):
        cells |= {f"{letter}8": place + 1, f"{letter}9": 10 * (place + 1) ** 2}
    return cells


def worked_out(formulas: list[str], cells: dict[str, Any] | None = None) -> list[Any]:
    """Return the values of formulas in A20 and below, beside the cells of ``data``; errors as their
    codes.
    """
    places = {f"A{row}": text for row, text in enumerate(formulas, start=20)}
    with tempfile.TemporaryDirectory() as folder:
        graph = Graph.of(read_contents(write(Path(folder), {**data(), **(cells or {}), **places})))
    graph.hold()
    numbers = [graph.numbers["Data", row, 1] for row in range(20, 20 + len(formulas))]
    values, failed = recalculated(graph, numbers)
    found = [failed.get(number, values.get(number)) for number in numbers]
    return [one.code if isinstance(one, CellError) else one for one in found]


def calculation(path: Path, inputs: dict[str, str], outputs: dict[str, str]) -> CellCalculation:
    """Return single cells of a workbook as lines of a model."""
    graph = Graph.of(read_contents(path))
    graph.hold()

    def places(texts: dict[str, str]) -> dict[str, Any]:
        return {name: (cell_in(graph.contents, text).first,) for name, text in texts.items()}

    return CellCalculation(graph, places(inputs), places(outputs))


def drawn(seed: int, trials: int) -> dict[str, np.ndarray]:
    """Return numbers one per trial, some of them whole, equal or 0."""
    generator = np.random.default_rng(seed)
    values = {
        "a": generator.normal(0, 2, trials),
        "b": np.round(generator.normal(2, 3, trials)),
        "c": generator.uniform(0, 1, trials),
    }
    values["b"][0], values["a"][1] = values["a"][0], 0.0
    return values
