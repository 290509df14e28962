"""Whether risk figures were right: exceptions through time, and tests of their number, their clustering and their size."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import ArrayLike, NDArray

from kindynos.distributions.special import gammaln, ndtr, ndtri, stdtr, xlogy
from kindynos.errors import ParameterError
from kindynos.markets.methods import AGE_DECAY, VOLATILITY_DECAY, Exposure, expanded, method_named, student_reach
from kindynos.validate import share, whole

Floats = NDArray[np.float64]

YELLOW, RED = 0.95, 0.9999  # cumulative chances at which the supervisors' zones begin


@dataclass(frozen=True)
class Verdict:
    """A test: its statistic and the chance of one as large if the forecasts are right."""

    statistic: float
    p_value: float

    def __repr__(self) -> str:
        return f"{self.statistic:.4g} (p = {self.p_value:.3g})"


@dataclass(frozen=True, eq=False)
class Backtest:
    """Losses beside the value at risk forecast for their day.

    ``exceptions`` is their number; ``kupiec`` tests it, ``independence`` (Christoffersen) whether they cluster, ``conditional``
    both together, ``shortfall`` (McNeil and Frey) whether losses beyond were larger than the expected shortfall forecast;
    ``zone`` is the supervisors': "green", "yellow" or "red" by the number of exceptions. ``table`` has every day.
    """

    level: float
    losses: Floats
    forecasts: Floats
    shortfalls: Floats | None = None
    dates: Any = None
    method: str = "given"
    window: int | None = None

    @property
    def hits(self) -> NDArray[np.bool_]:
        """Whether each day's loss was beyond its forecast."""
        return np.asarray(self.losses > self.forecasts)

    @property
    def days(self) -> int:
        """How many days were tested."""
        return len(self.losses)

    @property
    def exceptions(self) -> int:
        """How many losses were beyond their forecast."""
        return int(self.hits.sum())

    @property
    def expected(self) -> float:
        """How many exceptions right forecasts have on average."""
        return self.days * (1 - self.level)

    @property
    def kupiec(self) -> Verdict:
        """Whether there are too many or too few exceptions (Kupiec, Journal of Derivatives 3, 1995, 73-84)."""
        n, x, p = self.days, self.exceptions, 1 - self.level
        statistic = -2 * (xlogy(x, p) + xlogy(n - x, 1 - p) - xlogy(x, x / n) - xlogy(n - x, 1 - x / n))
        return _chi_square(float(statistic), 1)

    @property
    def independence(self) -> Verdict:
        """Whether an exception makes one on the next day likelier (Christoffersen, International Economic Review 39, 1998)."""
        before, after = self.hits[:-1], self.hits[1:]
        n00, n01 = int((~before & ~after).sum()), int((~before & after).sum())
        n10, n11 = int((before & ~after).sum()), int((before & after).sum())
        calm, hit = n01 / max(n00 + n01, 1), n11 / max(n10 + n11, 1)
        both = (n01 + n11) / max(n00 + n01 + n10 + n11, 1)
        alike = xlogy(n00 + n10, 1 - both) + xlogy(n01 + n11, both)
        apart = xlogy(n00, 1 - calm) + xlogy(n01, calm) + xlogy(n10, 1 - hit) + xlogy(n11, hit)
        return _chi_square(float(-2 * (alike - apart)), 1)

    @property
    def conditional(self) -> Verdict:
        """Both tests together."""
        return _chi_square(self.kupiec.statistic + self.independence.statistic, 2)

    @property
    def shortfall(self) -> Verdict | None:
        """Whether losses beyond the value at risk were larger than forecast, one-sided; None without forecasts or exceptions.

        Source: McNeil and Frey, Journal of Empirical Finance 7 (2000), 271-300, with Student's t for their bootstrap.
        """
        if self.shortfalls is None or self.exceptions < 2:
            return None
        beyond = (self.losses - self.shortfalls)[self.hits] / np.maximum(self.shortfalls[self.hits], 1e-300)
        spread = float(beyond.std(ddof=1))
        if spread == 0:
            return None
        t = float(beyond.mean()) / (spread / math.sqrt(len(beyond)))
        return Verdict(t, 1 - float(stdtr(len(beyond) - 1, t)))

    @property
    def zone(self) -> str:
        """The supervisors' traffic light, by the chance of so few exceptions or fewer (Basel Committee, 1996)."""
        reached = _binomial_cdf(self.exceptions, self.days, 1 - self.level)
        return "green" if reached < YELLOW else "yellow" if reached < RED else "red"

    def summary(self) -> pd.Series:
        """Return the figures by name."""
        tests = {"Kupiec": self.kupiec, "independence": self.independence, "conditional": self.conditional}
        tests |= {"expected shortfall": self.shortfall} if self.shortfall else {}
        figures: dict[str, Any] = {
            "days": self.days,
            "exceptions": self.exceptions,
            "expected": self.expected,
            "zone": self.zone,
        }
        return pd.Series(figures | {f"{name} p-value": test.p_value for name, test in tests.items()}, name=self.method)

    def table(self) -> pd.DataFrame:
        """Return a row for each day: loss, forecast, and whether it was an exception."""
        index = pd.RangeIndex(self.days, name="day") if self.dates is None else pd.DatetimeIndex(self.dates, name="date")
        frame = pd.DataFrame({"loss": self.losses, "value at risk": self.forecasts, "exception": self.hits}, index=index)
        if self.shortfalls is not None:
            frame["expected shortfall"] = self.shortfalls
        return frame

    def __repr__(self) -> str:
        return (
            f"<backtest of {self.method} at {self.level:g}: {self.exceptions} exceptions on {self.days:,} days "
            f"({self.expected:.1f} expected), {self.zone}>"
        )

    def plot(self, ax: Any = None) -> Any:
        """Draw profit and loss through time with the forecasts, exceptions marked."""
        from kindynos.hooks import draw

        return draw("backtest", self, ax=ax)


