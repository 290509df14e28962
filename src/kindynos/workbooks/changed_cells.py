"""What changed from one workbook to another of the same shape: figures by cell, and formulas."""

from __future__ import annotations

from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.reader import Contents

MOST_NAMED = 12  # other changes that are named


def changed_cells(
    old: Contents, new: Contents
) -> tuple[dict[Cell, tuple[float, float]], tuple[str, ...]]:
    """Return the figures that differ by cell, and what else differs, in words."""
    figures: dict[Cell, tuple[float, float]] = {}
    others: list[str] = []
    for name in dict.fromkeys([*old.sheets, *new.sheets]):
        one, two = old.sheets.get(name), new.sheets.get(name)
        if one is None or two is None:
            others.append(f"the sheet {name} is {'new' if one is None else 'gone'}")
            continue
        for place in sorted({*one.values, *two.values, *one.formulas, *two.formulas}):
            cell = Cell(name, *place)
            formulas = [sheet.formulas.get(place) for sheet in (one, two)]
            values = [sheet.values.get(place) for sheet in (one, two)]
            if formulas == [None, None]:
                before, after = values
                if before == after:
                    continue
                if isinstance(before, float) and isinstance(after, float):
                    figures[cell] = before, after
                    continue
            elif formulas[0] == formulas[1]:
                continue
            shown = [
                f"={formula.text}" if formula is not None else "empty" if value is None else value
                for formula, value in zip(formulas, values, strict=True)
            ]
            others.append(f"{cell}: {shown[0]} -> {shown[1]}")
        if one.shared != two.shared:
            others += [
                f"{name}, copied formula: ={one.shared[k][0]} -> ={two.shared[k][0]}"
                for k in one.shared
                if k in two.shared and one.shared[k] != two.shared[k]
            ]
    more = [f"{len(others) - MOST_NAMED} more cells"] if len(others) > MOST_NAMED else []
    return figures, (*others[:MOST_NAMED], *more)
