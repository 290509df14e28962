"""Run the tests and doctests, file by file, in several processes: ``python -m tests [PATTERN
...]``.

A pattern is a part of a file's name, such as ``markets`` or ``test_irr``. ``--changed`` takes the
tests of what was changed since the last commit. ``--jobs N`` sets the number of processes,
``--slowest N`` how many slow tests are listed. The last line says how many tests passed and
failed."""

import argparse
import json
import multiprocessing
import os
import re
import subprocess
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).parent
TIMES = ROOT.parent / ".venv" / "test_times.json"
SLOW = ("test_commands", "test_files", "test_docs", "test_help", "test_studies", "test_attack")


@dataclass
class FileResult:
    """What came of the tests of one file."""

    name: str
    run: int = 0
    skipped: list[str] = field(default_factory=list)
    failures: list[str] = field(default_factory=list)
    seconds: list[tuple[float, str]] = field(default_factory=list)
    cpu: float = 0.0


class TimedResult(unittest.TestResult):
    """A result that also notes how long each test took."""

    def __init__(self) -> None:
        super().__init__()
        self.seconds: list[tuple[float, str]] = []

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self._begun = time.perf_counter()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().stopTest(test)
        self.seconds.append((time.perf_counter() - self._begun, test.id()))


def chosen(
    tests: unittest.TestSuite | unittest.TestCase, proofs: bool
) -> Iterator[unittest.TestCase]:
    """Yield the tests of a suite, or with ``proofs`` its long coverage runs."""
    if isinstance(tests, unittest.TestSuite):
        for test in tests:
            yield from chosen(test, proofs)
        return
    method = getattr(tests, getattr(tests, "_testMethodName", ""), None)
    if getattr(method, "is_proof", False) is proofs:
        yield tests


def run_file(name: str, proofs: bool = False, failfast: bool = False) -> FileResult:
    """Run the tests of one module; this happens in a worker process."""
    result = TimedResult()
    result.failfast = failfast
    before = os.times()
    tests = unittest.defaultTestLoader.loadTestsFromName(name)
    unittest.TestSuite(chosen(tests, proofs)).run(result)
    after = os.times()

    problems = [
        *(f"FAIL: {test.id()}\n{text}" for test, text in result.failures),
        *(f"ERROR: {test.id()}\n{text}" for test, text in result.errors),
        *(f"UNEXPECTED SUCCESS: {test.id()}" for test in result.unexpectedSuccesses),
    ]
    skipped = [f"{test.id()}: {reason}" for test, reason in result.skipped]
    cpu = sum(after[:4]) - sum(before[:4])
    return FileResult(name, result.testsRun, skipped, problems, result.seconds, cpu)


def last_times() -> dict[str, float]:
    """Return the seconds that each file took the last time it was run here."""
    try:
        times: dict[str, float] = json.loads(TIMES.read_text())
    except (OSError, ValueError):
        return {}
    return times


def test_files(patterns: list[str]) -> list[str]:
    """Return the modules with tests, those first that took longest the last time, and before any
    run the slowest and then the largest files, so that the processes end together."""
    times = last_times()
    files = sorted(
        ROOT.rglob("test_*.py"),
        key=lambda path: (
            -times.get(module_of(path), 0.0), path.stem not in SLOW, -path.stat().st_size,
        ),
    )  # fmt: skip
    names = [module_of(path) for path in files]
    return [name for name in names if not patterns or any(pattern in name for pattern in patterns)]


def module_of(path: Path) -> str:
    """Return the name of the module in a file of the project."""
    parts = path.relative_to(ROOT.parent).with_suffix("").parts
    return ".".join(parts[1:] if parts[0] == "src" else parts)


def changed_files(names: list[str]) -> list[str]:
    """Return the modules with tests that concern what has changed since the last commit: changed
    tests, those in the folder that mirrors a changed file's, and those that import it by name, or a
    file that does."""
    git = ["git", "-C", str(ROOT.parent)]
    listed = [
        *subprocess.check_output([*git, "diff", "--name-only", "HEAD"], text=True).split(),
        *subprocess.check_output([*git, "ls-files", "-o", "--exclude-standard"], text=True).split(),
    ]
    changed = {module_of(ROOT.parent / name) for name in listed if name.endswith(".py")}
    package = {m for m in changed if m.startswith("kindynos.")}
    importers = {
        module_of(path) for path in (ROOT.parent / "src").rglob("*.py") if imports(path, package)
    }
    folders = {module.replace("kindynos.", "tests.").rpartition(".")[0] + "." for module in package}
    return [
        name
        for name in names
        if name in changed
        or any(name.startswith(folder) for folder in folders - {"tests."})
        or imports(ROOT.parent / (name.replace(".", "/") + ".py"), package | importers)
    ]


