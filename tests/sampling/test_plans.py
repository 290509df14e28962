"""Tests of plans."""

import math

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.sampling.plans import PLANS, ScoreRequest
from tests.common import Case, investment, proof


class Plans(Case):
    requests = (ScoreRequest("a"), ScoreRequest("b", 3), ScoreRequest("c"))

    def test_scores(self):
        for plan in PLANS.values():
            with self.subTest(plan=plan.label):
                scores = plan.scores(self.requests, 5, 2, 4000)
                self.assertEqual(
                    {name: array.shape for name, array in scores.items()},
                    {"a": (4000,), "b": (3, 4000), "c": (4000,)},
                )
                rows = np.concatenate([array.reshape(-1, 4000) for array in scores.values()])
                self.assertTrue(((rows > 0) & (rows < 1)).all())
                for row in rows:
                    self.assertGreater(stats.kstest(row, "uniform").pvalue, 1e-4)
                self.assertLess(np.abs(np.corrcoef(rows)[np.triu_indices(5, 1)]).max(), 0.08)
                again = plan.scores(self.requests, 5, 2, 4000)
                np.testing.assert_array_equal(again["b"], scores["b"])
                self.assertFalse((plan.scores(self.requests, 5, 3, 4000)["a"] == scores["a"]).any())

    def test_names(self):
        self.assertEqual(PLANS.find("latin").label, "latin")
        with self.fails("'Latin'", "did you mean 'latin'?"):
            PLANS.find("Latin")


class PlansInRuns(Case):
    @proof
    def test_sobol_rounds_up_and_is_far_more_exact(self):
        made = kd.Model("sum")
        for i in range(10):
            made.driver(f"x{i}", kd.Normal(0, 0.25))
        made.outcome("y", " + ".join(f"exp(x{i})" for i in range(10)))
        self.assertEqual(made.simulate(10_000, seed=1, sampling="sobol").size, 10_240)
        truth = 10 * math.exp(0.25**2 / 2)
        errors = {
            plan: np.sqrt(
                np.mean(
                    [
                        (made.simulate(16_384, seed=s, sampling=plan)["y"].mean - truth) ** 2
                        for s in range(10)
                    ]
                )
            )
            for plan in ("random", "sobol")
        }
        self.assertLess(errors["sobol"], errors["random"] / 15)

    def test_antithetic_is_exact_for_symmetric_sums(self):
        run = investment().simulate(2000, seed=1, sampling="antithetic")
        self.assertAlmostEqual(run["flow"].mean, 90, places=9)
        self.assertGreater(stats.kstest(run["flow"].values, stats.norm(90, 10).cdf).pvalue, 1e-4)
