"""Tests of docs."""

import contextlib
import importlib
import os
import re
import shlex
import shutil
import sys
import tempfile
from pathlib import Path

import kindynos as kd
from tests.common import Case, proof, run

# commands that take a second or more, which make proofs runs
SLOW = ("risk", "backtest", "allocate", "paths", "fit", "optimize", "drivers", "sweep", "read")
ROOT = Path(__file__).resolve().parents[1]


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

    @proof
    def test_quick_commands_of_the_worked_examples_run(self):
        self._run_commands(lambda words: words[0] not in SLOW)

    @proof
    def test_slow_commands_of_the_worked_examples_run(self):
        self._run_commands(lambda words: words[0] in SLOW)

    def _run_commands(self, wanted):
        demo = ROOT / "src" / "kindynos" / "demo"
        commands = []
        for page in sorted((ROOT / "docs" / "demo").glob("*.md")):
            text = page.read_text(encoding="utf-8")
            commands += [
                line
                for line in re.findall(r"^kindynos .*$", text, re.M)
                if "--series" not in line
                and "--out " not in line
                and "--write" not in line
                and "shapley" not in line
                and "--minimize" not in line  # slow, and tested elsewhere
            ]
        self.assertGreater(len(commands), 6)
        for command in commands:
            words = [
                str(demo / word) if word.endswith((".toml", ".csv", ".xlsx")) else word
                for word in shlex.split(command)[1:]
            ]
            if not wanted(words):
                continue
            words += (
                []
                if words[0] in ("risk", "backtest", "fit", "read", "decide", "check")
                else ["--trials", "400"]
            )
            words += (
                ["--evaluations", "20"]
                if words[0] == "optimize"
                else ["--resampled", "20"]
                if words[0] == "allocate"
                else []
            )
            with (
                self.subTest(command=command),
                tempfile.TemporaryDirectory() as folder,
                contextlib.chdir(folder),
            ):
                answer = run(*words)
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

    def test_a_large_run_goes_as_its_page_says(self):
        page = (ROOT / "docs" / "cluster.md").read_text(encoding="utf-8")
        code = re.findall(r"^```python\n(.*?)^```", page, re.M | re.S)[0]
        for large, small in (("10**8", "10**5"), ("77_000_000", "77_000")):
            self.assertIn(large, code)
            code = code.replace(large, small)
        names: dict = {}
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            shutil.copy(kd.demo_file("night_ferry.toml"), folder)
            exec(code, names)
            self.assertEqual(sorted(os.listdir(folder)), ["ferry.npz", "night_ferry.toml"])
        self.assertEqual(names["run"].size, 10**5)

    def test_every_function_of_the_language_is_documented(self):
        from kindynos.formula.functions import FUNCTIONS

        page = (ROOT / "docs" / "model-files.md").read_text(encoding="utf-8")
        for name in FUNCTIONS:
            self.assertRegex(page, rf"\b{name}\b")
