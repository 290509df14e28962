"""What is printed for people and machines, for models of every shape."""

import importlib
import io
import json
import re
import shlex
import sys
from pathlib import Path

import numpy as np
from rich.console import Console

import kindynos as kd
from kindynos.distributions import CATALOGUE
from kindynos.distributions.registry import example
from kindynos.errors import nearest
from kindynos.model.review import review
from kindynos.reports import text
from kindynos.reports.summary import as_json, summary
from tests.common import Case, investment

ROOT = Path(__file__).resolve().parents[1]


def printed(thing) -> str:
    out = io.StringIO()
    Console(file=out, width=160).print(thing)
    return out.getvalue()


def failing() -> kd.Run:
    model = kd.Model("Partly failing", periods=2, start="2028-Q4", every="quarter")
    model.driver("x", kd.Uniform(-1, 3))
    model.driver("noise", kd.Normal(0, 1), each="period")
    model.outcome("root", "sqrt(x)", target=1)
    model.outcome("level", "x + noise", unit="m")
    model.outcome("never", "1 / 0 + 0 * x")
    return model.simulate(4000, seed=2)


class Terminal(Case):
    def test_failed_trials_are_said(self):
        shown = printed(text.run_report(failing()))
        for part in (
            "without a value",
            "1,000",
            "chance of no value",
            "25.0 %",
            "first in 'root'",
            "95 % error is how far",
            "never",
        ):
            self.assertIn(part, shown)
        chances = [float(found) for found in re.findall(r"chance [^│\n]*?(\d+\.\d) %", shown)]
        self.assertAlmostEqual(sum(chances), 100, places=6)

    def test_what_moves_together_is_said(self):
        model = kd.Model("together")
        for name in "abc":
            model.driver(name, kd.Normal(0, 1))
        for one, other, figure in (("a", "b", 0.9), ("b", "c", 0.9), ("a", "c", -0.5)):
            model.correlate(one, other, figure, repair=True)
        model.outcome("y", "a + b + c")
        aim = kd.Precision("y", "mean", within=0.5)
        run = model.simulate(4000, seed=1, sampling="sobol", until=aim)
        shown = printed(text.run_report(run))
        for part in (
            "a with b: rank correlation",
            "asked 0.9",
            "gaussian copula",
            "Repaired",
            "a with c: -0.500 became",
            "met.",
        ):
            self.assertIn(part, shown)
        self.assertNotIn("Assumed independent", shown)
        data = json.loads(as_json(summary(run)))
        self.assertEqual([row["asked"] for row in data["correlations"]], [0.9, 0.9, -0.5])
        self.assertEqual(len(data["repaired"]), 3)
        stopped = investment().simulate(100_000, seed=1, progress=lambda done, total: False)
        self.assertIn("Partial: stopped after", printed(text.run_report(stopped)))
        rounded = investment().simulate(1000, seed=1, sampling="sobol")
        self.assertIn("Rounded up from the 1,000 trials", printed(text.run_report(rounded)))

    def test_every_law_is_shown_in_words(self):
        for law in CATALOGUE.values():
            shown = printed(text.law_figures(example(law), mark=5.0))
            with self.subTest(law=law.label):
                self.assertIn("P50", shown)
                chances = [float(part) for part in re.findall(r"(\d+\.\d\d) %", shown)]
                self.assertAlmostEqual(sum(chances), 100, places=6)
                self.assertIn(f'distribution = "{law.label}"', printed(text.about_law(law)))
        self.assertIn("does not exist", printed(text.law_figures(kd.Cauchy(0, 1), None)))
        self.assertIn("generalized pareto", printed(text.catalogue()))

    def test_rows_by_period(self):
        shown = printed(text.run_report(failing()))
        self.assertRegex(shown, r"2028 Q4 +1\.0+ +0\.99\d* +± 0\.00")
        self.assertIn("2029 Q1", shown)
        self.assertIn("noise in one period of noise in another", shown)

    def test_too_few_trials_are_said(self):
        shown = printed(text.run_report(investment().simulate(50, seed=1)))
        self.assertIn("50 trials are too few", shown)
        self.assertNotIn("±", shown)

    def test_sheets_of_any_width(self):
        for periods in (None, 3, 40):
            model = kd.Model("m", periods=periods)
            model.given(a=12345.678, steps={0: 1, 2: 5})
            model.line("y", "a + lookup(1, steps)" + (" + period" if periods else ""))
            program = model.compiled()
            shown = printed(text.sheet_table("Sheet", model.base_case(), {"a": "EUR"}))
            self.assertIn("EUR", shown)
            self.assertEqual("..." in shown, periods == 40)
            self.assertIn("2 pairs", printed(text.givens_table(program)))

    def test_markup_in_names_is_shown_as_it_is(self):
        model = kd.Model("[bold]m[/bold]")
        model.given("a", 1.0, unit="[red]", source="[/]")
        self.assertIn("[red]", printed(text.givens_table(model.compiled())))
        model.outcome("y", "a")
        self.assertIn("[bold]m[/bold]", printed(text.run_report(model.simulate(10, seed=1))))

    def test_findings(self):
        self.assertIn("Nothing looks wrong", printed(text.findings([])))
        quiet = kd.Model("m")
        quiet.driver("x", kd.Normal(10, 1), source="records")
        quiet.outcome("y", "x * 2")
        self.assertEqual(review(quiet.compiled()), [])


