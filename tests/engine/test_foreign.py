"""Workers that are not ours: edited functions, other versions, lost workers, other processors."""

import importlib
import sys
import threading
import warnings
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from pathlib import Path
from unittest import mock

import numpy as np

import kindynos as kd
from kindynos.engine import carrying, workers
from kindynos.engine.carrying import Carried, by_value
from kindynos.engine.fingerprint import check_versions, processor, versions
from kindynos.program.batch import first_difference
from tests.common import Case, Folder, investment, run

STUCK = "\nimport threading\nlock = threading.Lock()\n"
HOLDS = "\ndef value(x):\n    with lock:\n        return {factor} * x\n"
PLAIN = "\ndef value(x):\n    return {factor} * x\n"


def of_module(module) -> kd.Model:
    model = kd.Model("m")
    model.driver("x", kd.Uniform(0, 1))
    model.line(module.value)
    model.outcome("y", "value")
    return model


class Edited(Folder):
    """A module of the user that is edited while workers live that have loaded it before."""

    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.object(sys, "path", [str(self.folder), *sys.path]))
        self.enterContext(mock.patch.object(sys, "dont_write_bytecode", True))
        self.addCleanup(sys.modules.pop, "fleet_costs", None)

    def write(self, text):
        Path(self.folder, "fleet_costs.py").write_text(text)
        importlib.invalidate_caches()
        if "fleet_costs" in sys.modules:
            return importlib.reload(sys.modules["fleet_costs"])
        return importlib.import_module("fleet_costs")

    def test_a_module_travels_as_it_is_now(self):
        module = self.write(PLAIN.format(factor=1))
        with ProcessPoolExecutor(1) as pool:
            for factor in (1, 10):  # of another length, so that no compiled file passes for it
                module = self.write(PLAIN.format(factor=factor))
                found = of_module(module).simulate(2_000, seed=1, executor=pool)
                np.testing.assert_array_equal(found["y"].values, factor * found["x"].values)

    def test_one_that_cannot_travel_is_found_out(self):
        module = self.write(STUCK + HOLDS.format(factor=1))
        with ProcessPoolExecutor(1) as pool:
            pool.submit(module.value, 1.0).result()  # the worker has loaded the module
            module = self.write(STUCK + HOLDS.format(factor=10))
            with self.fails("workers give other values", "edited", kind=kd.RunError):
                of_module(module).simulate(2_000, seed=1, executor=pool)


class Versions(Case):
    def test_other_versions_are_refused_with_both(self):
        task = by_value(abs)
        self.assertEqual(task(-3), 3)
        for name in ("kindynos", "numpy", "scipy", "python"):
            other = by_value(abs)
            other.versions = {**versions(), name: "0.0.7"}
            other.digest = f"another {name}"
            with self.fails(name, "0.0.7", versions()[name], kind=kd.RunError):
                other(-3)
        minor = ".".join([*versions()["python"].split(".")[:2], "99"])
        check_versions({"python": minor})  # its last number says nothing of trials

    def test_facts_tell_versions_and_processors(self):
        facts = investment().simulate(400, seed=1).facts()
        self.assertEqual(facts["versions"], versions())
        self.assertEqual(facts["processors"], [processor()])


class Faulty(Executor):
    """An executor whose batches end as a function says."""

    def __init__(self, end, size=2):
        self.end, self._max_workers, self.handed_out = end, size, 0
        self.most, self.open = 0, 0

    def submit(self, function, *arguments, **options):
        self.handed_out += 1
        self.open += 1
        self.most = max(self.most, self.open)
        future = Future()
        self.end(future, function, arguments, self.handed_out)
        future.add_done_callback(lambda _: setattr(self, "open", self.open - 1))
        return future


class KilledWorker(Exception):  # noqa: N818
    """As a cluster says that a batch killed each worker that had it."""


