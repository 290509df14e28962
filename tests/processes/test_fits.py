"""Tests of fits."""

import numpy as np

import kindynos as kd
from tests.common import Case

PRICE = kd.GeometricBrownianMotion(100.0, drift=0.06, volatility=0.25)


REGIMES = kd.RegimeSwitching(100.0, (0.08, -0.1), (0.1, 0.35), (1.0, 4.0))


LOG_RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.3, log=True)


WALK = kd.RandomWalk(10.0, 0.5, 2.0)


class Fits(Case):
    def series(self, process, count=1500, dt=1 / 250, seed=4):
        return process.paths(count, 1, seed=seed, dt=dt)[:, 0]

    def test_parameters_are_found_within_their_errors(self):
        for process, names in (
            (PRICE, ("drift", "volatility")),
            (WALK, ("drift", "volatility")),
            (kd.MeanReverting(5.0, 5.0, 8.0, 2.0), ("level", "speed", "volatility")),
            (kd.JumpDiffusion(100.0, 0.05, 0.15, 8.0, -0.03, 0.04), ("volatility", "rate", "jump_mean", "jump_sd")),
        ):
            options = {"log": False} if isinstance(process, kd.MeanReverting) else {}
            made = type(process).fit(self.series(process), 1 / 250, **options)
            for name in names:
                with self.subTest(process=process.label, name=name):
                    gap = abs(getattr(made, name) - getattr(process, name))
                    self.assertLess(gap, 3.5 * made.fitted.errors[name])
        regimes = kd.RegimeSwitching.fit(self.series(REGIMES), 1 / 250)
        np.testing.assert_allclose(regimes.volatilities, REGIMES.volatilities, rtol=0.15)
        for made in (regimes, kd.MeanReverting.fit(self.series(LOG_RATE, 300), 1 / 250, log=True)):
            sure, unsure = (np.log(made.paths(50, 8000, seed=1, dt=1 / 250, uncertain=u)[-1]).var() for u in (False, True))
            self.assertGreater(unsure, 0.97 * sure)

    def test_errors_are_those_of_the_textbook(self):
        series = self.series(PRICE, 500)
        made = kd.GeometricBrownianMotion.fit(series, 1 / 250)
        returns = np.diff(np.log(series))
        self.assertAlmostEqual(made.volatility, returns.std(ddof=1) * np.sqrt(250))
        self.assertAlmostEqual(made.fitted.errors["volatility"], made.volatility / np.sqrt(2 * 500))
        self.assertAlmostEqual(made.log_drift, returns.mean() * 250)
        flat = kd.GeometricBrownianMotion.fit(series, 1 / 250, mean=False)
        self.assertEqual(flat.drift, 0)
        self.assertIn("no mean", flat.fitted.description)

    def test_a_short_history_shows_in_the_fan(self):
        made = kd.GeometricBrownianMotion.fit(self.series(PRICE, 60, 1 / 12), 1 / 12)
        sure, unsure = (np.log(made.paths(60, 20_000, seed=1, dt=1 / 12, uncertain=u)[-1]).var() for u in (False, True))
        wanted = made.volatility**2 * 5 * (1 + 1)  # five years ahead, from five years of history
        self.assertAlmostEqual(unsure / wanted, 1, delta=0.1)
        self.assertAlmostEqual(sure / wanted, 0.5, delta=0.03)

    def test_series_that_cannot_be_used(self):
        for series, words in (
            ([1, 2, 3], ("at least 8",)),
            (np.full(20, 5.0), ("all values", "equal")),
            ([*range(1, 20), -3], ("value 19", "above 0")),
            ([*range(1, 20), np.nan], ("value 19", "finite")),
            (np.ones((9, 2)), ("flat",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                kd.GeometricBrownianMotion.fit(series)
        with self.fails("no return to a level"):
            kd.MeanReverting.fit(np.exp(np.arange(30.0)))
