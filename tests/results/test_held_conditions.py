"""Conditions that must hold in every trial: counted, told, saved, and stated in files."""

import json

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Folder, run

TILL = """
[model]
name = "Till"
periods = 6
[given]
start = 100
overdraft = 50
[drivers.flow]
distribution = "normal"
mean = 2
sd = 30
each = "period"
[lines]
cash = "previous(cash, start) + flow"
[outcomes.end]
formula = "at(cash, 6)"
unit = "EUR"
target = 0
[checks]
above_overdraft = "cash >= -overdraft"
adds_up = { formula = "start + total(flow) == end", tolerance = 1e-6 }
[scenarios.small]
start = 20
"""


class HeldConditions(Folder):
    def setUp(self):
        super().setUp()
        self.file = self.folder / "till.toml"
        self.file.write_text(TILL)

    def test_the_trials_that_break_one_are_counted(self):
        made = kd.Model("Single")
        made.driver("a", kd.Normal(0, 1))
        made.must_hold("below_two", "a < 2")

        @made.must_hold
        def above_minus_three(a):
            return a > -3

        made.outcome("double", "2 * a")
        found = made.simulate(50_000, 4)
        table = found.checks()
        self.assertAlmostEqual(table.loc["below_two", "share"], stats.norm.sf(2), delta=0.002)
        self.assertAlmostEqual(
            table.loc["above_minus_three", "share"], stats.norm.sf(3), delta=5e-4
        )
        values = found["a"].values
        self.assertEqual(table.loc["below_two", "first trial"], int(np.argmax(values >= 2)))
        self.assertEqual(found.outcomes, ["double"])
        with self.fails("check 'below_two'", "is broken in", kind=kd.RunError):
            made.simulate(5_000, 4, on_broken="error")
        summary = made.simulate(200_000, 4, store="summary").checks()
        held = made.simulate(200_000, 4).checks()
        for column in ("broken in", "share", "first trial"):
            self.assertEqual(list(summary[column]), list(held[column]))
        with self.fails("on_broken='error' needs store='all'"):
            made.simulate(200_000, 4, store="summary", on_broken="error")

    def test_sweeps_count_at_each_point(self):
        model = kd.load_model(self.file)
        name = next(iter(model.compiled().givens))
        value = float(model.compiled().givens[name].array.reshape(-1)[0])
        points = [value, 0.5 * value]
        swept = model.sweep({name: points}, statistic="mean", trials=1_000, seed=1)
        for position, point in enumerate(points):
            alone = model.replace(**{name: point}).simulate(1_000, 1).checks()["broken in"]
            self.assertEqual(list(swept.broken.iloc[position]), list(alone))
        self.assertIn("above_overdraft broken in", swept.table().columns)
        bases = model.sweep({name: points}, statistic="base")
        self.assertLessEqual(set(bases.broken.to_numpy().ravel()), {0, 1})

    def test_a_row_must_hold_in_every_period(self):
        found = kd.load_model(self.file).simulate(4_000, 1, keep=["cash"])
        cash = found.row("cash").values
        below = (cash < -50).sum(axis=0)
        row = found.checks().loc["above_overdraft"]
        self.assertEqual(row["broken in"], int((below > 0).sum()))
        self.assertEqual(row["first trial"], int(np.argmax(below > 0)))
        self.assertEqual((row["worst trial"], row["periods"]), (int(np.argmax(below)), below.max()))
        self.assertEqual(found.checks().loc["adds_up", "broken in"], 0)
        model = kd.load_model(self.file)
        summary = model.simulate(100_000, 1, store="summary").checks()
        held = model.simulate(100_000, 1).checks()
        self.assertEqual(list(summary["broken in"]), list(held["broken in"]))
        self.assertEqual(summary.loc["above_overdraft", "first trial"], held["first trial"].iloc[0])

    def test_a_tolerance_is_a_share_of_the_larger_side(self):
        for gap, tolerance, broken in ((1e-7, 1e-9, True), (1e-7, 1e-6, False), (0.0, 1e-9, False)):
            made = kd.Model("Balance")
            made.driver("a", kd.Uniform(1, 2))
            made.must_hold("balance", f"a * (1 + {gap!r}) == a", tolerance=tolerance)
            made.outcome("b", "a")
            self.assertEqual(bool(made.simulate(300, 1).checks()["broken in"].iloc[0]), broken)

    def test_a_run_says_so_before_its_answer_and_in_every_medium(self):
        out = self.folder / "out"
        saved = self.folder / "till.parquet"
        words = ["run", self.file, "--seed", "1", "--trials", "2000"]
        shown = run(*words, "--out", out, "--save", saved).stdout
        first = shown.splitlines()[0]
        data = json.loads(run(*words, "--json").stdout)["checks"][0]
        self.assertTrue(
            first.startswith(f"The condition above_overdraft is broken in {data['broken in']} of")
        )
        self.assertIn(f"worst in trial {data['worst trial']}", first)
        table = pd.read_csv(out / "checks.csv")
        self.assertEqual(table["broken in"].tolist(), [data["broken in"], 0])
        again = kd.open_run(saved).checks()
        self.assertEqual(again["broken in"].tolist(), [data["broken in"], 0])
        compared = run("compare", self.file, "--seed", "1", "--trials", "2000").stdout
        self.assertTrue(
            compared.startswith("as stated: The condition above_overdraft is broken in"),
            compared[:99],
        )
        self.assertIn("small: The condition above_overdraft is broken in", compared)

    def test_check_tries_the_base_case_and_some_trials(self):
        shown = run("check", self.file).stdout
        self.assertRegex(shown, r"above_overdraft +holds +\d")
        self.assertNotIn("overdraft: this given figure reaches no outcome", shown)
        self.file.write_text(TILL.replace("cash >= -overdraft", "cash >= 101"))
        self.assertRegex(run("check", self.file).stdout, r"above_overdraft +holds +1\d\d")
        self.file.write_text(TILL.replace("cash >= -overdraft", "cash >= 200"))
        self.assertRegex(run("check", self.file).stdout, r"above_overdraft +is broken +\d+")
        self.file.write_text(TILL.replace("cash >= -overdraft", "cahs >= 0"))
        self.assertIn("[checks] above_overdraft", run("check", self.file).stderr)

    def test_a_model_is_written_with_them(self):
        model = kd.load_model(self.file)
        self.file.write_text(model.to_toml())
        again = kd.load_model(self.file)
        self.assertEqual(
            again.simulate(1_000, 1).checks().to_dict(), model.simulate(1_000, 1).checks().to_dict()
        )
