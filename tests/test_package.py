"""Tests of package."""

import contextlib
import doctest
import importlib
import importlib.util
import inspect
import io
import json
import pkgutil
import pydoc
import runpy
import subprocess
import sys
import tempfile
from importlib.resources import files
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from docs.demo import make_data

import kindynos as kd
from tests.common import DEMO, Case, run
from tests.notebooks import executed

ROOT = Path(__file__).resolve().parents[1]
MODULES = sorted(
    module.name
    for module in pkgutil.walk_packages(kd.__path__, "kindynos.")
    if "__main__" not in module.name
)


def load_tests(loader, tests, pattern):
    """Add the examples in docstrings."""
    for name in MODULES:
        tests.addTests(doctest.DocTestSuite(importlib.import_module(name)))
    return tests


class Package(Case):
    def test_every_public_name_is_there_and_documented(self):
        for name in kd.__all__:
            with self.subTest(name=name):
                self.assertTrue(name == "__version__" or getattr(kd, name).__doc__)
        self.assertLessEqual(set(kd.__all__), set(dir(kd)))
        self.assertFalse(
            [name for name in dir(kd) if name.startswith("_") and name != "__version__"]
        )
        with self.assertRaisesRegex(AttributeError, "did you mean 'LogNormal'"):
            _ = kd.Lognormal
        self.assertIn("Begin with a model", kd.__doc__)

    def test_names_of_results_are_for_annotations(self):
        for package in (kd, kd.finance, kd.markets):
            for name in package.__all__:
                self.assertIsNotNone(getattr(package, name))
        self.assertTrue(issubclass(kd.Allocation, object) and "Allocation" not in kd.__all__)
        self.assertLessEqual(len(kd.__all__), 130)
        stub = (Path(kd.__file__).parent / "__init__.pyi").read_text()
        topics = [line for line in stub.splitlines() if line.startswith("# ")]
        self.assertEqual(
            (topics[1], topics[-2].startswith("# For annotations")), ("# Models", True)
        )

    def test_help_shows_the_parameters_of_distributions(self):
        self.assertEqual(
            str(inspect.signature(kd.Normal)).replace("'", ""), "(mean: float, sd: float)"
        )

    def test_importing_and_help_load_nothing_heavy(self):
        heavy = (
            "{'pandas', 'matplotlib', 'pydantic', 'scipy.stats', 'scipy.optimize', 'numpy', 'rich'}"
        )
        for action in ("import kindynos", "import kindynos.cli"):
            code = f"import sys; {action}; print(sorted({heavy} & set(sys.modules)))"
            answer = subprocess.run(
                [sys.executable, "-c", code], capture_output=True, text=True, check=True
            )
            allowed = "[]" if action == "import kindynos" else ("[]", "['numpy']")
            self.assertIn(answer.stdout.strip(), allowed)

    def test_errors_have_one_base(self):
        self.assertTrue(issubclass(kd.KindynosError, ValueError))
        for error in (
            kd.ModelError,
            kd.FormulaError,
            kd.FileError,
            kd.ParameterError,
            kd.RunError,
            kd.StoppedError,
        ):
            self.assertTrue(issubclass(error, kd.KindynosError))


class Examples(Case):
    def test_python_and_file_give_the_same_bits(self):
        sys.path.insert(0, str(ROOT / "examples"))
        self.addCleanup(sys.path.remove, str(ROOT / "examples"))
        model = importlib.import_module("night_ferry").model
        loaded = kd.load_model(files("kindynos.demo").joinpath("night_ferry.toml"))
        for sampling in ("latin", "random"):
            ours, theirs = (m.simulate(5000, seed=8, sampling=sampling) for m in (model, loaded))
            for name in ("net_value", "rate_of_return", "cash_flow", "energy"):
                np.testing.assert_array_equal(ours[name].values, theirs[name].values)
        np.testing.assert_array_equal(model.base_case().to_numpy(), loaded.base_case().to_numpy())

    def test_examples_run(self):
        description = {
            "night_ferry": "chance of a loss",
            "fleet": "best: 2 ferries at 60 EUR",
            "overbooking": "the error of the mean is right",
            "passengers": "parameters uncertain: median month",
            "treasury_option": "with them: worth -2,280,126 EUR",
        }
        self.assertEqual({path.stem for path in (ROOT / "examples").glob("*.py")}, set(description))
        for name, words in description.items():
            script = ROOT / "examples" / f"{name}.py"
            with contextlib.redirect_stdout(io.StringIO()) as printed:
                runpy.run_path(str(script), run_name="__main__")
            self.assertIn(words, printed.getvalue())


class Help(Case):
    def test_of_the_package_and_of_every_name(self):
        whole = pydoc.render_doc(kd, renderer=pydoc.plaintext)
        self.assertIn("Where to look next", whole)
        for name in kd.__all__:
            if name != "__version__":
                with self.subTest(name):
                    self.assertGreater(len(pydoc.render_doc(getattr(kd, name))), 60)


class Notebooks(Case):
    def test_cells_run_and_show_what_the_file_shows(self):
        books = sorted((ROOT / "examples").glob("*.ipynb"))
        self.assertTrue(books)
        for path in books:
            stored = json.loads(path.read_text(encoding="utf-8"))["cells"]
            for cell, known in zip(executed(path)["cells"], stored, strict=True):
                with self.subTest("".join(known["source"])):
                    self.assertEqual(cell.get("outputs"), known.get("outputs"))


class Demo(Case):
    def test_the_seeded_script_makes_the_files(self):
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch.object(make_data, "HERE", Path(folder)),
        ):
            make_data.main()
            for name in (
                "treasury_prices.csv",
                "treasury_holdings.csv",
                "heating_oil.csv",
                "treasury_rate.csv",
            ):
                made, kept = (pd.read_csv(Path(place, name)) for place in (folder, DEMO))
                pd.testing.assert_frame_equal(made, kept)

    def test_demo_files_are_found_by_name(self):
        self.assertTrue(kd.demo_file("dry_dock.toml").exists())
        with self.fails("did you mean 'dry_dock.toml'", kind=kd.FileError):
            kd.demo_file("dry_dok.toml")

    def test_every_model_of_the_demo_checks_and_runs(self):
        for path in sorted(DEMO.glob("*.toml")):
            if "\n[decision]" in path.read_text("utf-8"):
                continue
            with self.subTest(path=path.name):
                self.assertEqual(run("check", str(path)).returncode, 0)
                answer = run("run", str(path), "--trials", "300", "--seed", "1")
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))
