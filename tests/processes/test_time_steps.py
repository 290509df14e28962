"""Tests of fits with another step between the values, and of a likelihood by SciPy's density."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case


class TimeSteps(Case):
    def test_volatility_that_clusters_scales_with_the_moves(self):
        returns = np.diff(np.log(kd.Garch(100.0, 0.01, 0.1, 0.9).paths(500, 1, seed=4)[:, 0]))
        one, small = (
            kd.Garch.fit(100 * np.exp(np.cumsum(np.r_[0, size * returns]))) for size in (1.0, 0.01)
        )
        self.assertAlmostEqual(small.volatility / one.volatility, 0.01, 4)
        self.assertAlmostEqual(small.reaction, one.reaction, 3)
        self.assertAlmostEqual(small.persistence, one.persistence, 3)

    """Fits of the same series with another step between the values: rates go by 1 / dt, and
    volatilities by its root.
    """

    def test_regimes_and_jumps_scale_with_the_step(self):
        rng = np.random.default_rng(8)
        calm = rng.random(500) < 0.7
        prices = 100 * np.exp(np.cumsum(np.where(calm, 0.005, 0.03) * rng.standard_normal(500)))
        one, four = (kd.RegimeSwitching.fit(prices, dt=dt) for dt in (1.0, 0.25))
        np.testing.assert_allclose(
            np.array(four.volatilities), 2 * np.array(one.volatilities), rtol=1e-3
        )
        np.testing.assert_allclose(np.array(four.rates), 4 * np.array(one.rates), rtol=1e-2)
        one, four = (kd.JumpDiffusion.fit(prices, dt=dt) for dt in (1.0, 0.25))
        self.assertAlmostEqual(four.volatility / one.volatility, 2, delta=1e-3)
        self.assertAlmostEqual(four.rate / one.rate, 4, delta=1e-2)
        self.assertAlmostEqual(four.jump_sd / one.jump_sd, 1, delta=1e-2)


class Likelihoods(Case):
    def test_a_garch_likelihood_with_student_shocks(self):
        rng = np.random.default_rng(5)
        returns = 0.01 * rng.standard_t(6, 600) * np.sqrt(4 / 6)
        found = kd.Garch.fit(100 * np.exp(np.concatenate([[0.0], np.cumsum(returns)])))
        residuals = found.residuals()
        shocks = returns - found.mean
        volatility = shocks / residuals
        expected = stats.t(found.df, 0, np.sqrt((found.df - 2) / found.df)).logpdf(residuals)
        self.assertAlmostEqual(
            found.fitted.log_likelihood, float((expected - np.log(volatility)).sum()), places=5
        )
