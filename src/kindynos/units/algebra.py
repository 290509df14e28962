"""Units as powers of base units with a size, and what becomes of them in products and powers.

A base is a text: "$EUR" a currency, "@month" a length of time, "&kwh" a physical unit, and anything
else a thing that is counted, such as "cup".
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from itertools import product

MOST_SIZES = 24  # readings of one unit, where numbers in a formula may be conversions
LARGEST_SIZE, LARGEST_POWER = 1e24, 12  # of any unit; what lies beyond is cut to them


def bounded(size: float) -> float:
    """Return a size within those of units."""
    return min(max(size, 1 / LARGEST_SIZE), LARGEST_SIZE)


@dataclass(frozen=True)
class Unit:
    """Powers of base units, and the possible ``sizes`` of 1 in them.

    ``plain`` is a number alone, which fits everything in a sum; ``odd`` says that a number that is
    no conversion took part, and may stand for any quantity but money; ``literal`` that a number is
    among the factors, and may be a conversion; ``exchange`` that it is a rate of exchange, which
    the market writes both ways.
    """

    bases: Mapping[str, Fraction] = field(default_factory=dict)
    sizes: frozenset[float] = frozenset([1.0])
    plain: bool = False
    odd: bool = False
    literal: bool = False
    exchange: bool = False

    def __post_init__(self) -> None:
        powers = {
            base: max(min(power, Fraction(LARGEST_POWER)), Fraction(-LARGEST_POWER))
            for base, power in self.bases.items()
        }
        object.__setattr__(self, "bases", powers)
        object.__setattr__(self, "sizes", frozenset(map(bounded, self.sizes)))

    @classmethod
    def of(cls, base: str, size: float = 1.0) -> Unit:
        """Return a base unit, or some of it."""
        return cls({base: Fraction(1)}, frozenset([size]))

    @classmethod
    def of_size(cls, size: float) -> Unit:
        """Return a pure number of a size."""
        return cls(sizes=frozenset([size]))

    def of_exchange(self) -> Unit:
        """Return it as a rate of exchange."""
        return replace(self, exchange=True)

    def times(self, other: Unit, power: int = 1) -> Unit:
        """Return the product with a power of another unit."""
        bases = dict(self.bases)
        for base, exponent in other.bases.items():
            bases[base] = bases.get(base, Fraction(0)) + power * exponent
        sizes = {a * b**power for a, b in product(self.sizes, other.sizes)}
        return Unit(
            {base: exponent for base, exponent in sorted(bases.items()) if exponent},
            frozenset(sorted(sizes)[:MOST_SIZES]),
            self.plain and other.plain,
            self.odd or other.odd,
            self.literal or other.literal,
            self.exchange or other.exchange,
        )

    def power(self, exponent: Fraction) -> Unit:
        """Return a power of it."""
        return replace(
            self,
            bases={base: own * exponent for base, own in self.bases.items()},
            sizes=frozenset(size ** float(exponent) for size in self.sizes),
        )

    def without(self, bases: Collection[str]) -> Unit:
        """Return it without some bases."""
        left = {b: p for b, p in self.bases.items() if b not in bases}
        return replace(self, bases=left)

    @property
    def is_money(self) -> bool:
        """Whether a currency is among its bases."""
        return any(base.startswith("$") for base in self.bases)


PURE_UNIT = Unit()
PLAIN_NUMBER = Unit(plain=True)
