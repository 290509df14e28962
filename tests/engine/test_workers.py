"""Tests of workers."""

import os
import warnings
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor

import numpy as np

import kindynos as kd
from tests.common import Case, investment


def by_hand() -> kd.Model:
    """A model whose functions live nowhere that another process could import."""
    made = kd.Model("by hand", periods=3)
    made.driver("x", kd.Gamma(3, 2), each="period")
    made.driver("y", kd.Normal(0, 1))
    names: dict = {}
    exec("def value(x, y):\n    return x.sum(axis=0) * 2 + y", names)
    made.outcome(target=10)(names["value"])
    return made


class Executors(Case):
    def test_threads_processes_and_a_cluster_give_the_same_bits(self):
        expected = by_hand().simulate(40_000, seed=3, workers=1)["value"].values
        with ThreadPoolExecutor(2) as threads, ProcessPoolExecutor(2) as processes:
            for executor in (threads, processes):
                np.testing.assert_array_equal(
                    by_hand().simulate(40_000, seed=3, executor=executor)["value"].values, expected
                )

    def test_a_dask_cluster(self):
        from distributed import Client, LocalCluster

        expected = by_hand().simulate(40_000, seed=3, workers=1)["value"].values
        with (
            warnings.catch_warnings(),
            LocalCluster(
                n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50
            ) as cluster,
            Client(cluster) as client,
        ):
            warnings.simplefilter("ignore")
            run = by_hand().simulate(40_000, seed=3, executor=client.get_executor())
        np.testing.assert_array_equal(run["value"].values, expected)

    def test_a_redefined_function_is_the_new_one(self):
        with ProcessPoolExecutor(1) as pool:
            for factor in (1.0, 5.0):
                made = kd.Model("m")
                made.driver("x", kd.Uniform(0, 1))
                made.outcome(self.line(factor))
                run = made.simulate(400, seed=1, executor=pool)
                np.testing.assert_allclose(run["y"].values, factor * run["x"].values)

    @staticmethod
    def line(factor):
        def y(x):
            return factor * x

        return y

    def test_lost_workers_batches_are_run_again(self):
        here = os.getpid()
        made = kd.Model("m")
        made.driver("x", kd.Uniform(0, 1))

        @made.outcome
        def y(x):
            if os.getpid() != here and x[0] < 0.5:
                os._exit(1)
            return x

        with ProcessPoolExecutor(2) as pool:
            run = made.simulate(60_000, seed=3, executor=pool)
        np.testing.assert_array_equal(run["y"].values, run["x"].values)
        self.assertEqual(run.size, 60_000)

    def test_no_executor(self):
        with self.fails("executor", "concurrent.futures.Executor"):
            investment().simulate(executor="dask")


class Stopping(Case):
    def test_keeps_what_is_complete(self):
        for workers in (1, 2):
            full = investment().simulate(200_000, seed=1)
            run = investment().simulate(
                200_000, seed=1, workers=workers, progress=lambda done, total: done < 60_000
            )
            self.assertTrue(run.partial)
            self.assertTrue(60_000 <= run.size < 200_000)
            self.assertIn("of 200,000 trials", run.facts()["partial"])
            np.testing.assert_array_equal(
                run["net_value"].values, full["net_value"].values[: run.size]
            )
            self.assertEqual(
                run.trial(run.size - 1).loc["flow", "value"], full["flow"].values[run.size - 1]
            )
            self.assertGreater(run["net_value"].mean.error, 0)

    def test_a_stopped_run_is_extended_to_what_it_would_have_been(self):
        for plan in ("latin", "random"):
            full = investment().simulate(200_000, seed=1, sampling=plan)
            part = investment().simulate(
                200_000, seed=1, sampling=plan, progress=lambda done, _: done < 60_000
            )
            calls = []
            whole = part.extend(progress=lambda done, _, calls=calls: calls.append(done))
            self.assertGreaterEqual(min(calls), part.size)
            self.assertFalse(whole.partial)
            for name in ("flow", "net_value"):
                np.testing.assert_array_equal(whole[name].values, full[name].values)
            self.assertTrue(whole.trial(199_999).equals(full.trial(199_999)))
        with self.fails("has all of its 200,000 trials", "extend(20_000)"):
            whole.extend()

    def test_a_complete_run_gets_more_trials(self):
        for size, plan in ((50_000, "latin"), (10_001, "random"), (4_096, "sobol")):
            run = investment().simulate(size, seed=1, sampling=plan)
            more = run.extend(run.size)
            self.assertFalse(more.partial)
            self.assertGreaterEqual(more.size, 2 * run.size)
            self.assertLess(more.size, 2 * run.size + run.drawing.blocks.size(0) + 2)
            values = more["net_value"].values
            np.testing.assert_array_equal(values[: run.size], run["net_value"].values)
            self.assertEqual(len(np.unique(values)), more.size)  # and nothing is drawn twice
            last = more.trial(more.size - 1)
            self.assertAlmostEqual(float(last.loc["net_value", "value"]), values[-1], places=9)
            if plan != "sobol":
                self.assertLess(more["net_value"].mean.error, run["net_value"].mean.error)
            again = more.extend(1_000)
            np.testing.assert_array_equal(again["net_value"].values[: more.size], values)
        with self.fails("extend", "trials must be", "0"):
            run.extend(0)

    def test_an_interrupt_keeps_what_is_complete(self):
        def interrupt(done, total):
            if done > 60_000:
                raise KeyboardInterrupt

        with self.assertRaises(kd.RunInterrupt) as caught:
            investment().simulate(200_000, seed=1, progress=interrupt)
        part = caught.exception.run
        self.assertTrue(part.partial)
        self.assertGreater(part.size, 0)
        full = investment().simulate(200_000, seed=1)
        np.testing.assert_array_equal(part.extend()["net_value"].values, full["net_value"].values)

    def test_calls_at_the_start_and_the_end(self):
        description = []
        run = investment().simulate(
            300, seed=1, on_start=description.append, on_finish=description.append
        )
        self.assertEqual(description, [300, run])
