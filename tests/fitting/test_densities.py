"""Tests of the log densities that fits maximize, against SciPy's."""

import numpy as np
from scipy import stats

from kindynos.fitting import densities
from tests.common import Case

X = np.linspace(0.15, 5.85, 40)
K = np.arange(0.0, 12.0)


class Densities(Case):
    def test_continuous_ones(self):
        scaled = 2.0 * np.sqrt((5 - 2) / 5)
        for found, expected in (
            (densities.triangular(X, 0.1, 2.0, 6.0), stats.triang(1.9 / 5.9, 0.1, 5.9)),
            (densities.student(X, 5.0, 1.0, 2.0), stats.t(5, 1, 2)),
            (densities.student_by_moments(X, 5.0, 1.0, 2.0), stats.t(5, 1, scaled)),
            (densities.beta(X, 2.0, 3.0, 0.1, 6.0), stats.beta(2, 3, 0.1, 5.9)),
            (
                densities.pert(X, 0.1, 2.0, 6.0, 4.0),
                stats.beta(1 + 4 * 1.9 / 5.9, 1 + 4 * 4 / 5.9, 0.1, 5.9),
            ),
            (densities.pareto(X, 2.5, 0.1), stats.pareto(2.5, scale=0.1)),
            (densities.uniform(X, 0.1, 6.0), stats.uniform(0.1, 5.9)),
            (densities.logistic(X, 1.0, 2.0), stats.logistic(1, 2 * np.sqrt(3) / np.pi)),
            (densities.laplace(X, 1.0, 2.0), stats.laplace(1, 2 / np.sqrt(2))),
            (densities.cauchy(X, 1.0, 2.0), stats.cauchy(1, 2)),
            (densities.gumbel(X, 1.0, 2.0), stats.gumbel_r(1, 2)),
            (densities.extreme_value(X, 1.0, 2.0, 0.2), stats.genextreme(-0.2, 1, 2)),
            (densities.generalized_pareto(X, 0.1, 2.0, 0.2), stats.genpareto(0.2, 0.1, 2)),
            (densities.skew_normal(X, 1.0, 2.0, 3.0), stats.skewnorm(3, 1, 2)),
            (densities.johnson(X, 0.5, 1.5, 1.0, 2.0), stats.johnsonsu(0.5, 1.5, 1, 2)),
        ):
            with self.subTest(expected.dist.name):
                np.testing.assert_allclose(found, expected.logpdf(X), rtol=1e-10, atol=1e-12)

    def test_counts(self):
        for found, expected in (
            (densities.binomial(K, 15.0, 0.3), stats.binom(15, 0.3)),
            (densities.poisson(K, 3.5), stats.poisson(3.5)),
            (densities.negative_binomial(K, 2.5, 0.4), stats.nbinom(2.5, 0.4)),
            (densities.bernoulli(K[:2], 0.3), stats.bernoulli(0.3)),
        ):
            with self.subTest(expected.dist.name):
                np.testing.assert_allclose(found, expected.logpmf(K[: len(found)]), rtol=1e-9)
        found = densities.geometric(K[1:], 0.3)
        np.testing.assert_allclose(found, stats.geom(0.3).logpmf(K[1:]))
