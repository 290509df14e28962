"""What works out several lines of a model together without a function of Python, such as the cells
of a workbook: it takes whole arrays, keeps nothing between calls, and knows what each line needs.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping
from dataclasses import dataclass

from kindynos.arrays import Floats
from kindynos.formula.shapes import Shape

CONVERSIONS = frozenset({0.5, 100.0, 1000.0, 1e6})
COUNTS, YEARS = range(-1, 61), range(1900, 2101)  # whole numbers of periods, and labels of years


def is_figure(value: object) -> bool:
    """Return whether a constant may be a figure with a unit, such as a price."""
    if isinstance(value, bool) or not isinstance(value, int | float):
        return False
    return not (value in CONVERSIONS or value in COUNTS or value in YEARS)


@dataclass(frozen=True)
class Apart:
    """Two calculations whose different figures became quantities that both need, by name with the
    values of both; those that are switches between two formulas have ``words``. ``others`` says
    what else differs between them.
    """

    old: Calculation
    new: Calculation
    figures: Mapping[str, tuple[float, float]]
    words: Mapping[str, str]
    others: tuple[str, ...]


class Calculation(ABC):
    """Works out lines by name."""

    @abstractmethod
    def needs(self, name: str) -> tuple[str, ...]:
        """Return the quantities that a line needs."""

    @property
    @abstractmethod
    def file(self) -> str:
        """The file that it rests on."""

    @abstractmethod
    def stated(self) -> object:
        """Return all that decides what it works out, whatever was worked out since."""

    @property
    @abstractmethod
    def implied(self) -> frozenset[str]:
        """The quantities that follow from the file and are not stated by the model."""

    @abstractmethod
    def place_of(self, name: str) -> str | None:
        """Return where a quantity is in the file; None for one that does not."""

    @abstractmethod
    def is_row(self, name: str) -> bool:
        """Return whether a line has one number per period."""

    @abstractmethod
    def evaluate(
        self, names: Collection[str], values: Mapping[str, Floats], trials: int
    ) -> dict[str, Floats]:
        """Return lines as arrays with the trials last, from the values of what they need."""

    def apart_from(self, new: Calculation) -> Apart | None:
        """Return this one and a newer one with the figures that differ as quantities of their own;
        None where they cannot be compared.
        """
        return None

    def hides_figures(self, name: str) -> bool:
        """Return whether a line rests on figures that the model does not name, which may have units
        of their own.
        """
        return True

    def shape_of(self, name: str, shapes: Mapping[str, Shape]) -> Shape:
        """Return the shape of a line, which is random where something that it needs is."""
        return Shape(
            row=self.is_row(name), random=any(shapes[need].random for need in self.needs(name))
        )
