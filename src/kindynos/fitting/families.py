"""What fitting must know of each distribution: its log density, the scales of its parameters, and
where to begin.

To make a distribution fittable: its log density in ``densities`` and its entry in ``FAMILIES``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions import bounded, counts, extremes, normal, positive, real_line
from kindynos.fitting import densities, exact
from kindynos.fitting.data import Data
from kindynos.fitting.scales import (
    ABOVE_ZERO,
    LOCATION,
    REAL,
    SHARE,
    SIGNED,
    SPREAD,
    Scale,
    above_by,
)

Starts = Callable[[Data, Mapping[str, Any]], list[dict[str, float]]]
Exact = Callable[[Data, Mapping[str, Any]], dict[str, Any] | None]


@dataclass(frozen=True)
class Family:
    """How one distribution is fitted.

    ``starts`` gives parameters to begin from, ``exact`` the maximum in closed form where there is
    one. ``at_data`` are ends whose maximum is the smallest (-1) or largest (1) value; ``needed``
    cannot be fitted and must be given; ``limits`` says what it means that a parameter goes to
    the end of its scale, and there the value of theta.
    """

    kind: Any
    log_density: Callable[..., Floats]
    scales: Mapping[str, Scale]
    starts: Starts | None = None
    exact: Exact | None = None
    low: float = -math.inf
    high: float = math.inf
    open_ends: bool = True  # whether a value at an end of the support has density 0 or infinity
    whole: bool = False
    at_data: Mapping[str, int] = field(default_factory=dict)
    needed: tuple[str, ...] = ()
    limits: Mapping[str, tuple[float, str]] = field(default_factory=dict)
    smooth: bool = True  # whether the likelihood has derivatives at its maximum

    def __reduce__(self) -> Any:
        return _named, (self.label,)

    @property
    def label(self) -> str:
        """The name in model files."""
        return str(self.kind.label)


def _quartiles(data: Data) -> tuple[float, float]:
    """Return the median, and half the distance of the quartiles."""
    low, middle, high = data.quantiles((0.25, 0.5, 0.75))
    return middle, max((high - low) / 2, 1e-3 * data.sd)


def _around_median(factor: float, *names: str) -> Starts:
    def starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
        middle, reach = _quartiles(data)
        return [dict(zip(names, (middle, factor * reach), strict=True))]

    return starts


def _student_starts(location: str, spread: str) -> Starts:
    def starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
        middle, reach = _quartiles(data)
        return [
            {"df": df, location: middle, spread: width * reach}
            for df, width in ((4.0, 1.9), (12.0, 1.5), (2.5, 2.5))
        ]

    return starts


def _extreme_starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    scale = data.sd * math.sqrt(6) / math.pi
    location = data.mean - extremes.EULER * scale
    wide = {"location": location, "scale": 1.5 * scale, "shape": 0.05}
    return [
        {"location": location, "scale": scale, "shape": shape} for shape in (0.0, 0.1, -0.15)
    ] + [wide]


def _pareto_starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    """Begin from the top of the likelihood along bend = shape / scale, where the shape is the mean
    of log(1 + bend x).
    """
    gaps = data.values - fixed["location"]
    largest = float(gaps.max())
    bends = PARETO_BENDS / largest
    for finer in (True, True, False):
        with np.errstate(all="ignore"):
            shapes = np.log1p(np.multiply.outer(bends, gaps)) @ data.weights / data.total
            height = np.where(shapes > -0.95, -np.log(shapes / bends) - shapes, -np.inf)
        best = int(np.argmax(np.where(np.isnan(height), -np.inf, height)))
        by_name = {"scale": float(shapes[best] / bends[best]), "shape": float(shapes[best])}
        if finer:
            bends = np.linspace(bends[max(best - 1, 0)], bends[min(best + 1, len(bends) - 1)], 6)
            bends = bends[bends != 0]
    mean = data.mean - fixed["location"]
    return [by_name, {"scale": mean, "shape": 0.0}, {"scale": 1.02 * 0.4 * largest, "shape": -0.4}]


def _skew_starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    skew_starts = []
    for skewness in (max(min(data.skewness, 0.9), -0.9), 0.3, -0.3):
        size = (2 * abs(skewness) / (4 - math.pi)) ** (2 / 3)
        delta = math.copysign(math.sqrt(min(math.pi / 2 * size / (1 + size), 0.98)), skewness)
        scale = data.sd / math.sqrt(1 - 2 * delta**2 / math.pi)
        location = data.mean - scale * delta * math.sqrt(2 / math.pi)
        skew_starts.append(
            {"location": location, "scale": scale, "shape": delta / math.sqrt(1 - delta**2)}
        )
    return skew_starts


def _johnson_starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    middle, reach = _quartiles(data)
    lean = -math.copysign(0.3, data.skewness)
    return [
        {"a": shift, "b": tail, "location": middle + shift * reach, "scale": tail * 1.4 * reach}
        for shift, tail in ((0.0, 1.5), (lean, 1.2), (4 * lean, 2.5))
    ]


def _beta_starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    width = fixed["high"] - fixed["low"]
    mean, variance = (data.mean - fixed["low"]) / width, (data.sd / width) ** 2
    total = max(mean * (1 - mean) / variance - 1, 0.1)
    return [{"a": max(mean * total, 0.05), "b": max((1 - mean) * total, 0.05)}]


def _pert_starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    low, high, weight = fixed["low"], fixed["high"], fixed.get("weight", 4.0)
    mode = (data.mean * (weight + 2) - low - high) / weight
    margin = 0.02 * (high - low)
    return [{"mode": min(max(mode, low + margin), high - margin), "weight": weight}]


def _binomial_start(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
    mean, variance = max(data.mean, 1e-3), data.sd**2
    share = min(max(mean / variance, 0.02), 0.98) if variance > 0 else 0.9
    return [{"successes": mean * p / (1 - p), "probability": p} for p in (share, 0.5)]


def _log_spread(*names: str, inverse: float) -> Starts:
    """Return starts of a scale and a shape that is ``inverse`` over the sd of the logs."""

    def starts(data: Data, fixed: Mapping[str, Any]) -> list[dict[str, float]]:
        centre, sd = data.log_moments
        return [
            dict(
                zip(
                    names,
                    (math.exp(centre + (0.5 * sd if inverse > 1.2 else 0.0)), inverse / sd),
                    strict=True,
                )
            )
        ]

    return starts


# over the largest value
PARETO_BENDS = np.concatenate([np.geomspace(0.02, 1, 6) - 1.001, np.geomspace(0.05, 300, 8)])
# replaced by the ends where they are known
MODE = Scale(lambda t, c, s: t, lambda v, c, s: v, lambda v, c, s: 1.0)
MUCH = math.log(1e6)
NORMAL_DF = math.log(1e8)
_NORMAL_LIMIT = (
    "the data are no more heavy-tailed than normal ones: {name} goes to infinity, "
    "where this is the normal distribution"
)
_LOGNORMAL_LIMIT = (
    "the tails are no heavier than a normal or lognormal distribution's, towards which b runs off"
)
_FAMILIES = (
    Family(normal.Normal, densities.normal, {"mean": LOCATION, "sd": SPREAD}, exact=exact.normal),
    Family(
        normal.LogNormal,
        densities.lognormal,
        {"mean": SPREAD, "sd": SPREAD},
        exact=exact.lognormal,
        low=0.0,
        starts=lambda data, fixed: [{"mean": data.mean, "sd": data.sd}],
    ),
    Family(
        bounded.Uniform,
        densities.uniform,
        {"low": LOCATION, "high": LOCATION},
        at_data={"low": -1, "high": 1},
        open_ends=False,
    ),
    Family(
        bounded.Triangular,
        densities.triangular,
        {"low": LOCATION, "mode": MODE, "high": LOCATION},
        needed=("low", "high"),
        exact=exact.triangular,
        smooth=False,
    ),
    Family(
        bounded.Pert,
        densities.pert,
        {"low": LOCATION, "mode": MODE, "high": LOCATION, "weight": ABOVE_ZERO},
        starts=_pert_starts,
        needed=("low", "high"),
        limits={"mode": (14.0, "the likeliest value goes to an end of the range")},
    ),
    Family(
        bounded.Beta,
        densities.beta,
        {"a": ABOVE_ZERO, "b": ABOVE_ZERO, "low": LOCATION, "high": LOCATION},
        starts=_beta_starts,
        needed=("low", "high"),
    ),
    Family(
        positive.Gamma,
        densities.gamma,
        {"shape": ABOVE_ZERO, "scale": SPREAD},
        low=0.0,
        exact=exact.gamma,
        starts=lambda data, fixed: [
            {"shape": (data.mean / data.sd) ** 2, "scale": data.sd**2 / data.mean}
        ],
    ),
    Family(
        positive.Exponential,
        densities.exponential,
        {"mean": SPREAD},
        low=0.0,
        exact=exact.exponential,
        open_ends=False,
        starts=lambda data, fixed: [{"mean": data.mean}],
    ),
    Family(
        positive.Weibull,
        densities.weibull,
        {"shape": ABOVE_ZERO, "scale": SPREAD},
        low=0.0,
        exact=exact.weibull,
        starts=_log_spread("scale", "shape", inverse=1.28),
    ),
    Family(
        positive.LogLogistic,
        densities.log_logistic,
        {"scale": SPREAD, "shape": ABOVE_ZERO},
        low=0.0,
        exact=exact.log_logistic,
        starts=_log_spread("scale", "shape", inverse=1.0),
    ),
    Family(
        positive.InverseGaussian,
        densities.inverse_gaussian,
        {"mean": SPREAD, "shape": SPREAD},
        low=0.0,
        exact=exact.inverse_gaussian,
        starts=lambda data, fixed: [{"mean": data.mean, "shape": data.mean**3 / data.sd**2}],
    ),
    Family(
        real_line.StudentT,
        densities.student_by_moments,
        {"df": above_by(2.0), "mean": LOCATION, "sd": SPREAD},
        starts=_student_starts("mean", "sd"),
        limits={"df": (NORMAL_DF, _NORMAL_LIMIT)},
    ),
    Family(
        real_line.StudentTByScale,
        densities.student,
        {"df": ABOVE_ZERO, "location": LOCATION, "scale": SPREAD},
        starts=_student_starts("location", "scale"),
        limits={"df": (NORMAL_DF, _NORMAL_LIMIT)},
    ),
    Family(
        real_line.Logistic,
        densities.logistic,
        {"mean": LOCATION, "sd": SPREAD},
        starts=_around_median(1.6, "mean", "sd"),
    ),
    Family(
        real_line.Laplace,
        densities.laplace,
        {"mean": LOCATION, "sd": SPREAD},
        exact=exact.laplace,
        smooth=False,
        starts=_around_median(2.0, "mean", "sd"),
    ),
    Family(
        real_line.Cauchy,
        densities.cauchy,
        {"location": LOCATION, "scale": SPREAD},
        starts=_around_median(1.0, "location", "scale"),
    ),
    Family(
        real_line.SkewNormal,
        densities.skew_normal,
        {"location": LOCATION, "scale": SPREAD, "shape": SIGNED},
        starts=_skew_starts,
        limits={
            "shape": (
                math.asinh(1e3),
                "the shape goes to infinity, where this is the half of a normal distribution",
            )
        },
    ),
    Family(
        real_line.JohnsonSU,
        densities.johnson,
        {"a": REAL, "b": ABOVE_ZERO, "location": LOCATION, "scale": SPREAD},
        starts=_johnson_starts,
        limits={"b": (math.log(1e3), _LOGNORMAL_LIMIT)},
    ),
    Family(
        extremes.Gumbel,
        densities.gumbel,
        {"location": LOCATION, "scale": SPREAD},
        starts=lambda data, fixed: [
            {n: one[n] for n in ("location", "scale")} for one in _extreme_starts(data, fixed)[:1]
        ],
    ),
    Family(
        extremes.GeneralizedExtremeValue,
        densities.extreme_value,
        {"location": LOCATION, "scale": SPREAD, "shape": REAL},
        starts=_extreme_starts,
    ),
    Family(
        extremes.GeneralizedPareto,
        densities.generalized_pareto,
        {"location": LOCATION, "scale": SPREAD, "shape": REAL},
        starts=_pareto_starts,
        at_data={"location": -1},
        open_ends=False,
    ),
    Family(
        extremes.Pareto,
        densities.pareto,
        {"shape": ABOVE_ZERO, "low": SPREAD},
        low=0.0,
        at_data={"low": -1},
        exact=exact.pareto,
    ),
    Family(
        counts.Bernoulli,
        densities.bernoulli,
        {"probability": SHARE},
        low=0,
        high=1,
        whole=True,
        open_ends=False,
        exact=exact.bernoulli,
    ),
    Family(
        counts.Binomial,
        densities.binomial,
        {"trials": ABOVE_ZERO, "probability": SHARE},
        low=0,
        whole=True,
        open_ends=False,
        needed=("trials",),
        exact=exact.binomial,
    ),
    Family(
        counts.Poisson,
        densities.poisson,
        {"mean": ABOVE_ZERO},
        low=0,
        whole=True,
        open_ends=False,
        exact=exact.poisson,
    ),
    Family(
        counts.Geometric,
        densities.geometric,
        {"probability": SHARE},
        low=1,
        whole=True,
        open_ends=False,
        exact=exact.geometric,
    ),
    Family(
        counts.NegativeBinomial,
        densities.negative_binomial,
        {"successes": ABOVE_ZERO, "probability": SHARE},
        low=0,
        whole=True,
        open_ends=False,
        starts=_binomial_start,
        limits={
            "successes": (
                MUCH,
                "the counts scatter no more than Poisson ones, towards which successes runs off",
            )
        },
    ),
    Family(
        counts.IntegerUniform,
        densities.integer_uniform,
        {"low": LOCATION, "high": LOCATION},
        whole=True,
        at_data={"low": -1, "high": 1},
        open_ends=False,
    ),
)
FAMILIES: dict[str, Family] = {family.label: family for family in _FAMILIES}


def _named(label: str) -> Family:
    """Return a family by its label, as which it travels to other processes."""
    return FAMILIES[label]
