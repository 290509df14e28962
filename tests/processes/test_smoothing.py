"""Tests of exponential smoothing and of prices whose volatility clusters."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case, proof, repeats

TREND = kd.ExponentialSmoothing(level=100.0, level_weight=0.4, sd=2.0, trend=0.5, trend_weight=0.1)


class Smoothing(Case):
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
        level, errors = series[0], []

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
        self.assertAlmostEqual(found.sd, np.sqrt(total / 60), delta=2e-3 * found.sd)
        self.assertAlmostEqual(found.level, level, delta=0.05)
        for weight in (found.level_weight - 0.1, min(found.level_weight + 0.1, 1.0)):
            self.assertGreaterEqual(squares(first, weight)[0], total * (1 - 1e-6))
        self.assertFalse(errors)

    @proof
    def test_parameters_are_found(self):
        season = kd.ExponentialSmoothing(
            level=900.0,
            level_weight=0.2,
            sd=0.03,
            trend=1.0,
            trend_weight=0.02,
            season=[0.7, 1.3, 1.1, 0.9],
            season_weight=0.1,
            season_kind="multiplicative",
        )
        for made, options in (
            (TREND, {"trend": True}),
            (season, {"trend": True, "season": 4, "season_kind": "multiplicative"}),
        ):
            gaps, errors = [], []
            paths = made.paths(200, repeats(90), seed=3)[1:].T
            for series in paths[paths.min(axis=1) > 0]:
                found = kd.ExponentialSmoothing.fit(series, **options)
                gaps.append([found.level_weight - made.level_weight, found.sd - made.sd])
                errors.append(
                    [1.96 * found.fitted.standard_errors[key] for key in ("level_weight", "sd")]
                )
            self.assertCalibrated(gaps, errors)

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

    def test_without_clusters_it_says_so(self):
        found = kd.Garch.fit(
            kd.GeometricBrownianMotion(100, 0, 0.2).paths(300, 1, seed=3, dt=1 / 250)[:, 0],
            shocks="normal",
        )
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
