"""What weights gain and may lose: each measure of risk by its name, over scenarios or by a normal
distribution.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.markets.allocation.losses import WorstMean, compounded_drawdown
from kindynos.markets.allocation.region import Region
from kindynos.markets.allocation.source import Source

RISKS = ("sd", "variance", "expected_shortfall", "value_at_risk", "drawdown")


class Losses:
    """The measures of a source at one level. A loss is positive; a mean may be negative."""

    def __init__(self, source: Source, level: float) -> None:
        self.source, self.level = source, level
        self.normal = source.returns is None
        score = float(normal_quantile(np.array([level]))[0])
        density = math.exp(-score * score / 2) / math.sqrt(2 * math.pi)
        self.multiples = {"value_at_risk": score, "expected_shortfall": density / (1 - level)}

    @property
    def scenarios(self) -> Floats:
        """The returns ``(scenarios, holdings)``, of a source that has them."""
        returns = self.source.scenarios
        assert returns is not None
        return returns

    def mean(self, weights: Floats) -> float:
        """Return the mean return of weights."""
        return float(self.source.mean @ weights)

    def sd(self, weights: Floats) -> float:
        """Return the sd of the return of weights."""
        return math.sqrt(max(float(weights @ self.source.covariance @ weights), 0.0))

    def value(self, name: str, weights: Floats) -> float:
        """Return a measure of weights, by its name; raises ParameterError for a drawdown without a
        history.
        """
        if name in ("sd", "variance"):
            return self.sd(weights) ** (2 if name == "variance" else 1)
        if name == "drawdown":
            return compounded_drawdown(self.scenarios, weights)
        if self.normal:
            return self.multiples[name] * self.sd(weights) - self.mean(weights)
        if name == "value_at_risk":
            return float(np.quantile(-(self.scenarios @ weights), self.level))
        return WorstMean(self.scenarios, (1 - self.level) * len(self.scenarios)).value(weights)

    def aimed(
        self,
        maximize: str | None,
        minimize: str | None,
        weights: Floats,
        region: Region,
        rate: float,
    ) -> float:
        """Return what an aim makes of weights, such that less is better."""
        mean = self.mean(weights) - region.charge(weights)
        if maximize == "mean":
            return -mean
        if maximize == "ratio":
            return -(mean - rate) / self.value(minimize or "sd", weights)
        assert minimize is not None
        return self.value(minimize, weights)
