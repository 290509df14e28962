"""Tests of the passage between stratified and independent scores, and of what it makes of
correlated drivers.
"""

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.dependence.strata import independent_from_stratified, stratified_from_independent
from tests.common import Case, proof

RNG = np.random.default_rng(2)


def latin(samples, trials):
    return (
        np.array([RNG.permutation(trials) for _ in range(samples)]) + RNG.random((samples, trials))
    ) / trials


class Passage(Case):
    def test_scores_become_independent_and_come_back(self):
        scores = latin(2000, 30)
        loose = independent_from_stratified(scores)
        self.assertGreater(stats.kstest(loose.reshape(-1), "uniform").pvalue, 0.01)
        # of independent scores these are uniform
        for extreme in (loose.max(axis=1) ** 30, (1 - loose.min(axis=1)) ** 30):
            self.assertGreater(stats.kstest(extreme, "uniform").pvalue, 0.01)
        np.testing.assert_allclose(stratified_from_independent(loose), scores, atol=1e-12)

    def test_places_within_strata_are_uniform_and_independent(self):
        placed = np.sort(
            stratified_from_independent(RNG.random((4000, 20))), axis=1
        ) * 20 - np.arange(20)
        self.assertTrue((placed >= 0).all() and (placed <= 1).all())
        for column in placed.T:
            counts = np.histogram(column, bins=20, range=(0, 1))[0]
            self.assertGreater(stats.chisquare(counts).pvalue, 1e-4)
        self.assertLess(
            abs(np.corrcoef(placed[:, :-1].reshape(-1), placed[:, 1:].reshape(-1))[0, 1]), 0.015
        )


class Drivers(Case):
    """The default plan with serial and other correlations: strata kept, margins exact, correlations
    as stated.
    """

    def model(self, correlation=0.9):
        model = kd.Model("rows", periods=3)
        model.driver("a", kd.Normal(0, 1), each="period", serial=0.8)
        model.driver("b", kd.Normal(0, 1), each="period", serial=0.8)
        model.correlate("a", "b", correlation)
        model.outcome("y", "last(a)")
        return model

    def test_strata_are_kept_and_uniform_inside(self):
        places = []
        for seed in range(30):
            run = self.model().simulate(400, seed=seed, keep=["a", "b"], workers=1)
            for name in ("a", "b"):
                # 20 blocks of 20 trials
                scores = stats.norm.cdf(run.row(name).values).reshape(3, 20, 20)
                scaled = np.sort(scores, axis=-1) * 20 - np.arange(20)
                self.assertTrue((scaled > -1e-9).all() and (scaled < 1 + 1e-9).all())
                places.append(scaled.reshape(-1))
        counts = np.histogram(np.concatenate(places), bins=25, range=(0, 1))[0]
        self.assertGreater(stats.chisquare(counts).pvalue, 1e-3)

    @proof
    def test_the_sd_is_right_in_small_blocks(self):
        found = np.array(
            [
                self.model().simulate(500, seed=s, keep=["a"], workers=1).row("a").sd
                for s in range(60)
            ]
        )
        error = found.std(axis=0) / 60**0.5
        self.assertTrue(
            (np.abs(found.mean(axis=0) - 1) < 4 * error + 1e-3).all(), found.mean(axis=0)
        )

    @proof
    def test_correlations_reach_what_is_stated_in_small_blocks(self):
        for stated in (0.5, 0.9):
            reached = [
                stats.spearmanr(
                    *self.model(stated)
                    .simulate(500, seed=s, keep=["a", "b"], workers=1)
                    .to_frame("a", "b")[["a 2", "b 2"]]
                    .to_numpy()
                    .T
                ).statistic
                for s in range(40)
            ]
            self.assertAlmostEqual(np.mean(reached), stated, delta=0.008)

    def test_extremes_come_together_as_in_the_copula(self):
        model = kd.Model("tails")
        for name in ("a", "b"):
            model.driver(name, kd.Uniform(0, 1))
        model.correlate("a", "b", 0.9, copula="t", df=3)
        model.outcome("y", "min(a, b)")
        latin_run, random_run = (
            model.simulate(100_000, seed=3, sampling=plan) for plan in ("latin", "random")
        )
        for level in (0.99, 0.999):
            ours, theirs = (run["y"].chance(above=level) for run in (latin_run, random_run))
            self.assertLess(abs(ours - theirs), 1.5 * (ours.error + theirs.error))
