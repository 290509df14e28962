"""Tests of blocks."""

import numpy as np

from kindynos.engine.blocks import Blocks
from tests.common import Case


class CuttingTrials(Case):
    def test_blocks(self):
        for trials in (1, 19, 20, 21, 999, 4096 * 20, 4096 * 20 + 1, 1_000_003):
            blocks = Blocks.cut(trials, periods=15)
            sizes = np.diff(blocks.bounds)
            self.assertEqual(sizes.sum(), trials)
            self.assertLessEqual(sizes.max(), 4096)
            self.assertLessEqual(sizes.max() - sizes.min(), 1)
            self.assertGreaterEqual(blocks.count, min(20, trials))
            covered = [block for batch in range(blocks.batches) for block in blocks.in_batch(batch)]
            self.assertEqual(covered, list(range(blocks.count)))
            for trial in {0, trials // 2, trials - 1}:
                batch, place = blocks.find(trial)
                self.assertEqual(blocks.part(batch).start + place, trial)
                self.assertLess(trial, blocks.part(batch).stop)
