"""Several runs side by side: their figures, the differences with errors, and which of them dominates.

Runs on the same draws (one seed, plan and number of trials) are compared trial by trial, so that only what was changed differs;
others are compared as independent samples, with both errors.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy.special import ndtri

from kindynos.errors import ParameterError, RunError, nearest
from kindynos.estimate import Estimate
from kindynos.hooks import draw
from kindynos.results.dominance import dominance
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.sheet import sheet_records
from kindynos.results.statistics import Sample
from kindynos.validate import finite, positive, whole

Floats = NDArray[np.float64]

PERCENTILES = (5, 50, 95)
COLUMNS = ["difference", "error", "low", "high", "paired"]


@dataclass(frozen=True)
class Reported:
    """A mean known from elsewhere, with the sd of what it is a mean of and the number of values ``n`` behind it.

    It stands beside runs in ``compare``; its error is 1.96 x sd / sqrt(n). Raises ParameterError for what is no number.

    >>> Reported(120.0, sd=15.0, n=900).estimate
    120 ± 0.98
    """

    mean: float
    sd: float
    n: int

    def __post_init__(self) -> None:
        finite("Reported", "mean", self.mean)
        positive("Reported", "sd", self.sd)
        whole("Reported", "n", self.n, least=2)

    @property
    def estimate(self) -> Estimate:
        """The mean with its 95 % error."""
        reach = float(ndtri(0.975)) * self.sd / math.sqrt(self.n)
        return Estimate(self.mean, self.mean - reach, self.mean + reach)


class Comparison:
    """Runs by the names of their scenarios; differences are taken from the first.

    See ``table``, ``differences``, ``dominance`` and ``plot``; ``runs`` has the runs themselves.
    """

    def __init__(self, runs: Mapping[str, Run | Reported], outcome: str | None = None) -> None:
        if len(runs) < 2:
            raise RunError("compare: needs at least two scenarios, of which the first is what the others are compared with")
        for name, run in runs.items():
            if not isinstance(run, Run | Reported):
                raise ParameterError(f"compare: {name!r} must be a run or kd.Reported(mean, sd, n), not {run!r:.60}")
        self.runs = dict(runs)
        self._outcomes = self._shared(outcome)

    def _shared(self, outcome: str | None) -> list[str]:
        runs = [run for run in self.runs.values() if isinstance(run, Run)]
        if not runs:
            raise RunError("compare: at least one of the scenarios must be a run")
        shared = [n for n in runs[0].outcomes if all(n in run.outcomes for run in runs)]
        names = [n for n in shared if not any(run[n].is_row for run in runs)] if outcome is None else [outcome]
        if not names:
            raise RunError("compare: the runs have no outcome in common that is one number")
        if len(runs) < len(self.runs) and len(names) > 1:
            raise RunError(f"compare: a mean from elsewhere is one of a single outcome; say outcome= ({', '.join(names)})")
        for run in runs:
            for name in names:
                if run[name].is_row:
                    raise RunError(f"compare: {name!r} is a row; compare a number, such as last({name})")
        return names

    @property
    def scenarios(self) -> list[str]:
        """The names of the scenarios."""
        return list(self.runs)

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes that are compared."""
        return list(self._outcomes)

    def __repr__(self) -> str:
        return f"<comparison of {', '.join(self.scenarios)}: {', '.join(self._outcomes)}>"

    def result(self, scenario: str, outcome: str) -> Result:
        """Return an outcome of one scenario; raises RunError for a name it has not, a row, or a mean from elsewhere."""
        if scenario not in self.runs:
            raise RunError(f"compare: no scenario {scenario!r}{nearest(scenario, self.runs)}")
        run = self.runs[scenario]
        if isinstance(run, Reported):
            raise RunError(f"compare: of {scenario!r} only the mean is known")
        if outcome not in self._outcomes:
            raise RunError(f"compare: {outcome!r} is no outcome of all scenarios{nearest(outcome, self._outcomes)}")
        result = run[outcome]
        if result.is_row:
            raise RunError(f"compare: {outcome!r} is a row; compare a number, such as last({outcome})")
        return result

    def table(self) -> pd.DataFrame:
        """Return each outcome's statistics side by side: rows (outcome, statistic), columns (scenario, value and error)."""
        columns = {}
        for scenario, run in self.runs.items():
            if isinstance(run, Reported):
                mean = run.estimate
                records = [(self._outcomes[0], "mean", run.mean, mean.error), (self._outcomes[0], "sd", run.sd, np.nan)]
            else:
                records = [
                    (name, record[0], record[1], record[2]) for name in self._outcomes for record in sheet_records(run, name)
                ]
            frame = pd.DataFrame(records, columns=["outcome", "statistic", "value", "error"])
            columns[scenario] = frame.set_index(["outcome", "statistic"])
        first = max(columns.values(), key=len).index
        every = first.append([frame.index.difference(first, sort=False) for frame in columns.values()]).unique()
        return pd.concat({scenario: frame.reindex(every) for scenario, frame in columns.items()}, axis=1)

    def differences(self) -> pd.DataFrame:
        """Return each scenario's differences from the first, with the 95 % error of the difference.

        Rows are (outcome, scenario, statistic): the mean, percentiles 5, 50 and 95, the chance above the target, and "higher in
        the same trial", the chance that this scenario's outcome is the higher one. ``paired`` says whether trials were compared
        one with one, on the same draws; the others are independent samples.
        """
        first, *others = self.runs
        records = {}
        for outcome in self._outcomes:
            for other in others:
                for statistic, figure, paired in self._compared(outcome, first, other):
                    records[outcome, other, statistic] = (float(figure), figure.error, figure.low, figure.high, paired)
        frame = pd.DataFrame.from_dict(records, orient="index", columns=COLUMNS)
        frame.index = pd.MultiIndex.from_tuples(list(records), names=["outcome", "scenario", "statistic"])
        return frame

    def _compared(self, outcome: str, first: str, other: str) -> list[tuple[str, Estimate, bool]]:
        one, two = self.runs[first], self.runs[other]
        if isinstance(one, Reported) or isinstance(two, Reported):
            means = [run.estimate if isinstance(run, Reported) else run[outcome].mean for run in (one, two)]
            return [("mean", _unpaired(*means), False)]
        a, b = self.result(first, outcome), self.result(other, outcome)
        return _paired_figures(a, b) if on_same_draws(one, two) else _unpaired_figures(a, b)

    def dominance(self, outcome: str) -> pd.DataFrame:
        """Return for each pair of scenarios whether the one dominates the other stochastically, on the samples.

        First order: at every value its chance of ending above is at least as large, so whoever wants more prefers it. Second
        order: whoever also shuns risk does. More is taken as better. ``against`` is the largest amount by which a condition
        fails (a share of trials; for the second order, in units of the outcome), ``by chance`` whether draws alone could do
        that. See ``kindynos.results.dominance``.
        """
        runs = {name: self.result(name, outcome) for name, run in self.runs.items() if isinstance(run, Run)}
        return dominance({name: Sample(result.values, result.bounds).valid for name, result in runs.items()})

    def plot(self, outcome: str, kind: str = "cumulative", ax: Any = None) -> Any:
        """Draw the scenarios of one outcome: "cumulative" curves, "survival" curves, or "boxes" side by side."""
        return draw("comparison", self, outcome, kind=kind, ax=ax)


