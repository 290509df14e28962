"""Short forms of the attacks in ``benchmarks.attack``: hostile input raises our errors only, and
nothing is lost.
"""

import unittest
from contextlib import suppress
from unittest.mock import patch

import numpy as np
import pandas as pd
from benchmarks.attack import CLASSES, attacked, targets
from benchmarks.good_calls import NoGoodCallError, good_call

import kindynos as kd
from tests.common import Case, proof, repeats

COUNTS = {
    "formulas": 150,
    "models": 75,
    "calls": 60,
    "arguments": 150,
    "saved": 6,
    "prices": 40,
    "tables": 60,
    "outputs": 2,
    "flows": 75,
    "forged": 12,
    "options": 20,
    "writers": 2,
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


class GoodCalls(Case):
    def test_most_public_calls_have_good_arguments(self):
        good = 0
        offered = targets()
        for name, thing in offered:
            with suppress(NoGoodCallError, kd.KindynosError, ValueError):
                good_call(name, thing)
                good += 1
        self.assertGreaterEqual(good, 0.95 * len(offered))

    @proof
    def test_one_hostile_argument_at_a_time(self):
        self.assertEqual(attacked("arguments", 0, repeats(20_000)), [])


class Calls(Case):
    def test_percentiles_at_the_ends_have_differences_without_an_error(self):
        frames = [pd.DataFrame({"v": np.arange(n, 300.0 + n)}) for n in (0, 1)]
        one, two = map(kd.read_trials, frames)
        rows = kd.compare({"one": one, "two": two}, outcome="v").differences(percentiles=(0, 100))
        for name in ("P0", "P100"):
            row = rows.xs(name, level="statistic").iloc[0]
            self.assertEqual(row["difference"], 1.0)
            self.assertTrue(np.isnan(row["error"]))

    def test_arguments_are_checked_by_their_annotations(self):
        run = kd.load_model(kd.demo_file("berths.toml")).simulate(300, seed=1)
        model = kd.Model("Kiosk")
        for call, words in (
            (lambda: run.to_excel("x.xlsx", note=3), "note must be a text, not 3"),
            (
                lambda: kd.fit_series([1.0, 2, 3], progress=1),
                "progress must be a function or None, not 1",
            ),
            (lambda: model.scenario(name="dear"), "lacks 'name', given without its name"),
            (lambda: run.nearest("profit", (5, 95)), "percentile must be a number"),
            (lambda: kd.nearest_correlation(np.eye(2), fixed=[3]), "pairs of whole numbers"),
        ):
            with self.subTest(words), self.fails(words):
                call()

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
                    with self.fails("sensitivity: name must be a text"):
                        kd.read_trials(table).sensitivity(wrong)
                    with self.fails("solve: name must be a text"):
                        model.solve(wrong, "income", within=(1, 2), mean=3)
        with self.fails("probabilities[0] must be a finite number"):
            kd.Discrete(np.ones(3), np.array([np.nan, 1.0, -2.0]))
        self.assertEqual(kd.Discrete([4, 5, 6], np.array([])).mean, 5)
        with self.fails("a correlation matrix must be square"):
            kd.nearest_correlation(pd.DataFrame())
        with self.fails("history must be numbers in a rectangular array"):
            kd.ExponentialSmoothing(1.0, 1.0, 0.5, history=[[1, 2], [3]])
        walks = {name: kd.RandomWalk(1.0, 0.0, 1.0) for name in "ab"}
        cohort = kd.Cohort(["a", "b"], {"a": 50}, {"a": {"a": 0.9, "b": 0.1}, "b": {"b": 1.0}})
        for wrong in (10**30, -1, 0.5):
            with self.subTest(wrong=wrong), self.fails("periods must be"):
                cohort.reaching("b", periods=wrong)
        with self.fails("periods 1e+308 long are too short or too long"):
            kd.PathSet(walks).paths(5, 4, seed=1, dt=1e308)
        for wrong in (1e-320, np.ones(2), [[1]], table["x"]):
            with self.subTest(wrong=wrong), self.fails("value must be one of"):
                model.driver("tips", kd.Normal(0, 1), value=wrong)
