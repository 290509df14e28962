"""Several runs side by side: their figures, the differences with errors, and which of them
dominates.

Runs on the same draws (one seed, plan and number of trials) are compared trial by trial, so that
only what was changed differs; others are compared as independent samples, with both errors.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import ArrayLike

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError, RunError
from kindynos.formatting import per_cent
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z, is_claimed
from kindynos.results.calculation import statement
from kindynos.results.figures import CONDITIONS, DEFAULT, ReportedFigure, TableSpec, figure_records
from kindynos.results.read_trials import ReadTrials
from kindynos.results.result import Result, RowResult
from kindynos.results.run import Run
from kindynos.results.statistic_text import central_coverage, parse_statistic
from kindynos.results.statistics import chance
from kindynos.studies.dominance import dominance
from kindynos.studies.paired import Paired, unpaired
from kindynos.validate import (
    check_integer,
    checked,
    checked_init,
    finite,
    instance,
    listed,
    mapping,
    positive,
)

PERCENTILES = (5, 50, 95)
COLUMNS = ["difference", "error", "low", "high", "paired"]


@dataclass(frozen=True)
class Best:
    """The ``scenario`` with the best mean of an outcome, the next best, how far it is ``ahead`` on
    average, and the share of trials it is ``better_in``; on its own draws, of any two trials.
    """

    scenario: str
    next_best: str
    ahead: Estimate
    better_in: Estimate
    paired: bool

    @property
    def certain(self) -> bool:
        """Whether it may be said to be best: the 95 % interval of the difference, wider by the
        margin of claims, lies above 0.
        """
        ahead = float(self.ahead)
        return ahead > 0 and is_claimed(ahead, ahead - self.ahead.low)


@checked_init
@dataclass(frozen=True)
class ReportedMean:
    """A mean known from elsewhere, with the sd of what it is a mean of and the number of values
    ``n`` behind it.

    It is used beside runs in ``compare``; its error is 1.96 x sd / sqrt(n). Raises ParameterError
    for what is not a number.

    >>> ReportedMean(120.0, sd=15.0, n=900).estimate
    120.00 ± 0.98
    """

    mean: float
    sd: float
    n: int

    def __post_init__(self) -> None:
        finite("mean", self.mean)
        positive("sd", self.sd)
        check_integer("n", self.n, least=2)

    @property
    def estimate(self) -> Estimate:
        """The mean with its 95 % error."""
        reach = Z * self.sd / math.sqrt(self.n)
        return symmetrical(self.mean, reach)


class Comparison(Reported):
    """Runs by the names of their scenarios; differences are taken from the first.

    See ``table``, ``differences``, ``dominance`` and ``plot``; ``runs`` has the runs themselves.
    """

    @checked
    def __init__(
        self, runs: Mapping[str, Run | ReadTrials | ReportedMean], outcome: str | None = None
    ) -> None:
        if len(runs) < 2:
            raise RunError(
                "needs at least two scenarios; the first is what the others are compared with"
            )
        for name, run in runs.items():
            if not isinstance(run, Run | ReadTrials | ReportedMean):
                raise ParameterError(
                    f"{name!r} must be a run, trials that were read, or kd.ReportedMean(mean, sd, "
                    f"n), not {run!r:.60}"
                )
        self.runs = dict(runs)
        self._rows: list[str] = []
        self._outcomes = self._shared(outcome)

    def _shared(self, outcome: str | None) -> list[str]:
        runs = [run for run in self.runs.values() if not isinstance(run, ReportedMean)]
        if not runs:
            raise RunError("at least one of the scenarios must be a run")
        shared = [n for n in runs[0].outcomes if all(n in run.outcomes for run in runs)]
        rows = [n for n in shared if all(run[n].is_row for run in runs)]
        if outcome is not None and outcome in rows:
            self._rows = [outcome]
            return []
        self._rows = rows if outcome is None else []
        names = (
            [n for n in shared if not any(run[n].is_row for run in runs)]
            if outcome is None
            else [outcome]
        )
        if not names and not self._rows:
            raise RunError("the runs have no outcome in common")
        if len(runs) < len(self.runs) and len(names) > 1:
            raise RunError(
                "a mean from elsewhere is one of a single outcome; say outcome= "
                f"({', '.join(names)})"
            )
        for run in runs:
            for name in names:
                if run[name].is_row:
                    raise RunError(f"{name!r} is a row; compare a number, such as last({name})")
        return names

    @property
    def scenarios(self) -> list[str]:
        """The names of the scenarios."""
        return list(self.runs)

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes that are compared and are one number per trial."""
        return list(self._outcomes)

    @property
    def rows(self) -> list[str]:
        """The names of the outcomes that are compared period by period."""
        return list(self._rows)

    def __repr__(self) -> str:
        return f"<comparison of {', '.join(self.scenarios)}: {', '.join(self._outcomes)}>"

    @checked
    def result(self, scenario: str, outcome: str) -> Result:
        """Return an outcome of one scenario; raises RunError for an unknown name, a row, or a mean
        from elsewhere.
        """
        if not isinstance(scenario, str) or scenario not in self.runs:
            raise RunError(f"no scenario {scenario!r:.60}", unknown=scenario, known=self.runs)
        run = self.runs[scenario]
        if isinstance(run, ReportedMean):
            raise RunError(f"of {scenario!r} only the mean is known")
        if not isinstance(outcome, str) or outcome not in self._outcomes:
            raise RunError(
                f"{outcome!r:.60} is not an outcome of all scenarios",
                unknown=outcome,
                known=self._outcomes,
            )
        result = run[outcome]
        if result.is_row:
            raise RunError(f"{outcome!r} is a row; see rows_of and row_differences")
        return result

    @checked
    def table(
        self,
        percentiles: Iterable[float] | None = None,
        statistics: Sequence[str] = (),
        chances: str | Sequence[str] = (),
    ) -> pd.DataFrame:
        """Return each outcome's statistics side by side: rows (outcome, statistic), columns
        (scenario, value and error). ``percentiles``, ``statistics`` and ``chances`` are those of
        ``Run.table``.
        """
        return self.table_of(TableSpec.of(percentiles, statistics, chances, self.outcomes))

    @checked
    def table_of(self, asked: TableSpec) -> pd.DataFrame:
        """Return the table of what is asked; see ``table``."""
        instance("asked", asked, TableSpec, "a TableSpec")
        self._check_numbers()
        columns = {}
        for scenario, run in self.runs.items():
            if isinstance(run, ReportedMean):
                mean = run.estimate
                records = [
                    (self._outcomes[0], "mean", run.mean, mean.error),
                    (self._outcomes[0], "sd", run.sd, np.nan),
                ]
            else:
                records = [
                    (name, *record[:3])
                    for name in self._outcomes
                    for record in figure_records(
                        run[name], run[name].n_failed, run.warnings_of(name), asked
                    )
                ]
                for condition in asked.conditions:
                    chance = run.chance(condition)
                    records.append((CONDITIONS, condition, float(chance), chance.error))
            frame = pd.DataFrame(records, columns=["outcome", "statistic", "value", "error"])
            columns[scenario] = frame.set_index(["outcome", "statistic"])
        first = max(columns.values(), key=len).index
        every = first.append(
            [frame.index.difference(first, sort=False) for frame in columns.values()]
        ).unique()
        return pd.concat(
            {scenario: frame.reindex(every) for scenario, frame in columns.items()}, axis=1
        )

    def _check_numbers(self) -> None:
        if not self._outcomes:
            raise RunError(f"{', '.join(self._rows)} is a row; see row_differences")

    @checked
    def differences(
        self,
        percentiles: Iterable[float] | None = None,
        statistics: Sequence[str] = (),
        chances: str | Sequence[str] = (),
    ) -> pd.DataFrame:
        """Return each scenario's differences from the first, with the 95 % error of the difference.

        Rows are (outcome, scenario, statistic): the mean, percentiles 5, 50 and 95 (or those asked
        for), the chance above the target, what ``statistics`` and ``chances`` ask for, and "higher
        in the same trial", the chance that this scenario's outcome is the higher one. ``paired``
        says whether trials were compared one with one, on the same draws; the others are
        independent samples. Means and percentiles are over the trials that have a value, chances
        are of all; "share without a value" is a row where there are such trials.
        """
        return self.differences_of(TableSpec.of(percentiles, statistics, chances, self.outcomes))

    @checked
    def differences_of(self, asked: TableSpec) -> pd.DataFrame:
        """Return the differences of what is asked; see ``differences``."""
        instance("asked", asked, TableSpec, "a TableSpec")
        self._check_numbers()
        first, *others = self.runs
        records, figures = {}, {}
        for outcome in self._outcomes:
            for other in others:
                for figure, paired in self._compared(outcome, first, other, asked):
                    records[outcome, other, figure.name] = (*_ends(figure.estimate), paired)
                    figures[outcome, figure.name] = figure
        frame = pd.DataFrame.from_dict(records, orient="index", columns=COLUMNS)
        frame.index = pd.MultiIndex.from_tuples(
            list(records), names=["outcome", "scenario", "statistic"]
        )
        frame.attrs["figures"] = figures  # the kind of each
        return frame

    def _compared(
        self, outcome: str, first: str, other: str, asked: TableSpec
    ) -> list[tuple[ReportedFigure, bool]]:
        one, two = self.runs[first], self.runs[other]
        if isinstance(one, ReportedMean) or isinstance(two, ReportedMean):
            means = [
                run.estimate if isinstance(run, ReportedMean) else run[outcome].mean
                for run in (one, two)
            ]
            return [(ReportedFigure("mean", unpaired(*means)), False)]
        a, b = self.result(first, outcome), self.result(other, outcome)
        paired = on_same_draws(one, two)
        return [(figure, paired) for figure in _differences(a, b, asked, paired)]

    @checked
    def best(self, outcome: str) -> Best:
        """Return which scenario is best on average, and how sure that is: by how much it is ahead
        of the next best, with the interval of the difference, and in how many trials.

        Best is the highest mean, or the lowest of an outcome stated as ``better="low"``. Raises
        RunError for fewer than two scenarios with a mean.

        >>> from kindynos import Model, Normal
        >>> model = Model("Kiosk")
        >>> model.given(price=4.0)
        >>> model.driver("cups", Normal(100, 10))
        >>> model.outcome("sales", "price * cups", unit="EUR")
        >>> model.scenario("price 4.50", price=4.5)
        >>> best = model.compare(trials=1_000, seed=1).best("sales")
        >>> best.scenario, best.certain, float(best.better_in)
        ('price 4.50', True, 1.0)
        """
        of_numbers = {
            name: self.result(name, outcome)
            for name, run in self.runs.items()
            if not isinstance(run, ReportedMean)
        }
        low = next(iter(of_numbers.values())).better == "low"
        means = {name: float(result.mean) for name, result in of_numbers.items()}
        means |= {
            name: run.mean for name, run in self.runs.items() if isinstance(run, ReportedMean)
        }
        ordered = sorted(
            (name for name, mean in means.items() if not math.isnan(mean)),
            key=lambda name: means[name] if low else -means[name],
        )
        if len(ordered) < 2:
            raise RunError(f"fewer than two scenarios have a mean of {outcome}")
        pair = (ordered[0], ordered[1]) if low else (ordered[1], ordered[0])
        figures = self._compared(outcome, *pair, DEFAULT)
        by_name = {figure.name.partition(" ")[0]: figure.estimate for figure, _ in figures}
        nothing = Estimate(math.nan)
        ahead, share = by_name["mean"], by_name.get("higher", nothing)
        return Best(ordered[0], ordered[1], ahead, share, figures[0][1])

    @delegated_to("kindynos.studies.knowing", "worth_of_knowing")
    def worth_of_knowing(
        self,
        outcome: str,
        known: Sequence[str] | None = None,
        study_cost: Mapping[str, float] | None = None,
    ) -> pd.DataFrame:
        """Return what it is worth, on average, to know drivers before choosing between the
        scenarios, in the units of the outcome: each driver (default: all that no scenario
        replaces), each two of the three that are worth most, and everything; the most first.

        ``worth`` is what the choices bring that are best given what is known, over the scenario
        that is best without, judged on trials on which they were not found, with its 95 %
        ``error``; ``fitted`` is what the regressions promise, mostly more than the true worth.
        Drivers over periods are known by their average. ``study_cost`` gives the cost of finding
        out, by name, also of two ("a and b"): ``net`` of it, and whether the study ``pays``.
        Raises RunError for scenarios that are not runs on the same draws, and for trials without a
        value.

        >>> from kindynos import Model, Normal
        >>> model = Model("Pilot")
        >>> model.given(build=0)
        >>> model.driver("demand", Normal(0, 10))
        >>> model.outcome("profit", "build * demand")
        >>> model.scenario("build", build=1)
        >>> compared = model.compare(trials=20_000, seed=1)
        >>> worth = compared.worth_of_knowing("profit", study_cost={"demand": 1})
        >>> bool(abs(worth.loc["demand", "worth"] - 3.99) < 0.1), worth.loc["demand", "pays"]
        (True, 'yes')
        """

    @checked
    def rows_of(self, outcome: str) -> dict[str, RowResult]:
        """Return a row outcome by scenario; raises RunError where it is not a row of all."""
        if not isinstance(outcome, str) or outcome not in self._rows:
            raise RunError(
                f"{outcome!r:.60} is not a row of all scenarios", unknown=outcome, known=self._rows
            )
        rows: dict[str, RowResult] = {}
        for name, run in self.runs.items():
            row: Any = None if isinstance(run, ReportedMean) else run[outcome]
            if not isinstance(row, RowResult):
                raise RunError(f"{name!r} does not have a row {outcome!r}")
            rows[name] = row
        if len({tuple(row.labels) for row in rows.values()}) > 1:
            raise RunError(f"the scenarios have {outcome!r} over other periods")
        return rows

    @checked
    def row_differences(self, outcome: str) -> pd.DataFrame:
        """Return by how much a row differs from the first scenario in each period: rows (scenario,
        period, statistic) with the 95 % error of the difference, for the mean and percentiles 5, 50
        and 95.

        ``paired`` says whether trials were compared one with one, on the same draws. Raises
        RunError for what is not a row of all scenarios.
        """
        rows = self.rows_of(outcome)
        first, *others = rows
        records: dict[tuple[str, str, str], tuple[Any, ...]] = {}
        for other in others:
            for position, label in enumerate(rows[other].labels):
                a, b = rows[first].period(position), rows[other].period(position)
                same = on_same_draws(self.runs[first], self.runs[other])
                compared = _differences(a, b, DEFAULT, same)
                for figure in compared[: 1 + len(PERCENTILES)]:
                    records[other, label, figure.name] = (*_ends(figure.estimate), same)
        frame = pd.DataFrame.from_dict(records, orient="index", columns=COLUMNS)
        names = ["scenario", "period", "statistic"]
        frame.index = pd.MultiIndex.from_tuples(list(records), names=names)
        return frame

    @checked
    def chance(self, condition: str) -> dict[str, Estimate]:
        """Return the chance of a condition in each scenario; see ``Run.chance`` and ``chances``."""
        return {
            name: run.chance(condition)
            for name, run in self.runs.items()
            if not isinstance(run, ReportedMean)
        }

    @checked
    def percentile(self, outcome: str, q: ArrayLike) -> dict[str, Any]:
        """Return a percentile of an outcome, or several, in each scenario."""
        return {
            name: self.result(name, outcome).percentile(q)
            for name, run in self.runs.items()
            if not isinstance(run, ReportedMean)
        }

    def joint(self, x: str, y: str, cuts: Any = (None, None)) -> Any:
        """Raise RunError: two quantities are together in the trials of one scenario."""
        raise RunError("name the scenario: compared.runs[name].joint(x, y)")

    def sensitivity(self, outcome: str, method: str | None = None, **options: Any) -> Any:
        """Raise RunError: what drives an outcome is a question about one scenario."""
        raise RunError("name the scenario: compared.runs[name].sensitivity(outcome)")

    @checked
    def chances(self, conditions: str | Sequence[str]) -> pd.DataFrame:
        """Return the chance of conditions on several quantities in each scenario, and its
        difference from the first, with 95 % errors: rows (condition, scenario).

        Conditions are those of ``Run.chance``. Raises RunError where a scenario is not a run.
        """
        runs = {name: run for name, run in self.runs.items() if isinstance(run, Run)}
        other = next((name for name in self.runs if name not in runs), None)
        if other is not None:
            raise RunError(f"{other!r} is not a run; conditions need the trials of one")
        first, rows = next(iter(runs)), {}
        for condition in listed(conditions):
            by_name = {name: statement(run, condition) for name, run in runs.items()}
            for name, result in by_name.items():
                share = result.chance(above=0.5)
                if name == first:
                    gap = Estimate(0.0, 0.0, 0.0)
                elif on_same_draws(runs[first], runs[name]):
                    gap = Paired(by_name[first], result).chance_above(0.5)
                else:
                    gap = unpaired(by_name[first].chance(above=0.5), share)
                rows[condition, name] = (float(share), share.error, float(gap), gap.error)
        frame = pd.DataFrame.from_dict(
            rows, orient="index", columns=["chance", "error", "difference", "error of difference"]
        )
        frame.index = pd.MultiIndex.from_tuples(list(rows), names=["condition", "scenario"])
        return frame

    @checked
    def dominance(self, outcome: str) -> pd.DataFrame:
        """Return for each pair of scenarios whether the one dominates the other stochastically, on
        the samples.

        First order: at every value its chance of ending above is at least as large, so whoever
        wants more prefers it. Second order: whoever also shuns risk does. Of an outcome with
        ``better="low"`` less is wanted. ``against`` is the largest amount by which a condition
        fails (a share of trials; for the second order, in units of the outcome), ``by chance``
        whether draws alone could do that. See ``kindynos.studies.dominance``.
        """
        runs = {
            name: self.result(name, outcome)
            for name, run in self.runs.items()
            if not isinstance(run, ReportedMean)
        }
        for name, result in runs.items():
            if result.unranked:
                raise RunError(
                    f"{per_cent(result.unranked)} of the trials of {name!r} have no "
                    f'value of {outcome!r}; missing="worst" (or "best", or a number) on the '
                    "outcome says how they rank"
                )
        ranked = {name: result.ranked for name, result in runs.items()}
        if any(result.better == "low" for result in runs.values()):
            ranked = {name: sample.negated for name, sample in ranked.items()}
        return dominance(ranked)

    @delegated_to("kindynos.plots", "comparison")
    def plot(self, outcome: str, kind: str = "cumulative", ax: Axes | None = None) -> Axes:
        """Draw the scenarios of one outcome: "cumulative" curves, "survival" curves, or "boxes"
        side by side.
        """


