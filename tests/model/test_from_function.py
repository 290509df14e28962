"""Tests of from function."""

import math
import threading
import time
from concurrent.futures import ProcessPoolExecutor
from unittest import mock

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.results import simulate as simulating
from tests.common import Case, investment


class Plant:
    """A calculation with state of its own."""

    def __init__(self, factor):
        self.factor = factor

    def __call__(self, a, b=1.0):
        if a < 0:
            raise ValueError("a must not be negative")
        return {"sum": self.factor * (a + b), "ratio": a / b if b else math.nan}


class OfFunctions(Case):
    @property
    def distributions(self):
        return {"a": kd.Uniform(1, 2), "b": kd.Uniform(3, 4)}

    def test_arrays_and_single_numbers_agree(self):
        def arrays(a, b):
            return 3 * (a + b), a / b

        single = kd.Model.from_function(Plant(3), self.distributions, ["sum", "ratio"])
        whole = kd.Model.from_function(
            arrays, self.distributions, {"sum": {"unit": "EUR", "target": 15}, "ratio": {}}
        )
        one, two = (model.simulate(2000, seed=1) for model in (single, whole))
        for name in ("sum", "ratio"):
            np.testing.assert_allclose(one[name].values, two[name].values, rtol=1e-14)
        self.assertEqual((two["sum"].unit, two["sum"].target), ("EUR", 15))
        np.testing.assert_allclose(one["sum"].values, 3 * (one["a"].values + one["b"].values))

    def test_a_number_for_an_outcome_is_its_target(self):
        drivers = {"cups": kd.Normal(100, 10)}
        model = kd.Model.from_function(lambda cups: 2 * cups, drivers, {"profit": 210})
        result = model.simulate(4_000, seed=1)["profit"]
        self.assertEqual(result.target, 210)
        self.assertAlmostEqual(float(result.chance(below=210)), stats.norm.cdf(0.5), delta=0.01)
        for wrong in (True, "EUR", None):
            with self.fails("'profit' takes a target", kind=kd.ModelError):
                kd.Model.from_function(lambda cups: cups, drivers, {"profit": wrong})

    def test_periods_and_givens(self):
        drivers = {"x": {"distribution": kd.Normal(5, 1), "each": "period", "unit": "EUR"}}
        model = kd.Model.from_function(
            lambda x, k, rate=0.1: k * kd.npv(rate, x),
            drivers,
            "value",
            given={"k": 2.0},
            periods=4,
            name="m",
        )
        run = model.simulate(500, seed=2)
        np.testing.assert_allclose(run["value"].values, 2 * kd.npv(0.1, run["x"].values))

    def test_each_is_called_once_for_all_outcomes(self):
        calls = []

        def counted(a, b):
            calls.append(1)
            return a + b, a - b

        model = kd.Model.from_function(counted, self.distributions, ["p", "m"])
        model.simulate(20, seed=1, workers=1)
        before = len(calls)
        program = model.compiled()
        self.assertEqual(len(calls), before)  # a model that is not changed is probed once
        model.simulate(20, seed=1, workers=1)
        self.assertEqual(len(calls) - before, model.simulate(20, seed=1).drawing.blocks.batches)
        self.assertEqual(program.outcomes, ["p", "m"])

    def test_long_work_by_single_numbers_goes_to_processes(self):
        model = kd.Model.from_function(Plant(2), self.distributions, ["sum"])
        alone = model.simulate(500, seed=1, workers=1)
        with (
            mock.patch.object(simulating, "PATIENCE", 0.0),
            mock.patch.object(
                simulating, "ProcessPoolExecutor", wraps=simulating.ProcessPoolExecutor
            ) as pool,
        ):
            spread = model.simulate(500, seed=1, workers=2)
        self.assertEqual(pool.call_count, 1)
        np.testing.assert_array_equal(spread["sum"].values, alone["sum"].values)

    def test_a_failing_trial_is_told_and_can_be_run_alone(self):
        def arrays(a):
            if (np.asarray(a) < 0).any():
                raise ValueError("below 0")
            return 2 * a

        distributions = {"a": kd.Normal(3.2, 1)}
        for function in (Plant(1), arrays):
            model = kd.Model.from_function(
                function, distributions, "sum" if function is not arrays else "y"
            )
            with self.assertRaises(kd.RunError) as caught:
                model.simulate(4000, seed=5, on_bad="error")
            description = str(caught.exception)
            number = int(description.split()[1].rstrip(":"))
            inputs = model.inputs(number, trials=4000, seed=5)
            self.assertLess(inputs["a"], 0)
            self.assertIn(
                f"model.inputs({number}, trials=4000, seed=5, sampling='latin')", description
            )
            with self.assertRaises(ValueError):
                function(**inputs)

    def test_trials_that_raise_are_counted_with_the_error(self):
        def stocked(sold):  # written for single numbers
            if sold > 12:
                raise ValueError(f"only 12 in stock, not {sold:.3f}")
            return 5.0 * sold

        def arrays(sold):
            if (np.asarray(sold) > 12).any():
                raise ValueError(f"only 12 in stock, not {np.max(sold):.3f}")
            return 5.0 * sold

        wanted = float(stats.norm.sf(2))
        models = [
            kd.Model.from_function(function, {"sold": kd.Normal(10, 1)}, "sales")
            for function in (stocked, arrays)
        ]
        for each_trial, function in ((True, stocked), (False, arrays)):
            model = kd.Model("shop")
            model.driver("sold", kd.Normal(10, 1))
            model.outcome(each_trial=each_trial)(self.renamed(function, "sales"))
            models.append(model)
        for model in models:
            run = model.simulate(2000, seed=3)
            result = run["sales"]
            self.assertAlmostEqual(result.n_failed / 2000, wanted, delta=0.005)
            np.testing.assert_array_equal(np.isnan(result.values), run["sold"].values > 12)
            self.assertEqual(
                run.warnings_of("sales"), {"ValueError: only # in stock, not #": result.n_failed}
            )
            number = int(np.argmax(run["sold"].values > 12))
            self.assertEqual(run.first_failed(), {"sales": f"trial {number}, first in 'sales'"})
            self.assertAlmostEqual(
                model.inputs(number, trials=2000, seed=3)["sold"], run["sold"].values[number]
            )

    def test_a_base_case_that_raises_has_no_value(self):
        def sales(sold):
            if 9.9 < sold < 10.1:
                raise ValueError("no such day")
            return 5.0 * sold

        model = kd.Model("shop")
        model.driver("sold", kd.Normal(10, 1))
        model.outcome(each_trial=True)(sales)
        run = model.simulate(500, seed=3)
        self.assertTrue(np.isnan(run["sales"].base))
        self.assertEqual(
            run.warnings_of("sales"), {"ValueError: no such day": run["sales"].n_failed}
        )
        with self.fails("no such day"):
            model.base_case()

    def renamed(self, function, name):
        function.__name__ = name
        return function

    def test_what_always_raises_is_told_in_its_own_words(self):
        def broken(sold):
            return sold * missing_name  # noqa: F821

        for words, model in (
            (
                ("NameError", "missing_name"),
                kd.Model.from_function(broken, {"sold": kd.Normal(10, 1)}, "y"),
            ),
        ):
            with self.fails(*words):
                model.simulate(200)
        model = kd.Model("shop")
        model.driver("sold", kd.Normal(10, 1))
        model.outcome(self.renamed(broken, "y"))
        with self.fails("NameError", "missing_name"):
            model.simulate(200)

    def test_a_callable_that_cannot_be_copied_stays_here_and_that_is_said(self):
        class Bank:
            def __init__(self):
                self.lock = threading.Lock()

            def __call__(self, a):
                with self.lock:
                    time.sleep(0.001)
                    return 2 * float(a)

        model = kd.Model.from_function(Bank(), {"a": kd.Normal(0, 1)}, "y")
        with mock.patch.object(simulating, "PATIENCE", 0.2):
            run = model.simulate(400, seed=1, workers=2)
        np.testing.assert_allclose(run["y"].values, 2 * run["a"].values)
        self.assertIn("in this process: the model cannot be sent", run.facts()["processes"])
        with ProcessPoolExecutor(1) as pool, self.fails("cannot be sent to other processes"):
            model.simulate(100, executor=pool)

    def test_mistakes(self):
        distributions = self.distributions
        for call, words in (
            (
                lambda: kd.Model.from_function(Plant(1), {"c": kd.Normal(0, 1)}, "sum"),
                ("no argument 'c'",),
            ),
            (
                lambda: kd.Model.from_function(lambda a, b, c: a, distributions, "y"),
                ("'c' needs a driver",),
            ),
            (lambda: kd.Model.from_function(3, distributions, "y"), ("must be a function",)),
            (
                lambda: kd.Model.from_function(Plant(1), distributions, []),
                ("at least one outcome",),
            ),
            (
                lambda: kd.Model.from_function(Plant(1), distributions, {"sum": {"colour": 3}}),
                ("unit, target, better and missing",),
            ),
            (
                lambda: kd.Model.from_function(Plant(1), distributions, "som").compiled(),
                ("'som'", "did you mean 'sum'"),
            ),
            (
                lambda: kd.Model.from_function(
                    lambda a, b: (a, b), distributions, ["x", "y", "z"]
                ).compiled(),
                ("3 values",),
            ),
            (lambda: investment().inputs(10, trials=10), ("from 0 to 9",)),
            (lambda: investment().inputs(0, trials=10**30), ("at most 10,000,000,000",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
