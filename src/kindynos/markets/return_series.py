"""Returns of prices, their moments, and how they move together."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import delegated_to
from kindynos.errors import ParameterError
from kindynos.handed_out import HandsOutCopies
from kindynos.literals import CovarianceMethod, ReturnKind, ReturnPeriod
from kindynos.markets.prices import Prices, prices_of
from kindynos.markets.relative import relative_table
from kindynos.tables.spacing import DateSpacing
from kindynos.validate import check_integer, checked, one_of, proper_fraction

COVARIANCES = ("sample", "weighted", "shrunk")


@dataclass(frozen=True, eq=False)
class Returns(HandsOutCopies):
    """Returns by date and instrument, ``kind`` "simple" or "log"; ``spacing`` is how far their
    dates lie apart.

    >>> from kindynos import demo_file, read_prices
    >>> from kindynos.markets import returns
    >>> monthly = returns(read_prices(demo_file("treasury_prices.csv")), every="month")
    >>> monthly.kind
    'simple'
    """

    frame: pd.DataFrame
    kind: str
    spacing: DateSpacing
    description: str

    @property
    def every(self) -> str:
        """The time over which each return runs: "day", "week", "month", "quarter", "year", or
        "period" for prices at irregular dates.
        """
        return self.spacing.unit

    @property
    def per_year(self) -> float:
        """The number of periods in a year."""
        return self.spacing.per_year

    def summary(self) -> pd.DataFrame:
        """Return for each instrument the mean and sd per period and annualized, skewness and excess
        kurtosis.

        The annual mean is that per period times the periods of a year, the annual sd times their
        root.
        """
        frame = self.frame
        table = pd.DataFrame({"returns": frame.count(), "mean": frame.mean(), "sd": frame.std()})
        table["annual mean"] = table["mean"] * self.per_year
        table["annual sd"] = table["sd"] * math.sqrt(self.per_year)
        gaps = frame - frame.mean()
        spread = np.sqrt((gaps**2).mean())
        table["skewness"] = (gaps**3).mean() / spread**3
        table["excess kurtosis"] = (gaps**4).mean() / spread**4 - 3
        return table

    def covariance(self, method: CovarianceMethod = "sample", decay: float = 0.94) -> pd.DataFrame:
        """Return the covariance per period: of the sample, exponentially "weighted" with a decay,
        or "shrunk".

        Shrinkage is towards a constant correlation, by the intensity of Ledoit and Wolf, Journal of
        Portfolio Management 30 (2004), 110-119. Raises ParameterError for another method or a decay
        that is not a fraction.
        """
        values = self.frame.to_numpy(dtype=np.float64)
        return pd.DataFrame(
            covariance(values, method, decay), self.frame.columns, self.frame.columns
        )

    def correlation(self, method: CovarianceMethod = "sample", decay: float = 0.94) -> pd.DataFrame:
        """Return the correlation behind a covariance; see there."""
        matrix = self.covariance(method, decay)
        spread = np.sqrt(np.diag(matrix))
        return pd.DataFrame(
            matrix.to_numpy() / np.outer(spread, spread), matrix.index, matrix.columns
        )

    @checked
    def rolling(self, window: int) -> dict[str, pd.DataFrame]:
        """Return mean and sd over each ``window`` of returns, by their last date: ``{"mean":
        ..., "sd": ...}``.

        Raises ParameterError for a window longer than the history.
        """
        size = self._window(window, least=2)
        moving = self.frame.rolling(size)
        return {"mean": moving.mean().dropna(), "sd": moving.std().dropna()}

    def excess(self, benchmark: str) -> Returns:
        """Return the returns above those of one of the instruments; raises ParameterError for an
        unknown one.
        """
        return replace(
            self, frame=self.frame.drop(columns=benchmark).sub(self._of(benchmark), axis=0)
        )

    @checked
    def against(self, benchmark: str) -> pd.DataFrame:
        """Return how each instrument went with one of them: beta, alpha, excess return, tracking
        error, correlation.

        Each has its 95 % interval beside it. See ``kindynos.markets.relative``. Raises
        ParameterError for an unknown one.
        """
        series = self._of(benchmark)
        return relative_table(self.frame.drop(columns=benchmark), series, self.per_year)

    def _window(self, window: int, least: int) -> int:
        size = check_integer("window", window, least=least)
        if size > len(self.frame):
            raise ParameterError(
                f"window {size} is longer than the history of {len(self.frame)} returns"
            )
        return size

    def _of(self, benchmark: str) -> pd.Series:
        if benchmark not in self.frame.columns:
            columns = list(map(str, self.frame.columns))
            raise ParameterError(
                f"no returns of {benchmark!r}", unknown=str(benchmark), known=columns
            )
        return self.frame[benchmark]

    @checked
    def rolling_correlation(self, first: str, second: str, window: int = 60) -> pd.Series:
        """Return the correlation of two instruments over each ``window`` of returns, by its
        last date.

        Raises ParameterError for unknown instruments and a window longer than the history.
        """
        size = self._window(window, least=3)
        correlations = self._of(first).rolling(size).corr(self._of(second)).dropna()
        correlations.attrs |= {"window": size}
        return correlations.rename(f"{first} and {second}")

    @delegated_to("kindynos.plots", "returns_through_time")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the returns through time."""


