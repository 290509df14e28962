"""Tests of simulate."""

import threading

import numpy as np

import kindynos as kd
from tests.common import Case, investment


def additive() -> kd.Model:
    model = kd.Model("additive")
    for i in range(3):
        model.driver(f"x{i}", kd.Normal(10, 1 + i))
    model.outcome("y", "x0 + x1 + x2", target=25)
    return model


class Simulating(Case):
    def test_same_bits_for_any_number_of_workers(self):
        for sampling in ("latin", "random"):
            runs = [
                investment().simulate(30_000, seed=5, sampling=sampling, workers=n)
                for n in (1, 2, 5)
            ]
            for run in runs[1:]:
                np.testing.assert_array_equal(run["net_value"].values, runs[0]["net_value"].values)

    def test_seeds(self):
        first = investment().simulate(1000)
        again = investment().simulate(1000, seed=first.seed)
        other = investment().simulate(1000, seed=first.seed + 1)
        np.testing.assert_array_equal(first["flow"].values, again["flow"].values)
        self.assertFalse((first["flow"].values == other["flow"].values).any())

    def test_a_draw_depends_on_the_drivers_name_alone(self):
        before = investment().simulate(2000, seed=1)
        model = kd.Model("other", periods=5)
        model.driver("another", kd.Uniform(0, 1))
        model.driver("flow", kd.Normal(90, 10))
        np.testing.assert_array_equal(
            model.simulate(2000, seed=1)["flow"].values, before["flow"].values
        )
        self.assertFalse(
            (model.simulate(2000, seed=1)["another"].values == before["flow"].values).any()
        )
        correlation = np.corrcoef(
            model.simulate(2000, seed=1)["another"].values, before["flow"].values
        )[0, 1]
        self.assertLess(abs(correlation), 0.1)

    def test_every_latin_stratum_is_visited_in_each_block(self):
        model = kd.Model("latin", periods=3)
        model.driver("u", kd.Uniform(0, 1))
        model.driver("v", kd.Uniform(0, 1), each="period")
        run = model.simulate(2000, seed=2)
        for row in (run["u"].values, *run["v"].values):
            for block in row.reshape(20, 100):
                np.testing.assert_array_equal(np.sort(np.floor(block * 100)), np.arange(100))

    def test_latin_is_ten_times_as_exact_for_a_sum(self):
        spread = {
            plan: np.std(
                [
                    float(additive().simulate(10_000, seed=s, sampling=plan)["y"].mean)
                    for s in range(12)
                ]
            )
            for plan in ("latin", "random")
        }
        self.assertLess(spread["latin"], 0.1 * spread["random"])

    def test_progress_and_stopping(self):
        seen = []
        additive().simulate(
            50_000,
            seed=1,
            progress=lambda done, total: seen.append((done, total, threading.get_ident())),
        )
        self.assertEqual(seen[-1][:2], (50_000, 50_000))
        self.assertEqual(sorted(seen), seen)
        self.assertEqual({ident for *_, ident in seen}, {threading.get_ident()})

        def stop(done, total):
            raise KeyboardInterrupt

        for workers in (1, 2):
            with self.fails("stopped after", "of 50,000 trials", kind=kd.RunInterrupt):
                additive().simulate(50_000, seed=1, workers=workers, progress=stop)

    def test_a_failing_line_stops_the_run_and_is_named(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))

        @model.outcome
        def y(x):
            if len(x) > 100:
                raise RuntimeError("late")
            return x

        for workers in (1, 2):
            with self.fails("line 'y' failed", "RuntimeError: late"):
                model.simulate(50_000, seed=1, workers=workers)

    def test_wrong_arguments(self):
        for options, fragments in (
            ({"trials": 0}, ("trials", "at least 1", "0")),
            ({"trials": -5}, ("trials", "-5")),
            ({"trials": 10.0}, ("trials", "whole number", "10.0")),
            ({"seed": 1.5}, ("seed", "whole number", "1.5")),
            ({"seed": -1}, ("seed", "-1")),
            ({"seed": 2**64}, ("seed", "below 2**64")),
            ({"sampling": "latn"}, ("sampling", "'latn'", "did you mean 'latin'?")),
            ({"workers": 0}, ("workers", "0")),
            ({"on_bad": "ignore"}, ("on_bad", "'ignore'")),
            ({"keep": ["cash_flw"]}, ("keep", "'cash_flw'", "did you mean 'cash_flow'?")),
        ):
            with self.subTest(options=options), self.fails(*fragments):
                investment().simulate(**options)

    def test_a_model_without_outcomes(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        run = model.simulate(1000, seed=1)
        self.assertEqual(run.outcomes, [])
        self.assertAlmostEqual(run["x"].mean, 0.5, places=3)
        self.assertEqual(len(run.table()), 0)


class Preview(Case):
    def test_shows_whole_trials(self):
        frame = investment().preview(4, seed=1)
        self.assertEqual(frame.shape[1], 4)
        self.assertEqual(frame.loc[("cash_flow", "2032"), 2], frame.loc[("flow", "value"), 2])
        self.assertFalse(frame.equals(investment().preview(4, seed=2)))
