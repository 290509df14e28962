"""Tests of paths."""

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from tests.common import PRICES, Case

PRICE = kd.GeometricBrownianMotion(100.0, drift=0.06, volatility=0.25)


JUMPS = kd.JumpDiffusion(100.0, 0.05, 0.2, rate=2.0, jump_mean=-0.1, jump_sd=0.1)


REGIMES = kd.RegimeSwitching(100.0, (0.08, -0.1), (0.1, 0.35), (1.0, 4.0))


RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.03)


LOG_RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.3, log=True)


WALK = kd.RandomWalk(10.0, 0.5, 2.0)


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
        self.near(paths[-1], REGIMES._expected_values(52, 1 / 52)[-1])
        logs = np.log(JUMPS.paths(4, 60_000, seed=2, dt=0.25)[-1] / 100)
        self.assertAlmostEqual(logs.var(), JUMPS.log_variance(1.0), delta=0.002)

    def test_laws_after_a_time(self):
        for process in (PRICE, RATE, LOG_RATE, WALK):
            with self.subTest(process=process.label):
                ends = process.paths(5, 20_000, seed=5, dt=0.3)[-1]
                distribution = process.distribution_at(1.5)
                self.assertGreater(
                    stats.kstest(
                        ends, lambda x, distribution=distribution: distribution.cdf(x)
                    ).pvalue,
                    0.001,
                )
        exact = stats.lognorm(0.25, scale=100 * np.exp(0.06 - 0.25**2 / 2))
        self.assertAlmostEqual(PRICE.distribution_at(1.0).percentile(5), exact.ppf(0.05), 9)
        self.assertAlmostEqual(PRICE.log_drift, 0.06 - 0.25**2 / 2)

    def test_steps_add_up_over_any_dt(self):
        fine, coarse = (RATE.paths(n, 30_000, seed=1, dt=2.0 / n)[-1] for n in (40, 2))
        self.assertGreater(stats.ks_2samp(fine, coarse).pvalue, 0.001)

    def test_plans_of_shocks(self):
        walk = kd.RandomWalk(0.0, 0.0, 1.0)
        for one in (walk, kd.PathSet({"a": walk, "b": walk})):
            for name in ("antithetic", "moment_matching"):
                with self.fails(f"{name} must be True or False"):
                    one.paths(3, 10, **{name: [1, 2]})
        paths = PRICE.paths(12, 1001, seed=1, antithetic=True)
        logs = np.log(paths[-1])
        self.assertAlmostEqual(logs[:1000].mean(), np.log(100) + 12 * PRICE.log_drift, delta=0.05)
        matched = np.log(PRICE.paths(12, 1000, seed=1, moment_matching=True))
        np.testing.assert_allclose(
            np.diff(matched, axis=0).mean(axis=1), PRICE.log_drift, atol=1e-12
        )
        np.testing.assert_allclose(np.diff(matched, axis=0).std(axis=1), 0.25, atol=1e-12)
        np.testing.assert_array_equal(paths, PRICE.paths(12, 1001, seed=1, antithetic=True))
        self.assertFalse(np.array_equal(paths, PRICE.paths(12, 1001, seed=2, antithetic=True)))

    def test_bootstrap_keeps_what_follows_what(self):
        history = np.arange(1.0, 21) / 1000
        steps = np.diff(
            np.log(kd.BootstrapReturns(history, block=5, kind="fixed").paths(10, 400, seed=1)),
            axis=0,
        )
        place = np.rint(np.expm1(steps) * 1000)
        follows = (place[1:] - place[:-1]) % 20 == 1
        self.assertTrue(follows[[0, 1, 2, 3, 5, 6, 7, 8]].all())
        self.assertLess(follows[4].mean(), 0.2)
        steps = np.diff(
            np.log(kd.BootstrapReturns(history, block=4).paths(30, 4000, seed=1)), axis=0
        )
        place = np.rint(np.expm1(steps) * 1000)
        self.assertAlmostEqual(
            ((place[1:] - place[:-1]) % 20 == 1).mean(), 0.75 + 0.25 / 20, delta=0.01
        )
        single = kd.BootstrapReturns(history).paths(1, 40_000, seed=1)[-1] - 1
        self.assertAlmostEqual(single.mean(), history.mean(), delta=2e-4)

    def test_max_drawdowns_are_those_of_the_paths(self):
        for process in (PRICE, JUMPS, REGIMES, LOG_RATE):
            drawdowns = process.max_drawdowns(30, 3000, seed=7, dt=0.1)
            np.testing.assert_allclose(
                drawdowns, kd.max_drawdown(process.paths(30, 3000, seed=7, dt=0.1)), atol=1e-12
            )
        with self.fails("stay above 0"):
            WALK.max_drawdowns(3, 3, seed=1)

    def test_expected_fall_of_driftless_brownian_motion(self):
        # The mean of the largest drop of a driftless Brownian motion tends to sqrt(pi / 2 x time)
        # as the steps grow.
        process = kd.GeometricBrownianMotion(1.0, drift=0.005**2 / 2, volatility=0.005)
        drawdowns = -np.log1p(-process.max_drawdowns(2000, 4000, seed=1, dt=1 / 2000)) / 0.005
        coarse = -np.log1p(-process.max_drawdowns(50, 4000, seed=1, dt=1 / 50)) / 0.005
        wanted = np.sqrt(np.pi / 2)
        self.assertAlmostEqual(drawdowns.mean(), wanted, delta=0.04)
        self.assertLess(coarse.mean(), drawdowns.mean())


