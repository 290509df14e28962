"""Statistics of weighted values: as many independent values as their weights are worth stand behind
each.
"""

from __future__ import annotations

import math
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z, wilson
from kindynos.results.result import Result
from kindynos.results.sample import FEWEST
from kindynos.validate import chance_bounds, confidence_level, finite, fraction

KNOWN = (
    "mean",
    "median",
    "sd",
    "skewness",
    "percentile",
    "chance",
    "percentile_of",
    "value_at_risk",
    "expected_shortfall",
)


class WeightedResult(Result):
    """A column of trials whose weights differ. Errors are those of (sum of weights)² / sum of
    squared weights trials.

    Source: Kish, Survey Sampling (1965), section 11.2.
    """

    weights: Floats

    @cached_property
    def _ordered(self) -> tuple[Floats, Floats, Floats]:
        """The valid values in order, their weights adding up to 1, and the level at the middle of
        each.
        """
        known = ~np.isnan(self.values)
        order = np.argsort(self.values[known], kind="stable")
        x, w = self.values[known][order], self.weights[known][order]
        w = w / w.sum()
        return x, w, np.cumsum(w) - w / 2

    @cached_property
    def worth(self) -> float:
        """How many independent trials of equal weight would tell as much."""
        return float(1 / (self._ordered[1] ** 2).sum())

    def _quantile(self, level: float) -> float:
        x, _, middle = self._ordered
        return float(np.interp(level, middle, x)) if len(x) > 1 else float(x[0])

    def _with_error(self, value: float, influence: Floats) -> Estimate:
        """Return a figure with the error that the influence of each value makes."""
        if self.worth < FEWEST:
            return Estimate(value)
        reach = Z * math.sqrt(float((self._ordered[1] ** 2 * influence**2).sum()))
        return Estimate(value, value - reach, value + reach)

    def _statistic(self, name: str, *args: Any, **options: Any) -> Estimate:
        if name in ("lowest", "highest"):
            return super()._statistic(name, *args, **options)
        if name not in KNOWN:
            raise KindynosError(f"weighted trials have no {name!r}; they have {', '.join(KNOWN)}")
        found: Estimate = getattr(self, f"_{name}")(*args, **options)
        return found

    def _mean(self) -> Estimate:
        x, w, _ = self._ordered
        mean = float(w @ x)
        return self._with_error(mean, x - mean)

    def _median(self) -> Estimate:
        return self._percentile(50)

    def _sd(self) -> Estimate:
        x, w, _ = self._ordered
        gaps = x - float(w @ x)
        variance = float(w @ gaps**2)
        return self._with_error(
            math.sqrt(variance), (gaps**2 - variance) / (2 * math.sqrt(max(variance, 1e-300)))
        )

    def _skewness(self) -> Estimate:
        x, w, _ = self._ordered
        gaps = x - float(w @ x)
        return Estimate(float(w @ gaps**3) / float(w @ gaps**2) ** 1.5, rough=True)

    def _percentile(self, q: float) -> Estimate:
        level = fraction("q", finite("q", q) / 100)
        value = self._quantile(level)
        if self.worth < FEWEST:
            return Estimate(value)
        reach = Z * math.sqrt(level * (1 - level) / self.worth)
        return Estimate(
            value, self._quantile(max(level - reach, 0.0)), self._quantile(min(level + reach, 1.0))
        )

    def _chance(
        self, above: float | None = None, below: float | None = None, at: float | None = None
    ) -> Estimate:
        x, w, _ = self._ordered
        above, below, at = chance_bounds(above, below, at)
        inside = np.ones(len(x), dtype=bool)
        inside &= x > above if above is not None else True
        inside &= x < below if below is not None else True
        inside &= x == at if at is not None else True
        valid = self.weights[~np.isnan(self.values)].sum() / self.weights.sum()
        share = float(w[inside].sum()) * float(valid)
        if self.worth < FEWEST:
            return Estimate(share)
        return Estimate(share, *wilson(share, self.worth))

    def _percentile_of(self, x: float) -> Estimate:
        below, at = self._chance(below=x), self._chance(at=x)
        value = 100 * (float(below) + float(at) / 2)
        if self.worth < FEWEST:
            return Estimate(value)
        low, high = wilson(value / 100, self.worth)
        return Estimate(value, 100 * low, 100 * high)

    @property
    def _turned(self) -> WeightedResult:
        """The same trials with the opposite sign, and so with the other end wanted."""
        other = WeightedResult(self.name, -self.values, self._bounds, self._independent)
        other.weights = self.weights
        return other

    def _value_at_risk(self, level: float, reference: float = 0.0) -> Estimate:
        if self.better == "low":
            return self._turned._value_at_risk(level, -reference)
        found = self._percentile(100 * (1 - confidence_level("level", level)))
        return Estimate(reference - float(found), reference - found.high, reference - found.low)

    def _expected_shortfall(self, level: float, reference: float = 0.0) -> Estimate:
        if self.better == "low":
            return self._turned._expected_shortfall(level, -reference)
        share = 1 - confidence_level("level", level)
        x, w, _ = self._ordered
        q = self._quantile(share)
        beyond = np.maximum(q - x, 0.0) / share
        value = reference - q + float(w @ beyond)
        return self._with_error(value, beyond - float(w @ beyond))
