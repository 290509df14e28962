"""Laws of one uncertain number. To add one: a class in a file here, and its line in CATALOGUE."""

from __future__ import annotations

from kindynos.distributions.base import Distribution
from kindynos.distributions.bounded import Beta, Pert, Triangular, Uniform
from kindynos.distributions.built import Affine, Clipped, Truncated
from kindynos.distributions.compound import Compound
from kindynos.distributions.counts import (
    Bernoulli,
    Binomial,
    Geometric,
    NegativeBinomial,
    Poisson,
)
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.extremes import GeneralizedExtremeValue, GeneralizedPareto, Gumbel, Pareto
from kindynos.distributions.from_data import Empirical, Histogram, KernelDensity
from kindynos.distributions.lots import Hypergeometric, IntegerUniform
from kindynos.distributions.mixture import Mixture
from kindynos.distributions.normal import LogNormal, Normal
from kindynos.distributions.positive import (
    Exponential,
    Gamma,
    InverseGaussian,
    LogLogistic,
    Weibull,
)
from kindynos.distributions.real_line import Cauchy, JohnsonSU, Laplace, Logistic, SkewNormal, StudentT, StudentTByScale
from kindynos.distributions.smooth import SmoothPercentiles

CATALOGUE: dict[str, type[Distribution]] = {
    law.label: law
    for law in (
        *(Normal, LogNormal, Uniform, Triangular, Pert, Beta, Gamma, Exponential, Weibull, StudentT, StudentTByScale),
        *(Logistic, Laplace, Gumbel, GeneralizedExtremeValue, GeneralizedPareto, Pareto, SkewNormal, JohnsonSU),
        *(InverseGaussian, LogLogistic, Cauchy),
        *(Discrete, Bernoulli, Binomial, Poisson, Geometric, NegativeBinomial, Hypergeometric, IntegerUniform),
        *(Empirical, Histogram, KernelDensity, SmoothPercentiles),
        *(Mixture, Truncated, Clipped, Affine, Compound),
    )
}

__all__ = [
    "CATALOGUE",
    "Affine",
    "Bernoulli",
    "Beta",
    "Binomial",
    "Cauchy",
    "Clipped",
    "Compound",
    "Discrete",
    "Distribution",
    "Empirical",
    "Exponential",
    "Gamma",
    "GeneralizedExtremeValue",
    "GeneralizedPareto",
    "Geometric",
    "Gumbel",
    "Histogram",
    "Hypergeometric",
    "IntegerUniform",
    "InverseGaussian",
    "JohnsonSU",
    "KernelDensity",
    "Laplace",
    "LogLogistic",
    "LogNormal",
    "Logistic",
    "Mixture",
    "NegativeBinomial",
    "Normal",
    "Pareto",
    "Pert",
    "Poisson",
    "SkewNormal",
    "SmoothPercentiles",
    "StudentT",
    "StudentTByScale",
    "Triangular",
    "Truncated",
    "Uniform",
    "Weibull",
]