class Behaviour(Case):
    def test_mean_reversion_forgets_at_its_speed(self):
        process = kd.MeanReverting(1.0, 1.0, 2.0, 0.5)
        paths = process.paths(40, 30_000, seed=1, dt=0.1)
        found = np.corrcoef(paths[30], paths[35])[0, 1]
        self.assertAlmostEqual(found, np.exp(-2.0 * 0.5), delta=0.02)
        self.assertAlmostEqual(paths[40].std(), 0.5 / np.sqrt(4), delta=0.005)

    def test_jumps_come_as_often_as_their_rate(self):
        from kindynos.processes.jumps import poisson_quantile

        levels = np.random.default_rng(1).random(2000)
        for mean in (0.01, 0.7, 12.0, 60.0, 900.0, 2e6):
            np.testing.assert_array_equal(
                poisson_quantile(levels, np.asarray(mean)), stats.poisson(mean).ppf(levels)
            )
        rare = kd.JumpDiffusion(100.0, 0.0, 0.01, rate=0.5, jump_mean=-0.5, jump_sd=0.01)
        ends = np.log(rare.paths(1, 40_000, seed=1)[-1] / 100)
        drift = -0.5 * np.expm1(-0.5 + 0.01**2 / 2)
        self.assertAlmostEqual((ends > drift - 0.25).mean(), np.exp(-0.5), delta=0.01)

    def test_regimes_share_their_time(self):
        process = kd.RegimeSwitching(100.0, (0.0, 0.0), (0.05, 0.5), (2.0, 6.0))
        logs = np.log(process.paths(400, 4000, seed=3, dt=0.05))
        late = np.diff(logs, axis=0)[200:]
        wild = 0.5**2 * process.share_in(1) + 0.05**2 * process.share_in(0)
        self.assertAlmostEqual(late.var() / 0.05, wild, delta=0.004)

    def test_path_sets_take_frames_and_match_moments(self):
        price = kd.GeometricBrownianMotion(100.0, 0.05, 0.2)
        frame = pd.DataFrame([[1, 0.4], [0.4, 1]], index=["b", "a"], columns=["b", "a"])
        made = kd.PathSet({"a": price, "b": price}, correlation=frame)
        self.assertEqual(made.correlation[0, 1], 0.4)
        paths = made.paths(3, 512, seed=1, moment_matching=True, antithetic=True)
        self.assertEqual(paths.shape, (2, 4, 512))
        with self.fails("no row and column 'a'"):
            kd.PathSet({"a": price}, correlation=frame.drop(columns="a"))
        with self.fails("one value a trial"):
            made.outcome(lambda block: block, 3, 100, seed=1)
        for call, words in (
            (lambda: made.outcome(-0.5, 3, 100), "a function of paths"),
            (lambda: made.outcome(np.max, 3, 10**30), "memory"),
            (lambda: price.hit_probability(200, 1.0, simulate=True, trials=10**30), "memory"),
        ):
            with self.subTest(words=words), self.fails(words):
                call()

    def test_series_drawn_from_one_history_keep_their_dates_together(self):
        frame = PRICES.frame
        wanted = frame.pct_change().iloc[1:].corr().to_numpy()
        together = kd.BootstrapReturns.fit(frame, block=1)
        made = together.paths(20, 2000, seed=1)
        steps = (made[:, 1:] / made[:, :-1] - 1).reshape(3, -1)
        np.testing.assert_allclose(np.corrcoef(steps), wanted, atol=0.05)
        known = {tuple(row) for row in np.round(frame.pct_change().iloc[1:].to_numpy(), 9).tolist()}
        # each a day of the history
        self.assertTrue(all(tuple(row) in known for row in np.round(steps.T[:50], 9).tolist()))
        model = kd.Model("prices", periods=20)
        model.driver("prices", together)
        model.outcome("end", "at(alpha, 20)")
        run = model.simulate(1000, seed=1)
        self.assertEqual(run.facts()["assumed independent"], [])
        self.assertNotIn("dependence", list(model.check()["name"]))
        alpha, beta = (
            np.diff(np.log(run.row(name).values), axis=0).ravel() for name in ("alpha", "beta")
        )
        self.assertAlmostEqual(np.corrcoef(alpha, beta)[0, 1], wanted[0, 1], delta=0.05)
        with self.fails("shared"):
            kd.PathSet(together.processes, np.eye(3), shared=True)

    def test_reached_correlations_are_of_returns(self):
        model = kd.Model("jumps", periods=50)
        jumps = kd.JumpDiffusion(100.0, 0.05, 0.05, 12.0, -0.05, 0.1)
        for name in ("a", "b"):
            model.driver(name, jumps, dt=1 / 12)
        model.correlate("a", "b", 0.8, kind="linear")
        model.outcome("end", "at(a, 50) + at(b, 50)")
        run = model.simulate(2000, seed=1)
        a, b = (np.diff(np.log(run.row(name).values), axis=0).ravel() for name in ("a", "b"))
        reached = run.correlations["reached"].iloc[0]
        self.assertAlmostEqual(reached, np.corrcoef(a, b)[0, 1], delta=0.02)
        self.assertAlmostEqual(reached, 0.8, delta=0.02)

    def test_simulated_laws_after_a_time(self):
        distribution = kd.JumpDiffusion(100.0, 0.05, 0.2, 2.0, -0.1, 0.1).distribution_at(
            1.0, trials=20_000, seed=1, steps=4
        )
        self.assertAlmostEqual(distribution.mean, 100 * np.exp(0.05), delta=1.2)
        self.assertLess(len(repr(distribution)), 200)
        ax = (
            kd.GeometricBrownianMotion(100.0, 0.05, 0.2)
            .distribution_at(1.0)
            .plot(ax=Figure().subplots(), between=(90, 120))
        )
        self.assertIn(
            "90 to 120", " ".join(text.get_text() for text in ax.get_legend().get_texts())
        )
        ax = kd.Poisson(3.0).plot(ax=Figure().subplots(), between=(1, 4), mark=2)
        self.assertIn("1 to 4", " ".join(text.get_text() for text in ax.get_legend().get_texts()))


