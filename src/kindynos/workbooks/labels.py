"""Names for cells: the defined name, the label to the left, with the heading above where a row
holds several, or else the address.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection

from kindynos.errors import KindynosError
from kindynos.formula.parse import is_name
from kindynos.formula.tree import PERIOD
from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.cell_units import unit_column
from kindynos.workbooks.graph import Graph, cell_in
from kindynos.workbooks.reader import Contents

FARTHEST = 12  # cells; a label is looked for to their left
HIGHEST = 2000  # cells above
LONGEST = 60
SPELT = str.maketrans({"ß": "ss", "Æ": "Ae", "æ": "ae", "Ø": "O", "ø": "o", "ł": "l", "đ": "d"})


def as_name(text: str) -> str:
    """Return a text as a name that formulas can use, "" where nothing is left of it.

    >>> as_name("Net sales (EUR)"), as_name("2027")
    ('net_sales_eur', 'x2027')
    """
    plain = unicodedata.normalize("NFKD", text.translate(SPELT))
    letters = "".join(c for c in plain if not unicodedata.combining(c))
    name = re.sub(r"[^0-9A-Za-z]+", "_", letters).strip("_").lower()[:LONGEST].strip("_")
    if name and name[0].isdigit():
        name = f"x{name}"
    if name and (not is_name(name) or name == PERIOD):
        name = f"{name}_"
    return name


def name_of(graph: Graph, cell: Cell, several: bool = False) -> str:
    """Return a name for a cell; ``several`` says that its row holds others to be named."""
    contents = graph.contents
    named = _defined_name(contents, cell)
    if named:
        return named
    text, own = _text_left(contents, cell)
    left = as_name(text)
    above = as_name(_text_above(contents, cell)) if several or not (left and own) else ""
    if not own and not above:
        left = ""  # the label is of the value before it
    return "_".join(label for label in (left, above) if label) or f"cell_{cell.short.lower()}"


def unique(name: str, taken: Collection[str]) -> str:
    """Return a name that is not taken, with a number where it is."""
    candidate, number = name, 2
    while candidate in taken:
        candidate, number = f"{name}_{number}", number + 1
    return candidate


def _defined_name(contents: Contents, cell: Cell) -> str:
    for (owner, label), text in contents.names.items():
        if cell.short not in text.replace("$", "") or "(" in text:
            continue
        try:
            area = cell_in(contents, contents.spelling.get(label, label) if owner is None else text)
        except KindynosError:
            continue
        if area.single and area.first == cell:
            return as_name(contents.spelling.get(label, label))
    return ""


def _text_left(contents: Contents, cell: Cell) -> tuple[str, bool]:
    """Return the label to the left of a cell, past its unit and empty cells, and whether it is its
    own: it is that of the first value beside it.
    """
    sheet, unit, own = contents.sheets[cell.sheet], unit_column(contents, cell), True
    for column in range(cell.column - 1, max(cell.column - 1 - FARTHEST, 0), -1):
        value = sheet.values.get((cell.row, column))
        text = isinstance(value, str) and (cell.row, column) not in sheet.formulas
        if isinstance(value, str) and text and value.strip() and column != unit:
            return value, own
        own = own and (text or (value is None and (cell.row, column) not in sheet.formulas))
    return "", True


def _text_above(contents: Contents, cell: Cell) -> str:
    """Return the text nearest above a cell."""
    sheet = contents.sheets[cell.sheet]
    for row in range(cell.row - 1, max(cell.row - 1 - HIGHEST, 0), -1):
        value = sheet.values.get((row, cell.column))
        if isinstance(value, str) and value.strip():
            return value
    return ""
