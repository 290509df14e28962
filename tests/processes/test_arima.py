"""Tests of Arima processes."""

import numpy as np
from scipy import stats
from scipy.linalg import toeplitz

import kindynos as kd
from tests.common import Case, proof, repeats

SEASONAL = kd.Arima(
    ma=[-0.4], seasonal_ma=[-0.5], differences=1, seasonal_differences=1, season=12, sd=1.0
)


def arma_covariances(phi, theta, count):
    """Autocovariances from 4,000 psi weights, worked out one by one."""
    psi = np.zeros(4000)
    full = np.r_[1.0, theta]
    for k in range(len(psi)):
        psi[k] = (full[k] if k < len(full) else 0.0) + sum(
            p * psi[k - i - 1] for i, p in enumerate(phi) if k > i
        )
    return np.array([psi[: len(psi) - k] @ psi[k:] for k in range(count)])


def log_likelihood(w, phi, theta):
    """The Gaussian likelihood from the whole covariance matrix, with the best sd; NaN are left out
    of it.
    """
    known = ~np.isnan(w)
    matrix = toeplitz(arma_covariances(phi, theta, len(w)))[np.ix_(known, known)]
    w = w[known]
    variance = w @ np.linalg.solve(matrix, w) / len(w)
    return stats.multivariate_normal(np.zeros(len(w)), variance * matrix).logpdf(w)