@checked
def returns(
    prices: Prices | pd.DataFrame, kind: ReturnKind = "simple", every: ReturnPeriod | None = None
) -> Returns:
    """Return the returns of prices: "simple" (this over the last, less 1) or "log", from one date
    to the next, or ``every`` "week", "month", "quarter" or "year"; of instruments that change by
    differences, such as yields, these.

    See ``Prices.every`` for such periods; a last one that the prices do not reach the end of is
    left out, which ``description`` tells. Raises ParameterError for other words, a period shorter
    than the prices lie apart, and too few prices.

    >>> from kindynos import demo_file, read_prices
    >>> from kindynos.markets import returns
    >>> prices = read_prices(demo_file("treasury_prices.csv")).subset(["shipyard", "wind_farm"])
    >>> returns(prices).frame.shape[1]
    2
    """
    prices = prices_of(prices)
    one_of("kind", kind, ("simple", "log"))
    selected = prices.every(every)
    frame = selected.frame
    absolute, values = selected.absolute, selected.moves
    if kind == "log":
        lost = ((values <= -1) & ~absolute).any(axis=0)
        if lost.any():
            raise ParameterError(
                f"{frame.columns[int(lost.argmax())]} falls to 0 or below, and has no logarithmic "
                "return there; take simple returns"
            )
        values = np.where(absolute, values, np.log1p(np.where(absolute, 0.0, values)))
    table = pd.DataFrame(values, frame.index[1:], frame.columns)
    return Returns(table, kind, selected.spacing, selected.description)


@checked
def covariance(values: Floats, method: CovarianceMethod = "sample", decay: float = 0.94) -> Floats:
    """Return the covariance of ``(returns, instruments)`` values; see Returns.covariance."""
    one_of("method", method, COVARIANCES)
    if method == "weighted":
        proper_fraction("decay", decay)
        weights = decay ** np.arange(len(values) - 1, -1, -1.0)
        weights /= weights.sum()
        gaps = values - weights @ values
        return np.asarray((gaps * weights[:, None]).T @ gaps)
    sample = np.atleast_2d(np.cov(values, rowvar=False))
    return sample if method == "sample" or len(sample) < 2 else _shrunk(values)


def _shrunk(values: Floats) -> Floats:
    """Return the sample covariance drawn towards one in which all correlations are their mean."""
    count, size = values.shape
    gaps = values - values.mean(axis=0)
    sample = gaps.T @ gaps / count
    sd = np.sqrt(np.diag(sample))
    scaled = np.outer(sd, sd)
    average = ((sample / scaled).sum() - size) / (size * (size - 1))
    target = average * scaled
    np.fill_diagonal(target, np.diag(sample))
    squares = gaps**2
    spread = squares.T @ squares / count - sample**2
    cubes = (gaps**3).T @ gaps / count - np.diag(sample)[:, None] * sample
    ratio = np.outer(1 / sd, sd)
    mixed = average / 2 * (ratio * cubes + ratio.T * cubes.T)
    rho = np.trace(spread) + (mixed.sum() - np.trace(mixed))
    misfit = float(((sample - target) ** 2).sum())
    weight = min(max((spread.sum() - rho) / misfit / count, 0.0), 1.0) if misfit > 0 else 0.0
    return np.asarray((weight * target + (1 - weight) * sample) * count / (count - 1))
