"""The examples, the docstrings' examples, and the promises of the package as a whole."""

import doctest
import importlib
import pkgutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import numpy as np

import kindynos as kd
from tests.common import Case

ROOT = Path(__file__).resolve().parents[1]
MODULES = sorted(module.name for module in pkgutil.walk_packages(kd.__path__, "kindynos.") if "__main__" not in module.name)


def load_tests(loader, tests, pattern):
    """Add the examples in docstrings."""
    for name in MODULES:
        tests.addTests(doctest.DocTestSuite(importlib.import_module(name)))
    return tests


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
        said = {
            "night_ferry": "chance of a loss",
            "fleet": "best: 2 ferries at 60 EUR",
            "overbooking": "the error of the mean is right",
        }
        self.assertEqual({path.stem for path in (ROOT / "examples").glob("*.py")}, set(said))
        for name, words in said.items():
            script = ROOT / "examples" / f"{name}.py"
            answer = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, check=True)
            self.assertIn(words, answer.stdout)


class Package(Case):
    def test_every_public_name_is_there_and_documented(self):
        for name in kd.__all__:
            with self.subTest(name=name):
                self.assertTrue(name == "__version__" or getattr(kd, name).__doc__)
        self.assertLessEqual(set(kd.__all__), set(dir(kd)))
        with self.assertRaises(AttributeError):
            _ = kd.nothing

    def test_importing_and_help_load_nothing_heavy(self):
        heavy = "{'pandas', 'matplotlib', 'pydantic', 'scipy.stats', 'scipy.optimize', 'numpy', 'rich'}"
        for action in ("import kindynos", "import kindynos.cli"):
            code = f"import sys; {action}; print(sorted({heavy} & set(sys.modules)))"
            answer = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
            allowed = "[]" if action == "import kindynos" else ("[]", "['numpy']")
            self.assertIn(answer.stdout.strip(), allowed)

    def test_errors_have_one_base(self):
        self.assertTrue(issubclass(kd.KindynosError, ValueError))
        for error in (kd.ModelError, kd.FormulaError, kd.FileError, kd.ParameterError, kd.RunError, kd.StoppedError):
            self.assertTrue(issubclass(error, kd.KindynosError))
