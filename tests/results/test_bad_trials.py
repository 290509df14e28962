"""Tests of bad trials."""

import math

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case


class BadTrials(Case):
    @classmethod
    def setUpClass(cls):
        cls.model = kd.Model("bad", periods=2)
        cls.model.driver("x", kd.Uniform(-1, 3))
        cls.model.line("root", "sqrt(x)")
        cls.model.outcome("y", "root + 1", target=2)
        cls.run_ = cls.model.simulate(8000, seed=3)

    def test_are_counted_and_left_out(self):
        y = self.run_["y"]
        self.assertEqual(y.n_failed, 2000)
        self.assertAlmostEqual(y.mean, 1 + stats.uniform(0, 3).expect(np.sqrt), places=2)
        self.assertAlmostEqual(y.chance(above=2), 0.5, places=2)  # a share of all trials
        self.assertAlmostEqual(y.chance(below=2), 0.25, places=2)
        self.assertEqual(self.run_.facts()["failed trials"], {"y": 2000})
        self.assertRegex(self.run_.facts()["first failed"]["y"], r"trial \d+, first in 'root'")
        self.assertEqual(self.run_.table().loc[("y", "trials without a value"), "value"], 2000)

    def test_can_be_an_error(self):
        with self.fails("outcome 'y': is not a number in trial", "x=-", "seed 3", kind=kd.RunError):
            self.model.simulate(8000, seed=3, on_bad="error")

    def test_rates_of_return_that_do_not_exist_are_told_apart(self):
        model = kd.Model("irr", periods=2)
        model.driver("last", kd.Discrete([-132, 50, 60], [0.5, 0.3, 0.2]))
        model.line("flows", "230 if period == 1 else last")
        model.line("all_in", "-flows")
        model.outcome("rate", "irr(flows, -100)")
        model.outcome("none", "irr(all_in, -100) if last > 0 else 0.5")
        run = model.simulate(1000, seed=1)
        self.assertEqual(run.warnings_of("rate"), {"several IRRs": 500})
        self.assertEqual(run["rate"].n_failed, 500)
        self.assertEqual(run.table().loc[("rate", "trials with several IRRs"), "value"], 500)
        self.assertEqual(run.warnings_of("none")["no IRR: flows all of one sign"], 500)

    def test_infinity_is_no_failure(self):
        model = kd.Model("never")
        model.driver("x", kd.Uniform(0, 1))
        model.outcome("y", "1 / 0 if x < 0.25 else 2")
        y = model.simulate(4000, seed=1)["y"]
        self.assertEqual(
            (y.n_failed, y.median, y.percentile(99), y.mean), (0, 2, math.inf, math.inf)
        )
        self.assertEqual(y.chance(above=10), 0.25)
