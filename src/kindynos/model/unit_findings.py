"""Contradictions between the units that an analyst states, found through the formulas: a factor
that was left out, two currencies in a sum, a yearly rate in a monthly model.

Only what the analyst keeps track of is compared: currencies always, and any other unit if it stands
above and below the line somewhere in the model. What cannot be read for certain fits everything.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction

from kindynos.distributions.base import Distribution
from kindynos.formatting import brief
from kindynos.formula.tree import Call, Expression, Name, Number, Operation, Previous
from kindynos.model.scaling import scaling_findings
from kindynos.program.program import Program
from kindynos.tables.periods import DAYS as PERIOD_DAYS
from kindynos.tables.periods import DAYS_A_YEAR
from kindynos.units.algebra import PURE_UNIT, Unit
from kindynos.units.comparing import TIME, Gap, gap_between
from kindynos.units.reading import read_unit
from kindynos.units.trees import Part, TreeUnits
from kindynos.units.words import DAYS, PHYSICAL

AROUND_1 = (0.8, 1.25)  # the mean of a driver without a unit that is a multiplier
LEAST_PER_CENT, MOST_PER_CENT = 1.5, 100.0  # of a share that was stated as a percentage


@dataclass(frozen=True)
class UnitFinding:
    """A contradiction, the line that it is about, and what would mend it."""

    name: str
    text: str


@dataclass(frozen=True)
class UnitReview:
    """What the units of a model say: ``found`` contradictions, the units that formulas ``propose``
    for lines without one, the texts that could not be ``read``, by quantity, and the lines that
    were not compared with their unit, with the quantities without one that are why.
    """

    found: list[UnitFinding]
    proposed: dict[str, str]
    unread: dict[str, str]
    tracked: tuple[str, ...]
    uncompared: dict[str, tuple[str, ...]]


def unit_review(program: Program, *, calculations: bool = True) -> UnitReview:
    """Return what the units of a model say: along its formulas, about 0.1 ms for each line, and of
    ``calculations`` in Python and workbooks by how they scale, which calls them.
    """
    return _Review(program).review(calculations)


class _Review:
    """The units of one model."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self.texts = {name: program.unit(name) for name in program.shapes}
        read = {name: read_unit(text) for name, text in self.texts.items()}
        currencies = {
            base for unit in read.values() if unit for base in unit.bases if base.startswith("$")
        }
        if len(currencies) == 1:  # the one that cents are of
            money = next(iter(currencies))[1:]
            read = {name: read_unit(text, money) for name, text in self.texts.items()}
        self.days = PERIOD_DAYS[program.timeline.every] if program.timeline.periods else None
        self.tracked = _tracked(read.values())
        self.known = {name: self._reduced(unit, name) for name, unit in read.items()}
        self.stated = dict(self.known)
        self.found: list[UnitFinding] = []
        self.line = ""
        self.unread = {
            name: text for name, text in self.texts.items() if text and read[name] is None
        }

    def review(self, calculations: bool) -> UnitReview:
        """Work out the unit of every line, and compare it with the one stated."""
        proposed: dict[str, str] = {}
        uncompared: dict[str, tuple[str, ...]] = {}
        for name in (*self.program.givens, *self.program.drivers):
            if self.known[name] is None and not self.texts[name] and self._is_share(name):
                self.known[name] = PURE_UNIT
        trees = TreeUnits(self.known, self.days is not None, self._contradicts, self._wrong_rate)
        for name in self.program.order:
            line = self.program.lines.get(name)
            if line is None or line.tree is None:
                continue
            self.line = name
            before = len(self.found)
            unit, stated = trees.of(line.tree), self.stated.get(name)
            if stated is not None:
                if unit is None:
                    uncompared[name] = tuple(
                        one
                        for one in (*line.needs, *line.needs_earlier)
                        if self.known.get(one) is None and not self.texts.get(one)
                    )
                if len(self.found) == before:  # one finding for one wrong figure
                    self._compare_stated(name, unit, stated)
                continue
            self.known[name] = unit if unit is not None and not unit.plain else None
            if unit is not None and not self.texts[name] and not unit.plain and not unit.odd:
                proposed |= self._proposed(name, unit)
        self.found += self._percentages()
        if calculations:
            self.found += self._of_calculations()
        findings = list(dict.fromkeys(self.found))
        return UnitReview(
            findings,
            proposed,
            self.unread,
            tuple(sorted(map(_shown_base, self.tracked))),
            {name: because for name, because in uncompared.items() if because},
        )

    def _reduced(self, unit: Unit | None, name: str) -> Unit | None:
        """Return a unit without what the model does not keep track of; in a model over periods a
        length of time is a number of them.
        """
        if unit is None:
            return None
        size, bases = 1.0, dict[str, Fraction]()
        for base, power in unit.bases.items():
            kept, factor = self._compared_base(base, name)
            size *= factor ** float(power)
            if kept in self.tracked:
                bases[kept] = bases.get(kept, Fraction(0)) + power
        bases = {base: power for base, power in sorted(bases.items()) if power}
        return replace(unit, bases=bases, sizes=frozenset(own * size for own in unit.sizes))

    def _compared_base(self, base: str, name: str) -> tuple[str, float]:
        """Return the base that is compared, and how many of it a base is; sizes of what nobody
        keeps track of say nothing.
        """
        if base.startswith("@"):
            days = DAYS[base[1:]]
            if self.days is not None:
                converted = name in self.program.yearly or getattr(
                    self.program.givens.get(name), "convert", False
                )
                return "", 1.0 if converted else days / self.days
            return TIME, days if TIME in self.tracked else 1.0
        if base.startswith("&"):
            counted_in, size = PHYSICAL[base[1:]]
            return counted_in, size if counted_in in self.tracked else 1.0
        return base, 1.0

    def _is_share(self, name: str) -> bool:
        """Return whether a figure without a unit lies between 0 and 1, as shares and taxes do, or
        a driver is about 1, as multipliers are.
        """
        given, driver = self.program.givens.get(name), self.program.drivers.get(name)
        if given is not None:
            figures = given.array
            return figures.ndim < 2 and bool((figures > 0).all() and (figures < 1).all())
        distribution = getattr(driver, "distribution", None)
        if not isinstance(distribution, Distribution):
            return False
        low, high = distribution.support
        about_1 = AROUND_1[0] <= float(distribution.mean) <= AROUND_1[1]
        return bool(low >= 0 and high <= 1) or (about_1 and self._multiplies(name))

    def _multiplies(self, name: str) -> bool:
        """Return whether formulas multiply something that has a unit by a quantity."""
        for line in self.program.lines.values():
            for node in () if line.tree is None else line.tree.walk():
                if not isinstance(node, Operation) or node.symbol not in ("*", "/"):
                    continue
                others = [part for part in node.parts if getattr(part, "name", None) != name]
                named = len(others) < len(node.parts)
                if named and any(self.texts.get(one) for part in others for one in part.names()):
                    return True
        return False

    # what is found

    def _contradicts(self, what: str, left: Part, right: Part, gap: Gap) -> bool:
        """Say that two parts do not fit. What is only counted in words is a mistake if some figure
        would mend it, and the two are not both stated that way.
        """
        (part, unit), (other, second) = left, right
        mend = self._mend(unit, second, part, other)
        lines = self.program.lines
        stated = all(isinstance(p, Name) and p.name not in lines for p in (part, other))
        if gap.what == "count" and (stated or not mend):
            return False
        shown = [(_written(part), self._words(unit, part))]
        shown.append((_written(other), self._words(second, other)))
        join = "and"
        if what == "subtracts":  # the second from the first
            shown, join = shown[::-1], "from"
        names, units = (f" {join} ".join(pair) for pair in zip(*shown, strict=True))
        self._say(f"{what} {names}: {units}{_times(gap)}{mend}")
        return True

    def _wrong_rate(self, function: str, rate: Part, of_period: bool) -> None:
        part, unit = rate
        shown, words = _written(part), self._words(unit, part)
        if of_period:
            every = self.program.timeline.every
            self._say(
                f"{function} takes {shown} as the rate of a {every}, and its unit is {words}; "
                f"per_period({shown}) makes it one"
            )
        else:
            self._say(f"{function} takes {shown} as a rate, and it is {words}")

    def _compare_stated(self, name: str, unit: Unit | None, stated: Unit) -> None:
        gap = None if unit is None or unit.plain else gap_between(unit, stated)
        if unit is None or gap is None:
            return
        if unit.literal and not unit.bases and stated.is_money:
            return  # an amount that is typed into the formula
        mend = self._mend(unit, stated)
        if gap.what == "count" and not mend:
            return
        text = f"its formula gives {self._words(unit)}, and its unit is {self.texts[name]}"
        self._say(f"{text}{_times(gap)}{mend}")

    def _percentages(self) -> Iterator[UnitFinding]:
        """Yield given shares in per cent that are stated as percentages."""
        for name, given in self.program.givens.items():
            text = (self.texts[name] or "").strip()
            if text.startswith("%") and given.array.ndim == 0:
                figure = abs(float(given.array))
                divided = self._is_divided_by_100(name)
                if LEAST_PER_CENT <= figure <= MOST_PER_CENT and not divided:
                    words = f"is {brief(figure)}, in {text}: a formula takes it as "
                    yield UnitFinding(name, f"{words}{brief(100 * figure)} %")

    def _of_calculations(self) -> Iterator[UnitFinding]:
        """Yield what functions and workbooks contradict, by how they scale."""
        told = set()
        for finding in scaling_findings(self.program, self.known):
            if finding.base not in self.tracked or (finding.name, finding.mend) in told:
                continue
            told.add((finding.name, finding.mend))  # one finding for one wrong figure
            shown, stated = _shown_base(finding.base), self.texts.get(finding.mend)
            unit = {finding.base: finding.power} if finding.power else {}
            would = self._words(Unit(unit)) if unit else f"no {shown}"
            yield UnitFinding(
                finding.name,
                f"does not scale with {shown} as its unit says; it would if {finding.mend} "
                f"({stated}) had {would} in its unit",
            )

    def _is_divided_by_100(self, name: str) -> bool:
        """Return whether formulas divide a figure by 100, or a product that it is part of."""
        for line in self.program.lines.values():
            for node in () if line.tree is None else line.tree.walk():
                if not isinstance(node, Operation) or node.symbol not in ("*", "/"):
                    continue
                last = node.parts[-1]
                hundred = isinstance(last, Number) and last.value in (100.0, 0.01)
                if hundred and name in node.parts[0].names():
                    return True
        return False

    def _say(self, text: str) -> None:
        self.found.append(UnitFinding(self.line, text))

    # what would mend it

    def _mend(
        self,
        a: Unit | None,
        b: Unit | None,
        left: Expression | None = None,
        right: Expression | None = None,
    ) -> str:
        """Return which one figure would make two units alike; "" for none."""
        if a is None or b is None:
            return ""
        inside = self._under(left)
        beyond = self._under(right) if right is not None else set()
        for name in self._ranked():
            unit = self.known[name]
            if unit is None or unit.plain or not (unit.bases or unit.sizes != PURE_UNIT.sizes):
                continue
            words = self._one_mend(name, unit, (a, b), name in inside, right, name in beyond)
            if words:
                return f"; {words}"
        return ""

    def _one_mend(
        self,
        name: str,
        unit: Unit,
        pair: tuple[Unit, Unit],
        inside: bool,
        right: Expression | None,
        beyond: bool,
    ) -> str:
        a, b = pair
        what = f"{name} ({self.texts[name]})" if self.texts[name] else name
        if inside and _fits(a, unit, 2, b):
            return f"is it to be multiplied by {what}, not divided?"
        if inside and _fits(a, unit, -2, b):
            return f"is it to be divided by {what}, not multiplied?"
        # what was forgotten is a factor: an amount of money is none, and nothing but a rate of
        # exchange is divided by
        money = [base for base in unit.bases if base.startswith("$")]
        exchange = len(money) == len(unit.bases) == 2
        amount = len(money) == len(unit.bases) and not exchange
        if not inside and not amount and _fits(a, unit, 1, b):
            return f"times {what} it would fit"
        if right is not None and not beyond and not amount and _fits(b, unit, 1, a):
            return f"{_written(right)} times {what} would fit"
        if not exchange:
            return ""
        if not inside and _fits(a, unit, -1, b):
            return f"divided by {what} it would fit"
        if right is not None and not beyond and _fits(b, unit, -1, a):
            return f"{_written(right)} divided by {what} would fit"
        return ""

    def _ranked(self) -> list[str]:
        """Return quantities in the order in which they are likely to have been forgotten: those
        that nothing uses, then those of the same line.
        """
        lines, line = self.program.lines, self.line
        used = {n for one in lines.values() for n in (*one.needs, *one.needs_earlier)}
        own = set(lines[line].needs)
        later = {name for name in lines if line in self.program.ancestors([name])}

        def rank(name: str) -> int:
            unused = name not in used and name not in self.program.outcomes
            return 0 if unused else 1 if name in own else 2

        return sorted((n for n in self.known if n != line and n not in later), key=rank)

    def _under(self, node: Expression | None) -> set[str]:
        """Return the quantities that a part rests on, of the whole line for None."""
        names = [self.line] if node is None else [*node.names(), *node.earlier_names()]
        return self.program.ancestors(names) | set(names)

    # words

    def _words(self, unit: Unit | None, node: Expression | None = None) -> str:
        """Return a unit as people write it: as the quantity states it, or its bases."""
        if isinstance(node, Name) and self.texts.get(node.name):
            return str(self.texts[node.name])
        if unit is None:
            return "unknown"
        bases, size = dict(unit.bases), min(unit.sizes, key=lambda own: abs(math.log(own)))
        if TIME in bases:
            word, size = _length_of(bases[TIME], size)
            bases[word] = bases.pop(TIME)
        up = [_raised(base, power) for base, power in bases.items() if power > 0]
        down = [_raised(base, -power) for base, power in bases.items() if power < 0]
        text = "·".join(up) or ("a number" if not down else "1")
        if not math.isclose(size, 1, rel_tol=0.03):
            text = f"{brief(size)} {text}" if bases else f"a number of size {brief(size)}"
        return text + "".join(f" a {base}" for base in down)

    def _proposed(self, name: str, unit: Unit) -> dict[str, str]:
        """Return the unit that a formula gives to a line without one, where it says something."""
        certain = len(unit.sizes) == 1 and not unit.literal
        return {name: self._words(unit)} if certain and unit.bases else {}


