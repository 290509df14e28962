"""Tests of streams."""

import numpy as np
from scipy import stats

from kindynos.sampling.streams import fresh_seed, stream
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
        self.assertGreater(len({fresh_seed() for _ in range(50)}), 40)
