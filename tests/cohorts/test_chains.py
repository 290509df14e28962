"""Tests of closed forms of cohorts on chains whose answers textbooks give."""

import numpy as np
from scipy import linalg, stats

import kindynos as kd
from tests.common import Case


def chain(size, chances):
    """A cohort of one thing on the states "0" ... with the chances of a function of the state."""
    names = [str(i) for i in range(size)]
    return kd.Cohort(
        names,
        {"0": 1},
        {str(i): {str(j): p for j, p in chances(i).items()} for i in range(size)},
        remainder_state="same",
    )


class Textbook(Case):
    def test_the_gamblers_ruin(self):
        for p in (0.3, 0.5, 0.55):
            game = chain(9, lambda i, p=p: {i - 1: 1 - p, i + 1: p} if 0 < i < 8 else {})
            odds = (1 - p) / p
            start = np.arange(9)
            win = start / 8 if p == 0.5 else (1 - odds**start) / (1 - odds**8)
            rounds = start * (8 - start) if p == 0.5 else (start - 8 * win) / (1 - 2 * p)
            np.testing.assert_allclose(game.reaching("8").chance, win)
            inside = game.time_in_states().iloc[1:8, 1:8].sum(axis=1)
            np.testing.assert_allclose(inside, rounds[1:8])

    def test_collecting_all_of_ten(self):
        cards = chain(11, lambda i: {i + 1: 1 - i / 10} if i < 10 else {})
        self.assertAlmostEqual(cards.reaching("10").mean["0"], 10 * (1 / np.arange(1, 11)).sum())

    def test_the_time_of_the_third_success_is_negative_binomial(self):
        found = chain(4, lambda i: {i + 1: 0.3} if i < 3 else {}).reaching("3", periods=30)
        by = [found.by[n]["0"] for n in range(3, 31)]
        np.testing.assert_allclose(by, stats.nbinom.cdf(np.arange(28), 3, 0.3))
        self.assertAlmostEqual(found.mean["0"], 10)

    def test_urns_settle_at_the_binomial(self):
        urns = chain(7, lambda i: {j: p for j, p in ((i - 1, i / 12), (i + 1, (6 - i) / 12)) if p})
        np.testing.assert_allclose(urns.steady_state(), stats.binom.pmf(np.arange(7), 6, 0.5))

    def test_random_chains_settle_at_their_eigenvector(self):
        for seed in range(8):
            rng = np.random.default_rng(seed)
            matrix = rng.dirichlet(np.full(5, 0.5), 5)
            cohort = kd.Cohort(list("abcde"), {"a": 3}, matrix)
            shares = linalg.null_space(matrix.T - np.eye(5))[:, 0]
            np.testing.assert_allclose(cohort.steady_state(), shares / shares.sum(), atol=1e-10)
            settled = cohort.expected(40).iloc[:, -1] / 3
            np.testing.assert_allclose(settled, np.linalg.matrix_power(matrix, 40)[0])

    def test_a_death_process_is_binomial_in_every_period(self):
        things = kd.Cohort(
            ["alive", "gone"], {"alive": 30}, {"alive": {"gone": 0.2}}, remainder_state="same"
        )
        for period in (1, 4, 9):
            left = 0.8**period
            self.assertAlmostEqual(things.expected(period).loc["alive", period], 30 * left)
            self.assertAlmostEqual(
                things.covariance(period).loc["alive", "alive"], 30 * left * (1 - left)
            )
        alive = things.counts(4, 20_000, seed=8)[0, 4].astype(int)
        seen, expected = (
            np.bincount(alive, minlength=31),
            20_000 * stats.binom.pmf(np.arange(31), 30, 0.8**4),
        )
        kept = expected > 8
        self.assertGreater(
            stats.chi2.sf(((seen - expected) ** 2 / expected)[kept].sum(), kept.sum() - 1), 1e-3
        )

    def test_arrivals_and_departures_balance(self):
        flow = kd.Cohort(
            ["in", "out"],
            {"in": 0},
            {"in": {"out": 0.25}},
            remainder_state="same",
            arrivals={"in": 100},
        )
        self.assertAlmostEqual(flow.expected(60).loc["in", 60], 400 * (1 - 0.75**60))
        steady = flow.counts(60, 1000, seed=2)[0, 60]
        self.assertAlmostEqual(steady.mean(), 400, delta=4 * steady.std() / 31)
