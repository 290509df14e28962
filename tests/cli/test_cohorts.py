"""Tests of cohorts on the command line and in model files."""

import json
import pickle
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.model.file import model_from_text
from tests.common import Case, run

VESSELS = str(kd.demo_file("vessels.toml"))
TWO = """
[model]
name = "Two states"
periods = 3
[given]
chance = 0.25
[cohorts.lamps]
states = ["on", "off"]
start = { on = 60 }
remainder_state = "same"
[cohorts.lamps.on]
off = "chance"
[outcomes]
dark = "last(lamps_off)"
[scenarios.worse]
chance = 0.35
"""


class Commands(Case):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.path = Path(self.folder.name, "two.toml")
        self.path.write_text(TWO, encoding="utf-8")

    def read(self, *words):
        answer = run(*words)
        self.assertEqual((answer.returncode, answer.stderr), (0, ""))
        return answer.stdout

    def test_a_run_tells_the_binomial(self):
        found = json.loads(
            self.read("run", str(self.path), "--trials", "20000", "--seed", "4", "--json")
        )["outcomes"]["dark"]
        exact = stats.binom(60, 1 - 0.75**3)
        self.assertLess(
            abs(found["mean"]["value"] - exact.mean()), 1.5 * found["mean"]["error"] + 1e-9
        )
        self.assertAlmostEqual(found["sd"]["value"], exact.std(), delta=0.06)
        self.assertAlmostEqual(found["base case"]["value"], exact.mean())
        for level in (10, 50, 90):
            self.assertLessEqual(abs(found[f"P{level}"]["value"] - exact.ppf(level / 100)), 1)

    def test_scenarios_are_set_side_by_side(self):
        found = json.loads(
            self.read("compare", str(self.path), "--trials", "8000", "--seed", "4", "--json")
        )
        self.assertIn("worse", json.dumps(found))
        gap = 60 * (0.75**3 - 0.65**3)
        model = kd.load_model(self.path)
        base = model.simulate(8000, seed=4)["dark"].values
        worse = model.replace(chance=0.35).simulate(8000, seed=4)["dark"].values
        paired, unpaired = (worse - base).std(), np.hypot(worse.std(), base.std())
        self.assertAlmostEqual((worse - base).mean(), gap, delta=4 * paired / np.sqrt(8000))
        self.assertLess(paired, unpaired)
        self.assertTrue((worse >= base - 3).mean() > 0.9)

    def test_check_lists_states_and_warns_of_traps(self):
        shown = self.read("check", str(self.path))
        self.assertIn("Cohort lamps: chances a period", shown)
        self.assertIn("nothing leaves 'off'", shown)

    def test_a_trial_shows_whole_things(self):
        out = Path(self.folder.name, "out")
        self.read(
            "trial",
            str(self.path),
            "--number",
            "7",
            "--trials",
            "100",
            "--seed",
            "1",
            "--out",
            str(out),
        )
        table = pd.read_csv(out / "trial.csv", index_col="quantity")
        counts = table.loc[["lamps_on", "lamps_off"], ["1", "2", "3"]].to_numpy()
        np.testing.assert_array_equal(counts.sum(axis=0), 60)
        np.testing.assert_array_equal(counts, np.round(counts))

    def test_the_demo_runs_and_its_chance_agrees_with_its_trials(self):
        found = json.loads(self.read("run", VESSELS, "--trials", "3000", "--seed", "2", "--json"))[
            "outcomes"
        ]
        values = kd.load_model(VESSELS).simulate(3000, seed=2)["sailing_at_the_end"].values
        self.assertAlmostEqual(found["sailing_at_the_end"]["mean"]["value"], values.mean())
        self.assertTrue(((values >= 0) & (values <= 40)).all())

    def test_mistakes_are_placed(self):
        for old, new, words in (
            ('off = "chance"', 'off = "chanse"', "did you mean 'chance'"),
            ('off = "chance"', "of = 0.2", "'of'"),
            ("chance = 0.25", "chance = 1.25", "row 'on'"),
            ("start = { on = 60 }", "start = { on = -1 }", "start"),
            ('states = ["on", "off"]', 'states = ["on"]', "off"),
            ("last(lamps_off)", "last(lamps_of)", "did you mean 'lamps_off'"),
        ):
            self.path.write_text(TWO.replace(old, new), encoding="utf-8")
            answer = run("run", str(self.path), "--trials", "100", "--seed", "1")
            with self.subTest(new):
                self.assertEqual(
                    (answer.returncode, "Traceback" in answer.stderr), (2, False), answer.stderr
                )
                self.assertIn(words, answer.stderr)


class Models(Case):
    def test_a_model_with_a_cohort_can_be_sent_to_workers(self):
        model = model_from_text(TWO)
        again = pickle.loads(pickle.dumps(model))
        np.testing.assert_array_equal(
            again.simulate(200, seed=1)["dark"].values, model.simulate(200, seed=1)["dark"].values
        )

    def test_a_sweep_of_a_chance_follows_the_closed_form(self):
        model = model_from_text(TWO)
        chances = np.array([0.1, 0.25, 0.5])
        means = [
            float(model.replace(chance=p).simulate(4000, seed=3)["dark"].mean) for p in chances
        ]
        np.testing.assert_allclose(means, 60 * (1 - (1 - chances) ** 3), atol=0.25)
        self.assertTrue((np.diff(means) > 0).all())

    def test_the_drivers_of_the_moves_are_named(self):
        model = model_from_text(TWO)
        shares = model.simulate(2000, seed=1).sensitivity("dark")
        self.assertEqual(list(shares.index)[:1], ["lamps_moves"])
        self.assertGreater(float(shares["rank correlation"].abs().max()), 0.3)

    def test_two_cohorts_move_on_their_own(self):
        model = kd.Model("two", periods=4)
        for name in ("a", "b"):
            model.cohort(
                name, kd.Cohort(["x", "y"], {"x": 40}, {"x": {"y": 0.2}}, remainder_state="same")
            )
            model.outcome(f"gone_{name}", f"last({name}_y)")
        run_ = model.simulate(6000, seed=5)
        a, b = run_["gone_a"].values, run_["gone_b"].values
        self.assertLess(abs(np.corrcoef(a, b)[0, 1]), 4 / np.sqrt(6000))
        self.assertAlmostEqual(a.std(), b.std(), delta=0.15)