WITHOUT = "share without a value"


@checked
def compare(
    runs: Mapping[str, Run | ReadTrials | ReportedMean], outcome: str | None = None
) -> Comparison:
    """Return a comparison of runs, saved or fresh, and of means from elsewhere, with the first of
    them.

    Raises RunError where they have nothing in common to compare.

    >>> from kindynos import Model, Normal, compare
    >>> model = Model("Kiosk")
    >>> model.given(price=3.0)
    >>> model.driver("sales", Normal(100, 10))
    >>> model.outcome("profit", "price * sales - 250")
    >>> dear = model.replace(price=4.0).simulate(1_000, seed=1)
    >>> compared = compare({"as it is": model.simulate(1_000, seed=1), "dear": dear})
    >>> compared.scenarios
    ['as it is', 'dear']
    """
    return Comparison(mapping("runs", runs, "runs by name"), outcome)


def on_same_draws(one: object, two: object) -> bool:
    """Whether two runs have the same seed, plan and blocks, so that trial i of the one belongs to
    trial i of the other.

    Of trials that were read nothing is known of their draws; two columns of one file are compared
    by ``joint``.
    """
    return isinstance(one, Run) and isinstance(two, Run) and one.drawing.key == two.drawing.key


def _ends(figure: Estimate) -> tuple[float, float, float, float]:
    return float(figure), figure.error, figure.low, figure.high