def compare(runs: Mapping[str, Run | Reported], outcome: str | None = None) -> Comparison:
    """Return a comparison of runs, saved or fresh, and of means from elsewhere, with the first of them.

    Raises RunError where they have nothing in common to compare.
    """
    return Comparison(runs, outcome)


def on_same_draws(one: Run, two: Run) -> bool:
    """Whether two runs have the same seed, plan and blocks, so that trial i of the one belongs to trial i of the other."""
    return one.draws == two.draws


def _paired_figures(a: Result, b: Result) -> list[tuple[str, Estimate, bool]]:
    both = ~(np.isnan(a.values) | np.isnan(b.values))
    if not both.any():
        return [("mean", Estimate(math.nan), True)]
    one, two = (Sample(np.where(both, r.values, np.nan), r.bounds, r.independent) for r in (a, b))

    def of(terms: NDArray[Any], value: float | None = None, least: float = 0.0) -> Estimate:
        full = np.full(len(both), np.nan)
        full[both] = terms
        sample = Sample(full, a.bounds, a.independent)
        centre = float(terms.mean()) if value is None else value
        if not sample.has_error:
            return Estimate(centre)
        variance = float(terms.var(ddof=1)) / len(terms) if a.independent else sample.variance_of_mean(terms)
        reach = max(sample.student * math.sqrt(variance), least)
        return Estimate(centre, centre - reach, centre + reach)

    with np.errstate(invalid="ignore"):  # infinite less infinite
        gaps = b.values - a.values
    figures = [("mean", of(gaps[both]))]
    for q in PERCENTILES:
        value = float(two.quantile(q / 100)) - float(one.quantile(q / 100))
        (terms, slope), (others, other_slope) = _influence(two, q / 100), _influence(one, q / 100)
        figures.append((f"P{q}", of(terms - others, value, least=abs(slope - other_slope) / one.count)))
    if a.target is not None and a.target == b.target:
        figures.append((f"chance above {a.target:g}", of((two.valid > a.target) * 1.0 - (one.valid > a.target))))
    higher = (two.valid > one.valid) * 1.0
    beats = Sample(np.where(both, gaps, np.nan), a.bounds, a.independent)
    figures.append(("higher in the same trial", of(higher) if not 0 < higher.mean() < 1 else _chance(beats)))
    return [(name, figure, True) for name, figure in figures]


