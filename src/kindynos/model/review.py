"""Looking a model over before it runs: what in it looks wrong. Each check is one function listed in
CHECKS.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from kindynos.cohorts.chain import findings as cohort_findings
from kindynos.dependence import convert
from kindynos.distributions.normal import Normal
from kindynos.formatting import brief, is_per_cent
from kindynos.formula.tree import (
    PERIOD,
    Call,
    Expression,
    Name,
    Number,
    Operation,
    Previous,
    is_sum,
)
from kindynos.model.slips import slips
from kindynos.model.unit_findings import unit_review
from kindynos.model.writing import cohorts_of
from kindynos.program.correlations import Correlation
from kindynos.program.program import Program
from kindynos.program.quantities import (
    YEARLY,
    DependentDriver,
    DistributionDriver,
    Driver,
    ProcessDriver,
)
from kindynos.program.statement import Statement
from kindynos.program.timeline import STEPS
from kindynos.results.facts import sharing
from kindynos.results.figures import CURRENCY
from kindynos.sampling.streams import stream
from kindynos.units.trees import YEARLY_RATE

RATE_WORDS = {
    "rate",
    "hurdle",
    "discount",
    "tax",
    "growth",
    "inflation",
    "interest",
    "yield",
    "wacc",
    "escalation",
}
SHARE_WORDS = {
    *("share", "load", "occupancy", "fraction", "probability", "portion"),
    *("utilization", "utilisation"),  # as models spell it
}
NEVER_NEGATIVE = SHARE_WORDS | {
    *(
        "price",
        "fare",
        "cost",
        "life",
        "lifetime",
        "volume",
        "passengers",
        "sold",
        "demand",
        "wage",
        "capacity",
    ),
    *(
        "years",
        "months",
        "days",
        "hours",
        "age",
        "duration",
        "distance",
        "weight",
        "energy",
        "fuel",
        "quantity",
    ),
}
# a yearly drift and volatility above which a process seems to state those of another time
FAST, WILD = 0.3, 0.6
PER_PERIOD = {"irr", "mirr"}  # whose rates are of a period
RATES = ("rate", "growth", "finance", "reinvest")  # parameters that are fractions per period
COUNTED = ("payback", "discounted_payback", "first_period")  # functions that count periods
AS_RATES, AS_MONEY = (
    ("irr", "mirr"),
    ("npv", "equivalent_annual", "terminal_value", "present_value"),
)
OFTEN = 0.05  # a chance of a loss from which on a driver is taken for a return
ELSEWHERE = 40  # values of the other drivers, beside their base values
NEGLIGIBLE = 1e-6  # a chance below this is not worth a word
TIES = 0.02  # by how much ties may lower a rank correlation before it is said
WIDE, NARROW = 1.0, 1e-4  # sd over |mean| beyond which a slip is likely
# sd by which the mean of an opinion may lie from its mode before the base case is questioned
SKEWED = 0.5
# below this, what can be negative may be a rate of return, whose sd may well exceed its mean
RETURN = 0.3


MOST_SERIOUS, MOST_LOOKED_THROUGH = 3, 2_000  # findings beside an answer; lines of a model


@dataclass(frozen=True)
class Finding:
    """Something that looks wrong, and the quantity it is about."""

    name: str
    text: str


def review(program: Program, *, calculations: bool = True) -> list[Finding]:
    """Return what looks wrong in a model, in the order of the checks; an empty list where nothing
    does. Without ``calculations`` nothing of the analyst's is called again.
    """
    findings = [finding for check in CHECKS for finding in check(program)]
    if calculations:
        findings += [Finding(slip.name, slip.text) for slip in slips(program)]
        along = unit_review(program, calculations=False).found
        findings += [
            Finding(finding.name, finding.text)
            for finding in unit_review(program).found
            if finding not in along
        ]
    return findings


def review_of(statement: Statement) -> list[Finding]:
    """Return what looks wrong in a model; of one with choices, what does so whatever is chosen."""
    findings = review(statement.program)
    for choice in statement.choices.values():
        for changes in filter(None, choice.options.values()):
            others = review(statement.replace(**changes).program)
            findings = [finding for finding in findings if finding in others]
    return findings


def serious(program: Program) -> list[Finding]:
    """Return the findings that would change the figures of a run, those first that would most; of a
    model that is too large to be looked through at each run, none.
    """
    if len(program.lines) > MOST_LOOKED_THROUGH:
        return []
    return [finding for check in SERIOUS for finding in check(program)][:MOST_SERIOUS]


def _cohorts(program: Program) -> Iterator[Finding]:
    for name, cohort in cohorts_of(list(program.lines.values())).items():
        for text in cohort_findings(cohort):
            yield Finding(name, text)


def _unused(program: Program) -> Iterator[Finding]:
    used = {name for line in program.lines.values() for name in (*line.needs, *line.needs_earlier)}
    used |= {*program.named, *program.targets}
    reaches = {*program.ancestors([*program.outcomes, *program.checks]), *program.targets}
    for name in (*program.drivers, *program.givens):
        label = "driver" if name in program.drivers else "given figure"
        if name not in used:
            yield Finding(name, f"no line uses this {label}")
        elif program.outcomes and name not in reaches:
            yield Finding(name, f"this {label} reaches no outcome")


def _rates(program: Program) -> Iterator[Finding]:
    as_rate = {
        name
        for line in program.lines.values()
        if line.tree is not None
        for name in _rate_names(line.tree)
    }
    for name, value in _typical(program).items():
        if (name in as_rate or _words(name) & RATE_WORDS) and 1 <= abs(value) <= 100:
            yield Finding(
                name,
                f"rates are fractions per period: {value:g} means {100 * value:g} %; "
                f"{value / 100:g} would be {value:g} %",
            )


def _targets(program: Program) -> Iterator[Finding]:
    """Return targets of rates that were meant in per cent."""
    for name in program.outcomes:
        line = program.lines[name]
        target = line.target
        if is_per_cent(line.unit) and isinstance(target, float | int) and 1 <= abs(target) <= 100:
            yield Finding(
                name,
                f"its unit is {line.unit}, and targets are fractions: {target:g} means "
                f'{100 * target:g} %; {target / 100:g} or "{target:g}%" would be {target:g} %',
            )


def _yearly_rates(program: Program) -> Iterator[Finding]:
    """Rates a year that are used where a rate of each month or quarter is meant."""
    every = program.timeline.every
    if every == "year":
        return
    units = _units(program)
    trees = [line.tree for line in program.lines.values() if line.tree is not None]
    as_rates = [
        name
        for tree in trees
        for function, parameter, name in _named_arguments(tree)
        if parameter in RATES and function not in ("per_period", *YEARLY_RATE)
    ]
    grown = [name for tree in trees for name in _growing(tree)]
    for name in dict.fromkeys([*as_rates, *grown]):
        if name not in program.yearly and YEARLY.search(units.get(name) or ""):
            yield Finding(
                name,
                f"is a rate {units[name]}, and the periods are {every}s; say per_period({name}) "
                "for the rate of each, or convert = true of a given figure, or per_period(..., "
                '"simple") for an even part of it',
            )


def _growing(tree: Expression) -> Iterator[str]:
    """Yield what grows a figure from period to period: g in (1 + g) ** period, and in
    previous(b) * (1 + g).
    """
    for node in tree.walk():
        if not isinstance(node, Operation) or node.symbol not in ("*", "**"):
            continue
        if node.symbol == "**":
            steps = any(
                isinstance(part, Name) and part.name == PERIOD for part in _summed(node.parts[1])
            )
            factors = node.parts[:1] if steps else ()
        else:
            earlier = any(isinstance(part, Previous) for part in node.parts)
            factors = node.parts if earlier else ()
        for factor in factors:
            terms = _summed(factor)
            if len(terms) == 2 and any(isinstance(t, Number) and t.value == 1 for t in terms):
                yield from (term.name for term in terms if isinstance(term, Name))


def _summed(node: Expression) -> list[Expression]:
    """Return the terms of a sum or difference of two, or the part itself."""
    return list(node.parts) if is_sum(node) else [node]


def _rates_of_periods(program: Program) -> Iterator[Finding]:
    """Rates of return of a period that are reported as rates a year."""
    every = program.timeline.every
    if every == "year":
        return
    for name in program.outcomes:
        line = program.lines[name]
        called = {node.function.name for node in _calls(line.tree)}
        if YEARLY.search(line.unit or "") and called & PER_PERIOD and "per_year" not in called:
            function = min(called & PER_PERIOD)
            yield Finding(
                name,
                f"its unit is {line.unit}, and {function} of a model of {every}s is a rate a "
                f"{every}; say per_year({function}(...))",
            )


def _calls(tree: Expression | None) -> Iterator[Call]:
    """Yield the calls in a formula."""
    for node in [] if tree is None else tree.walk():
        if isinstance(node, Call):
            yield node


def _contradicting_units(program: Program) -> Iterator[Finding]:
    """Units that contradict each other along the formulas; an outcome whose function already tells
    that its unit is wrong is named once.
    """
    told = {finding.name for finding in _units_of_outcomes(program)}
    for finding in unit_review(program, calculations=False).found:
        if finding.name not in told:
            yield Finding(finding.name, finding.text)


def _broken_units(program: Program) -> Iterator[Finding]:
    """Units that contradict each other; a formula that only lacks a unit changes no figure."""
    for finding in _contradicting_units(program):
        if not finding.text.startswith("its formula gives a number"):
            yield finding


def _units_of_outcomes(program: Program) -> Iterator[Finding]:
    """Outcomes whose unit cannot be that of their formula."""
    every = program.timeline.every
    for name in program.outcomes:
        line = program.lines[name]
        unit = _plain_unit(line.unit or "")
        if not isinstance(line.tree, Call) or not unit:
            continue
        function = line.tree.function.name
        period = next((label for label in STEPS if unit.rstrip("s") == label), None)
        if function in COUNTED and period not in (None, every):
            yield Finding(
                name, f"{function} counts periods of a {every}, and its unit is {line.unit}"
            )
        elif function in AS_RATES and CURRENCY.fullmatch(line.unit or ""):
            yield Finding(name, f"{function} is a rate, and its unit is {line.unit}")
        elif function in AS_MONEY and "%" in unit:
            yield Finding(name, f"{function} is an amount, and its unit is {line.unit}")


def _beyond_the_periods(program: Program) -> Iterator[Finding]:
    """Periods that a formula names by a number which the model does not have."""
    periods = program.periods
    for line in program.lines.values():
        for node in [] if line.tree is None else line.tree.walk():
            if not isinstance(node, Call) or node.function.name != "at":
                continue
            number = node.arguments[1]
            if isinstance(number, Number) and not 1 <= number.value <= periods:
                yield Finding(
                    line.name,
                    f"asks for period {number.value:g} of {periods}, which has no value; "
                    "the last one is called last",
                )


def _units(program: Program) -> dict[str, str | None]:
    return {name: program.unit(name) for name in program.quantities}


def _plain_unit(unit: str) -> str:
    return " ".join(unit.lower().split())


def _rate_names(tree: Expression) -> Iterator[str]:
    for _, parameter, name in _named_arguments(tree):
        if parameter in RATES:
            yield name


def _named_arguments(tree: Expression) -> Iterator[tuple[str, str, str]]:
    """Return function, parameter and name of each argument of a call that is a plain name."""
    for node in tree.walk():
        if isinstance(node, Call) and not node.function.many:
            for parameter, argument in zip(node.function.inputs, node.arguments, strict=False):
                if isinstance(argument, Name):
                    yield node.function.name, parameter.name, argument.name


def _time_of_processes(program: Program) -> Iterator[Finding]:
    """Processes whose drift or volatility is a year's, by its size, in a model of shorter
    periods.
    """
    every, steps = program.timeline.every, STEPS[program.timeline.every]
    for name, driver in program.drivers.items():
        if steps == 1 or not isinstance(driver, ProcessDriver) or driver.dt != 1:
            continue
        parameters = driver.process.parameters
        drift, volatility = (parameters.get(key) for key in ("drift", "volatility"))
        fast = isinstance(drift, float) and abs(drift) * steps > FAST
        wild = isinstance(volatility, float) and volatility * math.sqrt(steps) > WILD
        if driver.process.multiplies and (fast or wild):
            yield Finding(
                name,
                f"its drift and volatility are taken as those of a {every} (dt = 1); if they are a "
                f"year's, say dt = {1 / steps:.6g}",
            )


def _once(program: Program) -> Iterator[Finding]:
    """Returns that may be negative, drawn once and compounded over all periods: the good years
    never make up for bad ones.
    """
    compounded = {
        name
        for line in program.lines.values()
        if line.tree is not None
        for function, parameter, name in _named_arguments(line.tree)
        if function in ("grow", "roll_forward") and parameter == "rate"
    }
    for name, driver in _with_distributions(program):
        if name in compounded and not driver.each and driver.distribution.chance(below=0) > OFTEN:
            text = (
                "is drawn once and then the same in every period; say each = 'period' if each "
                "has a return of its own"
            )
            yield Finding(name, text)


def _unfelt(program: Program) -> Iterator[Finding]:
    """Drivers of one number that change no outcome between their P10 and their P90, the others at
    their base values, or elsewhere, such as where events have come.
    """
    felt = [(name, driver) for name, driver in _with_distributions(program) if not driver.each]
    reaches = program.ancestors(program.outcomes)
    felt = [(name, driver) for name, driver in felt if name in reaches]
    if not felt or program.recorded or program.one_thread:
        return
    count = 2 * len(felt) * (1 + ELSEWHERE)
    elsewhere = stream(0, "elsewhere").uniform(0.1, 99.9, (ELSEWHERE, len(felt)))
    drawn = {name: np.repeat(base, count, axis=-1) for name, base in program.base_values().items()}
    for position, (name, driver) in enumerate(felt):
        by_case = drawn[name].reshape(1 + ELSEWHERE, 2 * len(felt))
        by_case[1:] = driver.distribution.percentile(elsewhere[:, position])[:, None]
        by_case[:, 2 * position : 2 * position + 2] = driver.distribution.percentile([10, 90])
    values, _ = program.evaluate(drawn, count, program.outcomes)
    outcomes = [
        np.broadcast_to(values[name], (*values[name].shape[:-1], count))
        for name in program.outcomes
    ]
    for position, (name, driver) in enumerate(felt):
        low, high = driver.distribution.percentile([10, 90])
        lower = 2 * position + 2 * len(felt) * np.arange(1 + ELSEWHERE)
        if low < high and all(
            np.array_equal(v[..., lower], v[..., lower + 1], equal_nan=True) for v in outcomes
        ):
            yield Finding(
                name, f"no outcome changes between its P10 ({low:.4g}) and its P90 ({high:.4g})"
            )


def _typical(program: Program) -> dict[str, float]:
    numbers = {
        name: float(given.array) if given.array.ndim == 0 else float(given.array.max())
        for name, given in program.givens.items()
        if not given.shape.table
    }
    return numbers | {
        name: driver.distribution.mean for name, driver in _with_distributions(program)
    }


def _with_distributions(program: Program) -> list[tuple[str, DistributionDriver]]:
    """Return the drivers that are not processes, whose distribution says what values they take."""
    return [
        (name, driver)
        for name, driver in program.drivers.items()
        if isinstance(driver, DistributionDriver)
    ]


def _spread(program: Program) -> Iterator[Finding]:
    for name, driver in _with_distributions(program):
        mean, sd = abs(driver.distribution.mean), driver.distribution.sd
        if (
            driver.distribution.has_atoms  # often nothing, and at times much
            or not mean > 0
            or (mean < RETURN and sd < RETURN and driver.distribution.chance(below=0) > 0)
        ):
            continue
        if sd > WIDE * mean:
            yield Finding(
                name,
                f"the sd {sd:g} is larger than the mean {driver.distribution.mean:g}; is a figure "
                "mistyped?",
            )
        elif sd < NARROW * mean:
            yield Finding(
                name,
                f"the sd {sd:g} is tiny beside the mean {driver.distribution.mean:g}; is a figure "
                "mistyped?",
            )


def _range(program: Program) -> Iterator[Finding]:
    for name, driver in _with_distributions(program):
        words = _words(name) | _words(driver.unit or "")
        below = driver.distribution.chance(below=0)
        if words & NEVER_NEGATIVE and not words & RATE_WORDS and below > NEGLIGIBLE:
            each = ", each period" if driver.each else ""
            yield Finding(
                name,
                f"can be negative, with a chance of {100 * below:.2g} %{each}: "
                f"{driver.distribution!r}",
            )
        beyond = driver.distribution.chance(above=1)
        if words & SHARE_WORDS and beyond > NEGLIGIBLE and driver.distribution.mean <= 1:
            yield Finding(
                name,
                f"a share can exceed 1, with a chance of {100 * beyond:.2g} %: "
                f"{driver.distribution!r}",
            )


def _base(program: Program) -> Iterator[Finding]:
    for name, driver in _with_distributions(program):
        low, high = driver.distribution.support
        mode = getattr(driver.distribution, "mode", None)
        if (
            mode is not None
            and driver.base is None
            and abs(driver.distribution.mean - mode) > SKEWED * driver.distribution.sd
        ):
            mean = brief(driver.distribution.mean)
            yield Finding(
                name,
                f"its base value is its mean {mean}; say base = 'mode' for its likeliest value "
                f"{brief(mode)}",
            )
        if driver.base is not None and not low <= driver.base <= high:
            yield Finding(
                name,
                f"its base value {driver.base:g} cannot occur: the distribution runs from {low:g} "
                f"to {high:g}",
            )
        elif driver.base is not None and driver.distribution.discrete:
            values, _ = driver.distribution._atoms
            if driver.base not in values:
                near = values[np.argsort(np.abs(values - driver.base))[:2]]
                yield Finding(
                    name,
                    f"its base value {driver.base:g} cannot occur: the values next to it are "
                    + " and ".join(f"{value:g}" for value in np.sort(near)),
                )


def _dependence(program: Program) -> Iterator[Finding]:
    drivers = list(program.drivers)
    if (
        len(drivers) > 1
        and not sharing(program)
        and not program.correlations
        and not any(name in drivers for name in program.named)
    ):
        which = "both drivers" if len(drivers) == 2 else f"all {len(drivers)} drivers"
        text = f"no correlation is stated; {which} are taken as independent"
        yield Finding("dependence", text)
    for entry in program.correlations:
        drawn = [program.drivers[name] for name in entry.names]
        yield from _given_parameters(entry, program)
        yield from _of_levels(entry, program)
        if (
            entry.kind != "rank"
            or entry.value is None
            or entry.copula != "gaussian"
            or len(drawn) != 2
        ):
            continue
        one, two = (
            driver.distribution if isinstance(driver, DistributionDriver) else Normal(0.0, 1.0)
            for driver in drawn
        )
        reached = convert.rank_reached(convert.of_rank(entry.value), one, two)
        if abs(reached - entry.value) > TIES:
            text = (
                f"with whole numbers, which tie, a rank correlation of {entry.value:g} comes "
                f"out as {reached:.2f}"
            )
            yield Finding(" and ".join(entry.names), text)


def _given_parameters(entry: Correlation, program: Program) -> Iterator[Finding]:
    """What a correlation means of drivers whose parameters are themselves drawn."""
    drawn = [program.drivers[name] for name in entry.names]
    needs = {n for d in drawn if isinstance(d, DependentDriver) for n in d.needs}
    given = [name for name in program.drivers if name in needs]
    if given:
        text = (
            f"their correlation is of what is left once {', '.join(given)} "
            f"{'is' if len(given) == 1 else 'are'} given; what they have in common through "
            f"{'it' if len(given) == 1 else 'them'} comes on top"
        )
        yield Finding(" and ".join(entry.names), text)


def _of_levels(entry: Correlation, program: Program) -> Iterator[Finding]:
    """What a correlation means of drivers with one number per trial and with one each period."""
    rows = [name for name in entry.names if program.drivers[name].each_period]
    if 0 < len(rows) < len(entry.names) and entry.value is not None:
        text = (
            f"the correlation of {entry.value:g} is with the level of {' and '.join(rows)} over "
            f"all {program.periods} periods"
        )
        if not any(isinstance(program.drivers[name], ProcessDriver) for name in rows):
            alone = entry.value / math.sqrt(program.periods)
            text += f"; with a single period it is about {alone:.2f}"
        yield Finding(" and ".join(entry.names), text)


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
    _cohorts,
    _unused,
    _rates,
    _targets,
    _yearly_rates,
    _rates_of_periods,
    _contradicting_units,
    _units_of_outcomes,
    _beyond_the_periods,
    _time_of_processes,
    _once,
    _unfelt,
    _spread,
    _range,
    _base,
    _dependence,
    _sources,
)
# those that a run says beside its answer, in the order of what they would change
SERIOUS = (_rates, _broken_units, _targets, _unused)
