"""Tests of forecasts of time-series processes against what textbooks say of simple ones."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case, proof, run

RNG = np.random.default_rng(7)
YEARS = (
    120
    + 0.5 * np.arange(72)
    + 12 * np.sin(2 * np.pi * np.arange(72) / 12)
    + RNG.standard_normal(72)
)


class Forecasts(Case):
    def test_a_random_walk_with_drift(self):
        made = kd.Arima.fit(YEARS, (0, 1, 0), constant=True)
        steps = np.diff(YEARS)
        self.assertAlmostEqual(made.constant, steps.mean())
        self.assertAlmostEqual(made.sd, steps.std())
        self.assertAlmostEqual(made.fitted.standard_errors["constant"], steps.std() / np.sqrt(71))
        np.testing.assert_allclose(
            made._expected_values(5, 1.0), YEARS[-1] + steps.mean() * np.arange(1, 6)
        )
        np.testing.assert_allclose(
            [made._closed_form_at(h).sd for h in (1, 4, 9)], steps.std() * np.array([1, 2, 3])
        )
        self.assertEqual(float(made.expected(0)), YEARS[-1])

    def test_an_autoregression_falls_back_to_its_mean(self):
        made = kd.Arima(ar=[0.6], constant=50.0, sd=2.0, history=[60.0])
        np.testing.assert_allclose(
            made.expected(np.array([1, 2, 5])), 50 + 10 * 0.6 ** np.array([1, 2, 5])
        )
        variance = 4 * (1 - 0.36**6) / (1 - 0.36)
        self.assertAlmostEqual(made._closed_form_at(6).variance, variance)
        z = (52 - (50 + 10 * 0.6**6)) / np.sqrt(variance)
        self.assertAlmostEqual(float(made.chance(6, above=52)), stats.norm.sf(z), places=6)

    def test_a_season_alone_repeats_the_year_before(self):
        made = kd.Arima.fit(YEARS, (0, 0, 0), (0, 1, 0, 12), constant=True)
        gain = (YEARS[12:] - YEARS[:-12]).mean()
        np.testing.assert_allclose(
            made._expected_values(24, 1.0), np.r_[YEARS[-12:] + gain, YEARS[-12:] + 2 * gain]
        )

    def test_a_moving_average_remembers_one_shock(self):
        made = kd.Arima.fit(
            kd.Arima(ma=[0.8], sd=1.0, constant=5.0).paths(200, 1, seed=2)[1:, 0], (0, 0, 1)
        )
        last = made.residuals()[-1] * made.sd
        np.testing.assert_allclose(
            made._expected_values(3, 1.0), made.constant + np.array([made.ma[0] * last, 0, 0])
        )
        self.assertAlmostEqual(made._closed_form_at(2).variance, made.sd**2 * (1 + made.ma[0] ** 2))

    def test_a_damped_trend_levels_off(self):
        made = kd.ExponentialSmoothing(
            level=100.0, level_weight=0.3, sd=1.0, trend=2.0, trend_weight=0.1, damping=0.8
        )
        np.testing.assert_allclose(
            made._expected_values(200, 1.0)[[0, 1, 199]], [101.6, 101.6 + 1.28, 108.0], atol=1e-8
        )

    def test_a_multiplied_season_scales_with_the_level(self):
        made = kd.ExponentialSmoothing.fit(
            np.exp(4 + 0.01 * np.arange(96))
            * np.tile([0.8, 1.0, 1.4, 0.8], 24)
            * np.exp(0.01 * RNG.standard_normal(96)),
            trend=True,
            season=4,
            season_kind="multiplicative",
        )
        ahead = made._expected_values(8, 1.0)
        np.testing.assert_allclose(
            ahead[:4] / ahead[:4].mean(), np.array([0.8, 1.0, 1.4, 0.8]) / 1.0, rtol=0.05
        )
        self.assertAlmostEqual(
            made.paths(8, 20_000, seed=1)[-1].mean(), ahead[-1], delta=0.01 * ahead[-1]
        )

    def test_drivers_of_a_model_go_on_from_the_history(self):
        made = kd.Arima.fit(YEARS, (1, 0, 0), (0, 1, 0, 12), constant=True)
        model = kd.Model("next year", periods=12)
        model.driver("x", made)
        model.outcome("sum", "total(x)")
        self.assertAlmostEqual(
            model.base_case().loc["sum", "value"], made._expected_values(12, 1.0).sum()
        )
        found = model.simulate(4000, seed=1)["sum"]
        self.assertAlmostEqual(
            float(found.mean), made._expected_values(12, 1.0).sum(), delta=3 * found.mean.error
        )
        again = kd.load_model(self.written(model.to_toml()))
        np.testing.assert_array_equal(
            again.simulate(300, seed=2)["sum"].values, model.simulate(300, seed=2)["sum"].values
        )
        model.driver("y", made, uncertain=True)
        wide = kd.Model("uncertain", periods=12)
        wide.driver("x", made, uncertain=True)
        wide.outcome("sum", "total(x)")
        self.assertGreater(float(wide.simulate(4000, seed=1)["sum"].sd), 1.02 * float(found.sd))

    def test_base_draws_and_the_forecast_of_an_uncertain_trend_agree(self):
        passengers = kd.read_values(kd.demo_file("passengers.csv"), "passengers")
        for kind in ("additive", "multiplicative"):
            made = kd.ExponentialSmoothing.fit(passengers, trend=True, season=12, season_kind=kind)
            model = kd.Model("next year", periods=12)
            model.driver("x", made, uncertain=True)
            model.outcome("sum", "total(x)")
            found = model.simulate(4000, seed=1)["sum"]
            with self.subTest(kind=kind):
                self.assertAlmostEqual(float(found.base) / float(found.mean), 1, delta=0.003)
        drawn = made.paths(12, 4000, seed=2, uncertain=True)[1:].sum(axis=0).mean()
        self.assertAlmostEqual(drawn / float(found.base), 1, delta=0.01)

    def written(self, text):
        import tempfile
        from pathlib import Path

        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, "model.toml")
        path.write_text(text, encoding="utf-8")
        return path

    @proof
    def test_prices_on_the_command_line(self):
        oil = str(kd.demo_file("heating_oil.csv"))
        for process in ("garch", "arima", "exponential-smoothing"):
            answer = run(
                "paths",
                oil,
                "--process",
                process,
                "--ahead",
                "20",
                "--trials",
                "400",
                "--seed",
                "1",
            )
            with self.subTest(process):
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                self.assertIn("fitted to 1,040 prices", answer.stdout)
