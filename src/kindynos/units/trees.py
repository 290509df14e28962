"""Units along the tree of a formula: what unit it gives, and where its parts do not fit."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from fractions import Fraction

import numpy as np

from kindynos.formula.tree import (
    PERIOD,
    PERIODS_A_YEAR,
    Call,
    Expression,
    Name,
    Number,
    Operation,
    Previous,
)
from kindynos.tables.periods import DAYS_A_YEAR
from kindynos.units.algebra import LARGEST_POWER, PLAIN_NUMBER, PURE_UNIT, Unit, bounded
from kindynos.units.comparing import CLOSE, TIME, Gap, counted, gap_between
from kindynos.units.rules import RULES

Part = tuple[Expression, Unit | None]
# numbers by which units are converted, or small counts; powers of ten beside them
CONVERSIONS = frozenset(
    {12, 52, 365, 365.25, 360, 24, 60, 7, 4, 3, 3600, 8760, 30, 2, 5, 250, 1440, 0.5}
)
SUMS = {"+": "adds", "-": "subtracts"}


class TreeUnits:
    """The units of formulas of one model.

    ``known`` has the units of quantities, None where there is none. ``contradicts(words, left,
    right, gap)`` hears of two parts that do not fit, and returns whether that is a mistake;
    ``wrong_rate(function, rate, of_period)`` hears of a rate that is no share, or not of a period.
    """

    def __init__(
        self,
        known: Mapping[str, Unit | None],
        over_periods: bool,
        contradicts: Callable[[str, Part, Part, Gap], bool],
        wrong_rate: Callable[[str, Part, bool], None],
    ) -> None:
        self.known, self.over_periods = known, over_periods
        self.contradicts, self.wrong_rate = contradicts, wrong_rate

    def of(self, node: Expression | None) -> Unit | None:
        """Return the unit of a part of a formula, None where it is not known."""
        if isinstance(node, Number):
            return PLAIN_NUMBER
        if isinstance(node, Name):
            own = (PERIOD, PERIODS_A_YEAR)
            return PLAIN_NUMBER if node.name in own else self.known.get(node.name)
        if isinstance(node, Previous):
            parts = [(node, self.known.get(node.name)), (node.first, self.of(node.first))]
            return self.together(parts, "previous stands for")
        if isinstance(node, Operation):
            return self._operation(node)
        return self._call(node) if isinstance(node, Call) else None

    def together(self, parts: Sequence[Part], what: str) -> Unit | None:
        """Return the common unit of parts that are added, compared or chosen between."""
        with_unit = [(part, unit) for part, unit in parts if unit is not None and not unit.plain]
        for position in range(len(with_unit) - 1):
            (left, a), (right, b) = with_unit[position], with_unit[position + 1]
            gap = gap_between(a, b)
            if gap is None:
                continue
            if self.contradicts(what, (left, a), (right, b), gap) or gap.what != "count":
                return None
            apart = set(a.times(b, -1).bases)  # words left out what was counted
            with_unit = [(part, unit.without(apart)) for part, unit in with_unit]
        if not with_unit:
            return PLAIN_NUMBER if all(unit is not None for _, unit in parts) else None
        unit = with_unit[0][1]
        beside_number = any(u is not None and u.plain for _, u in parts)
        # 1 + growth, where growth is a year: a number
        rate = all(base == TIME and power < 0 for base, power in unit.bases.items())
        return replace(PURE_UNIT, literal=unit.literal) if beside_number and rate else unit

    def _operation(self, node: Operation) -> Unit | None:
        parts: list[Part] = [(part, self.of(part)) for part in node.parts]
        symbol = node.symbol
        if len(parts) == 1:
            return parts[0][1] if symbol in SUMS else PURE_UNIT
        if symbol in SUMS:
            return self.together(parts, SUMS[symbol])
        if symbol == "if":
            return self.together([parts[0], parts[2]], "chooses between")
        if symbol in ("and", "or", "not"):
            return PURE_UNIT
        if symbol in ("*", "/", "//"):
            return self._product(parts, 1 if symbol == "*" else -1)
        if symbol == "**":
            return self._power(parts)
        if symbol == "%":
            return parts[0][1]
        self.together(parts, "compares")
        return PURE_UNIT

    def _product(self, parts: Sequence[Part], power: int) -> Unit | None:
        (left, a), (right, b) = parts
        if a is None or b is None:
            return None
        unit = counted(a.times(b, power))
        for part, way in ((left, 1), (right, power)):
            value = _number_of(part)
            if value is None or unit.plain or value in (0, 1):
                continue
            size = bounded(abs(value)) ** way
            unit = replace(
                unit,
                sizes=frozenset([*unit.sizes, *(own / size for own in unit.sizes)]),
                literal=unit.literal or abs(value) != 1,
                odd=unit.odd or not _is_conversion(abs(value)),
            )
        return unit

    def _power(self, parts: Sequence[Part]) -> Unit | None:
        unit, exponent = parts[0][1], _number_of(parts[1][0])
        if unit is None:
            return None
        if exponent is not None and abs(exponent) <= LARGEST_POWER:
            return unit.power(Fraction(exponent).limit_denominator(12))
        return PURE_UNIT if not unit.bases else None

    def _call(self, node: Call) -> Unit | None:
        name, rule = node.function.name, RULES[node.function.name]
        if node.function.many:
            words = "adds" if name == "sum_of" else f"takes the {name} of"
            return self.together([(p, self.of(p)) for p in node.arguments if p is not None], words)
        arguments: dict[str, Part] = {
            parameter.name: (part, self.of(part))
            for parameter, part in zip(node.function.inputs, node.arguments, strict=False)
            if part is not None
        }
        self._check_rate(name, arguments)
        compared = [_of_a_year(arguments[k], k) for k in rule.together if k in arguments]
        common = self.together(compared, f"{name} takes together") if compared else None
        if rule.gives in arguments:
            return arguments[rule.gives][1]
        if rule.gives == "together":
            return common
        if rule.gives == "pure" or rule.gives == "start":
            return PURE_UNIT
        return self._special(rule.gives, common, arguments)

    def _special(
        self, gives: str, common: Unit | None, arguments: Mapping[str, Part]
    ) -> Unit | None:
        """Return the unit of a root, a value of a share, or a cost of a quantity."""
        if gives == "root":
            unit = next(iter(arguments.values()))[1]
            return None if unit is None else unit.power(Fraction(1, 2))
        if gives == "per share" and "shares" in arguments:
            shares = arguments["shares"][1]
            return None if common is None or shares is None else common.times(shares, -1)
        if gives == "per quantity":
            cost, quantity = (arguments[n][1] for n in ("yearly_cost", "yearly_quantity"))
            return None if cost is None or quantity is None else cost.times(quantity, -1)
        return None

    def _check_rate(self, name: str, arguments: Mapping[str, Part]) -> None:
        """Say of a rate that it is no share, or not one of a period."""
        if "rate" not in arguments or name in ("per_period", "per_year"):
            return
        unit = arguments["rate"][1]
        if unit is None or unit.plain:
            return
        if any(base != TIME for base in unit.bases):
            self.wrong_rate(name, arguments["rate"], False)
        elif (
            name not in YEARLY_RATE
            and self.over_periods
            and not unit.literal
            and not _about_1(unit)
        ):
            self.wrong_rate(name, arguments["rate"], True)


YEARLY_RATE = ("npv_dated",)  # functions whose rate is that of a year


def _of_a_year(part: Part, parameter: str) -> Part:
    """Return a part with the unit of a year of it, where it is one a year."""
    node, unit = part
    if parameter != "yearly_cost" or unit is None or TIME not in unit.bases:
        return part
    return node, unit.times(Unit.of(TIME, DAYS_A_YEAR))


def _about_1(unit: Unit) -> bool:
    return any(max(size, 1 / size) <= CLOSE for size in unit.sizes)


def _is_conversion(number: float) -> bool:
    """Return whether units are converted by a number, or it is a small count."""
    tens = math.log10(number)
    return abs(tens - round(tens)) < 1e-9 or number in CONVERSIONS


def _number_of(node: Expression) -> float | None:
    """Return what a part of plain numbers is; None for any other."""
    if isinstance(node, Number):
        return node.value
    if isinstance(node, Operation):
        values = [_number_of(part) for part in node.parts]
        if None not in values:
            try:
                with np.errstate(all="ignore"):
                    value = float(node.compute(*values))
            except (ArithmeticError, ValueError, TypeError):
                return None
            return value if math.isfinite(value) else None
    return None
