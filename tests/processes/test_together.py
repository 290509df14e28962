"""The correlation of returns of processes with jumps, regimes and fat tails."""

import math
import warnings

import numpy as np
import pandas as pd
from scipy import integrate

import kindynos as kd
from tests.common import Case

DAY = 1 / 252
FIRST = kd.JumpDiffusion(100.0, 0.05, 0.1, rate=10.0, jump_mean=-0.02, jump_sd=0.05)
SECOND = kd.JumpDiffusion(50.0, 0.02, 0.15, rate=10.0, jump_mean=-0.03, jump_sd=0.04)
CALM = kd.RegimeSwitching(100.0, (0.1, -0.2), (0.1, 0.5), (1.0, 4.0))
STORMY = kd.RegimeSwitching(80.0, (0.1, -0.1), (0.12, 0.4), (1.5, 5.0))
FAT = kd.Garch(100.0, 0.01, 0.1, 0.95, df=4)
PLAIN = kd.GeometricBrownianMotion(100.0, 0.05, 0.2)


def variance(process):
    """Return the variance of the log return of a year."""
    jumps = process.rate * (process.jump_mean**2 + process.jump_sd**2)
    return process.volatility**2 + jumps


def pair(first, second, correlation, **options):
    """Return a set of two processes."""
    both = {"a": first, "b": second}
    return kd.PathSet(both, [[1, correlation], [correlation, 1]], **options)


def seen(paths):
    """Return the correlation of the log returns of two sets of paths."""
    moves = np.diff(np.log(paths), axis=1).reshape(2, -1)
    return np.corrcoef(moves)[0, 1]


