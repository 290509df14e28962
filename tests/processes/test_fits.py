"""Tests of fits."""

from dataclasses import replace

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Case, proof

PRICE = kd.GeometricBrownianMotion(100.0, drift=0.06, volatility=0.25)


REGIMES = kd.RegimeSwitching(100.0, (0.08, -0.1), (0.1, 0.35), (1.0, 4.0))


LOG_RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.3, log=True)


WALK = kd.RandomWalk(10.0, 0.5, 2.0)


class Fits(Case):
    def test_the_level_of_drawn_parameters_has_its_closed_form_error(self):
        """Of an autoregression sd / (1 - slope) / sqrt(n) (Hamilton, 1994, section 7.2)."""
        generator, count, slope = np.random.default_rng(0), 400, 0.7
        values = np.full(count, 5.0)
        for t in range(1, count):
            values[t] = 5 + slope * (values[t - 1] - 5) + generator.normal(0, 0.5)
        made = kd.MeanReverting.fit(values, 1.0)
        means = made.paths(1600, 300, seed=1, uncertain=True)[100:].mean(axis=0)
        slope = np.exp(-made.speed)
        expected = 0.5 / (1 - slope) * np.sqrt(1 / count + 1 / 1500)
        self.assertAlmostEqual(means.std() / expected, 1, delta=0.15)

    def series(self, process, count=1500, dt=1 / 250, seed=4):
        return process.paths(count, 1, seed=seed, dt=dt)[:, 0]

    @proof
    def test_parameters_are_found_within_their_errors(self):
        for process, names in (
            (PRICE, ("drift", "volatility")),
            (WALK, ("drift", "volatility")),
            (kd.MeanReverting(5.0, 5.0, 8.0, 2.0), ("level", "speed", "volatility")),
            (
                kd.JumpDiffusion(100.0, 0.05, 0.15, 8.0, -0.03, 0.04),
                ("volatility", "rate", "jump_mean", "jump_sd"),
            ),
        ):
            options = {"log": False} if isinstance(process, kd.MeanReverting) else {}
            made = type(process).fit(self.series(process), 1 / 250, **options)
            for name in names:
                with self.subTest(process=process.label, name=name):
                    gap = abs(getattr(made, name) - getattr(process, name))
                    self.assertLess(gap, 3.5 * made.fitted.standard_errors[name])
        regimes = kd.RegimeSwitching.fit(self.series(REGIMES), 1 / 250)
        np.testing.assert_allclose(regimes.volatilities, REGIMES.volatilities, rtol=0.15)
        for made in (regimes, kd.MeanReverting.fit(self.series(LOG_RATE, 300), 1 / 250, log=True)):
            sure, unsure = (
                np.log(made.paths(50, 8000, seed=1, dt=1 / 250, uncertain=u)[-1]).var()
                for u in (False, True)
            )
            self.assertGreater(unsure, 0.97 * sure)

    def test_errors_are_those_of_the_textbook(self):
        series = self.series(PRICE, 500)
        made = kd.GeometricBrownianMotion.fit(series, 1 / 250)
        returns = np.diff(np.log(series))
        self.assertAlmostEqual(made.volatility, returns.std(ddof=1) * np.sqrt(250))
        self.assertAlmostEqual(
            made.fitted.standard_errors["volatility"], made.volatility / np.sqrt(2 * 500)
        )
        self.assertAlmostEqual(made.log_drift, returns.mean() * 250)
        flat = kd.GeometricBrownianMotion.fit(series, 1 / 250, mean=False)
        walk = kd.RandomWalk.fit(np.log(series), 1 / 250).fitted.standard_errors
        self.assertAlmostEqual(walk["drift"], 250 * stats.sem(returns))
        reverting = kd.MeanReverting.fit(self.series(LOG_RATE, 400), 1 / 250, log=True)
        self.assertAlmostEqual(
            reverting.fitted.standard_errors["volatility"], reverting.volatility / np.sqrt(2 * 400)
        )
        self.assertEqual(flat.drift, 0)
        self.assertIn("no mean", flat.fitted.description)

    def test_histories_that_are_drawn_again_have_the_moves_that_there_were(self):
        returns = np.random.default_rng(2).normal(0.01, 0.05, 200)
        means = [np.mean(one.returns) for one in kd.BootstrapReturns(list(returns))._redrawn(300)]
        self.assertAlmostEqual(np.mean(means), returns.mean(), delta=0.001)
        self.assertAlmostEqual(np.std(means) / stats.sem(returns), 1, delta=0.3)

    def test_a_short_history_shows_in_the_fan(self):
        made = kd.GeometricBrownianMotion.fit(self.series(PRICE, 60, 1 / 12), 1 / 12)
        sure, unsure = (
            np.log(made.paths(60, 20_000, seed=1, dt=1 / 12, uncertain=u)[-1]).var()
            for u in (False, True)
        )
        wanted = made.volatility**2 * 5 * (1 + 1)  # five years ahead, from five years of history
        self.assertAlmostEqual(unsure / wanted, 1, delta=0.1)
        self.assertAlmostEqual(sure / wanted, 0.5, delta=0.03)

    def test_the_speed_of_reversion_is_as_often_too_high_as_too_low(self):
        slow = kd.MeanReverting(0.0, 0.0, 1.0, 1.0)
        paths = slow.paths(252, 60, seed=3, dt=1 / 252)
        found, held = [], 0
        for series in paths.T:
            try:
                made = kd.MeanReverting.fit(series, 1 / 252, log=False)
            except kd.KindynosError:  # no return at all: the lowest there is
                found.append(0.0)
                continue
            found.append(made.speed)
            low, high = made.fitted.intervals["speed"]
            held += low <= 1.0 <= high
        self.assertTrue(0.25 < np.mean(np.array(found) < 1.0) < 0.65, np.mean(np.array(found) < 1))
        self.assertGreaterEqual(held, 0.85 * np.count_nonzero(found))
        fast = kd.MeanReverting(0.0, 0.0, 30.0, 1.0).paths(1000, 1, seed=1, dt=1 / 252)[:, 0]
        made = kd.MeanReverting.fit(fast, 1 / 252, log=False)
        self.assertIn("it returns to its level (p ", made.fitted.description)
        low, high = made.fitted.intervals["speed"]
        self.assertLess(high, 60)  # the interval is no wider than it must be
        self.assertGreater(low, 10)

    def test_a_stated_level_is_kept_and_the_speed_is_that_of_the_return_to_it(self):
        held, narrow, speeds, widths = 0, 0, [], []
        for seed in range(120):
            series = kd.MeanReverting(0.16, 0.16, 0.4, 0.03).paths(80, 1, seed=seed, dt=0.25)[:, 0]
            made = kd.MeanReverting.fit(series, 0.25, log=False, level=0.16)
            free = self.speed_ends(series)
            if free is None:  # without the level nothing shows that it returns to one
                continue
            low, high = made.fitted.intervals["speed"]
            centre, reach = (low + high) / 2, (high - low) / 4
            held, narrow = held + (low <= 0.4 <= high), narrow + (abs(centre - 0.4) <= reach)
            speeds.append(made.speed)
            widths.append((high - low) / (free[1] - free[0]))
        # a step is a part exp(-speed dt) of the gap, and normal with the variance of that time
        kept = np.exp(-made.speed * 0.25)
        steps = series[1:] - 0.16 - kept * (series[:-1] - 0.16)
        wanted = np.sqrt(2 * made.speed * (steps**2).mean() / (1 - kept**2))
        self.assertAlmostEqual(made.volatility / wanted, 1, delta=0.03)
        self.assertEqual(made.level, 0.16)
        self.assertNotIn("level", made.fitted.standard_errors)
        self.assertGreater(len(speeds), 100)
        self.assertGreaterEqual(held, 0.9 * len(speeds))
        self.assertLessEqual(narrow, 0.85 * len(speeds))
        self.assertAlmostEqual(np.median(speeds), 0.4, delta=0.06)
        self.assertLess(np.median(widths), 0.95)
        draws = made.paths(400, 200, seed=1, dt=0.25, uncertain=True)[-1]
        self.assertAlmostEqual(float(draws.mean()), 0.16, delta=0.01)
        logged = kd.MeanReverting.fit(np.exp(series), 0.25, log=True, level=np.exp(0.16))
        self.assertAlmostEqual(logged.speed, made.speed)

    def test_a_fast_return_to_a_stated_level_is_as_often_too_fast_as_too_slow(self):
        above = 0
        for seed in range(300):  # a pull of 75 over the series, beyond the table of simulated ones
            series = kd.MeanReverting(0.0, 0.0, 15.0, 1.0).paths(500, 1, seed=seed, dt=0.01)[:, 0]
            made = kd.MeanReverting.fit(series, 0.01, log=False, level=0.0)
            above += made.speed > 15.0
        self.assertTrue(125 <= above <= 175, above)

    def speed_ends(self, series):
        """The interval of the speed with a level that is found; None where none is."""
        try:
            return kd.MeanReverting.fit(series, 0.25, log=False).fitted.intervals["speed"]
        except kd.ParameterError:
            return None

    def test_prices_stay_above_zero(self):
        made = kd.MeanReverting.fit(self.series(LOG_RATE, 600), 1 / 250)
        self.assertTrue(made.log)
        self.assertGreater(made.paths(250, 500, seed=1, dt=1 / 250, uncertain=True).min(), 0)

    @proof
    def test_what_nothing_identifies_is_told(self):
        for seed in range(3):
            series = 100 * np.exp(
                np.cumsum(0.01 * np.random.default_rng(seed).standard_normal(500))
            )
            made = kd.JumpDiffusion.fit(series, 1 / 250)
            self.assertIn("nothing in the series points to jumps", made.fitted.description)
            self.assertEqual(
                set(made.fitted.standard_errors),
                {"drift", "volatility", "rate", "jump_mean", "jump_sd"},
            )
            self.assertGreater(
                max(
                    made.fitted.standard_errors["jump_sd"] / made.jump_sd,
                    made.fitted.standard_errors["rate"] / made.rate,
                ),
                0.5,
            )
            ends = [
                np.log(made.paths(250, 1000, seed=1, dt=1 / 250, uncertain=u)[-1]).std()
                for u in (False, True)
            ]
            self.assertTrue(0.95 < ends[1] / ends[0] < 2, ends)
        jumpy = kd.JumpDiffusion.fit(
            self.series(kd.JumpDiffusion(100.0, 0.05, 0.15, 8.0, -0.03, 0.04)), 1 / 250
        )
        self.assertNotIn("nothing", jumpy.fitted.description)
        regimes = kd.RegimeSwitching.fit(self.series(REGIMES), 1 / 250).fitted.standard_errors
        self.assertTrue(
            all(
                0 < regimes[f"{name}[{i}]"] < 1
                for name in ("drifts", "volatilities")
                for i in (0, 1)
            )
        )

    def test_a_fit_does_not_outlive_its_parameters(self):
        made = kd.GeometricBrownianMotion.fit(self.series(PRICE, 300), 1 / 250)
        self.assertIsNotNone(replace(made, start=50.0).fitted)
        other = replace(made, volatility=0.5)
        self.assertIsNone(other.fitted)
        with self.fails("fitted"):
            other.paths(5, 5, seed=1, uncertain=True)

    def test_chances_hold_what_the_fit_leaves_open(self):
        truth, held, short = PRICE.chance(1.0, above=110), 0, 0
        for seed in range(40):
            made = replace(
                kd.GeometricBrownianMotion.fit(self.series(PRICE, 500, seed=seed), 1 / 250),
                start=100.0,
            )
            found = made.chance(1.0, above=110)
            held += found.low <= truth <= found.high
            short += abs(found - truth) <= 0.4 * found.error
        self.assertGreaterEqual(held, 35)
        self.assertLess(short, 34)  # and no wider than it must be
        self.assertIn("real-world: the expected price grows by", found.note)
        self.assertIn("the fit leaves open", found.note)
        drawn = made.chance(1.0, above=110, simulate=True, trials=2000, steps=5)
        self.assertGreater(drawn.error, 0.7 * found.error)
        self.assertIn("a sampling error of", drawn.note)
        low = made.percentile(1.0, 5)
        self.assertAlmostEqual(low, made.distribution_at(1.0).percentile(5))
        self.assertTrue(low.low < low < low.high)

    def test_risk_neutral_chances_say_so(self):
        made = kd.GeometricBrownianMotion.fit(self.series(PRICE, 500), 1 / 250)
        valued = made.risk_neutral(0.03, income=0.01)
        self.assertEqual((valued.drift, valued.volatility), (0.02, made.volatility))
        self.assertAlmostEqual(valued.expected(2.0), made.start * np.exp(0.04))
        chance = valued.chance(1.0, above=made.start)
        self.assertIn("risk-neutral", chance.note)
        self.assertTrue(0 < chance.error < 0.3 * made.chance(1.0, above=made.start).error)

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
        for kind, series in (
            (kd.RandomWalk, 100 + np.arange(50.0)),
            (kd.GeometricBrownianMotion, np.exp(np.arange(50.0) / 64)),
        ):
            with self.subTest(kind=kind), self.fails("same", "no volatility to fit"):
                kind.fit(series)
        with self.fails("within a period"):
            kd.MeanReverting.fit(np.tile([1.0, 2.0], 20))
        with self.fails("no return to a level"):
            kd.MeanReverting.fit(np.exp(np.arange(30.0)))


