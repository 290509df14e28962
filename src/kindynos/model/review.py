"""Looking a model over before it runs: what in it looks wrong. Each check is one function listed in CHECKS."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from kindynos.model.formula.tree import Call, Name, Node
from kindynos.model.program import Program
from kindynos.model.quantities import Driver

RATE_WORDS = {"rate", "hurdle", "discount", "tax", "growth", "inflation", "interest", "yield", "wacc", "escalation"}
SHARE_WORDS = {"share", "load", "occupancy", "fraction", "utilisation", "utilization", "probability", "portion"}
NEVER_NEGATIVE = SHARE_WORDS | {
    *("price", "fare", "cost", "life", "lifetime", "volume", "passengers", "sold", "demand", "wage", "capacity"),
    *("years", "months", "days", "hours", "age", "duration", "distance", "weight", "energy", "fuel", "quantity"),
}
NEGLIGIBLE = 1e-6  # a chance below this is not worth a word
WIDE, NARROW = 1.0, 1e-4  # sd over |mean| beyond which a slip is likely
RETURN = 0.3  # below this, what can be negative may be a rate of return, whose sd may well exceed its mean


@dataclass(frozen=True)
class Finding:
    """Something that looks wrong, and the quantity it is about."""

    name: str
    text: str


def review(program: Program) -> list[Finding]:
    """Return what looks wrong in a model, in the order of the checks; an empty list where nothing does."""
    return [finding for check in CHECKS for finding in check(program)]


def _unused(program: Program) -> Iterator[Finding]:
    used = {name for line in program.lines.values() for name in (*line.needs, *line.needs_earlier)}
    reaches = program.ancestors(program.outcomes)
    for name in (*program.drivers, *program.givens):
        word = "driver" if name in program.drivers else "given figure"
        if name not in used:
            yield Finding(name, f"no line uses this {word}")
        elif program.outcomes and name not in reaches:
            yield Finding(name, f"this {word} reaches no outcome")


def _rates(program: Program) -> Iterator[Finding]:
    as_rate = {name for line in program.lines.values() if line.tree is not None for name in _rate_names(line.tree)}
    for name, value in _typical(program).items():
        if (name in as_rate or _words(name) & RATE_WORDS) and 1 <= abs(value) <= 100:
            yield Finding(
                name,
                f"rates are fractions per period: {value:g} means {100 * value:g} %; {value / 100:g} would be {value:g} %",
            )


def _rate_names(tree: Node) -> Iterator[str]:
    for node in tree.walk():
        if isinstance(node, Call) and node.function.parameters[0].name == "rate" and isinstance(node.arguments[0], Name):
            yield node.arguments[0].name


def _typical(program: Program) -> dict[str, float]:
    numbers = {
        name: float(given.array) if given.array.ndim == 0 else float(given.array.max())
        for name, given in program.givens.items()
        if not given.kind.table
    }
    return numbers | {name: driver.law.mean for name, driver in _of_laws(program)}


def _of_laws(program: Program) -> list[tuple[str, Driver]]:
    """Return the drivers that are no processes, whose law says what values they take."""
    return [(name, driver) for name, driver in program.drivers.items() if driver.process is None]


def _spread(program: Program) -> Iterator[Finding]:
    for name, driver in _of_laws(program):
        mean, sd = abs(driver.law.mean), driver.law.sd
        if driver.law.discrete or not mean > 0 or (mean < RETURN and sd < RETURN and driver.law.chance(below=0) > 0):
            continue
        if sd > WIDE * mean:
            yield Finding(name, f"the sd {sd:g} is larger than the mean {driver.law.mean:g}; is a figure mistyped?")
        elif sd < NARROW * mean:
            yield Finding(name, f"the sd {sd:g} is tiny beside the mean {driver.law.mean:g}; is a figure mistyped?")


def _range(program: Program) -> Iterator[Finding]:
    for name, driver in _of_laws(program):
        words = _words(name) | _words(driver.unit or "")
        below = driver.law.chance(below=0)
        if words & NEVER_NEGATIVE and not words & RATE_WORDS and below > NEGLIGIBLE:
            each = ", each period" if driver.each else ""
            yield Finding(name, f"can be negative, with a chance of {100 * below:.2g} %{each}: {driver.law!r}")
        beyond = driver.law.chance(above=1)
        if words & SHARE_WORDS and beyond > NEGLIGIBLE and driver.law.mean <= 1:
            yield Finding(name, f"a share can exceed 1, with a chance of {100 * beyond:.2g} %: {driver.law!r}")


def _base(program: Program) -> Iterator[Finding]:
    for name, driver in _of_laws(program):
        low, high = driver.law.support
        if driver.base is not None and not low <= driver.base <= high:
            yield Finding(name, f"its base value {driver.base:g} cannot occur: the law runs from {low:g} to {high:g}")


def _dependence(program: Program) -> Iterator[Finding]:
    drivers = list(program.drivers)
    if len(drivers) > 1 and not program.links:
        text = f"nothing is said about what moves together; all {len(drivers)} drivers are taken as independent"
        yield Finding("dependence", text)


def _sources(program: Program) -> Iterator[Finding]:
    missing = [name for name, driver in program.drivers.items() if not _has_source(driver)]
    if missing:
        yield Finding("sources", f"no source is given for {', '.join(missing)}")


def _has_source(driver: Driver) -> bool:
    return bool(driver.source and driver.source.strip())


def _outcomes(program: Program) -> Iterator[Finding]:
    if not program.outcomes:
        yield Finding("outcomes", "the model has no outcome to report on")


def _words(text: str) -> set[str]:
    return set(re.split(r"[\W_\d]+", text.lower()))


CHECKS: tuple[Callable[[Program], Iterator[Finding]], ...] = (
    _outcomes,
    _unused,
    _rates,
    _spread,
    _range,
    _base,
    _dependence,
    _sources,
)
