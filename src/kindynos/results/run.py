"""A run: the result of simulating a model, and how it is read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypedDict, Unpack

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import RunError
from kindynos.inference.estimates import Estimate
from kindynos.inference.sample import Sample
from kindynos.literals import ContributionBy, ContributionTo, SensitivityMethod, Side, StatisticName
from kindynos.program.batch import SAME, BatchTask
from kindynos.results.figures import FigureTables
from kindynos.results.joint import JointDistribution, joint_distribution
from kindynos.results.result import bad_side
from kindynos.results.statistics import STATISTICS
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import check_integer, checked, finite, one_of

if TYPE_CHECKING:
    import pandas as pd


class SensitivityOptions(TypedDict, total=False):
    """The options of the methods of sensitivity; each method takes its own."""

    percentiles: tuple[float, float]  # swing
    slices: int  # conditional
    percentile: float | None  # conditional, contributions
    to: ContributionTo | str  # contributions
    by: ContributionBy | str | Sequence[str]  # contributions
    evaluations: int  # sobol, shapley
    groups: Mapping[str, Sequence[str]]  # shapley
    worst: float  # tail
    side: Side  # tail


class Run(FigureTables, SimulatedTrials, Reported):
    """What a simulation gave: a mapping of quantities by name.

    ``run["net_value"]`` reads one quantity, and ``run.row("cash_flow")`` one with a value each
    period; see also table, trials, trial, sensitivity and facts. Outcomes and drivers with one
    number per trial are kept in memory, and what was named with ``keep=``. Anything else is
    calculated again from the seed when it is read, and compared with what was kept.

    >>> from kindynos import Model, Normal
    >>> model = Model("Kiosk")
    >>> model.driver("sales", Normal(100, 10))
    >>> model.outcome("profit", "3 * sales - 250")
    >>> run = model.simulate(1_000, seed=1)
    >>> run.size, run.outcomes, run.drivers
    (1000, ['profit'], ['sales'])
    """

    @checked
    def to_frame(self, *rows: str) -> pd.DataFrame:
        """Return a DataFrame with one row per trial: drivers of one number, outcomes, and kept rows
        and those named.

        A row of the model has one column per period, named ``cash_flow 2028``.
        """
        import pandas as pd

        columns: dict[str, Floats] = {}
        for name in dict.fromkeys([*self._kept, *rows]):
            result = self._result(name)
            if result.is_row:
                columns |= {
                    f"{name} {label}": row
                    for label, row in zip(self.labels, result.values, strict=True)
                }
            else:
                columns[name] = result.values
        return pd.DataFrame(columns, index=pd.RangeIndex(self.size, name="trial"))

    @staticmethod
    @delegated_to("kindynos.model.from_json", "run_from_json")
    def from_json(text: str) -> Run:
        """Return the run whose JSON ``to_json`` or ``kindynos run --json`` gave: its model is
        simulated again, and compared with the figures there.

        Raises FileError for other texts, and RunError for a model with functions, and where the
        trials are others now.

        >>> from kindynos import Model, Normal, Run
        >>> model = Model("Kiosk")
        >>> model.driver("sales", Normal(100, 20))
        >>> model.outcome("profit", "sales - 80")
        >>> run = model.simulate(1000, seed=1)
        >>> bool((Run.from_json(run.to_json())["profit"].values == run["profit"].values).all())
        True
        """

    @checked
    def verify(self) -> pd.DataFrame:
        """Return whether the model gives the same trials today: the first, a middle and the last
        batch are drawn and worked out again, and compared with what the run holds.

        By quantity: ``same`` to the bit, and the ``largest difference`` in sds of the quantity;
        ``attrs["same"]`` says whether all are the same to 1e-9 of an sd. Raises RunError for a
        saved run that was opened without the functions of its model.
        """
        import pandas as pd

        rows = {name: [True, 0.0] for name in self.kept}
        for batch in sorted({0, self._blocks.batches // 2, self._blocks.batches - 1}):
            part = self._blocks.part(batch)
            task = BatchTask(self._program, self._plan, self.seed, self._blocks, self._kept)
            for name, again in task(batch).values.items():
                kept = self._values[name][..., part]
                spread = float(np.nanstd(self._values[name])) or 1.0
                gap = np.abs(again - kept)
                gap[(again == kept) | (np.isnan(again) & np.isnan(kept))] = 0.0
                largest = float(np.nan_to_num(gap, nan=np.inf).max(initial=0.0)) / spread
                same = bool(np.array_equal(again, kept, equal_nan=True))
                rows[name] = [rows[name][0] and same, max(rows[name][1], largest)]
        columns = ["same", "largest difference"]
        frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        frame.attrs["same"] = bool((frame["largest difference"] <= SAME).all())
        return frame.rename_axis("quantity")

    def checks(self) -> pd.DataFrame:
        """Return a row for each condition that the model says must hold: in how many trials it is
        broken, their share, the first of them, the worst (in most periods), and in how many periods
        there. See ``Model.must_hold``.
        """
        from kindynos.results.held_conditions import conditions_held

        return conditions_held(self)

    @checked
    def trial(self, number: int) -> pd.DataFrame:
        """Return the whole sheet of one trial, redrawn from the seed: quantities down, periods
        across.

        Raises RunError for a number that is not a trial of the run.
        """
        from kindynos.results.sheet import sheet

        return sheet(self._program, self._trial_values(number))

    def _trial_values(self, number: int) -> dict[str, Floats]:
        """Return all quantities in one trial."""
        check_integer("the number", number, least=0)
        if number >= self.size:
            raise RunError(
                f"there is no trial {number:,}; the run has trials 0 to {self.size - 1:,}"
            )
        batch, position = self._blocks.find(number)
        return {name: value[..., position] for name, value in self.batch(batch).items()}

    @delegated_to("kindynos.workbooks.files", "trial_workbook")
    def workbook(self, number: int, path: str | Path) -> None:
        """Write a trial of a model that rests on a workbook into a copy of it: the given figures,
        the drivers' draws and the numbers of RAND in their cells. Opened in a spreadsheet program,
        it is worked out to our values.

        Raises RunError for a number that is not a trial, or a model without a workbook, and
        FileError.
        """

    @checked
    def worst(self, name: str, n: int = 1, side: Side | None = None) -> pd.DataFrame:
        """Return the whole sheets of the ``n`` worst trials of a quantity.

        They are those in which it is lowest, or highest where less of it is better; ``side`` "low"
        or "high" decides. The worst comes first; rows are (trial, quantity). Raises RunError for a
        row, or more trials than there are.
        """
        import pandas as pd

        values = self._numbers(name)
        taken = one_of(
            "side", bad_side(self[name].better) if side is None else side, ("low", "high")
        )
        # NaN comes last
        order = np.argsort(values, kind="stable")[: np.count_nonzero(~np.isnan(values))]
        if check_integer("n", n, least=1) > len(order):
            raise RunError(f"{name!r} has a value in {len(order):,} trials only")
        selected = order[:n] if taken == "low" else order[::-1][:n]
        return pd.concat(
            {int(number): self.trial(int(number)) for number in selected}, names=["trial"]
        )

    @checked
    def nearest(self, name: str, percentile: float) -> pd.DataFrame:
        """Return the whole sheet of the trial in which a quantity is nearest to its percentile.

        ``attrs["trial"]`` is its number. Raises RunError for a row or without a value.
        """
        values, percentile = self._numbers(name), finite("percentile", percentile)
        if np.isnan(values).all():
            raise RunError(f"{name!r} has no trial with a value")
        ranked, wanted = self[name].ranked.values, float(self[name].percentile(percentile))
        with np.errstate(invalid="ignore"):  # infinite less infinite
            gaps = np.where(ranked == wanted, 0.0, np.abs(ranked - wanted))
        number = int(np.nanargmin(gaps))
        sheet = self.trial(number)
        sheet.attrs["trial"] = number
        return sheet

    def _numbers(self, name: str) -> Floats:
        if self[name].is_row:
            raise RunError(
                f"{name!r} is a row; ask for a quantity with one number per trial, such as "
                f"total({name})"
            )
        return self[name].values

    @delegated_to("kindynos.model.saved", "save")
    def save(self, path: str | Path) -> None:
        """Write the run to a Parquet file with all that is needed to read it again; see
        ``open_run``.

        Needs pyarrow, the extra ``kindynos[parquet]``. Raises FileError where it cannot be written.
        """

    @checked
    def sensitivity(
        self,
        name: str,
        method: SensitivityMethod | str | None = None,
        by_period: bool = False,
        **options: Unpack[SensitivityOptions],
    ) -> pd.DataFrame:
        """Return what drives a quantity, one row per driver, the strongest first.

        ``method`` is "rank" (Spearman's correlation), "regression" (standardized coefficients),
        "swing" (each driver at its P10 and P90 alone), "conditional" (the outcome across slices of
        each driver), "sobol" (first-order and total shares of independent drivers), "shapley"
        (shares with correlated drivers too), "contributions" (of drivers or lines, which add up to
        the variance, a percentile or the contingency) or "tail" (the drivers in the worst trials);
        default: "rank", or "contributions" where drivers move together. A driver with a value each
        period counts as one, or period by period with ``by_period``. ``options`` are the method's
        own: see its function in ``kindynos.results.sensitivity``. Raises RunError for a row: name
        one period's line instead.
        """
        from kindynos.results.sensitivity.methods import sensitivity, usual_method

        self._known(name)
        if method is None:
            method = "rank" if by_period else usual_method(self, name)
        key = (name, repr(method), by_period, repr(sorted(options.items())))
        if key not in self._rankings:
            self._rankings[key] = sensitivity(self, name, method, by_period, dict(options))
        return self._rankings[key].copy()

    @cached_property
    def _rankings(self) -> dict[tuple[str, str, bool, str], pd.DataFrame]:
        return {}

    @checked
    def risk_register(self, name: str, percentile: float | None = None) -> pd.DataFrame:
        """Return a row for each risk event that reaches an outcome, the largest contribution first.

        Columns are its ``chance``, the mean ``impact`` where it happens and the ``expected``
        impact, as stated and in the risk's own unit, and its ``contribution`` to the outcome's
        percentile less the base case, with its error and its share; see the method "contributions"
        for the percentile. ``attrs["of risks"]`` is what all risks contribute. Raises RunError
        where there is none.
        """
        from kindynos.results.risk_register import risk_register

        self._known(name)
        return risk_register(
            self,
            name,
            lambda: self.sensitivity(
                name, "contributions", to="contingency", percentile=percentile
            ),
        )

    @checked
    def chance(self, condition: str) -> Estimate:
        """Return the chance of a condition on quantities of the run, with its 95 % interval:
        ``run.chance("net_value < 0 and breach")``.

        The condition is a formula over outcomes, lines and drivers with one number per trial; a row
        needs ``lowest``, ``last`` or the like. It is of all trials, with those without a value
        among them. Raises FormulaError or RunError for a text that is not such a condition.
        """
        from kindynos.results.calculation import statement

        return statement(self, condition).chance(above=0.5)

    @checked
    def percentile(self, name: str, q: ArrayLike) -> Any:
        """Return a percentile of a quantity, from 0 to 100; for several values, an array."""
        return self[name].percentile(q)

    @delegated_to("kindynos.plots", "quantity")
    def plot(self, name: str, ax: Axes | None = None) -> Axes:
        """Draw a quantity: how it is distributed, or of a row its fan over the periods."""

    @checked
    def joint(
        self, x: str, y: str, cuts: tuple[float | None, float | None] = (None, None)
    ) -> JointDistribution:
        """Return two quantities together: the share of the trials in each quadrant around two cuts,
        and how scattered they are.
        """
        return joint_distribution(self[x], self[y], cuts)

    @checked
    def survival(self, name: str) -> pd.DataFrame:
        """Return the share of trials in which a first period has not come yet, after each period,
        with its 95 % interval.

        ``name`` is an outcome or a line made by ``first_period``, such as the first period of ruin.
        Raises RunError for others.
        """
        import pandas as pd

        result, labels = self[name], self.labels
        number = result.values
        if (
            result.is_row
            or not labels
            or not ((number >= 1) & (number == np.floor(number)) | np.isnan(number)).all()
        ):
            raise RunError(
                f"{name!r} is not the number of a period; make it with first_period(condition)"
            )
        shares = [result.chance(above=float(period)) for period in range(1, len(labels) + 1)]
        rows = [(float(share), share.error, share.low, share.high) for share in shares]
        return pd.DataFrame(
            rows, columns=["share", "error", "low", "high"], index=pd.Index(labels, name="period")
        )

    @checked
    def convergence(
        self, name: str, statistic: StatisticName | str = "mean", *arguments: Any, **options: Any
    ) -> pd.DataFrame:
        """Return a statistic and its error after more and more trials: a row for each number of
        them.
        """
        import pandas as pd

        result = self[name]
        if result.is_row:
            raise RunError(f"{name!r} is a row; ask for a number, such as last({name})")
        bounds = self._blocks.bounds
        stops = (
            np.unique(np.geomspace(2, self._blocks.count, 40).astype(int))
            if self._blocks.count > 1
            else np.array([1])
        )
        compute, rows = STATISTICS.find(statistic), []
        for blocks in stops:
            sample = Sample(
                result.values[: bounds[blocks]], bounds[: blocks + 1], self._plan.together
            )
            figure = compute(sample, *arguments, **options)
            rows.append((int(bounds[blocks]), float(figure), figure.error, figure.low, figure.high))
        frame = pd.DataFrame(rows, columns=["trials", "value", "error", "low", "high"])
        frame.attrs["unit"] = {"amount": result.unit, "share": "%"}.get(compute.kind)
        return frame.set_index("trials")

    @property
    def correlations(self) -> pd.DataFrame:
        """For each stated pair what was asked and the rank correlation that was reached, with its
        error.

        For drivers with a value each period it is the average over the periods, with a driver of
        one number that of their mean over the periods; for
        ``kind="linear"`` the linear correlation.
        """
        return self._reached.copy()

    @cached_property
    def _reached(self) -> pd.DataFrame:
        from kindynos.results.reached_correlations import reached_correlations

        return reached_correlations(self)

    @delegated_to("kindynos.results.simulate", "extended")
    def extend(
        self,
        trials: int | None = None,
        *,
        workers: int | None = None,
        progress: Callable[[int, int], object] | None = None,
        executor: Executor | None = None,
    ) -> Run:
        """Return the run with a number of further trials, rounded up to whole blocks; the trials
        that it has stay as they are. Without a number it gets those that it lacks because it was
        stopped or interrupted, and is then the same as one that was never stopped.

        Raises ParameterError for a number that is none, and without one for a run that has all of
        its trials.
        """

    def facts(self) -> dict[str, Any]:
        """Return how the run was made: plan, blocks, seed, versions, what is assumed independent,
        failed trials.
        """
        from kindynos.results.facts import facts

        return facts(self, self._reached)
