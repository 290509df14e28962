"""Short forms of the attacks in ``benchmarks.attack``: hostile input raises our errors only, and
nothing is lost.
"""

import unittest
from unittest.mock import patch

from benchmarks.attack import CLASSES, attacked

COUNTS = {
    "formulas": 150,
    "models": 75,
    "calls": 60,
    "saved": 6,
    "prices": 40,
    "tables": 60,
    "outputs": 2,
    "flows": 75,
    "kills": 2,
}


class Attacks(unittest.TestCase):
    @patch(
        "benchmarks.attack.LONGEST", 30.0
    )  # what hangs is found; how fast the rest is, the benchmark tells
    def test_nothing_but_our_errors(self):
        self.assertEqual(set(COUNTS), set(CLASSES))
        for name, count in COUNTS.items():
            with self.subTest(attack=name):
                self.assertEqual(attacked(name, 1_000_000, count), [])
