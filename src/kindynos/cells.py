"""Texts of tables whose figures keep their values, so that no one reads a number from its text."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Self


@dataclass(frozen=True)
class Printed:
    """A figure as it is printed: its value, and how many decimals are shown.

    Of one in ``per_cent`` the value is the fraction. ``before`` is a sign or a word, as in "± 3".
    """

    value: float
    decimals: int
    per_cent: bool = False
    before: str = ""

    @property
    def text(self) -> str:
        """The figure with thousands separators."""
        number = f"{100 * self.value if self.per_cent else self.value:,.{self.decimals}f}"
        if not any(letter in "123456789" for letter in number):
            number = number.lstrip("-")  # what rounds to nothing has no sign
        return f"{self.before}{number}{' %' if self.per_cent else ''}"

    @property
    def rounded(self) -> float:
        """The value with just the digits that are shown."""
        times = 100 if self.per_cent else 1
        return float(f"{times * self.value:.{self.decimals}f}") / times

    @property
    def exact(self) -> Decimal:
        """The value with just the digits that are shown."""
        return Decimal(f"{self.value:.{self.decimals}f}")


class Cell(str):
    """A text that remembers which of its ``parts`` are figures.

    >>> one = Cell.of(Printed(10_892_000.0, 0), " ", Printed(20_000.0, 0, before="± "))
    >>> one, one.divided(6), one.figure is None
    ('10,892,000 ± 20,000', '10.892 ± 0.020', True)
    """

    parts: tuple[str | Printed, ...]

    @classmethod
    def of(cls, *parts: str | Printed) -> Self:
        """Return the cell of texts, cells and figures one after the other."""
        flat: list[str | Printed] = []
        for part in parts:
            flat += part.parts if isinstance(part, Cell) else [part]
        cell = cls("".join(part.text if isinstance(part, Printed) else part for part in flat))
        cell.parts = tuple(part for part in flat if part != "")
        return cell

    def __reduce__(self) -> tuple[object, ...]:
        return _restored, self.parts

    @property
    def figure(self) -> Printed | None:
        """The figure that it is, None for a text or several figures."""
        first = self.parts[0] if len(self.parts) == 1 else None
        return first if isinstance(first, Printed) else None

    @property
    def amounts(self) -> list[Printed]:
        """Its figures but those in per cent."""
        figures = (part for part in self.parts if isinstance(part, Printed))
        return [figure for figure in figures if not figure.per_cent]

    def divided(self, digits: int) -> Cell:
        """Return the cell with its amounts divided by a power of ten: no digit is lost, and all
        have as many decimals.
        """
        exact = [figure.exact.scaleb(-digits).normalize() for figure in self.amounts]
        decimals = max((max(-int(amount.as_tuple().exponent), 0) for amount in exact), default=0)
        scale = 10.0**digits
        return Cell.of(
            *(
                Printed(part.value / scale, decimals, before=part.before)
                if isinstance(part, Printed) and not part.per_cent
                else part
                for part in self.parts
            )
        )


def _restored(*parts: str | Printed) -> Cell:
    return Cell.of(*parts)


def amounts_of(cells: Iterable[str]) -> list[Printed]:
    """Return the amounts in cells."""
    return [figure for cell in cells if isinstance(cell, Cell) for figure in cell.amounts]
