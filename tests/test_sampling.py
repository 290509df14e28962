"""Streams and plans: scores are uniform, independent where they must be, and reproducible."""

import numpy as np
from scipy import stats

from kindynos.sampling.plans import PLANS, Request, plan_named
from kindynos.sampling.streams import fresh_seed, stream
from tests.common import Case


class Streams(Case):
    def test_fields_are_told_apart(self):
        draws = {
            fields: stream(1, *fields).random()
            for fields in (("ab", "c"), ("a", "bc"), ("abc",), ("ab", "c", 0), ("ab", "c", 1), ("", "abc"), ("c", "ab"))
        }
        self.assertEqual(len(set(draws.values())), len(draws))
        self.assertEqual(stream(1, "ab", "c").random(), draws[("ab", "c")])
        self.assertNotEqual(stream(2, "ab", "c").random(), draws[("ab", "c")])

    def test_neighbouring_streams_are_uncorrelated(self):
        rows = np.array([stream(seed, "load", block).random(2000) for seed in range(4) for block in range(10)])
        correlations = np.corrcoef(rows)[np.triu_indices(40, 1)]
        self.assertLess(np.abs(correlations).max(), 5 / np.sqrt(2000))
        self.assertGreater(stats.kstest(rows.ravel(), "uniform").pvalue, 1e-4)

    def test_fresh_seeds_differ(self):
        self.assertGreater(len({fresh_seed() for _ in range(50)}), 40)


class Plans(Case):
    requests = (Request("a"), Request("b", 3), Request("c"))

    def test_scores(self):
        for plan in PLANS.values():
            with self.subTest(plan=plan.label):
                scores = plan.scores(self.requests, 5, 2, 4000)
                self.assertEqual(
                    {name: array.shape for name, array in scores.items()}, {"a": (4000,), "b": (3, 4000), "c": (4000,)}
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
        self.assertEqual(plan_named("latin").label, "latin")
        with self.fails("'Latin'", "did you mean 'latin'?"):
            plan_named("Latin")
