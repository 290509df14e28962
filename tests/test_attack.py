"""Short forms of the attacks in ``benchmarks.attack``: hostile input raises our errors only, and
nothing is lost.
"""

import unittest
from unittest.mock import patch

import numpy as np
import pandas as pd
from benchmarks.attack import CLASSES, attacked

import kindynos as kd
from tests.common import Case

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


class Calls(Case):
    def test_what_attacks_have_found(self):
        model = kd.Model("Kiosk")
        model.given(price=3.0)
        model.driver("cups", kd.Normal(100, 10))
        model.outcome("income", "price * cups")
        compared = model.compare({"a": {}, "b": {"price": 4.0}}, 100, 1)
        table = pd.DataFrame({"x": [1.0, 2.0], "y": [2.0, 1.0]})
        for wrong in (0, None, [[1, 2]], np.ones(3), table, "x"):
            with self.subTest(wrong=wrong):
                with self.fails("table_of: asked must be a TableSpec"):
                    compared.table_of(wrong)
                with self.fails("asked must be a TableSpec"):
                    compared.differences_of(wrong)
                if not isinstance(wrong, str):
                    with self.fails("sensitivity: name must be the name of a column"):
                        kd.read_trials(table).sensitivity(wrong)
                    with self.fails("solve: name must be the name of a figure"):
                        model.solve(wrong, "income", within=(1, 2), mean=3)
        with self.fails("probabilities[0] must be a finite number"):
            kd.Discrete(np.ones(3), np.array([np.nan, 1.0, -2.0]))
        self.assertEqual(kd.Discrete([4, 5, 6], np.array([])).mean, 5)