def _differences(a: Result, b: Result, asked: TableSpec, paired: bool) -> list[ReportedFigure]:
    """Return the differences of the figures of two results, trial by trial where they are on the
    same draws.
    """
    pair = Paired(a, b) if paired else None
    if pair is not None and pair.empty:
        return [ReportedFigure("mean", Estimate(math.nan))]
    percentiles = PERCENTILES if asked.percentiles == DEFAULT.percentiles else asked.percentiles
    statistics = [("mean", parse_statistic("mean"))]
    statistics += [(f"P{q:g}", parse_statistic(f"percentile {q!r}")) for q in percentiles]
    if a.target is not None and a.target == b.target:
        above = parse_statistic(f"chance above {a.target!r}")
        statistics.append((f"chance above {a.target:g}", above))
    for text in (*asked.statistics, *asked.chances.get(a.name, ())):
        if central_coverage(text) is None:
            statistics.append((parse_statistic(text).label, parse_statistic(text)))
    figures = []
    for name, statistic in dict(statistics).items():
        if pair is None:
            gap = unpaired(statistic.read(a), statistic.read(b))
        else:
            gap = pair.statistic(statistic.name, *statistic.numbers, **statistic.options)
        words = statistic.words if statistic.threshold is not None else name
        figures.append(ReportedFigure(name, gap, statistic.kind, words, statistic.threshold))
    if pair is None:
        figures.append(ReportedFigure("higher in any two trials", _higher(a, b), "share"))
    else:
        figures.append(ReportedFigure("higher in the same trial", pair.higher(), "share"))
    if a.n_failed or b.n_failed:
        lacking = (
            unpaired(_without_value(a), _without_value(b)) if pair is None else pair.without_value()
        )
        figures.append(ReportedFigure(WITHOUT, lacking, "share"))
    return figures


def _without_value(result: Result) -> Estimate:
    """Return the share of trials without a value."""
    return chance(result.sample.with_values(np.isnan(result.values)), above=0.5)


def _higher(a: Result, b: Result) -> Estimate:
    """Return the chance that a trial of ``b`` is above a trial of ``a``, ties counted half (Mann
    and Whitney).

    The variance is DeLong's, Biometrics 44 (1988), 837-845.
    """
    one, two = a.ranked, b.ranked
    if min(one.count, two.count) < 2:
        return Estimate(math.nan)
    above = two.terms(one.share_below(two.valid))
    below = one.terms(1 - two.share_below(one.valid))
    figure = (1 - float(_without_value(a))) * (1 - float(_without_value(b)))  # both have a value
    chance = above.mean * figure
    reach = Z * figure * math.sqrt(above.variance + below.variance)
    return Estimate(chance, max(chance - reach, 0.0), min(chance + reach, 1.0))
