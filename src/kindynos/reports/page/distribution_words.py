"""Distributions in words, as somebody reads them who does not know their names."""

from __future__ import annotations

import math

from kindynos.distributions.base import Distribution
from kindynos.distributions.bounded import Pert, Triangular, Uniform
from kindynos.distributions.normal import Normal
from kindynos.reports.page.figures import rounded


def distribution_words(distribution: Distribution, unit: str | None) -> str:
    """Return a distribution in words: "most likely 19 m, between 17.5 m and 26 m"."""

    def told(value: float) -> str:
        return str(rounded(value, unit))

    if isinstance(distribution, Pert | Triangular):
        low, high = told(distribution.low), told(distribution.high)
        return f"most likely {told(distribution.mode)}, between {low} and {high}"
    if isinstance(distribution, Uniform):
        return f"anything between {told(distribution.low)} and {told(distribution.high)}"
    if isinstance(distribution, Normal):
        middle, sd = told(distribution.mean), told(distribution.sd)
        return f"around {middle}, in two of three cases within {sd} of it"
    ends = [float(distribution.percentile(q)) for q in (5, 50, 95)]
    if not all(map(math.isfinite, ends)) or ends[0] == ends[2]:
        return f"{distribution.label}"
    return (
        f"{told(ends[0])} to {told(ends[2])} in nine of ten cases, half below {told(ends[1])} "
        f"({distribution.label})"
    )
