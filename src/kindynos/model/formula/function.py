"""What the formula language knows of a function: its arguments and what it gives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from kindynos.model.formula.kinds import Kind

# value: not a row; the last three are written out: a whole number, a text of a few, True or False
Wants = Literal["any", "row", "value", "table", "whole", "word", "flag"]

WRITTEN = ("whole", "word", "flag")


@dataclass(frozen=True)
class Parameter:
    """One argument of a function: its name, what it must be, and whether it may be left out."""

    name: str
    wants: Wants = "any"
    optional: bool = False
    words: tuple[str, ...] = ()  # what a word may be


@dataclass(frozen=True)
class Function:
    """A function of the language.

    ``gives`` is ``"same"`` for element by element, ``"column"`` for one value from each row, ``"row"`` for a row. ``compute``
    takes the arguments by position (what is written out by name) and gets ``periods=`` when ``gives`` is ``"row"``.
    """

    name: str
    parameters: tuple[Parameter, ...]
    gives: Literal["same", "column", "row"]
    compute: Callable[..., Any]
    help: str
    many: bool = False  # takes two or more values

    @property
    def inputs(self) -> tuple[Parameter, ...]:
        """The parameters that are worked out; the others are written out."""
        return tuple(p for p in self.parameters if p.wants not in WRITTEN)

    @property
    def whole_row(self) -> bool:
        """Whether it needs whole rows, and so cannot be used inside a group that is worked out period by period."""
        return self.gives != "same"

    def kind(self, kinds: list[Kind]) -> Kind:
        """The kind of the answer."""
        answer = Kind()
        for kind in kinds:
            answer = answer | (Kind() if kind.table else kind)
        return {"same": answer, "column": answer.of_column(), "row": Kind(True, answer.random)}[self.gives]
