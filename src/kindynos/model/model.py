"""The model an analyst states, and everything that can be asked of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace as replaced
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Self, TypeVar, Unpack, get_args, overload

from kindynos.cohorts.cohort import Cohort
from kindynos.delegation import Inline
from kindynos.dependence import matrices
from kindynos.distributions.base import Distribution
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import KindynosError, ModelError, ParameterError, concerning
from kindynos.formula.parse import is_name
from kindynos.literals import (
    Better,
    CopulaName,
    CorrelationKind,
    Each,
    Missing,
    PeriodLength,
    RunStore,
    SamplingPlan,
)
from kindynos.processes.base import Process
from kindynos.processes.pathset import PathSet
from kindynos.program.correlations import Correlation, checked_correlation, checked_matrix
from kindynos.program.planned import PlannedChoice
from kindynos.program.program import Program
from kindynos.program.quantities import (
    Given,
    Line,
    Quantity,
    check_name,
    check_rate,
    check_signature,
    distribution_driver,
    given_value,
    process_driver,
)
from kindynos.program.statement import WORDS, Statement
from kindynos.program.timeline import Timeline
from kindynos.results.options import SimulationOptions, options_of, takes_simulation_options
from kindynos.sampling.streams import Seed
from kindynos.validate import (
    check_integer,
    checked,
    finite,
    instance,
    known_name,
    mapping,
    one_of,
    owner_is,
    positive,
    proper_fraction,
    threshold,
)

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.fitting.track_record import TrackRecord
    from kindynos.model.parts import TrialParts
    from kindynos.results.options import SimulationKeywords
    from kindynos.results.run import Run
    from kindynos.results.summary_run import SummaryRun
    from kindynos.studies.comparison import Comparison
    from kindynos.studies.frontier import ModelFrontier
    from kindynos.studies.goal import Goal
    from kindynos.studies.optimum import Optimum
    from kindynos.studies.policy import Policy
    from kindynos.studies.robustness import Robustness
    from kindynos.studies.sweep import Sweep


Function = TypeVar("Function", bound=Callable[..., Any])


class Model(Inline):
    """A set of named quantities: given figures, uncertain drivers, calculated lines, and outcomes
    to report on.

    ``periods`` is the number of periods of its rows, ``start`` the label of the first (``"2028"``,
    ``"2028-Q1"``, ``"2028-01"``, ``"2028-W05"``), ``every`` their length: year, quarter, month or
    week.

    >>> model = Model("Tickets")
    >>> model.given(fare=42.0)
    >>> from kindynos import Normal
    >>> model.driver("sold", Normal(1000, 100))
    >>> model.outcome("sales", "fare * sold", unit="EUR")
    >>> run = model.simulate(trials=1000, seed=1)
    >>> round(run["sales"].mean, -2)
    42000.0
    """

    @checked
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
            label: sum(isinstance(q, kind) for q in quantities) for kind, label in WORDS.items()
        }
        parts = ", ".join(
            f"{count} {label}{'' if count == 1 else 's'}" for label, count in counts.items()
        )
        return f"<model {self.name!r}: {parts}>"

    @checked
    def add(self, quantity: Quantity) -> None:
        """Add a quantity that is checked already; raises ModelError for a name that is taken by
        another.
        """
        self._statement = self._statement.with_quantity(quantity)

    @checked
    def given(
        self,
        name: str | None = None,
        value: Any = None,
        /,
        *,
        unit: str | None = None,
        source: str | None = None,
        convert: bool = False,
        **figures: Any,
    ) -> None:
        """Declare figures that are known: ``given(fare=42.0, seats=320)``, or one with its unit and
        source.

        A figure is a number, a list with one number per period, or pairs (key, value) that make a
        table for ``lookup``. ``convert`` says that a rate a year, as its unit must call it, is used
        in lines as the rate of one period of the model, which compounds to it. Raises ModelError or
        ParameterError for a name that is taken or a value that is none of these.
        """
        if name is not None:
            if value is None:
                raise ModelError(
                    f"no value; say given({name!r}, 42.0) or given({name}=42.0)",
                    owner=f"given {name!r}",
                )
            with concerning(f"given {name!r:.60}"):
                instance("convert", convert, bool, "True or False")
            figure = given_value(name, value, self.periods)
            self.add(check_rate(Given(check_name(name), figure, unit, source, convert)))
        elif not figures:
            raise ModelError("nothing given; say given(fare=42.0)")
        elif unit is not None or source is not None or convert:
            raise ModelError(
                "unit, source and convert belong to one figure; say given('fare', 42.0, unit=..., "
                "source=...)"
            )
        for key, number in figures.items():
            self.add(Given(check_name(key), given_value(key, number, self.periods)))

    @checked
    @owner_is("driver {name!r:.60}")
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
        value: Literal["end", "average"] = "end",
    ) -> None:
        """Declare an uncertain input: one number per trial, or with ``each="period"`` redrawn each
        period.

        A process gives a row, its values at the ends of the periods, each ``dt`` long in its unit
        of time, or with ``value="average"`` its averages over them, which vary less; ``uncertain``
        draws the parameters of a fitted one too. A ``PathSet`` gives a row for each of its names. A
        parameter of a distribution may name a given figure, a row, a line or another driver:
        ``Binomial(trials="sold", probability=0.07)``. ``base`` is the value in the base case;
        default: the mean; ``base="mode"`` takes the likeliest. ``serial`` is the rank correlation
        of each period's value with the one before. Raises ModelError or ParameterError.
        """
        one_of("value", value, ("end", "average"))
        if isinstance(distribution, PathSet):
            for option, given in (("each", each), ("base", base), ("serial", serial)):
                if given is not None:
                    raise ModelError(
                        f"{option}= goes with one distribution, not with several processes"
                    )
            options = {"unit": unit, "source": source, "dt": dt, "uncertain": uncertain}
            options |= {} if value == "end" else {"value": value}
            self._add_paths(distribution, options)
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
                    value=value,
                )
            )
            return
        if positive("dt", dt) != 1 or uncertain or value != "end":
            raise ModelError("dt=, uncertain= and value= belong to a process")
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

    def _add_paths(self, together: PathSet, options: Mapping[str, Any]) -> None:
        """Declare a driver for each process of several, and how their returns are correlated."""
        shares = next(iter(together.processes)) if together.shared else None
        for member, process in together.processes.items():
            check_name(member)
            self.add(process_driver(member, process, self.periods, shares=shares, **options))
        for first, second, value in together.correlated_pairs(options["dt"]):
            self.correlate(first, second, value, kind="linear")

    @checked
    def drivers_from(
        self,
        source: str | Path | pd.DataFrame,
        name: str | None = None,
        *,
        sheet: str | None = None,
        **defaults: str,
    ) -> list[str]:
        """Declare the drivers in a table (CSV, Excel, Parquet or a DataFrame), and a line that adds
        them up; return their names.

        The table has the columns ``name``, ``distribution`` and those of its parameters, and
        perhaps ``unit``, ``source``, ``base`` and ``each``. What a column or a cell of text lacks,
        ``defaults`` such as ``distribution="pert"`` or ``unit="EUR"`` state; headings such as item,
        minimum, most likely and maximum are understood. A row with a ``chance`` is a risk, whose
        impact has the distribution, or is the number in ``impact``. The line is called ``name``
        (default: the file's name without its ending) and is ``sum_of("items")`` in formulas. Raises
        FileError, with the row, for one that is not a driver, and ModelError for a name that is
        taken.
        """
        from pathlib import Path

        from kindynos.model.driver_table import DEFAULTS, drivers_in
        from kindynos.tables.layout import TableFormat

        if name is None and not isinstance(source, str | Path):
            raise ModelError("a DataFrame needs name=, the name of its sum")
        label = check_name(Path(str(source)).stem if name is None else name)
        for key in defaults:
            known_name("default", key, DEFAULTS)
        drivers = drivers_in(source, TableFormat.checked(sheet=sheet), defaults)
        before = self._statement
        try:
            for entry in drivers:
                self.driver(entry.name, entry.distribution, **entry.options)
            names = [entry.name for entry in drivers]
            units = {entry.options.get("unit") for entry in drivers}
            unit = units.pop() if len(units) == 1 else None
            # a sum of one is a sum too
            self.line(
                label, f"sum_of({', '.join(names if len(names) > 1 else [*names, '0'])})", unit=unit
            )
        except KindynosError:
            self._statement = before
            raise
        return names

    @checked
    def cohort(self, name: str, cohort: Cohort, *, uncertain: bool = False) -> None:
        """Declare a population whose members move between states, such as a fleet: rows
        ``fleet_sailing``, ``fleet_in_dock``, ... for lines.

        The rows are the counts after each period, and with ``value`` or ``cost`` a row
        ``fleet_value`` is what the things bring less what their moves cost. The chances may name
        givens, drivers and lines. In the base case the counts are the expected ones. ``uncertain``
        draws the chances of a cohort that was fitted, as the records leave them open. The driver
        ``fleet_moves`` holds the randomness of the moves. Raises ModelError for a model without
        periods, and a name that is used already.
        """
        from kindynos.model.cohorts import declarations

        check_name(name)
        instance("cohort", cohort, Cohort, "a cohort, as kd.Cohort makes it")
        moves, rows = declarations(name, cohort, self.periods, uncertain)
        self.add(moves)
        for row in rows:
            self.add(row)

    @checked
    def claims(
        self,
        name: str,
        count: Distribution | StatedDistribution | str,
        size: Distribution | StatedDistribution,
        *,
        each: Each | None = None,
        unit: str | None = None,
        source: str | None = None,
    ) -> None:
        """Declare several events in a trial, or with ``each="period"`` in every period, such as
        claims, losses or defaults: how many, and how large each of them is.

        ``count`` is a distribution of whole numbers, which becomes the driver ``NAME_count``, or
        names a quantity; parameters of both distributions may name quantities, so that claims may
        share a driver (a storm year). The driver ``NAME_events`` picks the sizes: event k of a
        trial stays as it is whatever the number of events. Formulas reduce the events to a number
        per trial, or a row: ``total(NAME)``, ``largest(NAME)``, ``above(NAME, 1e6)``; and cut them
        before: ``layer(NAME, 1e6, 4e6)``, ``capped(NAME, 5e6)``, ``NAME * inflation``. Raises
        ModelError or ParameterError.

        >>> from kindynos import Exponential, Model, Poisson
        >>> model = Model("Hulls")
        >>> model.claims("hull", Poisson(3), Exponential(0.2), unit="m EUR")
        >>> model.outcome("ceded", "total(layer(hull, 0.5, 1))", unit="m EUR", better="low")
        >>> round(model.simulate(20_000, seed=1)["ceded"].mean, 2)  # 0.6 (e^-2.5 - e^-7.5)
        0.05
        """
        from kindynos.model.claims import declarations

        check_name(name)
        self._add_all(declarations(name, count, size, self.periods, each, unit, source))

    @checked
    def event(
        self,
        name: str,
        when: int | str | Sequence[int | str],
        chance: float | str = 1.0,
        brings: float | str | Distribution | StatedDistribution = 1.0,
        *,
        needs: str | Sequence[str] = (),
        unit: str | None = None,
        source: str | None = None,
    ) -> None:
        """Declare an event with a date: with a ``chance`` it comes in the period ``when``, or in
        one of several that are as likely, by number or label, and ``brings`` an amount there.

        ``chance`` is a number or names a quantity, ``brings`` is a number, a formula or a
        distribution. An event that ``needs`` others comes only if these have come by then. ``NAME``
        is the row of what it brings, ``NAME_happened`` 1 or 0, ``NAME_when`` its period,
        ``NAME_comes`` the driver whether it comes if nothing else is missing. Raises ModelError for
        a model without periods, a period and an event that there is not.

        >>> from kindynos import Model
        >>> model = Model("Pier", periods=4, start=2027)
        >>> model.event("permit", 2028, chance=0.6)
        >>> model.event("grant", [2029, 2030], chance=0.5, brings=2e6, needs="permit", unit="EUR")
        >>> model.outcome("funds", "total(grant)", unit="EUR")
        >>> round(model.simulate(10_000, seed=1)["funds"].chance(above=0), 2)
        0.3
        """
        from kindynos.model.events import event_parts

        with concerning(f"event {name!r}"):
            labels = tuple(self._statement.timeline.labels) if self.periods is not None else ()
            parts = event_parts(name, when, chance, brings, needs, labels, self.quantities)
            if isinstance(parts.when, int):
                self.given(f"{name}_when", parts.when, source=source)
            else:
                self.driver(f"{name}_when", parts.when, source=source)
            self.driver(f"{name}_comes", parts.comes, source=source)
            if parts.brings is not None:
                self.driver(f"{name}_brings", parts.brings, unit=unit, source=source)
            for line, formula in parts.lines.items():
                self.line(line, formula, unit=unit if line == name else None)

    @checked
    def loans(
        self,
        source: str | Path | pd.DataFrame,
        name: str | None = None,
        *,
        correlation: float | str | None = None,
        unit: str | None = None,
        sheet: str | None = None,
    ) -> list[str]:
        """Declare a book of loans from a table: the losses of those that default are events, as
        ``claims`` are; return its name and those of its groups.

        The table (CSV, Excel, Parquet or a DataFrame) has the columns ``amount`` and ``chance`` (of
        default, within the year), and perhaps ``recovery``, a share of the amount, and ``group``;
        headings such as exposure and probability are understood. All loans share the driver
        ``NAME_factor``, which is low in bad times; ``correlation`` (default: 0.15), or the quantity
        that it names, says how closely they follow it. ``NAME`` holds the losses of all loans, and
        ``NAME_GROUP`` those of a group. Raises FileError, with the row, for what no loan can have.

        >>> import pandas as pd
        >>> model = Model("Lender")
        >>> book = pd.DataFrame({"amount": [100.0] * 50, "chance": 0.02, "recovery": 0.4})
        >>> model.loans(book, "book", correlation=0.2)
        ['book']
        >>> model.outcome("loss", "total(book)", better="low")
        >>> bool(abs(model.simulate(20_000, seed=1)["loss"].mean - 60) < 1.5)
        True
        """
        from kindynos.model.loans import declarations, loans_in
        from kindynos.tables.layout import TableFormat

        if name is None and not isinstance(source, str | Path):
            raise ModelError("a DataFrame needs name=, the name of the book")
        label = check_name(Path(str(source)).stem if name is None else name)
        loans = loans_in(source, TableFormat.checked(sheet=sheet))
        return self._add_all(declarations(label, loans, correlation, unit))

    def _add_all(self, quantities: Sequence[Quantity]) -> list[str]:
        """Add quantities, or none of them; return the names of those that are events."""
        before = self._statement
        try:
            for quantity in quantities:
                self.add(quantity)
        except KindynosError:
            self._statement = before
            raise
        return [q.name for q in quantities if isinstance(q, Line)]

    @overload
    def line(self, name: Function, /) -> Function: ...
    @overload
    def line(self, name: str, formula: str, *, unit: str | None = None) -> None: ...
    @overload
    def line(
        self, *, unit: str | None = None, each_trial: bool = False
    ) -> Callable[[Function], Function]: ...
    @checked
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
        missing: Missing | float | None = None,
    ) -> None: ...
    @overload
    def outcome(
        self,
        *,
        unit: str | None = None,
        target: float | str | None = None,
        better: Better = "high",
        missing: Missing | float | None = None,
        each_trial: bool = False,
    ) -> Callable[[Function], Function]: ...
    @checked
    def outcome(
        self,
        name: Any = None,
        formula: str | None = None,
        *,
        unit: str | None = None,
        target: float | str | None = None,
        better: Better = "high",
        missing: Missing | float | None = None,
        each_trial: bool = False,
    ) -> Any:
        """Declare a line to report on, with its unit and, where there is one, the target that
        matters; otherwise as line.

        The target is a number (a fraction, or "9%"), or the name of a given one
        (``target="hurdle"``), with which it changes. ``better="low"`` says that less of it is
        better, as of a cost: tails, dominance, the worst trials and pictures obey it. ``missing``
        says how a trial without a value ranks, such as one whose IRR does not exist: "worst",
        "best", or as a number; without it such trials are counted, and nothing is ranked by them.
        """
        checked_target: Any = target
        if target is not None and not is_name(target):
            checked_target = finite("target", threshold("target", target))
        one_of("better", better, ("high", "low"))
        if isinstance(missing, str):
            one_of("missing", missing, ("worst", "best"))
        elif missing is not None:
            missing = finite("missing", missing)
        blank = Line(
            "",
            unit=unit,
            outcome=True,
            target=checked_target,
            better=better,
            missing=missing if isinstance(missing, str | None) else finite("missing", missing),
            each_trial=each_trial,
        )
        return self._declare(name, formula, blank)

    @checked
    def must_hold(
        self, name: Any = None, condition: str | None = None, *, tolerance: float = 1e-9
    ) -> Any:
        """Declare a condition that every trial must meet, such as a balance that balances or cash
        above the overdraft: a formula, or as a decorator a function that gives 1 or True where it
        holds. A row must hold in every period.

        In a condition ``a == b`` both sides may differ by the ``tolerance``, a share of the larger
        of them and 1. A run counts the trials that break it and says so before its answer; see
        ``Run.checks``, and ``simulate(on_broken="error")``. Raises ModelError or FormulaError for a
        condition that cannot be read.

        >>> from kindynos import Normal
        >>> model = Model("Till", periods=3)
        >>> model.driver("sales", Normal(10, 2), each="period")
        >>> model.must_hold("never_empty", "sales > 0")
        >>> int(model.simulate(1_000, seed=1).checks().loc["never_empty", "broken in"])
        0
        """
        if isinstance(condition, str):
            condition = _with_tolerance(condition, positive("tolerance", tolerance))
        return self._declare(name, condition, Line("", check=True))

    def _declare(self, name: Any, formula: str | None, blank: Line) -> Any:
        term = "outcome" if blank.outcome else "check" if blank.check else "line"
        instance("each_trial", blank.each_trial, bool, "True or False")
        if isinstance(name, str):
            if formula is None:
                raise ModelError(
                    f"{term} {name!r} has no formula; say {term}({name!r}, 'fare * seats')"
                )
            check_name(name)
            if blank.each_trial:
                raise ModelError(
                    "each_trial is for functions; a formula works on all trials at once",
                    owner=f"{term} {name!r}",
                )
            line = replaced(blank, name=name, formula=formula)
            try:
                _ = line.tree
            except KindynosError as error:
                raise error.with_context(owner=f"{term} {name!r}") from None
            self.add(line)
            return None

        def decorate(function: Function) -> Function:
            label = getattr(function, "__name__", "")
            check_signature(label, function)
            self.add(replaced(blank, name=check_name(label), function=function))
            return function

        return decorate if name is None else decorate(name)

    @checked
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

        Of several drivers, ``correlate("a", "b", "c", 0.4)``, each two are correlated so. The
        number is a rank (Spearman) correlation, or a linear one with ``kind="linear"``; drivers
        with a value each period are correlated period by period, and a driver of one number with
        their level, the mean over all periods. ``copula`` is "gaussian", "t"
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
            entries = checked_matrix(matrices.named_pairs(what[0]), **options)
        else:
            value = what[-1] if what and not isinstance(what[-1], str) else None
            names = what if value is None else what[:-1]
            entries = [checked_correlation(names, value, **options)]
        self._statement = self._statement.with_correlations(entries)

    @checked
    def title(self, name: str, title: str) -> None:
        """Say what people call a quantity: pages, tables, pictures and sentences then do too.

        Formulas, options and data keep its name. Raises ModelError for a quantity that there is
        not, and for a title of no or of more than 60 characters.

        >>> model = Model("Gas plant")
        >>> model.given(npv=1.0)
        >>> model.title("npv", "NPV of the gas plant")
        """
        self._statement = self._statement.with_title(name, title)

    @checked
    def scenario(self, name: str, /, **replacements: Any) -> None:
        """Declare a named set of replacements for given figures and drivers, as ``replace`` takes
        them; see ``compare``.

        Raises ModelError or ParameterError for what cannot be replaced so, and for a name that is
        taken by another set.
        """
        self._statement = self._statement.with_scenario(name, replacements)

    @checked
    def choice(
        self,
        name: str,
        at: int | str,
        knowing: str | Sequence[str],
        options: Mapping[str, Mapping[str, Any]],
        after: Mapping[str, str] | None = None,
    ) -> None:
        """Declare a choice that is made at the end of period ``at``, by what is then known; see
        ``policy``.

        ``knowing`` names rows, known by their value in that period, and numbers. ``options`` are
        replacements of given figures by name, ``{"wait": {}, "build": {"size": 2}}``; ``after``
        says which option of an earlier choice leaves this one open, ``{"first": "wait"}``. Raises
        ModelError for a model without periods and for what there is not.
        """
        if self.periods is None:
            raise ModelError("a choice is made in a period; the model needs periods=")
        with concerning(f"choice {name!r}"):
            labels = tuple(self._statement.timeline.labels)
            made = PlannedChoice.of(at, knowing, options, after, labels)
            self._statement = self._statement.with_choice(name, made)

    @property
    def choices(self) -> Mapping[str, PlannedChoice]:
        """The choices that are planned, by name, in the order in which they are made."""
        return dict(self._statement.choices)

    @checked
    @takes_simulation_options
    def policy(
        self,
        outcome: str,
        *,
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> Policy:
        """Return what the choices of the model are worth for an outcome: in every trial the option
        is chosen that is best on average given what is known then.

        The rules are found by regression on one half of the trials and judged on the other, and the
        other way round, from the last choice back. All options are run on the same draws. Raises
        ModelError for a model without choices, for what depends on later draws or on the choice
        itself and so cannot be known, and for more than 64 plans.

        >>> from kindynos import Model, Normal
        >>> model = Model("Pilot", periods=2)
        >>> model.given(size=0)
        >>> model.driver("demand", Normal(0, 10), each="period")
        >>> model.outcome("profit", "size * at(demand, 1)")
        >>> model.choice("expand", 1, ["demand"], {"stay": {}, "build": {"size": 1}})
        >>> found = model.policy("profit", trials=20_000, seed=1)
        >>> bool(abs(found.worth - 3.99) < 0.15), found.rules["expand"]
        (True, 'stay; build if demand is above 0')
        """
        from kindynos.studies.policy import policy

        return policy(self._statement, outcome, SimulationOptions(trials, seed, **options))

    @checked
    def with_policy(self, policy: Policy) -> Model:
        """Return the model with its choices made by the rules of a policy: in every trial each
        figure is what the option taken makes of it, and ``NAME_option`` is its number, from 0, or
        -1 where an earlier choice left it closed.

        It is a model as any other, whose runs are drawn once, and can be extended, resumed,
        summarised and compared; the rules are part of what tells it from others, and of the
        ``facts`` of its runs. Raises ModelError for a policy of another model.

        >>> from kindynos import Model, Normal
        >>> model = Model("Pilot", periods=2)
        >>> model.given(size=0)
        >>> model.driver("demand", Normal(0, 10), each="period")
        >>> model.outcome("profit", "size * at(demand, 1)")
        >>> model.choice("expand", 1, ["demand"], {"stay": {}, "build": {"size": 1}})
        >>> grown = model.with_policy(model.policy("profit", trials=20_000, seed=1))
        >>> round(grown.simulate(10_000, seed=2)["profit"].mean, 1)
        4.0
        """
        from kindynos.program.identity import identity
        from kindynos.studies.policy import Policy

        instance("policy", policy, Policy, "a policy, as Model.policy returns it")
        if policy.of != identity(self.compiled()):
            raise ModelError("the policy is of another model, or of this one before it changed")
        return self.of(policy.statement)

    @classmethod
    @checked
    def from_function(
        cls,
        function: Callable[..., Any],
        drivers: Mapping[str, Any],
        outcomes: str | Sequence[str] | Mapping[str, Mapping[str, Any] | float],
        *,
        given: Mapping[str, Any] | None = None,
        name: str | None = None,
        periods: int | None = None,
        each_trial: bool | None = None,
        base: Any = None,
    ) -> Model:
        """Return a model of a calculation that is there already.

        ``drivers`` are distributions by argument, or the keywords of ``driver`` (``{"distribution":
        ..., "each": "period"}``); ``given`` are figures; arguments with a default may be left out.
        ``outcomes`` names what the function returns: one value, several in order, or values by
        name; ``{"profit": {"unit": "EUR", "target": 0}}`` says more, and ``{"profit": 0}`` the
        target. With ``base=``, a dataclass instance, the function takes one such instance, where
        drivers and given figures replace fields; it may return one too. The function, or object
        that can be called, gets arrays, the trials last, if that gives what single numbers give,
        and otherwise floats, trial by trial, spread over processes where that pays; ``each_trial``
        decides it. A trial that fails is reported with its drivers and how to run it alone. Raises
        ModelError for arguments that do not fit.

        >>> from kindynos import Model, Normal
        >>> drivers = {"sold": Normal(1000, 100)}
        >>> model = Model.from_function(lambda sold: 42 * sold, drivers, "sales")
        >>> round(model.simulate(1000, seed=1)["sales"].mean, -2)
        42000.0
        """
        from kindynos.model.from_function import outcome_lines

        lines = outcome_lines(function, [*drivers, *(given or {})], outcomes, each_trial, base)
        model = cls(name or str(getattr(function, "__name__", type(function).__name__)), periods)
        for key, value in drivers.items():
            options: dict[str, Any] = (
                dict(value) if isinstance(value, Mapping) else {"distribution": value}
            )
            model.driver(key, options.pop("distribution", None), **options)
        if given:
            model.given(**given)
        for line in lines:
            model.add(line)
        return model

    @checked
    def replace(self, **replacements: Any) -> Model:
        """Return a new model with other given figures, other distributions, or drivers fixed at a
        number.

        This model is untouched. Raises ModelError or ParameterError for what cannot be replaced so.

        >>> model = Model("Tickets")
        >>> model.given(fare=42.0)
        >>> model.replace(fare=45.0).quantities["fare"].value
        45.0
        """
        return Model.of(self._statement.replace(**replacements))

    def compiled(self) -> Program:
        """Return the model made ready to run; raises ModelError or FormulaError for what cannot be
        evaluated.
        """
        return self._statement.program

    def check(self) -> pd.DataFrame:
        """Return what looks wrong in the model, a row for each quantity and finding; empty where
        nothing does.

        >>> model = Model("Tickets")
        >>> model.given(fare=42.0, tax=21)
        >>> model.outcome("sales", "fare * 1000")
        >>> print(*model.check()["finding"], sep="\\n")
        no line uses this given figure
        rates are fractions per period: 21 means 2100 %; 0.21 would be 21 %
        """
        import pandas as pd

        from kindynos.model.review import review_of

        return pd.DataFrame(
            [(answer.name, answer.text) for answer in review_of(self._statement)],
            columns=["name", "finding"],
        )

    def base_case(self) -> pd.DataFrame:
        """Return the sheet with every driver at its base value: quantities down, periods across.

        A column ``value`` holds the single numbers, and one column for each period the rows.
        """
        from kindynos.results.sheet import sheet

        program = self.compiled()
        values, _ = program.evaluate(program.base_values(), 1)
        return sheet(program, values)

    @overload
    def simulate(
        self,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        store: Literal["all"] = "all",
        **options: Unpack[SimulationKeywords],
    ) -> Run: ...

    @overload
    def simulate(
        self,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        store: Literal["summary"],
        resume: str | Path | None = None,
        **options: Unpack[SimulationKeywords],
    ) -> SummaryRun: ...

    @overload
    def simulate(
        self,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        store: Literal["parts"],
        resume: str | Path,
        **options: Unpack[SimulationKeywords],
    ) -> TrialParts: ...

    @checked
    @takes_simulation_options
    def simulate(
        self,
        trials: int = 10_000,
        seed: Seed = None,
        *,
        store: RunStore = "all",
        resume: str | Path | None = None,
        **options: Unpack[SimulationKeywords],
    ) -> Run | SummaryRun | TrialParts:
        """Return a run: ``trials`` joint draws of all drivers, and everything calculated from them.

        ``seed`` reproduces a run to the bit, for any number of ``workers`` (threads; all processors
        by default); without one a seed is chosen, and ``run.seed`` tells it. ``sampling`` is a
        plan: "latin", "random", "antithetic", or "sobol", which rounds the trials up to blocks of a
        power of two. ``progress(done, total)`` is called after each batch; when it returns False
        the run stops and keeps what is complete, marked as partial. ``keep`` names lines to hold in
        memory besides outcomes and drivers of one number. A trial whose outcome is NaN, or in which
        a function raises, has no value and is counted, with the error; or with ``on_bad="error"``
        it raises RunError. A condition that must hold (``must_hold``) and does not is counted too,
        or with ``on_broken="error"`` raises RunError.

        ``executor=`` takes any ``concurrent.futures.Executor``: the model travels to it by value.
        ``until=Precision(...)``, or a list of these, adds rounds of trials until the errors are
        small enough, or ``max_trials=`` trials are reached. ``max_seconds=`` stops it as progress
        does. ``on_start(trials)`` and ``on_finish(run)`` are called at the start and the end.

        With ``store="summary"`` no trials are held: a pilot brackets the percentiles, one pass
        counts by block, and the figures are those of all trials, so that 10^9 trials fit into
        memory; ``resume=`` names a file from which an interrupted run goes on. With
        ``store="parts"`` the trials are written into the folder ``resume`` as Parquet files, which
        ``kd.open_parts`` reads one quantity at a time, and other programs too. Also raises
        ParameterError, ModelError, FormulaError, StoppedError where ``progress`` stops it before
        the first trials, and RunInterrupt, a KeyboardInterrupt, on an interrupt from the keyboard.
        """
        from kindynos.results.simulate import simulate

        settings = SimulationOptions.stated(trials, seed, options)
        one_of("store", store, get_args(RunStore))
        one_of("on_broken", settings.on_broken, ("count", "error"))
        if settings.on_broken == "error" and store != "all":
            raise ParameterError(f"on_broken='error' needs store='all', not {store!r}")
        if store == "summary":
            from kindynos.results.summary_run import summarize

            return summarize(self.compiled(), settings, None if resume is None else Path(resume))
        if store == "parts":
            from kindynos.model.parts import simulate_parts

            if resume is None:
                raise ParameterError("store='parts' needs resume=, the folder of the trials")
            return simulate_parts(self.compiled(), settings, resume)
        if resume is not None:
            raise ParameterError("resume= goes with store='summary' or 'parts'")
        return simulate(self.compiled(), settings)

    @checked
    @takes_simulation_options
    def preview(
        self, n: int = 6, seed: Seed = None, **options: Unpack[SimulationKeywords]
    ) -> pd.DataFrame:
        """Return a few trials of the whole model for a first look: quantities down (rows by
        period), trials across.

        Without a seed each call draws others; the plan is "random" unless ``sampling`` says
        another. ``options`` are those of ``simulate``.
        """
        from kindynos.results.sheet import trials_side_by_side

        stated: SimulationKeywords = {"sampling": "random", "workers": 1, **options}
        return trials_side_by_side(self.simulate(check_integer("n", n, least=1), seed, **stated))

    @checked
    def inputs(
        self, trial: int, trials: int = 10_000, seed: int = 0, sampling: SamplingPlan = "latin"
    ) -> dict[str, Any]:
        """Return the drivers and given figures of one trial of a run: floats, and rows
        ``(periods,)``.

        So a function that failed there can be called alone, under a debugger. Raises ParameterError
        for an unknown trial.
        """
        from kindynos.program.batch import inputs_of_trial
        from kindynos.sampling.plans import PLANS

        return inputs_of_trial(self.compiled(), PLANS.find(sampling), trial, trials, seed)

    @checked
    @takes_simulation_options
    def compare(
        self,
        scenarios: Mapping[str, Mapping[str, Any]] | None = None,
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> Comparison:
        """Return a comparison of scenarios on the same draws: sets of replacements by name,
        compared with the first.

        ``compare({"as planned": {}, "deposit 500k": {"deposit": 5e5}}, trials, seed)``; without
        scenarios, the model as it is and its own. ``options`` are those of ``simulate``. Raises
        what ``simulate`` does, and ModelError for a scenario that names nothing known.
        """
        from kindynos.studies.scenarios import compare_scenarios

        return compare_scenarios(
            self._statement, scenarios, SimulationOptions.stated(trials, seed, options)
        )

    @checked
    @takes_simulation_options
    def sweep(
        self,
        over: Mapping[str, Iterable[float]] | None = None,
        /,
        *,
        statistic: Any = None,
        outcome: str | None = None,
        points: Any = None,
        trials: int = 10_000,
        seed: Seed = None,
        **values: Any,
    ) -> Sweep:
        """Return the model over every combination of values of givens, drivers, or parameters of
        drivers' distributions.

        ``sweep(hurdle=[0.05, 0.08], deposit=[4e5, 5e5])``, or ``sweep({"vessel.mode": [18e6,
        20e6]})``. Of a model with drivers every point is simulated on the same draws, and the
        statistic, "mean" or another such as "percentile 5" or "chance above 0", has its error;
        ``statistic="base"`` is the base case, in one array evaluation. All outcomes that are one
        number come out, or the one named. ``points=`` (a table of values by name) takes the place
        of the grid. Options of ``simulate`` are taken by their names. Raises ModelError for what
        cannot be swept.
        """
        from kindynos.studies.model_sweep import SweepRequest, sweep

        stated = {
            name: values.pop(name) for name in options_of(SimulationOptions) if name in values
        }
        options = SimulationOptions(trials, seed, **stated)
        named = mapping("its first argument", {} if over is None else over, "values by name")
        request = SweepRequest({**named, **values}, points, statistic, outcome)
        return sweep(self._statement, request, options)

    @checked
    @takes_simulation_options
    def robustness(
        self,
        outcome: str,
        figure: str | None = None,
        *,
        wider: float = 1.5,
        together: float = 0.3,
        kept: float = 0.8,
        centre: float = 0.25,
        goal: float | None = None,
        record: TrackRecord | str | Path | None = None,
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> Robustness:
        """Return what the assumptions are worth: the chance of missing the target and the bad
        percentile of an outcome, and another ``figure`` such as "mean", under departures from what
        was stated, each on the same draws and with its own error.

        Ranges are ``wider`` times as wide around their medians; bad news comes ``together``, by
        that rank correlation; what is drawn each period is ``kept`` so much from one to the next;
        ``centres`` are so much worse that the outcome moves about ``centre`` of its sd; shapes and
        tails are others. With a ``record`` of past forecasts (or its file, as ``kd.track_record``
        reads it) ranges are as much wider as they should have been there. With a ``goal`` for the
        first figure ``needed`` says which medians reach it. ``options`` are those of ``simulate``.
        Raises ModelError for a model without drivers, and ParameterError for a record that is too
        short.

        >>> from kindynos import Model, Normal
        >>> model = Model("Kiosk")
        >>> model.driver("cups", Normal(100, 10))
        >>> model.outcome("profit", "3 * cups - 270", unit="EUR", target=0)
        >>> found = model.robustness("profit", trials=2_000, seed=1)
        >>> round(float(found.stated["chance below 0"]), 2)
        0.16
        >>> round(float(found.table.loc[("ranges x 1.5", "chance below 0"), "value"]), 2)
        0.25
        """
        from kindynos.fitting.track_record import widening_of
        from kindynos.studies.robustness import RobustnessRequest, robustness

        measured = ""
        if record is not None:
            wider, measured = widening_of(record)
        positive("wider", wider)
        for name, share in (("together", together), ("kept", kept)):
            proper_fraction(name, share)
        request = RobustnessRequest(
            outcome,
            figure,
            wider,
            together,
            kept,
            finite("centre", centre),
            None if goal is None else finite("goal", goal),
            measured,
        )
        return robustness(self._statement, request, SimulationOptions(trials, seed, **options))

    @checked
    @takes_simulation_options
    def solve(
        self,
        name: str,
        outcome: str,
        *,
        within: tuple[float, float],
        chance: float | None = None,
        above: float | None = None,
        below: float | None = None,
        mean: float | None = None,
        percentile: float | None = None,
        equals: float | None = None,
        base: float | None = None,
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> Goal:
        """Return the value of a given, or of a driver's parameter (``"vessel.mode"``), that reaches
        a goal.

        ``solve("deposit", outcome="reserve", chance=0.80, above=1e6, within=(2e5, 9e5))``; or
        ``mean=``, or ``percentile=`` with ``equals=``, or ``base=`` for the base case. All values
        are tried on the same draws, until the value is known to 1e-4 of the range. Where the
        statistic turns within the range, its extreme is sought; ``others`` are further values that
        reach the goal, and ``jump`` says where it is jumped over. ``options`` are those of
        ``simulate``. Raises GoalError, with what the range reaches, when none does, and
        ParameterError or ModelError for what cannot be solved for.
        """
        from kindynos.studies.solving import GoalRequest, solve

        request = GoalRequest(
            outcome, within, chance, above, below, mean, percentile, equals, base=base
        )
        return solve(
            self._statement, name, request, SimulationOptions.stated(trials, seed, options)
        )

    @checked
    @takes_simulation_options
    def optimize(
        self,
        decisions: Mapping[str, Any],
        *,
        maximize: str | None = None,
        minimize: str | None = None,
        subject_to: str | Sequence[str] = (),
        evaluations: int = 200,
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> Optimum:
        """Return the best values of several decisions at once: given figures, drivers, or
        parameters of distributions.

        ``optimize({"fare": (45, 65), "ferries": [1, 2, 3]}, maximize="mean net_value",
        subject_to=["chance below 0 of net_value <= 0.05"])``: a tuple of two is a range, and a list
        a choice among its values; ``range(600, 761)`` are whole numbers. All points are tried on
        the same draws, at most ``evaluations`` of them, coarsely over everything and then locally;
        a run on fresh draws shows what the best is worth. ``options`` are those of ``simulate``.
        Raises GoalError, with what comes nearest, where no decisions keep the constraints, and
        ParameterError or ModelError for what cannot be sought.
        """
        from kindynos.studies.optimizing import OptimumRequest
        from kindynos.studies.optimum import optimize

        optimum_request = OptimumRequest(decisions, maximize, minimize, subject_to, evaluations)
        return optimize(
            self._statement, optimum_request, SimulationOptions.stated(trials, seed, options)
        )

    @checked
    @takes_simulation_options
    def frontier(
        self,
        decisions: Mapping[str, Any],
        what: str,
        against: str,
        *,
        evaluations: int = 200,
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> ModelFrontier:
        """Return the decisions that are efficient for two figures: no other is better in one and at
        least as good in the other.

        ``frontier({"fare": (45, 65), "ferries": [0, 1]}, "mean net_value", against="percentile 5 of
        net_value")``; decisions are stated as for ``optimize``. Of a spread, a loss and the chance
        of the wrong side of a target less is better, of other figures what is better of their
        outcome. All points are tried on the same draws; the efficient ones are judged on fresh
        draws. Raises ParameterError or ModelError for what cannot be sought.

        >>> from kindynos import Model, Normal
        >>> model = Model("Two bets")
        >>> model.given(share=0.5)
        >>> model.driver("market", Normal(0.06, 0.2))
        >>> model.outcome("value", "0.02 * (1 - share) + share * market")
        >>> found = model.frontier(
        ...     {"share": [0, 0.5, 1]}, "mean value", against="sd value", trials=500, seed=1
        ... )
        >>> len(found.table), len(found.dominated)
        (3, 0)
        """
        from kindynos.studies.frontier import frontier
        from kindynos.studies.optimizing import OptimumRequest

        request = OptimumRequest(decisions, what, None, (), evaluations)
        return frontier(
            self._statement, request, against, SimulationOptions(trials, seed, **options)
        )

    def to_toml(self) -> str:
        """Return the model as a model file; raises ModelError if a line is a Python function."""
        from kindynos.model.writing import to_toml

        return to_toml(self._statement)


def _with_tolerance(condition: str, tolerance: float) -> str:
    """Return a condition in which two sides may differ by a share of the larger of them and 1."""
    left, equals, right = condition.partition("==")
    if not equals or "==" in right:
        return condition
    size = f"max(1, abs({left.strip()}), abs({right.strip()}))"
    return f"abs(({left.strip()}) - ({right.strip()})) <= {tolerance!r} * {size}"
