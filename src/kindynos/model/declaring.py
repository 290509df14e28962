"""Declaring a model: given figures, drivers, lines, outcomes, correlations and scenarios."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace as replaced
from typing import Any, Literal, Self, TypeVar, overload

from kindynos.cohorts.cohort import Cohort
from kindynos.dependence import matrices
from kindynos.distributions.base import Distribution
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import KindynosError, ModelError
from kindynos.formula.parse import is_name
from kindynos.literals import Better, CopulaName, CorrelationKind, Each, PeriodLength
from kindynos.processes.base import Process
from kindynos.processes.pathset import PathSet
from kindynos.program.correlations import Correlation, checked_correlation
from kindynos.program.declarations import (
    check_name,
    check_signature,
    distribution_driver,
    given_value,
    process_driver,
)
from kindynos.program.quantities import Given, Line, Quantity
from kindynos.program.statement import WORDS, Statement
from kindynos.program.timeline import Timeline
from kindynos.validate import explain_call_errors, finite, instance, one_of, positive

Function = TypeVar("Function", bound=Callable[..., Any])


class DeclaredModel:
    """The part of a Model that states it; every declaration replaces the immutable ``statement`` by
    a longer one.
    """

    @explain_call_errors
    def __init__(
        self,
        name: str,
        periods: int | None = None,
        start: str | int | None = None,
        every: PeriodLength = "year",
    ) -> None:
        self._statement = Statement(name, Timeline.of(periods, start, every))

    @classmethod
    def of(cls, statement: Statement) -> Self:
        """Return the model of a statement."""
        model = cls.__new__(cls)
        model._statement = statement
        return model

    @property
    def name(self) -> str:
        """The name, as reports show it."""
        return self._statement.name

    @property
    def periods(self) -> int | None:
        """The number of periods, None for a model without."""
        return self._statement.timeline.periods

    @property
    def quantities(self) -> Mapping[str, Quantity]:
        """All quantities by name, in the order of their declaration."""
        return dict(self._statement.quantities)

    @property
    def correlations(self) -> tuple[Correlation, ...]:
        """The correlations and dependences stated between drivers."""
        return self._statement.correlations

    @property
    def scenarios(self) -> Mapping[str, Mapping[str, Any]]:
        """The named sets of replacements."""
        return {name: dict(changes) for name, changes in self._statement.scenarios.items()}

    @property
    def statement(self) -> Statement:
        """What the model states, as one immutable value."""
        return self._statement

    def __repr__(self) -> str:
        quantities = self._statement.quantities.values()
        counts = {
            word: sum(isinstance(q, kind) for q in quantities) for kind, word in WORDS.items()
        }
        parts = ", ".join(
            f"{count} {word}{'' if count == 1 else 's'}" for word, count in counts.items()
        )
        return f"<model {self.name!r}: {parts}>"

    def add(self, quantity: Quantity) -> None:
        """Add a quantity that is checked already; raises ModelError for a name that is taken by
        another.
        """
        self._statement = self._statement.with_quantity(quantity)

    def given(
        self,
        name: str | None = None,
        value: Any = None,
        /,
        *,
        unit: str | None = None,
        source: str | None = None,
        **figures: Any,
    ) -> None:
        """Declare figures that are known: ``given(fare=42.0, seats=320)``, or one with its unit and
        source.

        A figure is a number, a list with one number per period, or pairs (key, value) that make a
        table for ``lookup``. Raises ModelError or ParameterError for a name that is taken or a
        value that is none of these.
        """
        if name is not None:
            if value is None:
                raise ModelError(
                    f"no value; say given({name!r}, 42.0) or given({name}=42.0)",
                    owner=f"given {name!r}",
                )
            self.add(Given(check_name(name), given_value(name, value, self.periods), unit, source))
        elif not figures:
            raise ModelError("nothing given; say given(fare=42.0)", owner="given")
        elif unit is not None or source is not None:
            raise ModelError(
                "unit and source belong to one figure; say given('fare', 42.0, unit=..., "
                "source=...)",
                owner="given",
            )
        for key, number in figures.items():
            self.add(Given(check_name(key), given_value(key, number, self.periods)))

    def driver(
        self,
        name: str,
        distribution: Distribution | StatedDistribution | Process | PathSet,
        *,
        each: Each | None = None,
        base: float | Literal["mode"] | None = None,
        unit: str | None = None,
        source: str | None = None,
        serial: float | None = None,
        dt: float = 1.0,
        uncertain: bool = False,
    ) -> None:
        """Declare an uncertain input: one number per trial, or with ``each="period"`` redrawn each
        period.

        A process gives a row, its values at the ends of the periods, each ``dt`` long in its unit
        of time; ``uncertain`` draws the parameters of a fitted one too. A ``PathSet`` gives a row
        for each of its names. A parameter of a distribution may name a given figure, a row, a line
        or another driver: ``Binomial(trials="sold", probability=0.07)``. ``base`` is the value in
        the base case; default: the mean; ``base="mode"`` takes the likeliest. ``serial`` is the
        rank correlation of each period's value with the one before. Raises ModelError or
        ParameterError.
        """
        instance(f"driver {name!r:.60}", "uncertain", uncertain, bool, "True or False")
        if isinstance(distribution, PathSet):
            for option, value in (("each", each), ("base", base), ("serial", serial)):
                if value is not None:
                    raise ModelError(
                        f"{option}= goes with one distribution, not with several processes",
                        owner=f"driver {name!r}",
                    )
            shares = next(iter(distribution.processes)) if distribution.shared else None
            for member, process in distribution.processes.items():
                check_name(member)
                self.add(
                    process_driver(
                        member,
                        process,
                        self.periods,
                        unit=unit,
                        source=source,
                        dt=dt,
                        uncertain=uncertain,
                        shares=shares,
                    )
                )
            for first, second, value in distribution.correlated_pairs():
                self.correlate(first, second, value, kind="linear")
            return
        check_name(name)
        if isinstance(distribution, Process):
            self.add(
                process_driver(
                    name,
                    distribution,
                    self.periods,
                    each=each,
                    base=base,
                    unit=unit,
                    source=source,
                    serial=serial,
                    dt=dt,
                    uncertain=uncertain,
                )
            )
            return
        if positive(f"driver {name!r}", "dt", dt) != 1 or uncertain:
            raise ModelError("dt= and uncertain= belong to a process", owner=f"driver {name!r}")
        self.add(
            distribution_driver(
                name,
                distribution,
                self.periods,
                each=each,
                base=base,
                unit=unit,
                source=source,
                serial=serial,
            )
        )

    def cohort(self, name: str, cohort: Cohort, *, uncertain: bool = False) -> None:
        """Declare a population whose members change state: rows ``fleet_sailing``,
        ``fleet_in_dock``, ... for lines.

        The rows are the counts after each period, and with ``value`` or ``cost`` a row
        ``fleet_value`` is what the things bring less what their moves cost. The chances may name
        givens, drivers and lines. In the base case the counts are the expected ones. ``uncertain``
        draws the chances of a cohort that was fitted, as the records leave them open. The driver
        ``fleet_moves`` holds the randomness of the moves. Raises ModelError for a model without
        periods, and a name that is used already.
        """
        from kindynos.model.cohorts import declarations

        check_name(name)
        instance(
            f"cohort {name!r:.60}", "cohort", cohort, Cohort, "a cohort, as kd.Cohort makes it"
        )
        instance(f"cohort {name!r:.60}", "uncertain", uncertain, bool, "True or False")
        moves, rows = declarations(name, cohort, self.periods, uncertain)
        self.add(moves)
        for row in rows:
            self.add(row)

    @overload
    def line(self, name: Function, /) -> Function: ...
    @overload
    def line(self, name: str, formula: str, *, unit: str | None = None) -> None: ...
    @overload
    def line(
        self, *, unit: str | None = None, each_trial: bool = False
    ) -> Callable[[Function], Function]: ...
    def line(
        self,
        name: Any = None,
        formula: str | None = None,
        *,
        unit: str | None = None,
        each_trial: bool = False,
    ) -> Any:
        """Declare a calculated quantity, as a decorator on a function or with a formula.

        The function's parameter names say which quantities it needs; it gets and returns arrays
        with the trials last and the periods before them. With ``each_trial=True`` it is called for
        one trial at a time, with floats and rows ``(periods,)``, and may use ``if``. Raises
        ModelError, or FormulaError for a formula that cannot be read.
        """
        return self._declare(name, formula, Line("", unit=unit, each_trial=each_trial))

    @overload
    def outcome(self, name: Function, /) -> Function: ...
    @overload
    def outcome(
        self,
        name: str,
        formula: str,
        *,
        unit: str | None = None,
        target: float | str | None = None,
        better: Better = "high",
    ) -> None: ...
    @overload
    def outcome(
        self,
        *,
        unit: str | None = None,
        target: float | str | None = None,
        better: Better = "high",
        each_trial: bool = False,
    ) -> Callable[[Function], Function]: ...
    def outcome(
        self,
        name: Any = None,
        formula: str | None = None,
        *,
        unit: str | None = None,
        target: float | str | None = None,
        better: Better = "high",
        each_trial: bool = False,
    ) -> Any:
        """Declare a line to report on, with its unit and, where there is one, the target that
        matters; otherwise as line.

        The target is a number, or the name of a given one (``target="hurdle"``), with which it
        changes. ``better="low"`` says that less of it is better, as of a cost: dominance, the worst
        trials and pictures obey it.
        """
        checked = (
            target if target is None or is_name(target) else finite("outcome", "target", target)
        )
        one_of("outcome", "better", better, ("high", "low"))
        blank = Line(
            "", unit=unit, outcome=True, target=checked, better=better, each_trial=each_trial
        )
        return self._declare(name, formula, blank)

    def _declare(self, name: Any, formula: str | None, blank: Line) -> Any:
        word = "outcome" if blank.outcome else "line"
        if isinstance(name, str):
            if formula is None:
                raise ModelError(
                    f"{word} {name!r} has no formula; say {word}({name!r}, 'fare * seats')"
                )
            check_name(name)
            if blank.each_trial:
                raise ModelError(
                    "each_trial is for functions; a formula works on all trials at once",
                    owner=f"{word} {name!r}",
                )
            line = replaced(blank, name=name, formula=formula)
            try:
                _ = line.tree
            except KindynosError as error:
                raise error.within(owner=f"{word} {name!r}") from None
            self.add(line)
            return None

        def decorate(function: Function) -> Function:
            label = getattr(function, "__name__", "")
            check_signature(label, function)
            self.add(replaced(blank, name=check_name(label), function=function))
            return function

        return decorate if name is None else decorate(name)

    def correlate(
        self,
        *what: Any,
        kind: CorrelationKind = "rank",
        copula: CopulaName = "gaussian",
        df: float | None = None,
        parameter: float | None = None,
        tau: float | None = None,
        repair: bool = False,
    ) -> None:
        """Say that drivers move together: ``correlate("a", "b", 0.4)``, or ``correlate(matrix)``
        with a DataFrame.

        The number is a rank (Spearman) correlation, or a linear one with ``kind="linear"``; drivers
        with a value each period are correlated period by period. ``copula`` is "gaussian", "t"
        (with ``df``), or, for any number of drivers and by ``parameter`` or Kendall's ``tau``,
        "clayton", "gumbel" or "frank". Pairs not stated are uncorrelated. Correlations that cannot
        all hold are an error when the model is used, or with ``repair=True`` are moved to the
        nearest that can, which the run reports. Discrete drivers reach less than is stated, since
        equal values share their rank; the run shows what was reached. Raises ParameterError or
        ModelError.

        >>> from kindynos import Model, Normal
        >>> model = Model("Fuel")
        >>> model.driver("oil", Normal(80, 10))
        >>> model.driver("power", Normal(50, 8))
        >>> model.correlate("oil", "power", 0.6)
        """
        options = {
            "kind": kind,
            "copula": copula,
            "df": df,
            "parameter": parameter,
            "tau": tau,
            "repair": repair,
        }
        if len(what) == 1 and not isinstance(what[0], str):
            pairs: list[tuple[Any, Any]] = [*matrices.named_pairs(what[0])]
        else:
            value = what[-1] if what and not isinstance(what[-1], str) else None
            names = what if value is None else what[:-1]
            if value is not None and len(names) != 2:
                raise ModelError(
                    "a correlation is of two drivers; give several as a matrix", owner="correlate"
                )
            pairs = [(names, value)]
        for drivers, number in pairs:
            self._statement = self._statement.with_correlation(
                checked_correlation(drivers, number, **options)
            )

    def scenario(self, name: str, /, **replacements: Any) -> None:
        """Declare a named set of replacements for given figures and drivers, as ``replace`` takes
        them; see ``compare``.

        Raises ModelError or ParameterError for what cannot be replaced so, and for a name that is
        taken by another set.
        """
        self._statement = self._statement.with_scenario(name, replacements)
