"""Distributions with many parameters, each beside its counterpart in SciPy where it has one."""

import math

from scipy import stats

import kindynos as kd

SIGMA = math.sqrt(math.log1p(0.25))


DISTRIBUTIONS = [
    (kd.Normal(3, 2), stats.norm(3, 2)),
    (kd.LogNormal(20, 10), stats.lognorm(SIGMA, scale=20 / math.exp(SIGMA**2 / 2))),
    (kd.Uniform(-1, 4), stats.uniform(-1, 5)),
    (kd.Triangular(1, 2, 6), stats.triang(0.2, 1, 5)),
    (kd.Triangular(1, 1, 6), stats.triang(0, 1, 5)),
    (kd.Triangular(1, 6, 6), stats.triang(1, 1, 5)),
    (kd.Pert(17.5, 19, 26), stats.beta(1 + 4 * 1.5 / 8.5, 1 + 4 * 7 / 8.5, 17.5, 8.5)),
    (kd.Pert(0, 0, 1, weight=2), stats.beta(1, 3)),
    (kd.Beta(30, 19), stats.beta(30, 19)),
    (kd.Beta(0.6, 2, -1, 3), stats.beta(0.6, 2, -1, 4)),
    (kd.StudentT(5, 1, 2), stats.t(5, 1, 2 * math.sqrt(3 / 5))),
    (kd.StudentT(200, 0, 1), stats.t(200, 0, math.sqrt(198 / 200))),
    (kd.StudentT.from_location(1.5, 0, 1), stats.t(1.5)),
    (kd.Logistic(3, 2), stats.logistic(3, 2 * math.sqrt(3) / math.pi)),
    (kd.Laplace(3, 2), stats.laplace(3, 2 / math.sqrt(2))),
    (kd.Cauchy(1, 2), stats.cauchy(1, 2)),
    (kd.JohnsonSU(1, 2, 3, 4), stats.johnsonsu(1, 2, 3, 4)),
    (kd.Gamma(2.5, 3), stats.gamma(2.5, scale=3)),
    (kd.Gamma(0.3, 3), stats.gamma(0.3, scale=3)),
    (kd.Exponential(4), stats.expon(scale=4)),
    (kd.Weibull(1.7, 3), stats.weibull_min(1.7, scale=3)),
    (kd.LogLogistic(3, 4), stats.fisk(4, scale=3)),
    (kd.Pareto(4, 2), stats.pareto(4, scale=2)),
    (kd.Gumbel(1, 2), stats.gumbel_r(1, 2)),
    (kd.GeneralizedExtremeValue(1, 2, 0.2), stats.genextreme(-0.2, 1, 2)),
    (kd.GeneralizedExtremeValue(1, 2, -0.2), stats.genextreme(0.2, 1, 2)),
    (kd.GeneralizedExtremeValue(1, 2, 0), stats.gumbel_r(1, 2)),
    (kd.GeneralizedPareto(1, 2, 0.2), stats.genpareto(0.2, 1, 2)),
    (kd.GeneralizedPareto(1, 2, -0.3), stats.genpareto(-0.3, 1, 2)),
    (kd.Uniform(0, 1) * 4 - 1, stats.uniform(-1, 4)),
    (5 - kd.Gamma(2.5, 3), None),
    (kd.Normal(0, 1).truncate(-0.5, 2), stats.truncnorm(-0.5, 2)),
    (kd.Normal(0, 1).truncate(1, None), None),
    (kd.Normal(0, 1).truncate(6, 8), stats.truncnorm(6, 8)),
    (kd.Exponential(4).truncate(None, 6), stats.truncexpon(1.5, scale=4)),
    (kd.Histogram([0, 1, 3, 4], [2, 5, 3]), None),
    (kd.SkewNormal(1, 2, 1), None),
    (kd.InverseGaussian(2, 8), stats.invgauss(2 / 8, scale=8)),
    (kd.Empirical([1, 5, 2, 9, 4], [1, 2, 1, 1, 3]), None),
    (kd.KernelDensity([1, 2, 4, 7, 7.5]), None),
    (kd.Mixture([kd.Normal(0, 1), kd.Gamma(3, 2)], [1, 3]), None),
]
