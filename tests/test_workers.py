"""Executors of every kind give the same bits; runs that stop, grow and are told of."""

import math
import os
import warnings
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor

import numpy as np
from scipy import stats

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
                np.testing.assert_array_equal(by_hand().simulate(40_000, seed=3, executor=executor)["value"].values, expected)

    def test_a_dask_cluster(self):
        from distributed import Client, LocalCluster

        expected = by_hand().simulate(40_000, seed=3, workers=1)["value"].values
        with (
            warnings.catch_warnings(),
            LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as cluster,
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
            run = investment().simulate(200_000, seed=1, workers=workers, progress=lambda done, total: done < 60_000)
            self.assertTrue(run.partial)
            self.assertTrue(60_000 <= run.size < 200_000)
            self.assertIn("of 200,000 trials", run.facts()["partial"])
            np.testing.assert_array_equal(run["net_value"].values, full["net_value"].values[: run.size])
            self.assertEqual(run.trial(run.size - 1).loc["flow", "value"], full["flow"].values[run.size - 1])
            self.assertGreater(run["net_value"].mean.error, 0)

    def test_calls_at_the_start_and_the_end(self):
        said = []
        run = investment().simulate(300, seed=1, on_start=said.append, on_finish=said.append)
        self.assertEqual(said, [300, run])


class Until(Case):
    def test_stops_when_precise_enough(self):
        for sampling in ("random", "latin", "sobol"):
            aim = kd.Precision("net_value", "percentile", 5, within=0.4)
            run = investment().simulate(2000, seed=4, sampling=sampling, until=aim)
            with self.subTest(sampling=sampling):
                self.assertLessEqual(run["net_value"].percentile(5).error, 0.4)
                self.assertGreaterEqual(run.facts()["blocks"], 40)
                self.assertEqual(list(run.facts()["aims"].values()), ["met"])
                before = run["net_value"].values
                self.assertEqual(run.trial(run.size - 1).loc["net_value", "value"], before[-1])

    def test_several_aims_and_relative(self):
        aims = [
            kd.Precision("net_value", "mean", within=0.02, relative=True),
            kd.Precision("net_value", "chance", below=0, within=0.01),
            kd.Precision("net_value", "expected_shortfall", 0.95, within=2),
        ]
        run = investment().simulate(1000, seed=4, sampling="random", until=aims)
        value = run["net_value"]
        self.assertLessEqual(value.mean.error, 0.02 * value.mean)
        self.assertLessEqual(value.chance(below=0).error, 0.01)
        self.assertLessEqual(value.expected_shortfall(0.95).error, 2)

    def test_at_most(self):
        aim = kd.Precision("net_value", "mean", within=1e-9)
        run = investment().simulate(1000, seed=4, sampling="random", until=aim, at_most=20_000)
        self.assertLessEqual(run.size, 20_000)
        self.assertEqual(list(run.facts()["aims"].values()), ["not met"])

    def test_covers_the_truth(self):
        truth = 90 * float(kd.npv(0.1, [1.0] * 5)) - 300
        aim = kd.Precision("net_value", "mean", within=1.0)
        hits = 0
        for seed in range(100):
            mean = investment().simulate(2000, seed=seed, sampling="random", until=aim)["net_value"].mean
            hits += mean.low <= truth <= mean.high
        self.assertGreaterEqual(hits, 87)

    def test_bad_input(self):
        for until, fragments in (
            (3, ("until must be kd.Precision", "3")),
            (kd.Precision("net_valu", "mean", within=1), ("'net_valu'", "did you mean 'net_value'?")),
            (kd.Precision("net_value", "men", within=1), ("'men'", "did you mean 'mean'?")),
        ):
            with self.subTest(until=until), self.fails(*fragments):
                investment().simulate(2000, until=until)
        with self.fails("within", "above 0"):
            kd.Precision("net_value", "mean", within=0)

    def test_convergence(self):
        run = investment().simulate(20_000, seed=1, sampling="random")
        frame = run.convergence("net_value", "percentile", 5)
        self.assertEqual(frame.index[-1], 20_000)
        self.assertEqual(frame["value"].iloc[-1], run["net_value"].percentile(5))
        known = frame["error"].dropna()
        self.assertGreater(len(known), 3)
        self.assertLess(known.iloc[-1], known.iloc[0])


class Growing(Case):
    def test_a_grown_run_is_the_run_of_its_blocks(self):
        """A run that grew by rounds holds the same draws as one that began with all its blocks."""
        model = investment()
        grown = model.simulate(2000, seed=9, sampling="random", until=kd.Precision("net_value", "mean", within=0.6))
        self.assertGreater(grown.facts()["blocks"], 40)
        sizes = np.diff(grown.blocks.bounds)
        self.assertEqual(set(sizes), {sizes[0]})
        for number in (0, grown.size // 2, grown.size - 1):
            self.assertEqual(grown.trial(number).loc["net_value", "value"], grown["net_value"].values[number])
        again = model.simulate(2000, seed=9, sampling="random", until=kd.Precision("net_value", "mean", within=0.6), workers=1)
        np.testing.assert_array_equal(grown["net_value"].values, again["net_value"].values)

    def test_stopping_while_growing_keeps_what_is_there(self):
        aim = kd.Precision("net_value", "mean", within=0.01)
        run = investment().simulate(4000, seed=9, sampling="random", until=aim, progress=lambda done, total: total < 30_000)
        self.assertTrue(run.partial)
        self.assertEqual(list(run.facts()["aims"].values()), ["not met"])
        self.assertTrue(np.isfinite(run["net_value"].values).all())
        self.assertEqual(run.trial(run.size - 1).loc["flow", "value"], run["flow"].values[-1])


class Preview(Case):
    def test_shows_whole_trials(self):
        frame = investment().preview(4, seed=1)
        self.assertEqual(frame.shape[1], 4)
        self.assertEqual(frame.loc[("cash_flow", "2032"), 2], frame.loc[("flow", "value"), 2])
        self.assertFalse(frame.equals(investment().preview(4, seed=2)))


class Plans(Case):
    def test_sobol_rounds_up_and_is_far_more_exact(self):
        made = kd.Model("sum")
        for i in range(10):
            made.driver(f"x{i}", kd.Normal(0, 0.25))
        made.outcome("y", " + ".join(f"exp(x{i})" for i in range(10)))
        self.assertEqual(made.simulate(10_000, seed=1, sampling="sobol").size, 10_240)
        truth = 10 * math.exp(0.25**2 / 2)
        errors = {
            plan: np.sqrt(np.mean([(made.simulate(16_384, seed=s, sampling=plan)["y"].mean - truth) ** 2 for s in range(10)]))
            for plan in ("random", "sobol")
        }
        self.assertLess(errors["sobol"], errors["random"] / 15)

    def test_antithetic_is_exact_for_symmetric_sums(self):
        run = investment().simulate(2000, seed=1, sampling="antithetic")
        self.assertAlmostEqual(run["flow"].mean, 90, places=9)
        self.assertGreater(stats.kstest(run["flow"].values, stats.norm(90, 10).cdf).pvalue, 1e-4)
