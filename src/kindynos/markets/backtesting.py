"""Whether risk figures were right: exceptions through time, and tests of their number, their
clustering and their size.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import ArrayLike, NDArray

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError
from kindynos.markets.exposure import Exposure
from kindynos.markets.method import Method
from kindynos.markets.verdicts import (
    Verdict,
    binomial,
    chance_of_seeing_size,
    clustering,
    df_of_tail,
    number_and_clustering,
    number_of_exceptions,
    size_of_exceptions,
)
from kindynos.tables.spacing import spacing_of
from kindynos.validate import Level, array_of, check_integer, checked, positive, proper_fraction

TODAYS_BOOK = (
    "The forecasts are of today's holdings, which need not be those that made these profits; "
    "recorded forecasts can be tested instead."
)
CAPITAL_LEVEL, CAPITAL_DAYS = 0.99, 250
MULTIPLIERS = (3.0, 3.0, 3.0, 3.0, 3.0, 3.4, 3.5, 3.65, 3.75, 3.85, 4.0)  # by exceptions
TINY = 1e-300  # in place of a value at risk that is none
ESTIMATED_DF = 4.0  # of daily returns, as a rule
STEP = 20  # days over which a growing window keeps its length
YELLOW, RED = 0.95, 0.9999  # cumulative chances at which the supervisors' zones begin


@dataclass(frozen=True, eq=False)
class Backtest(Reported):
    """Losses beside the value at risk forecast for their day.

    ``exceptions`` is their number; ``kupiec`` tests it, ``independence`` (Christoffersen) whether
    they cluster, ``conditional`` both together, ``shortfall`` whether losses beyond were larger
    than the expected shortfall forecast; ``zone`` is the supervisors': "green",
    "yellow" or "red" by the number of exceptions. ``table`` has every day.

    >>> from kindynos import Portfolio, demo_file, read_prices
    >>> prices = read_prices(demo_file("treasury_prices.csv"))
    >>> Portfolio(prices, shares={"shipyard": 100}).backtest("weighted", level=0.95).zone
    'green'
    """

    level: float
    losses: Floats
    forecasts: Floats
    shortfalls: Floats | None = None
    dates: Any = None
    method: str = "given"
    window: int | None = None
    unit: str = "day"  # what each forecast is for
    notes: tuple[str, ...] = ()  # which profits were left out

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
        """Whether there are too many or too few exceptions; exact."""
        return number_of_exceptions(self.exceptions, self.days, 1 - self.level)

    @property
    def independence(self) -> Verdict:
        """Whether an exception makes one on the next day likelier; exact."""
        return clustering(self.hits)

    @cached_property
    def conditional(self) -> Verdict:
        """Both tests together; exact."""
        return number_and_clustering(self.hits, 1 - self.level)

    @cached_property
    def shortfall(self) -> Verdict | None:
        """Whether losses beyond the value at risk were larger than forecast, one-sided; None
        without forecasts or exceptions.
        """
        if self.shortfalls is None or not self.exceptions:
            return None
        reached = self.losses[self.hits].sum() / max(self.shortfalls[self.hits].sum(), TINY)
        return size_of_exceptions(float(reached), self.exceptions, self._tail_df, self.level)

    def shortfall_power(self, times: float, size: float = 0.05) -> float:
        """Return how often that test rejects forecasts, at a ``size``, when losses are
        ``times`` as far beyond the value at risk as they say; NaN where it is not made.
        """
        positive("times", times), proper_fraction("size", size)
        if self.shortfall is None:
            return math.nan
        return chance_of_seeing_size(self.exceptions, self._tail_df, self.level, times, size)

    @cached_property
    def _tail_df(self) -> float:
        """Degrees of freedom of a Student's t with as much expected shortfall over value at risk as
        the forecasts have. Those of a window have errors, and often too light a tail: 4 at most.
        """
        assert self.shortfalls is not None
        ratio = float(np.median(self.shortfalls / np.maximum(self.forecasts, TINY)))
        df = df_of_tail(ratio, self.level)
        return df if self.window is None else min(df, ESTIMATED_DF)

    @property
    def zone(self) -> str:
        """The supervisors' traffic light, by the chance of so few exceptions or fewer (Basel
        Committee, 1996).
        """
        reached = float(binomial(self.days, 1 - self.level)[: self.exceptions + 1].sum())
        return "green" if reached < YELLOW else "yellow" if reached < RED else "red"

    @property
    def multiplier(self) -> float:
        """The supervisors' multiplier of capital by the exceptions of the last 250 days at 99 %,
        from 3 to 4; NaN for other levels, longer periods and fewer days (Basel Committee, 1996).
        """
        if self.level != CAPITAL_LEVEL or self.days < CAPITAL_DAYS or self.unit != "day":
            return math.nan
        return MULTIPLIERS[min(int(self.hits[-CAPITAL_DAYS:].sum()), len(MULTIPLIERS) - 1)]

    def summary(self) -> pd.Series:
        """Return the figures by name."""
        tests = {
            "Kupiec": self.kupiec,
            "independence": self.independence,
            "conditional": self.conditional,
        }
        tests |= {"expected shortfall": self.shortfall} if self.shortfall else {}
        figures: dict[str, Any] = {
            "days": self.days,
            "exceptions": self.exceptions,
            "expected": self.expected,
            "zone": self.zone,
            "multiplier": self.multiplier,
        }
        return pd.Series(
            figures | {f"{name} p-value": test.p_value for name, test in tests.items()},
            name=self.method,
        )

    def table(self) -> pd.DataFrame:
        """Return a row for each day: loss, forecast, and whether it was an exception."""
        index = (
            pd.RangeIndex(self.days, name="day")
            if self.dates is None
            else pd.DatetimeIndex(self.dates, name="date")
        )
        frame = pd.DataFrame(
            {"loss": self.losses, "value at risk": self.forecasts, "exception": self.hits},
            index=index,
        )
        if self.shortfalls is not None:
            frame["expected shortfall"] = self.shortfalls
        return frame

    def __repr__(self) -> str:
        return (
            f"<backtest of {self.method} at {self.level:g}: {self.exceptions} exceptions on "
            f"{self.days:,} {self.unit}s "
            f"({self.expected:.1f} expected), {self.zone}>"
        )

    @delegated_to("kindynos.plots", "backtest")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw profit and loss through time with the forecasts, exceptions marked."""


