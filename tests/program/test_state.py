"""Tests of functions that keep state, of stopping and of progress."""

import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from unittest import mock

import numpy as np

import kindynos as kd
from kindynos.results import simulate as simulating
from tests.common import Case

DRIVERS = {"fare": kd.Uniform(10, 30), "guests": kd.Poisson(40)}


class Till:
    """A till that is cleared for each trial: two threads at once would mix their takings."""

    def __init__(self, pause: float = 0.0) -> None:
        self.calls, self.pause = 0, pause

    def __call__(self, fare, guests):
        self.total, self.calls = 0.0, self.calls + 1
        for _ in range(int(guests)):
            self.total += fare
        if self.pause:
            time.sleep(self.pause)
        return self.total


class State(Case):
    def test_objects_that_keep_state_are_not_shared_by_threads(self):
        exact = None
        for each_trial in (None, True):
            for workers in (1, 7):
                run = kd.Model.from_function(
                    Till(), DRIVERS, "sales", each_trial=each_trial
                ).simulate(900, 1, workers=workers)
                exact = run["fare"].values * run["guests"].values
                np.testing.assert_allclose(run["sales"].values, exact, rtol=1e-12)
                self.assertEqual(run.facts()["processes"], "")
        with ThreadPoolExecutor(3) as threads, ProcessPoolExecutor(2) as processes:
            for executor in (threads, processes):
                run = kd.Model.from_function(Till(), DRIVERS, "sales").simulate(
                    900, 1, executor=executor
                )
                np.testing.assert_allclose(run["sales"].values, exact, rtol=1e-12)

    def test_slow_trials_run_on_copies_in_processes_and_that_is_said(self):
        till = Till(pause=0.0012)
        model = kd.Model.from_function(till, DRIVERS, "sales")
        with mock.patch.object(simulating, "PATIENCE", 0.5):
            run = model.simulate(600, 1, workers=2)
        np.testing.assert_allclose(
            run["sales"].values, run["fare"].values * run["guests"].values, rtol=1e-12
        )
        self.assertLess(till.calls, 200)
        self.assertIn(
            "2 processes, on copies of the function: the object here did not see",
            run.facts()["processes"],
        )

    def test_what_a_trial_leaves_behind_is_refused(self):
        class Leak(Till):
            def __call__(self, fare, guests):
                self.calls += 1
                return fare * guests + self.calls

        with self.fails("another value when the same trial is calculated again"):
            kd.Model.from_function(Leak(), DRIVERS, "sales", each_trial=True).simulate(300, 1)


class Stopping(Case):
    def test_a_run_stops_within_the_blocks_under_way(self):
        model = kd.load_model(kd.demo_file("night_ferry.toml"))
        trials = 400_000  # so many that a busy machine does not end before it hears
        whole = model.simulate(trials, 1, workers=1)["net_value"].values
        for workers in (1, 2):
            run = model.simulate(trials, 1, workers=workers, progress=lambda done, total: done < 1)
            self.assertTrue(run.partial)
            np.testing.assert_array_equal(run["net_value"].values, whole[: run.size])

    def test_slow_trials_report_and_stop_between_two(self):
        heard = []

        def progress(done, total):
            heard.append(done)
            return done < 450

        model = kd.Model.from_function(Till(pause=0.001), DRIVERS, "sales")
        run = model.simulate(1600, 1, workers=1, progress=progress)
        self.assertTrue(run.partial and 320 <= run.size <= 480, run.size)
        self.assertEqual(heard, sorted(heard))
        self.assertGreaterEqual(heard[-1], 450)
