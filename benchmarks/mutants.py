"""Seeded faults in the numeric layers: how many of them does the suite find?

``python -m benchmarks.mutants --count 200 --seed 1`` changes one sign, divisor, constant,
comparison or pair of arguments at a time in a copy of the package and runs the tests that reach the
changed line, the quickest first. Which tests reach which line is recorded once at the start. It
prints the share that was found, and each fault that was not. ``harmless.toml`` lists lines in which
a fault changes no answer, with the reason.
"""

import argparse
import ast
import compileall
import json
import multiprocessing
import os
import random
import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue

from tests.runner import TimedResult, chosen, test_files

import coverage

ROOT = Path(__file__).resolve().parents[1]
PACKAGE = ROOT / "src" / "kindynos"
LAYERS = (
    "inference", "finance", "distributions", "dependence", "sampling", "processes", "fitting",
    "cohorts", "decisions", "markets", "results", "studies",
)  # fmt: skip
OPERATORS = {ast.Add: ("+", "-"), ast.Sub: ("-", "+"), ast.Mult: ("*", "/"), ast.Div: ("/", "*")}
COMPARISONS = {ast.Lt: ("<", "<="), ast.LtE: ("<=", "<"), ast.Gt: (">", ">="), ast.GtE: (">=", ">")}
# whose two arguments are told apart by any call, or by none
CHECKS = ("isinstance", "hasattr", "zip", "minimum", "maximum", "logaddexp", "hypot", "allclose")
TEXT = (ast.JoinedStr, ast.Raise, ast.Subscript, ast.AnnAssign, ast.Assert)
MINUTES = 3  # and three times what its tests take: then a run counts as found, its loop is endless
IMPORTED = ""  # the context of lines that run while a module is imported


@dataclass(frozen=True)
class Fault:
    """A place in a file, and what takes the place of its text."""

    path: Path
    line: int
    begin: int
    end: int
    text: str

    def applied(self, source: str) -> str:
        """Return the source with the fault in it."""
        lines = source.splitlines(keepends=True)
        line = lines[self.line - 1].encode()
        lines[self.line - 1] = (line[: self.begin] + self.text.encode() + line[self.end :]).decode()
        return "".join(lines)

    def __str__(self) -> str:
        line = (PACKAGE / self.path).read_text("utf-8").splitlines()[self.line - 1]
        old = line.encode()[self.begin : self.end].decode()
        return f"{self.path}:{self.line}: {old} -> {self.text} in `{line.strip()}`"


def harmless() -> set[tuple[str, str]]:
    """Return the files with the functions, and with the lines, in which a fault changes no answer.

    Raises AssertionError for one that there is no longer.
    """
    stated = tomllib.loads(Path(__file__).with_name("harmless.toml").read_text("utf-8"))
    found = {(entry["file"], name) for entry in stated["functions"] for name in entry["names"]}
    found |= {(entry["file"], entry["text"]) for entry in stated["lines"]}
    for file, text in found:
        assert text in (PACKAGE / file).read_text("utf-8"), f"{file}: no {text!r} any more"
    return found


def faults_of(path: Path, left_out: set[tuple[str, str]]) -> list[Fault]:
    """Return every fault that can be put into a file, but for those that change no answer."""
    source, file = path.read_text("utf-8"), str(path.relative_to(PACKAGE))
    lines = source.splitlines()
    found: list[Fault] = []

    def visit(node: ast.AST, parent: ast.AST | None) -> None:
        if isinstance(node, TEXT):
            return
        if isinstance(node, ast.FunctionDef) and (file, node.name) in left_out:
            return
        change = changed(node, parent, lines)
        if change is not None:
            found.append(Fault(path.relative_to(PACKAGE), *change))
        for child in ast.iter_child_nodes(node):
            visit(child, node)

    visit(ast.parse(source), None)
    return [fault for fault in found if (file, lines[fault.line - 1].strip()) not in left_out]


