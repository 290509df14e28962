"""The model an analyst states."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import replace as replaced
from typing import TYPE_CHECKING, Any, TypeVar, overload

from kindynos.dependence import matrices
from kindynos.distributions import Distribution
from kindynos.errors import KindynosError, ModelError, ParameterError, nearest
from kindynos.model.formula.parse import is_name
from kindynos.model.formula.tree import PERIOD
from kindynos.model.links import Link, checked_link
from kindynos.model.program import Program, compile_model
from kindynos.model.quantities import Driver, Given, Line, Quantity, check_signature, figure, process_driver
from kindynos.model.studies import Studies
from kindynos.model.timeline import Timeline
from kindynos.processes import PathSet, Process
from kindynos.validate import finite, one_of, shown

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.engine.precision import Precision
    from kindynos.results.run import Run

Function = TypeVar("Function", bound=Callable[..., Any])
_KINDS = {Given: "given figure", Driver: "driver", Line: "line"}


class Model(Studies):
    """A set of named quantities: given figures, uncertain drivers, calculated lines, and outcomes to report on.

    ``periods`` is the number of periods of its rows, ``start`` the label of the first (``"2028"``, ``"2028-Q1"``,
    ``"2028-01"``), ``every`` their length: year, quarter or month.

    >>> model = Model("Tickets")
    >>> model.given(fare=42.0)
    >>> from kindynos import Normal
    >>> model.driver("sold", Normal(1000, 100))
    >>> model.outcome("sales", "fare * sold", unit="EUR")
    >>> run = model.simulate(trials=1000, seed=1)
    >>> round(run["sales"].mean, -2)
    42000.0
    """

    def __init__(self, name: str, periods: int | None = None, start: str | int | None = None, every: str = "year") -> None:
        if not isinstance(name, str) or not name.strip():
            raise ModelError(f"Model: name must be a text that is not empty, not {shown(name)}")
        self.name = name
        self._timeline = Timeline.of(periods, start, every)
        self._quantities: dict[str, Quantity] = {}
        self._links: list[Link] = []
        self._scenarios: dict[str, dict[str, Any]] = {}

    @property
    def periods(self) -> int | None:
        """The number of periods, None for a model without."""
        return self._timeline.periods

    @property
    def quantities(self) -> Mapping[str, Quantity]:
        """All quantities by name, in the order of their declaration."""
        return dict(self._quantities)

    @property
    def links(self) -> tuple[Link, ...]:
        """What is said about drivers that move together."""
        return tuple(self._links)

    @property
    def timeline(self) -> Timeline:
        """The periods and their labels."""
        return self._timeline

    def __repr__(self) -> str:
        counts = {word: sum(type(q) is kind for q in self._quantities.values()) for kind, word in _KINDS.items()}
        parts = ", ".join(f"{count} {word}{'' if count == 1 else 's'}" for word, count in counts.items())
        return f"<model {self.name!r}: {parts}>"

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
        """Declare figures that are known: ``given(fare=42.0, seats=320)``, or one with its unit and source.

        A figure is a number, a list with one number a period, or pairs (key, value) that make a table for ``lookup``.
        Raises ModelError or ParameterError for a name that is taken or a value that is none of these.
        """
        if name is not None:
            if value is None:
                raise ModelError(f"given {name!r}: no value; say given({name!r}, 42.0) or given({name}=42.0)")
            self._add(Given(self._checked(name), figure(name, value, self.periods), unit, source))
        elif not figures:
            raise ModelError("given: nothing given; say given(fare=42.0)")
        elif unit is not None or source is not None:
            raise ModelError("given: unit and source belong to one figure; say given('fare', 42.0, unit=..., source=...)")
        for key, number in figures.items():
            self._add(Given(self._checked(key), figure(key, number, self.periods)))

    def driver(
        self,
        name: str,
        distribution: Distribution | Process | PathSet,
        *,
        each: str | None = None,
        base: float | None = None,
        unit: str | None = None,
        source: str | None = None,
        serial: float | None = None,
        dt: float = 1.0,
        uncertain: bool = False,
    ) -> None:
        """Declare an uncertain input: one number a trial, or with ``each="period"`` the same law drawn anew each period.

        A process gives a row, its values at the ends of the periods, each ``dt`` long in its unit of time; ``uncertain`` draws
        the parameters of a fitted one too. A ``PathSet`` gives a row for each of its names. ``base`` is the value in the base
        case, the mean unless given. ``serial`` is the rank correlation of each period's value with the one before. Raises
        ModelError or ParameterError.
        """
        if isinstance(distribution, PathSet):
            self._path_set(distribution, unit, source, dt, uncertain)
            return
        self._checked(name)
        if isinstance(distribution, Process):
            self._add(process_driver(name, distribution, self.periods, each, serial, base, unit, source, dt, uncertain))
            return
        if dt != 1 or uncertain:
            raise ModelError(f"driver {name!r}: dt= and uncertain= belong to a process")
        self._law_driver(name, distribution, each, base, unit, source, serial)

    def _law_driver(
        self, name: str, distribution: Distribution, each: Any, base: Any, unit: Any, source: Any, serial: Any
    ) -> None:
        if not isinstance(distribution, Distribution):
            raise ModelError(f"driver {name!r}: needs a distribution such as Normal(10, 2), not {shown(distribution)}")
        if each is not None:
            one_of(f"driver {name!r}", "each", each, ("period",))
            if self.periods is None:
                raise ModelError(f"driver {name!r}: each='period' needs a model with periods")
        if serial is not None:
            if each is None:
                raise ModelError(f"driver {name!r}: serial= needs each='period'")
            if not -1 < finite(f"driver {name!r}", "serial", serial) < 1:
                raise ParameterError(f"driver {name!r}: serial must be between -1 and 1, not {serial!r}")
        driver = Driver(name, distribution, each, None, unit, source, serial)
        if base is None:
            finite(f"driver {name!r}", "the mean, its base value (give base= instead),", distribution.mean)
        else:
            driver = replaced(driver, base=finite(f"driver {name!r}", "base", base))
        self._add(driver)

    def _path_set(self, paths: PathSet, unit: str | None, source: str | None, dt: float, uncertain: bool) -> None:
        for name, process in paths.processes.items():
            self.driver(name, process, unit=unit, source=source, dt=dt, uncertain=uncertain)
        names = paths.names
        for i, first in enumerate(names):
            for j in range(i):
                if paths.correlation[i, j] != 0:
                    self.correlate(names[j], first, float(paths.correlation[i, j]), kind="linear")

    @overload
    def line(self, name: Function, /) -> Function: ...
    @overload
    def line(self, name: str, formula: str, *, unit: str | None = None) -> None: ...
    @overload
    def line(self, *, unit: str | None = None, each_trial: bool = False) -> Callable[[Function], Function]: ...
    def line(self, name: Any = None, formula: str | None = None, *, unit: str | None = None, each_trial: bool = False) -> Any:
        """Declare a calculated quantity, as a decorator on a function or with a formula.

        The function's parameter names say which quantities it needs; it gets and returns arrays with the trials last and
        the periods before them. With ``each_trial=True`` it is called for one trial at a time, with floats and rows
        ``(periods,)``, and may use ``if``. Raises ModelError, or FormulaError for a formula that cannot be read.
        """
        return self._declare(name, formula, Line("", unit=unit, each_trial=each_trial))

    @overload
    def outcome(self, name: Function, /) -> Function: ...
    @overload
    def outcome(self, name: str, formula: str, *, unit: str | None = None, target: float | None = None) -> None: ...
    @overload
    def outcome(
        self, *, unit: str | None = None, target: float | None = None, each_trial: bool = False
    ) -> Callable[[Function], Function]: ...
    def outcome(
        self,
        name: Any = None,
        formula: str | None = None,
        *,
        unit: str | None = None,
        target: float | None = None,
        each_trial: bool = False,
    ) -> Any:
        """Declare a line to report on, with its unit and, where there is one, the target that matters; otherwise as line."""
        checked = None if target is None else finite("outcome", "target", target)
        return self._declare(name, formula, Line("", unit=unit, outcome=True, target=checked, each_trial=each_trial))

    def correlate(
        self,
        *what: Any,
        kind: str = "rank",
        copula: str = "gaussian",
        df: float | None = None,
        parameter: float | None = None,
        tau: float | None = None,
        repair: bool = False,
    ) -> None:
        """Say that drivers move together: ``correlate("a", "b", 0.4)``, or ``correlate(matrix)`` with a DataFrame.

        The figure is a rank (Spearman) correlation, or a linear one with ``kind="linear"``; drivers with a value each period
        are correlated period by period. ``copula`` is "gaussian", "t" (with ``df``), or, for any number of drivers and by
        ``parameter`` or Kendall's ``tau``, "clayton", "gumbel" or "frank". Pairs not stated are uncorrelated. Correlations
        that cannot all be are an error when the model is used, or with ``repair=True`` are moved to the nearest that can,
        which the run reports. Discrete drivers reach less than is asked, since equal values share their rank; the run tells
        what was reached. Raises ParameterError or ModelError.

        >>> model = Model("Fuel")
        >>> from kindynos import Normal
        >>> model.driver("oil", Normal(80, 10))
        >>> model.driver("power", Normal(50, 8))
        >>> model.correlate("oil", "power", 0.6)
        """
        options = {"kind": kind, "copula": copula, "df": df, "parameter": parameter, "tau": tau, "repair": repair}
        if len(what) == 1 and not isinstance(what[0], str):
            names = matrices.frame_names(what[0])
            matrix = matrices.checked("correlate", what[0], names)
            for i, name in enumerate(names):
                for j in range(i):
                    self._link(checked_link((names[j], name), float(matrix[i, j]), **options))
            return
        figure = what[-1] if what and not isinstance(what[-1], str) else None
        names = list(what if figure is None else what[:-1])
        if figure is not None and len(names) != 2:
            raise ModelError("correlate: a correlation is of two drivers; give several as a matrix")
        self._link(checked_link(names, figure, **options))

    def add_line(self, line: Line) -> None:
        """Add a line that is made already."""
        self._checked(line.name)
        self._add(line)

    def _link(self, link: Link) -> None:
        for name in link.names:
            if not isinstance(name, str):
                raise ModelError(f"correlate: a driver is named by a text, not {shown(name)}")
        again = [other for other in self._links if set(other.names) == set(link.names)]
        if again and again != [link]:
            raise ModelError(f"correlate: {' and '.join(link.names)} are correlated already ({again[0].figure})")
        if not again:
            self._links.append(link)

    def _declare(self, name: Any, formula: str | None, blank: Line) -> Any:
        word = "outcome" if blank.outcome else "line"
        if isinstance(name, str):
            if formula is None:
                raise ModelError(f"{word} {name!r} has no formula; say {word}({name!r}, 'fare * seats')")
            self._checked(name)
            if blank.each_trial:
                raise ModelError(f"{word} {name!r}: each_trial is for functions; a formula works on all trials at once")
            line = replaced(blank, name=name, formula=formula)
            try:
                _ = line.tree
            except KindynosError as error:
                raise type(error)(f"{word} {name!r}: {error}") from None
            self._add(line)
            return None

        def decorate(function: Function) -> Function:
            label = getattr(function, "__name__", "")
            check_signature(label, function)
            self._add(replaced(blank, name=self._checked(label), function=function))
            return function

        return decorate if name is None else decorate(name)

    def _checked(self, name: Any) -> str:
        if not is_name(name):
            raise ModelError(f"{name!r} cannot be a name: it must be an identifier such as 'fuel_price', and no word of Python")
        if name == PERIOD:
            raise ModelError(f"{name!r} cannot be a name: it stands for the number of the period")
        return str(name)

    def _add(self, quantity: Quantity) -> None:
        earlier = self._quantities.get(quantity.name)
        again = earlier == quantity or (isinstance(quantity, Line) and quantity.same_as(earlier))
        if earlier is not None and not again:
            raise ModelError(
                f"the name {quantity.name!r} is already a {_KINDS[type(earlier)]}; "
                "choose another, or use replace() for a changed model"
            )
        self._quantities[quantity.name] = quantity

    def replace(self, **figures_or_laws: Any) -> Model:
        """Return a new model with other given figures, other laws, or drivers fixed at a number; this one is untouched.

        >>> model = Model("Tickets")
        >>> model.given(fare=42.0)
        >>> model.replace(fare=45.0).quantities["fare"].value
        45.0
        """
        other = Model.__new__(Model)
        other.name, other._timeline = self.name, self._timeline
        other._quantities, other._scenarios = dict(self._quantities), {}
        fixed = {name for name, value in figures_or_laws.items() if not isinstance(value, Distribution | Process)}
        other._links = [link for link in self._links if not fixed.intersection(link.names)]
        for name, value in figures_or_laws.items():
            other._quantities[name] = self._replacement(name, value)
        return other

    def _replacement(self, name: str, value: Any) -> Quantity:
        old = self._quantities.get(name)
        if old is None:
            raise ModelError(f"replace: the model has no {name!r}{nearest(name, self._quantities)}")
        if isinstance(old, Line):
            raise ModelError(f"replace: {name!r} is a line, which is calculated; only given figures and drivers are replaced")
        if isinstance(value, Process):
            dt = old.dt if isinstance(old, Driver) else 1.0
            return process_driver(name, value, self.periods, None, None, None, old.unit, None, dt, False)
        if isinstance(value, Distribution):
            if isinstance(old, Given):
                return Driver(name, value, None, None, old.unit, None)
            each = "period" if old.process is not None else old.each
            return replaced(old, law=value, base=None, source=None, process=None, each=each)
        return Given(name, figure(name, value, self.periods), old.unit)

    def unlinked(self) -> Model:
        """Return the model with nothing said about what moves together."""
        other = self.replace()
        other._links = []
        return other

    def compiled(self) -> Program:
        """Return the model made ready to run; raises ModelError or FormulaError for what cannot be worked out."""
        return compile_model(self.name, self._timeline, dict(self._quantities), tuple(self._links))

    def base_case(self) -> pd.DataFrame:
        """Return the sheet with every driver at its base value: quantities down, periods across.

        A column ``value`` holds the single numbers, and one column for each period the rows.
        """
        from kindynos.results.sheet import sheet

        program = self.compiled()
        values, _ = program.evaluate(program.base_values(), 1)
        return sheet(program, values)

    def simulate(
        self,
        trials: int = 10_000,
        seed: int | None = None,
        sampling: str = "latin",
        workers: int | None = None,
        progress: Callable[[int, int], object] | None = None,
        keep: Iterable[str] | None = None,
        on_bad: str = "count",
        *,
        executor: Executor | None = None,
        until: Precision | Sequence[Precision] | None = None,
        at_most: int = 10_000_000,
        on_start: Callable[[int], object] | None = None,
        on_finish: Callable[[Run], object] | None = None,
    ) -> Run:
        """Return a run: so many joint draws of all drivers, and everything calculated from them.

        ``seed`` reproduces a run to the bit, for any number of ``workers`` (threads; all processors by default); without
        one a seed is chosen, and ``run.seed`` tells it. ``sampling`` is a plan: "latin", "random", "antithetic",
        or "sobol", which rounds the trials up to blocks of a power of two. ``progress(done, total)`` is called after each
        batch; when it returns False the run stops and keeps what is complete, marked as partial. ``keep`` names lines to
        hold in memory besides outcomes and drivers of one number. A trial whose outcome is NaN is counted, or with
        ``on_bad="error"`` raises RunError.

        ``executor=`` takes any ``concurrent.futures.Executor``: the model travels to it by value. ``until=Precision(...)``,
        or a list of these, adds rounds of trials until the errors are small enough, or ``at_most=`` trials are reached.
        ``on_start(trials)`` and ``on_finish(run)`` are called at the start and the end. Also raises ParameterError,
        ModelError, FormulaError, and StoppedError on an interrupt.
        """
        from kindynos.results.simulate import Settings, simulate

        settings = Settings(
            trials, seed, sampling, workers, executor, progress, keep, on_bad, until, at_most, on_start, on_finish
        )
        return simulate(self.compiled(), settings)

    def to_toml(self) -> str:
        """Return the model as a model file; raises ModelError if a line is a Python function."""
        from kindynos.model.file import to_toml

        return to_toml(self)
