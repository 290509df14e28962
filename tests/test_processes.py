"""Processes against closed forms, as series of their own, several together, and as drivers of models."""

import tempfile
from pathlib import Path

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case

PRICE = kd.GeometricBrownianMotion(100.0, drift=0.06, volatility=0.25)
JUMPS = kd.JumpDiffusion(100.0, 0.05, 0.2, rate=2.0, jump_mean=-0.1, jump_sd=0.1)
REGIMES = kd.RegimeSwitching(100.0, (0.08, -0.1), (0.1, 0.35), (1.0, 4.0))
RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.03)
LOG_RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.3, log=True)
WALK = kd.RandomWalk(10.0, 0.5, 2.0)
ALL = (PRICE, JUMPS, REGIMES, RATE, LOG_RATE, WALK, kd.BootstrapReturns([0.02, -0.03, 0.01, 0.04], 50.0, block=2))


class Paths(Case):
    def near(self, sample, mean, factor=4.5):
        self.assertLess(abs(sample.mean() - mean), factor * sample.std() / np.sqrt(len(sample)))

    def test_moments_in_closed_form(self):
        for process in (PRICE, JUMPS, RATE, LOG_RATE, WALK):
            with self.subTest(process=process.label):
                paths = process.paths(8, 40_000, seed=3, dt=0.25)
                self.assertEqual(paths.shape, (9, 40_000))
                self.assertTrue((paths[0] == process.start).all())
                for period in (1, 8):
                    self.near(paths[period], float(process.expected(0.25 * period)))
        paths = REGIMES.paths(52, 40_000, seed=3, dt=1 / 52)
        self.near(paths[-1], REGIMES.expected_after(52, 1 / 52))
        logs = np.log(JUMPS.paths(4, 60_000, seed=2, dt=0.25)[-1] / 100)
        self.assertAlmostEqual(logs.var(), JUMPS.log_variance(1.0), delta=0.002)

    def test_laws_after_a_time(self):
        for process in (PRICE, RATE, LOG_RATE, WALK):
            with self.subTest(process=process.label):
                ends = process.paths(5, 20_000, seed=5, dt=0.3)[-1]
                law = process.at(1.5)
                self.assertGreater(stats.kstest(ends, lambda x, law=law: law.cdf(x)).pvalue, 0.001)
        exact = stats.lognorm(0.25, scale=100 * np.exp(0.06 - 0.25**2 / 2))
        self.assertAlmostEqual(PRICE.at(1.0).percentile(5), exact.ppf(0.05), 9)
        self.assertAlmostEqual(PRICE.log_drift, 0.06 - 0.25**2 / 2)

    def test_steps_add_up_over_any_dt(self):
        fine, coarse = (RATE.paths(n, 30_000, seed=1, dt=2.0 / n)[-1] for n in (40, 2))
        self.assertGreater(stats.ks_2samp(fine, coarse).pvalue, 0.001)

    def test_plans_of_shocks(self):
        paths = PRICE.paths(12, 1001, seed=1, antithetic=True)
        logs = np.log(paths[-1])
        self.assertAlmostEqual(logs[:1000].mean(), np.log(100) + 12 * PRICE.log_drift, delta=0.05)
        matched = np.log(PRICE.paths(12, 1000, seed=1, moment_matching=True))
        np.testing.assert_allclose(np.diff(matched, axis=0).mean(axis=1), PRICE.log_drift, atol=1e-12)
        np.testing.assert_allclose(np.diff(matched, axis=0).std(axis=1), 0.25, atol=1e-12)
        np.testing.assert_array_equal(paths, PRICE.paths(12, 1001, seed=1, antithetic=True))
        self.assertFalse(np.array_equal(paths, PRICE.paths(12, 1001, seed=2, antithetic=True)))

    def test_bootstrap_keeps_what_follows_what(self):
        history = np.arange(1.0, 21) / 1000
        steps = np.diff(np.log(kd.BootstrapReturns(history, block=5, kind="fixed").paths(10, 400, seed=1)), axis=0)
        place = np.rint(np.expm1(steps) * 1000)
        follows = (place[1:] - place[:-1]) % 20 == 1
        self.assertTrue(follows[[0, 1, 2, 3, 5, 6, 7, 8]].all())
        self.assertLess(follows[4].mean(), 0.2)
        steps = np.diff(np.log(kd.BootstrapReturns(history, block=4).paths(30, 4000, seed=1)), axis=0)
        place = np.rint(np.expm1(steps) * 1000)
        self.assertAlmostEqual(((place[1:] - place[:-1]) % 20 == 1).mean(), 0.75 + 0.25 / 20, delta=0.01)
        single = kd.BootstrapReturns(history).paths(1, 40_000, seed=1)[-1] - 1
        self.assertAlmostEqual(single.mean(), history.mean(), delta=2e-4)

    def test_worst_falls_are_those_of_the_paths(self):
        for process in (PRICE, JUMPS, REGIMES, LOG_RATE):
            falls = process.worst_falls(30, 3000, seed=7, dt=0.1)
            np.testing.assert_allclose(falls, kd.max_drawdown(process.paths(30, 3000, seed=7, dt=0.1)), atol=1e-12)
        with self.fails("stay above 0"):
            WALK.worst_falls(3, 3, seed=1)

    def test_expected_fall_of_driftless_brownian_motion(self):
        # The mean of the largest drop of a driftless Brownian motion tends to sqrt(pi / 2 x time) as the steps grow.
        process = kd.GeometricBrownianMotion(1.0, drift=0.005**2 / 2, volatility=0.005)
        falls = -np.log1p(-process.worst_falls(2000, 4000, seed=1, dt=1 / 2000)) / 0.005
        coarse = -np.log1p(-process.worst_falls(50, 4000, seed=1, dt=1 / 50)) / 0.005
        wanted = np.sqrt(np.pi / 2)
        self.assertAlmostEqual(falls.mean(), wanted, delta=0.04)
        self.assertLess(coarse.mean(), falls.mean())