def _tracked(units: Iterable[Unit | None]) -> frozenset[str]:
    """Return the bases that are compared: currencies, others that are above and below the line,
    and time where something is shorter than a year.
    """
    above: set[str] = set()
    below: set[str] = set()
    lengths: set[float] = set()
    for unit in units:
        for stated, power in () if unit is None else unit.bases.items():
            base = stated
            if stated.startswith("@"):
                lengths.add(DAYS[stated[1:]])
                base = TIME
            elif stated.startswith("&"):
                base = PHYSICAL[stated[1:]][0]
            (above if power > 0 else below).add(base)
    tracked = {base for base in above | below if base.startswith("$")} | (above & below)
    if len(lengths) > 1 or any(length < DAYS_A_YEAR for length in lengths):
        tracked.add(TIME)
    return frozenset(tracked)


def _fits(a: Unit, unit: Unit, power: int, b: Unit) -> bool:
    return gap_between(a.times(unit.power(Fraction(power))), b, strict=True) is None


def _times(gap: Gap) -> str:
    if gap.what != "size":
        return ""
    return f", a factor of {brief(max(gap.factor, 1 / gap.factor))} apart"


def _shown_base(base: str) -> str:
    return base.lstrip("$")


def _raised(base: str, power: Fraction) -> str:
    return _shown_base(base) + ("" if power == 1 else f"^{power}")


