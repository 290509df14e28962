"""Units of cells: of the format of the cell, or of the column of units beside its label."""

from __future__ import annotations

import re
from itertools import pairwise

from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.reader import Contents

CURRENCY_SIGNS = {"€": "EUR", "£": "GBP", "¥": "JPY"}
# words for one, two and three commas after the digits of a format
SCALES = {1: "k|K|T|thousand|tsd", 2: "m|M|mm|mn|mio|Mio|million", 3: "bn|b|B|Mrd|billion"}
HEADINGS = frozenset({"unit", "units", "uom", "unit of measure", "currency"})
# a text that is a unit on its own, or the first part of one such as EUR/t
UNIT = re.compile(
    r"(%|[A-Z]{3}|[€$£¥]|k?EUR|t|kt|Mt|kg|g|km|m|m2|m3|l|h|hours?|days?|weeks?|months?|years?|"
    r"pcs|units|each|kW|MW|GW|kWh|MWh|GWh|MJ|GJ|TJ|bbl|EURm|USDm)"
    r"( ?(m|mn|k|bn|million|thousand|a|p\.?a\.?|per|of|/)?[ /]?[\w ]{0,16})?"
)
LONGEST = 24  # characters of a unit


def unit_of_format(code: str) -> str | None:
    """Return the unit that a number format shows; None where it shows none.

    >>> unit_of_format("0.0%"), unit_of_format('#,##0 "kt"'), unit_of_format("[$€-407] #,##0")
    ('%', 'kt', 'EUR')
    >>> unit_of_format("yyyy-mm-dd"), unit_of_format("yyyy"), unit_of_format("#,##0.00")
    ('date', 'year', None)
    >>> unit_of_format('#,##0,"k EUR"'), unit_of_format('0.0,,"m EUR"'), unit_of_format('#,##0"k"')
    ('EUR', 'EUR', 'k')
    """
    section = code.split(";")[0]
    literals = [a or b for a, b in re.findall(r'"([^"]*)"|\\(.)', section)]
    currency = re.search(r"\[\$([^\]-]*)", section)
    bare = re.sub(r'"[^"]*"|\\.|\[[^\]]*\]|_.|\*.', "", section)
    if "%" in bare:
        return "%"
    letters = "".join(re.findall(r"[ymdhs]", bare.lower()))
    if set(letters) & set("ymd") and "0" not in bare and "#" not in bare:
        return "year" if set(letters) == {"y"} else "date" if set(letters) & set("yd") else None
    text = (currency[1] if currency else "") or "".join(literals) or re.sub(r"[^€$£¥]", "", bare)
    text = _unscaled(text.strip(" ()"), bare)
    if not re.search(r"[^\W\d]|[$%€£¥]", text):
        return None
    return CURRENCY_SIGNS.get(text, text[:LONGEST])


def _unscaled(text: str, bare: str) -> str:
    """Return a unit without the word for the thousands that commas after the digits of a format
    divide by: the value of the cell is in the unit alone.
    """
    commas = re.search(r"[0#?](,+)(?![0#?,])", bare)
    words = SCALES.get(len(commas[1])) if commas else None
    scaled = re.match(rf"(?:{words})(?![a-z])\.?\s*(.*)", text) if words else None
    return scaled[1] if scaled else text


def unit_of(contents: Contents, cell: Cell) -> str | None:
    """Return the unit of a cell by its format, or by the column of units beside its label."""
    sheet = contents.sheets[cell.sheet]
    shown = unit_of_format(contents.format_of(cell.sheet, cell.row, cell.column))
    if shown == "date" and contents.since_1904:
        shown = None  # figures of dates are shown in the other system
    column = unit_column(contents, cell)
    stated = sheet.values.get((cell.row, column)) if column else None
    unit = stated.strip() if isinstance(stated, str) else None
    if shown == "%" and unit and unit.startswith("%"):
        return unit  # such as % a year, which says more
    return shown or unit


def unit_column(contents: Contents, cell: Cell) -> int | None:
    """Return the column that holds the unit of a cell, to its left or just to its right; None for
    none.
    """
    sheet = contents.sheets[cell.sheet]
    texts = [
        (column, value.strip())
        for column in range(cell.column - 1, max(cell.column - 13, 0), -1)
        if isinstance(value := sheet.values.get((cell.row, column)), str) and value.strip()
    ]
    for (column, text), (_, label) in pairwise(texts):
        if len(text) > LONGEST or not label:
            continue
        if _heading(contents, cell.sheet, cell.row, column) in HEADINGS or UNIT.fullmatch(text):
            return column
    right = sheet.values.get((cell.row, cell.column + 1))
    if isinstance(right, str) and right.strip() and len(right.strip()) <= LONGEST:
        heading = _heading(contents, cell.sheet, cell.row, cell.column + 1)
        if heading in HEADINGS or UNIT.fullmatch(right.strip()):
            return cell.column + 1
    return None


def _heading(contents: Contents, sheet: str, row: int, column: int) -> str:
    """Return the topmost text above a cell without a gap, or the nearest one."""
    values = contents.sheets[sheet].values
    for above in range(row - 1, max(row - 500, 0), -1):
        value = values.get((above, column))
        if isinstance(value, str) and value.strip().lower().rstrip(":") in HEADINGS:
            return value.strip().lower().rstrip(":")
    return ""
