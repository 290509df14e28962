"""Tests of the commands on records and on results made elsewhere."""

import json
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.model.file import model_from_text
from tests.common import Case, Folder, run

BILLS, PASSENGERS, HEDGING = (
    str(kd.demo_file(name)) for name in ("repair_bills.csv", "passengers.csv", "fuel_hedging.csv")
)
FEW = (
    "--series",
    "--no-rolling",
    "--candidates",
    "log arima (1,0,1)(0,1,1)12,log arima (0,1,1)(0,1,1)12",
)


class Notes(Folder):
    """What was left out on reading is said, whatever the table is read for."""

    def test_titles_and_units_of_prices_and_series(self):
        days = [f"{day:%Y-%m-%d}" for day in pd.date_range("2027-01-01", periods=60)]
        values = 100 + np.random.default_rng(1).standard_normal(60).cumsum()
        rows = "\n".join(f"{day},{value:.2f}" for day, value in zip(days, values, strict=True))
        path = self.folder / "titled.csv"
        path.write_text(f"Larkholm Ferries\n\ndate,pier\n,EUR\n{rows}\n")
        notes = ("1 row above the names left out", "row 4 read as units")
        prices = kd.read_prices(path)
        self.assertEqual(prices.notes, notes)
        holdings = self.folder / "holdings.csv"
        holdings.write_text("instrument,shares\npier,10\n")
        series = (*FEW[:2], "--candidates", "arima (0,1,1)")
        for words in (
            ("fit", path, *series),
            ("fit", path),
            ("risk", path, "--holdings", holdings, "--methods", "normal"),
        ):
            for more in ((), ("--json",)):
                with self.subTest(words[0], more=more):
                    shown = " ".join(run(*map(str, words), *more).stdout.split())
                    for note in notes:
                        self.assertIn(note, shown)
        self.assertIn(notes[1], prices.subset(["pier"]).description)


