"""What changed between two models: given figures, drivers, formulas, correlations and periods.

Changes that cannot be made one without the other are one: a new line goes with the formula that
uses it, the rows of a cohort go together, and a row given for each period goes with their number.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np

from kindynos.errors import KindynosError
from kindynos.formula.functions import FUNCTIONS
from kindynos.formula.terms import Term, terms_of
from kindynos.formula.tree import PERIOD, Expression
from kindynos.program.calculation import Calculation
from kindynos.program.correlations import Correlation
from kindynos.program.digests import digest_of
from kindynos.program.quantities import Driver, Given, Line, Quantity
from kindynos.program.statement import Statement

Pair = frozenset[str]
WORKBOOK = "cells of the workbook"
PERIODS = "periods"
EACH = ", drawn for each period"
LOOSE = re.compile(r" (if|or|and) |[<>=]|^not ")  # what binds less than a sum does
WORD = re.compile(r"(?<![\w.'\"])[A-Za-z_]\w*")  # of a formula, but for those in quotes


@dataclass(frozen=True)
class Change:
    """A change, or several that cannot be separated: the quantities and the correlations that it
    moves, whether it moves the periods, and what it says of each.
    """

    name: str
    quantities: frozenset[str] = frozenset()
    correlations: frozenset[Pair] = frozenset()
    periods: bool = False
    words: tuple[str, ...] = ()

    def with_other(self, other: Change) -> Change:
        """Return both as one change."""
        return Change(
            self.name,
            self.quantities | other.quantities,
            self.correlations | other.correlations,
            self.periods or other.periods,
            (*self.words, *other.words),
        )


def changes_between(old: Statement, new: Statement) -> list[Change]:
    """Return what moves a figure from one model to another; units, sources and base values do not.
    Quantities of ``old`` that have another name in ``new`` must have been renamed before: see
    ``renamed``.
    """
    groups = _Groups(old, new)
    if old.timeline != new.timeline:
        periods = f"{_periods(old)} -> {_periods(new)}"
        groups.add(Change(PERIODS, periods=True, words=(periods,)))
    cells = _changed_cells(old, new)
    for name in dict.fromkeys([*old.quantities, *new.quantities]):
        before, after = old.quantities.get(name), new.quantities.get(name)
        if name in cells or _alike(before, after):
            continue
        groups.add(Change(name, frozenset({name}), words=(_told(name, before, after),)))
    if cells:
        count = f"{len(cells)} quantities of the workbook rest on other cells"
        groups.add(Change(WORKBOOK, frozenset(cells), words=(count,)))
    for change in _changed_correlations(old, new):
        groups.add(change)
    groups.join_what_belongs_together()
    return groups.named()


def joined_until_made(
    old: Statement, new: Statement, changes: list[Change], outcome: str, most: int
) -> list[Change]:
    """Return the changes, joined until the old model with any of them made works the outcome out as
    one number: a figure that became a row belongs to the formula that adds it up. Of more than
    ``most`` changes each is tried alone, and all but each.
    """
    while (failing := _not_made(old, new, changes, outcome, most)) is not None:
        culprit = next(
            (k for k in sorted(failing) if _is_made(old, new, changes, failing - {k}, outcome)),
            min(failing),
        )
        others = [k for k in range(len(changes)) if k not in failing]
        helped = [k for k in others if _is_made(old, new, changes, failing | {k}, outcome)]
        partner = next(iter([*helped, *others]))  # with all of them made it is the new model
        one, two = (changes[k] for k in sorted((culprit, partner)))
        earlier = one.name.replace(" and ", ", ")
        whole = replace(one.with_other(two), name=f"{earlier} and {two.name}")
        place = changes.index(one)
        changes = [c for c in changes if c is not one and c is not two]
        changes.insert(place, whole)
    return changes


def _not_made(
    old: Statement, new: Statement, changes: list[Change], outcome: str, most: int
) -> frozenset[int] | None:
    """Return the smallest mixture that does not work out; None where all do."""
    count = len(changes)
    sizes = range(1, count) if count <= most else (1, count - 1)
    for size in sizes:
        for mixture in map(frozenset, combinations(range(count), size)):
            if not _is_made(old, new, changes, mixture, outcome):
                return mixture
    return None


def _is_made(
    old: Statement, new: Statement, changes: list[Change], mixture: frozenset[int], outcome: str
) -> bool:
    selected = [changes[position] for position in sorted(mixture)]
    try:
        program = with_changes(old, new, selected).program
    except KindynosError:
        return False
    return outcome in program.shapes and not program.shapes[outcome].row


def with_changes(old: Statement, new: Statement, changes: Iterable[Change]) -> Statement:
    """Return the old model with some of the changes made."""
    selected = list(changes)
    names = frozenset[str]().union(*(change.quantities for change in selected))
    pairs = frozenset[Pair]().union(*(change.correlations for change in selected))
    quantities = {name: quantity for name, quantity in old.quantities.items() if name not in names}
    quantities |= {name: new.quantities[name] for name in names if name in new.quantities}
    # in the order of the new model, where what rests on what can be read
    order = [*new.quantities, *(name for name in old.quantities if name not in new.quantities)]
    quantities = {name: quantities[name] for name in order if name in quantities}

    entries = [entry for entry in old.correlations if frozenset(entry.names) not in pairs]
    entries += [entry for entry in new.correlations if frozenset(entry.names) in pairs]
    kept = [
        entry
        for entry in entries
        if all(isinstance(quantities.get(name), Driver) for name in entry.names)
    ]
    timeline = new.timeline if any(change.periods for change in selected) else old.timeline
    return Statement(new.name, timeline, quantities, tuple(kept))


def with_cells_apart(
    old: Statement, new: Statement
) -> tuple[Statement, Statement, dict[str, tuple[str, ...]]]:
    """Return both models with the figures and formulas that differ between their workbooks as given
    figures, and by the names of changes what they are in words: the formulas, and what else differs
    between the workbooks.
    """
    calculations = [_calculation_of(statement) for statement in (old, new)]
    if calculations[0] is None or calculations[1] is None:
        return old, new, {}
    apart = calculations[0].apart_from(calculations[1])
    taken = {*old.quantities, *new.quantities}
    if apart is None or taken & set(apart.figures):
        return old, new, {}
    sides = []
    for position, (statement, own) in enumerate(((old, apart.old), (new, apart.new))):
        quantities: dict[str, Quantity] = {
            name: Given(name, values[position]) for name, values in apart.figures.items()
        }
        for name, quantity in statement.quantities.items():
            quantities[name] = quantity
            if isinstance(quantity, Line) and quantity.calculation is not None:
                quantities[name] = replace(quantity, calculation=own)
        sides.append(replace(statement, quantities=quantities, scenarios={}))
    words = {name: (text,) for name, text in apart.words.items()}
    return sides[0], sides[1], {**words, **({WORKBOOK: apart.others} if apart.others else {})}


def _calculation_of(statement: Statement) -> Calculation | None:
    calculations = (
        quantity.calculation
        for quantity in statement.quantities.values()
        if isinstance(quantity, Line) and quantity.calculation is not None
    )
    return next(calculations, None)


def with_terms_apart(old: Statement, new: Statement) -> tuple[Statement, Statement, dict[str, str]]:
    """Return both models with the terms of a formula that were changed apart, such as a grant
    beside a tax, as lines of their own, and by their names the lines that they are of.
    """
    sides: list[Statement] = [old, new]
    owners: dict[str, str] = {}
    for name in old.quantities:
        lines = [statement.quantities.get(name) for statement in (old, new)]
        formulas = [line.formula if isinstance(line, Line) else None for line in lines]
        if formulas[0] is None or formulas[1] is None or formulas[0] == formulas[1]:
            continue
        before, after = (Counter(terms_of(formula)) for formula in map(str, formulas))
        apart = _apart(list((before - after).elements()), list((after - before).elements()))
        if len(apart) < 2:
            continue
        common = list((before & after).elements())
        labels = [f"{name}_term_{number + 1}" for number in range(len(apart))]
        whole = _sum_of([*common, *(Term(1, label) for label in labels)])
        owners |= dict.fromkeys(labels, name)
        for position, statement in enumerate(sides):
            quantities = dict(statement.quantities)
            line = quantities[name]
            assert isinstance(line, Line)
            for label, terms in zip(labels, apart, strict=True):
                quantities[label] = Line(label, formula=_sum_of(terms[position]))
            quantities[name] = replace(line, formula=whole)
            sides[position] = replace(statement, quantities=quantities, scenarios={})
    return sides[0], sides[1], owners


def _apart(gone: list[Term], come: list[Term]) -> list[tuple[list[Term], list[Term]]]:
    """Return terms that went and came in groups that have no quantity in common: of sales, -costs
    and (sales - costs) * 0.8, grant there are two.
    """
    groups: list[tuple[set[str], list[Term], list[Term]]] = []
    for side, terms in ((1, gone), (2, come)):
        for term in terms:
            names = set(WORD.findall(term.text)) - {*FUNCTIONS, PERIOD}
            near = [group for group in groups if group[0] & names]
            before = [one for group in near for one in group[1]]
            after = [one for group in near for one in group[2]]
            (before if side == 1 else after).append(term)
            names = names.union(*(group[0] for group in near))
            groups = [group for group in groups if group not in near]
            groups.append((names, before, after))
    return [(before, after) for _, before, after in groups]


def _sum_of(terms: list[Term]) -> str:
    """Return terms as a formula; 0 where there are none."""
    signed = [
        f"{'+' if term.sign > 0 else '-'} "
        f"{f'({term.text})' if LOOSE.search(term.text) else term.text}"
        for term in terms
    ]
    return " ".join(signed).removeprefix("+ ") or "0"


def named_by_owner(change: Change, owners: Mapping[str, str]) -> Change:
    """Return a change of a term with the name of its formula, and in words."""
    words = tuple(_of_term(word, owners) for word in change.words)
    if change.name not in owners:
        return replace(change, words=words)
    return replace(change, name=words[0][:60], words=words)


def _of_term(word: str, owners: Mapping[str, str]) -> str:
    label, _, change = word.partition(": ")
    if label not in owners:
        return word
    before, _, after = change.partition(" -> ")
    what = f"with {after}" if before == "0" else f"without {before}" if after == "0" else change
    return f"{owners[label]}: {what}"


def renamed(old: Statement, new: Statement) -> tuple[Statement, dict[str, str]]:
    """Return the old model with the names of the new one for what only has another name, and these
    names: quantities of the same content, one for one, or used by the same formulas.
    """
    names: dict[str, str] = {}
    gone = [name for name in old.quantities if name not in new.quantities]
    come = [name for name in new.quantities if name not in old.quantities]
    for name in gone:
        quantity = old.quantities[name]
        like = [
            other
            for other in come
            if other not in names.values()
            and quantity.unit == new.quantities[other].unit
            and _essence(replace(quantity, name="x"))
            == _essence(replace(new.quantities[other], name="x"))
        ]
        if len(like) == 1:
            names[name] = like[0]
    for name in gone:
        if name not in names:
            other = _in_its_place(old, new, name, names)
            names |= {} if other is None else {name: other}
    return _with_names(old, names), names


# what a quantity is


def _essence(quantity: Quantity) -> str:
    """Return a digest of what of a quantity can move a figure."""
    if isinstance(quantity, Given):
        return digest_of("given", quantity.value, quantity.convert)
    if not isinstance(quantity, Line):
        return digest_of("driver", replace(quantity, unit=None, source=None, base=None))
    tree = quantity.tree
    how: Any = quantity.function if tree is None else _shape(tree)
    if quantity.shared is not None:
        how = (quantity.shared.cohort, quantity.shared.inputs)
    if quantity.events is not None:
        how = quantity.events
    return digest_of("line", how, quantity.target, quantity.better, quantity.missing)


def _shape(part: Expression) -> list[Any]:
    """Return a formula without its blanks and needless brackets."""
    about = [
        getattr(part, attribute, None)
        for attribute in ("name", "value", "symbol", "back", "options")
    ]
    function = getattr(getattr(part, "function", None), "name", None)
    return [type(part).__name__, about, function, [_shape(inner) for inner in part.parts]]


def _alike(before: Quantity | None, after: Quantity | None) -> bool:
    return before is not None and after is not None and _essence(before) == _essence(after)


def _told(name: str, before: Quantity | None, after: Quantity | None) -> str:
    if before is None:
        return f"{name}: new, {_described(after)}"
    if after is None:
        return f"{name}: gone, {_described(before)}"
    if isinstance(before, Line) and isinstance(after, Line) and before.formula == after.formula:
        changed = [
            f"{what} {_stated(old)} -> {_stated(new)}"
            for what in ("target", "better", "missing", "unit")
            if (old := getattr(before, what)) != (new := getattr(after, what))
        ]
        if changed:
            return f"{name}: {', '.join(changed)}"
    words = [_described(side) for side in (before, after)]
    if all(word.endswith(EACH) for word in words):  # which did not change
        words = [word.removesuffix(EACH) for word in words]
    return f"{name}: {' -> '.join(words)}"


def _stated(value: Any) -> str:
    if value is None:
        return "none"
    return f"{value:,.10g}" if isinstance(value, float | int) else str(value)


def _described(quantity: Any) -> str:
    if isinstance(quantity, Given):
        return (
            f"{quantity.value:,.10g}" if isinstance(quantity.value, float | int) else _row(quantity)
        )
    if isinstance(quantity, Line):
        if quantity.events is not None:
            return quantity.events.in_words
        return quantity.formula or "a function"
    source = getattr(quantity, "distribution", None) or getattr(quantity, "process", None)
    each = EACH if getattr(quantity, "each", None) == "period" else ""
    return f"{source!r:.200}{each}"


def _row(given: Given) -> str:
    """Return a row in words: how long it is, and its ends."""
    values = np.asarray(given.value, dtype=float)
    return f"a row of {values.size:,}, from {values[0]:,.6g} to {values[-1]:,.6g}"


def _periods(statement: Statement) -> str:
    timeline = statement.timeline
    start = "" if timeline.start is None else f" from {timeline.start}"
    return f"{timeline.periods} periods{start}"


def _changed_cells(old: Statement, new: Statement) -> set[str]:
    """Return the lines of a workbook, where its cells or formulas are others."""
    sides = [
        {
            name: quantity.calculation
            for name, quantity in statement.quantities.items()
            if isinstance(quantity, Line) and quantity.calculation is not None
        }
        for statement in (old, new)
    ]
    if not sides[0] or not sides[1]:
        return set()
    digests = [digest_of(*(side[name].stated() for name in sorted(side)[:1])) for side in sides]
    return set() if digests[0] == digests[1] else {*sides[0], *sides[1]}


def _changed_correlations(old: Statement, new: Statement) -> Iterator[Change]:
    """Yield the correlations of drivers of both models that came, went or have another value."""
    both = set(old.quantities) & set(new.quantities)

    def by_pair(statement: Statement) -> dict[Pair, tuple[Correlation, Pair]]:
        pairs = {}
        for entry in statement.correlations:
            shared = frozenset(entry.names) & both
            if len(shared) > 1:
                pairs[shared] = replace(entry, names=tuple(sorted(shared))), frozenset(entry.names)
        return pairs

    before, after = by_pair(old), by_pair(new)
    for pair in dict.fromkeys([*before, *after]):
        one, two = before.get(pair), after.get(pair)
        if one is not None and two is not None and repr(one[0]) == repr(two[0]):
            continue
        names = sorted(pair)
        label = " and ".join(names) if len(names) < 4 else f"{names[0]} and {len(names) - 1} others"
        values = ["none" if side is None else f"{side[0].value}" for side in (one, two)]
        yield Change(
            f"correlation of {label}",
            correlations=frozenset(side[1] for side in (one, two) if side is not None),
            words=(f"correlation of {label}: {values[0]} -> {values[1]}",),
        )


# names


def _in_its_place(
    old: Statement, new: Statement, name: str, names: Mapping[str, str]
) -> str | None:
    """Return the new quantity that all formulas use in place of one that is gone."""
    quantity = old.quantities[name]
    users = [
        user
        for user, line in old.quantities.items()
        if isinstance(line, Line) and name in (*line.needs, *line.needs_earlier)
    ]
    if isinstance(quantity, Line) or not users or any(user not in new.quantities for user in users):
        return None
    for other, candidate in new.quantities.items():
        selected = other in old.quantities or other in names.values()
        if selected or isinstance(candidate, Line):
            continue
        tried = _with_names(old, {**names, name: other})
        if all(_alike(tried.quantities[user], new.quantities[user]) for user in users):
            return other
    return None


def _with_names(statement: Statement, names: Mapping[str, str]) -> Statement:
    if not names:
        return statement
    quantities: dict[str, Quantity] = {}
    for name, quantity in statement.quantities.items():
        new_name = names.get(name, name)
        changed = replace(quantity, name=new_name)
        if isinstance(changed, Line) and changed.formula is not None:
            changed = replace(changed, formula=_formula_with(changed.formula, names))
        quantities[new_name] = changed
    entries = tuple(
        replace(entry, names=tuple(names.get(name, name) for name in entry.names))
        for entry in statement.correlations
    )
    return replace(statement, quantities=quantities, correlations=entries, scenarios={})


def _formula_with(formula: str, names: Mapping[str, str]) -> str:
    """Return a formula in which quantities have other names."""
    return WORD.sub(lambda word: names.get(word[0], word[0]), formula)


# what belongs together


@dataclass
class _Groups:
    """Changes, which are joined until each can be made alone."""

    old: Statement
    new: Statement
    changes: list[Change] = field(default_factory=list)

    def add(self, change: Change) -> None:
        self.changes.append(change)

    def of(self, name: str) -> Change | None:
        return next((change for change in self.changes if name in change.quantities), None)

    def join(self, one: Change | None, two: Change | None) -> None:
        if one is None or two is None or one is two:
            return
        self.changes[self.changes.index(one)] = one.with_other(two)
        self.changes.remove(two)

    def join_what_belongs_together(self) -> None:
        for side, other in ((self.new, self.old), (self.old, self.new)):
            for name, quantity in side.quantities.items():
                for used in _uses(quantity):
                    came = used not in other.quantities
                    if came or self._of_another_kind(used):
                        self.join(self.of(name), self.of(used))
            for members in _calls(side):
                changed = [name for name in members if self.of(name) is not None]
                for name in changed[1:]:
                    self.join(self.of(changed[0]), self.of(name))
        self._join_correlations()
        self._join_periods()

    def _of_another_kind(self, name: str) -> bool:
        """Whether a quantity became a line, or a line something else, so that formulas with it may
        not be ones any more; a driver that became a given figure may.
        """
        sides = [statement.quantities.get(name) for statement in (self.old, self.new)]
        lines = [isinstance(side, Line) for side in sides]
        return all(side is not None for side in sides) and lines[0] != lines[1]

    def _join_correlations(self) -> None:
        for change in list(self.changes):
            for pair in change.correlations:
                for name in pair:
                    if (name in self.old.quantities) != (name in self.new.quantities):
                        holder = next(c for c in self.changes if pair in c.correlations)
                        self.join(self.of(name), holder)

    def _join_periods(self) -> None:
        for name in list(self.new.quantities):
            of_periods = next((change for change in self.changes if change.periods), None)
            quantity = self.new.quantities[name]
            if of_periods is not None and isinstance(quantity, Given) and quantity.shape.row:
                self.join(of_periods, self.of(name))

    def named(self) -> list[Change]:
        """Return the changes, those of several quantities by the one that came or went."""
        changes = []
        for change in self.changes:
            come = [
                name
                for name in sorted(change.quantities)
                if (name in self.old.quantities) != (name in self.new.quantities)
                and not isinstance(self.new.quantities.get(name), Line)
            ]
            named = come and not change.periods and change.name != WORKBOOK
            changes.append(replace(change, name=come[0]) if named else change)
        return changes


def _uses(quantity: Quantity) -> Sequence[str]:
    target = getattr(quantity, "target", None)
    return [
        *getattr(quantity, "needs", ()),
        *getattr(quantity, "needs_earlier", ()),
        *([target] if isinstance(target, str) else []),
    ]


def _calls(statement: Statement) -> Iterator[list[str]]:
    """Yield the lines of each call that works out several, such as the rows of a cohort."""
    calls: dict[int, list[str]] = {}
    for name, quantity in statement.quantities.items():
        if isinstance(quantity, Line) and quantity.shared is not None:
            calls.setdefault(id(quantity.shared), []).append(name)
    yield from calls.values()