Change = tuple[int, int, int, str]  # the line, the columns, and the text that is put there


def changed(node: ast.AST, parent: ast.AST | None, lines: list[str]) -> Change | None:
    """Return what is put in place of an operator, a comparison, a constant or two arguments."""
    if isinstance(node, ast.BinOp) and type(node.op) in OPERATORS:
        return between(node.left, node.right, lines, *OPERATORS[type(node.op)])
    if isinstance(node, ast.Compare) and type(node.ops[0]) in COMPARISONS:
        return between(node.left, node.comparators[0], lines, *COMPARISONS[type(node.ops[0])])
    if isinstance(node, ast.Constant) and type(node.value) in (int, float):
        moved = isinstance(parent, ast.BinOp | ast.keyword | ast.UnaryOp | ast.Assign)
        if not moved or node.lineno != node.end_lineno:
            return None
        value = node.value + 1 if isinstance(node.value, int) else 1.5 * node.value + 0.1
        return node.lineno, node.col_offset, node.end_col_offset, repr(value)
    if isinstance(node, ast.Call) and len(node.args) == 2:
        return exchanged(node.func, *node.args)
    return None


def between(left: ast.expr, right: ast.expr, lines: list[str], old: str, new: str) -> Change | None:
    """Return the change of an operator between two sides on one line."""
    if left.end_lineno != right.lineno:
        return None
    line = lines[right.lineno - 1].encode()
    place = line.find(old.encode(), left.end_col_offset, right.col_offset)
    return None if place < 0 else (right.lineno, place, place + len(old), new)


def exchanged(function: ast.expr, first: ast.expr, second: ast.expr) -> Change | None:
    """Return the change of two arguments that are names, for each other."""
    names = isinstance(first, ast.Name) and isinstance(second, ast.Name)
    called = getattr(function, "attr", getattr(function, "id", ""))
    if not names or first.lineno != second.lineno or called in CHECKS:
        return None
    return first.lineno, first.col_offset, second.end_col_offset, f"{second.id}, {first.id}"


class Recorder(TimedResult):
    """A result that also notes which lines of the package each test reaches."""

    def __init__(self, lines: coverage.Coverage) -> None:
        super().__init__()
        self._lines = lines

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        """Begin a test, whose lines are counted as its own."""
        super().startTest(test)
        self._lines.switch_context(test.id())


@dataclass(frozen=True)
class Reach:
    """Which tests reach a line, and how long each takes."""

    tests: dict[tuple[str, int], set[str]]
    seconds: dict[str, float]

    def of(self, fault: Fault) -> list[str]:
        """Return the tests that reach the line of a fault, the quickest first; for a line that runs
        on import, those that reach any line of its file.
        """
        path = str(fault.path)
        found = self.tests.get((path, fault.line), {IMPORTED})
        if IMPORTED in found:
            places = (tests for (file, _), tests in self.tests.items() if file == path)
            found = set().union(*places)
        return sorted(found - {IMPORTED}, key=lambda test: self.seconds.get(test, 0.0))

    def limit(self, tests: list[str]) -> float:
        """Return the seconds after which a run of these tests is taken for endless."""
        return 60 * MINUTES + 3 * sum(self.seconds.get(test, 0.0) for test in tests)


def recorded(name: str) -> tuple[dict[tuple[str, int], set[str]], dict[str, float]]:
    """Run the tests of one module and return the tests by line, and the seconds by test; this
    happens in a worker process.
    """
    lines = coverage.Coverage(data_file=None, source=[str(PACKAGE)], config_file=False)
    lines.start()
    result = Recorder(lines)
    tests = unittest.defaultTestLoader.loadTestsFromName(name)
    unittest.TestSuite(chosen(tests, proofs=False)).run(result)
    lines.stop()

    found: dict[tuple[str, int], set[str]] = defaultdict(set)
    data = lines.get_data()
    for file in data.measured_files():
        path = str(Path(file).relative_to(PACKAGE))
        for line, contexts in data.contexts_by_lineno(file).items():
            found[path, line].update(contexts)
    return dict(found), {test: seconds for seconds, test in result.seconds}


