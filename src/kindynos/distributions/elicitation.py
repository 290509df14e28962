"""Distributions from opinions: a family by its name, and two or three percentiles."""

from __future__ import annotations

from collections.abc import Mapping

from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.validate import checked


@checked
def from_percentiles(
    name: str, percentiles: Mapping[float, float], fit: bool = False
) -> Distribution:
    """Return the distribution of a family, by its name, that has these two or three percentiles:
    ``{10: 4.1, 90: 9.3}``.

    Triangular and PERT distributions from two percentiles have their mode in the middle. Raises
    ParameterError for percentiles that do not increase, for a family that is not given by
    percentiles, and where no member of the family has all of them; with ``fit=True`` the nearest by
    least squares is returned then, and a FitWarning says how far off each percentile is.

    Source: Cook, Determining Distribution Parameters from Quantiles (2010), for the families solved
    directly.

    >>> from_percentiles("lognormal", {10: 4.1, 90: 9.3}).percentile([10, 90]).round(9)
    array([4.1, 9.3])
    """
    return CATALOGUE.find(name).from_percentiles(percentiles, fit)
