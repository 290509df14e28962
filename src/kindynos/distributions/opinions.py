"""Laws from what people say: a range with a chance, or two or three percentiles."""

from __future__ import annotations

import math
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.distributions import CATALOGUE, Distribution
from kindynos.distributions.registry import law_named
from kindynos.distributions.smooth import increasing
from kindynos.errors import FitWarning, ParameterError

Floats = NDArray[np.float64]
Build = Callable[[Floats], Distribution]

EXACT = 1e-9  # a misfit this small beside the spread of the values is rounding


@dataclass(frozen=True)
class _Family:
    """How a family is fitted: its law from free numbers, where to start them, how many there are, and where values may lie."""

    build: Build
    start: Callable[[Floats, Floats], list[float]]
    count: int = 2
    low: float = -math.inf
    high: float = math.inf


def _place(u: Floats, x: Floats) -> list[float]:
    return [float(np.median(x)), math.log((x[-1] - x[0]) / 2.5)]


def _logs(u: Floats, x: Floats) -> list[float]:
    return [math.log(float(np.median(x))), math.log(math.log(x[-1] / x[0]) / 2.5)]


def _ends(u: Floats, x: Floats) -> list[float]:
    margin = 0.3 * (x[-1] - x[0])
    return [math.log(margin), 0.0, math.log(margin)]


def _law(label: str) -> Callable[..., Distribution]:
    law: Callable[..., Distribution] = CATALOGUE[label]
    return law


def _from_log(t: Floats) -> Distribution:
    law: Any = CATALOGUE["lognormal"]
    made: Distribution = law.from_log(t[0], math.exp(t[1]))
    return made


def _located(label: str) -> _Family:
    return _Family(lambda t: _law(label)(t[0], math.exp(t[1])), _place)


def _positive(build: Build) -> _Family:
    return _Family(build, _logs, low=0.0)


def _shaped(label: str, shape: Callable[[float], float], first: float) -> _Family:
    return _Family(lambda t: _law(label)(t[0], math.exp(t[1]), shape(t[2])), lambda u, x: [*_place(u, x), first], 3)


_FAMILIES: dict[str, _Family] = {
    **{label: _located(label) for label in ("normal", "logistic", "laplace", "gumbel", "cauchy")},
    "uniform": _Family(lambda t: _law("uniform")(t[0] - math.exp(t[1]), t[0] + math.exp(t[1])), _place),
    "lognormal": _positive(_from_log),
    "weibull": _positive(lambda t: _law("weibull")(math.exp(-t[1]), math.exp(t[0]))),
    "log logistic": _positive(lambda t: _law("log logistic")(math.exp(t[0]), math.exp(-t[1]))),
    "gamma": _positive(lambda t: _law("gamma")(math.exp(-2 * t[1]), math.exp(t[0] + 2 * t[1]))),
    "inverse gaussian": _positive(lambda t: _law("inverse gaussian")(math.exp(t[0]), math.exp(t[0] - 2 * t[1]))),
    "pareto": _positive(lambda t: _law("pareto")(math.exp(-t[1]), math.exp(t[0]))),
    "exponential": _Family(lambda t: _law("exponential")(math.exp(t[0])), lambda u, x: [math.log(x[-1])], 1, 0.0),
    "beta": _Family(
        lambda t: _law("beta")(math.exp(t[0]), math.exp(t[1])),
        lambda u, x: [math.log(8 * float(np.mean(x))), math.log(8 * (1 - float(np.mean(x))))],
        low=0.0,
        high=1.0,
    ),
    "skew normal": _shaped("skew normal", float, 1.0),
    "generalized extreme value": _shaped("generalized extreme value", float, 0.1),
    "generalized pareto": _shaped("generalized pareto", float, 0.1),
    "student t": _Family(
        lambda t: _law("student t")(2 + math.exp(t[2]), t[0], math.exp(t[1])), lambda u, x: [*_place(u, x), 1.0], 3
    ),
}