class Machines(Case):
    def test_summary_is_json_without_gaps(self):
        data = json.loads(as_json(summary(failing())))
        self.assertEqual(data["outcomes"]["root"]["trials without a value"]["value"], 1000)
        self.assertEqual(data["outcomes"]["never"]["mean"]["value"], "never")
        self.assertIsNone(data["outcomes"]["root"]["lowest"]["error"])
        self.assertIn("level 2029 Q1", data["outcomes"])
        self.assertEqual(data["units"]["level"], "m")
        self.assertEqual(data["bad trials"], {"root": 1000})


class Hints(Case):
    def test_nearest_spellings(self):
        for word, known, hint in (
            ("hurdel", ["hurdle", "tax"], "; did you mean 'hurdle'?"),
            ("HURDLE", ["hurdle"], "; did you mean 'hurdle'?"),
            ("zzz", ["a", "b"], "; known: a, b"),
            ("zzz", [], ""),
            ("zzz", [f"name{i}" for i in range(20)], ""),
        ):
            self.assertEqual(nearest(word, known), hint)

    def test_long_values_are_cut_in_messages(self):
        with self.fails("a number", "..."):
            kd.Normal("x" * 500, 1)
        with self.assertRaises(kd.ParameterError) as caught:
            kd.Normal(list(range(500)), 1)
        self.assertLess(len(str(caught.exception)), 160)

    def test_numbers_of_other_kinds_are_taken(self):
        law = kd.Normal(np.float32(1.5), np.array(2))
        self.assertEqual((law.mean, law.sd), (1.5, 2.0))
        self.assertEqual(kd.Binomial(np.int64(4), 0.5).mean, 2)
        with self.fails("finite"):
            kd.Normal(10**400, 1)


class Readme(Case):
    def test_its_python_runs_and_its_model_file_loads(self):
        readme = (ROOT / "README.md").read_text(encoding="utf-8")
        names: dict = {}
        for code in re.findall(r"```python\n(.*?)```", readme, re.S):
            exec(code, names)
        self.assertGreaterEqual(names["run"].size, 20_000)
        path = ROOT / "tests" / "readme.tmp.toml"
        self.addCleanup(path.unlink)
        path.write_text(re.search(r"```toml\n(.*?)```", readme, re.S)[1], encoding="utf-8")
        self.assertEqual(kd.load_model(path).periods, 15)

    def test_commands_of_the_worked_examples_run(self):
        from tests.test_cli import run

        demo = ROOT / "src" / "kindynos" / "demo"
        commands = []
        for page in sorted((ROOT / "docs" / "demo").glob("*.md")):
            text = page.read_text(encoding="utf-8")
            commands += re.findall(r"^kindynos .*$", text, re.M)
        self.assertGreater(len(commands), 6)
        for command in commands:
            words = [str(demo / word) if word.endswith((".toml", ".csv")) else word for word in shlex.split(command)[1:]]
            with self.subTest(command=command):
                answer = run(*words, *([] if words[0] in ("risk", "backtest") else ["--trials", "400"]))
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))

    def test_its_links_and_pictures_are_there(self):
        for page in (ROOT / "README.md", ROOT / "CONTRIBUTING.md"):
            for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text(encoding="utf-8")):
                self.assertTrue((page.parent / link).exists(), link)

    def test_the_catalogues_page_is_up_to_date(self):
        sys.path.insert(0, str(ROOT / "docs"))
        self.addCleanup(sys.path.remove, str(ROOT / "docs"))
        made = importlib.import_module("make_distributions")
        self.assertEqual(made.PAGE.read_text(encoding="utf-8"), made.page(), "run make docs")

    def test_every_function_of_the_language_is_documented(self):
        from kindynos.model.formula.functions import FUNCTIONS

        page = (ROOT / "docs" / "model-files.md").read_text(encoding="utf-8")
        for name in FUNCTIONS:
            self.assertRegex(page, rf"\b{name}\b")
