"""Tests of exponential smoothing and of prices whose volatility clusters."""

from dataclasses import replace

import numpy as np
from scipy import optimize, special, stats

import kindynos as kd
from kindynos.processes.smoothing_fit import Form, SmoothingLikelihood
from tests.common import Case, proof, repeats

TREND = kd.ExponentialSmoothing(level=100.0, level_weight=0.4, sd=2.0, trend=0.5, trend_weight=0.1)


def dense_likelihood(process, series):
    """The log likelihood of the weights of a process, its sd, and three forecasts, by the normal
    density of all known values together, with the first states by generalized least squares.
    """
    count, length = len(series) + 3, len(process.season)
    trending = process.trend_weight is not None
    powers = np.cumsum(process.damping ** np.arange(1, count + 1))
    after = np.full(count, process.level_weight)
    if trending:
        after += process.trend_weight * powers
    if length:
        after[length - 1 :: length] += process.season_weight
    effects = np.eye(count)
    for t in range(1, count):
        effects[t, :t] = after[:t][::-1]
    columns = [np.ones(count)] + [powers] * trending
    columns += [(np.arange(count) % length == place) * 1.0 for place in range(1, length)]
    design, whole = np.array(columns).T, effects @ effects.T
    known = np.flatnonzero(~np.isnan(series))
    covariance, known_design = whole[np.ix_(known, known)], design[known]
    inverse = np.linalg.inv(covariance)
    states = np.linalg.solve(
        known_design.T @ inverse @ known_design, known_design.T @ inverse @ series[known]
    )
    left = series[known] - known_design @ states
    sd = np.sqrt(left @ inverse @ left / len(known))
    value = stats.multivariate_normal(cov=sd**2 * covariance).logpdf(left)
    ahead = design[-3:] @ states + whole[-3:, known] @ inverse @ left
    return value, sd, ahead