class Likelihood(Case):
    def test_it_is_that_of_the_whole_covariance_matrix(self):
        w = np.random.default_rng(1).standard_normal(45)
        none = (0, 0, 0, 0)
        for order, seasonal in (
            ((2, 0, 1), none),
            ((0, 0, 2), none),
            ((1, 0, 0), (1, 0, 0, 4)),
            ((1, 0, 1), (0, 0, 1, 4)),
            ((0, 0, 1), (1, 0, 1, 6)),
        ):
            made = kd.Arima.fit(w, order, seasonal, constant=False)
            season = max(made.season, 1)
            ar, ma = np.r_[1, -np.array(made.ar)], np.r_[1, made.ma]
            for values, sign in ((made.seasonal_ar, -1), (made.seasonal_ma, 1)):
                part = np.zeros(season * len(values) + 1)
                part[0] = 1
                part[season::season] = sign * np.array(values)
                ar, ma = (np.convolve(ar, part), ma) if sign < 0 else (ar, np.convolve(ma, part))
            with self.subTest(order=order, seasonal=seasonal):
                self.assertAlmostEqual(
                    made.fitted.log_likelihood, log_likelihood(w, -ar[1:], ma[1:]), places=8
                )

    def test_missing_values_are_integrated_out(self):
        w = kd.Arima(ar=[0.7], ma=[0.3], sd=1.0).paths(60, 1, seed=3)[1:, 0]
        w[[10, 11, 30]] = np.nan
        made = kd.Arima.fit(w, (1, 0, 1), constant=False)
        self.assertAlmostEqual(
            made.fitted.log_likelihood, log_likelihood(w, made.ar, made.ma), places=8
        )
        self.assertEqual(made.fitted.observations, 57)
        self.assertEqual(int(np.isnan(made.residuals()).sum()), 3)

    def test_it_is_the_highest_there_is(self):
        w = kd.Arima(ar=[0.5, 0.2], sd=1.0, constant=3.0).paths(80, 1, seed=1)[1:, 0]
        made = kd.Arima.fit(w, (2, 0, 0))
        best = made.fitted.log_likelihood
        for shift in ((0.02, 0), (-0.02, 0), (0, 0.02), (0, -0.02)):
            self.assertLess(log_likelihood(w - made.constant, np.array(made.ar) + shift, []), best)

    @proof
    def test_terms_that_nearly_cancel_do_not_hide_the_highest_peak(self):
        # white noise, and the highest of 30 searches of its likelihood from random places
        for order, seed, highest in (
            ((1, 0, 1), 5, -198.158),
            ((1, 0, 1), 7, -197.491),
            ((1, 0, 1), 8, -218.168),
            ((2, 0, 1), 9, -208.514),
        ):
            noise = np.random.default_rng(seed).normal(10, 2, 100)
            with self.subTest(order=order, seed=seed):
                found = kd.Arima.fit(noise, order=order).fitted.log_likelihood
                self.assertGreater(found, highest - 0.01)
                self.assertLess(found, highest + 0.01)

    def test_errors_hold_from_both_sides(self):
        truth = kd.Arima(ar=[0.6], ma=[0.3], sd=2.0, constant=10.0)
        gaps, errors = [], []
        near = kd.Arima.fit(truth.paths(1000, 1, seed=1)[1:, 0], (1, 0, 1))
        for series in truth.paths(220, repeats(120), seed=2)[21:].T:
            found = kd.Arima.fit(series, (1, 0, 1), near=near)
            estimates = {
                "ar 1": found.ar[0] - 0.6,
                "ma 1": found.ma[0] - 0.3,
                "sd": found.sd - 2,
                "constant": found.constant - 10,
            }
            gaps.append(list(estimates.values()))
            errors.append([1.96 * found.fitted.standard_errors[name] for name in estimates])
        self.assertCalibrated(gaps, errors)

    def test_with_many_values_intervals_are_the_asymptotic_ones(self):
        made = kd.Arima(ar=[0.6], sd=2.0, constant=10.0)
        found = kd.Arima.fit(made.paths(1_500, 1, seed=2)[1:, 0], (1, 0, 0))
        phi = found.ar[0]
        exact = {
            "ar 1": np.sqrt((1 - phi**2) / 1_500),
            "sd": found.sd / np.sqrt(2 * 1_500),
            "constant": found.sd / (1 - phi) / np.sqrt(1_500),
        }
        for name, wanted in exact.items():
            low, high = found.fitted.intervals[name]
            self.assertAlmostEqual((high - low) / (2 * 1.96 * wanted), 1, delta=0.12, msg=name)

    def test_an_interval_is_that_of_the_likelihood_on_a_grid(self):
        # All values of phi are alike before; the constant and the sd are integrated out.
        made, grid = kd.Arima(ar=[0.9], sd=1.0), np.linspace(-0.9995, 0.9995, 500)
        for seed, count in ((1, 40), (2, 40), (3, 14), (4, 14)):
            series = made.paths(count, 1, seed=seed)[1:, 0]
            full, left = np.empty((2, len(grid)))
            for place, phi in enumerate(grid):
                spread = toeplitz(phi ** np.arange(count)) / (1 - phi**2)
                inverse, half = np.linalg.inv(spread), 0.5 * np.linalg.slogdet(spread)[1]
                ones = inverse.sum()
                gaps = series - inverse.sum(axis=0) @ series / ones
                squares = gaps @ inverse @ gaps
                full[place] = -count / 2 * np.log(squares) - half
                left[place] = -(count - 1) / 2 * np.log(squares) - half - 0.5 * np.log(ones)
            shares = np.cumsum(np.exp(left - left.max()))
            draws = grid[np.searchsorted(shares / shares[-1], [0.025, 0.975])]
            allowed = grid[full > full.max() - stats.chi2(1).ppf(0.95) / 2]
            wanted = min(draws[0], allowed[0]), max(draws[1], allowed[-1])
            found = kd.Arima.fit(series, (1, 0, 0)).fitted.intervals["ar 1"]
            np.testing.assert_allclose(found, wanted, atol=0.05)

    def test_a_coefficient_at_an_end_has_no_standard_error(self):
        noise = np.random.default_rng(2).normal(size=80)  # differenced once too often
        fitted = kd.Arima.fit(noise, (0, 1, 1), constant=True).fitted
        self.assertIn("ma 1", fitted.at_bound)
        self.assertEqual(fitted.standard_errors["ma 1"], np.inf)
        low, high = fitted.intervals["ma 1"]
        self.assertTrue(-1 < low < high < -0.8)

    def test_near_a_unit_root_the_search_does_not_leave_the_peak(self):
        # With these gaps a search by steps without bounds ended at 0.9993.
        made = kd.Arima(ar=[0.95], sd=1.0, constant=0.5)
        for seed in (7, 18, 24):
            series = made.paths(120, 1, seed=seed)[:, 0]
            gaps = np.random.default_rng(seed).choice(np.arange(1, 119), 24, replace=False)
            series[gaps] = np.nan
            known = np.flatnonzero(~np.isnan(series))
            values = series[known]

            def exact(phi, known=known, values=values):
                spread = phi ** np.abs(np.subtract.outer(known, known)) / (1 - phi**2)
                inverse = np.linalg.inv(spread)
                left = values - inverse.sum(axis=0) @ values / inverse.sum()
                sd = np.sqrt(left @ inverse @ left / len(known))
                return stats.multivariate_normal(cov=sd**2 * spread).logpdf(left)

            best = max(exact(phi) for phi in np.arange(0.5, 0.999, 0.01))
            found = kd.Arima.fit(series, (1, 0, 0))
            self.assertGreaterEqual(found.fitted.log_likelihood, best)
            self.assertAlmostEqual(found.fitted.log_likelihood, exact(found.ar[0]), places=6)

    @proof
    def test_intervals_of_short_series_hold(self):
        truth = kd.Arima(ar=[0.9], sd=2.0, constant=10.0)
        names, true = ("ar 1", "sd", "constant"), (0.9, 2.0, 10.0)
        held, half = [], []
        for series in truth.paths(60, repeats(75), seed=5)[20:].T:
            found = kd.Arima.fit(series, (1, 0, 0))
            ends = np.array([found.fitted.intervals[name] for name in names])
            own = np.array([found.ar[0], found.sd, found.constant])
            self.assertTrue(((ends[:, 0] <= own) & (own <= ends[:, 1])).all())
            middle, radius = ends.mean(axis=1), np.ptp(ends, axis=1) / 2
            gaps = np.abs(middle - true)
            held.append(gaps <= radius)
            half.append(gaps <= radius / 2)
        for name, one, two in zip(names, np.sum(held, axis=0), np.sum(half, axis=0), strict=True):
            count = len(held)
            self.assertGreaterEqual(one, stats.binom.ppf(1e-3, count, 0.92), name)
            self.assertLessEqual(two, stats.binom.isf(1e-3, count, 0.85), name)


