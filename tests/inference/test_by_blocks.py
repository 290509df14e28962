"""Tests of correlations by blocks: their intervals against the jackknife written out."""

import unittest

import numpy as np
from scipy.stats import t

from kindynos.inference.intervals import correlation_by_blocks, correlations_by_blocks


class ByBlocks(unittest.TestCase):
    def test_intervals_are_those_of_blocks_left_out(self):
        generator = np.random.default_rng(7)
        for blocks in (6, 20):
            values = generator.multivariate_normal(
                np.zeros(3), [[1, 0.5, -0.2], [0.5, 1, 0.1], [-0.2, 0.1, 1]], 40 * blocks
            ).T
            bounds = np.arange(blocks + 1) * 40
            found = correlations_by_blocks(values[None], bounds)
            for pair, (i, j) in enumerate(((0, 1), (0, 2), (1, 2))):
                left_out = []
                for begin in bounds[:-1]:
                    rest = np.delete(values, np.s_[begin : begin + 40], axis=1)
                    left_out.append(np.arctanh(np.corrcoef(rest[i], rest[j])[0, 1]))
                spread = np.sqrt((blocks - 1) * np.var(left_out))  # (g - 1) / g x sum of squares
                reach = t.ppf(0.975, blocks - 1) * spread
                value = np.corrcoef(values[i], values[j])[0, 1]
                ends = np.tanh(np.arctanh(value) + np.array([-reach, reach]))
                one = found[pair]
                np.testing.assert_allclose((float(one), one.low, one.high), (value, *ends))
                alone = correlation_by_blocks(values[i], values[j], bounds)
                self.assertAlmostEqual(alone.low, one.low, places=12)


if __name__ == "__main__":
    unittest.main()
