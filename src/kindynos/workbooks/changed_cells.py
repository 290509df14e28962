"""What changed from one workbook to another of the same shape: figures, which become quantities of
their own, and formulas.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from kindynos.program.calculation import Apart
from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.labels import name_of, unique
from kindynos.workbooks.reader import Contents

if TYPE_CHECKING:
    from kindynos.workbooks.calculation import CellCalculation

MOST = 200  # figures that become quantities
MOST_NAMED = 12  # other changes that are named


def apart(old: CellCalculation, new: CellCalculation) -> Apart | None:
    """Return two calculations with the figures that differ as inputs; None where the cells that the
    model gives are others, or too many differ.
    """
    if dict(old.inputs) != dict(new.inputs) or old.rows != new.rows:
        return None
    given = {cell for place in old.inputs.values() if isinstance(place, tuple) for cell in place}
    figures, others = _differences(old.graph.contents, new.graph.contents)
    changed = [cell for cell in figures if cell not in given]
    if len(changed) > MOST:
        return None
    names: dict[str, Cell] = {}
    for cell in changed:
        names[unique(name_of(new.graph, cell), {*names, *old.inputs, *old.outputs})] = cell
    inputs = {**old.inputs, **{name: (cell,) for name, cell in names.items()}}
    before = replace(old, inputs=inputs)
    # where nothing else differs the two work out the same
    after = before if not others else replace(new, inputs=inputs)
    values = {name: figures[cell] for name, cell in names.items()}
    more = f"{len(others) - MOST_NAMED} more cells"
    words = (*others[:MOST_NAMED], *([more] if len(others) > MOST_NAMED else []))
    return Apart(before, after, values, words)


def _differences(old: Contents, new: Contents) -> tuple[dict[Cell, tuple[float, float]], list[str]]:
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
    return figures, others