@checked
def backtest(
    returns: ArrayLike, forecasts: ArrayLike, level: Level, shortfalls: ArrayLike | None = None
) -> Backtest:
    """Return the test of forecasts of value at risk (positive losses) beside the returns, or
    profits, of the same days.

    ``forecasts`` is a number or one per day; ``shortfalls``, forecasts of expected shortfall, are
    tested too. Raises ParameterError for shapes that differ, values that are not finite, and a
    level such as 99.

    >>> backtest([0.01, -0.03, 0.02, -0.01], 0.02, level=0.95).exceptions
    1
    """
    gains = array_of("returns", returns)
    if gains.ndim != 1 or len(gains) < 2:
        raise ParameterError(f"returns must be flat, at least two days, not {gains.shape}")
    given = [forecasts] if shortfalls is None else [forecasts, shortfalls]
    arrays = [
        array_of(name, values)
        for name, values in zip(("forecasts", "shortfalls"), given, strict=False)
    ]
    bounds = [
        np.broadcast_to(values, gains.shape) if values.ndim == 0 else values for values in arrays
    ]
    for name, values in zip(("forecasts", "shortfalls"), bounds, strict=False):
        if values.shape != gains.shape:
            raise ParameterError(f"{name} must be one per day, {len(gains)}, not {values.shape}")
        if not np.isfinite(values).all():
            raise ParameterError(
                f"{name} must be finite; day {int(np.argmin(np.isfinite(values)))} is not"
            )
    if not np.isfinite(gains).all():
        raise ParameterError(
            f"returns must be finite; day {int(np.argmin(np.isfinite(gains)))} is not"
        )
    return Backtest(level, -gains, bounds[0], bounds[1] if len(bounds) > 1 else None)


def rolling_backtest(
    exposure: Exposure,
    method: Method,
    window: int,
    level: float,
    actual: pd.Series | None = None,
    growing: bool = False,
    horizon: int = 1,
) -> Backtest:
    """Return the backtest of forecasts made each day from the window before it, all days at
    once, beside what today's holdings would have lost, or the ``actual`` profits by date.

    Over a ``horizon`` of several periods the forecast is of the stretch that follows, and the
    stretches that are tested do not overlap. A ``growing`` window begins with that many returns and
    holds all returns before each day, but for at most ``STEP`` - 1 of the first.
    """
    size = check_integer("window", window, least=8)
    check_integer("horizon", horizon, least=1)
    base, left = method.stretched(exposure, horizon)
    losses = base.losses
    if size >= len(losses):
        raise ParameterError(
            f"window {size} leaves no {exposure.spacing.unit} to test in a history of "
            f"{len(losses)} returns"
        )
    if not method.rolling:
        raise ParameterError(
            f"{method.label!r} is not offered: it would simulate again for every day; take "
            "historical, filtered or student"
        )
    stretches = exposure if horizon == 1 else exposure.over(horizon)
    tested, dates = stretches.losses[size::horizon], stretches.dates[size::horizon]
    if not len(tested):
        raise ParameterError(
            f"window {size} leaves no {period_of(exposure, horizon)} to test in a history of "
            f"{len(losses)} returns"
        )
    if growing:
        forecasts, shortfalls = _growing_forecasts(losses, method, size, level, left)
        forecasts, shortfalls = forecasts[::horizon], shortfalls[::horizon]
    else:
        windows = sliding_window_view(losses, size)[:-1:horizon]
        forecasts, shortfalls = method.tail(windows, level, left)
    forecasts, shortfalls = forecasts[: len(tested)], shortfalls[: len(tested)]
    unit = period_of(exposure, horizon)
    if actual is not None:
        profits, notes = profits_of_periods(actual, exposure.dates[size - 1], dates, unit)
        rows = np.isfinite(profits)
        return Backtest(
            level,
            -profits[rows],
            forecasts[rows],
            shortfalls[rows],
            dates[rows],
            method.label,
            size,
            unit,
            (*notes, TODAYS_BOOK),
        )
    return Backtest(level, tested, forecasts, shortfalls, dates, method.label, size, unit)


