"""What a model states, as one immutable value: quantities, correlations and scenarios. Changing it
makes another.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import combinations
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.registry import distribution_from, parameters_of
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import KindynosError, ModelError, concerning
from kindynos.processes.base import Process
from kindynos.program.correlations import Correlation
from kindynos.program.drawn_events import Sizes
from kindynos.program.planned import PlannedChoice
from kindynos.program.program import Program, compile_model
from kindynos.program.quantities import (
    AveragedDriver,
    DependentDriver,
    DistributionDriver,
    Driver,
    Given,
    Line,
    ProcessDriver,
    Quantity,
    check_name,
    check_rate,
    distribution_driver,
    given_value,
    process_driver,
)
from kindynos.program.timeline import Timeline
from kindynos.validate import checked, shown, words

MOST_QUANTITIES = 3_000
LONGEST_TITLE = 60  # characters
FORMULAS = "=+-@"  # beginnings of what a spreadsheet would work out
PERIODS = "periods"  # what stands for their number among replacements
WORDS = {Given: "given figure", Driver: "driver", Line: "line"}


@dataclass(frozen=True)
class Statement:
    """The quantities of a model by name, the correlations between drivers, and named sets of
    replacements.
    """

    name: str
    timeline: Timeline = field(default_factory=Timeline)
    quantities: Mapping[str, Quantity] = field(default_factory=dict)
    correlations: tuple[Correlation, ...] = ()
    scenarios: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    choices: Mapping[str, PlannedChoice] = field(default_factory=dict)
    titles: Mapping[str, str] = field(default_factory=dict)  # what people call quantities

    @checked
    def __post_init__(self) -> None:
        if not isinstance(self.name, str) or not self.name.strip():
            raise ModelError(f"name must be a text that is not empty, not {shown(self.name)}")
        words("name", self.name)

    @classmethod
    def of_program(cls, program: Program) -> Statement:
        """Return what a compiled model states: its quantities and correlations."""
        quantities: dict[str, Quantity] = {**program.givens, **program.drivers, **program.lines}
        stated = (program.name, program.timeline, quantities, program.correlations)
        return cls(*stated, titles=dict(program.titles))

    @cached_property
    def program(self) -> Program:
        """The model made ready to run; raises ModelError or FormulaError for what cannot be
        evaluated.
        """
        program = compile_model(self.name, self.timeline, self.quantities, self.correlations)
        return replace(program, titles=tuple(self.titles.items()))

    def __getstate__(self) -> dict[str, Any]:
        return {k: value for k, value in self.__dict__.items() if k not in ("program", "by_pair")}

    @cached_property
    def by_pair(self) -> dict[tuple[str, str], Correlation]:
        """The correlation of each two drivers that have one, by their names in order."""
        return {pair: entry for entry in self.correlations for pair in _pairs(entry)}

    def with_quantity(self, quantity: Quantity) -> Statement:
        """Return the statement with one more quantity; raises ModelError for a name that is taken
        by another.
        """
        check_name(quantity.name)
        label = next(label for kind, label in WORDS.items() if isinstance(quantity, kind))
        with concerning(f"{label} {quantity.name!r}"):
            words("unit", quantity.unit)
            words("source", getattr(quantity, "source", None))
        earlier = self.quantities.get(quantity.name)
        again = earlier == quantity or (isinstance(quantity, Line) and quantity.same_as(earlier))
        if earlier is not None and not again:
            label = next(label for kind, label in WORDS.items() if isinstance(earlier, kind))
            raise ModelError(
                f"the name {quantity.name!r} is already a {label}; choose another, or use "
                "replace() for a changed model",
                name=quantity.name,
            )
        if len(self.quantities) >= MOST_QUANTITIES:
            raise ModelError(f"a model may have {MOST_QUANTITIES:,} quantities", name=quantity.name)
        return replace(self, quantities={**self.quantities, quantity.name: quantity})

    def with_title(self, name: str, title: str) -> Statement:
        """Return the statement with what people call a quantity; raises ModelError for one that
        there is not, and for a title that is not a text.
        """
        if name not in self.quantities:
            raise ModelError(f"no quantity {name!r:.40}", unknown=name, known=self.quantities)
        words("title", title)
        if not title.strip() or len(title) > LONGEST_TITLE:
            raise ModelError(
                f"the title of {name!r} must have 1 to {LONGEST_TITLE} characters, not {len(title)}"
            )
        if title.strip()[0] in FORMULAS or not title.isprintable():
            raise ModelError(
                f"the title of {name!r} must be printable and not begin as a formula of a "
                f"spreadsheet, with one of {' '.join(FORMULAS)}"
            )
        return replace(self, titles={**self.titles, name: title.strip()})

    def with_correlations(self, entries: Sequence[Correlation]) -> Statement:
        """Return the statement with more correlations; raises ModelError for drivers that have
        another already.
        """
        by_pair = dict(self.by_pair)
        added: list[Correlation] = []
        for entry in entries:
            for name in entry.names:
                if not isinstance(name, str):
                    raise ModelError(f"a driver is named by a text, not {shown(name)}")
            pairs = _pairs(entry)
            other = next((by_pair[pair] for pair in pairs if pair in by_pair), None)
            if other is None:
                by_pair.update(dict.fromkeys(pairs, entry))
                added.append(entry)
            elif other != entry:
                both = [name for name in other.names if name in entry.names]
                stated = "" if other.value is None else f" ({other.value})"
                raise ModelError(f"{' and '.join(both[:2])} are correlated already{stated}")
        extended = replace(self, correlations=(*self.correlations, *added))
        vars(extended)["by_pair"] = by_pair  # stated pair by pair, it is not worked out each time
        return extended

    def without_correlations(self) -> Statement:
        """Return the statement with nothing said about what moves together."""
        return replace(self, correlations=())

    def with_scenario(self, name: str, replacements: Mapping[str, Any]) -> Statement:
        """Return the statement with a named set of replacements; raises ModelError or
        ParameterError for a wrong one.
        """
        if not isinstance(name, str) or not name.strip():
            raise ModelError(f"the name must be a text that is not empty, not {shown(name)}")
        words("name", name)
        if self.scenarios.get(name, replacements) != replacements:
            raise ModelError(f"scenario {name!r} is there already, with other replacements")
        self.scenario(name, replacements)
        return replace(self, scenarios={**self.scenarios, name: dict(replacements)})

    def with_choice(self, name: str, choice: PlannedChoice) -> Statement:
        """Return the statement with a choice that is planned, after those made before it; raises
        ModelError for names and replacements that there are not.
        """
        check_name(name)
        if name in self.choices and self.choices[name] != choice:
            raise ModelError(f"choice {name!r} is there already")
        for name_known in choice.knowing:
            if name_known not in self.quantities:
                raise ModelError(
                    f"no quantity {name_known!r} to know", unknown=name_known, known=self.quantities
                )
        for earlier, option in choice.after.items():
            options = self.choices[earlier].options if earlier in self.choices else ()
            if option not in options or self.choices[earlier].at > choice.at:
                raise ModelError(
                    f"after names {earlier} = {shown(option)}, which is not chosen before"
                )
        for option, changes in choice.options.items():
            for figure in changes:
                if not isinstance(self.quantities.get(figure), Given):
                    given = [n for n, one in self.quantities.items() if isinstance(one, Given)]
                    raise ModelError(
                        f"option {option!r} replaces {figure!r}, which is no given figure",
                        unknown=figure,
                        known=given,
                    )
            self.scenario(option, changes)
        every = {**self.choices, name: choice}
        return replace(self, choices=dict(sorted(every.items(), key=lambda item: item[1].at)))

    def scenario(self, name: str, replacements: Any) -> Statement:
        """Return what a scenario makes of the statement; errors name the scenario."""
        if not isinstance(replacements, Mapping):
            raise ModelError(
                f"needs replacements by name, such as {{'fare': 45.0}}, not {shown(replacements)}",
                owner=f"scenario {name!r}",
            )
        try:
            return self.replace(**replacements)
        except KindynosError as error:
            raise error.inside(f"scenario {name!r}") from None

    def replace(self, **replacements: Any) -> Statement:
        """Return the statement with other given figures, other distributions, or drivers fixed at a
        number.

        ``"vessel.mode"`` replaces a parameter of a driver's distribution, and ``periods``, unless a
        quantity is called so, their number.
        """
        if PERIODS in replacements and PERIODS not in self.quantities:
            others = {name: value for name, value in replacements.items() if name != PERIODS}
            return self._with_periods(replacements[PERIODS], others)
        replacements = self._whole(replacements)
        drawn = Distribution | StatedDistribution | Process
        fixed = {name for name, value in replacements.items() if not isinstance(value, drawn)}
        kept = tuple(entry for entry in self.correlations if not fixed.intersection(entry.names))
        quantities = {
            **self.quantities,
            **{name: self._replacement(name, value) for name, value in replacements.items()},
        }
        return replace(self, quantities=quantities, correlations=kept, scenarios={})

    def _with_periods(self, count: Any, others: Mapping[str, Any]) -> Statement:
        """Return the statement over another number of periods."""
        if self.timeline.periods is None:
            raise ModelError("the model has no periods to change", name=PERIODS)
        if isinstance(count, float) and count.is_integer():
            count = int(count)
        timeline = Timeline.of(count, self.timeline.start, self.timeline.every)
        for name, quantity in self.quantities.items():
            if (
                isinstance(quantity, Given)
                and quantity.shape.row
                and count != self.timeline.periods
                and name not in others
            ):
                raise ModelError(
                    f"{name!r} has one figure for each of {self.timeline.periods} periods; give "
                    f"it for {count} too"
                )
        changed = replace(self, timeline=timeline, scenarios={})
        return changed.replace(**others) if others else changed

    def _whole(self, replacements: Mapping[str, Any]) -> dict[str, Any]:
        """Return replacements of whole quantities: parameters of one distribution, such as
        ``vessel.mode``, are put into it.
        """
        whole = {name: value for name, value in replacements.items() if "." not in name}
        parameters: dict[str, dict[str, Any]] = {}
        for name, value in replacements.items():
            owner, dot, parameter = name.partition(".")
            if dot:
                parameters.setdefault(owner, {})[parameter] = value
        for owner, changes in parameters.items():
            if owner in whole:
                raise ModelError(f"{owner!r} is replaced whole and by its parameter too")
            whole[owner] = self.with_parameters(owner, changes)
        return whole

    def with_parameters(
        self, name: str, changes: Mapping[str, Any]
    ) -> Distribution | StatedDistribution | Process:
        """Return the distribution or the process of a driver with some parameters changed; raises
        ModelError for what has none of them.
        """
        driver = self.quantities.get(name)
        if driver is None:
            raise ModelError(f"the model has no {name!r}", unknown=name, known=self.quantities)
        if isinstance(driver, ProcessDriver):
            return _with_process_parameters(driver, changes)
        if isinstance(driver, Line) and isinstance(driver.events, Sizes):
            drawn = driver.events.distribution
        elif isinstance(driver, DistributionDriver | DependentDriver):
            drawn = driver.distribution
        else:
            label = next(w for k, w in WORDS.items() if isinstance(driver, k))
            raise ModelError(
                f"{name!r} is a {label}, and has no parameter {next(iter(changes))!r} to set"
            )
        parameters = parameters_of(drawn)
        check_parameters(f"distribution of {name!r}", changes, parameters)
        old = {key: value for key, value in parameters.items() if value is not None}
        return distribution_from(drawn.label, {**old, **changes})

    def _replacement(self, name: str, value: Any) -> Quantity:
        old = self.quantities.get(name)
        if old is None:
            raise ModelError(f"the model has no {name!r}", unknown=name, known=self.quantities)
        if isinstance(old, Line) and isinstance(old.events, Sizes):
            if not isinstance(value, Distribution | StatedDistribution):
                raise ModelError(
                    f"the size of the claims {name!r} is a distribution, not {shown(value)}; their "
                    f"number is {old.events.count!r}"
                )
            return replace(old, events=replace(old.events, distribution=value))
        if isinstance(old, Line):
            raise ModelError(
                f"{name!r} is a line, which is calculated; only given figures and drivers are "
                "replaced"
            )
        convert = isinstance(old, Given | Driver) and old.convert
        if isinstance(value, Process):
            dt = old.dt if isinstance(old, ProcessDriver) else 1.0
            averaged = "average" if isinstance(old, AveragedDriver) else "end"
            driver = process_driver(
                name, value, self.timeline.periods, unit=old.unit, dt=dt, value=averaged
            )
            return replace(driver, convert=convert)
        if isinstance(value, Distribution | StatedDistribution):
            each, serial = "period" if isinstance(old, ProcessDriver) else None, None
            if isinstance(old, DistributionDriver | DependentDriver):
                each, serial = old.each, old.serial
            stated = distribution_driver(
                name, value, self.timeline.periods, each=each, serial=serial, unit=old.unit
            )
            return replace(stated, convert=convert)
        values = given_value(name, value, self.timeline.periods)
        if isinstance(old, Driver) and old.shape.row and not isinstance(values, tuple):
            # a driver of each period stays a row
            values = (values,) * (self.timeline.periods or 0)
        return check_rate(Given(name, values, old.unit, convert=convert))


def check_parameters(what: str, names: Iterable[str], quantities: Mapping[str, Any]) -> None:
    """Raise ModelError, with the nearest spelling, for a name that is not among the parameters."""
    for name in names:
        if name not in quantities:
            raise ModelError(
                f"the {what} has no parameter {name!r}", unknown=name, known=quantities
            )


def _with_process_parameters(driver: ProcessDriver, changes: Mapping[str, Any]) -> Process:
    check_parameters(f"process of {driver.name!r}", changes, driver.process.parameters)
    if driver.uncertain:
        raise ModelError(
            f"the parameters of {driver.name!r} are drawn as its history leaves them open; state a "
            "process without uncertain to set them"
        )
    return replace(driver.process, **changes)


def _pairs(entry: Correlation) -> list[tuple[str, str]]:
    """Return the pairs of drivers of a correlation, each in the order of the alphabet."""
    return list(combinations(sorted(entry.names), 2))