class Simulation(Case):
    def test_means_and_variances_are_those_of_psi_weights(self):
        history = np.cumsum(np.random.default_rng(5).standard_normal(60)) + 50
        made = kd.Arima(ar=[0.5], ma=[0.4], differences=1, constant=0.2, sd=1.5, history=history)
        paths = made.paths(8, 40_000, seed=1)[1:]
        psi = np.cumsum([1.0, *(0.9 * 0.5**k for k in range(7))])  # of the sums of an ARMA(1, 1)
        variance = 1.5**2 * np.cumsum(psi**2)
        np.testing.assert_allclose(paths.var(axis=1), variance, rtol=0.03)
        np.testing.assert_allclose(
            paths.mean(axis=1),
            made._expected_values(8, 1.0),
            atol=4 * np.sqrt(variance.max() / 40_000),
        )
        self.assertAlmostEqual(made._closed_form_at(8).sd, np.sqrt(variance[-1]))
        self.assertAlmostEqual(float(made.chance(8, above=made._closed_form_at(8).mean)), 0.5)

    def test_autocovariances_settle_at_the_stationary_ones(self):
        made = kd.Arima(ar=[0.6, -0.3], ma=[0.4], sd=1.0, constant=2.0)
        rows = made.paths(60, 40_000, seed=3)[-4:] - 2
        expected = arma_covariances([0.6, -0.3], [0.4], 4)
        np.testing.assert_allclose(
            [(rows[-1] * rows[-1 - k]).mean() for k in range(4)], expected, atol=0.06
        )

    def test_a_forecast_is_the_conditional_mean_of_the_whole_normal(self):
        made = kd.Arima.fit(
            kd.Arima(ar=[0.7], ma=[-0.4], sd=1.0).paths(50, 1, seed=2)[1:, 0],
            (1, 0, 1),
            constant=False,
        )
        matrix = toeplitz(arma_covariances(made.ar, made.ma, 53))
        expected = matrix[50:, :50] @ np.linalg.solve(matrix[:50, :50], np.array(made.history))
        np.testing.assert_allclose(made._expected_values(3, 1.0), expected, atol=1e-6)

    def test_logs_stay_above_zero_and_their_mean_is_lognormal(self):
        history = np.exp(
            np.linspace(3, 4, 40) + 0.05 * np.random.default_rng(1).standard_normal(40)
        )
        made = kd.Arima.fit(history, (0, 1, 1), log=True, constant=True)
        paths = made.paths(6, 40_000, seed=1)
        self.assertGreater(paths.min(), 0)
        np.testing.assert_allclose(paths[1:].mean(axis=1), made._expected_values(6, 1.0), rtol=5e-3)
        self.assertTrue(made.multiplies and made.max_drawdowns(12, 100, seed=1).max() < 1)

    @proof
    def test_uncertain_fans_cover_as_they_say(self):
        truth, inside, half = kd.Arima(ar=[0.8], sd=1.0, constant=5.0), [], []
        for series in truth.paths(72, 60, seed=4)[1:].T:
            fan = kd.Arima.fit(series[:60]).paths(12, 1500, seed=1, uncertain=True)[-1]
            low, middle, high = np.quantile(fan, [0.05, 0.5, 0.95])
            inside.append(low <= series[-1] <= high)
            half.append(abs(series[-1] - middle) <= (high - low) / 4)
        self.assertTrue(0.82 <= np.mean(inside) <= 0.97, np.mean(inside))
        self.assertLess(np.mean(half), 0.75)

    def test_a_model_file_draws_uncertain_parameters(self):
        model = kd.load_model(kd.demo_file("median_month.toml"))
        run = model.simulate(4000, seed=1)
        self.assertGreater(run["median_uncertain"].sd, 1.05 * run["median_as_fitted"].sd)
        np.testing.assert_array_equal(
            kd.load_model(kd.demo_file("median_month.toml"))
            .simulate(500, seed=3)["median_uncertain"]
            .values,
            model.simulate(500, seed=3)["median_uncertain"].values,
        )


