"""The kinds of quantities: what shape a value has, known before anything is evaluated."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Shape:
    """Whether a quantity has a value for each period (``row``), whether it differs by trial
    (``random``), and whether it has several amounts in a trial (``events``).
    """

    row: bool = False
    random: bool = False
    table: bool = False
    events: bool = False

    def __str__(self) -> str:
        if self.table:
            return "table"
        if self.events:
            return "events"
        if self.row:
            return "row"
        return "one per trial" if self.random else "number"

    def __or__(self, other: Shape) -> Shape:
        """The kind of something computed from both, element by element."""
        return Shape(
            self.row or other.row, self.random or other.random, events=self.events or other.events
        )

    @property
    def array(self) -> bool:
        """Whether its values are an array with the trials last, or one that broadcasts to it."""
        return not (self.table or self.events)

    def of_column(self) -> Shape:
        """The kind of a total over the periods."""
        return Shape(False, self.random)

    def dimensions(self, periods: int, trials: int) -> tuple[int, ...]:
        """The shape in the library's layout."""
        width = trials if self.random else 1
        if self.row:
            return periods, width
        return (trials,) if self.random else ()


NUMBER = Shape()
ROW = Shape(row=True)
TABLE = Shape(table=True)