def backtest(returns: ArrayLike, forecasts: ArrayLike, level: float, shortfalls: ArrayLike | None = None) -> Backtest:
    """Return the test of forecasts of value at risk (positive losses) beside the returns, or profits, of the same days.

    ``forecasts`` is a number or one a day; ``shortfalls``, forecasts of expected shortfall, are tested too. Raises
    ParameterError for shapes that differ, values that are not finite, and a level such as 99.

    >>> backtest([0.01, -0.03, 0.02, -0.01], 0.02, level=0.95).exceptions
    1
    """
    gains = np.asarray(returns, dtype=np.float64)
    share("backtest", "level", level, closed=False)
    if gains.ndim != 1 or len(gains) < 2:
        raise ParameterError(f"backtest: returns must be flat, at least two days, not {gains.shape}")
    given = [forecasts] if shortfalls is None else [forecasts, shortfalls]
    arrays = [np.asarray(values, dtype=np.float64) for values in given]
    bounds = [np.broadcast_to(values, gains.shape) if values.ndim == 0 else values for values in arrays]
    for name, values in zip(("forecasts", "shortfalls"), bounds, strict=False):
        if values.shape != gains.shape:
            raise ParameterError(f"backtest: {name} must be one a day, {len(gains)}, not {values.shape}")
        if not np.isfinite(values).all():
            raise ParameterError(f"backtest: {name} must be finite; day {int(np.argmin(np.isfinite(values)))} is not")
    if not np.isfinite(gains).all():
        raise ParameterError(f"backtest: returns must be finite; day {int(np.argmin(np.isfinite(gains)))} is not")
    return Backtest(level, -gains, bounds[0], bounds[1] if len(bounds) > 1 else None)


def rolling_backtest(exposure: Exposure, method: str, window: int, level: float) -> Backtest:
    """Return the backtest of forecasts made each day from the window before it, all days at once."""
    method_named(method)
    size = whole("backtest", "window", window, least=8)
    losses = exposure.losses
    if size >= len(losses):
        raise ParameterError(f"backtest: window {size} leaves no day to test in a history of {len(losses)} returns")
    if method == "simulated":
        raise ParameterError("backtest: simulating anew for every day is not offered; take historical, filtered or student")
    past = sliding_window_view(losses, size)[:-1]
    forecasts, shortfalls = _ROLLING[method](losses, past, level, size)
    return Backtest(level, losses[size:], forecasts, shortfalls, exposure.dates[size:], method, size)


def _tail(rows: Floats, level: float) -> tuple[Floats, Floats]:
    """Return the quantile of each row and the mean beyond it, of equally weighted losses."""
    count = rows.shape[1]
    place = level * (count - 1)
    below = min(math.floor(place), count - 2)
    parted = np.partition(rows, below, axis=1)
    beyond = parted[:, below + 1 :]  # the few that are larger: all that the quantile and the tail need
    q = parted[:, below] + (place - below) * (beyond.min(axis=1) - parted[:, below])
    return q, q + np.maximum(beyond - q[:, None], 0).sum(axis=1) / count / (1 - level)