class Together(Case):
    def test_returns_reach_what_was_asked_for(self):
        for first, second, dt in ((FIRST, SECOND, DAY), (CALM, STORMY, DAY), (FAT, FAT, 1.0)):
            for wanted in (0.6, -0.4):
                made = pair(first, second, wanted)
                with self.subTest(first=type(first).__name__, wanted=wanted):
                    self.assertAlmostEqual(made.reached(dt).loc["a", "b"], wanted, delta=0.005)
                    self.assertAlmostEqual(seen(made.paths(120, 3000, 5, dt)), wanted, delta=0.03)

    def test_jumps_apart_reach_what_the_diffusions_leave(self):
        most = FIRST.volatility * SECOND.volatility / math.sqrt(variance(FIRST) * variance(SECOND))
        made = pair(FIRST, SECOND, 0.9, jumps="apart")
        with self.assertWarnsRegex(kd.FitWarning, "a and b reach a correlation of 0.3"):
            found = made.reached(DAY).loc["a", "b"]
        self.assertAlmostEqual(found, most, delta=0.015)
        self.assertAlmostEqual(seen(made.paths(60, 4000, 5, DAY)), most, delta=0.02)
        one = FIRST.volatility / math.sqrt(variance(FIRST))  # beside a price without jumps
        with self.assertWarns(kd.FitWarning):
            found = pair(FIRST, PLAIN, 0.95).reached(DAY).loc["a", "b"]
        self.assertAlmostEqual(found, one, delta=0.015)

    def test_jumps_come_together(self):
        both = pair(FIRST, SECOND, 0.6).paths(60, 3000, 5, DAY)
        apart = [np.diff(np.log(paths), axis=0) < -0.06 for paths in both]
        alone = np.mean(apart[0]) * np.mean(apart[1])
        self.assertGreater(np.mean(apart[0] & apart[1]), 10 * alone)

    def test_a_common_regime(self):
        same = kd.RegimeSwitching(80.0, (0.1, -0.2), (0.2, 1.0), (1.0, 4.0))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            both = pair(CALM, same, 0.99, regimes="common").paths(250, 400, 5, DAY)
        moves = np.abs(np.diff(np.log(both), axis=1))
        self.assertGreater(np.corrcoef(moves.reshape(2, -1))[0, 1], 0.97)

    def test_independent_and_plain_processes_are_left_as_they_were(self):
        alone = kd.PathSet({"a": FIRST, "b": SECOND})
        np.testing.assert_array_equal(alone.reached(DAY), np.eye(2))
        plain = pair(PLAIN, PLAIN, 0.6)
        self.assertEqual(plain.reached().loc["a", "b"], 0.6)
        for options in ({"jumps": "alone"}, {"regimes": "one"}):
            with self.fails(*options):
                pair(FIRST, SECOND, 0.5, **options)

    def test_fits_of_several_series_have_their_correlation(self):
        history = pair(FIRST, SECOND, 0.6).paths(1500, 1, 8, DAY)[:, :, 0]
        frame = pd.DataFrame(history.T, columns=["a", "b"])
        fitted = kd.PathSet.fit(frame, kd.JumpDiffusion, DAY)
        own = np.corrcoef(np.diff(np.log(history), axis=1))[0, 1]
        self.assertAlmostEqual(fitted.correlation[0, 1], own)
        self.assertAlmostEqual(fitted.reached(DAY).loc["a", "b"], own, delta=0.02)
        spread = np.diff(np.log(fitted.paths(60, 3000, 2, DAY).mean(axis=0)), axis=0)
        real = np.diff(np.log(frame.mean(axis=1)))
        self.assertAlmostEqual(np.std(spread) / np.std(real), 1, delta=0.12)
        with self.fails("DataFrame"):
            kd.PathSet.fit(history, kd.JumpDiffusion)

    def test_values_that_return_keep_their_correlation_at_any_step(self):
        """Against quadrature, steps of a day, and what went into a history."""
        slow = kd.MeanReverting(0.1, 0.1, 0.5, 0.03)
        fast = kd.MeanReverting(0.1, 0.1, 4.0, 0.05)
        both = pair(slow, fast, 0.8)
        ends = both.paths(1, 200_000, 3, 1.0)[:, 1]
        kept = [integrate.quad(lambda t, k=k: math.exp(-k * t), 0, 1)[0] for k in (1, 4.5, 8)]
        wanted = 0.8 * kept[1] / math.sqrt(kept[0] * kept[2])
        self.assertAlmostEqual(np.corrcoef(ends)[0, 1], wanted, delta=0.005)
        daily = both.paths(40 * 256, 100, 4, 1 / 256)[:, 2560::256]
        changes = np.diff(daily, axis=1).reshape(2, -1)
        self.assertAlmostEqual(
            both.reached(1.0).loc["a", "b"], np.corrcoef(changes)[0, 1], delta=0.03
        )
        for dt in (1 / 12, 1 / 4):
            history = pd.DataFrame(both.paths(20_000, 1, 5, dt)[:, :, 0].T, columns=["a", "b"])
            fitted = kd.PathSet.fit(history, kd.MeanReverting, dt, log=False)
            self.assertAlmostEqual(fitted.correlation[0, 1], 0.8, delta=0.02)
        model = kd.Model("Rates", periods=200)
        model.driver("rates", both, dt=0.5)
        model.outcome("end", "last(a) + last(b)")
        run = model.simulate(200, seed=1)
        kept = math.exp(-0.25), math.exp(-2.0)
        rows = [run.row(name).values for name in ("a", "b")]
        shocks = [row[1:] - share * row[:-1] for row, share in zip(rows, kept, strict=True)]
        found = np.corrcoef([shock.ravel() for shock in shocks])[0, 1]
        kept = [integrate.quad(lambda t, k=k: math.exp(-k * t), 0, 0.5)[0] for k in (1, 4.5, 8)]
        self.assertAlmostEqual(found, 0.8 * kept[1] / math.sqrt(kept[0] * kept[2]), delta=0.02)

    def test_drivers_of_a_model_reach_it_too(self):
        for first, second, wanted, reached in (
            (FIRST, SECOND, 0.6, 0.6),
            (FIRST, PLAIN, 0.9, FIRST.volatility / math.sqrt(variance(FIRST))),
        ):
            model = kd.Model("Fuel", periods=24)
            model.driver("oil", first, dt=1 / 12)
            model.driver("power", second, dt=1 / 12)
            model.correlate("oil", "power", wanted, kind="linear")
            model.outcome("both", "last(oil) + last(power)")
            for sampling in ("latin", "random"):
                run = model.simulate(4000, seed=1, sampling=sampling)
                found = run.correlations["reached"].iloc[0]
                self.assertAlmostEqual(found, reached, delta=0.02)
