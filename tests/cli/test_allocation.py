"""Tests of ``kindynos allocate`` and ``kindynos optimize``."""

import json

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import DEMO, FERRY, Folder, run

PRICES, HOLDINGS = str(DEMO / "treasury_prices.csv"), str(DEMO / "treasury_holdings.csv")
TREASURY = (
    "allocate",
    PRICES,
    "--holdings",
    HOLDINGS,
    "--within",
    "0.01:0.35",
    "--resampled",
    "20",
)


def treasury() -> kd.Portfolio:
    shares = pd.read_csv(HOLDINGS).set_index("instrument")["shares"].to_dict()
    return kd.Portfolio(kd.read_prices(PRICES), shares=shares)


class Allocate(Folder):
    def test_json_equals_python(self):
        data = json.loads(
            run(*TREASURY, "--subject-to", "sd <= 0.006", "--trials", "500", "--json").stdout
        )
        found = kd.allocate(treasury(), bounds=(0.01, 0.35), limits={"sd": 0.006})
        np.testing.assert_allclose(list(data["weights"].values()), found.weights)
        self.assertEqual(data["wanted"], "the highest mean with sd at most 0.006")
        self.assertEqual(
            len(data["frontier"]), len(kd.frontier(treasury(), bounds=(0.01, 0.35)).table())
        )
        self.assertEqual(
            {row["name"] for row in data["before and after"]} >= {"mean", "chance of a loss"}, True
        )
        self.assertIn("907 returns each day", data["source"])

    def test_report_files_and_holdings(self):
        best = self.folder / "best.csv"
        out = self.folder / "out"
        answer = run(
            *TREASURY,
            "--subject-to",
            "sd <= 0.05",
            "--walk-forward",
            "quarter",
            "--cost",
            "0.002",
            "--trials",
            "400",
            "--save-holdings",
            str(best),
            "--out",
            str(out),
        )
        text = " ".join(answer.stdout.split())
        for words in (
            "The limit sd 0.05 does not bind; it is for one day",
            "cannot show whether",
            "out of sample the rule earned",
            "cost of trades, once",
            "spread over 252 days",
            "Written: ",
        ):
            self.assertIn(words, text)
        self.assertLessEqual(
            {
                "weights.csv",
                "frontier.png",
                "frontier-weights.png",
                "before-after.png",
                "resampled.png",
                "walk-forward.png",
            },
            {path.name for path in out.iterdir()},
        )
        again = run("risk", PRICES, "--holdings", str(best), "--methods", "historical", "--json")
        self.assertAlmostEqual(json.loads(again.stdout)["value"], treasury().value, delta=1.0)

    def test_groups_views_and_bounds_by_name(self):
        holdings = self.folder / "h.csv"
        table = pd.read_csv(HOLDINGS)
        table["group"] = ["bonds", "bonds", "shares", "shares", "", ""]
        table.to_csv(holdings, index=False)
        answer = run(
            "allocate",
            PRICES,
            "--holdings",
            str(holdings),
            "--within",
            "0:0.5",
            "--within",
            "wind_farm=0:0.05",
            "--group",
            "bonds=0.2:0.4",
            "--minimize",
            "sd",
            "--view",
            "wind_farm-over-shipyard=0.001",
            "--trials",
            "300",
            "--resampled",
            "0",
            "--json",
        )
        weights = json.loads(answer.stdout)["weights"]
        self.assertAlmostEqual(weights["harbour_bond"] + weights["green_loan"], 0.4)
        self.assertAlmostEqual(weights["wind_farm"], 0.05)
        alone = json.loads(
            run(
                "allocate", PRICES, "--minimize", "expected_shortfall", "--resampled", "0", "--json"
            ).stdout
        )
        self.assertIsNone(alone["today"])

    def test_mistakes(self):
        for arguments, words in (
            (["--within", "0.3:0.35"], ("'others' is given already",)),
            (["--within", "wind_farm=low"], ("--within wind_farm=low", "say a low and a high end")),
            (["--subject-to", "sd"], ("--subject-to sd", "say 'NAME <= VALUE'")),
            (["--subject-to", "sd <= much"], ("--subject-to sd <= much: say 'NAME <= VALUE'",)),
            (["--subject-to", "sd >= 0.1"], ("--subject-to sd >= 0.1: say 'NAME <= VALUE'",)),
            (["--subject-to", "mean <= 0.1"], ("or 'mean >= 0.001'",)),
            (["--subject-to", "sdd <= 0.1"], ("no limit 'sdd'", "did you mean 'sd'")),
            (["--subject-to", "sd <= 0.0001"], ("below the least reachable",)),
            (["--group", "bonds=0.1:0.2"], ("no group 'bonds'",)),
            (["--window", "4"], ("window", "at least 8")),
            (
                ["--save-holdings", "/dev/null/best.csv"],
                ("/dev/null/best.csv", "cannot be written"),
            ),
        ):
            with self.subTest(arguments=arguments):
                answer = run(*TREASURY, *arguments, "--trials", "300")
                self.assertEqual((answer.returncode, answer.stdout), (2, ""))
                for word in words:
                    self.assertIn(word, answer.stderr)


class Optimize(Folder):
    def test_report_data_and_picture(self):
        command = (
            "optimize",
            FERRY,
            "--vary",
            "fare=45:65",
            "--vary",
            "crossings=600,680",
            "--maximize",
            "mean net_value",
            "--subject-to",
            "chance below 0 of net_value <= 0.2",
            "--trials",
            "500",
            "--seed",
            "1",
            "--evaluations",
            "30",
        )
        data = json.loads(run(*command, "--json").stdout)
        found = kd.load_model(FERRY).optimize(
            {"fare": (45, 65), "crossings": [600, 680]},
            maximize="mean net_value",
            subject_to=["chance below 0 of net_value <= 0.2"],
            trials=500,
            seed=1,
            evaluations=30,
        )
        self.assertEqual(data["decisions"]["fare"]["value"], float(found.decisions["fare"]))
        self.assertEqual(data["value"], float(found.objective))
        answer = run(*command, "--out", str(self.folder / "out"))
        self.assertIn(
            "on fresh ones, which had no part in the choice", " ".join(answer.stdout.split())
        )
        self.assertEqual(
            {"run.json", "summary.json", "optimum.csv", "optimum.png"},
            {path.name for path in (self.folder / "out").iterdir()},
        )

    def test_mistakes(self):
        for arguments, words in (
            (["--vary", "fare=45:x"], ("--vary fare=45:x", "say NAME=LOW:HIGH")),
            (["--vary", "fare"], ("--vary fare", "NAME=1,2,3")),
            (["--vary", "fare=1:2", "--vary", "fare=2:3"], ("'fare' is given already",)),
            (["--vary", "fair=1:2"], ("did you mean 'fare'",)),
            (
                ["--vary", "fare=45:46", "--subject-to", "mean net_value >= 1e9"],
                ("no decisions keep", "the nearest of"),
            ),
        ):
            with self.subTest(arguments=arguments):
                answer = run(
                    "optimize", FERRY, "--maximize", "mean net_value", "--trials", "200", *arguments
                )
                self.assertEqual((answer.returncode, answer.stdout), (2, ""))
                for word in words:
                    self.assertIn(word, answer.stderr)
