"""Several runs side by side: their figures, the differences with errors, and which of them
dominates.

Runs on the same draws (one seed, plan and number of trials) are compared trial by trial, so that
only what was changed differs; others are compared as independent samples, with both errors.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError, RunError
from kindynos.formatting import per_cent
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z
from kindynos.results.calculation import statement
from kindynos.results.read_trials import ReadTrials
from kindynos.results.result import Result, RowResult
from kindynos.results.run import Run
from kindynos.results.sheet import DEFAULT, TableSpec, sheet_records
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


@checked_init
@dataclass(frozen=True)
class ReportedMean:
    """A mean known from elsewhere, with the sd of what it is a mean of and the number of values
    ``n`` behind it.

    It stands beside runs in ``compare``; its error is 1.96 x sd / sqrt(n). Raises ParameterError
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
        return Estimate(self.mean, self.mean - reach, self.mean + reach)


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
                "needs at least two scenarios, of which the first is what the others are "
                "compared with"
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
    def table(self, asked: TableSpec = DEFAULT) -> pd.DataFrame:
        """Return each outcome's statistics side by side: rows (outcome, statistic), columns
        (scenario, value and error).

        ``asked`` names other percentiles and more figures, as a run's table takes them.
        """
        self._check_numbers()
        instance("asked", asked, TableSpec, "what a table is to show")
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
                    (name, record[0], record[1], record[2])
                    for name in self._outcomes
                    for record in sheet_records(
                        run[name], run[name].n_failed, run.notes(name), asked
                    )
                ]
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
    def differences(self, asked: TableSpec = DEFAULT) -> pd.DataFrame:
        """Return each scenario's differences from the first, with the 95 % error of the difference.

        Rows are (outcome, scenario, statistic): the mean, percentiles 5, 50 and 95 (or those asked
        for), the chance above the target, and "higher in the same trial", the chance that this
        scenario's outcome is the higher one. ``paired`` says whether trials were compared one with
        one, on the same draws; the others are independent samples. Means and percentiles are over
        the trials that have a value, chances are of all; "share without a value" is a row where
        there are such trials.
        """
        self._check_numbers()
        instance("asked", asked, TableSpec, "what a table is to show")
        first, *others = self.runs
        percentiles = PERCENTILES if asked.percentiles == DEFAULT.percentiles else asked.percentiles
        records = {}
        for outcome in self._outcomes:
            for other in others:
                for statistic, figure, paired in self._compared(outcome, first, other, percentiles):
                    records[outcome, other, statistic] = (
                        float(figure),
                        figure.error,
                        figure.low,
                        figure.high,
                        paired,
                    )
        frame = pd.DataFrame.from_dict(records, orient="index", columns=COLUMNS)
        frame.index = pd.MultiIndex.from_tuples(
            list(records), names=["outcome", "scenario", "statistic"]
        )
        return frame

    def _compared(
        self, outcome: str, first: str, other: str, percentiles: Sequence[float]
    ) -> list[tuple[str, Estimate, bool]]:
        one, two = self.runs[first], self.runs[other]
        if isinstance(one, ReportedMean) or isinstance(two, ReportedMean):
            means = [
                run.estimate if isinstance(run, ReportedMean) else run[outcome].mean
                for run in (one, two)
            ]
            return [("mean", unpaired(*means), False)]
        a, b = self.result(first, outcome), self.result(other, outcome)
        return (_paired_figures if on_same_draws(one, two) else _unpaired_figures)(
            a, b, percentiles
        )

    def rows_of(self, outcome: str) -> dict[str, RowResult]:
        """Return a row outcome by scenario; raises RunError where it is not a row of all."""
        if not isinstance(outcome, str) or outcome not in self._rows:
            raise RunError(
                f"{outcome!r:.60} is not a row of all scenarios", unknown=outcome, known=self._rows
            )
        found: dict[str, RowResult] = {}
        for name, run in self.runs.items():
            row: Any = None if isinstance(run, ReportedMean) else run[outcome]
            if not isinstance(row, RowResult):
                raise RunError(f"{name!r} does not have a row {outcome!r}")
            found[name] = row
        if len({tuple(row.labels) for row in found.values()}) > 1:
            raise RunError(f"the scenarios have {outcome!r} over other periods")
        return found

    def row_differences(self, outcome: str) -> pd.DataFrame:
        """Return by how much a row differs from the first scenario in each period: rows (scenario,
        period, statistic) with the 95 % error of the difference, for the mean and percentiles 5, 50
        and 95.

        ``paired`` says whether trials were compared one with one, on the same draws. Raises
        RunError for what is not a row of all scenarios.
        """
        found = self.rows_of(outcome)
        first, *others = found
        records: dict[tuple[str, str, str], tuple[Any, ...]] = {}
        for other in others:
            for place, label in enumerate(found[other].labels):
                a, b = found[first].period(place), found[other].period(place)
                one, two = self.runs[first], self.runs[other]
                same = on_same_draws(one, two)
                compared = (_paired_figures if same else _unpaired_figures)(a, b, PERCENTILES)
                for statistic, figure, paired in compared[: 1 + len(PERCENTILES)]:
                    ends = (float(figure), figure.error, figure.low, figure.high)
                    records[other, label, statistic] = (*ends, paired)
        frame = pd.DataFrame.from_dict(records, orient="index", columns=COLUMNS)
        names = ["scenario", "period", "statistic"]
        frame.index = pd.MultiIndex.from_tuples(list(records), names=names)
        return frame

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
            held = {name: statement(run, condition) for name, run in runs.items()}
            for name, result in held.items():
                share = result.chance(above=0.5)
                if name == first:
                    gap = Estimate(0.0, 0.0, 0.0)
                elif on_same_draws(runs[first], runs[name]):
                    gap = Paired(held[first], result).chance_above(0.5)
                else:
                    gap = unpaired(held[first].chance(above=0.5), share)
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
            return dominance({name: -sample.valid for name, sample in ranked.items()})
        return dominance({name: sample.valid for name, sample in ranked.items()})

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
    """
    return Comparison(mapping("runs", runs, "runs by name"), outcome)


def on_same_draws(one: object, two: object) -> bool:
    """Whether two runs have the same seed, plan and blocks, so that trial i of the one belongs to
    trial i of the other.

    Of trials that were read nothing is known of their draws; two columns of one file are compared
    by ``joint``.
    """
    return isinstance(one, Run) and isinstance(two, Run) and one.drawing.key == two.drawing.key


def _paired_figures(
    a: Result, b: Result, percentiles: Sequence[float]
) -> list[tuple[str, Estimate, bool]]:
    pair = Paired(a, b)
    if pair.empty:
        return [("mean", Estimate(math.nan), True)]
    figures = [("mean", pair.mean())] + [(f"P{q:g}", pair.percentile(q)) for q in percentiles]
    if a.target is not None and a.target == b.target:
        figures.append((f"chance above {a.target:g}", pair.chance_above(a.target)))
    figures.append(("higher in the same trial", pair.higher()))
    if pair.lacks_values:
        figures.append((WITHOUT, pair.without_value()))
    return [(name, figure, True) for name, figure in figures]


def _unpaired_figures(
    a: Result, b: Result, percentiles: Sequence[float]
) -> list[tuple[str, Estimate, bool]]:
    figures = [("mean", unpaired(a.mean, b.mean))]
    figures += [
        (f"P{q:g}", unpaired(a.statistic("percentile", q), b.statistic("percentile", q)))
        for q in percentiles
    ]
    if a.target is not None and a.target == b.target:
        figures.append(
            (
                f"chance above {a.target:g}",
                unpaired(a.chance(above=a.target), b.chance(above=a.target)),
            )
        )
    figures.append(("higher in any two trials", _higher(a, b)))
    if a.n_failed or b.n_failed:
        figures.append((WITHOUT, unpaired(_without_value(a), _without_value(b))))
    return [(name, figure, False) for name, figure in figures]


def _without_value(result: Result) -> Estimate:
    """Return the share of trials without a value."""
    return chance(replace(result._sample, values=np.isnan(result.values) * 1.0), above=0.5)


def _higher(a: Result, b: Result) -> Estimate:
    """Return the chance that a trial of ``b`` is above a trial of ``a``, ties counted half (Mann
    and Whitney).

    The variance is DeLong's, Biometrics 44 (1988), 837-845.
    """
    one, two = a.ranked.sorted, b.ranked.sorted
    if min(len(one), len(two)) < 2:
        return Estimate(math.nan)

    def places(values: Floats, among: Floats) -> Floats:
        return (
            np.searchsorted(among, values, "left") + np.searchsorted(among, values, "right")
        ) / (2 * len(among))

    above, below = places(two, one), 1 - places(one, two)
    known = len(one) * len(two) / (a.size * b.size)  # pairs of which both have a value
    chance = float(above.mean()) * known
    reach = Z * known * math.sqrt(above.var(ddof=1) / len(two) + below.var(ddof=1) / len(one))
    return Estimate(chance, max(chance - reach, 0.0), min(chance + reach, 1.0))
