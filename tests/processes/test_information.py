"""Errors of fitted processes against the information matrix in closed form."""

import numpy as np
from scipy import linalg, stats

import kindynos as kd
from kindynos.processes.regime_filter import climbed, filtered
from tests.common import Case


class Information(Case):
    """Of a long series, the errors are those of Fisher's information."""

    def test_autoregression(self):
        n, phi, sd, mean = 4000, 0.6, 2.0, 10.0
        series = kd.Arima(ar=[phi], sd=sd, constant=mean).paths(n, 1, seed=1)[1:, 0]
        found = kd.Arima.fit(series, (1, 0, 0))
        phi = found.ar[0]
        errors = found.fitted.standard_errors
        self.assertAlmostEqual(
            errors["ar 1"], np.sqrt((1 - phi**2) / n), delta=0.01 * errors["ar 1"]
        )
        self.assertAlmostEqual(errors["sd"], found.sd / np.sqrt(2 * n))
        wanted = found.sd / ((1 - phi) * np.sqrt(n))
        self.assertAlmostEqual(errors["constant"], wanted, delta=0.03 * wanted)

    def test_moving_average_and_both(self):
        n = 4000
        series = kd.Arima(ma=[0.5], sd=1.0).paths(n, 1, seed=2)[1:, 0]
        found = kd.Arima.fit(series, (0, 0, 1), constant=False)
        wanted = np.sqrt((1 - found.ma[0] ** 2) / n)
        self.assertAlmostEqual(found.fitted.standard_errors["ma 1"], wanted, delta=0.03 * wanted)

        series = kd.Arima(ar=[0.7], ma=[0.3], sd=1.0).paths(n, 1, seed=3)[1:, 0]
        found = kd.Arima.fit(series, (1, 0, 1), constant=False)
        phi, theta = found.ar[0], found.ma[0]
        # Box and Jenkins: the covariance of both, from their information matrix.
        scale = (1 + phi * theta) / (n * (phi + theta) ** 2)
        for name, value in (("ar 1", phi), ("ma 1", theta)):
            wanted = np.sqrt(scale * (1 - value**2) * (1 + phi * theta))
            self.assertAlmostEqual(found.fitted.standard_errors[name], wanted, delta=0.03 * wanted)

    def test_growth(self):
        n, dt = 500, 1 / 252
        truth = kd.GeometricBrownianMotion(100.0, drift=0.08, volatility=0.2)
        prices = truth.paths(n, 1, seed=4, dt=dt)[:, 0]
        found = kd.GeometricBrownianMotion.fit(prices, dt)
        errors = found.fitted.standard_errors
        self.assertAlmostEqual(
            errors["volatility"] / found.volatility, 1 / np.sqrt(2 * n), delta=1e-3
        )
        wanted = found.volatility / np.sqrt(n * dt)
        self.assertAlmostEqual(errors["drift"], wanted, delta=0.03 * wanted)


class Diagnostics(Case):
    def test_ljung_and_box_take_off_the_parameters(self):
        series = kd.Arima(ar=[0.5], sd=1.0).paths(300, 1, seed=5)[1:, 0]
        found = kd.Arima.fit(series, (1, 0, 0))
        gaps = found.residuals()
        gaps = gaps[~np.isnan(gaps)]
        tests = {test.name: test for test in kd.diagnose(found).tests}
        test = next(one for name, one in tests.items() if "Ljung" in name)
        n = len(gaps)
        centred = gaps - gaps.mean()
        lags = next(
            lags
            for lags in range(2, 60)
            if abs(
                stats.chi2.sf(
                    n
                    * (n + 2)
                    * sum(
                        (np.sum(centred[k:] * centred[:-k]) / np.sum(centred**2)) ** 2 / (n - k)
                        for k in range(1, lags + 1)
                    ),
                    lags - 1,
                )
                - test.p
            )
            < 1e-6
        )
        self.assertGreaterEqual(lags, 5)


class Regimes(Case):
    def test_the_likelihood_is_that_of_a_hidden_chain(self):
        truth = kd.RegimeSwitching(100.0, drifts=(0.1, -0.3), volatilities=(0.1, 0.4), rates=(4, 8))
        prices = truth.paths(400, 1, seed=3, dt=1 / 52)[:, 0]
        returns = np.diff(np.log(prices))
        theta = np.array([0.002, -0.004, np.log(0.015), np.log(0.05), -2.5, -1.5])
        leave = 1 / (1 + np.exp(-theta[4:]))
        move = np.array([[1 - leave[0], leave[0]], [leave[1], 1 - leave[1]]])
        steady = np.array([leave[1], leave[0]]) / leave.sum()
        density = stats.norm.pdf(returns[:, None], theta[:2], np.exp(theta[2:4]))
        forward, logs = steady, 0.0
        for row in density:
            seen = forward * row
            logs += np.log(seen.sum())
            forward = seen / seen.sum() @ move
        found, wild = filtered(returns, theta)
        self.assertAlmostEqual(found, logs)
        self.assertAlmostEqual(wild, forward[1])

    def test_the_climb_is_the_maximum(self):
        truth = kd.RegimeSwitching(100.0, drifts=(0.1, -0.3), volatilities=(0.1, 0.4), rates=(4, 8))
        returns = np.diff(np.log(truth.paths(600, 1, seed=4, dt=1 / 52)[:, 0]))
        best = climbed(returns)
        top = filtered(returns, best)[0]
        for place in range(6):
            for step in (-0.05, 0.05):
                other = best.copy()
                other[place] += step * (0.05 if place < 2 else 1.0)
                self.assertLess(filtered(returns, other)[0], top + 1e-6)

    def test_a_fit_has_the_growth_and_the_rates_of_its_likeliest_months(self):
        truth = kd.RegimeSwitching(100.0, drifts=(0.1, -0.3), volatilities=(0.1, 0.4), rates=(4, 8))
        prices = truth.paths(600, 1, seed=4, dt=1 / 52)[:, 0]
        best = climbed(np.diff(np.log(prices)))
        found = kd.RegimeSwitching.fit(prices, 1 / 52)
        means, sds = np.array(best[:2]), np.exp(best[2:4])
        # a price grows by exp(mean + sd**2 / 2) a week
        np.testing.assert_allclose(np.exp(np.array(found.drifts) / 52), np.exp(means + sds**2 / 2))
        np.testing.assert_allclose(found.volatilities, sds * np.sqrt(52))
        leave = 1 / (1 + np.exp(-np.array(best[4:])))
        rates = np.array([[-1.0, 1.0], [1.0, -1.0]]) * np.array(found.rates)[:, None]
        np.testing.assert_allclose(
            linalg.expm(rates / 52), [[1 - leave[0], leave[0]], [leave[1], 1 - leave[1]]]
        )