def _historical(losses: Floats, past: Floats, level: float, size: int) -> tuple[Floats, Floats]:
    return _tail(past, level)


def _weighted(losses: Floats, past: Floats, level: float, size: int) -> tuple[Floats, Floats]:
    weights = AGE_DECAY ** np.arange(size - 1, -1, -1.0)
    weights /= weights.sum()
    order = np.argsort(past, axis=1)
    ordered, by_order = np.take_along_axis(past, order, axis=1), weights[order]
    places = np.cumsum(by_order, axis=1) - by_order / 2
    column = np.arange(len(past))
    above = np.minimum((places < level).sum(axis=1), size - 1)
    below = np.maximum(above - 1, 0)
    gap = places[column, above] - places[column, below]
    part = np.clip(np.where(gap > 0, (level - places[column, below]) / np.where(gap > 0, gap, 1), 0), 0, 1)
    q = ordered[column, below] + part * (ordered[column, above] - ordered[column, below])
    return q, q + (np.maximum(past - q[:, None], 0) @ weights) / (1 - level)


def _filtered(losses: Floats, past: Floats, level: float, size: int) -> tuple[Floats, Floats]:
    # Each window starts its own volatility, as the forecast of that day would have: only what was known then counts.
    first = (past**2).mean(axis=1)
    volatility = np.empty((len(past), size + 1))
    squares = first.copy()
    volatility[:, 0] = np.sqrt(first)
    for t in range(size):
        squares = VOLATILITY_DECAY * squares + (1 - VOLATILITY_DECAY) * past[:, t] ** 2
        volatility[:, t + 1] = np.sqrt(squares)
    volatility = np.maximum(volatility, 1e-6 * np.sqrt(first)[:, None])
    return _tail(past * (volatility[:, -1:] / volatility[:, :-1]), level)


def _normal(losses: Floats, past: Floats, level: float, size: int) -> tuple[Floats, Floats]:
    centre, spread, z = past.mean(axis=1), past.std(axis=1, ddof=1), float(ndtri(level))
    tail = math.exp(-z * z / 2) / math.sqrt(2 * math.pi) / (1 - level)
    return centre + z * spread, centre + tail * spread


def _student(losses: Floats, past: Floats, level: float, size: int) -> tuple[Floats, Floats]:
    """Degrees of freedom by the kurtosis of each window: a likelihood for every day would take long."""
    centre, spread = past.mean(axis=1), past.std(axis=1, ddof=1)
    excess = ((past - centre[:, None]) ** 4).mean(axis=1) / past.var(axis=1) ** 2 - 3
    df = np.clip(4 + 6 / np.maximum(excess, 1e-3), 4.05, 200.0)
    q, tail = student_reach(df, level)
    return centre + q * spread, centre + tail * spread


def _cornish_fisher(losses: Floats, past: Floats, level: float, size: int) -> tuple[Floats, Floats]:
    centre, spread = past.mean(axis=1), past.std(axis=1, ddof=1)
    gaps = (past - centre[:, None]) / past.std(axis=1)[:, None]
    skew, excess = (gaps**3).mean(axis=1), (gaps**4).mean(axis=1) - 3
    nodes, weights = np.polynomial.legendre.leggauss(32)
    tail = level + (1 - level) * (nodes[:, None] + 1) / 2
    beyond = (weights / 2) @ expanded(tail, skew, excess)
    return centre + spread * expanded(np.array(level), skew, excess), centre + spread * beyond


_ROLLING = {
    "historical": _historical,
    "weighted": _weighted,
    "filtered": _filtered,
    "normal": _normal,
    "student": _student,
    "cornish fisher": _cornish_fisher,
}


def _chi_square(statistic: float, degrees: int) -> Verdict:
    """Return a likelihood ratio with its p-value by the chi-square law of one or two degrees of freedom."""
    value = max(statistic, 0.0)
    return Verdict(value, 2 * float(ndtr(-math.sqrt(value))) if degrees == 1 else math.exp(-value / 2))


def _binomial_cdf(most: int, count: int, chance: float) -> float:
    k = np.arange(most + 1)
    logs = (
        gammaln(count + 1) - gammaln(k + 1) - gammaln(count - k + 1) + k * math.log(chance) + (count - k) * math.log1p(-chance)
    )
    return float(np.exp(logs).sum())