class Lost(Folder):
    def same(self, executor, trials=200_000):
        found = investment().simulate(trials, seed=3, executor=executor)
        known = investment().simulate(trials, seed=3)
        np.testing.assert_array_equal(found["net_value"].values, known["net_value"].values)
        return found

    def test_cancelled_batches_are_worked_out_here_and_then_all_the_rest(self):
        executor = Faulty(lambda future, *_: future.cancel())
        self.same(executor)
        self.assertLess(executor.handed_out, 12)  # of 13 batches

    def test_a_batch_that_killed_its_workers_gets_a_process_of_its_own(self):
        def end(future, function, arguments, count):
            if count == 2:
                future.set_exception(KilledWorker("3 workers"))
            else:
                future.set_result(function(*arguments))

        self.same(Faulty(end))

    def test_one_that_kills_that_too_is_refused(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        here = __import__("os").getpid()

        @model.line
        def y0(x):
            import os

            if os.getpid() != here:
                os._exit(1)
            return x

        model.outcome("y", "y0")
        killing = Faulty(lambda future, *_: future.set_exception(KilledWorker("3 workers")))
        with self.fails("killed each worker", "a process here as well", kind=kd.RunError):
            model.simulate(2_000, seed=1, executor=killing)

    def test_what_workers_lack_is_said(self):
        for error, words in (
            (ModuleNotFoundError("No module named 'kindynos'"), "install kindynos there"),
            (RuntimeError("Error during deserialization of the task graph"), "same versions"),
        ):
            executor = Faulty(lambda future, *_, error=error: future.set_exception(error))
            with self.fails(words, kind=kd.RunError):
                investment().simulate(20_000, seed=1, executor=executor)

    def test_silence_is_told(self):
        timers = []

        def later(future, function, arguments, count):
            timer = threading.Timer(0.8, lambda: future.set_result(function(*arguments)))
            timers.append(timer)
            timer.start()

        with (
            mock.patch.object(workers, "SILENT", 0.1),
            self.assertWarnsRegex(kd.DataWarning, "none of .* batches has come back"),
        ):
            self.same(Faulty(later), 20_000)

    def test_an_executor_gets_work_for_all_its_workers(self):
        waiting = []

        def end(future, function, arguments, count):
            waiting.append((future, function, arguments))
            if len(waiting) >= 16:
                for one, work, given in waiting:
                    one.set_result(work(*given))
                waiting.clear()

        executor = Faulty(end, size=8)
        with mock.patch.object(workers, "PULSE", 0.01):
            found = investment().simulate(
                10_000, seed=3, executor=executor, progress=lambda *_: self.flush(waiting)
            )
        self.assertGreaterEqual(executor.most, 16)
        np.testing.assert_array_equal(
            found["net_value"].values, investment().simulate(10_000, seed=3)["net_value"].values
        )

    @staticmethod
    def flush(waiting):
        for one, work, given in waiting:
            one.set_result(work(*given))
        waiting.clear()

    def test_a_large_model_is_sent_once(self):
        model = investment()
        model.given("large", np.arange(200_000.0).reshape(-1, 2).tolist())
        model.outcome("z", "lookup(flow, large)")
        with (
            mock.patch.object(carrying, "LARGE", 1_000),
            mock.patch.object(carrying.tempfile, "tempdir", str(self.folder)),
            ProcessPoolExecutor(2) as pool,
        ):
            seen = set()
            found = model.simulate(
                40_000,
                seed=1,
                executor=pool,
                progress=lambda *_: seen.update(self.folder.glob("kindynos-*")),
            )
        self.assertEqual(len(seen), 1)
        self.assertEqual(list(self.folder.glob("kindynos-*")), [])
        known = model.simulate(40_000, seed=1)
        np.testing.assert_array_equal(found["z"].values, known["z"].values)

    def test_what_was_not_kept_is_drawn_again_by_the_same_executor(self):
        executor = Faulty(lambda future, work, given, _: future.set_result(work(*given)))
        found = self.same(executor)
        before = executor.handed_out
        row = found["cash_flow"].values
        self.assertGreater(executor.handed_out, before)
        known = investment().simulate(200_000, seed=3)["cash_flow"].values
        np.testing.assert_array_equal(row, known)


class OtherProcessors(Case):
    def test_last_digits_are_a_note_and_more_is_an_error(self):
        for factor, within in ((1 + 1e-15, True), (1 + 1e-6, False)):
            found = investment().simulate(2_000, seed=3)
            found._values["net_value"] = found._values["net_value"] * factor
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                if within:
                    found.trial(7)
                    self.assertIn("last digits", str(caught[0].message))
                    self.assertIn(processor(), str(caught[0].message))
                else:
                    with self.fails("gives other values now", kind=kd.RunError):
                        found.trial(7)

    def test_the_difference_is_measured_by_the_spread(self):
        here = np.array([0.0, 1.0, 2.0, 3.0])  # sd 1.118
        for gap, place in ((1.1e-9, None), (1.2e-9, (0, 2))):
            there = here.copy()
            there[2] += gap
            self.assertEqual(first_difference(here, there), place)
        lacking = np.array([0.0, np.nan, 2.0, 3.0])
        self.assertEqual(first_difference(here, lacking), (0, 1))
        self.assertIsNone(first_difference(lacking, lacking))
        rows = np.stack([here, here])
        other = rows.copy()
        other[1, 3] = -np.inf
        self.assertEqual(first_difference(rows, other), (1, 3))


class Commands(Case):
    def test_a_cluster_that_does_not_answer(self):
        from tests.common import FERRY

        with mock.patch("kindynos.cli.options.PATIENT", 1):
            answer = run("run", FERRY, "--cluster", "tcp://127.0.0.1:9")
        self.assertEqual(answer.returncode, 2)
        self.assertIn("no cluster answers at tcp://127.0.0.1:9", answer.stderr)


class CarriedTasks(Case):
    def test_equal_bytes_are_one_task(self):
        self.assertEqual(Carried(b"a"), Carried(b"a"))
        self.assertNotEqual(Carried(b"a"), Carried(b"b"))
        self.assertEqual(hash(Carried(b"a")), hash(Carried(b"a")))