class Smoothing(Case):
    def test_what_is_solved_for_is_what_the_forecasts_leave(self):
        rng = np.random.default_rng(1)
        season = np.array([0.7, 1.0, 1.4, 0.9])
        series = np.tile(season, 12) * (100 + np.arange(48)) * np.exp(0.05 * rng.normal(size=48))
        for values in (series, np.where(np.arange(48) % 7 == 3, 8 * series, series)):
            model = SmoothingLikelihood(values, Form(trend=True, season=4, multiplicative=True))
            thetas = rng.random((3, 200))
            solved = model.solved(thetas, model.start()[:, None])
            with np.errstate(all="ignore"):
                filtered = model.at(thetas, solved.hidden)
                left = filtered.errors[..., 0] * np.exp(filtered.log_scale[:, 0])
            known = np.isfinite(left).all(axis=0)
            self.assertGreater(known.mean(), 0.3)
            np.testing.assert_allclose(
                (solved.scaled[:, known] ** 2).sum(axis=0), (left[:, known] ** 2).sum(axis=0), 1e-3
            )

    def test_variances_are_the_closed_ones(self):
        seasonal = kd.ExponentialSmoothing(
            level=50.0,
            level_weight=0.3,
            sd=1.0,
            trend=1.0,
            trend_weight=0.05,
            damping=0.9,
            season=[5, -5, 0, 0],
            season_weight=0.2,
        )
        for made in (
            TREND,
            seasonal,
            kd.ExponentialSmoothing(level=10.0, level_weight=0.5, sd=1.0),
        ):
            paths = made.paths(10, 40_000, seed=1)
            exact = made._closed_form_at(10)
            self.assertAlmostEqual(paths[-1].std(), exact.sd, delta=0.02 * exact.sd)
            self.assertAlmostEqual(paths[-1].mean(), exact.mean, delta=4 * exact.sd / 200)
        # Of a level alone the variance is sd^2 (1 + (h - 1) weight^2).
        self.assertAlmostEqual(
            kd.ExponentialSmoothing(level=0.0, level_weight=0.5, sd=2.0)
            ._closed_form_at(5)
            .variance,
            8.0,
        )

    def test_a_level_alone_is_the_textbooks_recursion(self):
        series = TREND.paths(60, 1, seed=2)[1:, 0]
        found = kd.ExponentialSmoothing.fit(series)

        def squares(first, weight):
            level, total = first, 0.0
            for value in series:
                total += (value - level) ** 2
                level += weight * (value - level)
            return total, level

        first = min(
            np.linspace(series.min(), series.max(), 400),
            key=lambda one: squares(one, found.level_weight)[0],
        )
        total, level = squares(first, found.level_weight)
        self.assertAlmostEqual(found.sd, np.sqrt(total / (60 - 2)), delta=2e-3 * found.sd)
        self.assertAlmostEqual(found.level, level, delta=0.05)
        for weight in (found.level_weight - 0.1, min(found.level_weight + 0.1, 1.0)):
            self.assertGreaterEqual(squares(first, weight)[0], total * (1 - 1e-6))

    def test_gaps_are_integrated_out_as_a_normal_density_does(self):
        season = kd.ExponentialSmoothing(
            level=100.0, level_weight=0.3, sd=2.0, season=[5.0, -5.0, 2.0, -2.0], season_weight=0.2
        )
        damped = {"level": 100.0, "level_weight": 0.4, "sd": 2.0, "trend": 2.0, "damping": 0.9}
        for made, options in (
            (TREND, {"trend": True}),
            (kd.ExponentialSmoothing(**damped, trend_weight=0.2), {"trend": "damped"}),
            (season, {"season": 4}),
        ):
            series = made.paths(60, 1, seed=4)[1:, 0]
            series[[3, 20, 21, 22, 40, 57]] = np.nan
            found = kd.ExponentialSmoothing.fit(series, **options)
            least, sd, ahead = dense_likelihood(found, series)
            with self.subTest(options):
                self.assertAlmostEqual(found.fitted.log_likelihood, least, delta=1e-6)
                count = 54 - found.fitted.parameter_count + 1
                self.assertAlmostEqual(found.sd, sd * np.sqrt(54 / count), delta=1e-6)
                np.testing.assert_allclose(found.expected([1, 2, 3]), ahead, rtol=1e-7)
                weights = ("level_weight", "trend_weight", "season_weight")
                for name in (one for one in weights if getattr(found, one)):
                    for factor in (0.97, 1.03):
                        other = replace(found, **{name: factor * getattr(found, name)})
                        if (other.trend_weight or 0.0) <= other.level_weight:
                            moved = dense_likelihood(other, series)[0]
                            self.assertLess(moved, least + 1e-9, name)

    def test_a_season_that_multiplies_fits_as_one_that_adds_where_it_is_small(self):
        # To the first order of small seasons and shocks around a large level they are the same.
        made = kd.ExponentialSmoothing(
            level=1e4, level_weight=0.3, sd=2.0, season=[5.0, -5.0, 2.0, -2.0], season_weight=0.2
        )
        series = made.paths(60, 1, seed=4)[1:, 0]
        series[[3, 20, 21, 40]] = np.nan
        adds = kd.ExponentialSmoothing.fit(series, season=4)
        times = kd.ExponentialSmoothing.fit(series, season=4, season_kind="multiplicative")
        self.assertAlmostEqual(times.level_weight, adds.level_weight, delta=2e-3)
        self.assertAlmostEqual(times.sd * 1e4, adds.sd, delta=0.01)
        self.assertAlmostEqual(times.fitted.log_likelihood, adds.fitted.log_likelihood, delta=0.05)

    def test_no_other_start_finds_a_greater_likelihood(self):
        rng = np.random.default_rng(3)
        for seed in (0, 5):
            series = TREND.paths(30, 1, seed=seed)[1:, 0]
            found = kd.ExponentialSmoothing.fit(series, trend=True)

            def cost(theta, series=series):
                weight = special.expit(theta[0])
                slope = weight * special.expit(theta[1])
                one = kd.ExponentialSmoothing(0.0, weight, 1.0, trend_weight=slope)
                return -dense_likelihood(one, series)[0]

            best = min(
                optimize.minimize(cost, rng.logistic(size=2), method="Nelder-Mead").fun
                for _ in range(3)
            )
            self.assertGreaterEqual(found.fitted.log_likelihood, -best - 0.01)

    @proof
    def test_errors_intervals_and_fans_of_short_series_hold(self):
        level = kd.ExponentialSmoothing(level=100.0, level_weight=0.3, sd=2.0)
        for made, options, missing in ((level, {}, 0.3), (TREND, {"trend": True}, 0.0)):
            gaps, errors, held, names = [], [], [], ("level_weight", "sd")
            true = np.array([made.level_weight, made.sd])
            for series in made.paths(46, repeats(54), seed=3)[1:].T:
                known = series[:40].copy()
                known[5 : 5 + int(40 * missing)] = np.nan
                found = kd.ExponentialSmoothing.fit(known, **options)
                own = np.array([found.level_weight, found.sd])
                low, high = np.array([found.fitted.intervals[name] for name in names]).T
                self.assertTrue(((low <= own) & (own <= high)).all())
                fan = np.quantile(found.paths(6, 1000, seed=1, uncertain=True)[-1], [0.05, 0.95])
                held.append([*((low <= true) & (true <= high)), fan[0] <= series[-1] <= fan[1]])
                gaps.append(own - true)
                errors.append([1.96 * found.fitted.standard_errors[name] for name in names])
            self.assertCalibrated(gaps, errors)
            wanted = ((0.92, 0.99), (0.92, 0.98), (0.86, 0.94))
            for inside, (least, most) in zip(np.sum(held, axis=0), wanted, strict=True):
                self.assertGreaterEqual(inside, stats.binom.ppf(1e-3, len(held), least))
                self.assertLessEqual(inside, stats.binom.isf(1e-3, len(held), most))

    def test_with_many_values_errors_and_intervals_are_the_asymptotic_ones(self):
        # The level alone is an ARIMA (0,1,1) with a moving average of weight - 1, whose estimate
        # has variance (1 - (1 - weight)^2) / n.
        made = kd.ExponentialSmoothing(level=100.0, level_weight=0.4, sd=2.0)
        found = kd.ExponentialSmoothing.fit(made.paths(2_000, 1, seed=2)[1:, 0])
        exact = {
            "level_weight": np.sqrt((1 - (1 - found.level_weight) ** 2) / 2_000),
            "sd": found.sd / np.sqrt(2 * 2_000),
        }
        for name, wanted in exact.items():
            with self.subTest(name):
                low, high = found.fitted.intervals[name]
                self.assertAlmostEqual((high - low) / (2 * 1.96 * wanted), 1, delta=0.12)
                error = found.fitted.standard_errors[name]
                self.assertAlmostEqual(error / wanted, 1, delta=0.12)

    def test_an_interval_begins_at_0_where_the_likelihood_ratio_allows_it(self):
        made = kd.ExponentialSmoothing(level=100.0, level_weight=0.2, sd=2.0)
        began = []
        for seed in range(12):
            series = made.paths(40, 1, seed=seed)[1:, 0]
            found = kd.ExponentialSmoothing.fit(series)
            without = dense_likelihood(replace(found, level_weight=0.0), series)[0]
            # with the 39 degrees of freedom that the first level leaves
            ratio = 2 * 39 / 40 * (found.fitted.log_likelihood - without)
            low = found.fitted.intervals["level_weight"][0]
            self.assertEqual(low == 0.0, ratio < stats.chi2(1).ppf(0.95), (seed, ratio))
            began.append(low == 0.0)
        self.assertTrue(3 <= sum(began) <= 9)

    def test_first_states_take_their_degrees_of_freedom_and_widen_fans(self):
        noise = 50 + np.random.default_rng(2).standard_normal(36)
        found = kd.ExponentialSmoothing.fit(noise, season=12)
        low, high = found.fitted.intervals["sd"]
        # 36 values less 12 first states, and the open weights take a little more; three values
        # tell each month
        ends = stats.chi2(36 - 12).ppf([0.025, 0.975])
        self.assertGreater(high / low, 0.97 * np.sqrt(ends[1] / ends[0]))
        self.assertLess(high / low, 1.12 * np.sqrt(ends[1] / ends[0]))
        fan = found.paths(1, 20_000, seed=1, uncertain=True)[-1]
        self.assertAlmostEqual(fan.std() / found.sd, np.sqrt(1 + 1 / 3), delta=0.15)

    def test_the_unit_of_a_series_changes_nothing(self):
        series = TREND.paths(60, 1, seed=1)[1:, 0]
        found = kd.ExponentialSmoothing.fit(series, trend=True)
        for unit in (1e-6, -1.0, 1e9):
            other = kd.ExponentialSmoothing.fit(unit * series, trend=True)
            self.assertAlmostEqual(other.level_weight, found.level_weight, places=5)
            self.assertAlmostEqual(other.sd / abs(unit) / found.sd, 1, places=6)

    def test_weights_at_an_end_have_an_interval_from_it(self):
        rng = np.random.default_rng(4)
        noise = 50 + rng.standard_normal(80)
        self.assertEqual(
            kd.ExponentialSmoothing.fit(noise).fitted.intervals["level_weight"][0], 0.0
        )
        walk = 50 + np.cumsum(rng.standard_normal(80))
        low, high = kd.ExponentialSmoothing.fit(walk).fitted.intervals["level_weight"]
        self.assertEqual(high, 1.0)
        self.assertGreater(low, 0.5)

    def test_missing_values_are_skipped(self):
        series = TREND.paths(80, 1, seed=4)[1:, 0]
        whole = kd.ExponentialSmoothing.fit(series, trend=True)
        series[40] = np.nan
        holed = kd.ExponentialSmoothing.fit(series, trend=True)
        self.assertLess(
            abs(holed.level_weight - whole.level_weight),
            whole.fitted.standard_errors["level_weight"],
        )
        self.assertEqual(holed.fitted.observations, 79)
        self.assertTrue(np.isnan(holed.residuals()[40]))

    def test_uncertain_fans_are_wider_and_files_keep_them(self):
        found = kd.ExponentialSmoothing.fit(TREND.paths(40, 1, seed=5)[1:, 0], trend=True)
        sure, unsure = (
            found.paths(12, 8000, seed=1, uncertain=one)[-1].std() for one in (False, True)
        )
        self.assertGreater(unsure, 1.05 * sure)
        self.assertGreater(found.chance(12, above=found._closed_form_at(12).mean).error, 0.02)
        from kindynos.model.file import model_from_text
        from kindynos.model.writing import driver_table

        text = driver_table("x", found, "records", uncertain=True)
        model = model_from_text(
            f'[model]\nname = "x"\nperiods = 12\n{text}\n[outcomes]\ny = "last(x)"'
        )
        self.assertAlmostEqual(
            float(model.simulate(8000, seed=1)["y"].sd), unsure, delta=0.06 * unsure
        )

    def test_bad_input(self):
        ten = [3.0, 1, 4, 1, 5, 9, 2, 6, 5, 3]
        for ask, words in (
            (lambda: kd.ExponentialSmoothing.fit(np.arange(30.0), trend=True), "nothing random"),
            (lambda: kd.ExponentialSmoothing.fit(ten, season=6), "half the series"),
            (lambda: kd.ExponentialSmoothing.fit(ten, trend="linear"), "damped"),
            (
                lambda: kd.ExponentialSmoothing.fit(
                    [-1, *ten], season=2, season_kind="multiplicative"
                ),
                "above 0",
            ),
            (lambda: kd.ExponentialSmoothing(level=1, level_weight=2, sd=1), "from 0 to 1"),
            (
                lambda: kd.ExponentialSmoothing(level=1, level_weight=0.5, sd=1, season=[1, 2]),
                "season_weight",
            ),
            (lambda: TREND.residuals(), "needs a fit"),
        ):
            with self.subTest(words), self.fails(words):
                ask()