class Together(Case):
    def test_correlated_shocks(self):
        matrix = np.array([[1, 0.6, -0.3], [0.6, 1, 0], [-0.3, 0, 1]])
        made = kd.PathSet({"a": PRICE, "b": RATE, "c": JUMPS}, correlation=matrix)
        paths = made.paths(1, 60_000, seed=1)
        self.assertEqual(paths.shape, (3, 2, 60_000))
        found = np.corrcoef(np.log(paths[0, 1]), paths[1, 1])[0, 1]
        self.assertAlmostEqual(found, 0.6, delta=0.01)
        end = made.outcome(
            lambda block: block[0, -1] - block[1, -1], periods=1, trials=60_000, seed=1
        )
        np.testing.assert_array_equal(end, paths[0, 1] - paths[1, 1])

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.PathSet({}), ("at least one",)),
            (lambda: kd.PathSet({"a": 3}), ("must be a process",)),
            (lambda: kd.PathSet({"a": PRICE}, np.eye(2)), ("1 by 1",)),
            (lambda: kd.PathSet({"a": PRICE, "b": PRICE}, [[1, 0.5], [0.4, 1]]), ("symmetric",)),
            (
                lambda: kd.PathSet(dict.fromkeys("abc", PRICE), -0.9 + 1.9 * np.eye(3)),
                ("cannot hold together", "a with b"),
            ),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
