"""The forecast of a series: its coming periods, their total, and the chance above a figure."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported
from kindynos.fitting.series import SeriesRanking, fit_series
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z, wilson
from kindynos.processes.base import Process
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.validate import Count, check_integer, checked, finite, known_name

if TYPE_CHECKING:
    import pandas as pd

PERCENTILES = (5.0, 25.0, 50.0, 75.0, 95.0)
YEAR = 12  # periods in the total, by default
PERIODS = 12  # ahead, where a series has no season
TRIALS = 10_000


@dataclass(frozen=True, eq=False)
class Forecast(Reported):
    """The coming periods of a series by one process, whose parameters are drawn too.

    ``paths`` has them by trial ``(periods, trials)``; see ``table`` for their percentiles,
    ``total`` for the sum of the first periods, ``chance`` for a figure, and ``plot``. ``ranking``
    has all processes that were tried, and ``process_name`` is the one that was used; ``raised`` is
    the share of drawn values that were below 0 and count as 0.
    """

    ranking: SeriesRanking
    process_name: str
    paths: Floats
    seed: int
    raised: float = 0.0  # the share of values drawn below 0 that count as 0

    @property
    def process(self) -> Process:
        """The process."""
        return self.ranking[self.process_name]

    @cached_property
    def periods(self) -> Any:
        """The coming periods: their dates, or their numbers after the last value."""
        return self.ranking.series.after(len(self.paths))

    def table(self) -> pd.DataFrame:
        """Return a row for each coming period: mean, P5, P25, P50, P75 and P95; half of the paths
        lie between P25 and P75, 90 % between P5 and P95.
        """
        import pandas as pd

        rows = np.percentile(self.paths, PERCENTILES, axis=1)
        table = pd.DataFrame(
            {f"P{q:g}": row for q, row in zip(PERCENTILES, rows, strict=True)}, self.periods
        )
        table.insert(0, "mean", self.paths.mean(axis=1))
        return table.rename_axis("period")

    @checked
    def total(self, periods: int | None = None) -> pd.Series:
        """Return mean and percentiles of the sum of the first ``periods``; default: 12, or as many
        as there are. Raises ParameterError for more than there are.
        """
        import pandas as pd

        count = min(YEAR, len(self.paths)) if periods is None else periods
        check_integer("periods", count, least=1, most=len(self.paths))
        sums = self.paths[:count].sum(axis=0)
        figures = {"mean": float(sums.mean())}
        figures |= {
            f"P{q:g}": float(value)
            for q, value in zip(PERCENTILES, np.percentile(sums, PERCENTILES), strict=True)
        }
        return pd.Series(figures, name=f"total of {count}")

    @checked
    def chance(self, above: float) -> list[Estimate]:
        """Return the chance of each coming period above a figure, with its sampling error."""
        finite("above", above)
        trials = self.paths.shape[1]
        shares = (self.paths > above).mean(axis=1)
        return [Estimate(float(share), *wilson(float(share), trials, Z)) for share in shares]

    @checked
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the history with the fan of the coming periods."""
        return self.ranking.plot(self.process_name, ax=ax, periods=len(self.paths))


@checked
def forecast(
    series: Any,
    ahead: int | None = None,
    process: str | None = None,
    *,
    season: int | None = None,
    every: str | None = None,
    candidates: Any = None,
    rolling: bool = True,
    exog: Any = None,
    below_zero: bool | None = None,
    trials: Count = TRIALS,
    seed: Seed = None,
    progress: Callable[[float], Any] | None = None,
) -> Forecast:
    """Return the forecast of a series: the best of the processes that ``fit_series`` tries, or the
    one named, which alone is fitted, simulated with the error of its parameters.

    ``series`` and the options are those of ``fit_series``, ``exog`` too; ``ahead`` is how many
    periods, by default one season, at least 12, and as far as regressors are known. Values below 0
    count as 0 where the series has none, such as numbers of passengers, unless ``below_zero`` says
    that it may have some. Raises ParameterError as it does.

    >>> from kindynos import Arima
    >>> made = Arima(ar=[0.5], sd=1.0, constant=4.0).paths(periods=120, trials=1, seed=3)[1:, 0]
    >>> coming = forecast(made, 6, "arima (1,0,0)", candidates=["arima (1,0,0)"], seed=1)
    >>> coming.table().shape, list(coming.total().index)[:2]
    ((6, 6), ['mean', 'P5'])
    """
    ranking = fit_series(
        series,
        [process] if process is not None and candidates is None else candidates,
        season,
        every=every,
        rolling=rolling and process is None,
        horizon=ahead,
        exog=exog,
        progress=progress,
    )
    name = ranking.names[0] if process is None else process
    known_name("process", name, ranking.names)
    count = max(PERIODS, ranking.season) if ahead is None else ahead
    if ranking.exog and ahead is None:  # as far as they are known
        later = len(next(iter(ranking.exog.values()))) - len(ranking.series.values)
        count = min(count, later)
    selected = checked_seed(seed)
    paths = ranking[name].paths(count, trials, selected, uncertain=True)[1:]
    if below_zero is None:
        below_zero = bool(np.nanmin(ranking.series.values) < 0)
    raised = 0.0 if below_zero else float((paths < 0).mean())
    return Forecast(ranking, name, np.maximum(paths, 0.0) if raised else paths, selected, raised)