class RegressorsKnownAhead(Folder):
    def setUp(self):
        super().setUp()
        months = pd.period_range("2020-01", periods=66, freq="M").astype(str)
        fares = np.random.default_rng(2).integers(38, 47, 66).astype(float)
        fairs = np.arange(66) % 12 == 3 + (np.arange(66) // 12) % 2
        noise = np.random.default_rng(3).standard_normal(66)
        values = 900 - 12 * fares + 40 * fairs + noise
        values[60:] = np.nan
        table = pd.DataFrame({"month": months, "passengers": values, "fare": fares})
        self.file = self.folder / "passengers.csv"
        table.to_csv(self.file, index=False)
        self.fairs = self.folder / "holidays.csv"
        held = [f"fair,{month}-12" for month, fair in zip(months, fairs, strict=True) if fair]
        self.fairs.write_text("\n".join(["holiday,date", *held]))
        self.words = ("fit", str(self.file), "--series", "--no-rolling", "--season", "0")
        self.words = (*self.words, "--candidates", "arima (0,0,0)", "--exog", "fare")

    def test_columns_days_and_holidays(self):
        answer = run(*self.words, "--holidays", str(self.fairs), "--trading-days", "--json")
        found = json.loads(answer.stdout)
        effects = found["parameters"]
        self.assertAlmostEqual(effects["effect of fare"], -12, delta=0.2)
        self.assertAlmostEqual(effects["effect of fair"], 40, delta=2)
        self.assertAlmostEqual(effects["effect of working days"], 0, delta=0.2)
        self.assertEqual(
            [row["period"] for row in found["ahead"]][::5], ["2025-01-01", "2025-06-01"]
        )
        self.assertIn("6 rows after the last value of 'passengers'", str(found["notes"]))
        table = pd.read_csv(self.file)
        for row, fare in zip(found["ahead"], table["fare"][60:], strict=True):
            fair = 40 * (row["period"] == "2025-05-01")
            self.assertAlmostEqual(row["mean"], 900 - 12 * fare + fair, delta=2.5)

    def test_days_alone_reach_five_years_ahead(self):
        words = [word for word in self.words if word not in ("--exog", "fare")]
        answer = run(*words, "--column", "passengers", "--trading-days", "--ahead", "54", "--json")
        self.assertEqual(len(json.loads(answer.stdout)["ahead"]), 54)

    def test_what_is_not_known_ahead_is_refused(self):
        self.assertIn("known 6 periods ahead, and 9", run(*self.words, "--ahead", "9").stderr)
        self.assertIn("did you mean 'fare'", run(*self.words[:-1], "fart").stderr)
        self.assertIn("belongs to --series", run("fit", BILLS, "--trading-days").stderr)
        pd.read_csv(self.file)[:60].to_csv(self.file, index=False)
        self.assertIn("add rows after the last value", run(*self.words).stderr)


class Fit(Case):
    def test_distributions_are_ranked_and_drawn(self):
        with tempfile.TemporaryDirectory() as folder:
            answer = run("fit", BILLS, "--column", "bill", "--out", folder)
            self.assertEqual((answer.returncode, answer.stderr), (0, ""))
            self.assertIn("40 values cannot tell", answer.stdout)
            self.assertEqual(
                {path.name for path in Path(folder).iterdir()},
                {
                    "run.json",
                    "summary.json",
                    "fits.csv",
                    "percentiles.csv",
                    "fits.png",
                    "quantiles.png",
                },
            )
        found = json.loads(
            run("fit", BILLS, "--json", "--show", "gamma", "--candidates", "gamma,lognormal").stdout
        )
        self.assertEqual(
            (found["shown"], [row["distribution"] for row in found["ranking"]]),
            ("gamma", ["lognormal", "gamma"]),
        )
        self.assertLess(found["intervals"]["shape"][0], found["parameters"]["shape"])

    def test_a_driver_can_be_pasted(self):
        table = run("fit", BILLS, "--as-driver", "repair").stdout
        model = model_from_text(f'[model]\nname = "x"\n{table}\n[outcomes]\ny = "repair"')
        self.assertAlmostEqual(model.base_case().loc["repair", "value"], 12_500, delta=500)
        table = run("fit", PASSENGERS, *FEW, "--as-driver", "pax", "--uncertain").stdout
        model = model_from_text(
            f'[model]\nname = "x"\nperiods = 12\n{table}\n[outcomes]\ny = "median(pax)"'
        )
        self.assertGreater(model.simulate(500, seed=1)["y"].sd, 1000)

    def test_drawn_parameters_go_to_a_file_beside_the_model(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ("fit", BILLS, "--as-driver", "repair", "--uncertain", "--out", folder)
            answer = run(*words)
            self.assertLessEqual(len(answer.stdout.splitlines()), 10)
            self.assertIn("# 100 draws of the parameters", answer.stdout)
            file = Path(folder, "year.toml")
            file.write_text(
                f'[model]\nname = "x"\n{answer.stdout}\n[outcomes]\ny = "repair"', encoding="utf-8"
            )
            drawn = kd.load_model(file).quantities["repair"].distribution
            expected = kd.LogNormal.fit(kd.read_values(BILLS)).uncertain()
            self.assertEqual(drawn.parts, expected.parts)
            self.assertEqual(drawn.percentile(99), expected.percentile(99))
            again = run(*words)
            self.assertEqual(again.returncode, 2)
            self.assertIn("is there already", again.stderr)
            self.assertEqual(run(*words, "--force").stdout, answer.stdout)
            parts = Path(folder, "repair_parts.csv")
            parts.write_text("mean,sd\n3,1\n4,-1\n", encoding="utf-8")
            with self.assertRaisesRegex(kd.KindynosError, "sd must be above 0"):
                kd.load_model(file)

    def test_the_average_can_be_pasted_too(self):
        names = ("gamma", "lognormal", "weibull")
        table = run(
            "fit", BILLS, "--candidates", ",".join(names), "--as-driver", "repair", "--average"
        ).stdout  # fmt: skip
        model = model_from_text(f'[model]\nname = "x"\n{table}\n[outcomes]\ny = "repair"\n')
        ranking = kd.fit_distributions(kd.read_values(BILLS), names)
        means = [ranking.weights[item.label] * item.mean for item in ranking]
        driver = model.quantities["repair"]
        self.assertAlmostEqual(driver.distribution.mean / sum(means), 1)
        self.assertIn("--average goes with", run("fit", BILLS, "--average").stderr)

    def test_processes_are_ranked_and_drawn(self):
        with tempfile.TemporaryDirectory() as folder:
            answer = run(
                "fit", PASSENGERS, *FEW, "--spacing", "month", "--season", "12", "--out", folder
            )
            self.assertEqual((answer.returncode, answer.stderr), (0, ""))
            self.assertIn("1 missing", answer.stdout)
            self.assertIn("nothing left in the autocorrelations", answer.stdout)
            names = {path.name for path in Path(folder).iterdir()}
            self.assertEqual(
                names,
                {
                    "run.json",
                    "summary.json",
                    "processes.csv",
                    "fan.csv",
                    "fan.png",
                    "diagnostics.png",
                },
            )
        found = json.loads(run("fit", PASSENGERS, *FEW, "--json", "--ahead", "3").stdout)
        self.assertEqual(
            [row["period"] for row in found["ahead"]], ["2028-01-01", "2028-02-01", "2028-03-01"]
        )
        self.assertLess(found["ahead"][0]["P5"], found["ahead"][0]["P95"])

    def test_mistakes(self):
        for arguments, words in (
            ((BILLS, "--season", "12"), "--season belongs to --series"),
            ((BILLS, "--column", "bil"), "did you mean 'bill'"),
            ((BILLS, "--uncertain"), "goes with --as-driver"),
            ((BILLS, "--as-driver", "a b"), "a driver's name"),
            ((BILLS, "--series"), "not evenly spaced"),
            ((PASSENGERS, "--series", "--spacing", "quarter"), "one a quarter"),
            ((BILLS, "--candidates", "gama"), "did you mean 'gamma'"),
        ):
            answer = run("fit", *arguments)
            with self.subTest(words):
                self.assertEqual(answer.returncode, 2)
                self.assertIn(words, answer.stderr)
                self.assertNotIn("Traceback", answer.stderr)


class Read(Case):
    def test_figures_are_asked_for_as_of_a_run(self):
        words = ("--percentiles", "2,40", "--statistic", "expected_shortfall 0.95")
        chances = ("--chance", "growth > 9%", "--chance", "growth < 0 and max_drawdown < -20%")
        answer = run("read", HEDGING, "--column", "growth", "--json", *words, *chances)
        told, trials = json.loads(answer.stdout), kd.read_trials(HEDGING)
        column = told["columns"]["growth"]
        self.assertEqual(column["P2"]["value"], float(trials["growth"].percentile(2)))
        self.assertNotIn("P5", column)
        self.assertEqual(
            column["expected_shortfall 0.95"]["value"],
            float(trials["growth"].expected_shortfall(0.95)),
        )
        self.assertEqual(
            column["chance above 0.09"]["value"], float(trials["growth"].chance(above=0.09))
        )
        both = trials.chance("growth < 0 and max_drawdown < -20%")
        self.assertEqual(next(iter(told["chances"].values()))["value"], float(both))

    def test_figures_and_two_columns_together(self):
        with tempfile.TemporaryDirectory() as folder:
            answer = run(
                "read",
                HEDGING,
                "--column",
                "growth",
                "--against",
                "max_drawdown",
                "--cuts",
                "0.05,-0.2",
                "--out",
                folder,
            )
            self.assertEqual((answer.returncode, answer.stderr), (0, ""))
            self.assertIn("growth above 0.05, max_drawdown below -0.2", answer.stdout)
            names = {path.name for path in Path(folder).iterdir()}
            self.assertEqual(
                names,
                {
                    "run.json",
                    "summary.json",
                    "trials.csv",
                    "together.csv",
                    "growth.png",
                    "scatter.png",
                },
            )
        found = json.loads(run("read", HEDGING, "--json").stdout)
        self.assertEqual(
            (found["trials"], list(found["columns"])),
            (1000, ["growth", "max_drawdown", "fuel_cost"]),
        )
        self.assertAlmostEqual(found["columns"]["growth"]["mean"]["value"], 0.0548, places=3)
        self.assertIn(
            "What goes with growth",
            run("read", HEDGING, "--column", "growth", "--target", "0.03").stdout,
        )

    def test_mistakes(self):
        for arguments, words in (
            (("--unit", "EUR"), "say --column"),
            (("--column", "growth", "--cuts", "1"), "--cuts are two numbers"),
            (("--column", "grow"), "did you mean 'growth'"),
        ):
            answer = run("read", HEDGING, *arguments)
            with self.subTest(words):
                self.assertEqual((answer.returncode, "Traceback" in answer.stderr), (2, False))
                self.assertIn(words, answer.stderr)
