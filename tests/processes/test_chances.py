"""Tests of chances."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case

PRICE = kd.GeometricBrownianMotion(100.0, drift=0.06, volatility=0.25)


JUMPS = kd.JumpDiffusion(100.0, 0.05, 0.2, rate=2.0, jump_mean=-0.1, jump_sd=0.1)


REGIMES = kd.RegimeSwitching(100.0, (0.08, -0.1), (0.1, 0.35), (1.0, 4.0))


WALK = kd.RandomWalk(10.0, 0.5, 2.0)


class Chances(Case):
    def test_closed_and_simulated_chances_agree(self):
        closed = PRICE.chance(1.0, above=90, below=120)
        z = [(np.log(x / 100) - PRICE.log_drift) / 0.25 for x in (90, 120)]
        self.assertAlmostEqual(closed, stats.norm.cdf(z[1]) - stats.norm.cdf(z[0]), 9)
        drawn = PRICE.chance(1.0, above=90, below=120, simulate=True, trials=40_000, steps=4)
        self.assertLess(abs(drawn - closed), 1.6 * drawn.error)
        self.assertGreater(JUMPS.chance(1.0, below=60, seed=1).error, 0)

    def test_touching_a_level(self):
        for process, level in ((PRICE, 130.0), (PRICE, 80.0), (WALK, 13.0), (WALK, 7.0)):
            closed = process.hit_probability(level, 1.0)
            drawn = process.hit_probability(
                level, 1.0, simulate=True, trials=40_000, steps=10, seed=2
            )
            self.assertLess(abs(drawn - closed), 1.6 * drawn.error, (process.label, level))
        driftless = kd.RandomWalk(0.0, 0.0, 1.0)
        # the reflection principle
        self.assertAlmostEqual(driftless.hit_probability(1.0, 1.0), 2 * stats.norm.sf(1.0), 12)
        self.assertEqual(PRICE.hit_probability(100.0, 1.0), 1.0)
        for wrong in (None, 0, 1.5, "many"):
            with self.fails("hit_probability: trials must be"):
                REGIMES.hit_probability(120.0, 1.0, trials=wrong)

    def test_regimes_between_two_steps(self):
        fine = REGIMES.hit_probability(120, 1.0, steps=500, trials=6000)
        coarse = REGIMES.hit_probability(120, 1.0, steps=25, trials=20_000)
        self.assertLess(abs(fine - coarse), 1.5 * (fine.error**2 + coarse.error**2) ** 0.5)
        drawn = REGIMES.paths(50, 40_000, seed=1, dt=1 / 50)[-1]
        self.assertLess(abs(drawn.mean() - REGIMES.expected(1.0)), 3.5 * drawn.std() / 40_000**0.5)

    def test_mistakes(self):
        for call, words in (
            (lambda: PRICE.chance(1.0), ("above=, below=",)),
            (lambda: PRICE.chance(0.0, above=1), ("above 0",)),
            (lambda: PRICE.hit_probability(-5.0, 1.0), ("cannot reach",)),
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


class Errors(Case):
    def test_odds_of_touching(self):
        process, hits = kd.RandomWalk(0.0, 0.2, 1.0), 0
        closed = process.hit_probability(1.5, 2.0)
        for seed in range(60):
            drawn = process.hit_probability(
                1.5, 2.0, simulate=True, trials=1000, steps=5, seed=seed
            )
            hits += drawn.low <= closed <= drawn.high
        self.assertTrue(52 <= hits <= 60, hits)


class BothSides(Case):
    def test_simulated_chances_have_the_error_of_their_trials(self):
        process = kd.GeometricBrownianMotion(100.0, 0.05, 0.2)
        for figure in (
            process.chance(1.0, above=110, simulate=True, trials=10_000, seed=1, steps=1),
            process.hit_probability(140, within=1.0, simulate=True, trials=10_000, seed=1, steps=4),
        ):
            binomial = 1.96 * (figure * (1 - figure) / 10_000) ** 0.5
            self.assertTrue(0.4 * binomial < figure.error < 1.05 * binomial)
        closed = [process.chance(1.0, above=110), process.hit_probability(140, within=1.0)]
        gaps, errors = [], []
        for seed in range(50):
            pair = (
                process.chance(1.0, above=110, simulate=True, trials=1000, seed=seed, steps=1),
                process.hit_probability(
                    140, within=1.0, simulate=True, trials=1000, seed=seed, steps=2
                ),
            )
            gaps.append([figure - truth for figure, truth in zip(pair, closed, strict=True)])
            errors.append([figure.error for figure in pair])
        self.assertCalibrated(gaps, errors)
