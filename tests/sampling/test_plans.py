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

    def test_a_driver_does_not_depend_on_the_others(self):
        for plan in PLANS.values():
            with self.subTest(plan=plan.label):
                scores = plan.scores(self.requests, 5, 2, 1024)
                fewer = plan.scores((ScoreRequest("c"), ScoreRequest("b", 2)), 5, 2, 1024)
                np.testing.assert_array_equal(fewer["c"], scores["c"])
                np.testing.assert_array_equal(fewer["b"], scores["b"][:2])

    def test_points_of_sobol_fill_every_stratum_of_their_first_powers_of_two(self):
        scores = PLANS["sobol"].scores((ScoreRequest("a", 40),), 3, 0, 1024)["a"]
        for row in scores:
            for count in (2, 32, 1024):
                self.assertEqual(len(np.unique(np.floor(row[:count] * count))), count)

    def test_names(self):
        self.assertEqual(PLANS.find("latin").label, "latin")
        with self.fails("'Latin'", "did you mean 'latin'?"):
            PLANS.find("Latin")


class PlansInRuns(Case):
    def test_scenarios_that_fix_a_driver_share_the_draws_of_the_others(self):
        for plan in PLANS:
            model = kd.Model("Pair")
            model.driver("a", kd.Normal(10, 1))
            model.driver("b", kd.Normal(0, 1))
            model.driver("c", kd.Normal(0, 3))
            model.outcome("y", "a + c")
            compared = model.compare(
                {"base": {}, "fixed": {"b": 0.0, "a": 12.0}, "more": {"a": kd.Normal(10.5, 1)}},
                trials=2_048,
                seed=1,
                sampling=plan,
            )
            higher = compared.differences().xs("higher in the same trial", level="statistic")
            self.assertEqual(higher.loc[("y", "more"), "difference"], 1.0, plan)
            c = [run["c"].values for run in compared.runs.values()]
            np.testing.assert_array_equal(c[0], c[1])

    def test_more_periods_leave_the_first_as_they_are(self):
        for plan in PLANS:
            runs = []
            for periods in (3, 5):
                model = kd.Model("Longer", periods=periods)
                model.driver("rate", kd.Normal(0, 1), each="period")
                model.driver("price", kd.GeometricBrownianMotion(1.0, 0.05, 0.2))
                model.outcome("y", "total(rate) + last(price)")
                runs.append(model.simulate(1_024, seed=1, sampling=plan))
            for name in ("rate", "price"):
                short, long = (run.row(name).values for run in runs)
                np.testing.assert_array_equal(short, long[:3], plan)

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