def _length_of(power: Fraction, size: float) -> tuple[str, float]:
    """Return the length of time whose power a size comes nearest to, and what is left of it."""
    lengths = {
        word: days
        for word, days in DAYS.items()
        if (len(word) > 2 and word in PERIOD_DAYS) or word == "hour"
    }
    word = min(lengths, key=lambda one: abs(math.log(size / lengths[one] ** float(power))))
    return word, size / lengths[word] ** float(power)


def _written(node: Expression) -> str:
    """Return a part of a formula as it is written."""
    if isinstance(node, Name):
        return node.name
    if isinstance(node, Number):
        return f"{node.value:g}"
    if isinstance(node, Previous):
        return f"previous({node.name})"
    if isinstance(node, Call):
        inside = ", ".join(_written(part) for part in node.arguments if part is not None)
        return f"{node.function.name}({inside})"
    if not isinstance(node, Operation):
        return "a part"
    parts = [
        f"({_written(part)})"
        if isinstance(part, Operation) and part.symbol in "+-" and node.symbol not in "+-"
        else _written(part)
        for part in node.parts
    ]
    if node.symbol == "if":
        return f"{parts[0]} if {parts[1]} else {parts[2]}"
    return f" {node.symbol} ".join(parts) if len(parts) > 1 else f"{node.symbol}{parts[0]}"
