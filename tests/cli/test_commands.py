"""Tests of commands."""

import json
import os
import re
import shlex
import signal
import subprocess
import sys

import numpy as np
import pandas as pd
from PIL import Image

import kindynos as kd
from kindynos.atomic import staged
from tests.common import FERRY, Folder, proof, run, wait_for_work


class Commands(Folder):
    def test_run_prints_the_figures_of_the_library(self):
        answer = run("run", FERRY, "--trials", "3000", "--seed", "4")
        self.assertEqual((answer.returncode, answer.stderr), (0, ""))
        value = kd.load_model(FERRY).simulate(3000, seed=4)["net_value"]
        for text in (
            "3,000 trials, latin plan, seed 4",
            "net_value, EUR, target 0",
            f"{value.base:,.0f}"[:3],
            "What moves net_value",
        ):
            self.assertIn(text, answer.stdout)
        self.assertIn(f"{100 * value.chance(below=0):.1f} %", answer.stdout)
        self.assertNotIn("\x1b", answer.stdout)

    def test_json_is_for_machines(self):
        answer = run(
            "run",
            FERRY,
            "--trials",
            "2000",
            "--seed",
            "4",
            "--set",
            "fare=60",
            "--json",
            "--sampling",
            "random",
        )
        data = json.loads(answer.stdout)
        value = (
            kd.load_model(FERRY)
            .replace(fare=60)
            .simulate(2000, seed=4, sampling="random")["net_value"]
        )
        self.assertEqual(data["outcomes"]["net_value"]["mean"]["value"], value.mean)
        self.assertEqual(data["outcomes"]["net_value"]["P5"]["low"], value.percentile(5).low)
        self.assertEqual((data["seed"], data["sampling"], data["trials"]), (4, "random", 2000))
        self.assertEqual(data["drivers"]["net_value"][0]["driver"], "load")

    def test_a_chosen_seed_is_shown_and_reproduces(self):
        first = json.loads(run("run", FERRY, "--trials", "300", "--json").stdout)
        again = json.loads(
            run(
                "run",
                FERRY,
                "--trials",
                "300",
                "--json",
                "--seed",
                str(first["seed"]),
                "--workers",
                "1",
            ).stdout
        )
        self.assertEqual(first["outcomes"], again["outcomes"])

    def test_out_writes_trials_summary_and_figures(self):
        target = self.folder / "new" / "results"
        answer = run(
            "run",
            FERRY,
            "--trials",
            "1000",
            "--seed",
            "1",
            "--out",
            str(target),
            "--keep",
            "cash_flow",
        )
        self.assertEqual(answer.returncode, 0, answer.stderr)
        trials = pd.read_csv(target / "trials.csv", index_col="trial")
        expected = kd.load_model(FERRY).simulate(1000, seed=1)["net_value"].values
        np.testing.assert_allclose(trials["net_value"], expected)
        self.assertIn("cash_flow 2042", trials.columns)
        summary = json.loads((target / "summary.json").read_text())
        self.assertAlmostEqual(
            summary["outcomes"]["net_value"]["mean"]["value"], expected.mean(), places=4
        )
        for name in ("net_value", "net_value-drivers", "rate_of_return", "cash_flow"):
            with Image.open(target / f"{name}.png") as image:
                self.assertEqual(image.size, (1280, 800))
        self.assertEqual([path.name for path in target.iterdir() if path.name.startswith(".")], [])

    def test_plans_workers_and_correlations_from_a_file(self):
        path = self.folder / "together.toml"
        path.write_text(
            '[model]\nname = "together"\nperiods = 4\nstart = "2028-Q3"\nevery = "quarter"\n'
            '[drivers]\nfuel = { distribution = "lognormal", mean = 100, sd = 20, each = '
            '"period", serial = 0.5 }\n'
            'power = { distribution = "gamma", shape = 9, scale = 10, each = "period" }\n'
            '[[correlations]]\nbetween = ["fuel", "power"]\nvalue = 0.6\n'
            '[outcomes]\ncost = "total(fuel + power)"\nby_quarter = "fuel + power"\n'
        )
        for sampling in ("latin", "random", "antithetic", "sobol"):
            answer = run(
                "run",
                str(path),
                "--sampling",
                sampling,
                "--trials",
                "4000",
                "--seed",
                "1",
                "--workers",
                "2",
            )
            self.assertEqual((answer.returncode, answer.stderr), (0, ""))
            for part in ("fuel with power", "asked 0.6", "2028 Q3", "2029 Q2"):
                self.assertIn(part, answer.stdout)
        run("run", str(path), "--trials", "300", "--out", str(self.folder / "out"))
        columns = pd.read_csv(self.folder / "out" / "trials.csv").columns
        self.assertIn("by_quarter 2029 Q1", columns)
        self.assertTrue((self.folder / "out" / "by_quarter.png").exists())

    def test_check(self):
        answer = run("check", FERRY)
        self.assertEqual(answer.returncode, 0, answer.stderr)
        for text in (
            "9 given figures, 6 drivers, 9 lines and 2 outcomes",
            "three yard quotes",
            "Base case",
            "2042",
            "taken as independent",
        ):
            self.assertIn(text, answer.stdout)
        wrong = self.folder / "wrong.toml"
        wrong.write_text(
            '[model]\nname = "x"\nperiods = 4\n[given]\nhurdle = 8\nspare = 1\n'
            "[drivers]\n"
            'price = { distribution = "normal", mean = 10, sd = 30 }\n'
            'load_share = { distribution = "normal", mean = 0.8, sd = 0.2 }\n'
            'tiny = { distribution = "normal", mean = 1000, sd = 0.01, base = 1000 }\n'
            'odd = { distribution = "uniform", low = 0, high = 1, base = 5 }\n'
            '[outcomes]\nvalue = "npv(hurdle, price * load_share * period, -odd)"\n'
        )
        found = run("check", str(wrong)).stdout
        for text in (
            "hurdle: rates are fractions per period: 8 means 800 %; 0.08 would be 8 %",
            "spare: no line uses this given figure",
            "tiny: no line uses this driver",
            "price: the sd 30 is larger than the mean 10",
            "price: can be negative",
            "load_share: a share can exceed 1, with a chance of 16 %",
            "tiny: the sd 0.01 is tiny",
            "odd: its base value 5 cannot occur",
            "no source is given for price, load_share, tiny, odd",
        ):
            self.assertIn(text, " ".join(found.split()))

    @proof
    def test_demo(self):
        answer = run("demo", "--to", str(self.folder / "larkholm"))
        self.assertEqual(answer.returncode, 0, answer.stderr)
        self.assertIn("an invented company", answer.stdout)
        written = {path.name for path in (self.folder / "larkholm").iterdir()}
        self.assertLessEqual(
            {"night_ferry.toml", "trials.csv", "summary.json", "net_value.png"}, written
        )
        summary = json.loads((self.folder / "larkholm" / "summary.json").read_text())["outcomes"][
            "net_value"
        ]
        self.assertGreater(summary["base case"]["value"], 1e6)
        self.assertTrue(0.15 <= summary["chance below 0"]["value"] <= 0.40)

        # every command that it prints gives the figures that are printed below it
        parts = re.split(r"^  kindynos (.*)$", answer.stdout, flags=re.M)
        for command, text in zip(parts[1::2], parts[2::2], strict=True):
            words = shlex.split(re.sub(r"--(keep|out) \S+", "", command))
            shown = run(*words).stdout
            figures = [line for line in text.splitlines() if line.startswith(" ") and line.strip()]
            self.assertGreater(len(figures), 5)
            for line in figures:
                self.assertIn(line, shown, command)

    def test_distributions(self):
        listed = run("distributions").stdout
        for name in ("student t", "generalized pareto", "an opinion with a trusted"):
            self.assertIn(name, listed)
        about = run("distributions", "pert").stdout
        for text in (
            "(low + weight x mode + high)",
            'distribution = "pert"',
            "mode = ...",
            "Pert(low=2, mode=3, high=7)",
            "P95",
        ):
            self.assertIn(text, " ".join(about.split()))
        target = self.folder / "distribution.png"
        shown = run("distributions", "exponential", "mean=10", "--mark", "10", "--out", str(target))
        self.assertIn("63.21 %", shown.stdout)
        self.assertTrue(target.exists())
        for arguments, fragments in (
            (("pertt",), ("no distribution 'pertt'", "did you mean 'pert'?")),
            (("pert", "low=1"), ("lacks the parameter 'mode'",)),
            (("normal", "mean=x", "sd=1"), ("KEY=VALUE",)),
            (("normal", "mean=1", "sd=-1"), ("sd", "above 0", "-1")),
        ):
            answer = run("distributions", *arguments)
            self.assertEqual(answer.returncode, 2)
            for fragment in fragments:
                self.assertIn(fragment, answer.stderr)

    def test_help_teaches(self):
        for arguments, texts in (
            (("--help",), ("demo", "check", "run", "Exit status")),
            (
                ("run", "--help"),
                (
                    "--trials",
                    "--seed",
                    "--sampling",
                    "--set",
                    "--out",
                    "--json",
                    "kindynos run night_ferry.toml",
                ),
            ),
            (("check", "--help"), ("--set", "kindynos check")),
            (("demo", "--help"), ("--to", "invented")),
        ):
            answer = run(*arguments)
            self.assertEqual(answer.returncode, 0)
            for text in texts:
                self.assertIn(text, answer.stdout)