def reach_of_tests(jobs: int) -> Reach:
    """Return which tests of the numeric layers, and which examples, reach each line."""
    tests: dict[tuple[str, int], set[str]] = defaultdict(set)
    seconds: dict[str, float] = {}
    names = test_files([f"tests.{layer}." for layer in (*LAYERS, "program", "model")])
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(jobs, mp_context=context, max_tasks_per_child=1) as pool:
        for lines, times in pool.map(recorded, names):
            seconds.update(times)
            for place, found in lines.items():
                tests[place] |= found
    return Reach(tests, seconds)


def survives(fault: Fault, copy: Path, tests: list[str], limit: float) -> bool:
    """Return whether all these tests pass in a copy of the project with a fault."""
    path = copy / "src" / "kindynos" / fault.path
    source = path.read_text("utf-8")
    module = ".".join(("kindynos", *fault.path.with_suffix("").parts))
    examples = f"import doctest, {module} as m, sys; sys.exit(doctest.testmod(m)[0])"
    run = (
        "import json, sys, unittest\n"
        "tests = unittest.defaultTestLoader.loadTestsFromNames(json.load(sys.stdin))\n"
        "result = unittest.TestResult()\n"
        "result.failfast = True\n"
        "tests.run(result)\n"
        "sys.exit(not result.wasSuccessful())"
    )
    path.write_text(fault.applied(source), "utf-8")
    try:
        return passes(copy, examples, [], limit) and (not tests or passes(copy, run, tests, limit))
    finally:
        path.write_text(source, "utf-8")


def passes(copy: Path, code: str, tests: list[str], limit: float) -> bool:
    """Return whether Python code succeeds in a copy of the project."""
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        answer = subprocess.run(
            [sys.executable, "-c", code],
            cwd=copy,
            env=environment,
            input=json.dumps(tests).encode(),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            timeout=limit,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return False
    return answer.returncode == 0


def main() -> None:
    """Print how many of the faults are found, and those that are not."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    options = parser.parse_args()

    files = sorted(path for layer in LAYERS for path in (PACKAGE / layer).rglob("*.py"))
    left_out = harmless()
    everything = [fault for path in files for fault in faults_of(path, left_out)]
    faults = random.Random(options.seed).sample(everything, options.count)
    print(f"{len(faults)} of {len(everything)} faults, seed {options.seed}", flush=True)
    reach = reach_of_tests(options.jobs)

    with tempfile.TemporaryDirectory() as folder:
        copies: Queue[Path] = Queue()
        for place in range(options.jobs):
            copy = Path(folder, str(place))
            for part in ("src", "tests", "docs", "examples", "benchmarks"):
                shutil.copytree(ROOT / part, copy / part)
            for name in ("README.md", "CONTRIBUTING.md", "CHANGELOG.md", "pyproject.toml"):
                shutil.copy(ROOT / name, copy / name)
            # Compiled once: then a run compiles nothing but the file that was changed.
            compileall.compile_dir(copy, quiet=2)
            copies.put(copy)

        def tried(fault: Fault) -> bool:
            copy = copies.get()
            try:
                tests = reach.of(fault)
                return survives(fault, copy, tests, reach.limit(tests))
            finally:
                copies.put(copy)

        survivors = []
        with ThreadPoolExecutor(options.jobs) as pool:
            for done, (fault, survived) in enumerate(
                zip(faults, pool.map(tried, faults), strict=True), 1
            ):
                if survived:
                    survivors.append(fault)
                    print(f"not found: {fault}", flush=True)
                if done % 20 == 0:
                    print(f"{done} tried, {len(survivors)} not found", flush=True)
    found = len(faults) - len(survivors)
    print(f"{found} of {len(faults)} faults found, {100 * found / len(faults):.0f} %")


if __name__ == "__main__":
    main()