def imports(path: Path, modules: set[str]) -> bool:
    """Return whether a file imports one of some modules by its name."""
    found = re.findall(r"^\s*from (kindynos[\w.]*) import", path.read_text(), re.M)
    return not modules.isdisjoint(found)


def run_all(names: list[str], jobs: int, proofs: bool, failfast: bool) -> list[FileResult]:
    """Run the files in processes of their own and report each as it ends."""
    results = []
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(jobs, mp_context=context) as pool:
        futures = {pool.submit(run_file, name, proofs, failfast): name for name in names}
        for future in as_completed(futures):
            name = futures[future]
            try:
                result = future.result()
            except Exception as error:  # the file cannot be imported, or its process died
                result = FileResult(name, failures=[f"ERROR: {name}\n{error!r}"])
            results.append(result)
            if failfast and result.failures:
                pool.shutdown(wait=False, cancel_futures=True)
                return results
            spent = sum(seconds for seconds, _ in result.seconds)
            state = f"{len(result.failures)} FAILED" if result.failures else "ok"
            print(
                f"[{len(results):>3}/{len(names)}] {name}: {result.run} tests, {spent:.1f} s, "
                f"{state}",
                flush=True,
            )
    return results


def main() -> int:
    """Run the tests that were asked for; return the exit status."""
    parser = argparse.ArgumentParser(prog="python -m tests", description=__doc__.splitlines()[0])
    parser.add_argument(
        "patterns", nargs="*", help="parts of the names of files, such as markets or test_irr"
    )
    parser.add_argument(
        "--jobs",
        type=int,
        default=os.cpu_count() or 1,
        help="processes; one per processor by default",
    )
    parser.add_argument(
        "--slowest", type=int, default=10, help="how many slow tests to list; default: 10"
    )
    parser.add_argument("--proofs", action="store_true", help="run the long coverage runs instead")
    parser.add_argument(
        "--short", action="store_true", help="with --proofs: a third of their cases"
    )
    parser.add_argument("--failfast", action="store_true", help="stop at the first failure")
    parser.add_argument(
        "--changed", action="store_true", help="only tests of what changed since the last commit"
    )
    options = parser.parse_args()
    if options.short:
        os.environ["KINDYNOS_SHORT_PROOFS"] = "1"

    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # the processes already use every processor
    os.environ.setdefault("SOURCE_DATE_EPOCH", "1861920000")  # outputs of two runs are compared
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # or each of them compiles everything again
    names = test_files(options.patterns)
    if options.changed:
        names = changed_files(names)
    if not names:
        parser.error(f"no file of tests matches {', '.join(options.patterns) or 'what changed'}")
    begun, there = time.perf_counter(), set(os.listdir())
    results = run_all(names, options.jobs, options.proofs, options.failfast)

    times = {result.name: sum(spent for spent, _ in result.seconds) for result in results}
    if TIMES.parent.is_dir():
        TIMES.write_text(json.dumps({**last_times(), **times}))
    failures = [text for result in results for text in result.failures]
    left = sorted(set(os.listdir()) - there - {".hypothesis"})
    failures += [f"LEFT BEHIND: a test wrote {name} into the folder it ran in" for name in left]
    skipped = [text for result in results for text in result.skipped]
    for text in failures:
        print(f"\n{'=' * 70}\n{text}")
    for text in skipped:
        print(f"SKIPPED {text}")
    if options.slowest:
        print("\nThe slowest tests:")
        timed = sorted((pair for result in results for pair in result.seconds), reverse=True)
        for seconds, test in timed[: options.slowest]:
            print(f"{seconds:8.2f} s  {test}")

    run = sum(result.run for result in results)
    cpu = sum(result.cpu for result in results)
    print(f"\n{time.perf_counter() - begun:.0f} s on the clock, {cpu:.0f} s of processor time")
    note = f", {len(skipped)} skipped" if skipped else ""
    print(f"{run - len(failures) - len(skipped)} passed, {len(failures)} failed{note}")
    return bool(failures)