def _chance(sample: Sample) -> Estimate:
    from kindynos.results.statistics import chance

    return chance(Sample(sample.valid, sample.starts, sample.independent), above=0.0)


def _influence(sample: Sample, level: float) -> tuple[Floats, float]:
    """Return each trial's influence on a quantile, (level - [value <= quantile]) x slope, and the slope, 1 / density."""
    reach = min(level, 1 - level) * min(0.5, 2 * sample.count ** (-1 / 3))
    low, high = sample.quantile(level - reach), sample.quantile(level + reach)
    with np.errstate(invalid="ignore"):
        slope = float((high - low) / (2 * reach))
        return (level - (sample.valid <= sample.quantile(level))) * slope, slope


def _unpaired_figures(a: Result, b: Result) -> list[tuple[str, Estimate, bool]]:
    figures = [("mean", _unpaired(a.mean, b.mean))]
    figures += [(f"P{q}", _unpaired(a.percentile(q), b.percentile(q))) for q in PERCENTILES]
    if a.target is not None and a.target == b.target:
        figures.append((f"chance above {a.target:g}", _unpaired(a.chance(above=a.target), b.chance(above=a.target))))
    figures.append(("higher in any two trials", _higher(a, b)))
    return [(name, figure, False) for name, figure in figures]


def _unpaired(first: Estimate, second: Estimate) -> Estimate:
    """Return the difference of independent estimates, each with its own interval (Newcombe's combination of limits)."""
    gap = float(second) - float(first)
    down = math.hypot(float(second) - second.low, first.high - float(first))
    up = math.hypot(second.high - float(second), float(first) - first.low)
    return Estimate(gap, gap - down, gap + up)


def _higher(a: Result, b: Result) -> Estimate:
    """Return the chance that a trial of ``b`` is above a trial of ``a``, ties counted half (Mann and Whitney).

    The variance is DeLong's, Biometrics 44 (1988), 837-845.
    """
    one, two = np.sort(a.values[~np.isnan(a.values)]), np.sort(b.values[~np.isnan(b.values)])
    if min(len(one), len(two)) < 2:
        return Estimate(math.nan)

    def places(values: Floats, among: Floats) -> Floats:
        return (np.searchsorted(among, values, "left") + np.searchsorted(among, values, "right")) / (2 * len(among))

    above, below = places(two, one), 1 - places(one, two)
    chance = float(above.mean())
    reach = float(ndtri(0.975)) * math.sqrt(above.var(ddof=1) / len(two) + below.var(ddof=1) / len(one))
    return Estimate(chance, max(chance - reach, 0.0), min(chance + reach, 1.0))