def period_of(exposure: Exposure, horizon: int) -> str:
    """Return what a forecast over a horizon is of, such as "day" or "10-day period"."""
    unit = exposure.spacing.unit
    return unit if horizon == 1 else f"{horizon}-{unit} period"


def _growing_forecasts(
    losses: Floats, method: Method, fewest: int, level: float, horizon: int
) -> tuple[Floats, Floats]:
    """Return the forecasts of each day after the first ``fewest`` from the returns before it, whose
    number grows every ``STEP`` days, so that the days between are forecast at once.
    """
    pieces = [
        method.tail(sliding_window_view(losses[:-1], size)[:STEP], level, horizon)
        for size in range(fewest, len(losses), STEP)
    ]
    forecasts, shortfalls = (np.concatenate(part) for part in zip(*pieces, strict=True))
    return forecasts, shortfalls


def profits_of_periods(
    actual: pd.Series, begin: pd.Timestamp, dates: pd.DatetimeIndex, unit: str
) -> tuple[Floats, tuple[str, ...]]:
    """Return the actual profit of each tested period, NaN where there is none, and which profits
    fall on none of them.

    Those of days count on their date alone; those of longer periods, which end on their ``dates``,
    the first after ``begin``, are added up. Raises ParameterError where no profit falls on one.
    """
    position = np.searchsorted(dates, actual.index)
    inside = (actual.index > begin) & (position < len(dates))
    if unit == "day":
        inside &= dates[np.minimum(position, len(dates) - 1)] == actual.index
    values = actual.to_numpy(dtype=np.float64)[inside]
    counts = np.bincount(position[inside], minlength=len(dates))
    sums = np.bincount(position[inside], values, minlength=len(dates))
    if not counts.any():
        raise ParameterError("no actual profit falls on a tested date")
    notes = []
    spanned = (actual.index > begin) & (actual.index <= dates[-1])
    lost, outside = int((spanned & ~inside).sum()), int((~spanned).sum())
    if lost:
        notes.append(
            f"{lost:,} of {len(actual):,} actual profits are dated on no {unit} that is tested, "
            "and left out; are they dated later than they were made?"
        )
    if outside:
        notes.append(f"{outside:,} actual profits lie before or after the {unit}s that are tested.")
    empty = int((counts == 0).sum())
    if empty:
        notes.append(
            f"{empty:,} of {len(dates):,} {unit}s have no actual profit, and are left out."
        )
    return np.where(counts > 0, sums, np.nan), tuple(notes)


def recorded_backtest(forecasts: pd.DataFrame, actual: pd.Series, level: float) -> Backtest:
    """Return the test of forecasts that were recorded, by the date of the period that each is for:
    columns "value at risk" and, where there are any, "expected shortfall", beside actual profits by
    date, which are added up over the periods between forecasts that lie further apart than a day.

    Figures written below 0, as results are, are taken as losses. Raises ParameterError for fewer
    than two forecasts, and where no profit falls on a period.
    """
    dates = pd.DatetimeIndex(forecasts.index)
    if len(dates) < 2:
        raise ParameterError(f"{len(dates)} forecasts are too few; a test needs two")
    spacing = spacing_of(dates)
    begin = dates[0] - (dates[1] - dates[0])
    profits, notes = profits_of_periods(actual, begin, dates, spacing.unit)
    rows = np.isfinite(profits)
    if np.median(forecasts["value at risk"]) < 0:  # a loss is a result below 0
        forecasts = -forecasts
        notes = (
            *notes,
            "The recorded figures lie below 0, as results do: they are taken as losses.",
        )
    shortfalls = forecasts.get("expected shortfall")
    return Backtest(
        level,
        -profits[rows],
        forecasts["value at risk"].to_numpy()[rows],
        None if shortfalls is None else shortfalls.to_numpy()[rows],
        dates[rows],
        "recorded forecasts",
        None,
        spacing.unit,
        notes,
    )


def dated_profits(actual: Any) -> pd.Series:
    """Return profits by date; raises ParameterError for anything but a Series of numbers with dates
    as its index, each once.
    """
    if not isinstance(actual, pd.Series) or not isinstance(actual.index, pd.DatetimeIndex):
        raise ParameterError("actual must be a Series of profits with dates as its index")
    if actual.index.has_duplicates:
        date = actual.index[actual.index.duplicated()][0]
        raise ParameterError(f"{date:%Y-%m-%d} has two actual profits")
    return actual.astype(np.float64)
