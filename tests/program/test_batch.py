"""Tests of batches worked out by slices of their trials, and of memory that runs out."""

from unittest import mock

import numpy as np

import kindynos as kd
from kindynos.program import batch
from tests.common import Case


def rows(periods=60, **lines):
    model = kd.Model("rows", periods=periods)
    model.driver("rate", kd.Normal(0.01, 0.02), each="period")
    model.line("value", "100 * grow(rate)")
    for name, line in lines.items():
        model.line(name, line)
    model.outcome("y", "last(value)")
    model.outcome("rate_of_return", "irr((value - 102) / 50)")
    return model


class Slices(Case):
    def test_slices_change_no_figure_and_count_notes_once(self):
        model = rows()
        whole = model.simulate(1_000, 4, keep=["value"], workers=1)
        with mock.patch.object(batch, "SLICE_VALUES", 60 * 37):
            parts = model.simulate(1_000, 4, keep=["value"], workers=1)
        for name in ("y", "rate_of_return", "value"):
            np.testing.assert_array_equal(whole[name].values, parts[name].values)
        for name in ("y", "rate_of_return"):
            self.assertEqual(whole.warnings_of(name), parts.warnings_of(name))
        self.assertTrue(whole.warnings_of("rate_of_return"))

    def test_progress_goes_on_over_the_slices_of_a_batch(self):
        model = kd.Model("slow", periods=10)
        model.driver("x", kd.Normal(1, 1), each="period")

        def y(x):
            return float(x.sum())

        model.outcome(each_trial=True)(y)
        told = []

        def tell(done, total):
            told.append(done)

        with (
            mock.patch.object(batch, "SLICE_VALUES", 10 * 20),
            mock.patch("kindynos.engine.progress.PULSE", 0),
        ):
            model.simulate(1_000, 1, workers=1, progress=tell)
        self.assertEqual(told, sorted(told))
        self.assertGreater(len(set(told)), 100)
        self.assertEqual(told[-1], 1_000)

    def test_a_failing_trial_is_numbered_in_the_run(self):
        def fails(x):
            if x[0] > 0.999:
                raise ValueError("too much")
            return float(x[0])

        model = kd.Model.from_function(
            fails,
            {"x": {"distribution": kd.Uniform(0, 1), "each": "period"}},
            "y",
            periods=10,
            each_trial=True,
        )
        problems = []
        for values in (10 * 20, 10**6):
            with (
                mock.patch.object(batch, "SLICE_VALUES", values),
                self.assertRaises(kd.RunError) as caught,
            ):
                model.simulate(4_000, 1, workers=1, on_bad="error")
            problems.append(str(caught.exception))
        self.assertEqual(*problems)
        self.assertIn("too much", problems[0])

    def test_memory_that_runs_out_is_told_in_words(self):
        model = kd.Model("large")
        model.driver("x", kd.Uniform(0, 1))

        def greedy(x):
            if len(x) > 400:
                raise MemoryError
            return x

        model.outcome(greedy)
        with self.assertRaisesRegex(kd.RunError, "memory ran out after 0 of 20,000 trials"):
            model.simulate(20_000, 1, workers=1)
