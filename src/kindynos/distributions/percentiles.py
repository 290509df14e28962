"""Finding the member of a family that has given percentiles.

A family that is given by percentiles states a ``Recipe``: how a distribution is made of free
numbers (any real numbers serve), and where to start them. Least squares then moves these numbers
until the percentiles are met.
"""

from __future__ import annotations

import math
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import FitWarning, ParameterError
from kindynos.validate import finite, invalid_argument

EXACT = 1e-9  # a misfit this small beside the spread of the values is rounding


@dataclass(frozen=True)
class Recipe:
    """How a family is found from percentiles.

    ``build(family, t, x)`` returns a distribution from free numbers ``t`` and the percentiles'
    values ``x``; ``start(u, x)`` are the first free numbers; ``count`` is how many percentiles are
    needed at least, and values lie between ``low`` and ``high``.
    """

    build: Callable[[Any, Floats, Floats], Any]
    start: Callable[[Floats, Floats], list[float]]
    count: int = 2
    low: float = -math.inf
    high: float = math.inf


def centre_and_spread(u: Floats, x: Floats) -> list[float]:
    """Return a first location and the logarithm of a first scale."""
    return [float(np.median(x)), math.log((x[-1] - x[0]) / 2.5)]


def log_centre_and_spread(u: Floats, x: Floats) -> list[float]:
    """Return the same of the logarithms of the values."""
    return [math.log(float(np.median(x))), math.log(math.log(x[-1] / x[0]) / 2.5)]


def by_location_and_scale() -> Recipe:
    """Return the recipe of a family whose first parameter is a location and whose second is a
    scale.
    """
    return Recipe(lambda family, t, x: family(t[0], math.exp(t[1])), centre_and_spread)


def by_location_scale_and_shape(first_shape: float) -> Recipe:
    """Return the recipe of a family with a location, a scale and a shape that may have either
    sign.
    """
    return Recipe(
        lambda family, t, x: family(t[0], math.exp(t[1]), float(t[2])),
        lambda u, x: [*centre_and_spread(u, x), first_shape],
        3,
    )


def above_zero(build: Callable[[Any, Floats], Any]) -> Recipe:
    """Return the recipe of a family of positive values, made of the centre and the spread of their
    logarithm.
    """
    return Recipe(lambda family, t, x: build(family, t), log_centre_and_spread, low=0.0)


def _between_ends(family: Any, t: Floats, x: Floats) -> Any:
    low, high = x[0] - math.exp(t[0]), x[-1] + math.exp(t[-1])
    # two percentiles leave the mode open: the middle
    weight = 1 / (1 + math.exp(-t[1])) if len(t) == 3 else 0.5
    return family(low, low + weight * (high - low), high)


def _ends(u: Floats, x: Floats) -> list[float]:
    margin = math.log(0.3 * (x[-1] - x[0]))
    return [margin, margin] if len(x) == 2 else [margin, 0.0, margin]


LOW_MODE_HIGH = Recipe(_between_ends, _ends)


def increasing_percentiles(percentiles: Any, least: int = 2) -> tuple[tuple[float, float], ...]:
    """Return percentiles, a mapping or pairs, as ordered pairs; levels lie between 0 and 100, and
    values increase.
    """
    try:
        pairs = [
            (q, x)
            for q, x in (percentiles.items() if isinstance(percentiles, Mapping) else percentiles)
        ]
    except (TypeError, ValueError):
        raise invalid_argument(
            "percentiles",
            "pairs of a percentile and its value, such as {10: 4, 90: 9}",
            percentiles,
        ) from None
    valid = sorted((finite("a percentile", q), finite(f"the value at P{q}", x)) for q, x in pairs)
    if len(valid) < least:
        raise ParameterError(f"at least {least} percentiles are needed, not {len(valid)}")
    for q, _ in valid:
        if not 0 < q < 100:
            raise invalid_argument("a percentile", "between 0 and 100", q)
    for (q, x), (p, y) in pairwise(valid):
        if q == p:
            raise invalid_argument("each percentile", "given once", q)
        if not x < y:
            raise ParameterError(
                f"values must increase with the percentile, and P{p:g} = {y:g} follows P{q:g} "
                f"= {x:g}"
            )
    return tuple(valid)


def solve_percentiles(
    family: Any, recipe: Recipe | None, percentiles: Mapping[float, float], fit: bool
) -> Any:
    """Return the member of a family that has the percentiles; see ``kd.from_percentiles`` for the
    errors.
    """
    label = family.label
    pairs = increasing_percentiles(percentiles)
    levels, values = np.array([q for q, _ in pairs]) / 100, np.array([x for _, x in pairs])
    if recipe is None:
        raise ParameterError(
            f"the {label} distribution is not given by percentiles; see kd.smooth_percentiles"
        )
    if values[0] <= recipe.low or values[-1] >= recipe.high:
        rule = "above 0" if math.isinf(recipe.high) else "between 0 and 1"
        outside = values[0] if values[0] <= recipe.low else values[-1]
        raise ParameterError(f"values of the {label} distribution must be {rule}, not {outside:g}")
    if len(pairs) < recipe.count:
        raise ParameterError(
            f"the {label} distribution has {recipe.count} parameters and needs as many percentiles"
        )
    nearest = _nearest(family, recipe, levels, values)
    reached = nearest.quantile(levels)
    if np.abs(reached - values).max() <= EXACT * (values[-1] - values[0]):
        return nearest
    off = "; ".join(
        f"P{100 * u:g} is {y:.6g} instead of {x:g}"
        for u, x, y in zip(levels, values, reached, strict=True)
    )
    if not fit:
        raise ParameterError(
            f"no {label} distribution has all of these percentiles; the nearest one misses them: "
            f"{off}. "
            "Say fit=True to accept it, or use kd.smooth_percentiles"
        )
    warnings.warn(
        f"the nearest {label} distribution does not have all the percentiles: {off}",
        FitWarning,
        stacklevel=3,
    )
    return nearest


def _nearest(family: Any, recipe: Recipe, levels: Floats, values: Floats) -> Any:
    from scipy.optimize import least_squares

    spread = values[-1] - values[0]

    def misfit(t: Floats) -> Floats:
        try:
            with np.errstate(all="ignore"):
                gap = (recipe.build(family, t, values).quantile(levels) - values) / spread
            return np.asarray(np.nan_to_num(gap, nan=1e6, posinf=1e6, neginf=-1e6))
        except (ParameterError, OverflowError):
            return np.full(len(values), 1e6)

    begin = np.array(recipe.start(levels, values), dtype=np.float64)
    best = None
    for start in [
        begin,
        *(begin + shift * np.eye(len(begin))[-1] for shift in (-1.0, 1.0, -2.5, 2.5)),
    ]:
        solution = least_squares(
            misfit, start, xtol=1e-15, ftol=1e-15, gtol=1e-15, x_scale="jac", max_nfev=2000
        )
        if best is None or solution.cost < best.cost:
            best = solution
        if best.cost < 1e-24:
            break
    assert best is not None
    return recipe.build(family, best.x, values)
