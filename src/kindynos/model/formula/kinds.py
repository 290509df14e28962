"""The kinds of quantities: what shape a value has, known before anything is worked out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Kind:
    """Whether a quantity has a value for each period (``row``) and whether it differs by trial (``random``)."""

    row: bool = False
    random: bool = False
    table: bool = False

    def __str__(self) -> str:
        if self.table:
            return "table"
        if self.row:
            return "row"
        return "one a trial" if self.random else "number"

    def __or__(self, other: Kind) -> Kind:
        """The kind of something worked out from both, element by element."""
        return Kind(self.row or other.row, self.random or other.random)

    def of_column(self) -> Kind:
        """The kind of a total over the periods."""
        return Kind(False, self.random)

    def shape(self, periods: int, trials: int) -> tuple[int, ...]:
        """The shape in the library's layout."""
        width = trials if self.random else 1
        if self.row:
            return periods, width
        return (trials,) if self.random else ()


NUMBER = Kind()
ROW = Kind(row=True)
TABLE = Kind(table=True)
