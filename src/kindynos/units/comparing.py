"""Whether two units can be those of figures that are added, compared or the same."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from itertools import product
from typing import Literal

from kindynos.units.algebra import Unit

# bases that differ in kind and not only in words; people leave out what they count
TIME = "time"
PHYSICAL_KINDS = frozenset({TIME, "kWh", "kg", "km", "l", "m2"})
CLOSE = 1.03  # ratio of sizes that are one: months of 30 days, years of 360
ROUGH = 1.7  # the same where a number of the formula may be a conversion


@dataclass(frozen=True)
class Gap:
    """What tells two units apart: their ``kind``, a ``count`` that words may have left out, or a
    ``size``, by a factor.
    """

    what: Literal["kind", "count", "size"]
    factor: float = 1.0


def gap_between(a: Unit, b: Unit, strict: bool = False) -> Gap | None:
    """Return what tells two units apart, None where nothing does. With ``strict`` another thing
    that is counted is another kind.
    """
    bases = dict(a.times(b, -1).bases)
    literal, odd = a.literal or b.literal, a.odd or b.odd
    if literal:
        bases.pop(TIME, None)
    if odd:
        bases = {base: power for base, power in bases.items() if base.startswith("$")}
    if (a.exchange or b.exchange) and _only_exchanged(bases):
        bases = {}
    if bases and (strict or any(b.startswith("$") or b in PHYSICAL_KINDS for b in bases)):
        return Gap("kind")
    if odd:
        return None
    x, y = min(product(a.sizes, b.sizes), key=lambda pair: abs(math.log(pair[0] / pair[1])))
    if max(x / y, y / x) <= (ROUGH if literal else CLOSE):
        return Gap("count") if bases and a.is_money and b.is_money else None
    return Gap("size", x / y)


def _only_exchanged(bases: Mapping[str, Fraction]) -> bool:
    """Return whether it is money that was exchanged the other way round: USD/EUR for EUR/USD."""
    money = all(base.startswith("$") for base in bases)
    return money and sorted(bases.values()) in ([], [-2, 2])


def counted(unit: Unit) -> Unit:
    """Return money without the things that it was multiplied by: who says EUR for the price of a
    cup means EUR a cup.
    """
    if not any(base.startswith("$") and power > 0 for base, power in unit.bases.items()):
        return unit
    dropped = {
        base
        for base, power in unit.bases.items()
        if power > 0 and not base.startswith("$") and base not in PHYSICAL_KINDS
    }
    return unit.without(dropped)
