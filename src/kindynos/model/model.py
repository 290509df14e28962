"""The model an analyst states, and everything that can be asked of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from typing import TYPE_CHECKING, Any, Unpack

from kindynos.literals import OnBad, SamplingPlan
from kindynos.model.declaring import DeclaredModel
from kindynos.program.program import Program
from kindynos.sampling.streams import Seed
from kindynos.validate import check_integer, mapping

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.engine.precision import Precision
    from kindynos.results.run import Run
    from kindynos.results.simulate import SimulationKeywords
    from kindynos.studies.comparison import Comparison
    from kindynos.studies.goal import Goal
    from kindynos.studies.optimum import Optimum
    from kindynos.studies.sweep import Sweep


class Model(DeclaredModel):
    """A set of named quantities: given figures, uncertain drivers, calculated lines, and outcomes
    to report on.

    ``periods`` is the number of periods of its rows, ``start`` the label of the first (``"2028"``,
    ``"2028-Q1"``, ``"2028-01"``), ``every`` their length: year, quarter or month.

    >>> model = Model("Tickets")
    >>> model.given(fare=42.0)
    >>> from kindynos import Normal
    >>> model.driver("sold", Normal(1000, 100))
    >>> model.outcome("sales", "fare * sold", unit="EUR")
    >>> run = model.simulate(trials=1000, seed=1)
    >>> round(run["sales"].mean, -2)
    42000.0
    """

    @classmethod
    def from_function(
        cls,
        function: Callable[..., Any],
        drivers: Mapping[str, Any],
        outcomes: str | Sequence[str] | Mapping[str, Mapping[str, Any]],
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
        name; ``{"profit": {"unit": "EUR", "target": 0}}`` says more. With ``base=``, a dataclass
        instance, the function takes one such instance, of which drivers and given figures replace
        fields; it may return one too. The function, or object that can be called, gets arrays, the
        trials last, if that gives what single numbers give, and otherwise floats, trial by trial,
        spread over processes where that pays; ``each_trial`` decides it. A trial that fails is
        reported with its drivers and how to run it alone. Raises ModelError for arguments that do
        not fit.

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

        from kindynos.model.review import review

        return pd.DataFrame(
            [(found.name, found.text) for found in review(self.compiled())],
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

    def simulate(
        self,
        trials: int = 10_000,
        seed: Seed = None,
        sampling: SamplingPlan = "latin",
        workers: int | None = None,
        progress: Callable[[int, int], object] | None = None,
        keep: Iterable[str] | None = None,
        on_bad: OnBad = "count",
        *,
        executor: Executor | None = None,
        until: Precision | Sequence[Precision] | None = None,
        at_most: int = 10_000_000,
        on_start: Callable[[int], object] | None = None,
        on_finish: Callable[[Run], object] | None = None,
    ) -> Run:
        """Return a run: that many joint draws of all drivers, and everything calculated from them.

        ``seed`` reproduces a run to the bit, for any number of ``workers`` (threads; all processors
        by default); without one a seed is chosen, and ``run.seed`` tells it. ``sampling`` is a
        plan: "latin", "random", "antithetic", or "sobol", which rounds the trials up to blocks of a
        power of two. ``progress(done, total)`` is called after each batch; when it returns False
        the run stops and keeps what is complete, marked as partial. ``keep`` names lines to hold in
        memory besides outcomes and drivers of one number. A trial whose outcome is NaN is counted,
        or with ``on_bad="error"`` raises RunError.

        ``executor=`` takes any ``concurrent.futures.Executor``: the model travels to it by value.
        ``until=Precision(...)``, or a list of these, adds rounds of trials until the errors are
        small enough, or ``at_most=`` trials are reached. ``on_start(trials)`` and
        ``on_finish(run)`` are called at the start and the end. Also raises ParameterError,
        ModelError, FormulaError, and StoppedError on an interrupt.
        """
        from kindynos.results.simulate import SimulationOptions, simulate

        settings = SimulationOptions(
            trials,
            seed,
            sampling,
            workers,
            executor,
            progress,
            keep,
            on_bad,
            until,
            at_most,
            on_start,
            on_finish,
        )
        return simulate(self.compiled(), settings)

    def preview(self, n: int = 6, seed: Seed = None) -> pd.DataFrame:
        """Return a few trials of the whole model for a first look: quantities down (rows by
        period), trials across.

        Without a seed each call draws others.
        """
        from kindynos.results.sheet import trials_side_by_side

        return trials_side_by_side(
            self.simulate(check_integer("preview", "n", n, least=1), seed, "random", 1)
        )

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

        return inputs_of_trial(self.compiled(), PLANS.find(sampling, "inputs"), trial, trials, seed)

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
        from kindynos.results.simulate import SimulationOptions
        from kindynos.studies.scenarios import compare_scenarios

        return compare_scenarios(
            self._statement, scenarios, SimulationOptions(trials, seed, **options)
        )

    def sweep(
        self,
        over: Mapping[str, Iterable[float]] | None = None,
        /,
        *,
        statistic: Any = None,
        outcome: str | None = None,
        trials: int = 10_000,
        seed: Seed = None,
        sampling: SamplingPlan = "latin",
        workers: int | None = None,
        executor: Executor | None = None,
        progress: Callable[[int, int], object] | None = None,
        points: Any = None,
        **values: Iterable[float],
    ) -> Sweep:
        """Return the model over every combination of values of givens, drivers, or parameters of
        drivers' distributions.

        ``sweep(hurdle=[0.05, 0.08], deposit=[4e5, 5e5])``, or ``sweep({"vessel.mode": [18e6,
        20e6]})``. Without a statistic it is the base case, in one array evaluation; with one, such
        as "mean", "percentile 5" or "chance above 0", every point is simulated on the same draws
        and has its error. All outcomes that are one number come out, or the one named. ``points=``
        (a table of values by name) takes the place of the grid. Raises ModelError for what cannot
        be swept.
        """
        from kindynos.results.simulate import SimulationOptions
        from kindynos.studies.model_sweep import SweepRequest, sweep

        options = SimulationOptions(trials, seed, sampling, workers, executor, progress)
        named = mapping(
            "sweep", "its first argument", {} if over is None else over, "values by name"
        )
        request = SweepRequest({**named, **values}, points, statistic, outcome)
        return sweep(self._statement, request, options)

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
        trials: int = 10_000,
        seed: Seed = None,
        **options: Unpack[SimulationKeywords],
    ) -> Goal:
        """Return the value of a given, or of a driver's parameter (``"vessel.mode"``), that reaches
        a goal.

        ``solve("deposit", outcome="reserve", chance=0.80, above=1e6, within=(2e5, 9e5))``; or
        ``mean=``, or ``percentile=`` with ``equals=``. All values are tried on the same draws, at
        most 25 of them, until the value is known to 1e-4 of the range. ``options`` are those of
        ``simulate``. Raises GoalError, with what the range reaches, when none does, and
        ParameterError or ModelError for what cannot be solved for.
        """
        from kindynos.results.simulate import SimulationOptions
        from kindynos.studies.solving import GoalRequest, solve

        request = GoalRequest(outcome, within, chance, above, below, mean, percentile, equals)
        return solve(self._statement, name, request, SimulationOptions(trials, seed, **options))

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
        subject_to=["chance below 0 of net_value <= 0.05"])``: a pair is a range, anything longer a
        list; ``range(600, 761)`` are whole numbers. All points are tried on the same draws, at most
        that many ``evaluations``, coarsely over everything and then locally; a run on fresh draws
        shows what the best is worth. ``options`` are those of ``simulate``. Raises GoalError, with
        what comes nearest, where no decisions keep the constraints, and ParameterError or
        ModelError for what cannot be sought.
        """
        from kindynos.results.simulate import SimulationOptions
        from kindynos.studies.optimising import OptimumRequest
        from kindynos.studies.optimum import optimize

        wanted = OptimumRequest(decisions, maximize, minimize, subject_to, evaluations)
        return optimize(self._statement, wanted, SimulationOptions(trials, seed, **options))

    def to_toml(self) -> str:
        """Return the model as a model file; raises ModelError if a line is a Python function."""
        from kindynos.model.writing import to_toml

        return to_toml(self._statement)