class BadInput(Case):
    def test_each_has_its_message(self):
        ten = [3.0, 1, 4, 1, 5, 9, 2, 6, 5, 3]
        for ask, words in (
            (lambda: kd.Arima(ar=[1.1]), "not stationary"),
            (lambda: kd.Arima(ma=[-1.2]), "not invertible"),
            (lambda: kd.Arima(seasonal_ar=[0.5]), "need season="),
            (lambda: kd.Arima(sd=-1), "above 0"),
            (lambda: kd.Arima.fit([1.0] * 20), "all values"),
            (lambda: kd.Arima.fit([1, 2, 3]), "at least"),
            (lambda: kd.Arima.fit([*ten, -1], log=True), "a log needs values above 0"),
            (lambda: kd.Arima.fit([*ten, np.inf]), "infinite"),
            (lambda: kd.Arima.fit(ten, (1, 0)), "three whole numbers"),
            (lambda: kd.Arima.fit(ten, (1, 3, 0)), "d must be at most 2"),
            (
                lambda: kd.Arima.fit(
                    np.random.default_rng(1).standard_normal(30), seasonal=(1, 0, 0, 20)
                ),
                "half the series",
            ),
            (lambda: kd.Arima.fit(np.arange(30.0), (0, 1, 1)), "constant"),
            (lambda: SEASONAL.paths(3, 10, seed=1, dt=0.5), "dt must be 1"),
            (lambda: SEASONAL.distribution_at(1.5), "whole number"),
            (lambda: SEASONAL.residuals(), "history"),
            (lambda: SEASONAL.paths(3, 10, seed=1, uncertain=True), "needs a fitted process"),
        ):
            with self.subTest(words), self.fails(words):
                ask()
        half = np.random.default_rng(1).standard_normal(40)  # a season of just a half will do
        self.assertEqual(kd.Arima.fit(half, seasonal=(1, 0, 0, 20)).season, 20)

    def test_a_file_must_state_what_the_history_gives(self):
        text = (
            kd.demo_file("median_month.toml").read_text("utf-8").replace("ma = [-0.4", "ma = [-0.3")
        )
        from kindynos.model.file import model_from_text

        with self.fails("its history gives ma", "[drivers.uncertain]"):
            model_from_text(text)
        with self.fails("uncertain belongs to a process"):
            model_from_text(
                '[model]\nname="x"\n[drivers.a]\ndistribution="normal"\nmean=1\nsd=1\nuncertain=true\n[outcomes]\ny="a"'
            )
        walk = '[drivers.a]\nprocess="random walk"\nstart=1\ndrift=0\nvolatility=1\nuncertain=true'
        with self.fails("keeps no history"):
            model_from_text(f'[model]\nname="x"\nperiods=3\n{walk}\n[outcomes]\ny="last(a)"')
