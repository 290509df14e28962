"""Tests of the standard errors of maximum likelihood."""

import math

import numpy as np

import kindynos as kd
from kindynos.processes.likelihood import LikelihoodOptimum, Proposed, at_the_peak, lowest, proposed
from tests.common import Case


class Known:
    """Two parameters that are independent and standard normal before any data are seen."""

    def draws(self, generator, count):
        return generator.standard_normal((2, count))

    def logs(self, thetas):
        return -0.5 * (thetas**2).sum(axis=0) - math.log(2 * math.pi)


class Peaks(Case):
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

    def test_draws_are_those_of_the_prior_where_the_data_say_nothing(self):
        # The first has the likelihood of one value 3 with sd 0.1, so it is normal with mean
        # 3 / 1.01 and sd 0.1 / sqrt(1.01); the second only says that it lies below about 100.
        def cost(theta):
            return 50 * (theta[0] - 3) ** 2 + math.log1p(math.exp(theta[1] - 100))

        peak = LikelihoodOptimum(np.array([3.0, -112.0]), np.diag([100.0, 0.0]))
        draws = proposed(cost, peak, [1.0, 1.0], 2000, Known()).picked(2000)
        np.testing.assert_allclose(draws.mean(axis=1), [3 / 1.01, 0], atol=0.08)
        np.testing.assert_allclose(draws.std(axis=1), [0.1 / math.sqrt(1.01), 1], rtol=0.08)

    def test_few_draws_that_bear_the_weight_are_refused(self):
        found = Proposed(np.zeros((1, 100)), np.zeros(100), np.where(np.arange(100) < 49, 0, -99.0))
        with self.fails("of 100 sets that were tried 49 bear the weight", kind=kd.ParameterError):
            found.picked(10)

    def test_prices_of_calm_series_lie_in_their_own_intervals(self):
        # Without clusters, jumps or regimes the interval is that of the lognormal price, whose
        # log is open by the mean return alone.
        for seed in (2, 3):
            returns = 0.01 * np.random.default_rng(seed).standard_normal(250)
            prices = 100 * np.exp(np.cumsum(returns))
            exact = 2 * 1.97 * 60 * returns.std(ddof=1) / math.sqrt(249)
            for process in (kd.Garch, kd.JumpDiffusion, kd.RegimeSwitching):
                with self.subTest(seed=seed, process=process.__name__):
                    median = process.fit(prices).percentile(60, 50, trials=1000, seed=1)
                    self.assertTrue(median.low < median < median.high, median)
                    width = math.log(median.high / median.low) / exact
                    self.assertTrue(0.6 < width < 1.4, width)
