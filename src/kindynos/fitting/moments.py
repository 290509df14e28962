"""Distributions with the moments, or the L-moments, of the data.

L-moments weight ordered values linearly, so that one extreme value decides less; they serve
distributions of extremes. Sources: Hosking, Journal of the Royal Statistical Society B 52 (1990),
105-124; Hosking and Wallis, Regional Frequency Analysis (1997).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

import numpy as np

from kindynos.distributions.base import Distribution
from kindynos.distributions.extremes import EULER
from kindynos.errors import ParameterError
from kindynos.fitting.data import Data

Kind = TypeVar("Kind", bound=Distribution)


def by_moments(kind: type[Kind], data: Data, held: Mapping[str, float]) -> Kind:
    """Return the distribution with the mean, the sd and, where it has three parameters, the
    skewness or kurtosis of data.
    """
    result = _MOMENTS.get(kind.label)
    if result is None or any(name in held for name in _LEARNED.get(kind.label, ())):
        raise _none(kind, "moments", _MOMENTS)
    made: Any = kind
    distribution: Kind = made(**{**held, **result(data)})
    return distribution


def by_lmoments(kind: type[Kind], data: Data, held: Mapping[str, float]) -> Kind:
    """Return the distribution with the first L-moments of data."""
    result = _LMOMENTS.get(kind.label)
    if result is None or (held and kind.label != "generalized pareto"):
        raise _none(kind, "l-moments", _LMOMENTS)
    made: Any = kind
    distribution: Kind = made(**result(lmoments(data), held))
    return distribution


def _none(
    kind: type[Distribution], method: str, known_parameters: Mapping[str, Any]
) -> ParameterError:
    return ParameterError(
        f"method={method!r} serves {', '.join(known_parameters)}, with no parameter held; use the "
        "likelihood"
    )


def lmoments(data: Data) -> tuple[float, float, float]:
    """Return the first two L-moments of data and the ratio of the third to the second, unbiased for
    even weights.
    """
    order = np.argsort(data.values)
    x, w = data.values[order], data.weights[order]
    below = np.cumsum(w) - w
    total = data.total
    first = float(w @ x) / total
    second = float(w @ (x * below)) / (total * (total - 1))
    third = float(w @ (x * below * (below - 1))) / (total * (total - 1) * (total - 2))
    scale = 2 * second - first
    return first, scale, (6 * third - 6 * second + first) / scale


def _kurtosis(data: Data) -> float:
    return float(data.weights @ ((data.values - data.mean) / data.sd) ** 4) / data.total - 3


def _student(data: Data) -> dict[str, float]:
    excess = _kurtosis(data)
    if excess <= 0:
        raise ParameterError("the kurtosis of the data is no higher than a normal distribution's")
    return {"df": 4 + 6 / excess, "mean": data.mean, "sd": data.sd}


def _skew(data: Data) -> dict[str, float]:
    if abs(data.skewness) >= 0.995:
        raise ParameterError(f"the skewness of the data, {data.skewness:.2g}, is beyond 0.995")
    size = (2 * abs(data.skewness) / (4 - math.pi)) ** (2 / 3)
    delta = math.copysign(math.sqrt(math.pi / 2 * size / (1 + size)), data.skewness)
    scale = data.sd / math.sqrt(1 - 2 * delta**2 / math.pi)
    location = data.mean - scale * delta * math.sqrt(2 / math.pi)
    return {"location": location, "scale": scale, "shape": delta / math.sqrt(1 - delta**2)}


def _ratio_root(
    ratio: Callable[[float], float], requested: float, low: float, high: float
) -> float:
    """Return where a falling or rising ratio has a value."""
    from scipy.optimize import brentq

    return float(brentq(lambda k: ratio(k) - requested, low, high, xtol=1e-12))


def _weibull(data: Data) -> dict[str, float]:
    def ratio(shape: float) -> float:
        return math.exp(math.lgamma(1 + 2 / shape) - 2 * math.lgamma(1 + 1 / shape)) - 1

    shape = _ratio_root(ratio, (data.sd / data.mean) ** 2, 0.05, 500.0)
    return {"shape": shape, "scale": data.mean / math.gamma(1 + 1 / shape)}


def _gumbel(data: Data) -> dict[str, float]:
    scale = data.sd * math.sqrt(6) / math.pi
    return {"location": data.mean - EULER * scale, "scale": scale}


def _negative_binomial(data: Data) -> dict[str, float]:
    if data.sd**2 <= data.mean:
        raise ParameterError("the counts scatter no more than Poisson ones")
    share = data.mean / data.sd**2
    return {"successes": data.mean * share / (1 - share), "probability": share}


def _mean_and_sd(data: Data) -> dict[str, float]:
    return {"mean": data.mean, "sd": data.sd}


_MOMENTS: dict[str, Callable[[Data], dict[str, float]]] = {
    **dict.fromkeys(("normal", "lognormal", "logistic", "laplace"), _mean_and_sd),
    "uniform": lambda d: {
        "low": d.mean - math.sqrt(3) * d.sd,
        "high": d.mean + math.sqrt(3) * d.sd,
    },
    "exponential": lambda d: {"mean": d.mean},
    "gamma": lambda d: {"shape": (d.mean / d.sd) ** 2, "scale": d.sd**2 / d.mean},
    "weibull": _weibull,
    "inverse gaussian": lambda d: {"mean": d.mean, "shape": d.mean**3 / d.sd**2},
    "student t": _student,
    "skew normal": _skew,
    "gumbel": _gumbel,
    "poisson": lambda d: {"mean": d.mean},
    "negative binomial": _negative_binomial,
}
_LEARNED = {
    "uniform": (),
    **{label: ("mean", "sd", "shape", "scale", "df") for label in _MOMENTS if label != "uniform"},
}


def _extreme(lmoments: tuple[float, float, float], held: Mapping[str, float]) -> dict[str, float]:
    """By the ratio of the L-moments, (2 (1 - 3^k) / (1 - 2^k)) - 3, with the shape k."""
    first, second, third = lmoments

    def ratio(k: float) -> float:
        return (
            2 * math.log(3) / math.log(2) - 3
            if abs(k) < 1e-9
            else 2 * math.expm1(k * math.log(3)) / math.expm1(k * math.log(2)) - 3
        )

    shape = _ratio_root(ratio, third, -20.0, 0.9999)
    if abs(shape) < 1e-9:
        scale = second / math.log(2)
        return {"location": first - EULER * scale, "scale": scale, "shape": 0.0}
    scale = second * shape / (math.expm1(shape * math.log(2)) * math.gamma(1 - shape))
    return {
        "location": first - scale * (math.gamma(1 - shape) - 1) / shape,
        "scale": scale,
        "shape": shape,
    }


def _generalized_pareto(
    lmoments: tuple[float, float, float], held: Mapping[str, float]
) -> dict[str, float]:
    first, second, _ = lmoments
    mean = first - held["location"]
    shape = 2 - mean / second
    return {"location": held["location"], "scale": mean * (1 - shape), "shape": shape}


def _gumbel_by_lmoments(
    lmoments: tuple[float, float, float], held: Mapping[str, float]
) -> dict[str, float]:
    scale = lmoments[1] / math.log(2)
    return {"location": lmoments[0] - EULER * scale, "scale": scale}


_LMOMENTS: dict[
    str, Callable[[tuple[float, float, float], Mapping[str, float]], dict[str, float]]
] = {
    "generalized extreme value": _extreme,
    "generalized pareto": _generalized_pareto,
    "gumbel": _gumbel_by_lmoments,
}
