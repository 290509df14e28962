"""Every distribution by its name in model files. To add one: its class in a file beside this one,
and its place here.
"""

from __future__ import annotations

from kindynos.distributions.base import Affine, Distribution, Truncated
from kindynos.distributions.bounded import Beta, Pert, Triangular, Uniform
from kindynos.distributions.compound import Compound
from kindynos.distributions.counts import (
    Bernoulli,
    Binomial,
    Geometric,
    Hypergeometric,
    IntegerUniform,
    NegativeBinomial,
    Poisson,
)
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.event_impact import EventImpact
from kindynos.distributions.extremes import (
    GeneralizedExtremeValue,
    GeneralizedPareto,
    Gumbel,
    Pareto,
)
from kindynos.distributions.from_data import Empirical, Histogram, KernelDensity
from kindynos.distributions.mixture import Mixture
from kindynos.distributions.normal import LogNormal, Normal
from kindynos.distributions.positive import (
    Exponential,
    Gamma,
    InverseGaussian,
    LogLogistic,
    Weibull,
)
from kindynos.distributions.real_line import (
    Cauchy,
    JohnsonSU,
    Laplace,
    Logistic,
    SkewNormal,
    StudentT,
    StudentTByScale,
)
from kindynos.distributions.recalibrated import Recalibrated
from kindynos.distributions.smooth import SmoothPercentiles
from kindynos.distributions.transforms import Clipped
from kindynos.distributions.uncertain import Uncertain
from kindynos.registry import Registry

_CLASSES: tuple[type[Distribution], ...] = (
    *(
        Normal,
        LogNormal,
        Uniform,
        Triangular,
        Pert,
        Beta,
        Gamma,
        Exponential,
        Weibull,
        StudentT,
        StudentTByScale,
    ),
    *(
        Logistic,
        Laplace,
        Gumbel,
        GeneralizedExtremeValue,
        GeneralizedPareto,
        Pareto,
        SkewNormal,
        JohnsonSU,
    ),
    *(InverseGaussian, LogLogistic, Cauchy),
    *(
        Discrete,
        Bernoulli,
        Binomial,
        Poisson,
        Geometric,
        NegativeBinomial,
        Hypergeometric,
        IntegerUniform,
    ),
    *(Empirical, Histogram, KernelDensity, SmoothPercentiles),
    *(Mixture, Uncertain, Truncated, Clipped, Affine, Compound, EventImpact, Recalibrated),
)

CATALOGUE: Registry[type[Distribution]] = Registry(
    "distribution", {kind.label: kind for kind in _CLASSES}
)