class Dates(Case):
    """The dates of a series are heeded, by every process."""

    def test_newest_first_is_the_same_series(self):
        days = pd.bdate_range("2024-01-01", periods=300)
        truth = kd.GeometricBrownianMotion(100.0, drift=0.3, volatility=0.2)
        prices = pd.Series(truth.paths(299, 1, seed=1, dt=1 / 252)[:, 0], index=days)
        for kind, options in (
            (kd.GeometricBrownianMotion, {"dt": 1 / 252}),
            (kd.RandomWalk, {}),
            (kd.MeanReverting, {}),
            (kd.JumpDiffusion, {"dt": 1 / 252}),
            (kd.BootstrapReturns, {}),
            (kd.Garch, {}),
            (kd.Arima, {"order": (1, 1, 0)}),
            (kd.ExponentialSmoothing, {}),
        ):
            with self.subTest(kind.__name__):
                self.assertEqual(
                    kind.fit(prices[::-1], **options).parameters,
                    kind.fit(prices.to_numpy(), **options).parameters,
                )
                with self.fails("two values at 2024-01-02"):
                    kind.fit(pd.concat([prices, prices.iloc[1:2]]), **options)
                with self.fails("value 3 of the series has no date"):
                    kind.fit(prices.set_axis(days.where(days != days[3])), **options)

    def test_of_a_frame_too(self):
        days = pd.bdate_range("2024-01-01", periods=60)
        rng = np.random.default_rng(1)
        frame = pd.DataFrame(100 + rng.normal(0, 1, (60, 2)), index=days, columns=["a", "b"])
        one, other = (kd.BootstrapReturns.fit(part) for part in (frame, frame[::-1]))
        np.testing.assert_array_equal(one.paths(5, 20, seed=1), other.paths(5, 20, seed=1))