def _bounded(label: str, x: Floats) -> _Family:
    """Return the family of triangular or PERT laws about the values: the distances of the ends and the place of the mode."""

    def build(t: Floats) -> Distribution:
        low, high = x[0] - math.exp(t[0]), x[-1] + math.exp(t[-1])
        share = 1 / (1 + math.exp(-t[1])) if len(t) == 3 else 0.5
        return _law(label)(low, low + share * (high - low), high)

    if len(x) == 2:  # two percentiles leave the mode open: the middle
        return _Family(build, lambda u, values: _ends(u, values)[::2])
    return _Family(build, _ends, 3)


def from_percentiles(name: str, percentiles: Mapping[float, float], fit: bool = False) -> Distribution:
    """Return the law of a family, by its name, that has these two or three percentiles: ``{10: 4.1, 90: 9.3}``.

    Triangular and PERT laws from two percentiles have their mode in the middle. Raises ParameterError for percentiles that do
    not increase, for a family that is not given by percentiles, and where no law of the family passes through all; with
    ``fit=True`` the nearest by least squares is returned then, and a FitWarning says how far off each percentile is.

    Source: Cook, Determining Distribution Parameters from Quantiles (2010), for the families solved directly.

    >>> from_percentiles("lognormal", {10: 4.1, 90: 9.3}).percentile([10, 90]).round(9)
    array([4.1, 9.3])
    """
    law_named(name)
    pairs = increasing("from_percentiles", percentiles)
    levels, values = np.array([q for q, _ in pairs]) / 100, np.array([x for _, x in pairs])
    family = _bounded(name, values) if name in ("triangular", "pert") else _FAMILIES.get(name)
    if family is None:
        raise ParameterError(
            f"from_percentiles: {name!r} is not given by percentiles; try {', '.join(sorted(_FAMILIES)[:6])}, ..."
        )
    if values[0] <= family.low or values[-1] >= family.high:
        rule = "above 0" if math.isinf(family.high) else "between 0 and 1"
        outside = values[0] if values[0] <= family.low else values[-1]
        raise ParameterError(f"from_percentiles: values of the {name} law must be {rule}, not {outside:g}")
    if len(pairs) < family.count:
        raise ParameterError(f"from_percentiles: the {name} law has {family.count} parameters and needs as many percentiles")
    law = _solved(family, levels, values)
    found = law.quantile(levels)
    if np.abs(found - values).max() <= EXACT * (values[-1] - values[0]):
        return law
    off = "; ".join(f"P{100 * u:g} is {y:.6g} instead of {x:g}" for u, x, y in zip(levels, values, found, strict=True))
    if not fit:
        raise ParameterError(
            f"from_percentiles: no {name} law passes through all of these; the nearest misses them: {off}. "
            "Say fit=True to take it, or use kd.smooth_percentiles"
        )
    warnings.warn(f"the nearest {name} law does not pass through all percentiles: {off}", FitWarning, stacklevel=2)
    return law


def _solved(family: _Family, levels: Floats, values: Floats) -> Distribution:
    from scipy.optimize import least_squares

    spread = values[-1] - values[0]

    def misfit(t: Floats) -> Floats:
        try:
            with np.errstate(all="ignore"):
                gap = (family.build(t).quantile(levels) - values) / spread
            return np.asarray(np.nan_to_num(gap, nan=1e6, posinf=1e6, neginf=-1e6))
        except (ParameterError, OverflowError):
            return np.full(len(values), 1e6)

    begin = np.array(family.start(levels, values), dtype=np.float64)
    tries = [begin, *(begin + shift * np.eye(len(begin))[-1] for shift in (-1.0, 1.0, -2.5, 2.5))]
    best = None
    for start in tries:
        found = least_squares(misfit, start, xtol=1e-15, ftol=1e-15, gtol=1e-15, x_scale="jac", max_nfev=2000)
        if best is None or found.cost < best.cost:
            best = found
        if best.cost < 1e-24:
            break
    assert best is not None
    return family.build(best.x)
