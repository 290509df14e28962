"""Which process? Several fitted to the same series, compared, and scored on its own history."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError
from kindynos.fitting.data import check_size
from kindynos.fitting.dates import DatedSeries, dated_series
from kindynos.fitting.diagnostics import Diagnostics, diagnose
from kindynos.fitting.rolling import ORIGINS, ForecastScores, origins_of, score
from kindynos.fitting.series_candidates import (
    Candidate,
    Choices,
    criterion_of,
    default_candidates,
    named_candidates,
)
from kindynos.processes.base import Process
from kindynos.processes.regressors import aligned
from kindynos.processes.series import known_length
from kindynos.validate import Count, check_integer, checked, one_of

if TYPE_CHECKING:
    import pandas as pd


CRITERIA = ("aicc", "aic", "bic")
FEWEST = 8
OUTLYING = 4.0  # sds
MOST_OUTLIERS = 6
OUT_OF_THE_RUNNING = 10.0  # of the criterion: a process 150 times less likely than the best
SHORT_HORIZON = 12  # periods that a score looks ahead, where there is no season


def _residual_sizes(process: Process, count: int) -> Floats:
    """Return the residuals of a process in sds, told from their middle, one per value of the series
    ``(values,)``; NaN where there is none.
    """
    residuals: Any = getattr(process, "residuals", None)
    values = np.empty(0) if residuals is None else np.asarray(residuals(), dtype=np.float64)
    aligned = np.full(count, np.nan)
    if 0 < len(values) <= count:
        aligned[count - len(values) :] = values
    valid = aligned[~np.isnan(aligned)]
    spread = 1.4826 * float(np.median(np.abs(valid))) if len(valid) else math.nan
    with np.errstate(invalid="ignore", divide="ignore"):
        return aligned / spread


@dataclass(frozen=True, repr=False)
class SeriesRanking(Reported):
    """Processes fitted to one series, best first; see ``fit_series``.

    ``[name]`` is one of them, as the table writes it; ``scores`` are those of rolling origins,
    ``choices`` the tests that chose logs and differences, ``left_out`` says why a candidate is not
    here.
    """

    series: DatedSeries
    season: int
    choices: Choices
    candidates: dict[str, Candidate]
    fitted: dict[str, Process]
    left_out: dict[str, str]
    scores: dict[str, ForecastScores]
    horizon: int
    criterion: str
    exog: Mapping[str, Sequence[float]] = field(default_factory=dict)
    _look: dict[str, Any] = field(default_factory=dict, repr=False, compare=False)

    @cached_property
    def doubts(self) -> list[str]:
        """What looks wrong in the series, such as a slipped decimal point or a last period that is
        not complete, a sentence each.
        """
        from kindynos.fitting.doubts import series_doubts

        dates, count = self.series.dates, len(self.series.values)
        long = self.series.every in ("month", "quarter", "year")
        labels = [str(i + 1) for i in range(count)]
        if dates is not None:
            labels = [f"{date:%Y-%m}" if long else f"{date:%Y-%m-%d}" for date in dates]
        return series_doubts(self.series.values, self.season, labels)

    @cached_property
    def groups(self) -> dict[str, list[str]]:
        """The names in each group of processes whose criterion can be compared, best first; the
        best group first.

        Across groups the criterion means nothing, since the likelihoods are of different data:
        there the score of the rolling origins decides, or without it the criterion for each value
        that its likelihood is of, the price of a forecast by one period.
        """
        by_name: dict[str, list[str]] = {}
        for name in sorted(
            self.fitted, key=lambda name: criterion_of(self.fitted[name], self.criterion)
        ):
            by_name.setdefault(self.candidates[name].group, []).append(name)
        return dict(sorted(by_name.items(), key=lambda group: self._merit(group[1][0])))

    def _merit(self, name: str) -> float:
        scored = self.scores.get(name)
        if scored is not None and not math.isnan(scored.crps):
            return scored.crps
        fitted = self.fitted[name]
        assert fitted.fitted is not None
        return criterion_of(fitted, self.criterion) / fitted.fitted.observations

    @property
    def names(self) -> list[str]:
        """The names of the processes, best first."""
        return [name for group in self.groups.values() for name in group]

    @property
    def best(self) -> Process:
        """The process that leads the best group."""
        return self.fitted[self.names[0]]

    def __getitem__(self, name: str) -> Process:
        if name in self.fitted:
            return self.fitted[name]
        if name in self.left_out:
            raise ParameterError(f"{name!r} was left out: {self.left_out[name]}")
        raise ParameterError(f"no process {name!r} among them", unknown=name, known=self.names)

    def __len__(self) -> int:
        return len(self.fitted)

    def table(self) -> pd.DataFrame:
        """Return a DataFrame, one row per process, best first, and below them those left out, with
        the reason.

        The criterion and its ``weight`` compare processes of one ``group`` only. ``mae`` and
        ``crps`` are in the units of the series; ``inside_50`` and ``inside_90`` are the shares of
        later values that fell inside the bands, which should be 0.50 and 0.90.
        """
        import pandas as pd

        rows: dict[str, dict[str, Any]] = {}
        for group, names in self.groups.items():
            values = np.array([criterion_of(self.fitted[name], self.criterion) for name in names])
            weights = np.exp(-0.5 * (values - values[0]))
            for name, value, weight in zip(names, values, weights / weights.sum(), strict=True):
                fitted = self.fitted[name].fitted
                assert fitted is not None
                assert fitted.log_likelihood is not None
                row: dict[str, Any] = {
                    "group": group,
                    "parameters": fitted.parameter_count,
                    "log_likelihood": fitted.log_likelihood + fitted.jacobian,
                    self.criterion: value,
                    "weight": weight,
                }
                if name in self.scores:
                    scored = self.scores[name]
                    row |= {
                        measure: getattr(scored, measure)
                        for measure in ("mae", "crps", "inside_50", "inside_90")
                    }
                at_bound = ", ".join(fitted.at_bound)
                rows[name] = {**row, "note": f"{at_bound} at an end" if at_bound else ""}
        table = pd.DataFrame.from_dict(rows, orient="index")
        for name, reason in self.left_out.items():
            table.loc[name, "note"] = f"left out: {reason}"
        table.index.name = "process"
        return table

    @property
    def observations(self) -> int:
        """How many values the series has, those that are missing apart."""
        return int((~np.isnan(self.series.values)).sum())

    @property
    def verdict(self) -> str:
        """What the ranking tells, in a few sentences."""
        name = self.names[0]
        text = f"{name} comes first of {len(self.fitted)}"
        if len(self.fitted) == 1:
            text = f"{name} is the only process that was tried"
        scored = self.scores.get(name)
        if scored is not None and scored.values:
            share, count = 100 * scored.inside_90, scored.values
            text += (
                f". Fitted again at {scored.origins} earlier times, its band from 5 to 95 held "
                f"{share:.0f} % of the {count} "
                f"values up to {self.horizon} periods later (90 % is right)"
            )
            if scored.inside_90 < 0.8:
                text += "; do not trust the fan to be wide enough"
        gap = len(self.series.values) - known_length(self.series.values)
        if gap:
            without = "1 period" if gap == 1 else f"{gap:,} periods"
            text += f". The series ends in {without} without a value; forecasts begin after that"
        return text

    def outliers(self, name: str | None = None) -> pd.DataFrame:
        """Return the values that a process, the best unless one is named, hardly allows: by date,
        the value and its distance from what was expected, in sds (told from the middle of the
        residuals), where that is above 4.

        The farthest one is taken out and the process fitted again, so that what it does to later
        values counts no more, until none is left, at most 6 times. A normal value lies so far out
        once in 16,000.
        """
        import pandas as pd

        rows = self._outlying(self.names[0] if name is None else name)[0]
        return pd.DataFrame.from_dict(rows, orient="index", columns=["value", "sds"])

    def without_outliers(self, name: str | None = None) -> Process:
        """Return a process, the best unless one is named, fitted without its outliers, which count
        as missing.
        """
        return self._outlying(self.names[0] if name is None else name)[1]

    def _outlying(self, name: str) -> tuple[dict[Any, dict[str, float]], Process]:
        """Return outliers by date, in order, and the process without them."""
        key = f"outliers of {name}"
        if key in self._look:
            remembered: tuple[dict[Any, dict[str, float]], Process] = self._look[key]
            return remembered
        process, values = self[name], self.series.values.copy()
        dates = np.arange(1, len(values) + 1) if self.series.dates is None else self.series.dates
        by_name: dict[int, float] = {}
        while len(by_name) < MOST_OUTLIERS:
            sizes = _residual_sizes(process, len(values))
            position = int(np.nanargmax(np.abs(sizes))) if np.isfinite(sizes).any() else 0
            if not abs(sizes[position]) > OUTLYING or position in by_name:
                break
            by_name[position] = float(sizes[position])
            values[position] = np.nan
            process = self.candidates[name].fit(values, exog=self.exog)
        rows = {
            dates[position]: {
                "value": float(self.series.values[position]),
                "sds": by_name[position],
            }
            for position in sorted(by_name)
        }
        self._look[key] = rows, process
        return rows, process

    def diagnose(self, name: str | None = None) -> Diagnostics:
        """Return the diagnostics of the residuals of a process, the best unless one is named."""
        return diagnose(self.best if name is None else self[name])

    def __repr__(self) -> str:
        count = self.observations
        return f"<{len(self.fitted)} processes for {count:,} values, best {self.names[0]!r}>"

    @delegated_to("kindynos.plots", "series_fan")
    def plot(
        self,
        name: str | None = None,
        ax: Axes | None = None,
        periods: int | None = None,
        paths: int = 3,
        seed: int = 1,
    ) -> Axes:
        """Draw the history, the fan of a process (the best unless one is named) and a few numbered
        paths; return the axes.

        The fan's parameters are drawn too, as the series leaves them open. ``redraw()`` shows other
        paths.
        """

    def redraw(self, paths: int = 3, ax: Any = None) -> Any:
        """Draw the picture that was drawn last with other paths; return the Matplotlib axes."""
        last = {"seed": 1, **self._look}
        last["seed"] += 1
        return self.plot(
            last.get("name"), ax=ax, periods=last.get("periods"), paths=paths, seed=last["seed"]
        )


@checked
def fit_series(
    series: Any,
    candidates: Iterable[str] | None = None,
    season: int | None = None,
    criterion: str = "aicc",
    *,
    every: str | None = None,
    rolling: bool = True,
    horizon: int | None = None,
    origins: Count = ORIGINS,
    exog: Any = None,
    progress: Callable[[float], Any] | None = None,
) -> SeriesRanking:
    """Return processes fitted to a series, best first, each scored on its own history.

    ``series`` is a pandas Series with dates, or an array with one value a period; NaN stands for a
    missing value. ``candidates`` are "arima", "exponential smoothing", "garch", or single ones as
    the table writes them; without them, the first two, with the differences and the log that tests
    choose. ``season`` is how many periods it has: by default 12 for months and 4 for quarters; 0
    for none. ``every`` states the spacing of the dates. ``rolling=False`` leaves out the
    ``origins`` from which each is fitted again and looks ``horizon`` periods ahead; those whose
    criterion is more than 10 above the lowest of their group are out of the running and not
    scored. ``exog`` are
    regressors that are known ahead, as ``Arima.fit`` takes them; see ``calendar_regressors`` for
    days of trading and holidays. Only Arima processes take them. Raises ParameterError for a series
    that cannot be used.

    >>> from kindynos import Arima
    >>> made = Arima(ar=[0.7], sd=1.0).paths(periods=150, trials=1, seed=5)[1:, 0]
    >>> fit_series(made, candidates=["arima (1,0,0)", "arima (0,0,0)"], rolling=False).names[0]
    'arima (1,0,0)'
    """
    one_of("criterion", criterion, CRITERIA)
    dated = _checked(dated_series(series, every))
    regressors = aligned(exog, series)
    length = dated.season if season is None else check_integer("season", season, least=0)
    if length == 1 or 2 * length > known_length(dated.values):
        raise ParameterError(
            f"a season of {length} does not fit a series of {len(dated.values)} values: it has 2 "
            "periods at least, and the "
            "series 2 seasons"
        )
    known_values = dated.values[: known_length(dated.values)]
    choices = Choices(known_values, length)
    if candidates is None and regressors:
        selected = named_candidates(["arima"], known_values, length, choices)
    elif candidates is None:
        selected = default_candidates(known_values, length, choices)
    else:
        selected = named_candidates(candidates, known_values, length, choices)
    ahead = (
        (length or min(SHORT_HORIZON, len(known_values) // 4))
        if horizon is None
        else check_integer("horizon", horizon, least=1)
    )
    places = origins_of(known_values, length, ahead, origins) if rolling else []
    fitted, left_out, scores = _fit(selected, dated, regressors, places, ahead, criterion, progress)
    if not fitted:
        reasons = "; ".join(f"{name}: {reason}" for name, reason in left_out.items())
        raise ParameterError(f"no candidate can be fitted ({reasons})")
    by_name = {candidate.name: candidate for candidate in selected}
    return SeriesRanking(
        dated, length, choices, by_name, fitted, left_out, scores, ahead, criterion, regressors
    )


def _fit(
    selected: list[Candidate],
    dated: DatedSeries,
    exog: Mapping[str, Sequence[float]],
    places: list[int],
    ahead: int,
    criterion: str,
    progress: Callable[[float], Any] | None,
) -> tuple[dict[str, Process], dict[str, str], dict[str, ForecastScores]]:
    """Return the processes that can be fitted, why others cannot, and the scores of those that the
    criterion leaves in the running of their group.
    """
    fitted: dict[str, Process] = {}
    left_out: dict[str, str] = {}
    scores: dict[str, ForecastScores] = {}
    share = 0.5 if places else 1.0  # of the work, about
    for position, candidate in enumerate(selected, 1):
        try:
            fitted[candidate.name] = candidate.fit(dated.values, exog=exog)
        except ParameterError as error:
            left_out[candidate.name] = str(error).split(": ", 1)[-1]
        if progress is not None:
            progress(share * position / len(selected))
    running = _in_the_running(selected, fitted, criterion) if places else []
    for position, candidate in enumerate(running, 1):
        process = fitted[candidate.name]
        scores[candidate.name] = score(candidate, process, dated.values, places, ahead, exog)
        if progress is not None:
            progress(share + (1 - share) * position / len(running))
    return fitted, left_out, scores


def _in_the_running(
    selected: list[Candidate], fitted: Mapping[str, Process], criterion: str
) -> list[Candidate]:
    """Return the candidates whose criterion is near the lowest of their group."""
    values = {name: criterion_of(process, criterion) for name, process in fitted.items()}
    lowest: dict[str, float] = {}
    for candidate in selected:
        if candidate.name in fitted:
            least = lowest.get(candidate.group, math.inf)
            lowest[candidate.group] = min(least, values[candidate.name])
    return [
        candidate
        for candidate in selected
        if candidate.name in fitted
        and not values[candidate.name] > lowest[candidate.group] + OUT_OF_THE_RUNNING
    ]


def _checked(dated: DatedSeries) -> DatedSeries:
    values = dated.values
    if values.ndim != 1:
        raise ParameterError(f"series must be flat, one value a period, not {values.shape}")
    if np.isinf(values).any():
        raise ParameterError(f"value {int(np.argmax(np.isinf(values)))} of the series is infinite")
    places = np.flatnonzero(~np.isnan(values))
    if len(places) < FEWEST:
        raise ParameterError(f"needs at least {FEWEST} values, and the series has {len(places)}")
    if np.ptp(values[places]) > 0:
        check_size(values[places])
    else:
        raise ParameterError(
            f"all values of the series are equal, {values[places[0]]:g}; there is nothing to "
            "estimate"
        )
    span = slice(int(places[0]), None)
    return DatedSeries(
        values[span], None if dated.dates is None else dated.dates[span], dated.every, dated.name
    )
