"""Checks of the package as a whole, run by ``make check``: its circles and its types."""

import ast
import graphlib
import importlib
import inspect
import re
import tempfile
import tomllib
import unittest
from pathlib import Path

from mypy import api

import kindynos as kd

ROOT = Path(__file__).resolve().parents[1]

USER_CODE = """
from typing import assert_type
import kindynos as kd

model = kd.Model("Typed", periods=3, every="quarter")
model.driver("x", kd.Normal(10, 2), each="period")
model.correlate("x", "y", 0.3, kind="rank", copula="t", df=4)

@model.line
def doubled(x: object) -> object:
    return x

run = model.simulate(1000, seed=1, sampling="sobol", on_bad="count")
assert_type(run["y"].mean, kd.Estimate)
assert_type(run["y"].percentile(5), kd.Estimate)
assert_type(run["y"].percentile([5, 95]), kd.Estimates)
assert_type(run.row("x").mean, kd.Estimates)
run.sensitivity("y", "tail", worst=0.1, side="low")
model.compare({"a": {}, "b": {}}, 1000, 1, sampling="latin")
kd.Pert(1, 2, 3).quantile(0.5)
kd.npv(0.1, [1.0, 2.0])
"""
REFUSED = (
    'model.simulate(1000, sampling="latn")',
    'model.simulate(1000, on_bad="stop")',
    'model.driver("z", kd.Normal(0, 1), each="year")',
    'model.correlate("x", "y", 0.3, copula="gausian")',
    'kd.Model("m", every="day")',
    'run.sensitivity("y", "tail", worse=0.1)',
    'model.compare({}, 1000, 1, smapling="latin")',
    "kd.Nromal(0, 1)",
)


class House(unittest.TestCase):
    """The files of the package: no circles, and an interface that type checkers understand."""

    def setUp(self):
        self.root = Path(kd.__file__).parent
        self.trees = {
            path: ast.parse(path.read_text(encoding="utf-8")) for path in self.root.rglob("*.py")
        }

    def test_no_circle_of_files(self):
        modules = {self._module(path): tree for path, tree in self.trees.items()}
        graph = {
            name: {found for found in self._imports(tree) if found in modules} - {name}
            for name, tree in modules.items()
        }
        self.assertTrue(any(graph.values()))
        graphlib.TopologicalSorter(graph).prepare()  # raises CycleError for a circle

    def test_no_owner_is_typed_by_hand(self):
        for path, tree in self.trees.items():
            for call in (node for node in ast.walk(tree) if isinstance(node, ast.Call)):
                for argument in call.keywords:
                    if argument.arg == "owner":
                        with self.subTest(file=path.name, line=call.lineno):
                            self.assertNotIsInstance(argument.value, ast.Constant)

    def _module(self, path):
        parts = path.relative_to(self.root.parent).with_suffix("").parts
        return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)

    def _imports(self, tree):
        """Every import, also inside functions and under TYPE_CHECKING; a name may be a module of
        its package.
        """
        for node in ast.walk(tree):
            if isinstance(node, ast.Import):
                yield from (alias.name for alias in node.names)
            elif isinstance(node, ast.ImportFrom):
                yield from (f"{node.module}.{alias.name}" for alias in node.names)
                yield node.module

    def test_user_code_is_type_checked_and_wrong_spellings_are_refused(self):
        lines = USER_CODE.count("\n") + 1
        with tempfile.TemporaryDirectory() as folder:
            code = Path(folder, "user.py")
            code.write_text(USER_CODE + "\n".join(REFUSED) + "\n")
            cache = str(ROOT / ".mypy_cache")
            answer, _, _ = api.run(["--strict", "--cache-dir", cache, str(code)])
        wrong = {int(found) - lines for found in re.findall(r"user\.py:(\d+): error", answer)}
        self.assertEqual(wrong, set(range(len(REFUSED))), answer)

    def test_calls_into_higher_layers_are_listed_and_fit(self):
        settings = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["tool"]
        layers = [
            [name.strip() for name in layer.split(":")]
            for layer in settings["importlinter"]["contracts"][0]["layers"]
        ]

        def level(module):
            return next(i for i, names in enumerate(layers) if module.split(".")[1] in names)

        upward = {}
        for path, tree in self.trees.items():
            for method in (node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)):
                for call in method.decorator_list:
                    if not isinstance(call, ast.Call) or ast.unparse(call.func) != "delegated_to":
                        continue
                    module, name = (argument.value for argument in call.args)
                    function = getattr(importlib.import_module(module), name)
                    ours = [a.arg for a in (*method.args.args, *method.args.kwonlyargs)][1:]
                    theirs = list(inspect.signature(inspect.unwrap(function)).parameters)[1:]
                    variable = method.args.kwarg is not None or method.args.vararg is not None
                    with self.subTest(method=f"{path.stem}.{method.name}"):
                        self.assertTrue(variable or set(ours) <= set(theirs), (ours, theirs))
                    source = self._module(path)
                    if level(module) < level(source):
                        upward.setdefault(source, []).append(f"{module}.{name}")
        listed = settings["kindynos"]["upward"]
        self.assertEqual({key: sorted(value) for key, value in upward.items()}, listed)


if __name__ == "__main__":
    unittest.main()
