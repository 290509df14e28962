"""Tests of the standard errors of maximum likelihood."""

import math

import numpy as np

from kindynos.processes.likelihood import at_the_peak, lowest
from tests.common import Case


class LikelihoodOptimum(Case):
    def test_errors_are_those_of_the_exponential_and_the_normal_in_closed_form(self):
        # Exponential data in the logarithm of the mean: the information is the number of values.
        mean, count = 20.0, 50
        theta, covariance = at_the_peak(
            lambda t: count * (t[0] + mean * math.exp(-t[0])), [math.log(20.0)]
        )
        self.assertAlmostEqual(covariance[0][0], 1 / count, delta=1e-5)
        self.assertEqual(theta, (math.log(20.0),))
        # Normal data in mean and log sd: sd**2 / n and 1 / (2 n), uncorrelated.
        values = np.random.default_rng(1).normal(5, 2, 80)
        centre, sd = values.mean(), values.std()

        def cost(t):
            return float(80 * t[1] + 0.5 * ((values - t[0]) ** 2).sum() * math.exp(-2 * t[1]))

        _, covariance = at_the_peak(cost, [centre, math.log(sd)])
        np.testing.assert_allclose(covariance, [[sd**2 / 80, 0], [0, 1 / 160]], atol=2e-5)
        np.testing.assert_allclose(lowest(cost, [[3.0, 0.0]]), [centre, math.log(sd)], atol=1e-3)
