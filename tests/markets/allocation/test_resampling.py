"""Tests of how histories and moments are redrawn."""

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.inference.block_bootstrap import block_positions
from tests.common import PRICES, Case, proof


class Blocks(Case):
    def test_stretches_of_the_history_that_go_round(self):
        places = np.concatenate(
            [block_positions(np.random.default_rng(seed), 1, 500, 8.0)[0] for seed in range(40)]
        )
        follows = np.diff(places.reshape(40, 500), axis=1) % 500 == 1
        # A stretch goes on with probability 7/8; by chance the next one begins at the following day
        # once in 500.
        self.assertAlmostEqual(follows.mean(), 7 / 8 + 1 / 8 / 500, delta=0.01)
        counts = np.bincount(places, minlength=500)
        self.assertAlmostEqual(counts.mean(), 40)
        self.assertLess(counts.max(), 120)  # no day is drawn much more often than others
        alone = block_positions(np.random.default_rng(1), 1, 1_000, 1.0)[0]
        self.assertLess((np.diff(alone) % 1_000 == 1).mean(), 0.01)

    def test_longer_blocks_keep_what_hangs_together(self):
        rng = np.random.default_rng(3)
        series = np.convolve(rng.standard_normal(2_004), np.ones(5) / 5, mode="valid")
        true = series.mean()

        def spread(length):
            draws = [
                series[block_positions(np.random.default_rng(seed), 1, 2_000, length)[0]].mean()
                - true
                for seed in range(300)
            ]
            return float(np.std(draws))

        single = series.std() / np.sqrt(2_000)
        self.assertAlmostEqual(spread(1.0) / single, 1, delta=0.12)
        # A moving mean of five has five times the variance of its mean; blocks of 40 keep nearly
        # all of it.
        self.assertAlmostEqual(spread(40.0) / single, np.sqrt(5), delta=0.35)


class Moments(Case):
    @proof
    def test_they_are_drawn_from_their_sampling_distribution(self):
        moments = kd.Moments(
            [0.01, 0.02], [[0.04, 0.01], [0.01, 0.09]], names=["a", "b"], observations=50
        )
        found = kd.allocate(moments, limits={"sd": 0.22})
        from kindynos.markets.allocation.resampling import _drawing

        draw, how = _drawing(found.request.source, None)
        drawn = [draw(np.random.default_rng(seed)) for seed in range(800)]
        means = np.array([one.mean for one in drawn])
        variances = np.array([one.covariance[0, 0] for one in drawn])
        crosses = np.array([one.covariance[0, 1] for one in drawn])
        self.assertIn("50 normal returns", how)
        self.assertAlmostEqual(means[:, 1].std() / (0.3 / np.sqrt(50)), 1, delta=0.08)
        scaled = 49 * variances / 0.04
        self.assertGreater(stats.kstest(scaled, stats.chi2(49).cdf).pvalue, 0.001)
        self.assertAlmostEqual(crosses.mean(), 0.01, delta=0.001)
        self.assertAlmostEqual(crosses.var() / ((0.04 * 0.09 + 0.01**2) / 49), 1, delta=0.2)

    def test_the_same_seed_gives_the_same_weights(self):
        best = kd.allocate(PRICES, minimize="sd")
        one, two, other = (best.resampled(20, seed=seed).draws for seed in (1, 1, 2))
        np.testing.assert_array_equal(one, two)
        self.assertFalse(np.array_equal(one, other))

    def test_bounds_and_groups_hold_for_every_draw_and_for_the_average(self):
        names = PRICES.instruments
        best = kd.allocate(
            PRICES,
            minimize="expected_shortfall",
            bounds=(0.1, 0.6),
            groups={tuple(names[:2]): (0.5, 0.7)},
        )
        found = best.resampled(25, seed=3)
        for weights in (*found.draws.to_numpy(), found.average.to_numpy()):
            self.assertAlmostEqual(weights.sum(), 1)
            self.assertTrue((weights >= 0.1 - 1e-9).all() and (weights <= 0.6 + 1e-9).all())
            self.assertTrue(0.5 - 1e-9 <= weights[:2].sum() <= 0.7 + 1e-9)

    @proof
    def test_the_band_of_the_frontier_is_that_of_a_sample_sd(self):
        # the least sd is that of the first alone
        moments = kd.Moments([0.0, 0.01], np.diag([1e-4, 1.0]), observations=80)
        row = kd.allocate(moments, minimize="sd").resampled(400, seed=2).frontier.iloc[0]
        for column, level in (("sd low", 0.015), ("sd high", 0.985)):
            self.assertAlmostEqual(
                row[column] / (0.01 * np.sqrt(stats.chi2(79).ppf(level) / 79)), 1, delta=0.03
            )

    def test_the_frontier_of_resampled_histories(self):
        table = kd.allocate(PRICES, minimize="sd").resampled(30, seed=1).frontier
        self.assertTrue(
            (table["sd low"] <= table["sd"]).all() and (table["sd"] <= table["sd high"]).all()
        )
        self.assertTrue(table["mean"].is_monotonic_increasing)
        heard = []
        kd.allocate(PRICES, minimize="sd").resampled(20, progress=lambda *a: heard.append(a))
        self.assertEqual(heard[-1], (20, 20))
        with self.fails("times", "at least 20"):
            kd.allocate(PRICES, minimize="sd").resampled(5)