class Odds(Case):
    def test_closed_and_simulated_chances_agree(self):
        closed = PRICE.chance(1.0, above=90, below=120)
        z = [(np.log(x / 100) - PRICE.log_drift) / 0.25 for x in (90, 120)]
        self.assertAlmostEqual(closed, stats.norm.cdf(z[1]) - stats.norm.cdf(z[0]), 9)
        drawn = PRICE.chance(1.0, above=90, below=120, simulate=True, trials=40_000, steps=4)
        self.assertLess(abs(drawn - closed), 1.6 * drawn.error)
        self.assertGreater(JUMPS.chance(1.0, below=60, seed=1).error, 0)

    def test_touching_a_level(self):
        for process, level in ((PRICE, 130.0), (PRICE, 80.0), (WALK, 13.0), (WALK, 7.0)):
            closed = process.touch(level, 1.0)
            drawn = process.touch(level, 1.0, simulate=True, trials=40_000, steps=10, seed=2)
            self.assertLess(abs(drawn - closed), 1.6 * drawn.error, (process.label, level))
        driftless = kd.RandomWalk(0.0, 0.0, 1.0)
        self.assertAlmostEqual(driftless.touch(1.0, 1.0), 2 * stats.norm.sf(1.0), 12)  # the reflection principle
        self.assertEqual(PRICE.touch(100.0, 1.0), 1.0)

    def test_mistakes(self):
        for call, words in (
            (lambda: PRICE.chance(1.0), ("above=, below=",)),
            (lambda: PRICE.chance(0.0, above=1), ("above 0",)),
            (lambda: PRICE.touch(-5.0, 1.0), ("cannot reach",)),
            (lambda: REGIMES.expected(1.0), ("no closed form",)),
            (lambda: PRICE.paths(0, 5, 1), ("periods",)),
            (lambda: PRICE.paths(5, 5, 1, dt=0), ("dt", "above 0")),
            (lambda: PRICE.paths(5, 5, 1, uncertain=True), ("fitted",)),
            (lambda: kd.GeometricBrownianMotion(-1, 0, 0.2), ("start", "above 0")),
            (lambda: kd.RegimeSwitching(1.0, 0.1, (0.1, 0.2), (1, 1)), ("drifts", "pair")),
            (lambda: kd.RegimeSwitching(1.0, (0, 0), (0.1, 0.2), (1, 1), first=2), ("first",)),
            (lambda: kd.MeanReverting(0.0, 1.0, 1.0, 1.0, log=True), ("start", "above 0")),
            (lambda: kd.BootstrapReturns([0.1, -1.5]), ("return 1", "above -1")),
            (lambda: kd.BootstrapReturns([0.1, 0.2], block=3), ("block",)),
            (lambda: kd.BootstrapReturns([0.1, 0.2]).paths(3, 3, 1, dt=0.5), ("dt must be 1",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


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
            made = type(process).fit(self.series(process), 1 / 250)
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
        self.assertIn("no mean", flat.fitted.said)

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


class Together(Case):
    def test_correlated_shocks(self):
        matrix = np.array([[1, 0.6, -0.3], [0.6, 1, 0], [-0.3, 0, 1]])
        made = kd.PathSet({"a": PRICE, "b": RATE, "c": JUMPS}, correlation=matrix)
        paths = made.paths(1, 60_000, seed=1)
        self.assertEqual(paths.shape, (3, 2, 60_000))
        found = np.corrcoef(np.log(paths[0, 1]), paths[1, 1])[0, 1]
        self.assertAlmostEqual(found, 0.6, delta=0.01)
        end = made.outcome(lambda block: block[0, -1] - block[1, -1], periods=1, trials=60_000, seed=1)
        np.testing.assert_array_equal(end, paths[0, 1] - paths[1, 1])

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.PathSet({}), ("at least one",)),
            (lambda: kd.PathSet({"a": 3}), ("must be a process",)),
            (lambda: kd.PathSet({"a": PRICE}, np.eye(2)), ("1 by 1",)),
            (lambda: kd.PathSet({"a": PRICE, "b": PRICE}, [[1, 0.5], [0.4, 1]]), ("symmetric",)),
            (lambda: kd.PathSet(dict.fromkeys("abc", PRICE), -0.9 + 1.9 * np.eye(3)), ("cannot all be", "a with b")),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


def fuel_model() -> kd.Model:
    model = kd.Model("fuel", periods=8, start=2030)
    model.driver("energy", RATE, unit="EUR/kWh", dt=0.5)
    model.driver("fuel", JUMPS, dt=0.5)
    model.correlate("energy", "fuel", 0.5)
    model.outcome("last_energy", "last(energy)")
    model.outcome("cost", "total(energy) + last(fuel) / 100")
    return model


class AsDrivers(Case):
    def test_rows_follow_the_process_under_every_plan(self):
        for sampling in ("latin", "random", "sobol", "antithetic"):
            run = fuel_model().simulate(8000, seed=2, sampling=sampling)
            mean = run["last_energy"].mean
            self.assertLess(abs(mean - float(RATE.expected(4.0))), 2 * max(mean.error, 1e-5))
            self.assertAlmostEqual(run["last_energy"].sd, RATE.at(4.0).sd, delta=0.0015)
            self.assertAlmostEqual(run.correlations()["reached"][0], 0.5, delta=0.03)
        np.testing.assert_allclose(run["energy"].base, RATE.expected(0.5 * np.arange(1, 9)))

    def test_model_files_hold_processes(self):
        model = fuel_model()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(model.to_toml(), encoding="utf-8")
            loaded = kd.load_model(path)
            for wrong, words in (
                ('process = "mean revrting"', ("did you mean 'mean reverting'",)),
                ('process = "random walk"\nstart = 1', ("'drift' is missing",)),
                ('process = "random walk"\nstrat = 1', ("did you mean 'start'",)),
                ('process = "random walk"\ndistribution = "normal"', ("not both",)),
            ):
                path.write_text(f'[model]\nname = "m"\nperiods = 3\n[drivers.x]\n{wrong}', encoding="utf-8")
                with self.fails("drivers.x", *words, kind=kd.FileError):
                    kd.load_model(path)
        one, two = (made.simulate(500, seed=1)["cost"].values for made in (model, loaded))
        np.testing.assert_array_equal(one, two)

    def test_path_sets_uncertain_parameters_and_replacements(self):
        history = kd.GeometricBrownianMotion(100.0, 0.05, 0.2).paths(60, 1, seed=3, dt=1 / 12)[:, 0]
        fitted = kd.GeometricBrownianMotion.fit(history, 1 / 12)
        model = kd.Model("m", periods=12)
        model.driver("fleet", kd.PathSet({"a": fitted, "b": fitted}, [[1, 0.7], [0.7, 1]]), dt=1 / 12)
        model.outcome("y", "last(a)")
        run = model.simulate(4000, seed=1)
        self.assertAlmostEqual(run.correlations()["reached"][0], 0.7, delta=0.01)
        unsure = kd.Model("m", periods=12)
        unsure.driver("a", fitted, dt=1 / 12, uncertain=True)
        unsure.outcome("y", "last(a)")
        self.assertGreater(unsure.simulate(4000, seed=1)["y"].sd, 1.05 * run["y"].sd)
        calm = unsure.replace(a=kd.GeometricBrownianMotion(100.0, 0.0, 0.01)).simulate(1000, seed=1)
        self.assertAlmostEqual(calm["y"].sd, 1.0, delta=0.1)
        steady = unsure.replace(a=kd.Normal(3, 1)).simulate(1000, seed=1)
        self.assertEqual(steady["a"].values.shape, (12, 1000))

    def test_sensitivities_know_processes(self):
        run = fuel_model().simulate(2000, seed=1)
        self.assertEqual(run.sensitivity("last_energy", "swing").index[0], "energy")
        self.assertEqual(run.sensitivity("last_energy", "rank", by_period=True).index[0], "energy 2037")
        shares = run.sensitivity("cost", "shapley")["share of variance"]
        self.assertAlmostEqual(shares.sum(), 1, 9)
        alone = fuel_model().unlinked().simulate(500, seed=1).sensitivity("last_energy", "sobol")
        self.assertAlmostEqual(alone.loc["energy", "total"], 1, delta=0.02)

    def test_mistakes(self):
        model = kd.Model("m", periods=3)
        for call, words in (
            (lambda: kd.Model("n").driver("x", WALK), ("with periods",)),
            (lambda: model.driver("x", WALK, each="period"), ("its own course",)),
            (lambda: model.driver("x", WALK, uncertain=True), ("fitted",)),
            (lambda: model.driver("x", WALK, dt=-1), ("dt",)),
            (lambda: model.driver("x", kd.Normal(0, 1), dt=2), ("belong to a process",)),
            (lambda: fuel_model().sweep(fuel=[1, 2]), ("is a process",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class Falls(Case):
    def test_against_pandas(self):
        import pandas as pd

        paths = PRICE.paths(200, 50, seed=1, dt=1 / 250)
        frame = pd.DataFrame(paths)
        falls = 1 - frame / frame.cummax()
        np.testing.assert_allclose(kd.drawdown(paths), falls)
        np.testing.assert_allclose(kd.max_drawdown(paths), falls.max())
        np.testing.assert_allclose(kd.time_under_water(paths), (falls.iloc[1:] > 0).mean())
        returns = frame.pct_change().iloc[1:]
        np.testing.assert_allclose(kd.sharpe_ratio(paths, 0.0001, 250), (returns.mean() - 0.0001) / returns.std() * 250**0.5)
        np.testing.assert_allclose(kd.volatility(paths, 250), np.log(frame).diff().std() * 250**0.5)
        np.testing.assert_allclose(kd.compound_growth(paths, 250), (paths[-1] / paths[0]) ** (250 / 200) - 1)
        short = (returns.clip(upper=0) ** 2).mean() ** 0.5
        np.testing.assert_allclose(kd.sortino_ratio(paths), returns.mean() / short)
        self.assertEqual(kd.max_drawdown(paths[:, 0]), kd.max_drawdown(paths)[0])

    def test_durations_and_mistakes(self):
        self.assertEqual(kd.drawdown_duration([5.0, 4, 3, 5, 6, 5, 5, 5]), 3)
        np.testing.assert_array_equal(kd.drawdown_duration([[1.0, 2], [2, 1], [1, 1]]), [1, 2])
        for call, words in (
            (lambda: kd.max_drawdown([1.0, 0.0]), ("above 0",)),
            (lambda: kd.max_drawdown([1.0]), ("at least 2",)),
            (lambda: kd.sharpe_ratio([1.0, 2.0]), ("at least 3",)),
            (lambda: kd.volatility([1.0, 2.0, 3.0], per_year=0), ("per_year",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
