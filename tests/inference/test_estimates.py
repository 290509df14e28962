"""Tests of estimates."""

import numpy as np

from kindynos.inference.estimates import Estimate, Estimates
from tests.common import Case


class Figures(Case):
    def test_an_estimate_prints_its_error(self):
        self.assertEqual(repr(Estimate(3.14159, 3.0, 3.3)), "3.14 ± 0.15")
        self.assertEqual(repr(Estimate(3.5)), "3.5")
        self.assertEqual(f"{Estimate(3.14159, 3.0, 3.3):.1f}", "3.1")
        self.assertEqual(hash(Estimate(2.0, 1, 3)), hash(2.0))

    def test_arrays_of_estimates(self):
        several = Estimates.of([Estimate(1, 0, 2), Estimate(2, 1.5, 2.5)])
        np.testing.assert_array_equal(several.error, [1, 0.5])
        self.assertEqual((several[1].low, several[-1].high), (1.5, 2.5))
        np.testing.assert_array_equal(several[::-1].low, [1.5, 0])
        both = Estimates.stack([several, several])
        self.assertEqual((both.shape, both[1, 0].high), ((2, 2), 2))
        self.assertIs(type(several + several), np.ndarray)
        self.assertEqual([float(x) for x in several], [1, 2])

    def test_linear_arithmetic_keeps_the_interval_and_never_changes_a_figure(self):
        one, several = Estimate(2.0, 1.0, 3.0), Estimates([1.0, 2.0], [0.5, 1.0], [1.5, 3.0])
        kept = one
        one *= 1000
        self.assertEqual((one, kept, kept.high), (2000.0, 2.0, 3.0))
        self.assertEqual((one.low, one.high), (1000.0, 3000.0))
        self.assertEqual(((5 - kept).low, (5 - kept).high, (-kept).low), (2.0, 4.0, -3.0))
        self.assertEqual(((kept / -2).low, (1 + kept).high), (-1.5, 4.0))
        for plain in (kept * kept, kept - kept, kept**2, 1 / kept, kept // 1):
            self.assertIs(type(plain), float)
        scaled = several
        scaled *= 1000
        self.assertEqual((scaled.tolist(), several.value.tolist()), ([1000, 2000], [1, 2]))
        with self.assertRaises(TypeError):
            several[0] = 99
        with self.assertRaises(ValueError):
            several.value[0] = 99
        with self.assertRaises(AttributeError):
            kept.low = 0
        self.assertEqual(str(several), "[1.00 ± 0.50, 2.0 ± 1.0]")
        self.assertEqual((max(several).high, sorted(several)[0].low), (3.0, 0.5))
        self.assertTrue(kept > 1 and kept == 2 and -kept < 0 and kept**2 == 4 and 1 / kept == 0.5)
        self.assertEqual(np.sqrt(Estimate(9.0)), 3)
        self.assertEqual(str(Estimate(0.15, 0.029, 0.547)), "0.15 (0.03 to 0.55)")
        self.assertEqual(str(Estimate(0.15, 0.05, 0.26)), "0.15 ± 0.11")
