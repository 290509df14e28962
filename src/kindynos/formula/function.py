"""What the formula language knows of a function: its arguments and what it gives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from kindynos.formula.shapes import Shape

# value: not a row; events: several amounts in a trial; the last four are written out: a whole
# number, a text of a few, True or False, a date
Wants = Literal["any", "row", "value", "table", "events", "whole", "word", "flag", "date"]

WRITTEN = ("whole", "word", "flag", "date")


@dataclass(frozen=True)
class Parameter:
    """One argument of a function: its name, what it must be, and whether it may be left out."""

    name: str
    wants: Wants = "any"
    optional: bool = False
    words: tuple[str, ...] = ()  # what a word may be
    events: bool = False  # whether events are allowed too


@dataclass(frozen=True)
class Function:
    """A function of the language.

    ``gives`` is ``"same"`` for element by element, ``"column"`` for one value from each row,
    ``"row"`` for a row; of events ``"events"``, or ``"cell"`` for one value from those of a trial
    (of a period, where they happen in periods). ``compute`` takes the arguments by position (what
    is written out by name) and gets ``periods=`` when ``gives`` is ``"row"``.
    """

    name: str
    parameters: tuple[Parameter, ...]
    gives: Literal["same", "column", "row", "events", "cell"]
    compute: Callable[..., Any]
    help: str
    many: bool = False  # takes two or more values
    by_year: bool = False  # whether it gets ``periods_a_year=`` too
    by_date: bool = False  # whether it gets ``ends=`` too, the last days of the periods

    @property
    def inputs(self) -> tuple[Parameter, ...]:
        """The parameters that are evaluated; the others are literals."""
        return tuple(p for p in self.parameters if p.wants not in WRITTEN)

    @property
    def whole_row(self) -> bool:
        """Whether it needs whole rows, and so cannot be used inside a group that is evaluated
        period by period.
        """
        return self.gives != "same"

    def shape_of(self, shapes: list[Shape]) -> Shape:
        """The kind of the answer."""
        whole = Shape()
        for shape in shapes:
            whole = whole | (Shape() if shape.table else shape)
        if whole.events:
            return Shape(whole.row, True, events=self.gives == "events")
        return {"same": whole, "column": whole.of_column(), "row": Shape(True, whole.random)}[
            self.gives
        ]
