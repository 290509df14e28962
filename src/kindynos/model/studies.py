"""Making a model of a function, and what is asked of a whole model: a first look, comparisons, sweeps and goals."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from typing import TYPE_CHECKING, Any, cast

from kindynos.errors import KindynosError, ModelError
from kindynos.validate import shown, whole, wrong

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.model.model import Model
    from kindynos.results.comparison import Comparison
    from kindynos.results.goal import Goal
    from kindynos.results.sweep import Sweep


class Studies:
    """The methods of a Model that make one of a function, and that work out many cases of it."""

    _scenarios: dict[str, dict[str, Any]]

    @property
    def _model(self) -> Model:
        return cast("Model", self)

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
    ) -> Model:
        """Return a model of a calculation that is there already.

        ``drivers`` are distributions by argument, or the keywords of ``driver`` (``{"distribution": ..., "each": "period"}``);
        ``given`` are figures; arguments with a default may be left out. ``outcomes`` names what the function returns: one
        value, several in order, or values by name; ``{"profit": {"unit": "EUR", "target": 0}}`` says more. The function, or
        object that can be called, gets arrays, the trials last, if that gives what single numbers give, and otherwise floats,
        trial by trial, spread over processes where that pays; ``each_trial`` decides it. A trial that fails is told, with its
        drivers and how to run it alone. Raises ModelError for arguments that do not fit.

        >>> from kindynos import Model, Normal
        >>> model = Model.from_function(lambda sold: 42 * sold, {"sold": Normal(1000, 100)}, "sales")
        >>> round(model.simulate(1000, seed=1)["sales"].mean, -2)
        42000.0
        """
        from kindynos.model.from_function import fill

        model = cast("type[Model]", cls)(name or str(getattr(function, "__name__", type(function).__name__)), periods)
        fill(model, function, drivers, outcomes, given or {}, each_trial)
        return model

    @property
    def scenarios(self) -> Mapping[str, Mapping[str, Any]]:
        """The named sets of replacements."""
        return {name: dict(changes) for name, changes in self._scenarios.items()}

    def scenario(self, name: str, /, **replacements: Any) -> None:
        """Declare a named set of replacements for given figures and drivers, as ``replace`` takes them; see ``compare``.

        Raises ModelError or ParameterError for what cannot be replaced so, and for a name that is taken by another set.
        """
        if not isinstance(name, str) or not name.strip():
            raise ModelError(f"scenario: the name must be a text that is not empty, not {shown(name)}")
        if self._scenarios.get(name, replacements) != replacements:
            raise ModelError(f"scenario {name!r} is there already, with other replacements")
        try:
            self._model.replace(**replacements)
        except KindynosError as error:
            raise type(error)(f"scenario {name!r}: {str(error).removeprefix('replace: ')}") from None
        self._scenarios[name] = dict(replacements)

    def preview(self, n: int = 6, seed: int | None = None) -> pd.DataFrame:
        """Return a few trials of the whole model for a first look: quantities down (rows by period), trials across.

        Without a seed each call draws others.
        """
        import pandas as pd

        whole("preview", "n", n, least=1)
        run = self._model.simulate(n, seed, "random", 1)
        sheets = [run.trial(number).stack().dropna() for number in range(n)]
        frame = pd.concat(sheets, axis=1, keys=range(n))
        frame.index.names = ["quantity", "period"]
        frame.columns.name = "trial"
        return frame

    def inputs(self, trial: int, trials: int = 10_000, seed: int = 0, sampling: str = "latin") -> dict[str, Any]:
        """Return the drivers and given figures of one trial of a run: floats, and rows ``(periods,)``.

        A function that failed there can so be called alone, under a debugger. Raises ParameterError for a trial there is not.
        """
        from kindynos.engine.blocks import Blocks
        from kindynos.sampling.plans import plan_named

        program, plan = self._model.compiled(), plan_named(sampling)
        blocks = Blocks.cut(whole("inputs", "trials", trials, least=1), program.periods, plan.powers_of_two)
        if whole("inputs", "trial", trial, least=0) >= blocks.trials:
            raise wrong("inputs", "trial", f"from 0 to {blocks.trials - 1}", trial)
        batch, place = blocks.find(trial)
        drawn = program.draw(plan, seed, {block: blocks.size(block) for block in blocks.in_batch(batch)})
        values = {name: value[..., place] for name, value in drawn.items()}
        values |= {name: given.array[..., 0] if given.kind.row else given.array for name, given in program.givens.items()}
        return {name: value if value.ndim else float(value) for name, value in values.items()}

    def compare(
        self,
        scenarios: Mapping[str, Mapping[str, Any]] | None = None,
        trials: int = 10_000,
        seed: int | None = None,
        **options: Any,
    ) -> Comparison:
        """Return a comparison of scenarios on the same draws: sets of replacements by name, the first being the yardstick.

        ``compare({"as planned": {}, "deposit 500k": {"deposit": 5e5}}, trials, seed)``; without scenarios, the model as it is
        and its own. ``options`` are those of ``simulate``. Raises what ``simulate`` does, and ModelError for a scenario that
        names nothing known.
        """
        from kindynos.model.scenarios import compare

        return compare(self._model, scenarios, trials, seed, options)

    def sweep(
        self,
        over: Mapping[str, Iterable[float]] | None = None,
        /,
        *,
        statistic: Any = None,
        outcome: str | None = None,
        trials: int = 10_000,
        seed: int | None = None,
        sampling: str = "latin",
        workers: int | None = None,
        executor: Executor | None = None,
        progress: Callable[[int, int], object] | None = None,
        points: Any = None,
        **values: Iterable[float],
    ) -> Sweep:
        """Return the model over every combination of values of givens, drivers, or parameters of drivers' laws.

        ``sweep(hurdle=[0.05, 0.08], deposit=[4e5, 5e5])``, or ``sweep({"vessel.mode": [18e6, 20e6]})``. Without a statistic it
        is the base case, in one array evaluation; with one, such as "mean", "percentile 5" or "chance above 0", every point is
        simulated on the same draws and has its error. All outcomes that are one number come out, or the one named.
        ``points=`` (a table of values by name) takes the place of the grid. Raises ModelError for what cannot be swept.
        """
        from kindynos.model.sweeping import Sweeping, sweep

        how = Sweeping(statistic, outcome, trials, seed, sampling, workers, executor, progress, points)
        return sweep(self._model, {**(over or {}), **values}, how)

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
        seed: int | None = None,
        **options: Any,
    ) -> Goal:
        """Return the value of a given, or of a driver's parameter (``"vessel.mode"``), that reaches a goal.

        ``solve("deposit", outcome="reserve", chance=0.80, above=1e6, within=(2e5, 9e5))``; or ``mean=``, or ``percentile=``
        with ``equals=``. All values are tried on the same draws, at most 25 of them, until the value is known to 1e-4 of
        the range. ``options`` are those of ``simulate``. Raises GoalError, with what the range reaches, when none does, and
        ParameterError or ModelError for what cannot be solved for.
        """
        from kindynos.model.goal_seek import Wanted, solve

        wanted = Wanted(outcome, within, chance, above, below, mean, percentile, equals)
        return solve(self._model, name, wanted, trials, seed, options)