class Garches(Case):
    def test_long_run_variance_and_kurtosis_are_the_closed_ones(self):
        made = kd.Garch(start=100.0, volatility=0.02, reaction=0.1, persistence=0.9, df=9.0)
        returns = np.diff(np.log(made.paths(400, 4000, seed=2)), axis=0)[50:]
        self.assertAlmostEqual(returns.std(), 0.02, delta=2e-4)
        self.assertAlmostEqual(
            stats.kurtosis(returns, axis=None, fisher=False), made.kurtosis, delta=0.25
        )
        normal = kd.Garch(start=100.0, volatility=0.02, reaction=0.1, persistence=0.9)
        self.assertAlmostEqual(
            normal.kurtosis, 3 * (1 - 0.81) / (1 - 3 * 0.01 - 2 * 0.1 * 0.8 - 0.64)
        )

    def test_the_forecast_starts_from_today_and_returns_to_the_long_run(self):
        made = kd.Garch(start=100.0, volatility=0.01, reaction=0.1, persistence=0.9, today=0.03)
        returns = np.diff(np.log(made.paths(30, 40_000, seed=1)), axis=0)
        np.testing.assert_allclose(returns.std(axis=1), made.forecast(30), rtol=0.03)
        self.assertAlmostEqual(made.forecast(30)[-1] ** 2, 1e-4 + (9e-4 - 1e-4) * 0.9**29)

    @proof
    def test_parameters_are_found_within_their_errors(self):
        truth = kd.Garch(
            start=100.0,
            volatility=0.01,
            reaction=0.1,
            persistence=0.95,
            df=6.0,
            mean=0.0005,
            ar=0.1,
        )
        gaps, errors = [], []
        for series in truth.paths(1200, repeats(60), seed=6).T:
            found = kd.Garch.fit(series, mean="ar")
            names = ("reaction", "mean", "ar", "df")
            gaps.append([getattr(found, name) - getattr(truth, name) for name in names])
            errors.append([1.96 * found.fitted.standard_errors[name] for name in names])
        self.assertCalibrated(gaps, errors)

    @proof
    def test_intervals_of_few_returns_hold(self):
        truth = kd.Garch(start=100.0, volatility=0.01, reaction=0.1, persistence=0.9)
        held, names = [], ("volatility", "reaction", "persistence", "mean")
        for series in truth.paths(100, repeats(60), seed=7).T:
            found = kd.Garch.fit(series, shocks="normal")
            ends = [found.fitted.intervals[name] for name in names]
            for name, (low, high) in zip(names, ends, strict=True):
                self.assertTrue(low <= getattr(found, name) <= high, name)
            held.append(
                [
                    low <= getattr(truth, name) <= high
                    for name, (low, high) in zip(names, ends, strict=True)
                ]
            )
        for name, share in zip(names, np.mean(held, axis=0), strict=True):
            count = len(held)
            self.assertGreaterEqual(share * count, stats.binom.ppf(1e-3, count, 0.92), name)

    def test_many_returns_narrow_the_intervals(self):
        truth = kd.Garch(start=100.0, volatility=0.01, reaction=0.1, persistence=0.9)
        found = kd.Garch.fit(truth.paths(4_000, 1, seed=1)[:, 0], shocks="normal")
        errors = found.fitted.standard_errors
        for name, (low, high) in found.fitted.intervals.items():
            # As wide as 1.96 standard errors on either side, or little more.
            self.assertGreater(high - low, 3.5 * errors[name], name)
            self.assertLess(high - low, 5.2 * errors[name], name)

    def test_without_clusters_it_says_so(self):
        found = kd.Garch.fit(
            kd.GeometricBrownianMotion(100, 0, 0.2).paths(300, 1, seed=3, dt=1 / 250)[:, 0],
            shocks="normal",
        )
        self.assertEqual(found.fitted.intervals["reaction"][0], 0.0)
        self.assertEqual(found.fitted.intervals["persistence"], (0.0, 0.9995))
        self.assertIn(
            "nothing in the returns points to volatility that clusters", found.fitted.description
        )
        self.assertEqual(found.fitted.standard_errors["persistence"], np.inf)

    def test_uncertain_parameters_carry_their_own_volatility_of_today(self):
        made = kd.Garch(start=100.0, volatility=0.01, reaction=0.1, persistence=0.95)
        found = kd.Garch.fit(made.paths(250, 1, seed=4)[:, 0], shocks="normal")
        first = np.log(found.paths(1, 20_000, seed=1, uncertain=True)[1] / found.start)
        self.assertAlmostEqual(first.std(), found.today, delta=0.15 * found.today)
        self.assertEqual(len(found._redrawn(20)), 20)
        self.assertLess(abs(found.residuals().std() - 1), 0.1)

    def test_bad_input(self):
        for ask, words in (
            (lambda: kd.Garch(100, 0.01, 0.5, 0.4), "at most persistence"),
            (lambda: kd.Garch(100, 0.01, 0.1, 1.0), "below 1"),
            (lambda: kd.Garch(100, 0.01, 0.1, 0.9, df=2), "above 2"),
            (lambda: kd.Garch(100, 0.01, 0.1, 0.9, ar=1.0), "between -1 and 1"),
            (lambda: kd.Garch.fit(np.arange(1.0, 30)), "at least 50 returns"),
            (lambda: kd.Garch.fit(np.arange(1.0, 100), shocks="student"), "normal"),
        ):
            with self.subTest(words), self.fails(words):
                ask()
