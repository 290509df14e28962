"""What a rule of allocation would have earned out of sample, after the cost of trades."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import delegated_to
from kindynos.errors import ParameterError
from kindynos.finance.drawdowns import max_drawdown
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import t_point
from kindynos.markets.allocation.request import AllocationRequest
from kindynos.markets.allocation.resampling import weights_or_least_risk
from kindynos.markets.allocation.solve import Solver
from kindynos.markets.allocation.source import Source
from kindynos.tables.periods import PER_YEAR
from kindynos.tables.spacing import CODES
from kindynos.validate import check_integer, checked, fraction, one_of

RULES = ("this rule", "buy and hold", "equal weights")
FEWEST_SPANS = 4


@dataclass(frozen=True, eq=False)
class WalkForward:
    """A rule out of sample beside buy and hold and equal weights.

    ``values`` has the value of 1 invested at the start, by date and rule; ``weights`` the weights
    chosen at each date; ``returns`` the returns from one choice to the next, after costs. ``table``
    tells the figures with errors; ``infeasible`` counts the dates at which the limits could not be
    met, when the least risk was taken.
    """

    values: pd.DataFrame
    weights: pd.DataFrame
    returns: pd.DataFrame
    traded: pd.Series
    every: str
    window: int
    cost: float
    infeasible: int
    per_year: float  # how many returns a year has
    source: str  # what the allocation started from

    def __repr__(self) -> str:
        return (
            f"<{len(self.returns)} {self.every}s out of sample, from windows of {self.window} "
            "returns>"
        )

    @property
    def _shortest(self) -> str:
        """The shortest span, from a month up, in which each has a value."""
        return next(span for span in CODES if _has_each(self.values.index, span))

    @property
    def months(self) -> pd.DataFrame:
        """The returns of months, or of the shortest spans that have values, of the whole spans of
        ``returns``.
        """
        values = self.values.loc[: self.returns.index[-1]]
        marks = values.groupby(_periods(values.index, self._shortest)).last()
        return (marks / marks.shift(1) - 1).iloc[1:]

    def table(self) -> pd.DataFrame:
        """Return one row per rule: mean return a year, sd a year, maximum drawdown, and what was
        traded, with errors of the means.

        Means and their errors are from the returns of months, which hardly depend on each other: t
        with one less than their number. ``more than buy and hold`` is the paired difference a year.
        """
        spans, size = self.months.to_numpy(), float(PER_YEAR[self._shortest])
        records: dict[str, dict[str, float]] = {}
        for position, rule in enumerate(self.returns.columns):
            mean = _mean(spans[:, position] * size)
            more = _mean((spans[:, position] - spans[:, 1]) * size)
            daily = self.values[rule].pct_change().iloc[1:]
            records[rule] = {
                "mean a year": float(mean),
                "error": mean.error,
                "sd a year": float(daily.std() * math.sqrt(self.per_year)),
                "maximum drawdown": float(max_drawdown(self.values[rule].to_numpy())),
                "traded a year": float(self.traded[rule])
                * PER_YEAR[self.every]
                / len(self.returns),
                "more than buy and hold": float(more) if position != 1 else 0.0,
                "error of that": more.error if position != 1 else 0.0,
            }
        return pd.DataFrame.from_dict(records, orient="index")

    @property
    def verdict(self) -> str:
        """Whether the rule did better than buy and hold and equal weights, in words."""
        spans, size = self.months.to_numpy(), float(PER_YEAR[self._shortest])
        said = []
        for position, rule in ((1, "buy and hold"), (2, "equal weights")):
            gap = _mean((spans[:, 0] - spans[:, position]) * size)
            label = "more" if gap > 0 else "less"
            sure = gap.low > 0 or gap.high < 0
            said.append(
                f"{100 * abs(gap):.1f} % a year {label} than {rule} ({100 * gap.low:.1f} to "
                f"{100 * gap.high:.1f})" + ("" if sure else ", which chance alone could do")
            )
        earned = "; and ".join(said)
        return f"Over {len(self.returns)} {self.every}s out of sample the rule earned {earned}."

    @delegated_to("kindynos.plots", "walk_forward")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the value of 1 invested at the start under each rule."""


