"""Tests of studies."""

import json

import pandas as pd

import kindynos as kd
from tests.common import FERRY, Folder, run, unrendered

FAST = ("--trials", "1000", "--seed", "4")


class Studies(Folder):
    def data(self, *arguments):
        answer = run(*arguments, "--json")
        self.assertEqual((answer.returncode, answer.stderr), (0, ""))
        return json.loads(answer.stdout)

    def written(self, *arguments):
        out = self.folder / "out"
        with unrendered():
            answer = run(*arguments, "--out", str(out))
        self.assertEqual(answer.returncode, 0, answer.stderr)
        self.assertIn("Written to", answer.stdout)
        return answer.stdout, {path.name for path in out.iterdir()}

    def test_an_outcome_without_any_value_stops_no_other(self):
        model = self.folder / "none.toml"
        model.write_text(
            "[model]\nname = 'none'\n[drivers.a]\ndistribution = 'normal'\nmean = 0\nsd = 1\n"
            "[given]\nshift = 90.0\n[scenarios.low]\nshift = 99.0\n"
            "[outcomes]\nnever = 'sqrt(a - shift)'\nfine = 'a'\n"
        )
        text, files = self.written("run", str(model), *FAST)
        self.assertIn("no trial has a value", text)
        self.assertIn("fine.png", files)
        self.assertNotIn("never.png", files)
        text, files = self.written("compare", str(model), *FAST)
        self.assertIn("never-cumulative.png", files)
        self.data("drivers", str(model), "--outcome", "never", *FAST)

    def test_compare(self):
        data = self.data("compare", FERRY, *FAST)
        wanted = kd.load_model(FERRY).compare(trials=1000, seed=4)
        self.assertEqual(data["scenarios"], ["as stated", "dear yard", "fare 58"])
        frame = wanted.differences()
        self.assertEqual(data["differences"][0]["difference"], frame["difference"].iloc[0])
        text, files = self.written("compare", FERRY, *FAST)
        for words in (
            "net_value by scenario",
            "Difference from 'as stated'",
            "dominates",
            "on the same draws",
        ):
            self.assertIn(words, text)
        self.assertLessEqual(
            {"differences.csv", "net_value-boxes.png", "net_value-survival.png"}, files
        )

    def test_compare_with_periods_that_never_come(self):
        dock = FERRY.replace("night_ferry", "dry_dock")
        text, files = self.written("compare", dock, "--trials", "300", "--seed", "1")
        self.assertIn("first_short by scenario", text)
        self.assertLessEqual({"first_short-boxes.png", "first_short-survival.png"}, files)

    def test_compare_saved_runs(self):
        for name, seed in (("spring", "4"), ("autumn", "5")):
            answer = run(
                "run",
                FERRY,
                "--trials",
                "1000",
                "--seed",
                seed,
                "--save",
                str(self.folder / f"{name}.parquet"),
            )
            self.assertEqual(answer.returncode, 0)
        text = run(
            "compare", *(str(self.folder / f"{name}.parquet") for name in ("spring", "autumn"))
        ).stdout
        self.assertIn("as independent samples", text)
        self.assertIn("autumn", text)

    def test_trials_as_parquet(self):
        run("run", FERRY, *FAST, "--out", str(self.folder), "--parquet")
        frame = pd.read_parquet(self.folder / "trials.parquet")
        pd.testing.assert_frame_equal(frame, kd.load_model(FERRY).simulate(1000, seed=4).to_frame())

    def test_sweep(self):
        data = self.data(
            "sweep",
            FERRY,
            "--vary",
            "hurdle=0.05:0.11:0.03",
            "--vary",
            "fare=50,58",
            "--statistic",
            "base",
        )
        self.assertEqual(len(data["points"]), 6)
        wanted = (
            kd.load_model(FERRY).replace(hurdle=0.11, fare=58).base_case().loc["net_value", "value"]
        )
        self.assertAlmostEqual(data["points"][-1]["net_value"], wanted, 4)
        text, files = self.written(
            "sweep", FERRY, "--vary", "fare=50,58", "--statistic", "chance above 0", *FAST
        )
        chance = (
            kd.load_model(FERRY)
            .replace(fare=58)
            .simulate(1000, seed=4)["net_value"]
            .chance(above=0)
        )
        self.assertIn(f"{100 * chance:.1f} %", text)
        self.assertLessEqual({"sweep.csv", "net_value-sweep.png"}, files)

    def test_solve(self):
        goal = ("solve", FERRY, "fare", "--chance", "net_value > 0", "--equals", "0.9", *FAST)
        data = self.data(*goal, "--within", "40:80")
        wanted = kd.load_model(FERRY).solve(
            "fare", "net_value", chance=0.9, above=0, within=(40, 80), trials=1000, seed=4
        )
        self.assertEqual((data["value"], data["error"]), (wanted.value, wanted.value.error))
        text, files = self.written(*goal, "--within", "40:80")
        self.assertIn("the chance of net value above 0 is 90.0 %", text)
        self.assertIn("goal.png", files)
        missed = run(*goal, "--within", "40:45")
        self.assertEqual((missed.returncode, missed.stdout), (2, ""))
        self.assertIn("no fare from 40 to 45", missed.stderr)

    def test_drivers(self):
        for method in ("rank", "regression", "swing", "conditional", "sobol", "shapley", "tail"):
            data = self.data("drivers", FERRY, "--method", method, *FAST)
            self.assertEqual(data["drivers"][0]["driver"], "load", method)
        text, files = self.written("drivers", FERRY, "--method", "swing", "--by-period", *FAST)
        self.assertIn("energy 2028", text)
        self.assertIn("net_value-swing.png", files)

    def test_trial(self):
        sheet = self.data("trial", FERRY, "--number", "7", *FAST)["sheet"]
        wanted = kd.load_model(FERRY).simulate(1000, seed=4).trial(7)
        value = next(row["value"] for row in sheet if row["quantity"] == "net_value")
        self.assertEqual(value, wanted.loc["net_value", "value"])
        self.assertIn(
            "net_value nearest to P5", run("trial", FERRY, "--at-percentile", "5", *FAST).stdout
        )
        text = run("trial", FERRY, "--worst", "2", *FAST).stdout
        self.assertEqual(text.count("net_value at its lowest"), 2)

    def test_mistakes_get_one_message_and_status_2(self):
        for arguments, words in (
            (("trial", FERRY), "--at-percentile"),
            (("trial", FERRY, "--number", "7", "--worst", "2"), "say one of"),
            (("sweep", FERRY, "--vary", "fare"), "LOW:HIGH:STEP"),
            (("sweep", FERRY, "--vary", "fare=9:3:1"), "LOW:HIGH:STEP"),
            (("sweep", FERRY, "--vary", "fair=3"), "did you mean 'fare'"),
            (("sweep", FERRY, "--vary", "cash_flow=3"), "is a line"),
            (("sweep", FERRY, "--vary", "fare=3", "--vary", "fare=4"), "'fare' is given already"),
            (
                ("solve", FERRY, "fare", "--outcome", "net_value", "--within", "1:2"),
                "--chance 'net_value > 0' --equals 0.9",
            ),
            (("drivers", FERRY, "--method", "swong"), "did you mean 'swing'"),
            (("compare", FERRY, FERRY), "names that differ"),
            (("compare", str(self.folder / "a.parquet"), FERRY), "a.parquet"),
        ):
            with self.subTest(arguments=arguments):
                answer = run(*arguments)
                self.assertIn(answer.returncode, (1, 2))
                self.assertIn(words, answer.stderr)
                self.assertNotIn("Traceback", answer.stderr)
