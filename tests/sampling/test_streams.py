"""Tests of streams."""

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.sampling.streams import checked_seed, stream
from tests.common import Case


class Streams(Case):
    def test_fields_are_told_apart(self):
        draws = {
            fields: stream(1, *fields).random()
            for fields in (
                ("ab", "c"),
                ("a", "bc"),
                ("abc",),
                ("ab", "c", 0),
                ("ab", "c", 1),
                ("", "abc"),
                ("c", "ab"),
            )
        }
        self.assertEqual(len(set(draws.values())), len(draws))
        self.assertEqual(stream(1, "ab", "c").random(), draws[("ab", "c")])
        self.assertNotEqual(stream(2, "ab", "c").random(), draws[("ab", "c")])

    def test_neighbouring_streams_are_uncorrelated(self):
        rows = np.array(
            [stream(seed, "load", block).random(2000) for seed in range(4) for block in range(10)]
        )
        correlations = np.corrcoef(rows)[np.triu_indices(40, 1)]
        self.assertLess(np.abs(correlations).max(), 5 / np.sqrt(2000))
        self.assertGreater(stats.kstest(rows.ravel(), "uniform").pvalue, 1e-4)

    def test_fresh_seeds_differ(self):
        self.assertGreater(len({checked_seed(None) for _ in range(50)}), 40)

    def test_integers_and_generators_are_seeds(self):
        self.assertEqual(checked_seed(np.int64(5)), 5)
        one, other = (checked_seed(np.random.default_rng(3)) for _ in range(2))
        self.assertEqual(one, other)
        process = kd.RandomWalk(0.0, 0.0, 1.0)
        np.testing.assert_array_equal(
            *(process.paths(3, 50, np.random.default_rng(3)) for _ in range(2))
        )
        for wrong in (-1, 1.5, True, 2**64, "1"):
            with self.fails("seed"):
                checked_seed(wrong)