class BadInput(Folder):
    def test_one_message_and_status_2(self):
        readonly = self.folder / "file"
        readonly.write_text("")
        for arguments, fragments in (
            (("run", "nowhere.toml"), ("nowhere.toml", "cannot be read")),
            (("run", FERRY, "--set", "fair=45"), ("--set", "'fair'", "did you mean 'fare'?")),
            (("run", FERRY, "--set", "fare"), ("NAME=VALUE",)),
            (("run", FERRY, "--set", "fare=much"), ("'much' is not a number",)),
            (("run", FERRY, "--set", "operating=3"), ("'operating' is a line",)),
            (("run", FERRY, "--trials", "0"), ("trials", "at least 1")),
            (("run", FERRY, "--trials", "-3"), ("trials", "-3")),
            (("run", FERRY, "--trials", "many"), ("'many'",)),
            (("run", FERRY, "--seed", "1.5"), ("1.5",)),
            (("run", FERRY, "--seed", "-1"), ("seed", "-1")),
            (("run", FERRY, "--sampling", "latni"), ("'latni'", "did you mean 'latin'?")),
            (("run", FERRY, "--out", str(readonly)), (str(readonly), "cannot be written")),
            (("run", FERRY, "--out", "/proc/nowhere"), ("/proc/nowhere", "cannot be written")),
            (("rnu", FERRY), ("rnu",)),
            (("run",), ("FILE",)),
        ):
            answer = run(*arguments)
            with self.subTest(arguments=arguments):
                self.assertEqual(answer.returncode, 2, answer.stderr)
                self.assertNotIn("Traceback", answer.stderr)
                for fragment in fragments:
                    self.assertIn(fragment, answer.stderr)

    def test_nothing_half_written(self):
        run("run", FERRY, "--trials", "0", "--out", str(self.folder / "out"))
        self.assertFalse((self.folder / "out").exists())
        with self.assertRaises(RuntimeError), staged(self.folder) as stage:
            (stage / "half.csv").write_text("1,")
            raise RuntimeError
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_figures_that_are_asked_for(self):
        asked = (
            "--percentiles",
            "2.5,50",
            "--statistic",
            "skewness",
            "--chance",
            "net_value > 1e6",
        )
        data = json.loads(
            run("run", FERRY, "--trials", "400", "--seed", "1", *asked, "--json").stdout
        )["outcomes"]
        table = (
            kd.load_model(FERRY)
            .simulate(400, seed=1)
            .table(percentiles=(2.5, 50), statistics=("skewness",))
        )
        self.assertEqual(set(data["rate_of_return"]), set(table.loc["rate_of_return"].index))
        self.assertEqual(
            data["net_value"]["P2.5"]["value"], table.loc[("net_value", "P2.5"), "value"]
        )
        self.assertEqual(
            set(data["net_value"])
            - set(data["rate_of_return"])
            - {"chance below 0", "chance above 0"},
            {"chance above 1000000"},
        )
        text = run("run", FERRY, "--trials", "400", "--seed", "1", *asked).stdout
        for words in ("P2.5 ", "skewness ", "chance above 1,000,000"):
            self.assertIn(words, text)
        self.assertNotIn("P99", text)
        for option, value, words in (
            ("--percentiles", "5,x", "such as 1,25,75"),
            ("--statistic", "skewnes", "did you mean 'skewness'?"),
            ("--chance", "net_value", "is not a condition"),
            ("--chance", "net_valu > 3", "did you mean 'net_value'?"),
        ):
            self.assertIn(words, run("run", FERRY, option, value).stderr)

    def test_a_saved_run_is_reported_as_it_was(self):
        saved, page = self.folder / "s.parquet", self.folder / "s.html"
        made = run("run", FERRY, "--trials", "300", "--seed", "1", "--save", str(saved), "--brief")
        again = run("run", str(saved), "--report", str(page), "--brief")
        self.assertEqual(again.returncode, 0, again.stderr)
        self.assertEqual(again.stdout.split("\n\n")[0], made.stdout.split("\n\n")[0])
        self.assertIn("Net value", page.read_text(encoding="utf-8"))
        asked = run("run", str(saved), "--percentiles", "33", "--chance", "net_value > 1e6")
        self.assertIn("P33", asked.stdout)

    def test_what_cannot_be_meant_is_told(self):
        saved, head = self.folder / "s.parquet", '[model]\nname = "x"\n'
        run("run", FERRY, "--trials", "60", "--save", str(saved))
        for text, words in (
            ("[given]\na = 1,5\n", ("a = 1,5", "decimal comma")),
            ("[given]\na = 1,000\n", ("a = 1,000", "without commas")),
            ("[given]\na = 1\na = 2\n", ("line 5", "a is there twice")),
            ("[given]\na = fare\n", ("is written in quotes",)),
            ("[given]\na = 1\n", ("no outcome", "[outcomes]")),
        ):
            file = self.folder / "m.toml"
            file.write_text(head + text)
            answer = run("run", str(file))
            with self.subTest(text=text):
                self.assertEqual(
                    (answer.returncode, answer.stdout, answer.stderr.count("\n")), (2, "", 1)
                )
                for word in words:
                    self.assertIn(word, answer.stderr)
        for words, expected in (
            (("run", str(saved), "--trials", "9"), "--trials goes with a model"),
            (("run", str(saved), "--set", "fare=9"), "--set goes with a model"),
            (("drivers", str(saved)), "a saved run, and no model"),
            (("run", FERRY, "--keep", "cash_flow"), "--keep needs --out"),
            (("run", FERRY, "--save", str(self.folder / "x.csv")), "name the file x.parquet"),
            (("run", FERRY, "--trials", "many"), "write one such as 20000 or 2e4"),
        ):
            answer = run(*words)
            with self.subTest(words=words):
                self.assertEqual(answer.returncode, 2)
                self.assertIn(expected, answer.stderr)

    def test_the_installed_command(self):
        command = [sys.executable, "-m", "kindynos", "run", FERRY, "--trials", "0"]
        answer = subprocess.run(command, capture_output=True, text=True, check=False)
        self.assertEqual((answer.returncode, answer.stdout), (2, ""))
        self.assertEqual(
            answer.stderr,
            "kindynos: simulate: trials must be a whole number of at least 1, not 0\n",
        )

    def test_an_interrupt_where_an_exception_would_be_lost(self):
        # Python turns one that falls into the making of a class into a RuntimeError.
        script = """
import os, signal, sys
from unittest.mock import patch
from kindynos.__main__ import main
def lost(*_, **__):
    try:
        os.kill(os.getpid(), signal.SIGINT)
        while True: pass
    except KeyboardInterrupt:
        raise RuntimeError("Error calling __set_name__")
with patch({where!r}, lost):
    main()
"""
        for where in ("kindynos.cli.cli.main", "kindynos.cli.handle_signals"):
            command = [sys.executable, "-c", script.replace("{where!r}", repr(where))]
            answer = subprocess.run(command, capture_output=True, text=True, check=False)
            self.assertEqual(
                (answer.returncode, answer.stderr.partition(";")[0].strip()),
                (1, "kindynos: stopped"),
                where,
            )

    def test_an_interrupt_says_how_far_it_came(self):
        target = self.folder / "out"
        command = [
            sys.executable,
            "-m",
            "kindynos",
            "run",
            FERRY,
            "--trials",
            "30000000",
            "--out",
            str(target),
        ]
        with subprocess.Popen(
            command, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        ) as process:
            wait_for_work(process, 8.0)  # the run is under way by then, and far from done
            os.kill(process.pid, signal.SIGINT)
            _, message = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 1, message)
        self.assertRegex(message, r"stopped after [\d,]+ of 30,000,000 trials")
        self.assertFalse(target.exists())
