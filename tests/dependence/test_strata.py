"""Tests of stratified scores made dependent, and of what becomes of correlated drivers."""

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.dependence.copulas import Elliptical
from kindynos.dependence.groups import DriverGroup
from kindynos.dependence.scores import Scores
from kindynos.dependence.strata import in_strata, kept_correlation
from tests.common import Case, proof

RNG = np.random.default_rng(2)


def latin(samples, trials):
    return (
        np.array([RNG.permutation(trials) for _ in range(samples)]) + RNG.random((samples, trials))
    ) / trials


class Strata(Case):
    def test_mixed_scores_keep_their_order_and_fill_every_stratum(self):
        own, mixed = latin(50, 40), RNG.normal(size=(50, 40))
        scores = in_strata(mixed, own)
        np.testing.assert_array_equal(np.argsort(scores, axis=1), np.argsort(mixed, axis=1))
        strata = np.sort(np.floor(scores * 40), axis=1)
        np.testing.assert_array_equal(strata, np.tile(np.arange(40), (50, 1)))

    def test_places_within_strata_are_uniform_and_apart_from_ranks(self):
        """The top stratum of 4 trials is where a place that bore on the rank would show most."""
        own = latin(20_000, 4)
        mixed = 0.6 * stats.norm.ppf(own) + 0.8 * stats.norm.ppf(latin(20_000, 4))
        placed = np.sort(in_strata(mixed, own), axis=1) * 4 - np.arange(4)
        for column in placed.T:
            self.assertGreater(stats.kstest(column, "uniform").pvalue, 1e-3)

    def test_the_part_of_a_correlation_that_ranks_keep(self):
        """Against Spearman's correlation of n normal pairs (Moran, Biometrika 35, 1948), in strata:
        the part of ranks times 1 - 1 / n^2, for the mean within strata.
        """
        r, n = 0.6, 40
        spearman = 6 / np.pi * (np.arcsin(r) + (n - 2) * np.arcsin(r / 2)) / (n + 1)
        wanted = spearman * (1 - 1 / n**2) / (6 / np.pi * np.arcsin(r / 2))
        matrix = np.array([[1, r, r], [r, 1, r], [r, r, 1]])
        kept = kept_correlation(n, matrix, True)
        self.assertAlmostEqual(kept[1, 2], wanted, delta=0.008)
        self.assertEqual(kept_correlation(2_000, matrix, True)[0, 1], 1)
        self.assertGreater(kept_correlation(900, matrix, False)[0, 1], 0.99)

    def test_normal_scores_are_those_of_the_uniform_ones(self):
        uniform = {"a": RNG.random(5_000), "b": RNG.random(5_000)}
        copula = Elliptical(((1.0, 0.6), (0.6, 1.0)))
        group = DriverGroup(("a", "b"), copula)
        scores = group.apply(Scores(uniform), False)
        np.testing.assert_array_equal(scores["a"], uniform["a"])
        z = stats.norm.ppf(uniform["a"]), stats.norm.ppf(uniform["b"])
        np.testing.assert_allclose(scores.normal("b"), 0.6 * z[0] + 0.8 * z[1], atol=1e-9)
        np.testing.assert_allclose(scores["b"], stats.norm.cdf(scores.normal("b")), atol=1e-12)


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