def _periods(dates: Any, span: str) -> pd.PeriodIndex:
    return pd.PeriodIndex(dates.to_period(CODES[span]))


def _has_each(dates: Any, span: str) -> bool:
    """Whether most spans have a date."""
    return bool(np.median(np.diff(_periods(dates, span).asi8)) <= 1)


def _mean(values: Floats) -> Estimate:
    centre = float(values.mean())
    reach = t_point(len(values) - 1) * float(values.std(ddof=1)) / math.sqrt(len(values))
    return symmetrical(centre, reach)


@checked
def _choices(spans: pd.PeriodIndex, size: int, every: str) -> list[int]:
    """Return the returns before which weights are chosen: at the close of the last day of a span,
    to be held from the next day on.
    """
    choices = [t for t in range(size, len(spans)) if spans[t] != spans[t - 1]]
    if len(choices) < FEWEST_SPANS:
        raise ParameterError(
            f"a window of {size} leaves {len(choices)} {every}s of {len(spans)} returns; at least "
            f"{FEWEST_SPANS} are needed"
        )
    return choices


def walk_forward(
    request: AllocationRequest, every: str, window: int | None, cost: float | None
) -> WalkForward:
    """Return what the rule would have earned; see ``Allocation.walk_forward``."""
    one_of("every", every, tuple(CODES))
    source, region = request.source, request.region
    if source.dates is None or source.returns is None:
        raise ParameterError("needs a history of returns, not " + source.description)
    returns, count = source.returns, len(source.returns)
    size = count // 2 if window is None else check_integer("window", window, least=8)
    charge = region.cost if cost is None else fraction("cost", cost)
    spans = source.dates.to_period(CODES[every])
    if not _has_each(source.dates, every):
        raise ParameterError(f"prices are more than a {every} apart; choose a longer every=")
    choices = _choices(spans, size, every)
    n = len(source.names)
    still = np.full(n, 1 / n) if source.today is None else source.today
    tiled = np.tile(still, (3, 1))
    value, traded, infeasible = np.ones(3), np.zeros(3), 0
    path, selected = [value.copy()], []
    for begin, end in zip(choices, [*choices[1:], count], strict=True):
        best, met = weights_or_least_risk(
            _known_then(request, source, returns[begin - size : begin], tiled[0])
        )
        infeasible += not met
        selected.append(best)
        targets = np.stack([best, tiled[1], np.full(n, 1 / n)])
        total = np.abs(targets - tiled).sum(axis=1)
        traded += total
        value = value * (1 - charge * total)
        growth = np.cumprod(1 + returns[begin:end], axis=0)
        worth = targets @ growth.T  # (rules, days): holdings are left alone until the next choice
        path.extend(value * worth[:, day] for day in range(worth.shape[1]))
        value = value * worth[:, -1]
        tiled = targets * growth[-1] / worth[:, -1:]
    dates = source.dates[choices[0] - 1 :]
    values = pd.DataFrame(np.array(path), dates, list(RULES))
    marks = values.iloc[[c - choices[0] for c in choices] + [len(values) - 1]]
    by_span = (marks / marks.shift(1) - 1).iloc[1:]
    # the last one is not over
    following = source.spacing.after(source.dates[-1]) if source.spacing else None
    if following is not None and following.to_period(CODES[every]) == spans[-1]:
        by_span = by_span.iloc[:-1]
    weights = pd.DataFrame(np.array(selected), source.dates[[c - 1 for c in choices]], source.names)
    per_year = float(source.per_year or 1)
    return WalkForward(
        values,
        weights,
        by_span,
        pd.Series(traded, list(RULES)),
        every,
        size,
        charge,
        infeasible,
        per_year,
        source.description,
    )


def _known_then(
    request: AllocationRequest, source: Source, window: Floats, weights_held: Floats
) -> Solver:
    """Return the solver of the request as it was before a date: the returns of the window, and the
    weights held then.
    """
    then = replace(source, today=weights_held)
    region = replace(
        request.region, today=weights_held if request.region.trades else request.region.today
    )
    return Solver(then.refit(window), region, request.aim)
