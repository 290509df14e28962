"""What changed from one workbook to another of the same shape: figures by cell, formulas that can
be changed one by one, and the rest in words.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.reader import Contents, Formula, Sheet
from kindynos.workbooks.values import Value

MOST_NAMED = 12  # other changes that are named
SWITCHES = "switches"  # the sheet of those that say which formula a cell has


@dataclass
class ChangedCells:
    """Figures by cell, with the values of both workbooks; formulas by cell, or figures in place of
    them, as both have them; and what else differs, in words.
    """

    figures: dict[Cell, tuple[float, float]] = field(default_factory=dict)
    formulas: dict[Cell, tuple[str, str]] = field(default_factory=dict)
    others: list[str] = field(default_factory=list)

    @property
    def words(self) -> tuple[str, ...]:
        """What differs beside figures, the first of many."""
        listed = [f"{c}: ={a} -> ={b}" for c, (a, b) in self.formulas.items()] + self.others
        more = [f"{len(listed) - MOST_NAMED} more cells"] if len(listed) > MOST_NAMED else []
        return (*listed[:MOST_NAMED], *more)


def changed_cells(old: Contents, new: Contents) -> ChangedCells:
    """Return what differs between two workbooks."""
    changed = ChangedCells()
    for name in dict.fromkeys([*old.sheets, *new.sheets]):
        one, two = old.sheets.get(name), new.sheets.get(name)
        if one is None or two is None:
            changed.others.append(f"the sheet {name} is {'new' if one is None else 'gone'}")
            continue
        for place in sorted({*one.values, *two.values, *one.formulas, *two.formulas}):
            _compare(changed, Cell(name, *place), (one, two))
        if one.shared != two.shared:
            changed.others += [
                f"{name}, copied formula: ={one.shared[k][0]} -> ={two.shared[k][0]}"
                for k in one.shared
                if k in two.shared and one.shared[k] != two.shared[k]
            ]
    return changed


def _compare(changed: ChangedCells, cell: Cell, sheets: Sequence[Sheet]) -> None:
    """Add a cell to what differs, if it does."""
    place = (cell.row, cell.column)
    formulas = [sheet.formulas.get(place) for sheet in sheets]
    before, after = (sheet.values.get(place) for sheet in sheets)
    if formulas[0] == formulas[1] and (formulas[0] is not None or before == after):
        return
    if formulas == [None, None] and isinstance(before, float) and isinstance(after, float):
        changed.figures[cell] = before, after
        return
    texts = [
        _alone(formula, value) for formula, value in zip(formulas, (before, after), strict=True)
    ]
    if texts[0] is not None and texts[1] is not None:
        changed.formulas[cell] = texts[0], texts[1]
        return
    shown = [
        f"={formula.text}" if formula is not None else "empty" if value is None else value
        for formula, value in zip(formulas, (before, after), strict=True)
    ]
    changed.others.append(f"{cell}: {shown[0]} -> {shown[1]}")


def _alone(formula: Formula | None, value: Value) -> str | None:
    """Return the entry of one cell, as a formula; None for a copy, an array and a text."""
    if formula is None:
        return repr(value) if isinstance(value, float) else None
    whole = formula.shared is None and formula.area is None and formula.text
    return formula.text if whole else None


def with_switches(new: Contents, changed: ChangedCells) -> tuple[Graph, list[Cell]]:
    """Return the newer workbook in which each formula that changed is the old or the new one, by a
    switch of 0 or 1 on a sheet of their own, and the cells of the switches.
    """
    name = SWITCHES
    while name in new.sheets:
        name += "_"
    sheets = {
        key: replace(sheet, formulas=dict(sheet.formulas)) for key, sheet in new.sheets.items()
    }
    switches = Sheet(name)
    cells = []
    for row, (cell, (before, after)) in enumerate(changed.formulas.items(), start=1):
        switches.values[row, 1] = 1.0
        switches.bottom = row
        text = f"IF({name}!$A${row}<>0,{after},{before})"
        sheets[cell.sheet].formulas[cell.row, cell.column] = Formula(text)
        cells.append(Cell(name, row, 1))
    graph = Graph.of(replace(new, sheets={**sheets, name: switches}))
    graph.hold()
    return graph, cells
